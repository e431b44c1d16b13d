#include "session/card.h"

#include <algorithm>
#include <cstring>

namespace deeptrace::session {

using state::Reg;

namespace {

CardHit card_hit(Control& control, const HaltHit& hit) {
  CardHit result;
  result.halt = hit.halt;
  result.hit = hit.hit;
  result.writer = hit.writer;
  result.by = hit.by;
  if (const HaltRule* rule = control.rule_of(hit.halt)) {
    result.rule = rule->text();
    result.what = rule->what;
  }
  if (hit.writer != 0) result.writer_place = control.modules().place_name(hit.writer);
  if (hit.after.empty()) return result;
  result.before = control.watched_value(hit.halt, hit.before);
  result.after = control.watched_value(hit.halt, hit.after);
  return result;
}

}  // namespace

Card card_of(Control& control, const Stopped& stopped) {
  Card card;
  card.stopped = stopped;
  for (const HaltHit& hit : stopped.hits) card.hits.push_back(card_hit(control, hit));
  card.ended = control.ended();
  if (card.ended) return card;
  const state::StateView& view = control.view();
  card.mode = view.mode();
  card.ran_through = control.ran_through();
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
