// Expressions over a state: registers at any width, variables of C and C++, typed memory, what a calling convention
// says; with the operators of C.
//
//   rax + 8        zf         xmm0.f64[1]     tide.levels[3]     *next->name     (struct level *) rdi
//   [u32 rsp+8]    [u8 marks, 6]    dword ptr [rbp-8]    arg(1)  result   caller   "text"   'c'   0x10   1.5
//   i32(eax) < 0   reg:ax   var:ax     State::open   Box<int>::made   names["north"]   levels.size()   name == "pier"
//
// A register has no sign, nor has a variable of which only a symbol is known: it is compared for equality at its width,
// at which a literal must be representable, signed or unsigned (al == -6 and al == 0xfa ask the same); ordering it
// needs a cast. Inside [ ] the name of a variable is its address, that of a typed pointer its value, and numbers count
// bytes: so an operand can be copied from a listing or a source. Everything else follows C: integer promotion, the
// usual conversions, arithmetic of pointers.
#pragma once

#include <cstdint>
#include <functional>
#include <memory>
#include <optional>
#include <string>
#include <string_view>
#include <utility>
#include <vector>

#include "base/result.h"
#include "debuginfo/types.h"
#include "inspect/shape.h"
#include "inspect/value.h"
#include "state/edit.h"
#include "state/view.h"

namespace deeptrace::inspect {

/// A type of one module's debug information.
struct TypeRef {
  debuginfo::Types* types = nullptr;
  debuginfo::TypeId id = debuginfo::kVoid;
  explicit operator bool() const { return types != nullptr; }
};

/// What an expression stands for: a value, and where it lies if it lies anywhere.
struct Datum {
  enum class Place : std::uint8_t { none, memory, reg };
  Place place = Place::none;
  std::uint64_t address = 0;  ///< in memory
  isa::RegisterPart part;     ///< in a register
  unsigned bit_offset = 0;    ///< of a bit field, from the lowest bit of the byte at `address`
  unsigned bit_size = 0;      ///< 0: no bit field

  TypeRef type;                ///< of a variable
  std::optional<Shape> shape;  ///< of typed memory, in place of a type
  std::uint64_t count = 1;     ///< elements of a shape
  bool many = false;           ///< an array of a shape, be it of one element
  bool from_code = false;      ///< the shape's width is inferred from the instructions that access it
  std::uint64_t room = 0;      ///< bytes up to its symbol's end, where its last member takes what there is; 0: none
  std::uint32_t declared_ahead = 0;  ///< the line of a local variable's declaration, to which control has not come yet
  bool is_symbol = false;            ///< named by the file: inside [ ] it stands for its address, as in an instruction

  bool loaded = false;              ///< `bytes` hold the value; otherwise it is still in memory
  std::vector<std::uint8_t> bytes;  ///< in memory order
  std::vector<Gap> gaps{};          ///< in `bytes`, of a variable of which only parts are kept
  /// Of a pointer that the compiler removed: what it would point to.
  std::shared_ptr<Datum> pointee{};

  // Of computed numbers, which have neither type nor shape:
  unsigned bits = 64;
  bool is_signed = false;
  bool floating = false;      ///< `bytes` hold a double
  bool signless = false;      ///< a register, or computed from one
  bool literal = false;       ///< takes the width of what it is compared with
  bool text_literal = false;  ///< `bytes` hold characters
  std::string label;          ///< what it is called, where that is not its text
};

/// What expressions ask of the place where they are evaluated.
class Environment {
 public:
  virtual ~Environment() = default;
  [[nodiscard]] virtual const state::StateView& view() const = 0;
  /// A variable or function in scope. Errors: it is unknown (with names that are near), it was optimised out (with the
  /// ranges where it lives).
  virtual Result<Datum> variable(std::string_view name) = 0;
  /// True when the name is a variable in scope (a function does not count).
  virtual bool has_variable(std::string_view name) = 0;
  virtual std::optional<TypeRef> type_named(std::string_view name) = 0;
  /// Argument 1 and up of the function one stands in, its result, and the address it returns to.
  virtual Result<Datum> argument(std::uint64_t number) = 0;
  virtual Result<Datum> result() = 0;
  virtual Result<Datum> caller() = 0;
  /// What pointers point to.
  virtual PointerReader pointers() = 0;
};

struct ExpressionNode;

class Expression {
 public:
  /// Parses all of `text`. Errors (Fault::usage) say at which character what was expected; `at`, where it is not null,
  /// gets that place, from 0. `is_type` tells names of types from others; without it only C's own are types.
  static Result<Expression> parse(std::string_view text, const std::function<bool(std::string_view)>& is_type = nullptr,
                                  std::size_t* at = nullptr);
  Expression(Expression&&) noexcept;
  Expression& operator=(Expression&&) noexcept;
  ~Expression();

  [[nodiscard]] const std::string& text() const { return text_; }

  /// What it stands for; memory is read when the value is asked for. With `strict` a bare name that is both a register
  /// and a variable is refused.
  [[nodiscard]] Result<Datum> evaluate(Environment& environment, bool strict = true) const;
  /// Whether it is other than 0.
  [[nodiscard]] Result<bool> holds(Environment& environment) const;
  /// Both sides of an expression that compares two; nothing for others, and where a side cannot be evaluated.
  [[nodiscard]] std::optional<std::pair<Value, Value>> sides(Environment& environment) const;
  /// Whether every literal can be what it is compared or computed with, as far as that is known here: an error for one
  /// that does not fit the width of a register or an untyped variable.
  [[nodiscard]] std::optional<Error> literals_fit(Environment& environment) const;
  /// What is wrong with it whatever the values are (inspect/type_check.h), given the types of variables; as a condition
  /// also that it is no truth value.
  [[nodiscard]] std::optional<Error> type_error(
      const std::function<std::optional<TypeRef>(std::string_view)>& type_of_name, bool is_condition) const;
  /// The names in it that could be variables.
  [[nodiscard]] std::vector<std::string> names() const;
  /// True when `result` stands in it.
  [[nodiscard]] bool uses_result() const;

 private:
  Expression(std::string text, std::unique_ptr<ExpressionNode> root);
  [[nodiscard]] Error named(const Error& error) const;

  std::string text_;
  std::unique_ptr<ExpressionNode> root_;
};

/// Of a local variable whose declaration control has not come to.
std::string not_set_words(std::uint32_t line);

/// Reads what is still in memory. Errors say which part cannot be read.
std::optional<Error> load(Datum& datum, Environment& environment);
/// Gives `part` the bytes of a loaded value from `at` on, all of which it has.
void take_part(Datum& part, const Datum& whole, std::uint64_t at, std::uint64_t size);

/// The object that a reference refers to; anything else as it is.
Result<Datum> referred(Datum datum, Environment& environment);

/// What reads the memory that expressions are evaluated over.
MemoryReader memory_of(const Environment& environment);

/// What an object of the C++ library stands for, with the places of at most `most` elements; see library_types.h.
std::optional<LibraryValue> library_value(Datum& datum, Environment& environment, std::uint64_t most);

/// The value for showing.
Value value_of(Datum& datum, Environment& environment, const ValueLimits& limits = {});

/// The value as an unsigned number cut to 64 bits; an error for what is no number.
Result<std::uint64_t> number_of(Datum& datum, Environment& environment);

/// Bytes that it takes; 0 when unknown.
std::uint64_t size_of(const Datum& datum, Environment& environment);

/// Gives a place a new value, converted to its type.
std::optional<Error> assign(Datum& to, Datum& value, Environment& environment, state::StateEdit& edit);

}  // namespace deeptrace::inspect
