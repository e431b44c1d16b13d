#include "session/fault_deep.h"

#include <algorithm>
#include <deque>

#include "base/number.h"
#include "isa/text.h"
#include "look/call_before.h"
#include "look/fault_address.h"
#include "session/steps.h"
#include "state/touched.h"

namespace deeptrace::session {
namespace {

using look::address_text;
using state::Reg;

/// What is followed: a register, or bytes of memory.
struct Place {
  std::optional<isa::RegisterPart> part;
  std::uint64_t address = 0, size = 0;
};

/// A row, as far as going back needs it.
struct Past {
  std::uint64_t address = 0;
  bool instruction = true;
  std::string text;  ///< of code at full speed
  state::RegisterSet before;
  std::uint32_t written = 0;                                    ///< general registers, bits by number
  std::vector<std::pair<std::uint64_t, std::uint64_t>> memory;  ///< addresses and sizes that were written
};

class PastSink final : public StepsSink {
 public:
  [[nodiscard]] bool for_people() const override { return true; }
  void begin(const StepsStart& /*start*/) override {}
  void row(const StepRow& row) override {
    if (row.before == nullptr && row.kind == StepRow::Kind::instruction) return;
    Past past;
    past.address = row.address;
    past.instruction = row.kind == StepRow::Kind::instruction;
    if (!past.instruction) past.text = row.text;
    if (row.before != nullptr) past.before = *row.before;
    for (const state::RegisterChange& one : row.delta->registers) {
      if (const auto number = state::general_number(one.reg)) past.written |= 1U << *number;
    }
    for (const state::WrittenRegister& one : row.delta->written) {
      if (one.part.file == isa::RegisterFile::general) past.written |= 1U << one.part.index;
    }
    for (const state::MemoryChange& one : row.delta->memory) past.memory.emplace_back(one.address, one.size);
    constexpr std::size_t kMost = 200000;
    if (rows_.size() == kMost) rows_.pop_front();
    rows_.push_back(std::move(past));
  }
  void end(const StepsSummary& /*summary*/) override {}

  [[nodiscard]] const std::deque<Past>& rows() const { return rows_; }

 private:
  std::deque<Past> rows_;
};

class Trail {
 public:
  Trail(look::Modules& modules, isa::Mode mode, const std::deque<Past>& rows)
      : modules_(modules), mode_(mode), rows_(rows) {}

  /// From the row that used the value; the finding's text and evidence. The place that it was in where the rows begin;
  /// nothing where one of them made it.
  std::optional<Place> follow(std::size_t from, Place place, look::Finding& finding) {
    constexpr std::size_t kMostHops = 24;
    for (std::size_t i = from; i-- > 0 && finding.evidence.size() < kMostHops;) {
      const Past& past = rows_[i];
      if (!writes(past, place)) continue;
      if (!past.instruction) return end(finding, "while code ran at full speed: " + past.text, 0);
      const isa::Instruction instruction = instruction_at(past.address);
      if (!instruction) return end(finding, "at " + modules_.located_name(past.address), past.address);
      const isa::Text text = isa::text_of(instruction, past.address, isa::Syntax::intel);
      const std::string words = modules_.located_name(past.address) + ": " + std::string(text.view());
      const auto source = source_of(instruction, past);
      if (!source) return end(finding, "at " + words + inputs(instruction, past), past.address);
      finding.evidence.push_back("copied at " + words);
      place = *source;
    }
    finding.text = "the value was there already when the function was called" +
                   (place.part ? ", in " + std::string(isa::name_of(*place.part))
                               : ", at " + address_text(place.address) + name_of(place.address, place.size));
    return place;
  }

 private:
  std::nullopt_t end(look::Finding& finding, const std::string& where, std::uint64_t address) {
    finding.text = "the value was made " + where;
    finding.address = address;
    if (address == 0) return std::nullopt;
    finding.function = modules_.place_name(address);
    const auto [file, line] = modules_.line_of(address);
    finding.file = file;
    finding.line = line;
    return std::nullopt;
  }

  std::string name_of(std::uint64_t address, std::uint64_t size) {
    const std::string name = look::memory_name(modules_, address, size);
    return name.empty() ? name : ", " + name;
  }

  [[nodiscard]] isa::Instruction instruction_at(std::uint64_t address) {
    const look::Module* module = modules_.at(address);
    if (module == nullptr) return {};
    return isa::decode(module->program->elf().bytes_at(address - module->bias), mode_);
  }

  static bool writes(const Past& past, const Place& place) {
    if (place.part) return (past.written >> place.part->index & 1) != 0;
    return std::ranges::any_of(past.memory, [&](const auto& one) {
      return one.first < place.address + place.size && place.address < one.first + one.second;
    });
  }

  /// What an instruction copies into the place; nothing where it makes the value.
  std::optional<Place> source_of(const isa::Instruction& instruction, const Past& past) {
    const isa::Meaning meaning = isa::operation_of(instruction).meaning;
    const isa::Operands operands = isa::operands_of(instruction);
    if (meaning == isa::meaning::pop) return Place{{}, past.before[Reg::rsp], arch::machine_of(mode_).word};
    const bool pushes = meaning == isa::meaning::push;
    if (meaning != isa::meaning::copy && !pushes) return std::nullopt;
    const isa::Operand& from = operands[pushes ? 0 : 1];
    if (from.kind == isa::Operand::Kind::reg && from.reg.file == isa::RegisterFile::general)
      return Place{from.reg, 0, 0};
    if (from.kind != isa::Operand::Kind::memory || !isa::reads(from.access)) return std::nullopt;  // lea
    const std::uint64_t next = past.address + instruction.length;
    return Place{{}, state::address_of(from.memory(), past.before, next, from.width), from.width / 8U};
  }

  /// ": rax was 5, rcx was 3": what the instruction was given.
  std::string inputs(const isa::Instruction& instruction, const Past& past) {
    std::string text;
    std::uint32_t named = 0;
    for (const isa::Operand& operand : isa::operands_of(instruction)) {
      if (operand.kind != isa::Operand::Kind::reg || !isa::reads(operand.access) ||
          operand.reg.file != isa::RegisterFile::general || (named >> operand.reg.index & 1) != 0)
        continue;
      named |= 1U << operand.reg.index;
      const std::uint64_t value = state::value_of(past.before, operand.reg);
      text += (text.empty() ? "; " : ", ") + std::string(isa::name_of(operand.reg)) + " was " +
              std::to_string(signed_of(value, operand.reg.width));
    }
    return text;
  }

  look::Modules& modules_;
  isa::Mode mode_;
  const std::deque<Past>& rows_;
};

/// How often the program comes to an address before it dies; 0: it did not die there again.
std::uint64_t calls_of(const FaultRequest& request, std::uint64_t function, const look::FaultReport& report) {
  auto control = control::Control::start(request.control);
  if (!control) return 0;
  control::HaltRule rule;
  rule.what = address_text(function);
  rule.from = ~std::uint64_t(0);  // counted, never held
  if (!(*control)->add(rule)) return 0;
  for (;;) {
    const auto stopped = (*control)->go({});
    if (!stopped || stopped->program_is_gone() || stopped->why == look::Stopped::Why::attention) return 0;
    if (stopped->why != look::Stopped::Why::signal) continue;
    const bool same =
        stopped->number == report.signal.number && (*control)->view().registers()[Reg::rip] == report.address;
    return same ? (*control)->halts().front().hits : 0;
  }
}

class DeepRun {
 public:
  DeepRun(const FaultRequest& request, look::Modules& modules, const look::FaultReport& report)
      : request_(request), modules_(modules), report_(report) {}

  look::Finding run() {
    if (!report_.bad) return not_followed("there is no value to follow back");
    Place place{report_.bad->part, report_.bad->memory, report_.bad->size};
    std::uint64_t at = report_.bad->at;
    finding_.kind = "value_made";
    constexpr unsigned kMostCalls = 6;
    for (unsigned i = 0; i < kMostCalls; ++i) {
      if (!modules_.is_own(at)) return not_followed("the bad value is not in the program's own code");
      const auto before = through(at, place);
      if (finding_.kind != "value_made" || !before) break;
      // It was passed: on in the function that called this one.
      const auto call = caller_of(at);
      if (!before->part || !call) break;
      finding_.evidence.push_back("passed in " + std::string(isa::name_of(*before->part)) + " by the call at " +
                                  modules_.place_name(*call));
      place = *before;
      at = *call;
    }
    return std::move(finding_);
  }

 private:
  static look::Finding not_followed(std::string why) {
    look::Finding finding;
    finding.kind = "value_not_followed";
    finding.text = std::move(why);
    return finding;
  }

  /// Goes back through the last call of the function that holds `at`.
  std::optional<Place> through(std::uint64_t at, const Place& place) {
    constexpr const char* kOther =
        "another run went another way: what depends on time, input or chance cannot be followed back";
    const program::Function* function = modules_.function_at(at);
    const look::Module& module = *modules_.at(at);
    const std::uint64_t entry = function->address + module.bias;
    const std::uint64_t calls = calls_of(request_, entry, report_);
    if (calls == 0) {
      finding_ = not_followed(kOther);
      return std::nullopt;
    }
    StepsRequest again;
    again.launch = request_.control.launch;
    again.open = request_.control.open;
    again.from = address_text(entry);
    again.from_hit = calls;
    again.count.reset();
    PastSink sink;
    const auto stepped = steps(again, sink);
    const auto& rows = sink.rows();
    const auto last =
        std::find_if(rows.rbegin(), rows.rend(), [&](const Past& one) { return one.instruction && one.address == at; });
    if (!stepped || last == rows.rend()) {
      finding_ = not_followed(kOther);
      return std::nullopt;
    }
    const auto index = static_cast<std::size_t>(rows.rend() - last) - 1;
    if (calls > 1) finding_.evidence.push_back("in call " + std::to_string(calls) + " of " + function->name.str());
    return Trail(modules_, module.program->mode(), rows).follow(index, place, finding_);
  }

  /// Where the frame around the one that holds an address made its call.
  std::optional<std::uint64_t> caller_of(std::uint64_t at) {
    const program::Function* function = modules_.function_at(at);
    const auto& frames = report_.frames;
    for (std::size_t i = 0; i < frames.size(); ++i) {
      const bool here = modules_.function_at(frames[i].address) == function ||
                        modules_.function_at(frames[i].address - 1) == function;
      if (!here || frames[i].depth != 0 || i + 1 == frames.size()) continue;
      const auto call = look::call_before(modules_, frames[i + 1].address);
      return call ? std::optional(call->address) : std::nullopt;
    }
    return std::nullopt;
  }

  const FaultRequest& request_;
  look::Modules& modules_;
  const look::FaultReport& report_;
  look::Finding finding_;
};

}  // namespace

look::Finding value_made(const FaultRequest& request, look::Modules& modules, const look::FaultReport& report) {
  return DeepRun(request, modules, report).run();
}

}  // namespace deeptrace::session
