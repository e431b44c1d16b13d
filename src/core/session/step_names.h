// Names for what the rows of `steps` show: where addresses point, and which variable a written place is.
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <unordered_map>

#include "control/followed_thread.h"
#include "isa/comparison.h"
#include "look/address_name.h"
#include "session/steps.h"

namespace deeptrace::session {

class StepNames final : public RowNames {
 public:
  StepNames(look::Modules& modules, control::FollowedThread& followed) : modules_(modules), followed_(followed) {}

  look::AddressName address(const StepRow& row, std::uint64_t value) override;
  std::string memory(const StepRow& row, const state::MemoryChange& change) override;
  std::string reason(const StepRow& row) override;
  /// Code or libraries are others now.
  void forget() {
    locals_.clear();
    instructions_.clear();
    setter_.reset();
  }

 private:
  /// The last instruction that set flags which conditions ask for, with what it compared; it is followed by `next`.
  struct Setter {
    isa::Instruction instruction;
    isa::Compared values;
    pid_t thread = 0;
    std::uint64_t next = 0;
  };
  void keep_setter(const StepRow& row, const isa::Instruction& instruction);
  std::string find_reason(const StepRow& row);
  isa::Instruction instruction_of(const StepRow& row);
  std::string local(const StepRow& row, const state::MemoryChange& change);

  look::Modules& modules_;
  control::FollowedThread& followed_;
  /// What an instruction writes whose operand is a fixed distance from the stack or frame pointer, by its address.
  std::unordered_map<std::uint64_t, std::string> locals_;
  std::unordered_map<std::uint64_t, isa::Instruction> instructions_;
  std::optional<Setter> setter_;
  std::uint64_t asked_ = 0;  ///< number of the row that was asked about last, by one of several sinks
  std::string reason_;
};

}  // namespace deeptrace::session
