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
#include "report/names.h"
#include "report/source_words.h"
#include "report/value.h"

namespace deeptrace::cli {
namespace {

using control::Motion;
using look::Stopped;
using report::both_readings;
using report::look;
using report::printable;
using report::Role;
using state::Reg;

}  // namespace

std::span<const Talk::Word> Talk::words() {
  static constexpr Word kWords[] = {
      {"into", "[N]", "one instruction, entering calls", "into 5", Use::moves, &Talk::into},
      {"over", "[N]", "one instruction, running called functions through", "over", Use::moves, &Talk::over},
      {"line", "[N]", "to the next source line", "line", Use::moves, &Talk::line},
      {"line into", "[N]", "to the next source line, in a called function too", "line into", Use::moves, &Talk::line},
      {"out", "", "to the caller, with the result", "out", Use::moves, &Talk::out},
      {"to", "LOCATION", "on to a place, or to the caller if that comes first", "to levels.c:34", Use::moves,
       &Talk::to},
      {"past loop", "", "out of the loop that one stands in", "past loop", Use::moves, &Talk::past},
      {"resume", "", "on to the next stop point, or the end", "resume", Use::moves, &Talk::resume},
      {"halt", "at LOCATION | on EVENT ...",
       "a stop point (breakpoint); on write, access or change: a data stop (watchpoint)",
       "halt at levels.c:34 when i == 3", Use::controls, &Talk::halt},
      {"halts", "", "the stop points", "halts", Use::controls_ended, &Talk::halts},
      {"remove", "hN | all", "takes stop points away", "remove h2", Use::controls, &Talk::remove},
      {"regs", "[all | REGISTER ...] [since MARK]", "the registers", "regs al ah", Use::looks_in_plans, &Talk::regs},
      {"flags", "", "the flags, and which conditions hold", "flags", Use::looks_in_plans, &Talk::flags},
      {"show", "EXPR [as SHAPE [N]]", "a value", "show log->readings[i]", Use::looks, &Talk::show},
      {"memory", "EXPR [as SHAPE [N]] [since MARK]", "memory by bytes, or as u32, string, code, bits, fields ...",
       "memory rsp as u64", Use::looks_in_plans, &Talk::memory},
      {"find", "VALUE in FROM..TO", "where a value or string lies",
       "find \"Grayling\" in 0x555555556000..0x555555557000", Use::looks, &Talk::find},
      {"stack", "[N]", "the stack's words and what they are", "stack 16", Use::looks_in_plans, &Talk::stack},
      {"frames", "", "the call stack", "frames", Use::looks_in_plans, &Talk::frame_list},
      {"in", "frame N | thread N | process N", "looks at another frame, thread or process", "in frame 1", Use::looks,
       &Talk::in},
      {"threads", "", "the threads and where they stand", "threads", Use::looks_in_plans, &Talk::threads},
      {"processes", "", "the processes that are traced (--children trace)", "processes", Use::controls,
       &Talk::processes},
      {"modules", "", "the program and its libraries", "modules", Use::looks_in_plans, &Talk::modules},
      {"type", "NAME", "a type's members", "type struct reading", Use::looks, &Talk::type},
      {"vars", "", "parameters and local variables", "vars", Use::looks_in_plans, &Talk::vars},
      {"code", "[LOCATION]", "the instructions there", "code level_sum", Use::looks_in_plans, &Talk::code},
      {"why", "", "what the last motion did, and what the next instruction will do", "why", Use::looks_in_plans,
       &Talk::why},
      {"follow", "EXPR, ...", "shows values at every stop", "follow log->count", Use::looks, &Talk::follow},
      {"unfollow", "EXPR | all", "no longer", "unfollow all", Use::looks, &Talk::unfollow},
      {"mark", "NAME", "remembers registers and memory, for `since`", "mark a", Use::looks, &Talk::mark},
      {"set", "EXPR = EXPR", "changes a register or memory", "set rax = 5", Use::controls, &Talk::set},
      {"answer", "ERROR | NUMBER", "the system call at hand gives that, and is not made", "answer ECONNREFUSED",
       Use::controls, &Talk::answer_call},
      {"send", "[TEXT]", "gives the program a line of input; alone, the end of input", "send 12:00 1685", Use::controls,
       &Talk::send},
      {"others", "hold | run | usual", "what other threads do during motions", "others hold", Use::controls,
       &Talk::others},
      {"save", "DIR", "writes down what was seen", "save seen", Use::always, &Talk::save},
      {"write", "core FILE", "a core file of the program as it stands", "write core seen.core", Use::looks,
       &Talk::write},
      {"restart", "", "starts the program anew; stop points stay", "restart", Use::controls_ended, &Talk::restart},
      {"detach", "", "lets the program go on by itself", "detach", Use::controls, &Talk::detach},
      {"help", "[WORD]", "this list, or one word with an example", "help memory", Use::always, &Talk::help},
      {"quit", "", "ends; a launched program ends too", "quit", Use::always, &Talk::quit},
  };
  return kWords;
}

std::vector<WordHelp> console_words() {
  std::vector<WordHelp> result;
  for (const Talk::Word& one : Talk::words()) result.push_back({one.name, one.arguments, one.what});
  return result;
}

const Talk::Word* Talk::word_named(std::string_view name) {
  const auto found =
      std::ranges::find_if(words(), [&](const Word& one) { return one.name.substr(0, one.name.find(' ')) == name; });
  return found != words().end() ? &*found : nullptr;
}

bool is_motion(std::string_view line) {
  const Talk::Word* word = Talk::word_named(take_word(line));
  return word != nullptr && word->use == Talk::Use::moves;
}

Talk::Talk(control::ControlOptions options, report::Style style, program::SourceText& sources, ProgramOutput* output)
    : options_(std::move(options)), controls_(true), style_(style), sources_(sources), output_(output) {}
Talk::Talk(look::Subject& subject, const look::Stopped& stopped, report::Style style, program::SourceText& sources)
    : style_(style), sources_(sources), output_(nullptr), subject_(&subject), stopped_(stopped) {}
Talk::~Talk() = default;

std::vector<std::string> looked_at(look::Subject& subject, const look::Stopped& stopped, report::Style style,
                                   program::SourceText& sources, const std::string& words) {
  Talk talk(subject, stopped, style, sources);
  std::string_view rest = words;
  const Talk::Word* word = Talk::word_named(take_word(rest));
  const bool looks = word != nullptr && word->use == Talk::Use::looks_in_plans;
  return (looks ? (talk.*word->handler)(rest) : talk.show(words)).lines;
}

Answer Talk::fail(std::string message) const {
  Answer answer;
  answer.failed = true;
  answer.lines.push_back(look(style_, Role::broken, "wrong: " + printable(message)));
  return answer;
}

// ---- the program ----------------------------------------------------------------------------------------------------

std::optional<Error> Talk::begin() {
  Result<std::unique_ptr<control::ProcessTree>> started = control::ProcessTree::start(options_);
  if (!started) return started.error();
  own_ = std::move(*started);
  look_at(own_->current());
  stopped_ = {};
  stopped_.at_start = true;
  frames_known_ = false;
  choose_frame(0, std::nullopt);
  return options_.attach == 0 ? run_to_main() : std::nullopt;
}

void Talk::look_at(control::Control& control) {
  control_ = &control;
  subject_ = &control;
}

/// A person wants to see the program's own beginning, not the start-up code before it.
std::optional<Error> Talk::run_to_main() {
  const program::Program& program = *subject_->modules().main().program;
  if (program.functions_named("main").empty()) return std::nullopt;
  const Result<Stopped> stopped = go({Motion::Kind::to, "main", 1});
  if (!stopped) return std::nullopt;
  stopped_ = *stopped;
  stopped_.at_start = stopped_.why == Stopped::Why::arrived;
  return std::nullopt;
}

std::string Talk::prompt() {
  if (subject_ == nullptr) return "no program: ";
  const std::string name = base_name(subject_->path());
  if (subject_->ended()) return printable(name) + " (ended): ";
  const look::Where where =
      look::where_at(subject_->modules(), subject_->view().registers()[state::Reg::rip],
                     frame_ == 0 && depth_ ? std::optional(look::Level{*depth_, {}, 0}) : std::nullopt);
  std::string text = printable(name) + " " + report::shown_place(style_, where.place, where.inlined);
  if (own_ && own_->has_children()) text += fmt::format(" process {}", own_->number());
  if (frame_ != 0) text += fmt::format(" frame {}", shown_frame_);
  if (subject_->target().threads().size() > 1)
    text += fmt::format(" thread {}", subject_->number_of(subject_->thread()));
  return text + ": ";
}

const std::vector<inspect::Frame>& Talk::frames() {
  constexpr std::size_t kMostFrames = 10000;
  if (!frames_known_) {
    lost_.clear();
    frames_ = look::frames_of(subject_->modules(), subject_->view(), kMostFrames, &lost_);
    frames_known_ = true;
  }
  return frames_;
}

void Talk::choose_frame(std::size_t frame, std::optional<unsigned> depth, std::size_t number) {
  frame_ = frame;
  shown_frame_ = number;
  depth_ = depth;
}

look::Scope Talk::scope() {
  const auto& all = frames();
  look::Scope result(subject_->modules(), subject_->view(), all[std::min(frame_, all.size() - 1)]);
  result.at_depth(depth_);
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
  for (look::Followed& one : followed_) {
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
  choose_frame(0, stopped.level ? std::optional(stopped.level->depth) : std::nullopt);
  frames_known_ = false;
  if (subject_->ended() && output_ != nullptr) std::this_thread::sleep_for(std::chrono::milliseconds(20));
  answer.lines = output_lines();
  if (!subject_->ended()) update_followed();
  look::Card card = look::card_of(*subject_, stopped_);
  card.limits_are_news = !limits_said_;
  limits_said_ |= cards_ && report::says_limits(card);
  const std::vector<std::string> lines =
      cards_ ? report::card_lines(style_, card, sources_, followed_) : report::why_lines(style_, card);
  answer.lines.insert(answer.lines.end(), lines.begin(), lines.end());
  return answer;
}

Result<Stopped> Talk::go(const Motion& motion) {
  Result<Stopped> stopped = own_->go(motion);
  look_at(own_->current());
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
  Answer answer = answer_to(line);
  for (const std::string& file : damaged_files())
    answer.lines.push_back(
        look(style_, Role::broken,
             "wrong: " + report::printable(file) + " was made shorter while it was read: restart the console"));
  transcript_.insert(transcript_.end(), answer.lines.begin(), answer.lines.end());
  return answer;
}

Answer Talk::answer_to(std::string_view line) {
  std::string_view rest = line;
  const std::string_view name = take_word(rest);
  const Word* word = word_named(name);
  if (word == nullptr) {
    std::set<std::string> names;
    for (const Word& one : words()) names.insert(std::string(one.name));
    return fail(fmt::format("{}: no such word; `help` lists them{}", name, similar_words(similar_names(names, name))));
  }
  const bool controls = word->use == Use::moves || word->use == Use::controls || word->use == Use::controls_ended;
  if (controls && !controls_) {
    return fail(fmt::format("{}: a core file {}", name,
                            word->use == Use::moves ? "cannot run: it is what the program left"
                                                    : "can only be looked at: it is what the program left"));
  }
  if (word->use != Use::always && word->use != Use::controls_ended && !has_program())
    return fail("the program has ended; `restart` starts it anew");
  return (this->*word->handler)(rest);
}

Answer Talk::move_times(Motion::Kind kind, Arguments count) {
  const auto times = count.empty() ? std::optional<std::uint64_t>(1) : number_in(count);
  if (!times || *times == 0) return fail(fmt::format("{}: is a number of times, from 1 up", count));
  return move({kind, {}, *times});
}

Answer Talk::into(Arguments rest) { return move_times(Motion::Kind::into, rest); }
Answer Talk::over(Arguments rest) { return move_times(Motion::Kind::over, rest); }
Answer Talk::line(Arguments rest) {
  Arguments count = rest;
  if (take_word(count) == "into") return move_times(Motion::Kind::line_into, count);
  return move_times(Motion::Kind::line, rest);
}
Answer Talk::out(Arguments /*rest*/) { return move({Motion::Kind::out, {}, 1}); }
Answer Talk::to(Arguments rest) {
  return rest.empty() ? fail("to: a location is needed, such as levels.c:34")
                      : move({Motion::Kind::to, std::string(rest), 1});
}
Answer Talk::past(Arguments rest) {
  return rest == "loop" ? move({Motion::Kind::past_loop, {}, 1}) : fail("the word is `past loop`");
}
Answer Talk::resume(Arguments /*rest*/) { return move({}); }

Answer Talk::quit(Arguments /*rest*/) {
  Answer answer;
  answer.quit = true;
  return answer;
}

Answer Talk::quietly(std::string_view line) {
  const std::size_t kept = transcript_.size();
  Answer answer = say(line);
  transcript_.resize(kept);
  return answer;
}

Answer Talk::help(Arguments rest) {
  Answer answer;
  for (const Word& one : words()) {
    const std::string usage = fmt::format("{} {}", one.name, one.arguments);
    if (rest.empty()) {
      answer.lines.push_back(fmt::format("  {:<40} {}", usage, one.what));
    } else if (one.name == rest || one.name.substr(0, one.name.find(' ')) == rest) {
      answer.lines.push_back(fmt::format("  {:<40} {}", usage, one.what));
      answer.lines.push_back(fmt::format("      for example: {}", one.example));
      if (one.name == "halt") {
        for (const control::HaltKind& kind : control::kHaltKinds)
          answer.lines.push_back(
              fmt::format("      halt {}{}{}", kind.words, kind.subject.empty() ? "" : " ", kind.subject));
        answer.lines.push_back(
            "      after it any of: from hit N, every N, when EXPR, for thread N, for all threads, once, later");
      }
      const bool memory = one.name == "memory";
      if (memory || one.name == "show")
        answer.lines.push_back(fmt::format("      shapes: {}{}; N of them", inspect::shape_names(),
                                           memory ? ", and code, bits, fields" : ""));
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
  for (const Word& one : words()) {
    if (first_word) add(one.name);
  }
  if (!first_word && subject_ != nullptr) {
    for (const char* word : {"at", "on", "write", "access", "change", "return", "syscall", "signal", "when", "once",
                             "later", "frame", "thread", "process"})
      add(word);
    const program::Program& program = *subject_->modules().main().program;
    for (const program::Function& function : program.functions()) {
      if (function.origin == program::Function::Origin::symbol)
        add(function.name.str().substr(0, function.name.str().find('(')));
    }
    if (has_program()) {
      look::Scope here = scope();
      for (const look::Scope::Listed& listed : here.locals()) {
        if (listed.here) add(listed.name);
      }
    }
  }
  return {found.begin(), found.end()};
}

}  // namespace deeptrace::cli
