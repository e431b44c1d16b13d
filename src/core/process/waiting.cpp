#include "process/waiting.h"

#include <poll.h>
#include <sys/uio.h>

#include <algorithm>
#include <fstream>
#include <span>
#include <sstream>
#include <string>

namespace deeptrace::process {
namespace {

enum class Way : std::uint8_t {
  read,    ///< of the descriptor in the first argument
  poll,    ///< an array of descriptors, and how many
  select,  ///< bits by descriptor in the second argument
  epoll,   ///< a set of descriptors that the kernel keeps
};

struct Call {
  std::uint64_t wide, narrow;  ///< numbers: x86-64 and i386 (arch/x86/entry/syscalls of the kernel)
  Way way;
};
constexpr std::uint64_t kNone = ~std::uint64_t(0);
constexpr Call kCalls[] = {
    {0, 3, Way::read},          // read
    {19, 145, Way::read},       // readv
    {7, 168, Way::poll},        // poll
    {271, 309, Way::poll},      // ppoll
    {kNone, 414, Way::poll},    // ppoll_time64
    {23, 142, Way::select},     // select, _newselect
    {270, 308, Way::select},    // pselect6
    {kNone, 413, Way::select},  // pselect6_time64
    {232, 256, Way::epoll},     // epoll_wait
    {281, 319, Way::epoll},     // epoll_pwait
    {441, 441, Way::epoll},     // epoll_pwait2
};

std::string task_path(pid_t process, pid_t thread, const char* name) {
  return "/proc/" + std::to_string(process) + "/task/" + std::to_string(thread) + "/" + name;
}

bool read_memory(pid_t process, std::uint64_t address, std::span<std::uint8_t> into) {
  const iovec local{into.data(), into.size()};
  const iovec remote{reinterpret_cast<void*>(address), into.size()};
  return ::process_vm_readv(process, &local, 1, &remote, 1, 0) == static_cast<ssize_t>(into.size());
}

bool polls_input(pid_t process, std::uint64_t array, std::uint64_t count) {
  constexpr std::uint64_t kMost = 1024;
  for (std::uint64_t i = 0; i < std::min(count, kMost); ++i) {
    pollfd one{};
    std::span<std::uint8_t> bytes(reinterpret_cast<std::uint8_t*>(&one), sizeof one);
    if (!read_memory(process, array + i * sizeof one, bytes)) return false;
    if (one.fd == 0 && (one.events & POLLIN) != 0) return true;
  }
  return false;
}

/// What a set of descriptors holds stands in the kernel's description of it: "tfd:        0 events: ...".
bool set_has_input(pid_t process, std::uint64_t descriptor) {
  std::ifstream file("/proc/" + std::to_string(process) + "/fdinfo/" + std::to_string(descriptor));
  std::string word;
  std::uint64_t target = 0;
  while (file >> word) {
    if (word == "tfd:" && file >> target && target == 0) return true;
  }
  return false;
}

}  // namespace

bool sleeps(pid_t process, pid_t thread) {
  std::ifstream file(task_path(process, thread, "stat"));
  const std::string text{std::istreambuf_iterator<char>(file), {}};
  const std::size_t name = text.rfind(')');  // of the program, which may hold anything
  return name != std::string::npos && text.compare(name, 3, ") S") == 0;
}

std::optional<WaitingCall> call_of(pid_t process, pid_t thread) {
  std::ifstream file(task_path(process, thread, "syscall"));
  WaitingCall call;
  if (!(file >> call.number)) return std::nullopt;  // "running", or -1 outside a call
  for (std::uint64_t& argument : call.arguments) file >> std::hex >> argument;
  return file ? std::optional(call) : std::nullopt;
}

bool awaits_input(pid_t process, const WaitingCall& call, isa::Mode mode) {
  const bool wide = mode == isa::Mode::bits64;
  const auto found =
      std::ranges::find_if(kCalls, [&](const Call& one) { return (wide ? one.wide : one.narrow) == call.number; });
  if (found == std::end(kCalls)) return false;
  switch (found->way) {
    case Way::read: return (call.arguments[0] & 0xffffffff) == 0;
    case Way::poll: return polls_input(process, call.arguments[0], call.arguments[1]);
    case Way::select: {
      std::uint8_t bits = 0;
      return call.arguments[0] > 0 && read_memory(process, call.arguments[1], {&bits, 1}) && (bits & 1) != 0;
    }
    case Way::epoll: return set_has_input(process, call.arguments[0]);
  }
  return false;
}

bool is_restart(const WaitingCall& call, isa::Mode mode) {
  return call.number == (mode == isa::Mode::bits64 ? 219U : 0U);
}

}  // namespace deeptrace::process
