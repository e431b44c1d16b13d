// What went wrong with system calls, in words and with evidence: arguments in each other's registers, addresses that
// are none, descriptors that are not open, numbers of the other numbering, names that differ in a letter.
//
//   CallFindings findings(target, surroundings);
//   for (each call that is over) row.findings = findings.of(call, view, modules);
//   findings.at_exit();
//
// What is said has been seen: a finding needs the call's failure, or two facts that do not go together.
#pragma once

#include <array>
#include <cstdint>
#include <map>
#include <optional>
#include <set>
#include <string>
#include <vector>

#include "look/argument.h"
#include "look/call_decoder.h"
#include "look/modules.h"
#include "state/target.h"

namespace deeptrace::look {

/// A call that is over. What it refers to must outlive it.
struct CallOver {
  std::uint64_t number = 0;  ///< of the row; 0: it has none
  bool shown = true;         ///< false: nobody sees what is found of it, and nothing is looked for
  const AskedCall& asked;
  const DecodedCall* decoded = nullptr;
  std::uint64_t result = 0;
  std::uint64_t address = 0;  ///< of the instruction that made it
  bool raw = false;           ///< the developer's own code has that instruction
  std::uint64_t after = 0;    ///< where control comes back to the developer's own code; 0: unknown
  std::string_view function, file;
  std::uint32_t line = 0;  ///< of the developer's own code; 0: unknown
  /// The row of a call that was the same and gave the same: it did not fail, and nothing was found. 0: none is known.
  /// Not of calls that may change what descriptors are open on.
  std::uint64_t like = 0;
  std::uint64_t place_like = 0;  ///< the row of the same call, made at the same place; 0: none is known
};

class CallFindings {
 public:
  /// What the operating system says of the process.
  struct Surroundings {
    /// What a descriptor is open on; empty: it is not open.
    CallDecoder::DescriptorName descriptor;
    /// Names in the directory of a path that the process would open, relative to a descriptor (negative: its working
    /// directory). Empty where it cannot be read.
    std::function<std::vector<std::string>(std::int64_t at, const std::string& directory)> names;
    /// True when somebody listens at a port of this machine (TCP).
    std::function<bool(std::uint16_t port)> listens;
  };
  CallFindings(const state::Target& target, Surroundings surroundings)
      : target_(target), surroundings_(std::move(surroundings)) {}

  /// Of a call that is over; `view` is the thread that made it.
  std::vector<Finding> of(const CallOver& call, const state::StateView& view, Modules& modules);
  /// Of a process that ends by exit(2): descriptors that nobody closed.
  std::vector<Finding> at_exit();
  /// Of one that a signal ends: its control ran past the end of its code.
  std::vector<Finding> at_end_by_signal(const state::StateView& view, Modules& modules);

 private:
  class Check;
  struct Made {
    std::uint64_t call = 0;  ///< number of the row
    std::string name;
    std::string on;  ///< what it was open on
    std::string function, file;
    std::uint32_t line = 0;
    std::uint64_t address = 0;
    /// "main+0x12 (levels.c:34)".
    [[nodiscard]] std::string place() const;
    /// "call 3 (close, at main+0x12)".
    [[nodiscard]] std::string words() const;
    void take(const CallOver& over);
  };
  [[nodiscard]] std::vector<Finding> judged(const CallOver& call, const state::StateView& view, Modules& modules);
  void count_single_bytes(const CallOver& call, std::vector<Finding>& found);
  void check_result_use(const CallOver& call, const state::StateView& view, Modules& modules,
                        std::vector<Finding>& found);
  void follow_descriptors(const CallOver& call);
  void check_lengths(const CallOver& call, const state::StateView& view, Modules& modules, std::vector<Finding>& found);

  const state::Target& target_;
  Surroundings surroundings_;
  std::map<std::uint64_t, Made> open_, closed_;  ///< by descriptor
  std::map<std::int64_t, Made> failed_;          ///< by result: a failed call that gave it, the last one
  std::optional<Made> no_descriptor_;  ///< the last call that gave none, where one was wanted (`on`: the error)
  struct Run {
    std::uint64_t address = 0, count = 0;
  };
  std::set<std::array<std::uint64_t, 3>> measured_;  ///< place, address and length of buffers that were looked at
  std::array<std::uint64_t, abi::kMostArguments> last_arguments_{};  ///< of the call `last_`
  std::map<std::string, unsigned> said_;                             ///< by kind and place
  Run single_;                                                       ///< calls for one byte in a row
  std::optional<Made> last_;                                         ///< with the two that follow
  std::uint64_t last_number_ = 0;
  abi::CallTable last_table_ = abi::CallTable::x86_64;
};

}  // namespace deeptrace::look
