// Renderers of `data`: docs/formats/data.md for the machine-readable ones.
#pragma once

#include <memory>

#include "report/output.h"
#include "session/data.h"

namespace deeptrace::report {

std::unique_ptr<session::DataSink> data_text(Output& out, Style style);
std::unique_ptr<session::DataSink> data_json(Output& out);
std::unique_ptr<session::DataSink> data_csv(Output& out);

}  // namespace deeptrace::report
