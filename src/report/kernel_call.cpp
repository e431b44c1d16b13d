#include "report/kernel_call.h"

#include <fmt/format.h>

#include "report/frames.h"
#include "report/names.h"
#include "report/syscall_words.h"
#include "report/value.h"

namespace deeptrace::report {

using inspect::Value;

std::string asked_words(const Style& style, const look::DecodedCall& call) {
  std::string text;
  for (const std::string& one : argument_words(style, call)) text += (text.empty() ? ": " : ", ") + one;
  return printable(call.name) + text;
}

std::vector<std::string> kernel_call_lines(const Style& style, const look::KernelCall& call) {
  const std::string back = !call.over ? "" : (style.utf8 ? " → " : " -> ") + result_words(style, call.call);
  std::vector<std::string> result = {asked_words(style, call.call) + back};
  if (call.answered)
    result.push_back(look(style, Role::attention, "note: the call was not made: this is what `answer` gave"));
  if (call.call.failed)
    result.push_back(
        look(style, Role::attention, fmt::format("note: {}: {}", call.call.error, printable(call.call.meaning))));
  for (const look::Finding& one : call.findings) {
    std::vector<std::string> lines = finding_lines(style, one);
    if (one.note) lines.front() = look(style, Role::attention, "note: " + printable(one.text));
    for (std::string& line : lines) result.push_back(std::move(line));
  }
  return result;
}

void kernel_call_json(JsonWriter& json, const look::KernelCall& call) {
  json.begin_object();
  json.key("name").string(call.call.name);
  json.key("arguments").begin_array();
  for (const look::Argument& one : call.call.arguments) argument_json(json, one);
  json.end();
  json.key("result");
  if (call.over && !call.call.failed && call.call.result.kind != Value::Kind::nothing) {
    value_json(json, call.call.result);
  } else {
    json.null();
  }
  json.key("error").string_or_null(call.call.error);
  json.key("meaning").string_or_null(call.call.meaning);
  json.key("findings").begin_array();
  for (const look::Finding& one : call.findings) finding_json(json, one);
  json.end();
  json.end();
}

}  // namespace deeptrace::report
