#include "cli/line_editor.h"  // <cstdio> before readline's headers, which need it

#include <readline/history.h>
#include <readline/readline.h>

#include <algorithm>
#include <cstdlib>
#include <deque>

namespace deeptrace::cli {
namespace {

std::deque<char>& typed() {
  static std::deque<char> bytes;
  return bytes;
}

int next_byte(std::FILE* /*from*/) {
  if (typed().empty()) return EOF;
  const char byte = typed().front();
  typed().pop_front();
  return static_cast<unsigned char>(byte);
}

int bytes_wait() { return typed().empty() ? 0 : 1; }

}  // namespace

LineEditor::LineEditor() : nowhere_(std::fopen("/dev/null", "r+")) {
  rl_readline_name = "deeptrace";
  rl_instream = rl_outstream = nowhere_;
  rl_catch_signals = rl_catch_sigwinch = rl_change_environment = 0;
  rl_prep_term_function = nullptr;
  rl_deprep_term_function = nullptr;
  rl_redisplay_function = [] {};
  rl_getc_function = next_byte;
  rl_input_available_hook = bytes_wait;
  ::rl_callback_handler_install("", [](char* line) { std::free(line); });
  ::rl_variable_bind("bell-style", "none");
  ::rl_bind_keyseq("\\e[3~", rl_delete);
}

LineEditor::~LineEditor() {
  ::rl_callback_handler_remove();
  if (nowhere_ != nullptr) std::fclose(nowhere_);
}

void LineEditor::type(std::string_view bytes) {
  typed().insert(typed().end(), bytes.begin(), bytes.end());
  while (!typed().empty()) ::rl_callback_read_char();
}

void LineEditor::replace(std::size_t from, const std::string& text) {
  ::rl_begin_undo_group();
  ::rl_delete_text(static_cast<int>(from), rl_point);
  rl_point = static_cast<int>(from);
  ::rl_insert_text(text.c_str());
  ::rl_end_undo_group();
}

void LineEditor::clear() {
  ::rl_replace_line("", 1);
  rl_point = 0;
  ::using_history();
}

void LineEditor::remember(const std::string& line) {
  ::add_history(line.c_str());
  ::using_history();
}

std::string LineEditor::text() const { return {rl_line_buffer, static_cast<std::size_t>(rl_end)}; }

std::size_t LineEditor::cursor() const { return static_cast<std::size_t>(std::max(rl_point, 0)); }

}  // namespace deeptrace::cli
