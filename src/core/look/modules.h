// The program and its libraries where they lie in a target, and which of their code is the developer's own.
#pragma once

#include <cstdint>
#include <map>
#include <memory>
#include <optional>
#include <set>
#include <string>
#include <string_view>
#include <unordered_map>
#include <utility>
#include <vector>

#include "base/result.h"
#include "debuginfo/frame_rules.h"
#include "debuginfo/locals.h"
#include "debuginfo/scopes.h"
#include "debuginfo/types.h"
#include "debuginfo/variables.h"
#include "inspect/frames.h"
#include "look/level.h"
#include "program/assignments.h"
#include "program/code_scan.h"
#include "program/code_starts.h"
#include "program/declarations.h"
#include "program/line_entries.h"
#include "program/program.h"
#include "state/target.h"

namespace deeptrace::look {

/// What is read of a module's debug information when somebody asks.
struct ModuleDebug {
  ModuleDebug(const program::Program& program, program::CodeScan& scan)
      : types(program.debug()),
        scopes(program.debug()),
        locals(program.debug(), scopes),
        entries(program, scopes, scan),
        declarations(program, scopes, scan) {}

  debuginfo::Types types;
  debuginfo::Scopes scopes;
  debuginfo::Locals locals;
  program::LineEntries entries;
  program::Declarations declarations;
  std::map<std::uint32_t, program::Assignments> assignments;  ///< by the file's number in the line table
  std::optional<std::vector<debuginfo::StaticVariable>> statics;
  /// Those with a fixed place, by address.
  std::optional<std::vector<const debuginfo::StaticVariable*>> placed;
  /// The one that holds an address of the file, or null.
  const debuginfo::StaticVariable* static_at(const program::Program& program, std::uint64_t address);
  /// What a name stands for in a unit; null: nothing. Filled as names are asked for.
  std::map<std::pair<std::string, const debuginfo::Unit*>, const debuginfo::StaticVariable*> statics_by_name;
  std::map<std::string, std::optional<debuginfo::TypeId>, std::less<>> type_names;
  std::map<std::string, std::vector<debuginfo::NamedConstant>, std::less<>> constants;  ///< as they are asked for
  std::unordered_map<std::uint64_t, program::Prologue> prologues;  ///< of functions that were stopped in, by address
};

struct Module {
  std::string path;
  std::uint64_t bias = 0;                           ///< address in the process minus address in the file
  std::uint64_t from = 0, to = 0;                   ///< the whole range that the module occupies
  bool system = false;                              ///< lies in a system library directory
  std::unique_ptr<program::Program> program;        ///< opened on demand for system libraries; null when unreadable
  mutable std::unique_ptr<program::CodeScan> scan;  ///< made on demand
  mutable std::unique_ptr<ModuleDebug> debug;       ///< likewise
  mutable std::unique_ptr<debuginfo::FrameTable> frames;  ///< likewise; often all that is needed of a library
};

/// Where a location's module ends ("libtide.so:report", "libtide.so+0x1139"); npos where it names none.
std::size_t module_mark(std::string_view location);

class Modules {
 public:
  /// Takes the modules that are mapped now; the target must outlive them. `main` is the program that was launched;
  /// `options` open the others.
  Modules(const state::Target& target, program::Program main, program::OpenOptions options);

  /// A forked process has the same ones.
  Modules(const Modules& parent, const state::Target& child) : Modules(parent) { target_ = &child; }
  Modules& operator=(const Modules&) = delete;

  /// Takes in modules that were mapped since, and forgets those that are gone. Their paths, the new ones first.
  struct Changes {
    std::vector<std::string> loaded, unloaded;
  };
  Changes refresh(const state::Target& target);

  [[nodiscard]] const Module& main() const { return *modules_.front(); }
  [[nodiscard]] const std::vector<std::shared_ptr<Module>>& all() const { return modules_; }
  [[nodiscard]] bool is_own(std::uint64_t address) const;
  /// The same of one instruction: a lambda of the developer's own may be inlined into a function of the library. Of an
  /// address after a call the call is meant.
  [[nodiscard]] bool is_own_line(std::uint64_t address, bool after_call = false);
  /// The module at an address with its program opened, or null.
  const Module* at(std::uint64_t address);
  /// Its debug information.
  static ModuleDebug& debug(const Module& module);
  /// Which of its bytes are code: without debug information, which is long in some libraries.
  static program::CodeScan& scan(const Module& module);
  /// What statements of a source file change, by its number in the module's line table; none where it is not found.
  const program::Assignments& assignments(const Module& module, std::uint32_t file);
  /// The readable mapping that holds an address outside all modules; nothing where none does. What was mapped since
  /// the last call is noticed.
  std::optional<state::Mapping> mapping_at(const state::StateView& view, std::uint64_t address);
  /// The function at an address; null where none is known.
  const program::Function* function_at(std::uint64_t address);
  /// Where the caller's frame lies, for an instruction anywhere: by unwind tables, or by what the code does.
  std::optional<inspect::PlacedRule> frame_rule(std::uint64_t address);
  /// By what the code does alone: for tables that are wrong, as some of hand-written code are.
  std::optional<inspect::PlacedRule> frame_rule_by_code(std::uint64_t address);
  /// The source line of an instruction: path and number; an empty path where there is none.
  std::pair<std::string_view, std::uint32_t> line_of(std::uint64_t address);
  /// Whether a name is a static variable or data symbol of some module, as it was found out before; see Scope.
  std::map<std::string, bool, std::less<>> variable_names;
  /// Names that were found to be neither functions nor variables of any module, so that nobody looks again.
  std::set<std::string, std::less<>> no_symbols;

  /// True when the line table begins a statement at the address.
  bool begins_statement(std::uint64_t address);
  /// The line that control enters at an address (program/line_entries.h), at most `depth` inlined calls deep; nothing
  /// where none is.
  std::optional<Level> line_entered(std::uint64_t address, unsigned depth);
  /// How many inlined calls an instruction stands in.
  std::size_t inlined_depth(std::uint64_t address);
  /// What an address refers to.
  program::Reference reference(std::uint64_t address);
  /// "function+0x12" or "function" for any address; "0x7f…" where nothing is known.
  std::string place_name(std::uint64_t address);
  /// The same of what is called or jumped to: a PLT stub goes by the function that it leads to.
  std::string called_name(std::uint64_t address);

  /// The same for the address after a call: it is named by the call's function, also where the call is its end.
  std::string return_name(std::uint64_t address);
  /// The same with the source line: "main+0x9c  tidelog.c:47". `after_call`: of the address after a call.
  std::string located_name(std::uint64_t address, bool after_call = false);

  /// Where a location lies in the process: in the main program, or in the own module that is named before a colon.
  [[nodiscard]] Result<std::vector<std::uint64_t>> resolve(std::string_view location) const;

  /// Where control can come into own code from outside, sorted.
  struct OwnEntries {
    std::vector<std::uint64_t> all;  ///< functions, handlers, and the places after calls that return twice (setjmp)
    std::vector<std::uint64_t> handlers;  ///< landing pads of exception handlers alone
  };
  [[nodiscard]] OwnEntries own_entries() const;
  /// Where control can come back into own code without a return: exception handlers, and after calls that return
  /// twice.
  [[nodiscard]] std::vector<std::uint64_t> reentries() const;
  /// After the prologue of every own function that has source lines.
  [[nodiscard]] std::vector<std::uint64_t> own_starts();

 private:
  Modules(const Modules&) = default;
  void place(const state::Target& target);
  void open(Module& module);
  void add_vdso(const std::vector<state::Mapping>& mappings);
  [[nodiscard]] Result<program::Program> read_image(const Module& module) const;
  void collect_own();
  std::optional<inspect::PlacedRule> rule_from_code(const Module& module, std::uint64_t inside);

  const state::Target* target_;
  std::vector<state::Mapping> mappings_;  ///< as they were when one was last looked for
  program::OpenOptions options_;
  std::unordered_map<std::uint64_t, std::optional<inspect::PlacedRule>> rules_;  ///< by address
  std::vector<std::uint64_t> own_starts_;
  std::vector<std::shared_ptr<Module>> modules_;  ///< the main program first; shared with forked processes
  std::vector<program::AddressRange> own_;        ///< sorted, merged
};

}  // namespace deeptrace::look
