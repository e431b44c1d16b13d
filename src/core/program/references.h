// What instructions refer to: addresses that they call, jump to, read, write or take, found in the instruction itself
// and through registers that are known to hold addresses (state/known.h). 32-bit code that finds its global offset
// table through a register is followed, as are addresses that are kept in a register over a loop.
#pragma once

#include <cstdint>
#include <functional>
#include <optional>
#include <span>
#include <vector>

#include "program/code_scan.h"
#include "program/program.h"
#include "state/known.h"

namespace deeptrace::program {

enum class UseKind : std::uint8_t { read, write, read_write, call, jump, address, inlined };

/// One reference of an instruction.
struct CodeReference {
  std::uint64_t target = 0;
  std::uint64_t size = 0;  ///< bytes that are accessed there; 0 for those that access nothing
  UseKind kind = UseKind::address;
  bool through_slot = false;  ///< control goes to the address that `target` holds
  bool computed = false;      ///< a register takes part in the address
};

/// Where the variables of each thread are taken to lie in references: an address that no file uses, since every thread
/// has its own. A variable lies its distance from the start of the block after it.
std::uint64_t thread_block(const Program& program);

/// True for the library's helper that gives the address of a thread's variable.
bool gives_thread_address(const Function& function);

/// Where a jump or call leads that says so itself; of an object file by its relocation. Nothing of others, and where
/// the target lies in another file.
std::optional<std::uint64_t> target_of(const Program& program, std::uint64_t address,
                                       const isa::Instruction& instruction);

/// The register that a call of a small helper sets to the address after the call (32-bit code has one to find its data
/// by); -1 for other calls.
int register_of_thunk(const Program& program, std::uint64_t target);

class References {
 public:
  explicit References(const Program& program);

  /// Called for each instruction of a function's code with what it refers to.
  using Visitor = std::function<void(std::uint64_t address, const isa::Instruction&, std::span<const CodeReference>)>;

  /// References that stand in the instructions themselves.
  void each(const Function& function, const Visitor& visitor);
  /// The same, and those through registers. Slower.
  void each_followed(const Function& function, const Visitor& visitor);
  /// As on the way straight through, without a jump: a label that control falls into forgets nothing, as for a loop's
  /// first turn. Each reference is one that can happen; a register that differs on other ways is not told apart.
  void each_straight(const Function& function, const Visitor& visitor);
  /// What the registers are known to hold before each instruction.
  using StateVisitor = std::function<void(std::uint64_t address, const isa::Instruction&, const state::Known&)>;
  void each_state(const Function& function, const StateVisitor& visitor);

 private:
  void plain(std::uint64_t address, const isa::Instruction& instruction, std::vector<CodeReference>& out) const;
  void operand_references(std::uint64_t address, const isa::Instruction& instruction, const state::Known* known,
                          std::vector<CodeReference>& out) const;
  enum class Joins { forget, ignore };
  void walk(const Function& function, Joins at_joins, const StateVisitor& visitor);
  void follow(const Function& function, Joins at_joins, const Visitor& visitor);
  /// What the library's helper for thread-local variables gives back, called with what is known (ELF Handling For
  /// Thread-Local Storage, 4.1); nothing for other calls.
  [[nodiscard]] std::optional<std::uint64_t> thread_address(std::uint64_t target, const state::Known& known) const;

  const Program& program_;
  CodeScan scan_;
  bool addresses_in_code_;  ///< numbers in instructions may be addresses
  std::vector<CodeReference> found_;
};

}  // namespace deeptrace::program
