// What `steps` knows of an instruction once, for all the times that it runs.
#pragma once

#include <array>
#include <cstdint>
#include <map>
#include <memory>
#include <optional>
#include <string>
#include <string_view>
#include <unordered_map>
#include <vector>

#include "abi/system_calls.h"
#include "isa/effects.h"
#include "isa/instruction.h"
#include "look/modules.h"
#include "process/memory.h"
#include "state/registers.h"

namespace deeptrace::session {

inline constexpr std::uint64_t kMostFollowed = std::uint64_t(64) << 20;  ///< bytes of one instruction's memory

/// Memory that an instruction writes or reads, as a recipe.
struct Access {
  isa::MemoryRecipe recipe;
  std::uint16_t width = 0;  ///< bits
};

struct Code {
  isa::Instruction instruction;
  isa::Mode mode = isa::Mode::bits64;
  std::uint8_t length = 1;  ///< bytes, of both for a pair
  std::string text;
  std::string text_into_other_mode;  ///< for far transfers that led to code of the other width
  std::string function;
  std::uint64_t function_start = 0;
  std::string_view file;
  std::uint32_t line = 0;
  std::string target_name;
  std::string target_text;
  isa::ControlFlow flow = isa::ControlFlow::next;
  bool writes_memory = false;
  /// Which registers beyond the integer core it may change: those of the legacy part of the state (floating-point unit,
  /// xmm0 to xmm15, mxcsr), or any.
  enum class Wide : std::uint8_t { none, legacy, any };
  Wide wide = Wide::none;
  std::vector<isa::RegisterPart> wide_written;     ///< vector and mmx registers, at the width that it writes
  std::vector<isa::RegisterPart> general_written;  ///< see state::written_registers
  bool beyond_compared = false;                    ///< changes registers that are not compared: tiles, bounds
  bool repeated = false;
  bool flag_image = false;
  bool plain = false;           ///< nothing about it needs more than registers and memory compared
  bool computed = false;        ///< plain, touches no memory, and its meaning is certain (state::is_computed)
  std::uint64_t proved_in = 0;  ///< the stretch of steps in which the processor did what its meaning says (Stepper)
  std::vector<Access> writes, reads;
  std::optional<Access> compared;  ///< memory that cmp and test read
  std::unique_ptr<Code> shadowed;  ///< the next instruction, which runs before a step can stop

  /// The instruction that a step ends with.
  [[nodiscard]] const Code& last() const { return shadowed ? *shadowed : *this; }
};

/// The call that an instruction asks the kernel for, null when it is not known: `int 0x80` has the numbers of 32-bit
/// programs in every mode.
const abi::SystemCall* call_of(const Code& code, const state::RegisterSet& registers);

/// The address of the memory operand, for faults of which the kernel does not know it: at addresses that no program can
/// have, and of operands that are not aligned.
std::uint64_t operand_address(const Code& code, const state::RegisterSet& before);

/// The instructions that were met. References hold until they are forgotten.
class CodeBook {
 public:
  CodeBook(look::Modules& modules, const process::Memory& memory) : modules_(modules), memory_(memory) {}

  /// The instruction that stands in a module at an address, for a thread in that mode.
  Code& at(std::uint64_t address, isa::Mode mode);
  void forget();
  /// True when the program has other bytes by now in the pages of what was met. To be asked after code ran that was not
  /// stepped.
  [[nodiscard]] bool is_outdated() const;

 private:
  using Page = std::array<std::uint8_t, 4096>;

  void describe(Code& code, std::uint64_t address);
  void keep_page(std::uint64_t number);
  void describe_instruction(Code& code, std::uint64_t address, const look::Module& module);

  look::Modules& modules_;
  const process::Memory& memory_;
  std::unordered_map<std::uint64_t, Code> known_;  ///< by address
  std::map<std::uint64_t, Page> pages_;            ///< by number: the program's own bytes when they were read
};

}  // namespace deeptrace::session
