#include "report/convention_findings.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/path.h"

namespace deeptrace::report {

void convention_findings_text(Output& out, const Style& style, const study::Survey& survey, bool named) {
  if (!survey.checked) return;
  add_line(out, style, "");
  const std::string file = named ? ": " + shown_path(style, survey.program->elf().path()) : "";
  if (survey.checked->empty()) {
    add_line(out, style,
             "own functions keep the rules of the calling convention, as far as their code can be followed" + file);
    return;
  }
  add_line(out, style, look(style, Role::heading, "the calling convention" + file));
  for (const study::ConventionFinding& one : *survey.checked) {
    const std::string where = one.line != 0 ? fmt::format("{}:{}", printable(base_name(one.file)), one.line)
                                            : fmt::format("{:#x}", one.address);
    add_prose(out, style, fmt::format("{}: {}   {}", one.note ? "note" : "wrong", printable(one.text), where), "  ",
              one.note ? Role::attention : Role::broken);
    for (const std::string& evidence : one.evidence)
      add_prose(out, style, printable(evidence), "         ", Role::plain);
  }
  const auto notes = std::ranges::count_if(*survey.checked, &study::ConventionFinding::note);
  add_line(out, style,
           fmt::format("{} wrong, {} note{}", static_cast<long>(survey.checked->size()) - notes, notes,
                       notes == 1 ? "" : "s"));
}

void convention_findings_json(JsonWriter& json, std::span<const study::ConventionFinding> findings) {
  json.key("findings").begin_array();
  for (const study::ConventionFinding& one : findings) {
    json.new_line();
    json.begin_object();
    json.key("kind").string(one.kind);
    json.key("text").string(one.text);
    json.key("evidence").begin_array();
    for (const std::string& evidence : one.evidence) json.string(evidence);
    json.end();
    json.key("function").string(one.function);
    json.key("file").string_or_null(one.file);
    json.key("line");
    one.line != 0 ? json.number(one.line) : json.null();
    json.key("address").hex(one.address);
    json.key("note").boolean(one.note);
    json.end();
  }
  json.end();
}

}  // namespace deeptrace::report
