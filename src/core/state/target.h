// A program in some state, whatever it comes from: a live process, a core file, a position in a recording.
//
// What is looked at (modules, frames, variables, memory) asks a target and its threads' views, and so works on all of
// them. What only some sources can do is a capability that a target hands out, or not: `edit`.
#pragma once

#include <cstdint>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "state/edit.h"
#include "state/view.h"

namespace deeptrace::state {

/// The kernel's number of a thread.
using ThreadId = std::int32_t;

/// A range of addresses that is backed by memory.
struct Mapping {
  std::uint64_t from = 0;
  std::uint64_t to = 0;  ///< after the last byte
  bool readable = false, writable = false, executable = false, shared = false;
  std::uint64_t offset = 0;  ///< in the file
  std::string path;          ///< of the file; or a name such as [stack]; empty for anonymous memory
};

/// Entries of the auxiliary vector that the kernel gives a program (getauxval(3), <elf.h>).
enum class Auxiliary : std::uint64_t {
  linker_base = 7,  ///< where the dynamic linker lies; 0 in static programs
  entry = 9,        ///< the program's entry
  vdso = 33,        ///< the library that the kernel maps (AT_SYSINFO_EHDR)
};

/// A signal that waits to be delivered (sigaction(2), siginfo_t).
struct PendingSignal {
  int number = 0;
  int code = 0;                      ///< si_code
  std::uint64_t fault_address = 0;   ///< what a fault concerns
  bool fault_address_known = false;  ///< false: it is no fault, or the kernel did not say it

  /// True when the instruction at hand brought it about, and not a call such as kill(2).
  [[nodiscard]] bool is_fault() const;
};
/// From the fields of a siginfo_t; the address counts in faults alone.
PendingSignal pending_signal(int number, int code, std::uint64_t address);

/// True for what stands in the result register of a system call that the kernel has broken off, and will begin again
/// (ERESTARTSYS to ERESTART_RESTARTBLOCK of <linux/errno.h>).
constexpr bool broken_off(std::int64_t result) { return result <= -512 && result >= -516; }

class Target {
 public:
  virtual ~Target() = default;

  /// In the order in which they were seen.
  [[nodiscard]] virtual std::vector<ThreadId> threads() const = 0;
  /// The state of a thread. The reference holds until the thread ends or the target moves.
  [[nodiscard]] virtual const StateView& view(ThreadId thread) const = 0;
  [[nodiscard]] virtual std::vector<Mapping> mappings() const = 0;
  /// Nothing where the vector has no such entry.
  [[nodiscard]] virtual std::optional<std::uint64_t> auxiliary(Auxiliary type) const = 0;
  /// The signal that a thread gets when it goes on.
  [[nodiscard]] virtual std::optional<PendingSignal> pending_signal(ThreadId thread) const = 0;
  /// Number of the system call that a thread stands in.
  [[nodiscard]] virtual std::optional<std::uint64_t> system_call(ThreadId thread) const = 0;

  /// A way to change a thread and the memory; null where nothing can be changed. It holds while the target stands
  /// still.
  [[nodiscard]] virtual std::unique_ptr<StateEdit> edit(ThreadId /*thread*/) { return nullptr; }
};

}  // namespace deeptrace::state
