#include "report/explain_frame.h"

#include <fmt/format.h>

#include <algorithm>

#include "report/names.h"

namespace deeptrace::report {
namespace {

using study::ExplainedFrame;
using study::FrameExit;
using study::FrameSlot;
using study::FrameStep;
using Step = FrameStep::Role;

struct Names {
  explicit Names(isa::Mode mode)
      : stack(mode == isa::Mode::bits64 ? "rsp" : "esp"), frame(mode == isa::Mode::bits64 ? "rbp" : "ebp") {}
  std::string_view stack, frame;
};

std::string bytes_words(std::uint64_t bytes) { return fmt::format("{} byte{}", bytes, bytes == 1 ? "" : "s"); }

std::string what(const FrameStep& step, const Names& names) {
  switch (step.role) {
    case Step::saves: return fmt::format("saves {}", step.subject);
    case Step::sets_frame_pointer: return fmt::format("{} marks the frame from here on", names.frame);
    case Step::reserves:
      return "takes " + bytes_words(step.bytes) +
             (step.in_all == 0 ? "" : fmt::format(" again and again, {} in all", bytes_words(step.in_all)));
    case Step::enters:
      return fmt::format("saves {}, which marks the frame from here on, and takes {}", step.subject,
                         bytes_words(step.bytes));
    case Step::reserves_unknown: return "takes room by an amount that is known at run time only";
    case Step::aligns: return fmt::format("rounds {} down to a multiple of {}", names.stack, step.bytes);
    case Step::touches: return "touches the page, so that an overflow of the stack faults here";
    case Step::notes_stack:
      return fmt::format("keeps in {} where the arguments begin, before {} is rounded down", step.subject, names.stack);
    case Step::copies_return:
      return fmt::format("puts the return address a second time, above the place of the saved {}", names.frame);
    case Step::puts_protector: return "puts the stack protector's value between variables and return address";
    case Step::checks_protector: return "checks that the stack protector's value is unchanged";
    case Step::keeps_argument: return fmt::format("puts the argument in {} into the frame", step.subject);
    case Step::restores: return fmt::format("restores {}", step.subject);
    case Step::sets_stack: return fmt::format("sets {} to {}", names.stack, step.subject);
    case Step::releases: return fmt::format("gives {} back", bytes_words(step.bytes));
    case Step::leaves: return fmt::format("gives all room back, and restores {}", names.frame);
    case Step::returns:
      return step.bytes == 0 ? std::string("returns")
                             : fmt::format("returns, and takes {} of arguments off", bytes_words(step.bytes));
    case Step::jumps_on:
      return fmt::format("goes on in {}, which returns to the caller (tail call)",
                         step.subject.empty() ? "another function" : printable(step.subject));
  }
  return {};
}

std::string what(const FrameSlot& slot) {
  switch (slot.kind) {
    case FrameSlot::Kind::argument: return slot.name.empty() ? "argument" : "argument: " + printable(slot.name);
    case FrameSlot::Kind::return_address: return slot.name.empty() ? "return address" : "return address, " + slot.name;
    case FrameSlot::Kind::saved: return "saved " + slot.name;
    case FrameSlot::Kind::protector: return "stack protector";
    case FrameSlot::Kind::variable: return printable(slot.name);
    case FrameSlot::Kind::unnamed: return "no name: temporaries, or arguments of calls";
    case FrameSlot::Kind::unused: return "unused";
  }
  return {};
}

std::string offset_words(std::int64_t offset) {
  return (offset < 0 ? "-" : "+") + hex(static_cast<std::uint64_t>(offset < 0 ? -offset : offset));
}

/// The words under the name: what the frame is like as a whole.
std::vector<std::string> facts_of(const ExplainedFrame& frame, const Names& names) {
  std::vector<std::string> facts;
  const bool nothing = frame.building.empty() && frame.shape.size == 0;
  if (nothing) {
    facts.emplace_back("it has no frame: it takes nothing from the stack");
  } else {
    const std::string_view more = frame.shape.varies ? " and more, by an amount known at run time only" : "";
    facts.push_back(fmt::format("{} below the return address{}; {}", bytes_words(frame.shape.size), more,
                                frame.shape.frame_pointer
                                    ? fmt::format("{} marks the frame", names.frame)
                                    : fmt::format("no frame pointer: counted from {}", names.stack)));
  }
  if (frame.shape.red_zone != 0)
    facts.push_back(fmt::format("and {} below {} without taking them (red zone: a function that calls nothing may)",
                                bytes_words(frame.shape.red_zone), names.stack));
  if (frame.shape.aligned > 16)
    facts.push_back(fmt::format("rounding {} down takes up to {} more; offsets from {} hold below that place",
                                names.stack, bytes_words(frame.shape.aligned - 16), names.stack));
  if (frame.only_on_some_ways) facts.emplace_back("the frame is built on some ways only; on others it returns before");
  return facts;
}

void put_steps(Output& out, const Style& style, const std::vector<FrameStep>& steps, const Names& names,
               std::size_t widest) {
  for (const FrameStep& step : steps) {
    const std::string line = step.line == 0 ? "" : fmt::format("{}", step.line);
    const std::string taken = step.taken ? fmt::format("{}", *step.taken) : step.role == Step::returns ? "" : "?";
    add_line(out, style,
             fmt::format("  {:>5}  {:<10}  {:<{}}  {:>6}  {}", line, hex(step.address), step.text, widest, taken,
                         what(step, names)));
  }
}

std::size_t widest_text(const ExplainedFrame& frame) {
  std::size_t widest = 11;
  for (const FrameStep& step : frame.building) widest = std::max(widest, step.text.size());
  for (const FrameExit& exit : frame.exits) {
    for (const FrameStep& step : exit.steps) widest = std::max(widest, step.text.size());
  }
  return std::min<std::size_t>(widest, 40);
}

void optional_number(JsonWriter& json, std::string_view key, const std::optional<std::int64_t>& value) {
  json.key(key);
  if (value) {
    json.ready_made(fmt::format("{}", *value));
  } else {
    json.null();
  }
}
std::optional<std::int64_t> known_line(std::uint32_t line) { return line == 0 ? std::nullopt : std::optional(line); }

void step_json(JsonWriter& json, const FrameStep& step) {
  json.begin_object();
  json.key("address").hex(step.address);
  optional_number(json, "line", known_line(step.line));
  json.key("text").string(step.text);
  json.key("role").string(study::name_of(step.role));
  json.key("subject").string_or_null(step.subject);
  json.key("bytes").number(step.bytes);
  json.key("in_all").number(step.in_all);
  optional_number(json, "taken", step.taken);
  json.end();
}

}  // namespace

std::vector<std::string> frame_drawing(const ExplainedFrame& frame) {
  const Names names(frame.mode);
  const std::int64_t word = frame.mode == isa::Mode::bits64 ? 8 : 4;
  const std::int64_t top = -static_cast<std::int64_t>(frame.built) - word;
  std::vector<std::string> lines;
  lines.push_back(frame.mark ? fmt::format("{:<8} {:<8} {:>5}", names.stack, names.frame, "bytes")
                             : fmt::format("{:<8} {:>5}", names.stack, "bytes"));
  for (const FrameSlot& slot : frame.slots) {
    std::string text = fmt::format("{:<8} ", frame.shape.varies ? "" : offset_words(slot.offset - top));
    if (frame.mark) text += fmt::format("{:<8} ", offset_words(slot.offset - *frame.mark));
    lines.push_back(text + fmt::format("{:>5}  {}", slot.size, what(slot)));
  }
  return lines;
}

void explain_frame_text(Output& out, const Style& style, const ExplainedFrame& frame) {
  const Names names(frame.mode);
  const auto line = [&](std::string_view text) { add_line(out, style, text); };
  std::string place = "  " + hex(frame.address);
  if (!frame.file.empty()) place += fmt::format("  {}:{}", shown_path(style, frame.file), frame.line);
  line(look(style, Role::heading, shown_heading(style, frame.function)) + look(style, Role::faint, place));
  for (const std::string& fact : facts_of(frame, names)) add_prose(out, style, fact, "  ", Role::plain);
  const std::size_t widest = widest_text(frame);
  const std::string heads =
      fmt::format("  {:>5}  {:<10}  {:<{}}  {:>6}", "line", "address", "instruction", widest, "taken");
  line("");
  line(look(style, Role::faint, heads + "  prologue"));
  if (frame.building.empty()) line("         nothing");
  put_steps(out, style, frame.building, names, widest);
  for (const FrameExit& exit : frame.exits) {
    line("");
    line(look(style, Role::faint, fmt::format("{:{}}  epilogue", "", heads.size())));
    put_steps(out, style, exit.steps, names, widest);
    if (!exit.similar.empty()) {
      std::string text = "the same way at";
      for (const std::uint64_t address : exit.similar) text += " " + hex(address);
      add_prose(out, style, text, "         ", Role::faint);
    }
  }
  line("");
  line(look(style, Role::faint, "  the stack while the body runs, from above"));
  const std::vector<std::string> drawing = frame_drawing(frame);
  for (std::size_t i = 0; i < drawing.size(); ++i)
    line(i == 0 ? look(style, Role::faint, "    " + drawing[i]) : "    " + drawing[i]);
}

void explain_frame_json(JsonWriter& json, const ExplainedFrame& frame) {
  json.begin_object();
  json.key("function").string(frame.function);
  json.key("address").hex(frame.address);
  json.key("file").string_or_null(frame.file);
  optional_number(json, "line", known_line(frame.line));
  json.key("size").number(frame.shape.size);
  json.key("red_zone").number(frame.shape.red_zone);
  json.key("aligned").number(frame.shape.aligned);
  json.key("varies").boolean(frame.shape.varies);
  json.key("frame_pointer").boolean(frame.shape.frame_pointer);
  json.key("only_on_some_ways").boolean(frame.only_on_some_ways);
  json.key("built").number(frame.built);
  json.key("prologue").begin_array();
  for (const FrameStep& step : frame.building) step_json(json, step);
  json.end();
  json.key("epilogues").begin_array();
  for (const FrameExit& exit : frame.exits) {
    json.begin_object();
    json.key("steps").begin_array();
    for (const FrameStep& step : exit.steps) step_json(json, step);
    json.end();
    json.key("similar").begin_array();
    for (const std::uint64_t address : exit.similar) json.hex(address);
    json.end();
    json.end();
  }
  json.end();
  json.key("stack").begin_array();
  for (const FrameSlot& slot : frame.slots) {
    json.begin_object();
    optional_number(json, "offset", slot.offset);
    optional_number(json, "from_frame_pointer", frame.mark ? std::optional(slot.offset - *frame.mark) : std::nullopt);
    json.key("size").number(slot.size);
    json.key("kind").string(study::name_of(slot.kind));
    json.key("name").string_or_null(slot.name);
    json.end();
  }
  json.end();
  json.end();
}

}  // namespace deeptrace::report
