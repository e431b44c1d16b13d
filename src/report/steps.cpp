// The machine-readable forms of `steps`.
#include "report/steps.h"

#include <fmt/format.h>

#include <algorithm>
#include <bit>
#include <charconv>
#include <unordered_map>

#include "report/csv.h"
#include "report/frames.h"
#include "report/json.h"
#include "report/kernel_call.h"
#include "report/stack.h"

namespace deeptrace::report {
namespace {

using session::StepRow;
using session::StepsSink;
using session::StepsStart;
using session::StepsSummary;

std::string_view kind_name(StepRow::Kind kind) {
  constexpr std::string_view kNames[] = {"instruction", "full_speed", "signal", "signal_return", "kernel"};
  return kNames[static_cast<std::size_t>(kind)];
}

class Json : public StepsSink {
 public:
  explicit Json(Output& out) : out_(out), json_(out) {}

  void begin(const StepsStart& start) override {
    all_threads_ = start.all_threads;
    json_.begin_object();
    json_.key("deeptrace").number(1);
    json_.key("command").string("steps");
    json_.key("program").string(start.program);
    json_.key("machine").string(arch::machine_of(start.mode).name);
    json_.key("randomised").boolean(start.randomised);
    json_.key("from").begin_object();
    json_.key("address").hex(start.address);
    json_.key("place").string(start.place);
    json_.end();
    if (start.process != 0) json_.key("process").number(static_cast<std::uint64_t>(start.process));
    json_.key("steps").begin_array();
  }

  /// A row is put together as text and written at once: there are many, and this is most of what a step costs.
  void row(const StepRow& row) override {
    std::string& to = row_;
    to = "{\"n\":";
    add_number(to, row.number);
    to += ",\"thread\":";
    add_number(to, row.thread_number);
    to += ",\"task\":";
    add_number(to, static_cast<std::uint64_t>(row.thread));
    to += ',';
    to += place(row);
    if (row.taken) to += *row.taken ? ",\"taken\":true" : ",\"taken\":false";
    if (row.repetitions) {
      to += ",\"repetitions\":";
      add_number(to, *row.repetitions);
    }
    add_changes(to, *row.delta, row.mode);
    to += row.completed ? ",\"completed\":true" : ",\"completed\":false";
    if (!row.registers_followed) to += ",\"registers_followed\":false";
    if (!row.memory_followed) to += ",\"memory_followed\":false";
    if (row.signal != 0) add_signal(to, row);
    if (row.stack != nullptr) add_stack(to, *row.stack);
    if (row.call != nullptr) add_call(to, *row.call);
    if (!row.note.empty()) {
      to += ",\"note\":";
      add_json_string(to, row.note);
    }
    to += '}';
    json_.new_line();
    json_.ready_made(to);
  }

  void end(const StepsSummary& summary) override {
    json_.end();
    json_.key("ended").string(session::name_of(summary.ended));
    json_.key("instructions").number(summary.instructions);
    if (summary.other_threads != 0 && !all_threads_) json_.key("threads_not_stepped").number(summary.other_threads);
    json_.key("exit").begin_object();
    if (summary.ended == session::StepsEnd::interrupt) {
      json_.key("stopped").string("interrupt");
    } else if (summary.exit.how == session::RunEnd::How::detached) {
      json_.key("stopped").string("detached");
    } else if (summary.exit.how == session::RunEnd::How::exited) {
      json_.key("status").number(static_cast<std::uint64_t>(summary.exit.number));
    } else {
      json_.key("signal").string(abi::signal_name(summary.exit.number));
    }
    json_.end();
    if (!summary.findings.empty()) {
      json_.key("findings").begin_array();
      for (const look::Finding& finding : summary.findings) finding_json(json_, finding);
      json_.end();
    }
    json_.close_all();
    out_.flush();
  }

 private:
  /// What is the same every time that an instruction runs is written once and kept.
  struct Place {
    std::string text;
    std::string members;
  };

  const std::string& place(const StepRow& row) {
    const bool kept = row.kind == StepRow::Kind::instruction;
    Place& known = kept ? places_[row.address] : other_;
    if (!kept || known.members.empty() || known.text != row.text) {
      known.text = row.text;
      known.members.clear();
      add_place(known.members, row);
    }
    return known.members;
  }

  static void add_string_or_null(std::string& to, std::string_view text) {
    if (text.empty()) {
      to += "null";
    } else {
      add_json_string(to, text);
    }
  }

  static void add_place(std::string& to, const StepRow& row) {
    to += fmt::format("\"kind\":\"{}\",\"address\":\"{:#x}\",\"function\":", kind_name(row.kind), row.address);
    add_string_or_null(to, row.function);
    to += ",\"file\":";
    add_string_or_null(to, row.file);
    to += row.line != 0 ? fmt::format(",\"line\":{}", row.line) : ",\"line\":null";
    to += ",\"text\":";
    add_json_string(to, row.text);
    if (row.target_name.empty()) return;
    to += ",\"target_name\":";
    add_json_string(to, row.target_name);
  }

  static void add_number(std::string& to, std::uint64_t value) {
    char digits[20];
    const auto end = std::to_chars(digits, digits + sizeof digits, value).ptr;
    to.append(digits, static_cast<std::size_t>(end - digits));
  }

  static void add_hex(std::string& to, std::uint64_t value) {
    char text[20] = {'"', '0', 'x'};
    const auto digits = std::max(1U, static_cast<unsigned>(std::bit_width(value) + 3) / 4);
    for (unsigned i = digits; i > 0; --i, value >>= 4) text[2 + i] = "0123456789abcdef"[value & 15];
    text[3 + digits] = '"';
    to.append(text, 4 + digits);
  }

  static void add_bytes(std::string& to, const std::uint8_t* data, std::size_t size) {
    to += '"';
    for (std::size_t i = 0; i < size; ++i) {
      to += "0123456789abcdef"[data[i] >> 4];
      to += "0123456789abcdef"[data[i] & 15];
    }
    to += '"';
  }

  static void add_pair(std::string& to, std::uint64_t before, std::uint64_t after) {
    to += "{\"before\":";
    add_hex(to, before);
    to += ",\"after\":";
    add_hex(to, after);
    to += '}';
  }

  static void add_changes(std::string& to, const state::Delta& delta, isa::Mode mode) {
    to += ",\"changed\":{";
    const std::size_t empty = to.size();
    const auto name = [&](std::string_view text) {
      to += to.size() == empty ? "\"" : ",\"";
      to += text;
      to += "\":";
    };
    for (const state::RegisterChange& change : delta.registers) {
      name(name_of(change.reg, mode));
      add_pair(to, change.before, change.after);
    }
    for (const state::WideChange& change : delta.wide) {
      name(name_of(change));
      to += "{\"before\":";
      add_value(to, change.before.data(), change.size(), !change.was_empty);
      to += ",\"after\":";
      add_value(to, change.after.data(), change.size(), !change.is_empty);
      to += '}';
    }
    to += "},\"flags\":";
    add_pair(to, delta.flags_before, delta.flags_after);
    to += ",\"memory\":[";
    for (const state::MemoryChange& change : delta.memory) {
      to += &change == delta.memory.data() ? "{\"address\":" : ",{\"address\":";
      add_hex(to, change.address);
      to += ",\"size\":";
      add_number(to, change.size);
      to += ",\"before\":";
      add_value(to, delta.before(change), change.size, change.before_known);
      to += ",\"after\":";
      add_value(to, delta.after(change), change.size, change.after_known);
      to += '}';
    }
    to += ']';
  }

  /// Up to eight bytes as a number, more as bytes in memory order, null where there is none.
  static void add_value(std::string& to, const std::uint8_t* bytes, std::size_t size, bool known) {
    if (!known) {
      to += "null";
    } else if (size <= 8) {
      add_hex(to, state::number_of(bytes, size));
    } else {
      add_bytes(to, bytes, size);
    }
  }

  static void add_stack(std::string& to, const std::vector<look::StackWord>& words) {
    to += ",\"stack\":[";
    for (const look::StackWord& word : words) {
      to += to.back() == '[' ? "{\"address\":" : ",{\"address\":";
      add_hex(to, word.address);
      to += ",\"value\":";
      add_hex(to, word.value);
      to += ",\"kind\":";
      add_json_string(to, report::kind_name(word.kind));
      to += ",\"frame\":";
      add_number(to, word.frame);
      to += ",\"function\":";
      add_string_or_null(to, word.function);
      to += ",\"meaning\":";
      add_string_or_null(to, word.meaning);
      to += word.changed ? ",\"changed\":true}" : ",\"changed\":false}";
    }
    to += ']';
  }

  static void add_call(std::string& to, const look::KernelCall& call) {
    Output text;
    JsonWriter json(text);
    kernel_call_json(json, call);
    to += ",\"call\":";
    to += text.text();
  }

  static void add_signal(std::string& to, const StepRow& row) {
    to += ",\"signal\":";
    add_json_string(to, abi::signal_name(row.signal));
    if (row.kind != StepRow::Kind::instruction) return;
    to += ",\"fault_address\":";
    add_hex(to, row.fault_address);
  }

  Output& out_;
  JsonWriter json_;
  bool all_threads_ = false;
  std::unordered_map<std::uint64_t, Place> places_;
  Place other_;
  std::string row_;
};

class Csv : public StepsSink {
 public:
  explicit Csv(Output& out) : out_(out), csv_(out) {}

  void begin(const StepsStart& /*start*/) override {
    for (const std::string_view name : {"n", "kind", "thread", "address", "function", "file", "line", "text", "changed",
                                        "flags_before", "flags_after", "memory", "completed"})
      csv_.cell(name);
    csv_.end_row();
  }

  void row(const StepRow& row) override {
    csv_.cell(fmt::format("{}", row.number))
        .cell(kind_name(row.kind))
        .cell(fmt::format("{}", row.thread_number))
        .cell(fmt::format("{:#x}", row.address));
    csv_.cell(row.function).cell(row.file).cell(row.line != 0 ? fmt::format("{}", row.line) : "").cell(row.text);
    csv_.cell(registers(*row.delta, row.mode))
        .cell(fmt::format("{:#x}", row.delta->flags_before))
        .cell(fmt::format("{:#x}", row.delta->flags_after));
    csv_.cell(memory(*row.delta)).cell(row.completed ? "true" : "false");
    csv_.end_row();
  }

  void end(const StepsSummary& /*summary*/) override { out_.flush(); }

 private:
  /// A number, or bytes in memory order.
  static std::string value(const std::uint8_t* data, std::size_t size, bool known) {
    if (!known) return "?";
    if (size <= 8) return fmt::format("{:#x}", state::number_of(data, size));
    std::string result;
    for (std::size_t i = 0; i < size; ++i) result += fmt::format("{:02x}", data[i]);
    return result;
  }

  /// "rax 0x1 0x2; rcx 0x5 0x4": name, before, after.
  static std::string registers(const state::Delta& delta, isa::Mode mode) {
    std::string result;
    const auto add = [&](std::string text) { result += (result.empty() ? "" : "; ") + text; };
    for (const state::RegisterChange& c : delta.registers)
      add(fmt::format("{} {:#x} {:#x}", name_of(c.reg, mode), c.before, c.after));
    for (const state::WideChange& c : delta.wide)
      add(fmt::format("{} {} {}", name_of(c), c.was_empty ? "empty" : value(c.before.data(), c.size(), true),
                      c.is_empty ? "empty" : value(c.after.data(), c.size(), true)));
    return result;
  }

  /// "0x7fffffffe0f8 8 0x0 0x5": address, size, before, after; a question mark where it could not be read.
  static std::string memory(const state::Delta& delta) {
    std::string result;
    for (const state::MemoryChange& c : delta.memory) {
      result +=
          fmt::format("{}{:#x} {} {} {}", result.empty() ? "" : "; ", c.address, c.size,
                      value(delta.before(c), c.size, c.before_known), value(delta.after(c), c.size, c.after_known));
    }
    return result;
  }

  Output& out_;
  CsvWriter csv_;
};

}  // namespace

std::unique_ptr<StepsSink> steps_json(Output& out) { return std::make_unique<Json>(out); }
std::unique_ptr<StepsSink> steps_csv(Output& out) { return std::make_unique<Csv>(out); }

}  // namespace deeptrace::report
