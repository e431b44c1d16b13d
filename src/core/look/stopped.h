// Why a program stands still, as a value: it comes from whatever moved it, and is shown by whoever looks at it.
#pragma once

#include <cstdint>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "look/level.h"
#include "state/delta.h"
#include "state/target.h"

namespace deeptrace::look {

/// One hit of a stop point.
struct HaltHit {
  unsigned halt = 0;           ///< its number
  std::uint64_t hit = 0;       ///< from 1
  std::uint64_t writer = 0;    ///< data stops: the instruction that wrote or read; 0: not known, or not by one
  bool call_returned = false;  ///< of a system call: it has given its result
  std::string by{};            ///< who did it, where it was no instruction that is known
  std::optional<inspect::Value> thrown{};       ///< of an exception: the object, where its type is known
  std::optional<Level> level{};                 ///< the frame that was reached; nothing: the innermost
  std::vector<std::uint8_t> before{}, after{};  ///< data stops: the bytes watched; empty where they are not known
};

struct Stopped {
  enum class Why : std::uint8_t {
    arrived,        ///< the motion is done
    halt,           ///< at a stop point: see `hits`
    signal,         ///< a signal is about to end the program
    attention,      ///< Ctrl-C
    waits,          ///< nothing moves until the program gets input
    replaced,       ///< it has executed another program
    thread_ended,   ///< the thread that was moved is gone
    process_ended,  ///< the process that was moved is gone, and others are left: see ProcessTree
    elsewhere,      ///< another process of the tree came to a stop: see Control::settle
    enough,         ///< whoever watches has seen what was asked for
    let_go,         ///< it goes on alone: see `notes`
    exited,
    killed,
    dead,  ///< long gone: what it left in a core file is looked at; see `number`
  };
  Why why = Why::arrived;
  state::ThreadId thread = 0;
  int number = 0;  ///< signal or status
  std::uint64_t fault_address = 0;
  bool fault_address_known = false;
  bool at_start = false;  ///< of a program: nothing has run
  std::vector<HaltHit> hits;
  std::optional<Level> level;                       ///< the frame that was reached; nothing: the innermost
  std::vector<std::string> notes;                   ///< what else happened on the way
  std::optional<std::uint64_t> returned_from;       ///< a function that returned: an address in it
  std::vector<state::RegisterChange> not_restored;  ///< preserved registers that it left changed
  [[nodiscard]] bool program_is_gone() const { return why == Why::let_go || why == Why::exited || why == Why::killed; }
};

struct KernelCall;

/// What the last motion of a thread changed, as far as that was followed.
struct Moved {
  state::RegisterSet before;                          ///< when it began
  std::optional<state::ExtendedSet> extended_before;  ///< nothing where they were not kept
  state::Delta written;       ///< memory that its own instructions wrote; not what functions wrote that ran through
  bool ran_through = false;   ///< there were such functions
  unsigned instructions = 0;  ///< that were executed one by one
  std::vector<std::shared_ptr<const KernelCall>> calls;  ///< the system calls that these made, the last ones
};

}  // namespace deeptrace::look
