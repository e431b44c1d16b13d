// Whether the value that debug information gives a variable at a place may be an old one.
//
// A compiler that optimises drops assignments that nothing reads, removes loops and puts calls together. Its debug
// information then often keeps giving the variable's old value. The line table, the instructions and the source's text
// tell where that may be so; there the value is unknown.
#pragma once

#include <algorithm>
#include <cstdint>
#include <optional>
#include <span>
#include <string>
#include <utility>
#include <vector>

#include "arch/register.h"
#include "debuginfo/location.h"
#include "look/modules.h"
#include "program/assignments.h"

namespace deeptrace::look {

class ValueDoubts {
 public:
  /// Variables are looked at from `address`, in the module's file; `scopes` are around it, innermost first. All must
  /// outlive the object. `called`: the address lies in a call that has not returned.
  ValueDoubts(Modules& modules, const Module& module, std::uint64_t address,
              std::vector<const debuginfo::LocalScope*> scopes, bool called)
      : modules_(modules), module_(module), address_(address), scopes_(std::move(scopes)), called_(called) {}

  /// What a variable of `size` bytes has at the place: one part of its locations.
  struct Value {
    const debuginfo::LocalVariable& variable;
    std::span<const debuginfo::LocationPart> parts;
    const debuginfo::LocationPart& part;
    std::uint64_t size = 0;
  };
  // Each gives the reason why a value is not known after all; nothing when there is no doubt.
  [[nodiscard]] std::optional<Error> about_part(const debuginfo::LocationPart& part) const;
  /// Of what the part's expression gave, with the registers that it asked for.
  [[nodiscard]] std::optional<Error> about_value(const Value& value, const debuginfo::Evaluated& evaluated,
                                                 std::vector<arch::RegisterPart> asked) const;
  /// Of a value that the variable is said to have in all its scope.
  [[nodiscard]] std::optional<Error> about_constant(const debuginfo::LocalVariable& variable) const;
  /// Of a parameter that lies where the caller put it.
  [[nodiscard]] std::optional<Error> about_argument(const debuginfo::LocalVariable& variable) const;
  /// Of the value that was passed at `location`, where the part gives that value.
  [[nodiscard]] std::optional<Error> about_entry_value(Bytes location, const debuginfo::LocationPart& part) const;

  /// The statements that gave the variable its value, by the text; nothing where that does not tell.
  [[nodiscard]] std::optional<program::Assignments::Way> statements_for(const debuginfo::LocalVariable& variable) const;
  /// An argument of a function.
  struct Argument {
    std::string_view function;  ///< its name
    std::size_t number = 0;     ///< from 0
    bool inlined = false;       ///< the function, into the one that calls it
  };
  [[nodiscard]] std::optional<Argument> argument_of(const debuginfo::LocalVariable& parameter) const;
  /// What a call gives a parameter.
  struct Passed {
    std::string_view value;                         ///< empty: more than names, numbers and operators
    std::uint32_t line = 0;                         ///< of the call; 0: not known, or it has several of that function
    const debuginfo::LocalScope* caller = nullptr;  ///< a scope of the calling function
  };
  /// By the inlined call of the parameter's scope.
  [[nodiscard]] Passed passed_for(const debuginfo::LocalVariable& parameter) const;
  /// By the call that the place stands at.
  [[nodiscard]] Passed passed_here(const Argument& argument) const;
  /// True when a name in a statement on a line of the function of a scope is that of a number, which nothing changed
  /// since.
  [[nodiscard]] bool is_kept_since(std::uint32_t line, std::string_view name, const debuginfo::LocalScope& scope) const;
  /// True when a name in the function of a scope is that of a local variable.
  [[nodiscard]] bool is_local(std::string_view name, const debuginfo::LocalScope& scope) const {
    return variable_named(name, scope) != nullptr;
  }
  /// How many inlined calls a scope lies in.
  [[nodiscard]] std::size_t depth_of(const debuginfo::LocalScope& scope) const;

 private:
  /// What a value was made of.
  struct Origin {
    std::vector<arch::RegisterPart> registers;
    bool memory = false;
  };
  [[nodiscard]] bool is_call_of_several_lines() const;
  [[nodiscard]] std::optional<std::uint32_t> line_moved_past(AddressRange part) const;
  [[nodiscard]] std::optional<std::uint32_t> line_left_out(const Value& value, const Origin& origin) const;
  [[nodiscard]] std::optional<Error> about_order(const Value& value) const;
  [[nodiscard]] std::optional<Error> about_made(const Value& value, const debuginfo::Evaluated& evaluated) const;
  [[nodiscard]] bool is_lost(const debuginfo::LocalVariable& variable, const debuginfo::LocationPart& part) const;
  [[nodiscard]] std::optional<std::uint32_t> removed_loop_over(const debuginfo::LocalVariable& variable,
                                                               const debuginfo::SourceLine& here) const;
  [[nodiscard]] std::optional<debuginfo::SourceLine> call_of(const debuginfo::LocalScope& scope) const;
  [[nodiscard]] bool is_argument_alone(const debuginfo::LocalVariable& variable) const;
  [[nodiscard]] bool is_cut_to_register(const Value& value) const;
  [[nodiscard]] std::uint64_t value_since(const Value& value) const;
  [[nodiscard]] std::uint64_t held_since(const Value& value) const;
  [[nodiscard]] std::optional<std::uint32_t> line_done_later(const Value& value, const Origin& origin) const;
  [[nodiscard]] bool goes_on_above(std::uint64_t from, std::uint32_t line) const;
  [[nodiscard]] bool is_another_from_jump(const Value& value) const;
  [[nodiscard]] bool is_of_call_before(const Value& value) const;
  [[nodiscard]] bool is_of_other_pass(const Value& value) const;
  [[nodiscard]] AddressRange passes_of(program::Assignments::Lines loop, const debuginfo::LocalScope& scope) const;
  [[nodiscard]] std::optional<std::uint32_t> line_of_passes(const Value& value) const;
  [[nodiscard]] std::optional<std::uint32_t> line_under_way(const Value& value, const Origin& origin) const;
  [[nodiscard]] std::optional<std::uint32_t> first_line_before(const debuginfo::LocalScope& scope,
                                                               std::uint64_t since) const;
  [[nodiscard]] bool has_code(const debuginfo::SourceLine& line, const debuginfo::LocalScope& scope) const;
  /// Lines of a function: from this one to before that one.
  struct Lines {
    std::uint32_t from = 0, to = 0;
  };
  [[nodiscard]] bool lines_write(Lines lines, const debuginfo::LocalScope& scope, AddressRange range,
                                 const Origin& origin) const;
  /// The lines that begin at an address, in the function of a scope: of the call, inside an inlined call.
  struct LinesAt {
    std::uint32_t file = 0;
    std::uint32_t first = 0, last = 0, own = 0;  ///< of statements, in the program's order; of the instruction there
    [[nodiscard]] program::Assignments::Lines all() const { return {std::min(first, own), std::max(last, own)}; }
  };
  [[nodiscard]] std::optional<LinesAt> lines_at(const debuginfo::LocalScope& scope, std::uint64_t address) const;
  [[nodiscard]] const debuginfo::LocalVariable* variable_named(std::string_view name) const;
  [[nodiscard]] const debuginfo::LocalVariable* variable_named(std::string_view name,
                                                               const debuginfo::LocalScope& scope) const;
  [[nodiscard]] const debuginfo::DescribedFunction* function() const;
  [[nodiscard]] const debuginfo::Type& plain_type(const debuginfo::LocalVariable& variable) const;

  Modules& modules_;
  const Module& module_;
  std::uint64_t address_;
  std::vector<const debuginfo::LocalScope*> scopes_;
  bool called_;
};

}  // namespace deeptrace::look
