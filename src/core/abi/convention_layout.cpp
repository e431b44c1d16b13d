#include "abi/convention_layout.h"

#include <algorithm>
#include <string>

#include "state/parts.h"

namespace deeptrace::abi {
namespace {

using debuginfo::Encoding;
using debuginfo::Type;
using debuginfo::TypeId;
using debuginfo::Types;

class Layout {
 public:
  Layout(const Convention& convention, Types& types)
      : convention_(convention),
        types_(types),
        word_(arch::machine_of(convention.mode).word),
        integers_(names_in(convention.integers)),
        floats_(names_in(convention.floats)),
        stack_(convention.home) {}

  Result<CallLayout> run(std::span<const TypeId> arguments, TypeId result) {
    CallLayout layout = by_address_result(result);
    if (layout.hidden_result) ++position_;
    for (const TypeId one : arguments) {
      Result<Passed> passed = argument(one);
      if (!passed) return passed.error();
      layout.arguments.push_back(std::move(*passed));
      ++position_;
    }
    layout.stack = stack_;
    return layout;
  }

 private:
  /// The result, and whether its place is passed in front of the arguments.
  CallLayout by_address_result(TypeId id) {
    CallLayout layout;
    const std::uint64_t size = types_.size(id);
    if (size == 0) return layout;
    const bool in_vector = is_real(id) || is_vector(id);
    if (in_vector && size <= 16 && !is_long_double(id)) {
      layout.result = in_register(names_in(convention_.float_result).front(), size);
    } else if (fits(size)) {
      layout.result = in_register(names_in(convention_.result).front(), size);
    } else {
      layout.hidden_result = true;
      layout.result = in_register(names_in(convention_.result).front(), word_);
      layout.result.by_address = true;
    }
    return layout;
  }

  Result<Passed> argument(TypeId id) {
    const std::uint64_t size = types_.size(id);
    const bool whole = types_[types_.plain(id)].is_aggregate() || is_vector(id);
    if (!convention_.stack && (whole || is_real(id) || size > word_)) return unknown("anything but integers");
    if (convention_.by_position) return by_position(id, size);
    return integer(size);
  }

  /// Each argument has the place of its number: a register of either list, or a word of the stack.
  Result<Passed> by_position(TypeId id, std::uint64_t size) {
    const bool in_float = is_real(id) && !is_long_double(id);
    const bool by_address = !in_float && !fits(size);
    const std::uint64_t bytes = by_address ? word_ : size;
    Passed passed;
    const auto& registers = in_float ? floats_ : integers_;
    if (position_ < registers.size()) {
      passed = in_register(registers[position_], bytes);
    } else {
      passed = {{{arch::RegisterPart{}, word_ * position_, 0, bytes}}, false};
    }
    stack_ = std::max<std::uint64_t>(convention_.home, word_ * (position_ + 1));
    passed.by_address = by_address;
    return passed;
  }

  Result<Passed> integer(std::uint64_t size) {
    if (next_ < integers_.size()) return in_register(integers_[next_++], size);
    return unknown("more than " + std::to_string(integers_.size()) + " arguments");
  }

  Passed in_register(std::string_view name, std::uint64_t size) const {
    arch::RegisterPart part = state::part_named(name, convention_.mode).value_or(arch::RegisterPart{});
    part.width = static_cast<std::uint16_t>(size * 8);
    return {{{part, 0, 0, size}}, false};
  }

  [[nodiscard]] Error unknown(const std::string& what) const {
    return {Fault::usage, "how " + std::string(convention_.name) + " passes " + what + " is not known here"};
  }
  [[nodiscard]] bool fits(std::uint64_t size) const {
    return size == 1 || size == 2 || size == 4 || (size == 8 && word_ == 8);
  }
  [[nodiscard]] bool is_real(TypeId id) const {
    const Type& type = types_[types_.plain(id)];
    return type.kind == Type::Kind::base && type.encoding == Encoding::floating;
  }
  [[nodiscard]] bool is_long_double(TypeId id) const { return is_real(id) && types_.size(id) > 8; }
  [[nodiscard]] bool is_vector(TypeId id) const {
    const Type& type = types_[types_.plain(id)];
    return type.kind == Type::Kind::array && type.vector;
  }

  const Convention& convention_;
  Types& types_;
  std::uint64_t word_;
  std::vector<std::string_view> integers_, floats_;
  std::size_t next_ = 0;      ///< of the registers that are not taken
  std::size_t position_ = 0;  ///< arguments before this one, the hidden one included
  std::uint64_t stack_;
};

}  // namespace

namespace {

/// Of a convention of 32-bit functions.
WordRegisters registers_of(const Convention& convention, bool variadic) {
  WordRegisters registers{.words = {}, .numbers_alone = !convention.spread};
  if (!variadic || !convention.variadic_on_stack) {
    for (const std::string_view name : names_in(convention.integers))
      registers.words.push_back(state::part_named(name, convention.mode).value_or(arch::RegisterPart{}));
  }
  registers.reals = !convention.floats.empty();
  if (registers.reals) registers.vectors = static_cast<unsigned>(names_in(convention.floats).size());
  return registers;
}

}  // namespace

Result<CallLayout> layout_by(const Convention& convention, Compiler compiler, Types& types,
                             std::span<const TypeId> arguments, TypeId result, bool variadic) {
  if (convention.name == "system-v-64") return layout_of_call(convention.mode, compiler, types, arguments, result);
  if (convention.mode == arch::Mode::bits64 || !convention.stack)
    return Layout(convention, types).run(arguments, result);
  const WordRegisters registers = registers_of(convention, variadic);
  constexpr std::uint64_t kDouble = 8;  // bytes
  const auto is_long_double = [&](TypeId id) {
    const Type& type = types[types.plain(id)];
    return type.kind == Type::Kind::base && type.encoding == Encoding::floating && type.size > kDouble;
  };
  if (registers.reals && std::ranges::any_of(arguments, is_long_double))
    return Error{Fault::usage, "how " + std::string(convention.name) + " passes long double is not known here"};
  return layout_in_words(registers, compiler, types, arguments, result);
}

}  // namespace deeptrace::abi
