#include "report/frames.h"

#include <fmt/format.h>

#include "base/path.h"
#include "report/names.h"
#include "report/value.h"

namespace deeptrace::report {

std::string argument_words(const Style& style, const look::Argument& argument) {
  return (argument.name.empty() ? std::string() : printable(argument.name) + " ") +
         (argument.value ? value_words(style, *argument.value) : "unknown: " + printable(argument.unknown));
}

std::string frame_words(const Style& style, const look::FrameRow& row) {
  std::string text = fmt::format("{:#x}  ", row.address);
  text += row.inlined.empty() ? shown_name(style, row.place) : shown_name(style, row.inlined) + " (inlined)";
  if (!row.parameters.empty()) {
    text += " (";
    for (std::size_t i = 0; i < row.parameters.size(); ++i) {
      const look::Argument& one = row.parameters[i];
      if (i != 0) text += ", ";
      text += one.value ? argument_words(style, one) : printable(one.name) + " unknown";  // `vars` says why
    }
    text += ")";
  }
  if (row.line != 0) text += fmt::format("   {}:{}", printable(base_name(row.file)), row.line);
  if (!row.tail.empty()) text += "   by a jump from " + shown_name(style, row.tail) + " (tail call)";
  if (row.signal) text += "   the kernel's frame of a signal handler";
  if (row.how == inspect::Frame::How::code) text += "   found by code, not by a table";
  if (row.how == inspect::Frame::How::pointer)
    text += "   by the chain of frame pointers: functions may be missing before it";
  return text;
}

std::vector<std::string> finding_lines(const Style& style, const look::Finding& finding) {
  std::vector<std::string> result = {look(style, Role::broken, "wrong: " + printable(finding.text))};
  if (!finding.function.empty()) {
    std::string place = "       in " + shown_name(style, finding.function);
    if (finding.line != 0) place += fmt::format("   {}:{}", printable(base_name(finding.file)), finding.line);
    result.push_back(std::move(place));
  }
  for (const std::string& evidence : finding.evidence) result.push_back("       " + printable(evidence));
  return result;
}

std::string_view found_by(inspect::Frame::How how) {
  switch (how) {
    case inspect::Frame::How::innermost: return "registers";
    case inspect::Frame::How::table: return "unwind table";
    case inspect::Frame::How::code: return "code";
    default: return "frame pointer";
  }
}

std::string_view certainty(inspect::Frame::How how) {
  switch (how) {
    case inspect::Frame::How::innermost:
    case inspect::Frame::How::table: return "certain";
    case inspect::Frame::How::code: return "likely";
    default: return "uncertain";
  }
}

void argument_json(JsonWriter& json, const look::Argument& argument) {
  json.begin_object();
  json.key("name").string_or_null(argument.name);
  json.key("type").string_or_null(argument.type);
  json.key("where").string_or_null(argument.where);
  json.key("value");
  argument.value ? value_json(json, *argument.value) : json.null();
  const Style plain{.utf8 = true};
  json.key("shown").string(argument.value ? value_words(plain, *argument.value) : "unknown: " + argument.unknown);
  json.end();
}

void frame_json(JsonWriter& json, const look::FrameRow& row) {
  json.new_line();
  json.begin_object();
  json.key("n").number(row.number);
  json.key("function").string_or_null(row.inlined.empty() ? row.place : row.inlined);
  json.key("file").string_or_null(row.file);
  json.key("line");
  row.line != 0 ? json.number(row.line) : json.null();
  json.key("address").hex(row.address);
  json.key("arguments").begin_array();
  for (const look::Argument& one : row.parameters) argument_json(json, one);
  json.end();
  json.key("found_by").string(found_by(row.how));
  json.key("certainty").string(certainty(row.how));
  json.key("inlined").boolean(!row.inlined.empty());
  if (!row.tail.empty()) json.key("tail_call_from").string(row.tail);
  json.end();
}

void finding_json(JsonWriter& json, const look::Finding& finding) {
  json.new_line();
  json.begin_object();
  json.key("kind").string(finding.kind);
  json.key("text").string(finding.text);
  json.key("evidence").begin_array();
  for (const std::string& one : finding.evidence) json.string(one);
  json.end();
  json.key("function").string_or_null(finding.function);
  json.key("file").string_or_null(finding.file);
  json.key("line");
  finding.line != 0 ? json.number(finding.line) : json.null();
  json.key("address");
  finding.address != 0 ? json.hex(finding.address) : json.null();
  if (finding.call != 0) json.key("call").number(finding.call);
  json.key("note").boolean(finding.note);
  json.end();
}

}  // namespace deeptrace::report
