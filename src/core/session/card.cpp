#include "session/card.h"

#include <algorithm>
#include <cstring>

namespace deeptrace::session {

using state::Reg;

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
  card.code = look::code_around(control.modules(), view, card.address, 2, 4, control.stop_names());
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
  card.next = look::what_comes(control.process(), control.thread(), control.modules());
  return card;
}

}  // namespace deeptrace::session
