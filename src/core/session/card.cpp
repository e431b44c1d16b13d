#include "session/card.h"

#include <algorithm>
#include <cstring>

#include "abi/system_calls.h"
#include "isa/text.h"
#include "isa/walk.h"

namespace deeptrace::session {
namespace {

using state::Reg;

CodeLine describe(Control& control, std::uint64_t address, const std::vector<HaltInfo>& halts) {
  CodeLine line;
  line.address = address;
  std::uint8_t bytes[isa::kLongestInstruction] = {};
  const std::size_t size = control.process().memory().read(address, bytes);
  const isa::Instruction instruction = isa::decode({bytes, size}, control.view().mode());
  const std::size_t length = instruction ? instruction.length : std::min<std::size_t>(size, 1);
  line.bytes.assign(bytes, bytes + length);
  if (instruction) {
    line.text = isa::text_of(instruction, address, isa::Syntax::intel).view();
    std::uint64_t target = 0;
    if (isa::direct_target(instruction, address, target)) {
      line.target = control.modules().place_name(target);
    } else if (isa::fixed_memory_address(instruction, address, target)) {
      line.target = control.modules().reference(target).name;
    }
  } else {
    line.text = length == 0 ? "(no memory)" : "(no instruction)";
  }
  line.place = control.modules().place_name(address);
  const auto [file, number] = control.modules().line_of(address);
  line.file = file;
  line.line = number;
  line.next = address == control.view().registers()[Reg::rip];
  for (const HaltInfo& halt : halts) {
    if (halt.rule.on_data() || std::ranges::find(halt.addresses, address) == halt.addresses.end()) continue;
    line.halts += (line.halts.empty() ? "h" : " h") + std::to_string(halt.number);
  }
  return line;
}

/// The starts of the instructions before an address in its function, the last `most` of them.
std::vector<std::uint64_t> starts_before(Control& control, std::uint64_t address, std::size_t most) {
  std::vector<std::uint64_t> starts;
  const look::Module* module = control.modules().at(address);
  if (module == nullptr) return starts;
  const program::Function* function = module->program->function_at(address - module->bias);
  if (function == nullptr) return starts;
  const Bytes code = module->program->elf().bytes_at(function->address);
  const std::uint64_t start = function->address + module->bias;
  bool exact = false;
  for (const isa::Placed& one : isa::instructions_of(code, module->program->mode())) {
    exact = start + one.at == address;
    if (start + one.at >= address) break;
    starts.push_back(start + one.at);
  }
  if (!exact) return {};
  if (starts.size() > most) starts.erase(starts.begin(), starts.end() - static_cast<std::ptrdiff_t>(most));
  return starts;
}

}  // namespace

std::vector<CodeLine> code_around(Control& control, std::uint64_t address, std::size_t before, std::size_t after) {
  const std::vector<HaltInfo> halts = control.halts();
  std::vector<CodeLine> result;
  for (const std::uint64_t start : starts_before(control, address, before))
    result.push_back(describe(control, start, halts));
  std::uint64_t at = address;
  for (std::size_t i = 0; i < after; ++i) {
    result.push_back(describe(control, at, halts));
    if (result.back().bytes.empty()) break;
    at += result.back().bytes.size();
  }
  return result;
}

look::Foresight what_comes(Control& control) {
  const std::optional<std::uint64_t> number = control.process().system_call(control.thread());
  if (!number) return look::foresee(control.modules(), control.view());
  const isa::Mode mode = control.view().mode();
  look::Foresight result;
  result.sentence = "system call " + abi::call_name(*number, abi::call_table(mode)) +
                    " is under way in the kernel; its result comes to " + (mode == isa::Mode::bits64 ? "rax" : "eax") +
                    " when it returns";
  return result;
}

Card card_of(Control& control, const Stopped& stopped) {
  Card card;
  card.stopped = stopped;
  if (control.ended()) return card;
  const state::StateView& view = control.view();
  card.address = view.registers()[Reg::rip];
  card.place = control.modules().place_name(card.address);
  const auto [file, line] = control.modules().line_of(card.address);
  card.file = file;
  card.line = line;
  card.thread = control.number_of(control.thread());
  card.threads = control.process().threads().size();
  card.code = code_around(control, card.address, 2, 4);
  card.changes = control.written();
  card.changes.registers.clear();
  card.changes.compare(control.before(), view.registers());
  const auto extended = view.extended();
  if (extended && control.extended_before()) {
    for (std::uint8_t i = 0; i < 16; ++i) {
      state::VectorChange change{i, {}, {}};
      std::memcpy(change.before.data(), control.extended_before()->vectors[i].data(), 16);
      std::memcpy(change.after.data(), extended->vectors[i].data(), 16);
      if (change.before != change.after) card.changes.vectors.push_back(change);
    }
    card.changes.mxcsr_before = control.extended_before()->mxcsr;
    card.changes.mxcsr_after = extended->mxcsr;
  }
  if (stopped.returned_from) {
    look::Scope scope(control.modules(), view);
    scope.returned_from(*stopped.returned_from);
    const program::Function* function = control.modules().function_at(*stopped.returned_from);
    const std::string name =
        function != nullptr ? function->name.str() : control.modules().place_name(*stopped.returned_from);
    Result<inspect::Datum> datum = scope.result();
    inspect::Value value;
    if (datum) {
      value = inspect::value_of(*datum, scope);
    } else {
      value.text = datum.error().message;
    }
    card.results.emplace_back(name, std::move(value));
  }
  card.next = what_comes(control);
  return card;
}

}  // namespace deeptrace::session
