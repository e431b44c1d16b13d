#include "report/tee.h"

#include <algorithm>
#include <type_traits>
#include <utility>

namespace deeptrace::report {
namespace {

template <class Sink>
class Tee : public Sink {
 public:
  explicit Tee(Sinks<Sink> sinks) : sinks_(std::move(sinks)) {}

 protected:
  template <class... Arguments>
  void each(void (Sink::*call)(Arguments...), std::type_identity_t<Arguments>... arguments) {
    for (const auto& sink : sinks_) (*sink.*call)(arguments...);
  }
  [[nodiscard]] const Sinks<Sink>& sinks() const { return sinks_; }

 private:
  Sinks<Sink> sinks_;
};

class UsesTee final : public Tee<study::UsesSink> {
  using Sink = study::UsesSink;

 public:
  using Tee::Tee;
  void begin(const study::UsesHead& head) override { each(&Sink::begin, head); }
  void use(const study::Use& row) override { each(&Sink::use, row); }
  void end(const study::UsesSummary& summary) override { each(&Sink::end, summary); }
};

class DataTee final : public Tee<study::DataSink> {
  using Sink = study::DataSink;

 public:
  using Tee::Tee;
  void begin(const study::DataFile& file) override { each(&Sink::begin, file); }
  void variable(const study::DataRow& row) override { each(&Sink::variable, row); }
  void end() override { each(&Sink::end); }
};

class LinesTee final : public Tee<study::LinesSink> {
  using Sink = study::LinesSink;

 public:
  using Tee::Tee;
  void begin(const program::Program& program, std::size_t lines) override { each(&Sink::begin, program, lines); }
  void line(const study::LineEntry& row) override { each(&Sink::line, row); }
  void end() override { each(&Sink::end); }
};

class ListingTee final : public Tee<study::ListingSink> {
  using Sink = study::ListingSink;

 public:
  using Tee::Tee;
  void begin(const study::ListedFile& file) override { each(&Sink::begin, file); }
  void begin_function(const study::ListedFunction& function) override { each(&Sink::begin_function, function); }
  void instruction(const study::ListedInstruction& row) override { each(&Sink::instruction, row); }
  void end_function() override { each(&Sink::end_function); }
  void end() override { each(&Sink::end); }
};

class CompareTee final : public Tee<study::CompareSink> {
  using Sink = study::CompareSink;

 public:
  using Tee::Tee;
  void begin(const program::Program& a, const program::Program& b, bool whole_files) override {
    each(&Sink::begin, a, b, whole_files);
  }
  void function(const study::ComparedFunction& function) override { each(&Sink::function, function); }
  void end(const study::CompareSummary& summary) override { each(&Sink::end, summary); }
};

class HitsTee final : public Tee<session::HitsSink> {
  using Sink = session::HitsSink;

 public:
  using Tee::Tee;
  void begin(const session::HitsStart& start) override { each(&Sink::begin, start); }
  void row(const session::HitRow& row) override { each(&Sink::row, row); }
  void pause() override { each(&Sink::pause); }
  void end(const session::HitsSummary& summary) override { each(&Sink::end, summary); }
};

class PlanTee final : public Tee<session::PlanSink> {
  using Sink = session::PlanSink;

 public:
  using Tee::Tee;
  void begin(const session::Plan& plan, const session::HitsStart& start) override { each(&Sink::begin, plan, start); }
  void row(const session::PlanRow& row) override { each(&Sink::row, row); }
  void end(const session::PlanSummary& summary) override { each(&Sink::end, summary); }
};

class StepsTee final : public Tee<session::StepsSink> {
  using Sink = session::StepsSink;

 public:
  using Tee::Tee;
  [[nodiscard]] bool for_people() const override {
    return std::ranges::any_of(sinks(), [](const auto& sink) { return sink->for_people(); });
  }
  void begin(const session::StepsStart& start) override { each(&Sink::begin, start); }
  void row(const session::StepRow& row) override { each(&Sink::row, row); }
  void end(const session::StepsSummary& summary) override { each(&Sink::end, summary); }
};

class SyscallsTee final : public Tee<session::SyscallsSink> {
  using Sink = session::SyscallsSink;

 public:
  using Tee::Tee;
  void begin(const session::SyscallsStart& start) override { each(&Sink::begin, start); }
  void row(const session::SyscallRow& row) override { each(&Sink::row, row); }
  void end(const session::SyscallsSummary& summary) override { each(&Sink::end, summary); }
};

class CallsTee final : public Tee<session::CallsSink> {
  using Sink = session::CallsSink;

 public:
  using Tee::Tee;
  void begin(const session::CallsStart& start) override { each(&Sink::begin, start); }
  void entered(const session::CallRow& row) override { each(&Sink::entered, row); }
  void over(const session::CallRow& row) override { each(&Sink::over, row); }
  void pause() override { each(&Sink::pause); }
  void end(const session::CallsSummary& summary) override { each(&Sink::end, summary); }
};

}  // namespace

std::unique_ptr<study::UsesSink> tee(Sinks<study::UsesSink> sinks) {
  return std::make_unique<UsesTee>(std::move(sinks));
}
std::unique_ptr<study::DataSink> tee(Sinks<study::DataSink> sinks) {
  return std::make_unique<DataTee>(std::move(sinks));
}
std::unique_ptr<study::LinesSink> tee(Sinks<study::LinesSink> sinks) {
  return std::make_unique<LinesTee>(std::move(sinks));
}
std::unique_ptr<study::ListingSink> tee(Sinks<study::ListingSink> sinks) {
  return std::make_unique<ListingTee>(std::move(sinks));
}
std::unique_ptr<study::CompareSink> tee(Sinks<study::CompareSink> sinks) {
  return std::make_unique<CompareTee>(std::move(sinks));
}
std::unique_ptr<session::HitsSink> tee(Sinks<session::HitsSink> sinks) {
  return std::make_unique<HitsTee>(std::move(sinks));
}
std::unique_ptr<session::PlanSink> tee(Sinks<session::PlanSink> sinks) {
  return std::make_unique<PlanTee>(std::move(sinks));
}
std::unique_ptr<session::StepsSink> tee(Sinks<session::StepsSink> sinks) {
  return std::make_unique<StepsTee>(std::move(sinks));
}
std::unique_ptr<session::SyscallsSink> tee(Sinks<session::SyscallsSink> sinks) {
  return std::make_unique<SyscallsTee>(std::move(sinks));
}

std::unique_ptr<session::CallsSink> tee(Sinks<session::CallsSink> sinks) {
  return std::make_unique<CallsTee>(std::move(sinks));
}

}  // namespace deeptrace::report
