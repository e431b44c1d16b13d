// What is shown at a stop: where, the code around, what the last motion changed, what comes next.
#pragma once

#include <cstdint>
#include <map>
#include <optional>
#include <string>
#include <utility>
#include <vector>

#include "inspect/value.h"
#include "look/address_name.h"
#include "look/argument.h"
#include "look/code_lines.h"
#include "look/foresight.h"
#include "look/stopped.h"

namespace deeptrace::look {

/// An expression that is shown at every stop.
struct Followed {
  std::string text;
  inspect::Value value;
  bool changed = false;  ///< since the stop before
};

/// A stop point that was hit, in words and values.
struct CardHit {
  unsigned halt = 0;
  std::uint64_t hit = 0;
  std::string rule;                             ///< as it is written; empty: it is gone
  std::string what;                             ///< of the rule
  std::uint64_t writer = 0;                     ///< see HaltHit
  std::string writer_place;                     ///< "level_sum+0x12"
  std::string by;                               ///< see HaltHit
  std::optional<inspect::Value> thrown;         ///< likewise
  std::optional<inspect::Value> before, after;  ///< data stops: what is watched
};

struct Card {
  Stopped stopped;
  std::vector<CardHit> hits;
  std::vector<Finding> findings;  ///< of a signal that is about to end the program, or has
  bool ended = false;             ///< the program is gone: there is nothing but the reason
  isa::Mode mode = isa::Mode::bits64;
  bool ran_through = false;     ///< functions ran through on the way: what they wrote was not followed
  bool limits_are_news = true;  ///< that is to be said; not at every stop
  std::uint64_t address = 0;
  std::string place;
  std::string inlined;      ///< see Where
  std::string called_from;  ///< see own_caller
  std::string file;
  std::uint32_t line = 0;
  std::uint64_t thread = 1;
  std::size_t threads = 1;
  std::vector<CodeLine> code;
  state::Delta changes;                        ///< registers, flags and memory; vectors of the low 128 bits
  std::vector<std::string> written;            ///< the variable of each change of memory; empty: none is known
  std::map<std::uint64_t, AddressName> names;  ///< of the addresses among what changed
  std::vector<std::pair<std::string, inspect::Value>> results;  ///< of a function that returned: its name and result
  std::vector<std::shared_ptr<const KernelCall>> calls;         ///< see Moved
  Foresight next;
};

/// The frame of own code that library code works for; nothing where nobody's own code called.
std::optional<inspect::Frame> own_frame(Modules& modules, const state::StateView& view);
/// In a library the own function that it works for is what people look for: "main+0x9c  tidelog.c:47"; empty in own
/// code, and where nobody's own code called.
std::string own_caller(Modules& modules, const state::StateView& view, std::uint64_t address);

class Subject;

/// The program stands still, or has ended.
Card card_of(Subject& subject, const Stopped& stopped);

}  // namespace deeptrace::look
