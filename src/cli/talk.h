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
#include "inspect/frames.h"
#include "program/source_text.h"
#include "report/output.h"
#include "session/card.h"
#include "session/process_tree.h"

namespace deeptrace::cli {

struct Answer {
  std::vector<std::string> lines;
  bool failed = false;  ///< the words were not understood or could not be done
  bool quit = false;
  bool moved = false;  ///< the program ran
};

/// One word of the console, for help and completion.
struct TalkWord {
  std::string_view name, arguments, what, example;
};
std::span<const TalkWord> talk_words();

class Talk {
 public:
  /// `output` catches what the program writes; may be null.
  Talk(session::ControlOptions options, report::Style style, program::SourceText& sources, ProgramOutput* output);
  /// About a program that somebody else moves.
  Talk(session::Control& control, const session::Stopped& stopped, report::Style style, program::SourceText& sources);
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
  [[nodiscard]] bool has_program() const { return control_ != nullptr && !control_->ended(); }

  // For other views of the same state.
  [[nodiscard]] session::Control& control() { return *control_; }
  [[nodiscard]] const session::Stopped& stopped() const { return stopped_; }
  [[nodiscard]] std::size_t frame() const { return frame_; }
  [[nodiscard]] const std::vector<inspect::Frame>& frames();
  [[nodiscard]] const std::vector<session::Followed>& followed() const { return followed_; }
  [[nodiscard]] const std::string& program_wrote() const { return program_wrote_; }
  void style(report::Style style) { style_ = style; }
  /// Cards are not added to the answers of motions: another view shows the state.
  void without_cards() { cards_ = false; }
  /// What can stand behind the last blank of a line: words, functions, variables.
  std::vector<std::string> completions(const std::string& start, bool first_word);

  /// Evaluates an expression in the chosen frame.
  Result<inspect::Value> value(std::string_view expression);

 private:
  using Arguments = std::string_view;
  Answer move(session::Motion motion);
  Answer stopped_answer(const session::Stopped& stopped);
  Answer examine(std::string_view word, Arguments rest);
  Answer change(std::string_view word, Arguments rest);
  Answer halt(Arguments rest);
  Answer halts();
  Answer regs(Arguments rest);
  Answer all_registers();
  Answer flags();
  Answer show(Arguments rest);
  Answer memory(Arguments rest);
  Answer find(Arguments rest);
  Answer stack(Arguments rest);
  Answer frame_list();
  Answer threads();
  Answer processes();
  Result<session::Stopped> go(const session::Motion& motion);
  Answer modules();
  Answer type(Arguments rest);
  Answer vars();
  Answer code(Arguments rest);
  Answer why();
  Answer follow(Arguments rest);
  Answer in(Arguments rest);
  Answer mark(Arguments rest);
  Answer set(Arguments rest);
  Answer send(Arguments rest);
  Answer save(Arguments rest);
  Answer restart();
  Answer help(Arguments rest);

  look::Scope scope();
  Result<inspect::Expression> parse(std::string_view text, look::Scope& scope);
  void update_followed();
  std::vector<std::string> output_lines();
  [[nodiscard]] Answer fail(std::string message) const;
  std::optional<Error> run_to_main();

  session::ControlOptions options_;
  report::Style style_;
  program::SourceText& sources_;
  ProgramOutput* output_;
  std::unique_ptr<session::ProcessTree> own_;
  session::Control* control_ = nullptr;  ///< ours, or somebody else's that is looked at
  session::Stopped stopped_;
  std::size_t frame_ = 0;
  std::vector<inspect::Frame> frames_;
  bool frames_known_ = false;
  bool cards_ = true;
  std::vector<session::Followed> followed_;
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
std::vector<std::string> looked_at(session::Control& control, const session::Stopped& stopped, report::Style style,
                                   program::SourceText& sources, const std::string& words);

}  // namespace deeptrace::cli
