// The machine-readable forms of `steps`.
#include "report/steps.h"

#include <fmt/format.h>

#include <unordered_map>

#include "report/csv.h"
#include "report/json.h"

namespace deeptrace::report {
namespace {

using session::StepRow;
using session::StepsSink;
using session::StepsStart;
using session::StepsSummary;

std::string_view kind_name(StepRow::Kind kind) {
  constexpr std::string_view kNames[] = {"instruction", "passage", "signal", "signal_return", "kernel"};
  return kNames[static_cast<std::size_t>(kind)];
}

std::uint64_t number_at(const std::uint8_t* bytes, std::size_t size) {
  std::uint64_t value = 0;
  for (std::size_t i = 0; i < size; ++i) value |= std::uint64_t(bytes[i]) << (8 * i);
  return value;
}

class Json : public StepsSink {
 public:
  explicit Json(Output& out) : out_(out), json_(out) {}

  void begin(const StepsStart& start) override {
    json_.begin_object();
    json_.key("deeptrace").number(1);
    json_.key("command").string("steps");
    json_.key("program").string(start.program);
    json_.key("machine").string("x86-64");
    json_.key("randomised").boolean(start.randomised);
    json_.key("from").begin_object();
    json_.key("address").hex(start.address);
    json_.key("place").string(start.place);
    json_.end();
    json_.key("steps").begin_array();
  }

  void row(const StepRow& row) override {
    json_.new_line();
    json_.begin_object();
    json_.key("n").number(row.number);
    json_.key("kind").string(kind_name(row.kind));
    json_.key("thread").number(static_cast<std::uint64_t>(row.thread));
    place(row);
    if (row.taken) json_.key("taken").boolean(*row.taken);
    if (row.repetitions) json_.key("repetitions").number(*row.repetitions);
    changes(*row.delta);
    json_.key("completed").boolean(row.completed);
    if (!row.memory_followed) json_.key("memory_followed").boolean(false);
    if (row.signal != 0) signal(row);
    json_.end();
  }

  void end(const StepsSummary& summary) override {
    json_.end();
    json_.key("ended").string(session::name_of(summary.ended));
    json_.key("instructions").number(summary.instructions);
    if (summary.other_threads != 0) json_.key("threads_not_stepped").number(summary.other_threads);
    json_.key("exit").begin_object();
    if (summary.ended == session::StepsEnd::interrupt) {
      json_.key("stopped").string("interrupt");
    } else if (summary.exit.kind == process::Stop::Kind::exited) {
      json_.key("status").number(static_cast<std::uint64_t>(summary.exit.number));
    } else {
      json_.key("signal").string(session::signal_name(summary.exit.number));
    }
    json_.end();
    json_.close_all();
    out_.flush();
  }

 private:
  /// What is the same every time that an instruction runs is written once and kept.
  struct Place {
    std::string text;
    std::string members;
  };

  void place(const StepRow& row) {
    if (row.kind != StepRow::Kind::instruction) {
      scratch_.clear();
      add_place(scratch_, row);
      return json_.members(scratch_);
    }
    Place& known = places_[row.address];
    if (known.members.empty() || known.text != row.text) {
      known.text = row.text;
      known.members.clear();
      add_place(known.members, row);
    }
    json_.members(known.members);
  }

  static void add_place(std::string& to, const StepRow& row) {
    const auto add_or_null = [&](std::string_view text) {
      if (text.empty()) {
        to += "null";
      } else {
        add_json_string(to, text);
      }
    };
    to += fmt::format("\"address\":\"{:#x}\",\"function\":", row.address);
    add_or_null(row.function);
    to += ",\"file\":";
    add_or_null(row.file);
    to += row.line != 0 ? fmt::format(",\"line\":{}", row.line) : ",\"line\":null";
    to += ",\"text\":";
    add_json_string(to, row.text);
    if (row.target_name.empty()) return;
    to += ",\"target_name\":";
    add_json_string(to, row.target_name);
  }

  void changes(const state::Delta& delta) {
    json_.key("changed").begin_object();
    for (const state::RegisterChange& change : delta.registers) {
      json_.key(name_of(change.reg)).begin_object();
      json_.key("before").hex(change.before);
      json_.key("after").hex(change.after);
      json_.end();
    }
    for (const state::VectorChange& change : delta.vectors) {
      const char name[] = {'x', 'm', 'm', static_cast<char>(change.index < 10 ? '0' + change.index : '1'),
                           static_cast<char>('0' + change.index % 10)};
      json_.key({name, change.index < 10 ? 4U : 5U}).begin_object();
      json_.key("before").bytes(change.before.data(), change.before.size());
      json_.key("after").bytes(change.after.data(), change.after.size());
      json_.end();
    }
    if (delta.mxcsr_before != delta.mxcsr_after) {
      json_.key("mxcsr").begin_object();
      json_.key("before").hex(delta.mxcsr_before);
      json_.key("after").hex(delta.mxcsr_after);
      json_.end();
    }
    json_.end();
    json_.key("flags").begin_object();
    json_.key("before").hex(delta.flags_before);
    json_.key("after").hex(delta.flags_after);
    json_.end();
    json_.key("memory").begin_array();
    for (const state::MemoryChange& change : delta.memory) {
      json_.begin_object();
      json_.key("address").hex(change.address);
      json_.key("size").number(change.size);
      json_.key("before");
      memory_value(delta.before(change), change.size, change.before_known);
      json_.key("after");
      memory_value(delta.after(change), change.size, change.after_known);
      json_.end();
    }
    json_.end();
  }

  /// Up to eight bytes as a number, more as bytes in memory order, null when it could not be read.
  void memory_value(const std::uint8_t* bytes, std::size_t size, bool known) {
    if (!known) return json_.null();
    size <= 8 ? json_.hex(number_at(bytes, size)) : json_.bytes(bytes, size);
  }

  void signal(const StepRow& row) {
    json_.key("signal").string(session::signal_name(row.signal));
    if (row.kind == StepRow::Kind::instruction) json_.key("fault_address").hex(row.fault_address);
  }

  Output& out_;
  JsonWriter json_;
  std::unordered_map<std::uint64_t, Place> places_;
  std::string scratch_;
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
        .cell(fmt::format("{}", row.thread))
        .cell(fmt::format("{:#x}", row.address));
    csv_.cell(row.function).cell(row.file).cell(row.line != 0 ? fmt::format("{}", row.line) : "").cell(row.text);
    csv_.cell(registers(*row.delta))
        .cell(fmt::format("{:#x}", row.delta->flags_before))
        .cell(fmt::format("{:#x}", row.delta->flags_after));
    csv_.cell(memory(*row.delta)).cell(row.completed ? "true" : "false");
    csv_.end_row();
  }

  void end(const StepsSummary& /*summary*/) override { out_.flush(); }

 private:
  static std::string bytes(const std::uint8_t* data, std::size_t size) {
    std::string result;
    for (std::size_t i = 0; i < size; ++i) result += fmt::format("{:02x}", data[i]);
    return result;
  }

  /// "rax 0x1 0x2; rcx 0x5 0x4": name, before, after.
  static std::string registers(const state::Delta& delta) {
    std::string result;
    const auto add = [&](std::string text) { result += (result.empty() ? "" : "; ") + text; };
    for (const state::RegisterChange& c : delta.registers)
      add(fmt::format("{} {:#x} {:#x}", name_of(c.reg), c.before, c.after));
    for (const state::VectorChange& c : delta.vectors)
      add(fmt::format("xmm{} {} {}", c.index, bytes(c.before.data(), 16), bytes(c.after.data(), 16)));
    return result;
  }

  /// "0x7fffffffe0f8 8 0x0 0x5": address, size, before, after; a question mark where it could not be read.
  static std::string memory(const state::Delta& delta) {
    const auto value = [](const std::uint8_t* data, std::size_t size, bool known) {
      if (!known) return std::string("?");
      return size <= 8 ? fmt::format("{:#x}", number_at(data, size)) : bytes(data, size);
    };
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

class Tee : public StepsSink {
 public:
  explicit Tee(std::vector<std::unique_ptr<StepsSink>> sinks) : sinks_(std::move(sinks)) {}
  void begin(const StepsStart& start) override {
    for (auto& s : sinks_) s->begin(start);
  }
  void row(const StepRow& row) override {
    for (auto& s : sinks_) s->row(row);
  }
  void end(const StepsSummary& summary) override {
    for (auto& s : sinks_) s->end(summary);
  }

 private:
  std::vector<std::unique_ptr<StepsSink>> sinks_;
};

}  // namespace

std::unique_ptr<StepsSink> steps_json(Output& out) { return std::make_unique<Json>(out); }
std::unique_ptr<StepsSink> steps_csv(Output& out) { return std::make_unique<Csv>(out); }
std::unique_ptr<StepsSink> steps_tee(std::vector<std::unique_ptr<StepsSink>> sinks) {
  return std::make_unique<Tee>(std::move(sinks));
}

}  // namespace deeptrace::report
