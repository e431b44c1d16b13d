// What is wrong with an address that a program came to: what lies there, and what the number looks like.
#pragma once

#include <cstdint>
#include <string>
#include <vector>

#include "isa/operand.h"
#include "look/modules.h"
#include "state/target.h"

namespace deeptrace::look {

enum class AccessKind : std::uint8_t { read, write, execute };

struct AddressFault {
  std::string kind;   ///< one word: see docs/formats/fault.md; empty: nothing is wrong with it
  std::string lies;   ///< what lies there: "nothing is mapped there"
  std::string looks;  ///< what the pointer's value looks like: "a number where an address belongs"; empty: an address
};

/// "0x4": an address is hexadecimal whatever it is.
std::string address_text(std::uint64_t address);

class AddressSpace {
 public:
  AddressSpace(const state::Target& target, Modules& modules, const state::StateView& view);

  /// An access at `address` by a pointer that holds `pointer`.
  [[nodiscard]] AddressFault fault_of(std::uint64_t address, AccessKind access, std::uint64_t pointer) const;
  /// True where the access would not fault.
  [[nodiscard]] bool allows(std::uint64_t address, AccessKind access) const;
  [[nodiscard]] bool is_canonical(std::uint64_t address) const;
  /// The mapping that holds an address, or null.
  [[nodiscard]] const state::Mapping* mapping_at(std::uint64_t address) const;
  /// The mapping that begins next above an address, or null.
  [[nodiscard]] const state::Mapping* mapping_above(std::uint64_t address) const;
  /// A pointer's value with what it looks like: "a null pointer", "5: a number where an address belongs".
  [[nodiscard]] std::string pointer_words(std::uint64_t pointer, const AddressFault& fault) const;
  /// True when a number is too small or too near the end of addresses for one.
  [[nodiscard]] bool is_number(std::uint64_t value) const;

 private:
  /// True when the upper 12 bits of a number that can be an address are those of mapped memory: it is one that went
  /// wrong, such as a list's link in freed memory (which glibc exchanges bits of), and characters only by chance.
  [[nodiscard]] bool is_near_memory(std::uint64_t value) const;
  [[nodiscard]] std::string looks_like(std::uint64_t pointer, std::string& kind) const;
  [[nodiscard]] std::string mapping_words(const state::Mapping& mapping, std::uint64_t address) const;
  [[nodiscard]] std::string near_words(std::uint64_t address, std::string& kind) const;

  Modules& modules_;
  const state::StateView& view_;
  std::vector<state::Mapping> mappings_;
  unsigned word_;
};

}  // namespace deeptrace::look
