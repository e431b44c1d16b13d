#include "report/card.h"

#include <fmt/format.h>

#include <algorithm>
#include <utility>

#include "abi/signal_names.h"
#include "base/path.h"
#include "isa/text.h"
#include "report/changes.h"
#include "report/frames.h"
#include "report/kernel_call.h"
#include "report/names.h"
#include "report/source_words.h"
#include "report/value.h"

namespace deeptrace::report {
namespace {

using look::Card;
using look::CodeLine;
using look::Stopped;
using Why = Stopped::Why;

void add_change(std::vector<std::string>& to, const Style& style, const ChangeWords& words) {
  const std::vector<std::string> values = now_and_was(style, words);
  to.push_back(fmt::format("  {} {:<24} {}", look(style, Role::changed, "~"), words.what, values.front()));
  if (values.size() > 1) to.push_back(fmt::format("    {:<24} {}", "", values.back()));
}

/// After a long way most registers are others: their names alone.
std::vector<std::string> changed_names(const Style& style, const state::Delta& delta, isa::Mode mode) {
  std::string names;
  for (const state::RegisterChange& one : delta.registers) names += fmt::format(" {}", name_of(one.reg, mode));
  for (const state::WideChange& one : delta.wide) names += fmt::format(" {}", name_of(one));
  return {
      fmt::format("  {} changed on the way:{}   (`regs` has their values)", look(style, Role::changed, "~"), names)};
}

}  // namespace

std::vector<std::string> why_lines(const Style& style, const Card& card) {
  const Stopped& stopped = card.stopped;
  const unsigned word = arch::machine_of(card.mode).word;
  std::vector<std::string> result;
  for (const std::string& note : stopped.notes)
    result.push_back(look(style, Role::attention, "note: " + printable(note)));
  for (const look::CardHit& hit : card.hits) {
    std::string text = fmt::format("h{} {}, hit {}", hit.halt, printable(hit.rule), hit.hit);
    if (hit.writer != 0) text += fmt::format("   by {} ({:#x})", shown_name(style, hit.writer_place), hit.writer);
    if (!hit.by.empty()) text += "   by " + printable(hit.by);
    if (hit.thrown) text += " " + value_words(style, *hit.thrown);
    result.push_back(look(style, Role::heading, text));
    if (hit.after) {
      const auto [was, now] = before_and_after(style, *hit.before, *hit.after);
      add_change(result, style, {printable(hit.what), now, was, {}});
    }
  }
  switch (stopped.why) {
    case Why::dead:
    case Why::signal: {
      std::string text = fmt::format("wrong: {} {} the program", abi::signal_name(stopped.number),
                                     stopped.why == Why::dead ? "ended" : "is about to end");
      if (stopped.number == 0) text = "note: the core file names no signal that ended the program";
      if (stopped.fault_address_known) text += fmt::format("; it concerns address {:#x}", stopped.fault_address);
      result.push_back(look(style, Role::broken, text));
      for (const look::Finding& finding : card.findings) {
        for (std::string& line : finding_lines(style, finding)) result.push_back(std::move(line));
      }
      break;
    }
    case Why::exited: result.push_back(fmt::format("the program ended with status {}", stopped.number)); break;
    case Why::killed:
      result.push_back(look(style, Role::broken,
                            fmt::format("wrong: the program was ended by {}", abi::signal_name(stopped.number))));
      break;
    case Why::attention: result.push_back(look(style, Role::attention, "note: interrupted")); break;
    case Why::waits:
      result.push_back(look(style, Role::attention, "note: the program waits for input: send TEXT"));
      break;
    case Why::let_go: result.push_back(look(style, Role::attention, "note: the program is let go")); break;
    case Why::replaced:
    case Why::enough: break;
    case Why::elsewhere: break;
    case Why::process_ended:
      result.push_back(look(style, Role::attention, "note: the process ended; another is looked at now"));
      break;
    case Why::thread_ended: result.push_back(look(style, Role::attention, "note: the thread ended")); break;
    case Why::arrived:
    case Why::halt: break;
  }
  for (const state::RegisterChange& one : stopped.not_restored) {
    result.push_back(look(
        style, Role::broken,
        fmt::format("wrong: the function gave {} back changed: {} before the call, {} now", name_of(one.reg, card.mode),
                    both_readings(style, one.before, word), both_readings(style, one.after, word))));
  }
  return result;
}

std::vector<std::string> code_lines(const Style& style, const std::vector<CodeLine>& code) {
  std::vector<std::string> result;
  std::size_t widest = 0;
  std::size_t places = 28;
  for (const CodeLine& line : code) widest = std::max(widest, line.text.size());
  if (style.wraps) {
    places = 0;
    for (const CodeLine& line : code) places = std::max(places, shown_name(style, line.place).size() + 1);
  }
  for (const CodeLine& line : code) {
    const std::string gutter = line.next ? "next" : line.halts;
    std::string address = fmt::format("{:#x}", line.address);
    if (line.next) address = look(style, Role::next, address);
    std::string text = fmt::format("{:>5}  {}  {:<{}} {:<{}}", gutter, address, shown_name(style, line.place), places,
                                   line.text, widest);
    if (!line.target.empty()) text += (style.utf8 ? "  \u2192 " : "  -> ") + shown_name(style, line.target);
    if (line.next && !line.halts.empty()) text += "   " + line.halts;
    while (text.back() == ' ') text.pop_back();
    result.push_back(std::move(text));
  }
  return result;
}

std::vector<std::string> change_lines(const Style& style, const state::Delta& delta, const Card& card) {
  std::vector<std::string> result;
  const Names names = [&](std::uint64_t value) {
    const auto known = card.names.find(value);
    return known != card.names.end() ? known->second : look::AddressName{};
  };
  for (const ChangeWords& words : register_words(style, delta, card.mode, names)) add_change(result, style, words);
  if (const ChangeWords flags = flag_words(delta); !flags.what.empty()) add_change(result, style, flags);
  for (const ChangeWords& words : wide_words(style, delta)) add_change(result, style, words);
  std::size_t shown = 0;
  for (const state::MemoryChange& one : delta.memory) {
    constexpr std::size_t kMost = 12;
    if (++shown > kMost) {
      result.push_back(fmt::format("  {} and {} more places in memory", look(style, Role::changed, "~"),
                                   delta.memory.size() - kMost));
      break;
    }
    const std::string name = shown <= card.written.size() ? card.written[shown - 1] : std::string();
    add_change(result, style, words_of(style, delta, one, name, card.mode, names));
  }
  return result;
}

std::vector<std::string> call_lines(const Style& style, const look::KernelCall& call) {
  std::vector<std::string> result = kernel_call_lines(style, call);
  for (std::string& line : result) line.insert(0, &line == &result.front() ? "  system call " : "    ");
  return result;
}

std::vector<std::string> foresight_lines(const Style& style, const look::Foresight& next) {
  std::vector<std::string> result;
  result.push_back("  next " + printable(next.sentence));
  for (const auto& operand : next.operands) {
    std::string text = fmt::format("       {:<24}", operand.text);
    if (operand.value) {
      text += " is " + reading_of(style, *operand.value, (operand.bits + 7) / 8, operand.points_to);
    } else if (operand.bits > 64) {
      text += fmt::format(" {} bits", operand.bits);
    } else if (operand.bits != 0) {
      text += " cannot be read";
    }
    if (operand.address) text += fmt::format(" at {:#x}", *operand.address);
    if (!operand.name.empty()) text += (style.utf8 ? " \u2192 " : " -> ") + shown_name(style, operand.name);
    result.push_back(std::move(text));
  }
  for (const auto& one : next.results)
    result.push_back(
        fmt::format("       {:<24} will be {}", one.text, reading_of(style, one.value, one.bits / 8, one.points_to)));
  if (!next.verdict.empty()) {
    const bool fault = next.verdict.starts_with("will fault");
    result.push_back("       " + look(style, fault ? Role::broken : Role::plain,
                                      (fault ? "wrong: " : "") + printable(next.verdict)));
  }
  if (next.call) result.push_back("       " + asked_words(style, *next.call));
  return result;
}

bool says_limits(const Card& card) {
  return !card.ended && card.limits_are_news && card.ran_through && card.changes.memory.empty() &&
         !card.stopped.at_start;
}

std::vector<std::string> card_lines(const Style& style, const Card& card, program::SourceText& sources,
                                    const std::vector<look::Followed>& followed) {
  std::vector<std::string> result = why_lines(style, card);
  if (card.ended) return result;
  std::string where = look(style, Role::heading, shown_place(style, card.place, card.inlined));
  if (card.line != 0) where += fmt::format("   {}:{}", printable(base_name(card.file)), card.line);
  if (!card.called_from.empty()) where += ", for " + shown_name(style, card.called_from);
  if (card.threads > 1) where += fmt::format("   thread {} of {}", card.thread, card.threads);
  result.push_back(std::move(where));
  if (card.line != 0 && sources.found(card.file))
    result.push_back(look(style, Role::source, source_line(sources, card.file, card.line)));
  const auto add = [&](std::vector<std::string> lines) {
    for (std::string& line : lines) result.push_back(std::move(line));
  };
  add(code_lines(style, card.code));
  for (const auto& [name, value] : card.results)
    result.push_back(fmt::format("  {} returned {}", printable(name), value_words(style, value)));
  constexpr std::size_t kShort = 6;
  const bool long_way = card.ran_through && card.changes.registers.size() + card.changes.wide.size() > kShort;
  for (const auto& call : card.calls) add(call_lines(style, *call));
  // What library functions left in vectors says little: names are enough.
  state::Delta in_full = card.changes, by_name;
  if (long_way) {
    std::swap(in_full, by_name);
  } else if (card.ran_through) {
    std::swap(in_full.wide, by_name.wide);
  }
  add(change_lines(style, in_full, card));
  if (!by_name.registers.empty() || !by_name.wide.empty()) add(changed_names(style, by_name, card.mode));
  if (says_limits(card))
    result.push_back(look(style, Role::faint, "  what the functions that ran wrote in memory was not followed"));
  for (const look::Followed& one : followed) {
    const std::string text = fmt::format("{:<24} {}", printable(one.text), value_words(style, one.value));
    result.push_back(fmt::format("  {} {}", one.changed ? look(style, Role::changed, "~") : " ",
                                 one.changed ? look(style, Role::changed, text) : text));
  }
  add(foresight_lines(style, card.next));
  return result;
}

}  // namespace deeptrace::report
