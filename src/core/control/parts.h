// What the parts of Control share among themselves, and nobody else needs: its sites, stop points and goals.
#pragma once

#include <algorithm>
#include <cstdint>
#include <functional>
#include <map>
#include <memory>
#include <optional>
#include <vector>

#include "control/call_surroundings.h"
#include "control/control.h"
#include "look/kernel_call.h"
#include "state/registers.h"

namespace deeptrace::control {

/// System calls that its threads make step by step.
struct Control::Kernel {
  Kernel(const process::Process& process)
      : names(process.pid(), nullptr), calls(process, surroundings_of(process.pid(), names)) {}
  DescriptorNames names;
  look::KernelCalls calls;
};

struct Control::Site {
  unsigned count = 0;
  std::optional<unsigned> slot;  ///< a debug register; nothing: a stop byte
  bool lent = false;             ///< the register gives way to stop points that cannot do without
};

struct Control::Halt {
  unsigned number = 0;
  HaltRule rule;
  std::shared_ptr<const inspect::Expression> condition;
  std::uint64_t hits = 0;
  std::uint64_t came = 0, entered = 0;  ///< see HaltInfo
  bool waiting = false;                 ///< for a module that is not loaded
  bool spent = false;                   ///< `once`, and it was
  bool told_failure = false;
  std::vector<std::uint64_t> addresses;           ///< ascending
  std::map<std::uint64_t, look::Level> levels{};  ///< the frames to be looked at there, where that is not the innermost
  std::string found;                              ///< see look::StopPlaces
  // Data:
  std::uint64_t address = 0, size = 0;
  inspect::Datum watched;          ///< its type
  std::vector<std::uint8_t> last;  ///< what was there when it was looked at last
  /// Of a variable of each thread's own: the number of the thread whose copy it is, where one is watched (0: it is none
  /// such); whether each thread's copy is watched, `address` then being counted from the thread pointer, what they
  /// begin with and what was in them last.
  std::uint64_t own_thread = 0;
  bool of_thread = false;
  std::vector<std::uint8_t> fresh{};
  std::map<pid_t, std::vector<std::uint8_t>> lasts{};
  std::vector<std::uint8_t> mask;  ///< of a bit field: its bits; empty: all
  std::vector<unsigned> slots;
  bool exact = true;
  bool by_stepping = false;
  std::uint64_t frame_cfa = 0, frame_return = 0;  ///< of a local variable's frame
  pid_t frame_thread = 0;

  /// The frame to be looked at where a thread stands; null: the innermost.
  [[nodiscard]] const look::Level* level_at(std::uint64_t rip) const {
    const auto level = levels.find(rip);
    return level != levels.end() ? &level->second : nullptr;
  }
  [[nodiscard]] std::uint64_t address_in(const state::StateView& thread) const {
    return of_thread ? state::thread_pointer(thread.registers(), thread.mode()) + address : address;
  }
  /// What was there last for a thread. A copy that was not seen yet has what its module's file has.
  std::vector<std::uint8_t>& last_of(pid_t thread) {
    if (!of_thread) return last;
    return lasts.try_emplace(thread, fresh).first->second;
  }
  [[nodiscard]] bool same(const std::vector<std::uint8_t>& now, const std::vector<std::uint8_t>& before) const {
    if (mask.empty() || now.size() != before.size()) return now == before;
    for (std::size_t i = 0; i < now.size(); ++i) {
      if (((now[i] ^ before[i]) & mask[i]) != 0) return false;
    }
    return true;
  }
};

/// Where a motion ends.
struct Control::Goal {
  pid_t thread = 0;                    ///< 0: any
  std::vector<std::uint64_t> sites;    ///< reached with the stack pointer at `lowest_stack` or above
  std::vector<std::uint64_t> entries;  ///< reached in any frame
  std::uint64_t lowest_stack = 0;
  bool call_exit = false;  ///< when the thread's system call has returned
  std::uint64_t reached = 0;
};

/// A motion that waiting for input has ended.
struct Control::Unfinished {
  Motion motion;                   ///< how many times are left
  std::uint64_t rip = 0, rsp = 0;  ///< where the thread stands meanwhile
  pid_t thread = 0;
  std::function<void()> rest;  ///< of the time under way
};

/// Whether two ranges of bytes have any in common.
inline bool overlap(std::uint64_t a, std::uint64_t a_size, std::uint64_t b, std::uint64_t b_size) {
  return a < b + b_size && b < a + a_size;
}

}  // namespace deeptrace::control
