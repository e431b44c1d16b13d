// One compiled file as a developer thinks of it: its functions, which of them are the developer's own, the source
// line of every instruction, and a name for any address.
#pragma once

#include <cstdint>
#include <functional>
#include <memory>
#include <mutex>
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
#include "program/access_widths.h"
#include "program/data_symbols.h"
#include "program/function.h"
#include "program/function_index.h"
#include "program/function_list.h"
#include "program/own_code.h"

namespace deeptrace::program {

using deeptrace::AddressRange;

/// What an address refers to.
struct Reference {
  std::string name;  ///< "level_sum", "level_sum+0x12", "printf", ".rodata+0x20"; empty when unknown
  std::string text;  ///< the characters there when it is a readable string, raw
};

/// True when a function with a symbol (empty: none) goes by a name: its symbol, its name in C++ (`shown`), or that
/// without its signature.
bool goes_by(std::string_view symbol, const std::function<std::string_view()>& shown, std::string_view name);

/// How a file is opened.
struct OpenOptions {
  OwnCode own;
  std::vector<std::string> debug_folders;  ///< where separate debug files are looked for, before the system's folder
  bool linker_names = false;               ///< C++ names as the linker has them
  bool cores = false;                      ///< core files too
  /// Where sources are looked for: see SourceText.
  std::vector<std::pair<std::string, std::string>> moved_sources{};
};

class Program {
 public:
  static Result<Program> open(const std::string& path, const OpenOptions& options);
  /// The same of a file that was opened before, or that lies in a program's memory.
  static Result<Program> read(binary::Elf elf, const OpenOptions& options);

  [[nodiscard]] const binary::Elf& elf() const { return elf_; }
  /// The mode that its code runs in.
  [[nodiscard]] isa::Mode mode() const { return elf_.machine().mode; }
  /// Read when first asked for: of a library a run often needs names and frames alone.
  [[nodiscard]] const debuginfo::LineTable& lines() const;
  /// The file that debug information came from: this one, or a separate one.
  [[nodiscard]] const binary::Elf& debug_elf() const { return debug_elf_ != nullptr ? *debug_elf_ : elf_; }
  /// Units, types, variables; empty where there is no debug information. Read when first asked for.
  [[nodiscard]] const debuginfo::DebugInfo& debug() const;
  /// By address, without overlaps of equal start.
  [[nodiscard]] const FunctionList& functions() const { return functions_; }
  /// Keeps what opening a large file took in the user's cache folder, for the next time. For when all answers are out.
  void keep_index() const;
  [[nodiscard]] const Function* function_at(std::uint64_t address) const;
  /// True for the developer's own code.
  [[nodiscard]] bool is_own(const Function& function) const;
  /// The same of what is declared in a source file.
  [[nodiscard]] bool is_own_source(std::string_view path) const;
  /// The source line of the function's first instruction that has one.
  [[nodiscard]] std::optional<debuginfo::SourceLine> source_of(const Function& function) const;
  /// All functions of a name: mangled, demangled, or demangled without its signature.
  [[nodiscard]] std::vector<const Function*> functions_named(std::string_view name) const;
  /// What a name stands for that need not be written in full: all functions of the name; else of the class, or of the
  /// pattern with asterisks, or those whose names end with it (program/name_match.h).
  struct Meant {
    std::vector<const Function*> functions;
    /// Their names without signatures and template arguments, where the name was short for them; several, and no
    /// functions, where it could be each of them.
    std::vector<std::string> names;
    [[nodiscard]] bool ambiguous() const { return functions.empty() && names.size() > 1; }
    /// "could be each of tide::Log::read, tide::Gauge::read".
    [[nodiscard]] std::string words() const;
  };
  [[nodiscard]] Meant functions_meant(std::string_view name) const;
  /// Calls `visit` with every function that may go by a name, and with others: few where the file has an index.
  void each_candidate(std::string_view name, const std::function<void(const Function&)>& visit) const;
  [[nodiscard]] const Label* label_at(std::uint64_t address) const;
  [[nodiscard]] const std::vector<Label>& labels() const { return labels_; }
  /// The function or, inside it, the label that stands nearest at or before an address of code; nothing outside all
  /// functions.
  struct NearestName {
    std::string name;
    std::uint64_t address = 0;  ///< where it stands
  };
  [[nodiscard]] std::optional<NearestName> nearest_name(std::uint64_t address) const;
  /// "function", "function+0x12", "label+3"; empty outside all functions.
  [[nodiscard]] std::string place_name(std::uint64_t address) const;
  /// Where a label of that name stands; nothing when there is none.
  [[nodiscard]] std::optional<std::uint64_t> label_named(std::string_view name) const;
  /// What `address` refers to: code, a PLT stub's or GOT slot's symbol, a variable, a string, a section.
  [[nodiscard]] Reference reference(std::uint64_t address) const;
  /// The variable of each thread's own that lies `offset` bytes from the thread pointer, which is after them (ELF
  /// Handling For Thread-Local Storage, variant II); empty when none of this file's does.
  [[nodiscard]] std::string thread_variable(std::int64_t offset) const;
  /// What the relocation inside an instruction's bytes refers to, in an object file.
  [[nodiscard]] std::optional<Reference> relocated_reference(std::uint64_t address, std::uint64_t length) const;
  /// The relocation inside an instruction's bytes, or null.
  [[nodiscard]] const binary::Relocation* relocation_in(std::uint64_t address, std::uint64_t length) const;
  /// What the addend of a relocation inside an instruction holds beside the offset from its symbol, in bytes.
  [[nodiscard]] std::int64_t distance_in_addend(const binary::Relocation& relocation, std::uint64_t address,
                                                std::uint64_t length) const;
  /// All relocations of allocated sections, by address.
  [[nodiscard]] const std::vector<binary::Relocation>& relocations() const { return relocations_; }
  /// Where code is entered from outside (program/code_roots.h); gathered when first asked for.
  [[nodiscard]] std::span<const std::uint64_t> code_roots() const;
  /// True when a range holds nothing but what assemblers and linkers fill gaps with.
  [[nodiscard]] bool only_padding(AddressRange range) const;
  /// The variables that symbols name (program/data_symbols.h); found when they are first asked for.
  [[nodiscard]] const std::vector<DataSymbol>& data_symbols() const;
  /// Labels of data among code.
  [[nodiscard]] const std::vector<DataSymbol>& data_among_code() const;
  /// The one of a linker's or a C++ name, wherever it stands; null when there is none.
  [[nodiscard]] const DataSymbol* data_named(std::string_view name) const;
  /// The one that an address lies in; null when there is none. Of threads' own variables none.
  [[nodiscard]] const DataSymbol* data_at(std::uint64_t address) const;
  /// The width of a variable's elements: what its assembler says, else how instructions access it
  /// (program/access_widths.h), else that of addresses where relocations put some there.
  [[nodiscard]] ElementWidth element_width(const DataSymbol& variable) const;
  /// The source path of a line, or an empty string.
  [[nodiscard]] const std::string& source_path(const debuginfo::SourceLine& line) const;

 private:
  explicit Program(binary::Elf elf) : elf_(std::move(elf)) {}
  void find_functions(bool linker_names);
  void find_debug_information(const std::vector<std::string>& folders);
  [[nodiscard]] bool with_c_start() const;

  binary::Elf elf_;
  std::unique_ptr<binary::Elf> debug_elf_, supplementary_,
      small_symbols_;  ///< where separate files have what this one lacks
  OwnCode rule_;
  std::string module_;                        ///< the file's path without links
  mutable std::optional<bool> with_c_start_;  ///< a C start-up calls main
  /// Read when it is first asked for.
  struct Description {
    std::once_flag read_info, read_lines;
    debuginfo::DebugInfo info;
    debuginfo::LineTable lines;
  };
  std::unique_ptr<Description> description_ = std::make_unique<Description>();
  std::shared_ptr<const FunctionIndex> index_;  ///< of large files that were opened before
  FunctionList functions_;
  std::vector<Label> labels_, aliases_;
  struct Data {
    std::once_flag found, found_among_code, found_widths;
    std::vector<DataSymbol> symbols, among_code;
    AccessWidths widths;
  };
  std::unique_ptr<Data> data_ = std::make_unique<Data>();
  std::vector<binary::Relocation> relocations_;  ///< by address
  struct Roots {
    std::once_flag gathered;
    std::vector<std::uint64_t> addresses;
  };
  std::unique_ptr<Roots> roots_ = std::make_unique<Roots>();
};

}  // namespace deeptrace::program
