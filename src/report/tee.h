// One result in several forms at once: a sink that hands each call on to others, so that a file is studied, or a
// program run, once for all forms that were asked for.
#pragma once

#include <memory>
#include <vector>

#include "session/calls.h"
#include "session/hits.h"
#include "session/plan.h"
#include "session/steps.h"
#include "session/syscalls.h"
#include "study/compare.h"
#include "study/data.h"
#include "study/lines.h"
#include "study/listing.h"
#include "study/uses.h"

namespace deeptrace::report {

template <class Sink>
using Sinks = std::vector<std::unique_ptr<Sink>>;

std::unique_ptr<study::UsesSink> tee(Sinks<study::UsesSink> sinks);
std::unique_ptr<study::DataSink> tee(Sinks<study::DataSink> sinks);
std::unique_ptr<study::LinesSink> tee(Sinks<study::LinesSink> sinks);
std::unique_ptr<study::ListingSink> tee(Sinks<study::ListingSink> sinks);
std::unique_ptr<study::CompareSink> tee(Sinks<study::CompareSink> sinks);
std::unique_ptr<session::HitsSink> tee(Sinks<session::HitsSink> sinks);
std::unique_ptr<session::PlanSink> tee(Sinks<session::PlanSink> sinks);
std::unique_ptr<session::StepsSink> tee(Sinks<session::StepsSink> sinks);
std::unique_ptr<session::SyscallsSink> tee(Sinks<session::SyscallsSink> sinks);
std::unique_ptr<session::CallsSink> tee(Sinks<session::CallsSink> sinks);

}  // namespace deeptrace::report
