#include "report/call_words.h"

#include <fmt/format.h>

#include "base/path.h"
#include "report/names.h"
#include "report/syscall_words.h"
#include "report/value.h"

namespace deeptrace::report {

using inspect::Value;
using session::CallRow;
using By = CallRow::By;
using End = CallRow::End;

std::string call_value_words(const Style& style, const Value& value) {
  const bool text = value.kind == Value::Kind::pointer && !value.pointed_text.empty();
  return text ? "\"" + escaped(value.pointed_text) + "\"" : value_words(style, value);
}

std::vector<std::string> call_argument_words(const Style& style, const CallRow& row) {
  std::vector<std::string> words;
  for (const look::Argument& one : row.arguments) {
    std::string text = one.name.empty() ? "" : printable(one.name) + " ";
    text += one.value ? call_value_words(style, *one.value) : "unknown: " + printable(one.unknown);
    if (!one.where.empty()) text += " in " + one.where;
    words.push_back(std::move(text));
  }
  return words;
}

std::string_view call_end_word(End end) {
  switch (end) {
    case End::returned: return "returned";
    case End::jumped: return "jumped";
    case End::thrown: return "thrown";
    case End::left: return "left";
    case End::inlined: return "inlined";
    case End::unfinished: break;
  }
  return "unfinished";
}

std::string_view call_by_word(By by) {
  switch (by) {
    case By::call: return "call";
    case By::indirect: return "pointer";
    case By::jump: return "jump";
    case By::signal: return "signal";
    case By::inlined: return "inlined";
    case By::start: break;
  }
  return "start";
}

std::string call_end_words(const Style& style, const CallRow& row) {
  switch (row.end) {
    case End::jumped: return "goes on by a jump";
    case End::thrown: return "is left by an exception";
    case End::left: return "is left without a return";
    case End::unfinished: return "does not come back";
    case End::inlined: return "its end is not seen";
    case End::returned: break;
  }
  if (!row.result) return row.result_where.empty() ? "done" : "unknown";
  return call_value_words(style, *row.result) + (row.result_where.empty() ? "" : " in " + row.result_where);
}

std::string call_cost_words(const CallRow& row) {
  if (row.end == End::inlined) return {};
  const std::string time = duration_words(row.duration);
  if (!row.instructions) return time;
  return fmt::format("{}, {} instruction{}", time, *row.instructions, *row.instructions == 1 ? "" : "s");
}

std::string call_from_words(const Style& style, const CallRow& row) {
  if (row.by == By::signal) return "a signal";
  const look::Where& where = row.from->where;
  if (where.line != 0) return fmt::format("{}:{}", printable(base_name(where.file)), where.line);
  if (!where.place.empty()) return shown_name(style, where.place);
  return row.from->address != 0 ? hex(row.from->address) : "start";
}

}  // namespace deeptrace::report
