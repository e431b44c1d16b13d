// What the names in an expression mean at one frame of a thread: its parameters and locals, those of the inlined calls
// it stands in, static variables, functions, types.
#pragma once

#include <functional>
#include <memory>
#include <optional>
#include <string>
#include <string_view>
#include <utility>
#include <vector>

#include "abi/passing.h"
#include "abi/system_calls.h"
#include "debuginfo/location.h"
#include "inspect/expression.h"
#include "inspect/frames.h"
#include "inspect/number.h"
#include "look/modules.h"
#include "look/value_doubts.h"

namespace deeptrace::look {

class Scope final : public inspect::Environment {
 public:
  /// `thread` and `modules` must outlive the scope.
  Scope(Modules& modules, const state::StateView& thread, inspect::Frame frame);
  /// At the innermost frame.
  Scope(Modules& modules, const state::StateView& thread);

  [[nodiscard]] const inspect::Frame& frame() const { return frame_; }

  [[nodiscard]] const state::StateView& view() const override { return view_; }
  Result<inspect::Datum> variable(std::string_view name) override;
  bool has_variable(std::string_view name) override;
  /// An error that names what nothing stands for here, neither a register nor a variable, function or member, with
  /// similar names; or what is wrong with the expression by the types of the variables here. Nothing for an expression
  /// that only may have no value.
  std::optional<Error> wrong_in(const inspect::Expression& expression, bool is_condition);
  std::optional<inspect::TypeRef> type_named(std::string_view name) override;
  Result<inspect::Datum> argument(std::uint64_t number) override;
  Result<inspect::Datum> result() override;
  Result<inspect::Datum> caller() override;
  inspect::PointerReader pointers() override;

  /// Variables of unoptimised code are looked for where they will be, before their frame is set up as well: for whoever
  /// names what a prologue writes.
  void in_their_places() { in_their_places_ = true; }
  /// Looks from the frame of an inlined call, or of the function around it: `depth` inlined calls deep at most.
  void at_depth(std::optional<unsigned> depth) { depth_ = depth; }
  /// The thread asks for this system call: names of its arguments come before others. Where it stands at an instruction
  /// that makes one they are known too, after variables.
  void in_call_here() { asked_ = asked_here(); }
  void in_call(std::string_view name, abi::CallTable table) { asked_ = Asked{std::string(name), table}; }
  /// Values that only callers know are unknown: for whoever looks for what lies in memory.
  void without_callers() { without_callers_ = true; }
  /// The function whose result `result` is: set where one stands after its return.
  void returned_from(std::uint64_t function) { returned_from_ = function; }
  /// The system call of in_call has returned: `result` is what it gave.
  void call_returned() { call_returned_ = true; }
  /// Where this function's arguments and result travel; of so many arguments at least. Only inside a module.
  [[nodiscard]] abi::CallLayout layout_of_arguments(std::uint64_t arguments);

  /// Parameters, then locals, of the function and the inlined calls around, outer ones first.
  struct Listed {
    std::string name;
    bool parameter = false;
    unsigned depth = 0;  ///< of inlined calls
    bool here = false;   ///< of the innermost of them: names mean these
    Result<inspect::Datum> datum;
  };
  std::vector<Listed> locals();

  /// "total", "log->readings[2].level", "log->count": the local variable, or what a local pointer to an object points
  /// to, that holds `size` bytes at an address; empty when none does.
  std::string name_of_memory(std::uint64_t address, std::uint64_t size);

  /// True when the value depends on this frame: a local variable.
  bool is_local(std::string_view name);

 private:
  class Context;
  struct Asked {
    std::string name;
    abi::CallTable table = abi::CallTable::x86_64;
  };
  [[nodiscard]] std::optional<Asked> asked_here() const;
  [[nodiscard]] bool names_call_argument(std::string_view name) const;
  [[nodiscard]] std::optional<inspect::Datum> call_argument(const std::optional<Asked>& asked,
                                                            std::string_view name) const;
  void add_captured(std::vector<Listed>& all, unsigned depth);
  Result<inspect::Datum> local(const debuginfo::LocalVariable& variable);
  /// A variable's value, and how debug information gives it.
  struct Described {
    enum class How : std::uint8_t { place, number, passed, computed };
    inspect::Datum datum;
    How how = How::place;  ///< of a place; a number; from the caller's debug information; computed from registers
  };
  /// As debug information says, where that raises no doubt of itself.
  Result<Described> described(const debuginfo::LocalVariable& variable);
  bool is_ahead(const debuginfo::LocalVariable& variable);
  std::optional<Result<inspect::Datum>> before_frame(const debuginfo::LocalVariable& variable,
                                                     const std::vector<debuginfo::LocationPart>& parts);
  /// Where the function that the innermost frame stands in has set up its frame, an address in the file; nothing when
  /// it has, and in callers.
  [[nodiscard]] std::optional<std::uint64_t> frame_comes_at() const;
  /// Of the function itself, by its debug information.
  [[nodiscard]] std::vector<const debuginfo::LocalVariable*> parameters() const;
  /// Argument `number`, from 1, where the caller put it.
  Result<inspect::Datum> passed(std::uint64_t number);
  [[nodiscard]] bool knows_parameters() const;
  [[nodiscard]] bool is_as_passed(isa::RegisterPart part) const;
  const debuginfo::LocalVariable* local_named(std::string_view name);
  [[nodiscard]] const debuginfo::LocalVariable* hidden_by(std::string_view name,
                                                          const debuginfo::LocalVariable* found) const;
  /// The scopes that the frame's place lies in, innermost first: those of the functions around an inlined one too.
  [[nodiscard]] std::vector<const debuginfo::LocalScope*> scopes_around() const;
  /// Those that names are looked up in: what is around an inlined function is another function, whose names mean
  /// nothing in it.
  [[nodiscard]] std::vector<const debuginfo::LocalScope*> scopes_here() const;
  [[nodiscard]] ValueDoubts doubts() const;
  // Values by the source's statements (scope_statements.cpp):
  /// What a variable may be by the statements that gave it its value.
  struct ByText {
    std::vector<inspect::Number> possible{};  ///< empty: what they use is not known
    std::uint32_t line = 0;                   ///< of the last of them
    bool mixed = false;                       ///< they cannot be followed
    bool repeated = false;                    ///< and some of those stand in a loop
    bool unsure = false;                      ///< what they use has values that no statement confirms
  };
  /// Nothing where the text does not tell which statements did.
  std::optional<ByText> by_statements(const debuginfo::LocalVariable& variable);
  std::optional<ByText> passed_by_text(const debuginfo::LocalVariable& parameter, const inspect::Number& like);
  std::optional<inspect::Number> value_by_text(const std::string& text, std::uint32_t line,
                                               const debuginfo::LocalScope& scope);
  /// The reason why a variable's value is not known after all: the statements that gave it give another one, or do not
  /// confirm what the compiler computes.
  struct Doubt {
    Error error;
    bool contradicts = false;
  };
  /// True when the value is of a kind that was seen to be wrong where statements do not confirm it.
  [[nodiscard]] bool needs_text(const Described& described, const ByText& found,
                                const debuginfo::LocalVariable& variable) const;
  std::optional<Doubt> by_text(const debuginfo::LocalVariable& variable, const Described& described);
  /// What statements use that the compiler removed: the only value that it may have by its own statements.
  std::optional<inspect::Datum> only_value(const debuginfo::LocalVariable& variable);
  [[nodiscard]] std::string nearest_life(const std::vector<debuginfo::LocationPart>& parts) const;
  std::optional<Result<inspect::Datum>> static_named(std::string_view name);
  std::optional<inspect::Datum> object_named(std::string_view name);
  /// An enumerator or constant of own modules.
  std::optional<Result<inspect::Datum>> constant_named(std::string_view name);
  std::optional<inspect::Datum> function_named(std::string_view name);
  std::optional<inspect::Datum> member_of_this(std::string_view name);
  /// The type that the debug information gives the variable of a name.
  std::optional<inspect::TypeRef> type_of_variable(std::string_view name);
  std::optional<inspect::TypeRef> type_of_local(const debuginfo::LocalVariable& variable);
  std::optional<inspect::TypeRef> class_of_this();
  Result<inspect::Datum> place(const debuginfo::Evaluated& evaluated, inspect::TypeRef type);
  static bool may_be_address(const inspect::TypeRef& type);
  Result<inspect::Datum> pointer_to(const debuginfo::Piece& piece, inspect::TypeRef type);
  std::optional<std::uint64_t> thread_address(const Module& module, std::uint64_t offset) const;
  std::optional<inspect::TypeRef> return_type(std::uint64_t function);
  [[nodiscard]] bool stands_at_return() const;
  Error unknown_name(std::string_view name);
  inspect::RuleFinder rules();
  /// The frame that called this function; nothing where no call did, and where callers are not asked.
  std::optional<inspect::Frame> calling_frame();

  Modules& modules_;
  const state::StateView& thread_;
  inspect::Frame frame_;
  inspect::FrameView view_;
  const Module* module_ = nullptr;  ///< that the frame stands in; null outside all
  std::uint64_t inside_ = 0;        ///< address in the module's file that scopes are looked up by
  std::optional<std::uint64_t> returned_from_;
  bool call_returned_ = false;
  std::optional<Asked> asked_;     ///< see in_call
  std::optional<unsigned> depth_;  ///< of inlined calls; nothing: all that are around
  bool without_callers_ = false;
  bool in_their_places_ = false;
  // Where a value is compared with what statements give:
  bool unsure_ = false;     ///< something was used that no statement confirms
  bool elsewhere_ = false;  ///< something was used that is no variable of the function
  unsigned comparing_ = 0;  ///< for a value that another one is made of, so many statements away; 0: for people
  std::optional<std::pair<std::string, inspect::Datum>> assumed_;  ///< a variable that has this value
  unsigned pointers_under_way_ = 0;  ///< of those that the compiler removed: damaged ones may point to themselves
  unsigned calls_away_ = 0;          ///< so many calls around the frame that somebody looks at
};

/// All frames of a thread, the innermost first, `most` of them. `lost`, if it is not null, gets the reason where they
/// end before the outermost function.
std::vector<inspect::Frame> frames_of(Modules& modules, const state::StateView& thread, std::size_t most = 10000,
                                      std::string* lost = nullptr);
/// Those up to the first of which `is_last` is true.
std::vector<inspect::Frame> frames_until(Modules& modules, const state::StateView& thread, std::size_t most,
                                         const std::function<bool(const inspect::Frame&)>& is_last,
                                         std::string* lost = nullptr);

}  // namespace deeptrace::look
