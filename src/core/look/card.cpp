#include "look/card.h"

#include "base/path.h"
#include "look/fault.h"
#include "look/scope.h"
#include "look/subject.h"

namespace deeptrace::look {

using state::Reg;

namespace {

/// The name of a function that returned, and its result.
std::pair<std::string, inspect::Value> result_of(Subject& subject, std::uint64_t returned_from) {
  Modules& modules = subject.modules();
  Scope scope(modules, subject.view());
  scope.returned_from(returned_from);
  const program::Function* function = modules.function_at(returned_from);
  std::string name = function != nullptr ? function->name.str() : modules.place_name(returned_from);
  Result<inspect::Datum> datum = scope.result();
  inspect::Value value;
  if (datum) {
    value = inspect::value_of(*datum, scope);
  } else {
    value.text = datum.error().message;
  }
  return {std::move(name), std::move(value)};
}

/// What one instruction wrote is named at its width; addresses by what lies there.
void name_changes(Subject& subject, const Moved& moved, Card& card) {
  const state::StateView& view = subject.view();
  Modules& modules = subject.modules();
  state::Delta& changes = card.changes;
  if (moved.instructions == 1 && !moved.ran_through) {
    std::uint8_t bytes[isa::kLongestInstruction] = {};
    const std::size_t size = view.read_memory(moved.before[Reg::rip], bytes);
    const isa::Instruction instruction = isa::decode({bytes, size}, view.mode());
    if (instruction) changes.add_written(state::written_registers(instruction), moved.before, view.registers());
  }
  const std::uint64_t stack = view.registers()[Reg::rsp];
  const auto add = [&](std::uint64_t value) {
    if (card.names.contains(value)) return;
    if (AddressName name = address_name(modules, view, value, stack); name.known())
      card.names.emplace(value, std::move(name));
  };
  for (const state::RegisterChange& one : changes.registers) {
    add(one.before);
    add(one.after);
  }
  for (const state::WrittenRegister& one : changes.written) add(one.after);
  const unsigned word = arch::machine_of(view.mode()).word;
  Scope scope(modules, view);
  for (const state::MemoryChange& one : changes.memory) {
    std::string name = memory_name(modules, one.address, one.size);
    card.written.push_back(!name.empty() ? std::move(name) : scope.name_of_memory(one.address, one.size));
    if (one.size != word) continue;
    add(state::number_of(changes.before(one), word));
    add(state::number_of(changes.after(one), word));
  }
}

}  // namespace

std::optional<inspect::Frame> own_frame(Modules& modules, const state::StateView& view) {
  constexpr std::size_t kMost = 64;
  const auto is_own = [&](const inspect::Frame& frame) {
    return frame.how != inspect::Frame::How::innermost && modules.is_own_line(frame.inside());
  };
  std::vector<inspect::Frame> frames = frames_until(modules, view, kMost, is_own);
  return is_own(frames.back()) ? std::optional(std::move(frames.back())) : std::nullopt;
}

std::string own_caller(Modules& modules, const state::StateView& view, std::uint64_t address) {
  const auto frame = modules.is_own_line(address) ? std::nullopt : own_frame(modules, view);
  return frame ? modules.located_name(frame->address(), frame->at_call) : std::string();
}

Card card_of(Subject& subject, const Stopped& stopped) {
  Card card;
  card.stopped = stopped;
  card.hits = subject.hits_of(stopped);
  card.ended = subject.ended();
  if (card.ended) return card;
  const state::StateView& view = subject.view();
  Modules& modules = subject.modules();
  const Moved& moved = subject.moved();
  card.mode = view.mode();
  card.ran_through = moved.ran_through;
  card.address = view.registers()[Reg::rip];
  Where where = where_at(modules, card.address, stopped.level);
  card.place = std::move(where.place);
  card.inlined = std::move(where.inlined);
  card.called_from = own_caller(modules, view, card.address);
  card.file = std::move(where.file);
  card.line = where.line;
  card.thread = subject.number_of(subject.thread());
  card.threads = subject.target().threads().size();
  card.code = code_around(modules, view, card.address, 2, 4, subject.stop_names());
  card.changes = moved.written;
  card.changes.registers.clear();
  card.changes.compare(moved.before, view.registers());
  std::erase_if(card.changes.registers, [&](const state::RegisterChange& one) {
    return (view.known_registers() >> static_cast<unsigned>(one.reg) & 1) == 0;
  });
  if (moved.extended_before) {
    if (const auto extended = view.extended()) card.changes.compare(*moved.extended_before, *extended);
  }
  name_changes(subject, moved, card);
  if (stopped.returned_from) card.results.push_back(result_of(subject, *stopped.returned_from));
  if (stopped.why == Stopped::Why::signal || stopped.why == Stopped::Why::dead)
    card.findings = fault_findings(subject.target(), modules, stopped.thread);
  card.calls = moved.calls;
  card.next = what_comes(subject.target(), subject.thread(), modules);
  return card;
}

}  // namespace deeptrace::look
