// One compiled file as a developer thinks of it: its functions, which of them are the developer's own, the source
// line of every instruction, and a name for any address.
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <string_view>
#include <utility>
#include <vector>

#include "base/address_range.h"
#include "base/result.h"
#include "binary/elf.h"
#include "debuginfo/debug_info.h"
#include "debuginfo/line_table.h"
#include "isa/instruction.h"
#include "program/lazy_name.h"
#include "program/own_code.h"

namespace deeptrace::program {

using deeptrace::AddressRange;

struct Function {
  enum class Origin : std::uint8_t {
    symbol,   ///< a symbol names it
    plt,      ///< a linkage stub, named after the function that it goes to
    section,  ///< code that no symbol covers, named after its section
  };
  LazyName name;            ///< C++ names demangled
  std::string_view symbol;  ///< as in the file; empty for other origins
  Origin origin = Origin::symbol;
  bool typed = false;         ///< its symbol says that it is a function, as compilers' symbols do
  std::uint32_t section = 0;  ///< index
  std::uint64_t address = 0;
  std::uint64_t size = 0;  ///< bytes

  [[nodiscard]] AddressRange range() const { return {address, address + size}; }
};

/// A symbol inside a function (`loop:` in assembly).
struct Label {
  std::uint64_t address = 0;
  std::string_view name;
};

/// What an address refers to.
struct Reference {
  std::string name;  ///< "level_sum", "level_sum+0x12", "printf", ".rodata+0x20"; empty when unknown
  std::string text;  ///< the characters there when it is a readable string, raw
};

class Program {
 public:
  static Result<Program> open(const std::string& path, const OwnCode& rule);

  [[nodiscard]] const binary::Elf& elf() const { return elf_; }
  /// The mode that its code runs in.
  [[nodiscard]] isa::Mode mode() const { return elf_.wide() ? isa::Mode::bits64 : isa::Mode::bits32; }
  [[nodiscard]] const debuginfo::LineTable& lines() const { return lines_; }
  /// Units, types, variables; empty where there is no debug information.
  [[nodiscard]] const debuginfo::DebugInfo& debug() const { return debug_; }
  /// By address, without overlaps of equal start.
  [[nodiscard]] const std::vector<Function>& functions() const { return functions_; }
  [[nodiscard]] const Function* function_at(std::uint64_t address) const;
  /// True for the developer's own code.
  [[nodiscard]] bool is_own(const Function& function) const;
  /// The source line of the function's first instruction that has one.
  [[nodiscard]] std::optional<debuginfo::SourceLine> source_of(const Function& function) const;
  /// All functions of a name: mangled, demangled, or demangled without its signature.
  [[nodiscard]] std::vector<const Function*> functions_named(std::string_view name) const;
  [[nodiscard]] const Label* label_at(std::uint64_t address) const;
  [[nodiscard]] const std::vector<Label>& labels() const { return labels_; }
  /// "function" or "function+0x12"; empty outside all functions.
  [[nodiscard]] std::string place_name(std::uint64_t address) const;
  /// What `address` refers to: code, a linkage stub's or GOT slot's symbol, a variable, a string, a section.
  [[nodiscard]] Reference reference(std::uint64_t address) const;
  /// What the relocation inside an instruction's bytes refers to, in an object file.
  [[nodiscard]] std::optional<Reference> relocated_reference(std::uint64_t address, std::uint64_t length) const;
  /// The relocation inside an instruction's bytes, or null.
  [[nodiscard]] const binary::Relocation* relocation_in(std::uint64_t address, std::uint64_t length) const;
  /// What the addend of a relocation inside an instruction holds beside the offset from its symbol, in bytes.
  [[nodiscard]] std::int64_t distance_in_addend(const binary::Relocation& relocation, std::uint64_t address,
                                                std::uint64_t length) const;
  /// All relocations of allocated sections, by address.
  [[nodiscard]] const std::vector<binary::Relocation>& relocations() const { return relocations_; }
  /// True when a range holds nothing but what assemblers and linkers fill gaps with.
  [[nodiscard]] bool only_padding(AddressRange range) const;
  /// The source path of a line, or an empty string.
  [[nodiscard]] const std::string& source_path(const debuginfo::SourceLine& line) const;

 private:
  explicit Program(binary::Elf elf) : elf_(std::move(elf)) {}
  void find_functions();
  void add_symbols();
  void add_plt(const binary::Section& section);
  void add_uncovered();
  void settle_sizes();
  void find_objects();

  binary::Elf elf_;
  OwnCode rule_;
  std::string module_;         ///< the file's path without links
  bool with_c_start_ = false;  ///< a C start-up calls main
  debuginfo::DebugInfo debug_;
  debuginfo::LineTable lines_;
  std::vector<Function> functions_;
  std::vector<Label> labels_;
  std::vector<binary::Symbol> objects_;          ///< variables, by address
  std::vector<binary::Relocation> relocations_;  ///< by address
};

}  // namespace deeptrace::program
