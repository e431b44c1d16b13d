#include "report/fault.h"

#include <fmt/format.h>

#include <csignal>

#include "abi/signal_names.h"
#include "base/path.h"
#include "report/changes.h"
#include "report/frames.h"
#include "report/hits.h"
#include "report/names.h"
#include "report/source_words.h"
#include "report/value.h"

namespace deeptrace::report {
namespace {

using look::FaultReport;
using session::FaultResult;

class Text {
 public:
  Text(Output& out, const Style& style, program::SourceText& sources, const FaultResult& result)
      : out_(out), style_(style), sources_(sources), result_(result) {}

  void run() {
    heading();
    for (const std::string& note : result_.notes) line(look(style_, Role::attention, "note: " + printable(note)));
    if (result_.report) {
      const FaultReport& report = *result_.report;
      for (std::size_t i = 0; i < report.findings.size(); ++i) finding(report.findings[i], i == 0);
      instruction(report);
      if (report.own) own(*report.own);
      frames(report);
    }
    out_.flush();
  }

 private:
  void line(std::string_view text) { add_line(out_, style_, text); }

  void heading() {
    const std::string name = look(style_, Role::heading, shown_path(style_, result_.program));
    if (!result_.report) return line(fmt::format("{}   no fault: the program {}", name, end_words(result_.end)));
    const FaultReport& report = *result_.report;
    std::string text = fmt::format("{}   was ended by {}", name, abi::signal_name(report.signal.number));
    if (!report.code.empty()) text += ": " + report.code;
    const bool of_memory = report.signal.number == SIGSEGV || report.signal.number == SIGBUS;
    if (of_memory && report.signal.fault_address_known)
      text += fmt::format(", at address {:#x}", report.signal.fault_address);
    if (result_.threads > 1) text += fmt::format("   thread {} of {}", result_.thread, result_.threads);
    line(text);
  }

  void finding(const look::Finding& one, bool first) {
    line("");
    line(look(style_, first ? Role::broken : Role::attention, (first ? "wrong: " : "note: ") + printable(one.text)));
    place("       ", one.function, one.file, one.line);
    for (const std::string& evidence : one.evidence) line("       " + printable(evidence));
  }

  void place(std::string_view before, const std::string& function, const std::string& file, std::uint32_t number) {
    if (function.empty()) return;
    std::string text = std::string(before) + "in " + shown_name(style_, function);
    if (number != 0) text += fmt::format("   {}:{}", printable(base_name(file)), number);
    line(text);
    if (number != 0 && sources_.found(file)) line(look(style_, Role::source, source_line(sources_, file, number)));
  }

  void instruction(const FaultReport& report) {
    line("");
    line(look(style_, Role::heading, "instruction"));
    const std::string text = report.instruction.empty() ? "none can be read here" : report.instruction;
    line(fmt::format("  {:#x}  {}   {}", report.address, shown_name(style_, report.place), text));
    if (!report.operand) return;
    const FaultReport::Operand& operand = *report.operand;
    line(fmt::format("  {} {} {} byte{} at {:#x}", operand.text, operand.access, operand.size,
                     operand.size == 1 ? "" : "s", operand.address));
    for (const FaultReport::Operand::Part& part : operand.registers)
      line(fmt::format("    {:<5} is {}", part.name,
                       reading_of(style_, part.value, arch::machine_of(report.mode).word, part.points_to)));
  }

  void own(const FaultReport::Own& own) {
    if (!own.call) return;
    line("");
    line(look(style_, Role::heading, "the call that your own code made"));
    const look::CallMade& call = *own.call;
    place("  ", own.function, own.file, own.line);
    line(fmt::format("  it calls {}{}",
                     call.function.empty() ? "a function that is not known" : shown_name(style_, call.function),
                     call.arguments.empty() || call.typed ? "" : ", whose parameters are not known: what it set is"));
    for (std::size_t i = 0; i < call.arguments.size(); ++i) {
      const look::Argument& one = call.arguments[i];
      line(fmt::format("    {:>2}  {:<9} {}{}", i + 1, one.where, argument_words(style_, one),
                       one.type.empty() ? "" : "   " + look(style_, Role::faint, printable(one.type))));
    }
  }

  void frames(const FaultReport& report) {
    line("");
    line(look(style_, Role::heading, "frames"));
    for (std::size_t index = 0; index < report.frames.size(); ++index) {
      const look::FrameRow& row = report.frames[index];
      if (report.left_out != 0 && index == report.after_gap)
        line(look(style_, Role::faint, fmt::format("     and {} frames between", report.left_out)));
      if (report.last_own && index > *report.last_own) {
        line(look(style_, Role::faint,
                  fmt::format("     and {} frames of start-up or library code around", report.frames.size() - index)));
        break;
      }
      const bool own = report.own && index == report.own->frame;
      line(look(style_, own ? Role::heading : Role::plain,
                fmt::format("{:>3}  {}", row.number, frame_words(style_, row))));
    }
    if (!report.lost.empty())
      line(look(style_, Role::attention, "note: the frames end here: " + printable(report.lost)));
  }

  Output& out_;
  const Style& style_;
  program::SourceText& sources_;
  const FaultResult& result_;
};

void call_json(JsonWriter& json, const look::CallMade& call) {
  json.begin_object();
  json.key("function").string_or_null(call.function);
  json.key("address").hex(call.address);
  json.key("arguments").begin_array();
  for (const look::Argument& one : call.arguments) argument_json(json, one);
  json.end();
  json.end();
}

void report_json(JsonWriter& json, const FaultReport& report) {
  json.key("signal").string(abi::signal_name(report.signal.number));
  json.key("code").string_or_null(report.code);
  json.key("address");
  report.signal.fault_address_known ? json.hex(report.signal.fault_address) : json.null();
  json.key("instruction").begin_object();
  json.key("address").hex(report.address);
  json.key("text").string_or_null(report.instruction);
  json.end();
  json.key("operand");
  if (report.operand) {
    json.begin_object();
    json.key("text").string(report.operand->text);
    json.key("address").hex(report.operand->address);
    json.key("access").string(report.operand->access);
    json.key("bytes").number(report.operand->size);
    json.key("registers").begin_object();
    for (const auto& one : report.operand->registers) json.key(one.name).hex(one.value);
    json.end();
    json.end();
  } else {
    json.null();
  }
  json.key("frames").begin_array();
  for (const look::FrameRow& row : report.frames) frame_json(json, row);
  json.end();
  json.key("all_frames").number(report.all_frames);
  json.key("frames_lost").string_or_null(report.lost);
  json.key("own");
  if (report.own) {
    json.begin_object();
    json.key("function").string(report.own->function);
    json.key("file").string_or_null(report.own->file);
    json.key("line");
    report.own->line != 0 ? json.number(report.own->line) : json.null();
    json.key("call");
    report.own->call ? call_json(json, *report.own->call) : json.null();
    json.end();
  } else {
    json.null();
  }
  json.key("findings").begin_array();
  for (const look::Finding& one : report.findings) finding_json(json, one);
  json.end();
}

}  // namespace

void fault_text(Output& out, const Style& style, program::SourceText& sources, const FaultResult& result) {
  Text(out, style, sources, result).run();
}

void fault_json(Output& out, const FaultResult& result) {
  JsonWriter json(out);
  json.begin_object();
  json.key("deeptrace").number(1);
  json.key("command").string("fault");
  json.key("program").string(result.program);
  json.key("attached").boolean(result.attached);
  json.key("core").boolean(result.dead);
  json.key("thread").number(result.thread);
  if (!result.notes.empty()) {
    json.key("notes").begin_array();
    for (const std::string& note : result.notes) json.string(note);
    json.end();
  }
  json.new_line();
  json.key("fault");
  if (result.report) {
    json.begin_object();
    report_json(json, *result.report);
    json.end();
  } else {
    json.null();
  }
  json.key("exit");
  end_json(json, result.end);
  json.close_all();
  out.flush();
}

}  // namespace deeptrace::report
