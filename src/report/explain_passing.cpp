#include "report/explain_passing.h"

#include <fmt/format.h>

#include "report/names.h"

namespace deeptrace::report {
namespace {

using study::ExplainedPassing;
using study::ExplainedPlace;
using study::PassedPart;

std::string place_words(const ExplainedPlace& place) {
  if (place.parts.empty()) return "nothing is passed for it";
  std::string text;
  for (const PassedPart& one : place.parts) {
    text += (text.empty() ? "" : ", ") + one.where;
    if (place.parts.size() > 1) text += fmt::format(" (bytes {} to {})", one.offset, one.offset + one.bytes - 1);
  }
  return place.by_address ? "its address, in " + text : text;
}

std::string_view stack_pointer(const ExplainedPassing& explained) {
  return explained.convention->mode == arch::Mode::bits64 ? "rsp" : "esp";
}

void place_json(JsonWriter& json, const ExplainedPlace& place) {
  json.begin_object();
  json.key("name").string_or_null(place.name);
  json.key("type").string(place.type);
  json.key("size").number(place.size);
  json.key("by_address").boolean(place.by_address);
  json.key("parts").begin_array();
  for (const PassedPart& one : place.parts) {
    json.begin_object();
    json.key("where").string(one.where);
    json.key("offset").number(one.offset);
    json.key("bytes").number(one.bytes);
    json.end();
  }
  json.end();
  json.end();
}

}  // namespace

void explain_passing_text(Output& out, const Style& style, const ExplainedPassing& explained) {
  const auto line = [&](const std::string& text) { add_line(out, style, text); };
  add_prose(out, style, printable(explained.function), "", Role::heading);
  line(look(style, Role::faint, fmt::format("  by {}: {}", explained.convention->name, explained.convention->title)));
  line("");
  std::size_t names = 8, types = 4;
  for (const ExplainedPlace& one : explained.arguments) {
    names = std::max(names, one.name.size());
    types = std::max(types, one.type.size());
  }
  types = std::min<std::size_t>(std::max(types, explained.result.type.size()), 40);
  const auto row = [&](const std::string& name, const ExplainedPlace& place) {
    line(fmt::format("  {:<{}}  {:<{}}  {:>3} byte{}  {}", printable(name), names, printable(place.type), types,
                     place.size, place.size == 1 ? " " : "s", place_words(place)));
  };
  if (!explained.hidden.empty())
    line(fmt::format("  {:<{}}  {:<{}}  {:>3} bytes  {}", "(hidden)", names, "", types,
                     explained.convention->mode == arch::Mode::bits64 ? 8 : 4,
                     "the address of memory for the result, in " + explained.hidden));
  for (std::size_t i = 0; i < explained.arguments.size(); ++i) {
    const ExplainedPlace& one = explained.arguments[i];
    row(one.name.empty() ? fmt::format("({})", i + 1) : one.name, one);
  }
  if (explained.variadic && !explained.convention->vectors.empty())
    line(
        fmt::format("  {:<{}}  {:<{}}    1 byte   {}: {} of these arguments are in vector registers; those that follow "
                    "count, too",
                    "(hidden)", names, "", types, explained.convention->vectors, explained.vectors));
  if (explained.result.type.empty()) {
    line(fmt::format("  {:<{}}  returns nothing", "result", names));
  } else {
    row("result", explained.result);
  }
  if (!explained.slots.empty()) {
    line("");
    line(look(style, Role::faint, "  the stack at the first instruction"));
    for (const ExplainedPassing::Slot& slot : explained.slots) {
      const std::string offset = slot.offset == 0 ? "" : "+" + hex(slot.offset);
      line(fmt::format("    {:<10} {}", std::string(stack_pointer(explained)) + offset, slot.what));
    }
  }
  line("");
  if (explained.stack != 0 || explained.released != 0) {
    const std::string off = explained.released == 0 ? "the caller takes them off"
                                                    : fmt::format("the function takes {} off (ret {})",
                                                                  explained.released, explained.released);
    line(fmt::format("  {} bytes of arguments on the stack; {}", explained.stack, off));
  }
  line(look(style, Role::faint, fmt::format("  by: {}", explained.convention->source)));
}

void explain_passing_json(JsonWriter& json, const ExplainedPassing& explained) {
  json.begin_object();
  json.key("function").string(explained.function);
  json.key("convention").string(explained.convention->name);
  json.key("variadic").boolean(explained.variadic);
  json.key("hidden").string_or_null(explained.hidden);
  json.key("arguments").begin_array();
  for (const ExplainedPlace& one : explained.arguments) place_json(json, one);
  json.end();
  json.key("result");
  if (explained.result.type.empty()) {
    json.null();
  } else {
    place_json(json, explained.result);
  }
  json.key("stack_bytes").number(explained.stack);
  json.key("released").number(explained.released);
  json.key("stack").begin_array();
  for (const ExplainedPassing::Slot& slot : explained.slots) {
    json.begin_object();
    json.key("offset").string(std::to_string(slot.offset));
    json.key("what").string(slot.what);
    json.end();
  }
  json.end();
  json.end();
}

}  // namespace deeptrace::report
