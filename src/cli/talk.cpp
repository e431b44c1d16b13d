#include "cli/talk.h"

#include <fmt/format.h>

#include <algorithm>
#include <chrono>
#include <set>
#include <thread>

#include "base/mapped_file.h"
#include "base/number.h"
#include "base/path.h"
#include "base/similar_names.h"
#include "cli/talk_text.h"
#include "look/rows.h"
#include "report/card.h"
#include "report/source_words.h"
#include "report/value.h"

namespace deeptrace::cli {
namespace {

using report::both_readings;
using report::look;
using report::printable;
using report::Role;
using session::Motion;
using session::Stopped;
using state::Reg;

constexpr TalkWord kWords[] = {
    {"into", "[N]", "one instruction, entering calls", "into 5"},
    {"over", "[N]", "one instruction, running called functions through", "over"},
    {"line", "[N]", "to the next source line", "line"},
    {"line into", "[N]", "to the next source line, in a called function too", "line into"},
    {"out", "", "to the caller, with the result", "out"},
    {"to", "LOCATION", "on to a place, or to the caller if that comes first", "to levels.c:34"},
    {"past loop", "", "out of the loop that one stands in", "past loop"},
    {"resume", "", "on to the next stop point, or the end", "resume"},
    {"halt", "at LOCATION | on EVENT ...",
     "a stop point (breakpoint); on write, access or change: a data stop (watchpoint)",
     "halt at levels.c:34 when i == 3"},
    {"halts", "", "the stop points", "halts"},
    {"remove", "hN | all", "takes stop points away", "remove h2"},
    {"regs", "[all] [since MARK]", "the registers", "regs"},
    {"flags", "", "the flags, and which conditions hold", "flags"},
    {"show", "EXPR", "a value", "show log->readings[i]"},
    {"memory", "EXPR [as SHAPE] [since MARK]", "memory by bytes, or as u32, string, code, bits, fields ...",
     "memory rsp as u64"},
    {"find", "VALUE in FROM..TO", "where a value or string lies",
     "find \"Grayling\" in 0x555555556000..0x555555557000"},
    {"stack", "[N]", "the stack's words and what they are", "stack 16"},
    {"frames", "", "the call stack", "frames"},
    {"in", "frame N | thread N | process N", "looks at another frame, thread or process", "in frame 1"},
    {"threads", "", "the threads and where they stand", "threads"},
    {"processes", "", "the processes that are traced (--children trace)", "processes"},
    {"modules", "", "the program and its libraries", "modules"},
    {"type", "NAME", "a type's members", "type struct reading"},
    {"vars", "", "parameters and local variables", "vars"},
    {"code", "[LOCATION]", "the instructions there", "code level_sum"},
    {"why", "", "what the last motion did, and what the next instruction will do", "why"},
    {"follow", "EXPR", "shows a value at every stop", "follow log->count"},
    {"unfollow", "EXPR | all", "no longer", "unfollow all"},
    {"mark", "NAME", "remembers registers and memory, for `since`", "mark a"},
    {"set", "EXPR = EXPR", "changes a register or memory", "set rax = 5"},
    {"send", "[TEXT]", "gives the program a line of input; alone, the end of input", "send 12:00 1685"},
    {"others", "hold | run | usual", "what other threads do during motions", "others hold"},
    {"save", "DIR", "writes down what was seen", "save seen"},
    {"restart", "", "starts the program anew; stop points stay", "restart"},
    {"detach", "", "lets the program go on by itself", "detach"},
    {"help", "[WORD]", "this list, or one word with an example", "help memory"},
    {"quit", "", "ends; a launched program ends too", "quit"},
};

}  // namespace

std::span<const TalkWord> talk_words() { return kWords; }

Talk::Talk(session::ControlOptions options, report::Style style, program::SourceText& sources, ProgramOutput* output)
    : options_(std::move(options)), style_(style), sources_(sources), output_(output) {}
Talk::Talk(session::Control& control, const session::Stopped& stopped, report::Style style,
           program::SourceText& sources)
    : style_(style), sources_(sources), output_(nullptr), control_(&control), stopped_(stopped) {}
Talk::~Talk() = default;

std::vector<std::string> looked_at(session::Control& control, const session::Stopped& stopped, report::Style style,
                                   program::SourceText& sources, const std::string& words) {
  Talk talk(control, stopped, style, sources);
  const std::string word = words.substr(0, words.find(' '));
  for (const char* looking :
       {"regs", "flags", "memory", "stack", "frames", "threads", "modules", "vars", "code", "why"}) {
    if (word == looking) return talk.say(words).lines;
  }
  return talk.say("show " + words).lines;
}

Answer Talk::fail(std::string message) const {
  Answer answer;
  answer.failed = true;
  answer.lines.push_back(look(style_, Role::broken, "wrong: " + printable(message)));
  return answer;
}

// ---- the program ----------------------------------------------------------------------------------------------------

std::optional<Error> Talk::begin() {
  Result<std::unique_ptr<session::ProcessTree>> started = session::ProcessTree::start(options_);
  if (!started) return started.error();
  own_ = std::move(*started);
  control_ = &own_->current();
  stopped_ = {};
  stopped_.at_start = true;
  frames_known_ = false;
  frame_ = 0;
  return options_.attach == 0 ? run_to_main() : std::nullopt;
}

/// A person wants to see the program's own beginning, not the start-up code before it.
std::optional<Error> Talk::run_to_main() {
  const program::Program& program = *control_->modules().main().program;
  if (program.functions_named("main").empty()) return std::nullopt;
  const Result<Stopped> stopped = go({Motion::Kind::to, "main", 1});
  if (!stopped) return std::nullopt;
  stopped_ = *stopped;
  stopped_.at_start = stopped_.why == Stopped::Why::arrived;
  return std::nullopt;
}

std::string Talk::prompt() {
  if (control_ == nullptr) return "no program: ";
  const std::string name = base_name(control_->path());
  if (control_->ended()) return name + " (ended): ";
  std::string text = name + " " + control_->place(control_->thread());
  if (own_ && own_->has_children()) text += fmt::format(" process {}", own_->number());
  if (frame_ != 0) text += fmt::format(" frame {}", frame_);
  if (control_->process().threads().size() > 1)
    text += fmt::format(" thread {}", control_->number_of(control_->thread()));
  return printable(text) + ": ";
}

const std::vector<inspect::Frame>& Talk::frames() {
  if (!frames_known_) {
    frames_ = look::frames_of(control_->modules(), control_->view());
    frames_known_ = true;
  }
  return frames_;
}

look::Scope Talk::scope() {
  const auto& all = frames();
  look::Scope result(control_->modules(), control_->view(), all[std::min(frame_, all.size() - 1)]);
  if (frame_ == 0 && stopped_.returned_from) result.returned_from(*stopped_.returned_from);
  return result;
}

Result<inspect::Expression> Talk::parse(std::string_view text, look::Scope& scope) {
  return inspect::Expression::parse(text, [&](std::string_view name) { return scope.type_named(name).has_value(); });
}

Result<inspect::Value> Talk::value(std::string_view text) {
  look::Scope here = scope();
  Result<inspect::Expression> expression = parse(text, here);
  if (!expression) return expression.error();
  Result<inspect::Datum> datum = expression->evaluate(here, false);
  if (!datum) return datum.error();
  return inspect::value_of(*datum, here);
}

void Talk::update_followed() {
  for (session::Followed& one : followed_) {
    const std::string before = report::value_words(style_, one.value);
    Result<inspect::Value> now = value(one.text);
    if (now) {
      one.value = std::move(*now);
    } else {
      one.value = {};
      one.value.text = now.error().message;
    }
    one.changed = report::value_words(style_, one.value) != before;
  }
}

std::vector<std::string> Talk::output_lines() {
  std::vector<std::string> lines;
  if (output_ == nullptr) return lines;
  const std::string text = output_->take();
  program_wrote_ += text;
  constexpr std::size_t kKept = 1 << 20;
  if (program_wrote_.size() > kKept) program_wrote_.erase(0, program_wrote_.size() - kKept);
  std::string_view rest = text;
  constexpr std::size_t kMost = 200;
  while (!rest.empty()) {
    const std::size_t end = std::min(rest.find('\n'), rest.size() - 1) + 1;
    if (lines.size() == kMost) {
      lines.push_back(look(style_, Role::faint, fmt::format("  and {} more lines", std::ranges::count(rest, '\n'))));
      break;
    }
    lines.push_back(
        fmt::format("  {} \"{}\"", look(style_, Role::faint, "program wrote"), report::escaped(rest.substr(0, end))));
    rest.remove_prefix(end);
  }
  return lines;
}

Answer Talk::stopped_answer(const Stopped& stopped) {
  Answer answer;
  answer.moved = true;
  stopped_ = stopped;
  frame_ = 0;
  frames_known_ = false;
  if (control_->ended() && output_ != nullptr) std::this_thread::sleep_for(std::chrono::milliseconds(20));
  answer.lines = output_lines();
  if (!control_->ended()) update_followed();
  const session::Card card = session::card_of(*control_, stopped_);
  const std::vector<std::string> lines =
      cards_ ? report::card_lines(style_, card, sources_, followed_) : report::why_lines(style_, card);
  answer.lines.insert(answer.lines.end(), lines.begin(), lines.end());
  return answer;
}

Result<Stopped> Talk::go(const Motion& motion) {
  Result<Stopped> stopped = own_->go(motion);
  control_ = &own_->current();
  return stopped;
}

Answer Talk::first() { return stopped_answer(stopped_); }

Answer Talk::move(Motion motion) {
  const Result<Stopped> stopped = go(motion);
  if (!stopped) return fail(stopped.error().message);
  return stopped_answer(*stopped);
}

// ---- words ----------------------------------------------------------------------------------------------------------

Answer Talk::say(std::string_view line) {
  line = trimmed(line);
  if (line.empty() || line.front() == '#') return {};
  transcript_.push_back(prompt() + std::string(line));
  std::string_view rest = line;
  std::string_view word = take_word(rest);
  Answer answer;
  const bool needs_program = word != "help" && word != "quit" && word != "save" && word != "restart" && word != "halts";
  const bool known =
      std::ranges::any_of(kWords, [&](const TalkWord& one) { return one.name.substr(0, one.name.find(' ')) == word; });
  if (!known) {
    std::set<std::string> names;
    for (const TalkWord& one : kWords) names.insert(std::string(one.name));
    answer =
        fail(fmt::format("{}: no such word; `help` lists them{}", word, similar_words(similar_names(names, word))));
  } else if (needs_program && !has_program()) {
    answer = fail("the program has ended; `restart` starts it anew");
  } else if (word == "quit") {
    answer.quit = true;
  } else if (word == "into" || word == "over" || word == "line") {
    Motion motion;
    motion.kind = word == "into" ? Motion::Kind::into : word == "over" ? Motion::Kind::over : Motion::Kind::line;
    if (word == "line" && (rest == "into" || rest.starts_with("into "))) {
      (void)take_word(rest);
      motion.kind = Motion::Kind::line_into;
    }
    const auto count = rest.empty() ? std::optional<std::uint64_t>(1) : number_in(rest);
    if (!count || *count == 0) {
      answer = fail(fmt::format("{}: is a number of times, from 1 up", rest));
    } else {
      motion.count = *count;
      answer = move(motion);
    }
  } else if (word == "out") {
    answer = move({Motion::Kind::out, {}, 1});
  } else if (word == "to") {
    answer = rest.empty() ? fail("to: a location is needed, such as levels.c:34")
                          : move({Motion::Kind::to, std::string(rest), 1});
  } else if (word == "past") {
    answer = rest == "loop" ? move({Motion::Kind::past_loop, {}, 1}) : fail("the word is `past loop`");
  } else if (word == "resume") {
    answer = move({});
  } else {
    answer = examine(word, rest);
  }
  for (const std::string& file : damaged_files())
    answer.lines.push_back(
        look(style_, Role::broken,
             "wrong: " + report::printable(file) + " was made shorter while it was read: restart the console"));
  transcript_.insert(transcript_.end(), answer.lines.begin(), answer.lines.end());
  return answer;
}

Answer Talk::quietly(std::string_view line) {
  const std::size_t kept = transcript_.size();
  Answer answer = say(line);
  transcript_.resize(kept);
  return answer;
}

Answer Talk::examine(std::string_view word, Arguments rest) {
  if (word == "halts") return halts();
  if (word == "regs") return regs(rest);
  if (word == "flags") return flags();
  if (word == "show") return show(rest);
  if (word == "memory") return memory(rest);
  if (word == "find") return find(rest);
  if (word == "stack") return stack(rest);
  if (word == "frames") return frame_list();
  if (word == "threads") return threads();
  if (word == "processes") return processes();
  if (word == "modules") return modules();
  if (word == "type") return type(rest);
  if (word == "vars") return vars();
  if (word == "code") return code(rest);
  if (word == "why") return why();
  if (word == "in") return in(rest);
  if (word == "help") return help(rest);
  return change(word, rest);
}

Answer Talk::change(std::string_view word, Arguments rest) {
  if (word == "halt") return halt(rest);
  if (word == "follow") return follow(rest);
  if (word == "mark") return mark(rest);
  if (word == "set") return set(rest);
  if (word == "send") return send(rest);
  if (word == "save") return save(rest);
  if (word == "restart") return restart();
  Answer answer;
  if (word == "unfollow") {
    const std::size_t before = followed_.size();
    std::erase_if(followed_, [&](const session::Followed& one) { return rest == "all" || one.text == rest; });
    return followed_.size() == before && before != 0 ? fail(fmt::format("{}: is not followed", rest)) : answer;
  }
  if (word == "others") {
    if (rest != "hold" && rest != "run" && rest != "usual") return fail("others: hold, run or usual");
    control_->others(rest == "usual" ? std::nullopt : std::optional(rest == "run"));
    return answer;
  }
  if (word == "remove") {
    if (rest == "all") {
      for (const session::HaltInfo& one : control_->halts()) control_->remove(one.number);
      return answer;
    }
    if (rest.starts_with('h')) rest.remove_prefix(1);
    const auto number = number_in(rest);
    if (!number || !control_->remove(static_cast<unsigned>(*number)))
      return fail(fmt::format("h{}: no stop point of that name; `halts` lists them", rest));
    return answer;
  }
  if (word == "detach") {
    own_ ? own_->detach() : control_->detach();
    answer.lines.push_back("the program goes on by itself");
    return answer;
  }
  return fail(fmt::format("{}: no such word", word));
}

Answer Talk::help(Arguments rest) {
  Answer answer;
  for (const TalkWord& one : kWords) {
    const std::string usage = fmt::format("{} {}", one.name, one.arguments);
    if (rest.empty()) {
      answer.lines.push_back(fmt::format("  {:<40} {}", usage, one.what));
    } else if (one.name == rest || one.name.substr(0, one.name.find(' ')) == rest) {
      answer.lines.push_back(fmt::format("  {:<40} {}", usage, one.what));
      answer.lines.push_back(fmt::format("      for example: {}", one.example));
      if (one.name == "halt") {
        answer.lines.push_back(
            "      events: on write EXPR, on access EXPR, on change EXPR, on return FUNCTION, on syscall NAME,");
        answer.lines.push_back("              on signal NAME, on throw, on load NAME");
        answer.lines.push_back("      behind it any of: from hit N, every N, when EXPR, for thread N, once");
      }
    }
  }
  if (rest.empty()) answer.lines.push_back("An empty line repeats a motion. `help WORD` gives an example.");
  if (answer.lines.empty()) return fail(fmt::format("{}: no such word", rest));
  return answer;
}

std::vector<std::string> Talk::completions(const std::string& start, bool first_word) {
  std::set<std::string> found;
  const auto add = [&](std::string_view name) {
    if (name.starts_with(start)) found.insert(std::string(name));
  };
  for (const TalkWord& one : kWords) {
    if (first_word) add(one.name);
  }
  if (!first_word && control_ != nullptr) {
    for (const char* word : {"at", "on", "write", "access", "change", "return", "syscall", "signal", "when", "once",
                             "frame", "thread", "process"})
      add(word);
    const program::Program& program = *control_->modules().main().program;
    for (const program::Function& function : program.functions()) {
      if (function.origin == program::Function::Origin::symbol)
        add(function.name.str().substr(0, function.name.str().find('(')));
    }
    if (has_program()) {
      look::Scope here = scope();
      for (const look::Scope::Listed& listed : here.locals()) add(listed.name);
    }
  }
  return {found.begin(), found.end()};
}

}  // namespace deeptrace::cli
