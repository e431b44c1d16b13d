// The words that change something: stop points, values, the program itself.
#include <fmt/format.h>

#include <algorithm>
#include <cstring>
#include <filesystem>
#include <fstream>

#include "abi/call_errors.h"
#include "base/number.h"
#include "base/outside.h"
#include "cli/talk.h"
#include "cli/talk_text.h"
#include "isa/text.h"
#include "report/names.h"
#include "report/value.h"
#include "session/core_of.h"
#include "state/parts.h"

namespace deeptrace::cli {

using report::look;
using report::printable;
using report::Role;
using state::Reg;

Answer Talk::halt(Arguments rest) {
  const Result<control::HaltRule> rule = control::parse_halt_rule(rest);
  if (!rule) return fail(rule.error().message);
  const Result<unsigned> number = control_->add(*rule);
  if (!number) return fail(number.error().message);
  Answer answer;
  for (const control::HaltInfo& one : control_->halts()) {
    if (one.number != *number) continue;
    std::string text = fmt::format("h{} {}", one.number, printable(one.rule.text()));
    for (const std::uint64_t address : one.addresses) {
      text += fmt::format("   {:#x}", address);
      if (!one.rule.on_data()) text += " " + report::shown_name(style_, subject_->modules().place_name(address));
    }
    if (one.size != 0) text += fmt::format(", {} bytes", one.size);
    answer.lines.push_back(text + "   " + report::look(style_, Role::faint, one.how));
    if (one.rule.on_data()) {
      answer.lines.push_back(
          report::look(style_, Role::faint, "  writes by other processes or through other mappings are not seen"));
    }
  }
  return answer;
}

Answer Talk::halts(Arguments /*rest*/) {
  Answer answer;
  if (control_ == nullptr) return fail("there is no program; `restart` starts it");
  for (const control::HaltInfo& one : control_->halts()) {
    answer.lines.push_back(fmt::format("{:<4} {:<40} {:>4} hit{}  {}", fmt::format("h{}", one.number),
                                       printable(one.rule.text()), one.hits, one.hits == 1 ? " " : "s", one.how));
  }
  if (answer.lines.empty()) answer.lines.push_back("no stop points; `halt at LOCATION` makes one");
  return answer;
}

Answer Talk::follow(Arguments rest) {
  if (rest.empty()) {
    Answer answer;
    for (const look::Followed& one : followed_)
      answer.lines.push_back(fmt::format("  {:<24} {}", printable(one.text), report::value_words(style_, one.value)));
    return answer;
  }
  look::Scope here = scope();
  Answer answer;
  const std::vector<Part> parts = parts_between(rest, [](char c) { return c == ','; });
  for (const Part& part : parts) {
    if (const auto expression = parse(part.text, here); !expression) return fail(expression.error().message);
  }
  for (const Part& part : parts) {
    look::Followed one;
    one.text = part.text;
    if (Result<inspect::Value> now = value(part.text)) {
      one.value = std::move(*now);
    } else {
      one.value.text = now.error().message;
    }
    answer.lines.push_back(fmt::format("  {:<24} {}", printable(one.text), report::value_words(style_, one.value)));
    followed_.push_back(std::move(one));
  }
  return answer;
}

Answer Talk::unfollow(Arguments rest) {
  const std::size_t gone =
      std::erase_if(followed_, [&](const look::Followed& one) { return rest == "all" || one.text == rest; });
  return gone == 0 && !followed_.empty() ? fail(fmt::format("{}: is not followed", rest)) : Answer{};
}

Answer Talk::others(Arguments rest) {
  if (rest != "hold" && rest != "run" && rest != "usual") return fail("others: hold, run or usual");
  control_->others(rest == "usual" ? std::nullopt : std::optional(rest == "run"));
  return {};
}

Answer Talk::remove(Arguments rest) {
  if (rest == "all") {
    for (const control::HaltInfo& one : control_->halts()) control_->remove(one.number);
    return {};
  }
  if (rest.starts_with('h')) rest.remove_prefix(1);
  const auto number = number_in(rest);
  if (!number || !control_->remove(static_cast<unsigned>(*number)))
    return fail(fmt::format("h{}: no stop point of that name; `halts` lists them", rest));
  return {};
}

Answer Talk::detach(Arguments /*rest*/) {
  own_->detach();
  Answer answer;
  answer.lines.push_back("the program goes on by itself");
  return answer;
}

Answer Talk::mark(Arguments rest) {
  if (rest.empty() || rest.find(' ') != std::string_view::npos) return fail("mark: a name is needed, one word");
  Mark mark;
  mark.registers = subject_->view().registers();
  std::uint64_t total = 0;
  constexpr std::uint64_t kMost = std::uint64_t(64) << 20;
  Answer answer;
  for (const state::Mapping& mapping : subject_->target().mappings()) {
    if (!mapping.writable || !mapping.readable) continue;
    total += mapping.to - mapping.from;
    if (total > kMost) {
      answer.lines.push_back(
          report::look(style_, Role::attention, "note: only the first 64 MB of writable memory were remembered"));
      break;
    }
    std::vector<std::uint8_t> bytes(mapping.to - mapping.from);
    bytes.resize(subject_->view().read_memory(mapping.from, bytes));
    mark.memory.emplace(mapping.from, std::move(bytes));
  }
  marks_[std::string(rest)] = std::move(mark);
  return answer;
}

namespace {

/// The "=" of an assignment: not one of == <= >= !=, and outside of brackets.
std::size_t assignment_at(std::string_view text) {
  for (std::size_t i = 1; i + 1 < text.size(); ++i) {
    if (text[i] != '=' || text[i + 1] == '=' || std::string_view("=<>!").find(text[i - 1]) != std::string_view::npos)
      continue;
    return i;
  }
  return std::string_view::npos;
}

}  // namespace

Answer Talk::set(Arguments rest) {
  const std::size_t equals = assignment_at(rest);
  if (equals == std::string_view::npos) return fail("set: is written as set EXPR = EXPR");
  look::Scope here = scope();
  const std::string_view left = trimmed(rest.substr(0, equals)), right = trimmed(rest.substr(equals + 1));
  const auto to_expression = parse(left, here);
  if (!to_expression) return fail(to_expression.error().message);
  const auto value_expression = parse(right, here);
  if (!value_expression) return fail(value_expression.error().message);
  Result<inspect::Datum> value = value_expression->evaluate(here);
  if (!value) return fail(value.error().message);
  const std::unique_ptr<state::StateEdit> edit = subject_->target().edit(subject_->thread());
  if (edit == nullptr) return fail("set: nothing can be changed here");
  unsigned flag_bits = 0;
  if (state::is_flags_register(left, flag_bits) || state::flag_bit(left)) {
    const Result<std::uint64_t> number = inspect::number_of(*value, here);
    if (!number) return fail(number.error().message);
    const std::uint64_t flags = subject_->view().registers()[Reg::rflags];
    const auto bit = state::flag_bit(left);
    if (!edit->write_flags(bit ? (flags & ~(1ULL << *bit)) | (*number & 1) << *bit : *number))
      return fail("the flags could not be set");
  } else {
    Result<inspect::Datum> to = to_expression->evaluate(here);
    if (!to) return fail(to.error().message);
    if (to->place == inspect::Datum::Place::reg && frame_ != 0)
      return fail("registers are set in frame 0; a caller's are what it will find again");
    if (auto error = inspect::assign(*to, *value, here, *edit)) return fail(std::string(left) + ": " + error->message);
  }
  frames_known_ = false;
  update_followed();
  return show(left);
}

Answer Talk::answer_call(Arguments rest) {
  const auto result = abi::result_in(trimmed(rest));
  if (!result) return fail("answer: is written as answer ERROR (its name, as in answer EACCES) or answer NUMBER");
  if (!own_ || !own_->current().process().answer_call(subject_->thread(), *result))
    return fail("answer: the program does not stand where a system call begins; halt on syscall NAME stops there");
  Answer answer;
  answer.lines.push_back(report::look(
      style_, Role::attention, fmt::format("note: the call is not made; it gives {}", printable(trimmed(rest)))));
  return answer;
}

Answer Talk::send(Arguments rest) {
  if (output_ == nullptr || !output_->sends())
    return fail("send: the program reads from elsewhere (--input, or it was attached to)");
  const bool sent = output_->send(rest.empty() ? std::string("\x04") : std::string(rest) + "\n");
  return sent ? Answer{} : fail("send: it could not be written");
}

Answer Talk::save(Arguments rest) {
  if (rest.empty()) return fail("save: a folder is needed");
  std::error_code problem;
  const std::filesystem::path folder{std::string(rest)};
  std::filesystem::create_directories(folder, problem);
  if (std::filesystem::exists(folder / "console.txt", problem))
    return fail(fmt::format("{}: holds another conversation already; name another folder", rest));
  std::ofstream file(folder / "console.txt");
  for (const std::string& line : transcript_) {
    // Without the colours of a terminal.
    bool escape = false;
    for (const char c : line) {
      if (c == '\x1b') escape = true;
      if (!escape) file << c;
      if (escape && c == 'm') escape = false;
    }
    file << '\n';
  }
  file.close();
  if (!file) return fail(fmt::format("{}: could not be written", rest));
  Answer answer;
  answer.lines.push_back(fmt::format("written to {}", (folder / "console.txt").string()));
  return answer;
}

Answer Talk::write(Arguments rest) {
  constexpr std::string_view kCore = "core ";
  const std::string_view path = rest.starts_with(kCore) ? trimmed(rest.substr(kCore.size())) : std::string_view{};
  if (path.empty()) return fail("write: is written as write core FILE");
  const auto written = session::write_core_of(*subject_, std::string(path));
  if (!written) return fail(printable(written.error().message));
  Answer answer;
  answer.lines.push_back(fmt::format("{}: {} bytes, {} thread{}; `deeptrace console --core {}` looks at it",
                                     printable(path), written->bytes, written->threads,
                                     written->threads == 1 ? "" : "s", printable(path)));
  if (written->unreadable != 0)
    answer.lines.push_back(report::look(
        style_, Role::attention, fmt::format("note: {} bytes could not be read and are zeros", written->unreadable)));
  return answer;
}

Answer Talk::restart(Arguments /*rest*/) {
  if (options_.attach != 0) return fail("restart: the program was attached to; it cannot be started anew");
  std::vector<control::HaltRule> rules;
  if (control_ != nullptr) {
    for (const control::HaltInfo& one : control_->halts()) rules.push_back(one.rule);
  }
  control_ = nullptr;
  subject_ = nullptr;
  own_.reset();
  (void)output_lines();
  Result<std::unique_ptr<control::ProcessTree>> started = control::ProcessTree::start(options_);
  if (!started) return fail(started.error().message);
  own_ = std::move(*started);
  look_at(own_->current());
  frames_known_ = false;
  choose_frame(0, std::nullopt);
  stopped_ = {};
  stopped_.at_start = true;
  Answer answer;
  std::vector<control::HaltRule> later;
  for (const control::HaltRule& rule : rules) {
    if (const Result<unsigned> number = control_->add(rule); !number) later.push_back(rule);
  }
  (void)run_to_main();
  for (const control::HaltRule& rule : later) {
    if (const Result<unsigned> number = control_->add(rule); !number)
      answer.lines.push_back(
          report::look(style_, Role::attention,
                       "note: `" + printable(rule.text()) + "` was left out: " + printable(number.error().message)));
  }
  Answer card = stopped_answer(stopped_);
  answer.lines.insert(answer.lines.end(), card.lines.begin(), card.lines.end());
  answer.moved = true;
  return answer;
}

}  // namespace deeptrace::cli
