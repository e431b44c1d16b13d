// The conversation of the console: words in, lines out. The plain console, the full screen and plans speak it.
#pragma once

#include <map>
#include <memory>
#include <optional>
#include <span>
#include <string>
#include <string_view>
#include <vector>

#include "cli/program_output.h"
#include "control/process_tree.h"
#include "inspect/frames.h"
#include "look/subject.h"
#include "program/source_text.h"
#include "report/output.h"

namespace deeptrace::cli {

struct Answer {
  std::vector<std::string> lines;
  bool failed = false;  ///< the words were not understood or could not be done
  bool quit = false;
  bool moved = false;  ///< the program ran
};

/// True for a line that moves the program: an empty line repeats it.
bool is_motion(std::string_view line);

/// A word of the console as the help has it.
struct WordHelp {
  std::string_view name, arguments, what;
};
std::vector<WordHelp> console_words();

class Talk {
 public:
  /// `output` catches what the program writes; may be null.
  Talk(control::ControlOptions options, report::Style style, program::SourceText& sources, ProgramOutput* output);
  /// About what cannot be moved from here: the program of a plan, a core file. `stopped` says why it stands still.
  Talk(look::Subject& subject, const look::Stopped& stopped, report::Style style, program::SourceText& sources);
  ~Talk();

  /// Starts or attaches, and goes to the beginning of `main`. Errors as those of Control.
  std::optional<Error> begin();
  /// What is shown at the beginning.
  Answer first();
  Answer say(std::string_view line);
  /// The same without a trace in what `save` writes.
  Answer quietly(std::string_view line);
  /// "tidelog main+0x12: "
  std::string prompt();
  [[nodiscard]] bool has_program() const { return subject_ != nullptr && !subject_->ended(); }

  // For other views of the same state.
  [[nodiscard]] look::Subject& subject() { return *subject_; }
  /// Null where nothing can be moved.
  [[nodiscard]] const control::Control* control() const { return control_; }
  [[nodiscard]] const look::Stopped& stopped() const { return stopped_; }
  [[nodiscard]] std::size_t frame() const { return frame_; }
  [[nodiscard]] const std::vector<inspect::Frame>& frames();
  [[nodiscard]] const std::vector<look::Followed>& followed() const { return followed_; }
  [[nodiscard]] const std::string& program_wrote() const { return program_wrote_; }
  void style(report::Style style) { style_ = style; }
  [[nodiscard]] const report::Style& style() const { return style_; }
  /// Cards are not added to the answers of motions: another view shows the state.
  void without_cards() { cards_ = false; }
  /// What can stand past the last blank of a line: words, functions, variables.
  std::vector<std::string> completions(const std::string& start, bool first_word);

  /// Evaluates an expression in the chosen frame.
  Result<inspect::Value> value(std::string_view expression);

 private:
  using Arguments = std::string_view;
  /// What a word needs, and so where it can be said.
  enum class Use : std::uint8_t {
    always,          ///< nothing
    looks,           ///< a program in some state
    looks_in_plans,  ///< likewise; `show` in a plan says it too
    moves,           ///< a program that can run; an empty line says it again
    controls,        ///< a program that can run
    controls_ended,  ///< likewise, though it may have ended
  };
  struct Word {
    std::string_view name, arguments, what, example;
    Use use;
    Answer (Talk::*handler)(Arguments rest);
  };
  static std::span<const Word> words();
  static const Word* word_named(std::string_view name);
  friend bool is_motion(std::string_view line);
  friend std::vector<WordHelp> console_words();
  friend std::vector<std::string> looked_at(look::Subject& subject, const look::Stopped& stopped, report::Style style,
                                            program::SourceText& sources, const std::string& words);

  Answer answer_to(std::string_view line);
  Answer move(control::Motion motion);
  Answer move_times(control::Motion::Kind kind, Arguments count);
  Answer stopped_answer(const look::Stopped& stopped);
  // One for each word.
  Answer into(Arguments rest);
  Answer over(Arguments rest);
  Answer line(Arguments rest);
  Answer out(Arguments rest);
  Answer to(Arguments rest);
  Answer past(Arguments rest);
  Answer resume(Arguments rest);
  Answer halt(Arguments rest);
  Answer halts(Arguments rest);
  Answer remove(Arguments rest);
  Answer regs(Arguments rest);
  Answer flags(Arguments rest);
  Answer show(Arguments rest);
  Answer memory(Arguments rest);
  Answer find(Arguments rest);
  Answer stack(Arguments rest);
  Answer frame_list(Arguments rest);
  Answer in(Arguments rest);
  Answer threads(Arguments rest);
  Answer processes(Arguments rest);
  Answer modules(Arguments rest);
  Answer type(Arguments rest);
  Answer vars(Arguments rest);
  Answer code(Arguments rest);
  Answer why(Arguments rest);
  Answer follow(Arguments rest);
  Answer unfollow(Arguments rest);
  Answer mark(Arguments rest);
  Answer set(Arguments rest);
  Answer answer_call(Arguments rest);
  Answer send(Arguments rest);
  Answer others(Arguments rest);
  Answer save(Arguments rest);
  Answer write(Arguments rest);
  Answer restart(Arguments rest);
  Answer detach(Arguments rest);
  Answer help(Arguments rest);
  Answer quit(Arguments rest);

  Answer all_registers();
  Answer several_registers(Arguments rest);
  std::string elsewhere(const inspect::Expression& expression);
  Result<look::Stopped> go(const control::Motion& motion);

  look::Scope scope();
  /// `number`: what `frames` calls it.
  void choose_frame(std::size_t frame, std::optional<unsigned> depth, std::size_t number = 0);
  Result<inspect::Expression> parse(std::string_view text, look::Scope& scope);
  void look_at(control::Control& control);
  void update_followed();
  std::vector<std::string> output_lines();
  [[nodiscard]] Answer fail(std::string message) const;
  std::optional<Error> run_to_main();

  control::ControlOptions options_;
  bool controls_ = false;  ///< it starts its own program, which can run
  report::Style style_;
  program::SourceText& sources_;
  ProgramOutput* output_;
  std::unique_ptr<control::ProcessTree> own_;
  control::Control* control_ = nullptr;  ///< of our own; null where nothing can be moved
  look::Subject* subject_ = nullptr;     ///< what is looked at: that, or somebody else's
  look::Stopped stopped_;
  std::size_t shown_frame_ = 0;    ///< the number that `frames` gives the chosen one
  std::string lost_;               ///< why frames() end before the outermost function; empty where they do not
  std::size_t frame_ = 0;          ///< of frames(), which has none of inlined calls
  std::optional<unsigned> depth_;  ///< of the inlined call in it whose frame was chosen; nothing: the innermost
  std::vector<inspect::Frame> frames_;
  bool frames_known_ = false;
  bool limits_said_ = false;  ///< of what is followed
  bool cards_ = true;
  std::vector<look::Followed> followed_;
  std::map<std::string, std::vector<std::uint8_t>> seen_;  ///< memory as it was shown last, by what was asked for
  struct Mark {
    state::RegisterSet registers;
    std::map<std::uint64_t, std::vector<std::uint8_t>> memory;
  };
  std::map<std::string, Mark> marks_;
  std::vector<std::string> transcript_;
  std::string program_wrote_;
};

/// What a word of the console that only looks, or an expression, shows at a stop.
std::vector<std::string> looked_at(look::Subject& subject, const look::Stopped& stopped, report::Style style,
                                   program::SourceText& sources, const std::string& words);

}  // namespace deeptrace::cli
