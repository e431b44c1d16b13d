// Works out what a parsed expression stands for; see expression.h for its language.
#pragma once

#include <optional>
#include <string>

#include "inspect/number.h"

namespace deeptrace::inspect {

class Evaluator {
 public:
  /// With `strict` a bare name that is both a register and a variable is refused.
  Evaluator(Environment& environment, bool strict) : environment_(environment), strict_(strict) {}

  Result<Datum> evaluate(const ExpressionNode& node);
  Result<bool> truth_of(const ExpressionNode& node);
  /// See Expression::literals_fit.
  std::optional<Error> literals_fit(const ExpressionNode& node);

 private:
  /// A reference stands for the object that it refers to (C++17, 8.2).
  Result<Datum> object(Result<Datum> datum) { return datum ? referred(std::move(*datum), environment_) : datum; }
  /// Of two numbers the chosen one, converted to the type that both have together (C11, 6.5.15).
  Result<Datum> chosen(const ExpressionNode& node, const ExpressionNode& other);

  // Names.
  [[nodiscard]] unsigned pointer_size() const { return arch::machine_of(environment_.view().mode()).word; }
  Result<Datum> reg(const std::string& name);
  Result<Datum> name(const std::string& name);
  Result<std::uint64_t> number_at(const ExpressionNode& node);
  /// The same of what stands inside [ ].
  Result<std::uint64_t> address_at(const ExpressionNode& node);

  // Places in memory and in registers.
  Result<Datum> memory(const ExpressionNode& node);
  /// A pointer's or array's element at an index.
  Result<Datum> element(TypeRef type, std::uint64_t address, std::int64_t position);
  Result<Datum> dereference(const ExpressionNode& node);
  Result<Datum> pointed(Datum& datum, std::int64_t position);
  Result<Datum> index(const ExpressionNode& node);
  Result<Datum> array_element(Datum& datum, std::int64_t position);
  /// Element `position` of a register or of memory seen as an array of a shape.
  Result<Datum> lane(Datum& datum, Shape shape, std::uint64_t position);
  Result<Datum> member(const ExpressionNode& node);
  [[nodiscard]] static bool is_aggregate(const Datum& datum);
  [[nodiscard]] static bool is_pointer(const Datum& datum);
  /// Members of unnamed parts and of base classes count as the whole's own.
  std::optional<Datum> find_member(Datum& whole, const debuginfo::Type& type, const std::string& name, int depth);
  Result<Datum> address_of(const ExpressionNode& node);

  // Objects of the C++ library, and of classes with virtual functions.
  /// The pointer in a std::unique_ptr, the value in a std::optional.
  std::optional<Datum> wrapped(Datum& datum);
  /// The value that an object stands for in arithmetic and comparisons: of a std::atomic what it holds.
  Result<Datum> operand(const ExpressionNode& node);
  Result<Datum> unwrapped(Datum datum);
  /// Of a std::vector and its kind.
  Result<Datum> library_element(Datum& datum, std::int64_t position);
  [[nodiscard]] Datum element_of(const Datum& whole, const LibraryValue& meant, std::uint64_t at) const;
  /// What a std::map has for a key; nothing for what is no map.
  std::optional<Result<Datum>> keyed(Datum& map, Datum& key);
  /// A function of an object of the library, from a table: no code of the program is run.
  Result<Datum> call(const ExpressionNode& node);
  Result<Datum> answer(Datum& object, const std::string& function, const ExpressionNode& node);
  /// The whole object that a part of it was found by; nothing where it is the whole.
  [[nodiscard]] std::optional<Datum> as_what_it_is(const Datum& datum) const;

  // Casts.
  std::optional<TypeRef> type_of(const std::string& name) { return environment_.type_named(name); }
  Result<Datum> cast(const ExpressionNode& node);
  /// Debug information may not have the pointer's own type; a pointer is then the address with what it points to.
  Result<Datum> pointer_cast(TypeRef target, unsigned stars, std::uint64_t value);
  Result<Datum> shape_cast(const ExpressionNode& node);
  Result<Datum> size_of_node(const ExpressionNode& node);

  // Operators.
  Result<Datum> unary(const ExpressionNode& node);
  /// Texts are compared by their characters.
  Result<std::optional<std::string>> text_in(Datum& datum);
  /// As UTF-8: `count` characters of `size` bytes; those up to a zero, `most` of them.
  Result<std::optional<std::string>> characters_at(std::uint64_t address, std::uint64_t count, std::uint64_t size);
  Result<std::optional<std::string>> wide_string_at(std::uint64_t address, std::uint64_t most, std::uint64_t size);
  bool is_library_string(Datum& datum);
  Result<Datum> binary(const ExpressionNode& node);

  Environment& environment_;
  bool strict_;
};

}  // namespace deeptrace::inspect
