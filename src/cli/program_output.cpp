#include "cli/program_output.h"

#include <fcntl.h>
#include <poll.h>
#include <sys/ioctl.h>
#include <termios.h>
#include <unistd.h>

#include <cerrno>
#include <csignal>
#include <cstdlib>
#include <cstring>

namespace deeptrace::cli {

Result<std::unique_ptr<ProgramOutput>> ProgramOutput::open(const std::string& choice, bool text_on_terminal) {
  std::unique_ptr<ProgramOutput> output(new ProgramOutput);
  const std::string kind = !choice.empty() ? choice : text_on_terminal ? "terminal" : "stderr";
  if (kind == "stderr") {
    output->descriptor_ = FileDescriptor(::fcntl(STDERR_FILENO, F_DUPFD_CLOEXEC, 3));
    return output;
  }
  if (kind != "terminal") {
    output->descriptor_ = FileDescriptor(::open(kind.c_str(), O_WRONLY | O_CREAT | O_TRUNC | O_CLOEXEC, 0666));
    if (!output->descriptor_) return Error{Fault::usage, "--program-output " + kind + ": " + std::strerror(errno)};
    return output;
  }
  output->master_ = FileDescriptor(::posix_openpt(O_RDWR | O_NOCTTY | O_CLOEXEC));
  output->wake_ = Pipe::make();
  const int master = output->master_.get();
  if (output->wake_.reading && ::grantpt(master) == 0 && ::unlockpt(master) == 0)
    output->descriptor_ = FileDescriptor(::open(::ptsname(master), O_RDWR | O_NOCTTY | O_CLOEXEC));
  if (!output->descriptor_)
    return Error{Fault::program, std::string("a pseudo-terminal for the program's output: ") + std::strerror(errno)};
  termios settings{};
  ::tcgetattr(output->descriptor_.get(), &settings);
  settings.c_oflag &= ~static_cast<tcflag_t>(OPOST);  // line ends as the program writes them
  settings.c_lflag &= ~static_cast<tcflag_t>(ECHO);
  ::tcsetattr(output->descriptor_.get(), TCSANOW, &settings);
  winsize size{};
  if (::ioctl(STDOUT_FILENO, TIOCGWINSZ, &size) == 0) ::ioctl(output->descriptor_.get(), TIOCSWINSZ, &size);
  ::fcntl(output->master_.get(), F_SETFL, O_NONBLOCK);
  output->reader_ = std::thread([raw = output.get()] {
    pollfd places[2] = {{raw->master_.get(), POLLIN, 0}, {raw->wake_.reading.get(), POLLIN, 0}};
    while (::poll(places, 2, -1) >= 0 || errno == EINTR) {
      if (places[1].revents != 0) return;
      raw->drain();
    }
  });
  return output;
}

void outlive_broken_pipe() {
  struct sigaction action {};
  ::sigaction(SIGPIPE, nullptr, &action);
  if (action.sa_handler == SIG_IGN) return;
  action.sa_handler = [](int) {};
  ::sigaction(SIGPIPE, &action, nullptr);
}

ProgramOutput::~ProgramOutput() {
  if (reader_.joinable()) {
    (void)!::write(wake_.writing.get(), "", 1);
    reader_.join();
  }
}

Result<std::unique_ptr<ProgramOutput>> ProgramOutput::open_terminal() {
  Result<std::unique_ptr<ProgramOutput>> output = open("terminal", true);
  if (output) (*output)->sends_ = true;
  return output;
}

bool ProgramOutput::send(const std::string& text) {
  return ::write(master_.get(), text.data(), text.size()) == static_cast<ssize_t>(text.size());
}

void ProgramOutput::drain() {
  const std::lock_guard lock(mutex_);
  char buffer[4096];
  for (;;) {
    const ssize_t size = ::read(master_.get(), buffer, sizeof buffer);
    if (size <= 0) return;
    text_.append(buffer, static_cast<std::size_t>(size));
  }
}

std::string ProgramOutput::take() {
  if (!caught()) return {};
  drain();
  const std::lock_guard lock(mutex_);
  return std::exchange(text_, {});
}

}  // namespace deeptrace::cli
