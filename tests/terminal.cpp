#include "terminal.h"

#include <fcntl.h>
#include <pty.h>
#include <sys/wait.h>
#include <termios.h>
#include <unistd.h>

namespace deeptrace::tests {
namespace {

[[noreturn]] void become(const std::vector<std::string>& words, const Terminal& terminal) {
  const std::string input = terminal.input.empty() ? "/dev/null" : terminal.input.string();
  ::dup2(::open(input.c_str(), O_RDONLY), STDIN_FILENO);
  if (!terminal.folder.empty() && ::chdir(terminal.folder.c_str()) != 0) ::_exit(126);
  std::vector<char*> arguments;
  for (const std::string& word : words) arguments.push_back(const_cast<char*>(word.c_str()));
  arguments.push_back(nullptr);
  std::string locale = terminal.utf8 ? "LC_ALL=C.UTF-8" : "LC_ALL=C", kind = "TERM=xterm", path = "PATH=/usr/bin:/bin";
  char* environment[] = {locale.data(), kind.data(), path.data(), nullptr};
  ::execve(arguments[0], arguments.data(), environment);
  ::_exit(127);
}

}  // namespace

Outcome on_terminal(const std::vector<std::string>& words, const Terminal& terminal) {
  winsize size{.ws_row = 24, .ws_col = terminal.columns, .ws_xpixel = 0, .ws_ypixel = 0};
  termios settings{};
  ::cfmakeraw(&settings);
  int master = -1;
  const pid_t child = ::forkpty(&master, nullptr, &settings, &size);
  if (child == 0) become(words, terminal);
  Outcome outcome;
  char buffer[4096];
  // The kernel answers with EIO when the other side is closed.
  for (ssize_t got = 0; (got = ::read(master, buffer, sizeof buffer)) > 0;)
    outcome.out.append(buffer, static_cast<std::size_t>(got));
  ::close(master);
  int status = 0;
  ::waitpid(child, &status, 0);
  outcome.status = WIFEXITED(status) ? WEXITSTATUS(status) : 128 + WTERMSIG(status);
  return outcome;
}

std::string without_colours(const std::string& text) {
  std::string result;
  for (std::size_t i = 0; i < text.size(); ++i) {
    if (text[i] != '\x1b') {
      result += text[i];
      continue;
    }
    while (i < text.size() && text[i] != 'm') ++i;
  }
  return result;
}

}  // namespace deeptrace::tests
