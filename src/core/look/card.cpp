#include "look/card.h"

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

}  // namespace

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
  card.place = modules.place_name(card.address);
  const auto [file, line] = modules.line_of(card.address);
  card.file = file;
  card.line = line;
  card.thread = subject.number_of(subject.thread());
  card.threads = subject.target().threads().size();
  card.code = code_around(modules, view, card.address, 2, 4, subject.stop_names());
  card.changes = moved.written;
  card.changes.registers.clear();
  card.changes.compare(moved.before, view.registers());
  if (moved.extended_before) {
    if (const auto extended = view.extended()) card.changes.compare(*moved.extended_before, *extended);
  }
  if (stopped.returned_from) card.results.push_back(result_of(subject, *stopped.returned_from));
  card.next = what_comes(subject.target(), subject.thread(), modules);
  return card;
}

}  // namespace deeptrace::look
