// Writes source for the assembler that can be linked: a first pass finds every reference's name, or refuses; the second
// writes. See study/source.h.
#pragma once

#include <array>
#include <cstdint>
#include <map>
#include <optional>
#include <set>
#include <string>
#include <string_view>
#include <vector>

#include "arch/relocations.h"
#include "isa/walk.h"
#include "program/code_scan.h"
#include "study/source.h"
#include "study/unwind_directives.h"

namespace deeptrace::study {

/// A symbol as the assembler reads it.
std::string quoted(std::string_view name);
/// "name+0x8"
std::string with_offset(std::string name, std::int64_t offset);
/// Words that Intel syntax reads as operators and the like; registers are asked of the table.
bool means_something_else(std::string_view name);

/// What an instruction refers to, as expressions. Empty ones stay numbers.
struct References {
  std::string target, displacement, immediate;
  std::string directive;   ///< a line that must stand before the instruction
  bool ambiguous = false;  ///< a name that Intel syntax would read as something else

  [[nodiscard]] bool any() const {
    return ambiguous || !target.empty() || !displacement.empty() || !immediate.empty() || !directive.empty();
  }
};

class SourceWriter {
 public:
  SourceWriter(const program::Program& program, const AssemblyRequest& request, AssemblySink& sink);
  /// The first pass. Errors (Fault::usage) say which address keeps it from being written.
  std::optional<Error> plan();
  AssemblySummary write();

 private:
  using Elf = binary::Elf;
  using Relocation = binary::Relocation;
  using Section = binary::Section;
  using Symbol = binary::Symbol;
  using AddressRange = program::AddressRange;
  using Function = program::Function;
  using JumpTable = program::JumpTable;
  using Program = program::Program;
  using Stretch = program::Stretch;

  /// Sections of which the linker keeps one copy, with the symbol that their group goes by (System V ABI, 4-10).
  void find_groups();

  // What to write.
  std::optional<Error> choose_ranges();
  /// Compilers split what is rarely run off a function, under its name with an ending.
  void add_cold_parts();
  void need_section(std::uint32_t section);
  [[nodiscard]] bool is_listed(std::uint64_t address) const;
  [[nodiscard]] Error refuse(std::uint64_t address, const std::string& why) const;

  // Labels.
  [[nodiscard]] const Symbol* local_symbol_at(std::uint32_t section, std::uint64_t address) const;
  /// The label of a place that is written here; a label of ours where no local symbol stands.
  std::string label(std::uint64_t address);
  /// The label of an instruction of the listed code. Places inside instructions have none.
  Result<std::string> code_label(std::uint64_t from, std::uint64_t address);

  // First pass: what is referred to.
  std::optional<Error> plan_starts(AddressRange range);
  std::optional<Error> plan_references(AddressRange range);
  [[nodiscard]] isa::Walk instructions_of(const Stretch& stretch) const;
  [[nodiscard]] isa::Instruction decode(const Stretch& stretch, std::uint64_t at) const;
  /// Tables are written with labels, so all entries must be known.
  std::optional<Error> plan_tables(AddressRange range);
  std::optional<Error> plan_data(const Section& section);

  // References of objects.
  /// The symbol of a relocation with an offset; code goes by its labels.
  Result<std::string> symbol_of(const Relocation& relocation, std::int64_t offset, std::uint64_t from);
  Result<References> refer_by_relocation(const isa::Instruction& in, std::uint64_t address);
  /// Which field of an instruction lies at an offset, as Place bit; 0 for none.
  static unsigned place_of(const isa::Instruction& in, std::uint64_t offset, bool branch);
  /// "name@GOTPCREL+4": the suffix follows the symbol.
  static std::string suffixed(const Relocation& relocation, const arch::RelocationKind& kind, std::string expression);
  /// A relocation that no text gives, for an instruction of `length` bytes at `address`.
  std::optional<Error> add_directive(const Relocation& relocation, const arch::RelocationKind& kind,
                                     std::uint64_t address, std::uint64_t length, References& result);

  // References of linked files.
  Result<References> refer(const isa::Instruction& in, std::uint64_t address);
  /// Position-independent 32-bit code reaches data by a displacement from the table's address.
  [[nodiscard]] static bool uses_table_register(const isa::Instruction& in);
  Result<std::string> name_of_code(std::uint64_t from, std::uint64_t target, References& result);
  /// The symbol that a PLT stub goes to, as the file has it.
  [[nodiscard]] std::string_view stub_symbol(const Function& stub) const;
  std::string named(const Function& function);
  void remark(std::string text);
  Result<std::string> name_of_data(const isa::Instruction& in, std::uint64_t from, std::uint64_t target,
                                   References& result);
  /// Thread-local variables of a program lie below the thread pointer (x86-64 ABI, 3.4.6; "ELF handling for
  /// thread-local storage", variant II).
  Result<std::string> name_of_thread_local(const isa::Instruction& in, std::uint64_t from);
  /// The empty string, or a single character: what `program::Reference` does not take for text.
  [[nodiscard]] bool is_short_string(std::uint64_t address) const;
  static unsigned memory_width(const isa::Instruction& in);
  /// The symbol that an address lies in; global ones first.
  [[nodiscard]] const Symbol* symbol_holding(std::uint64_t address);
  /// In executables at fixed addresses a number can be an address: of a function, a variable or a string exactly.
  void refer_to_absolute(const isa::Instruction& in, std::uint64_t address, References& result);

  // Copies of unnamed data.
  /// `size` bytes, or a string or jump table when 0.
  std::string copy_name(std::uint64_t address, unsigned size);
  void write_copies();
  void write_table(const JumpTable& table);
  /// The targets of a jump table in order.
  template <class Use>
  void for_each_entry(const JumpTable& table, Use use) const {
    for (std::uint64_t i = 0; i < table.entries; ++i) {
      if (const auto target = program::target_of(program_, table, i)) use(*target);
    }
  }

  // Unwind tables.
  /// What is to be written of them; a remark where functions could not be left by an exception.
  void plan_unwinding();
  std::optional<std::string> exception_directives(const debuginfo::UnwindEntry& entry);
  void begin_unwinding(std::uint64_t address);
  void end_unwinding(std::uint64_t address);

  // Second pass: writing.
  void line(std::string_view text) { sink_.line(text); }
  void write_bytes(Bytes bytes, bool text);
  void begin_section(const Section& section);
  static std::string type_word(std::uint32_t type);
  void write_code(AddressRange range);
  void write_instruction(const isa::Instruction& in, std::uint64_t address);

  // Symbols.
  [[nodiscard]] bool needs_head(std::uint32_t section, std::uint64_t address) const;
  /// Ends of symbols before a place, then its symbols and labels.
  void head(std::uint32_t section, std::uint64_t address);
  void declare(const Symbol& symbol);
  void attributes(const Symbol& symbol, const std::string& name);
  static std::string_view type_name(const Symbol& symbol);
  void end_symbols(std::uint64_t address);
  /// Undefined symbols that are more than their name, and storage that the linker makes.
  void write_other_symbols();

  // Data sections.
  void write_data(const Section& section);
  void write_plain(const Section& section, Bytes bytes, std::uint64_t from, std::uint64_t to);
  /// One relocated word of data; its size.
  std::uint64_t write_word(const Relocation& relocation, std::uint32_t section);
  /// An entry of a jump table holds a label's distance from the table's start: the table is the nearest place before it
  /// at which a label is needed and that makes the target an instruction.
  std::string distance(const Relocation& relocation, std::uint32_t section);

  const Program& program_;
  const Elf& elf_;
  const AssemblyRequest& request_;
  AssemblySink& sink_;
  program::CodeScan scan_;
  bool object_ = false;
  std::vector<AddressRange> ranges_, pending_;
  std::vector<std::uint32_t> data_sections_;
  std::multimap<std::pair<std::uint32_t, std::uint64_t>, Symbol> symbols_;  ///< by section and address
  std::vector<Symbol> by_address_;                                          ///< all that have a place
  std::uint64_t longest_ = 0;                                               ///< of them, bytes
  std::map<std::uint64_t, std::vector<Stretch>> stretches_;                 ///< by range
  std::set<std::uint64_t> starts_;                                          ///< of listed instructions and data
  std::map<std::uint64_t, References> references_;                          ///< by instruction, where there are any
  std::map<std::uint64_t, std::string> labels_;                             ///< of ours
  std::multimap<std::uint64_t, std::string> ends_;                          ///< of the symbols that are open
  std::map<std::uint64_t, JumpTable> tables_;
  std::map<std::uint64_t, unsigned> copies_;             ///< unnamed data by address: bytes, 0 for strings and tables
  std::map<std::uint32_t, std::string> groups_;          ///< by section
  std::map<std::uint64_t, UnwindDirectives> unwinding_;  ///< by the function's start
  std::map<std::uint64_t, std::vector<std::string>> unwind_lines_;  ///< by address
  std::uint64_t unwinding_to_ = 0;  ///< the end of the function that is being written; 0: none
  std::vector<std::string> remarks_;
  std::array<bool, 256> late_{};
  std::uint32_t section_ = 0;
  AssemblySummary summary_;
};

}  // namespace deeptrace::study
