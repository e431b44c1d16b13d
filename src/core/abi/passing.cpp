#include "abi/passing.h"

#include <algorithm>
#include <array>
#include <bit>
#include <charconv>
#include <optional>
#include <utility>

#include "abi/convention_layout.h"

namespace deeptrace::abi {
namespace {

using arch::RegisterFile;
using arch::RegisterPart;
using debuginfo::Encoding;
using debuginfo::kVoid;
using debuginfo::Type;
using debuginfo::TypeId;
using debuginfo::Types;

RegisterPart general(unsigned number, std::uint64_t bytes) {
  return {RegisterFile::general, static_cast<std::uint8_t>(number), 0, static_cast<std::uint16_t>(bytes * 8)};
}
RegisterPart vector(unsigned number, std::uint64_t bytes) {
  return {RegisterFile::vector, static_cast<std::uint8_t>(number), 0, static_cast<std::uint16_t>(bytes * 8)};
}
RegisterPart floating_stack(unsigned number) { return {RegisterFile::x87, static_cast<std::uint8_t>(number), 0, 80}; }

std::uint64_t rounded(std::uint64_t value, std::uint64_t multiple) {
  return (value + multiple - 1) / multiple * multiple;
}

bool is_class(const Type& type) { return type.is_aggregate(); }

/// True for what is copied or destroyed by code, itself or in a part of it.
bool goes_by_address(Types& types, TypeId id, int depth = 0) {
  const Type& type = types[types.plain(id)];
  constexpr int kDeepest = 16;
  if (type.kind == Type::Kind::array && depth < kDeepest) return goes_by_address(types, type.target, depth + 1);
  if (!is_class(type) || depth >= kDeepest) return false;
  if (type.by_address) return true;
  return std::ranges::any_of(type.members, [&](const debuginfo::Member& member) {
    return member.moving || goes_by_address(types, member.type, depth + 1);
  });
}

/// A class without data: calls pass nothing for it.
bool is_empty(Types& types, TypeId id, int depth = 0) {
  const Type& type = types[types.plain(id)];
  constexpr int kDeepest = 16;
  if (type.kind == Type::Kind::array && depth > 0 && depth < kDeepest)
    return types.size(id) == 0 || is_empty(types, type.target, depth + 1);
  return is_class(type) && type.complete && depth < kDeepest &&
         std::ranges::all_of(type.members, [&](const auto& member) { return is_empty(types, member.type, depth + 1); });
}

bool is_real(const Type& type) {
  return type.kind == Type::Kind::base &&
         (type.encoding == Encoding::floating || type.encoding == Encoding::decimal_floating);
}
/// A number of 128 bits that is no long double.
bool is_quad(const Type& type) {
  return type.encoding == Encoding::decimal_floating || type.name.find("128") != std::string::npos;
}

// ---- x86-64 ---------------------------------------------------------------------------------------------------------

/// Classes of eightbytes (psABI, 3.2.3).
enum class Class : std::uint8_t { none, integer, sse, sse_up, x87, x87_up, complex_x87, memory };

/// When two parts share an eightbyte (the rules (a) to (f)).
Class merged(Class a, Class b) {
  if (a == b || b == Class::none) return a;
  if (a == Class::none) return b;
  if (a == Class::memory || b == Class::memory) return Class::memory;
  if (a == Class::integer || b == Class::integer) return Class::integer;
  const auto is_x87 = [](Class one) { return one == Class::x87 || one == Class::x87_up || one == Class::complex_x87; };
  return is_x87(a) || is_x87(b) ? Class::memory : Class::sse;
}

class Classifier {
 public:
  static constexpr std::size_t kMost = 8;  // eightbytes; more go to memory
  using Classes = std::array<Class, kMost>;

  explicit Classifier(Types& types) : types_(types) {}

  /// The eightbytes of a value, after the rules that look at the whole; all in memory: the first says so.
  Classes run(TypeId id) {
    classes_ = {};
    const std::uint64_t size = types_.size(id);
    if (size > kMost * 8) return in_memory();
    add(id, 0, 0);
    const std::size_t count = (size + 7) / 8;
    for (std::size_t i = 0; i < count; ++i) {
      if (classes_[i] == Class::memory) return in_memory();
      if (classes_[i] == Class::x87_up && (i == 0 || classes_[i - 1] != Class::x87)) return in_memory();
      const bool goes_on = i > 0 && (classes_[i - 1] == Class::sse || classes_[i - 1] == Class::sse_up);
      if (classes_[i] == Class::sse_up && !goes_on) classes_[i] = Class::sse;
    }
    const bool one_vector = classes_[0] == Class::sse && std::all_of(classes_.begin() + 1, classes_.begin() + count,
                                                                     [](Class one) { return one == Class::sse_up; });
    const bool complex = types_[types_.plain(id)].encoding == Encoding::complex_float;
    if (count > 2 && !one_vector && !complex) return in_memory();
    return classes_;
  }

 private:
  static Classes in_memory() { return {Class::memory}; }

  void merge(std::uint64_t offset, std::uint64_t size, Class first, Class rest) {
    for (std::uint64_t at = offset / 8; at < kMost && at * 8 < offset + size; ++at)
      classes_[at] = merged(classes_[at], at == offset / 8 ? first : rest);
  }

  void add(TypeId id, std::uint64_t offset, int depth) {
    constexpr int kDeepest = 16;
    const Type& type = types_[types_.plain(id)];
    const std::uint64_t size = types_.size(id);
    if (depth > kDeepest || offset + size > kMost * 8) return merge(0, 8, Class::memory, Class::memory);
    if (type.kind == Type::Kind::none || size == 0) return;
    if (is_class(type)) return add_members(type, offset, depth);
    if (type.kind == Type::Kind::array && !type.vector) return add_elements(type, offset, size, depth);
    if (type.kind == Type::Kind::array) return merge(offset, size, Class::sse, Class::sse_up);
    if (is_real(type)) {
      if (size <= 8) return merge(offset, size, Class::sse, Class::sse);
      return is_quad(type) ? merge(offset, size, Class::sse, Class::sse_up)
                           : merge(offset, size, Class::x87, Class::x87_up);
    }
    if (type.kind == Type::Kind::base && type.encoding == Encoding::complex_float) {
      if (size <= 16) return merge(offset, size, Class::sse, Class::sse);
      const Class whole = is_quad(type) ? Class::memory : Class::complex_x87;
      return merge(offset, size, whole, whole);
    }
    merge(offset, size, Class::integer, Class::integer);
  }

  void add_members(const Type& type, std::uint64_t offset, int depth) {
    for (const debuginfo::Member& member : type.members) {
      const std::uint64_t at = offset + member.offset;
      if (member.bit_size != 0) {
        const std::uint64_t bytes = (member.bit_offset + member.bit_size + 7U) / 8U;
        merge(at, bytes, Class::integer, Class::integer);
        continue;
      }
      // What lies across its alignment (packed structures) goes to memory.
      if (!is_empty(types_, member.type) && at % types_.alignment(member.type, 8) != 0)
        return merge(0, 8, Class::memory, Class::memory);
      if (!is_empty(types_, member.type)) add(member.type, at, depth + 1);
    }
  }

  void add_elements(const Type& type, std::uint64_t offset, std::uint64_t size, int depth) {
    const std::uint64_t step = types_.size(type.target);
    if (step == 0) return;
    for (std::uint64_t at = 0; at + step <= size; at += step) add(type.target, offset + at, depth + 1);
  }

  Types& types_;
  Classes classes_{};
};

class Layout64 {
 public:
  Layout64(Types& types, const arch::Machine& machine, Compiler compiler)
      : types_(types), machine_(machine), compiler_(compiler), classifier_(types) {}

  CallLayout run(std::span<const TypeId> arguments, TypeId result) {
    CallLayout layout;
    layout.result = returned(result, layout.hidden_result);
    generals_ = layout.hidden_result ? 1 : 0;
    for (const TypeId one : arguments) layout.arguments.push_back(argument(one));
    layout.stack = rounded(stack_, 8);
    return layout;
  }

 private:
  Passed returned(TypeId id, bool& hidden) {
    Passed passed;
    const std::uint64_t size = types_.size(id);
    if (types_[types_.plain(id)].kind == Type::Kind::none || size == 0) return passed;
    const bool by_address = goes_by_address(types_, id);
    if (!by_address && is_empty(types_, id)) return passed;
    const Classifier::Classes classes = classifier_.run(id);
    if (by_address || classes[0] == Class::memory) {
      hidden = true;
      passed.by_address = true;
      passed.pieces = {{general(machine_.result, 8), 0, 0, 8}};
      return passed;
    }
    if (classes[0] == Class::complex_x87) {
      passed.pieces = {{floating_stack(0), 0, 0, 16}, {floating_stack(1), 0, 16, 16}};
      return passed;
    }
    constexpr arch::General kGenerals[] = {arch::kRax, arch::kRdx};
    unsigned generals = 0, vectors = 0;
    for (std::size_t i = 0; i * 8 < size; ++i) {
      const std::uint64_t bytes = std::min<std::uint64_t>(8, size - i * 8);
      if (classes[i] == Class::integer) {
        passed.pieces.push_back({general(kGenerals[generals++], bytes), 0, i * 8, bytes});
      } else if (classes[i] == Class::sse) {
        const std::uint64_t whole = vector_bytes(classes, i, size);
        passed.pieces.push_back({vector(vectors++, whole), 0, i * 8, whole});
      } else if (classes[i] == Class::x87) {
        passed.pieces.push_back({floating_stack(0), 0, i * 8, 16});
      }
    }
    return passed;
  }

  /// Bytes of the value that travel in one vector register from an eightbyte on.
  static std::uint64_t vector_bytes(const Classifier::Classes& classes, std::size_t from, std::uint64_t size) {
    std::size_t to = from + 1;
    while (to < classes.size() && to * 8 < size && classes[to] == Class::sse_up) ++to;
    return std::min<std::uint64_t>(to * 8, size) - from * 8;
  }

  Passed argument(TypeId id) {
    if (id == kVoid) return word();
    if (goes_by_address(types_, id)) {
      Passed passed = word();
      passed.by_address = true;
      return passed;
    }
    const std::uint64_t size = types_.size(id);
    if (size == 0 || is_empty(types_, id)) return {};
    const Classifier::Classes classes = classifier_.run(id);
    const auto count = [&](Class one) {
      return static_cast<unsigned>(
          std::count(classes.begin(), classes.begin() + std::min<std::size_t>(8, (size + 7) / 8), one));
    };
    const unsigned generals = count(Class::integer), vectors = count(Class::sse);
    const bool fits =
        generals_ + generals <= machine_.arguments.size() && vectors_ + vectors <= machine_.vector_arguments;
    const bool on_stack = classes[0] == Class::memory || classes[0] == Class::complex_x87 || count(Class::x87) > 0;
    const bool number = types_[types_.plain(id)].kind == Type::Kind::base && classes[0] == Class::integer;
    if (number && !fits && compiler_.clang && compiler_.version < 18) return words(size);
    if (on_stack || !fits) return stacked(size, types_.alignment(id, 8));
    Passed passed;
    for (std::size_t i = 0; i * 8 < size; ++i) {
      const std::uint64_t bytes = std::min<std::uint64_t>(8, size - i * 8);
      if (classes[i] == Class::integer) {
        passed.pieces.push_back({general(machine_.arguments[generals_++], bytes), 0, i * 8, bytes});
      } else if (classes[i] == Class::sse) {
        const std::uint64_t whole = vector_bytes(classes, i, size);
        passed.pieces.push_back({vector(vectors_++, whole), 0, i * 8, whole});
      }
    }
    return passed;
  }

  Passed word() {
    if (generals_ < machine_.arguments.size()) return {{{general(machine_.arguments[generals_++], 8), 0, 0, 8}}, false};
    return stacked(8, 8);
  }

  /// Each word where the next one goes.
  Passed words(std::uint64_t size) {
    Passed passed;
    for (std::uint64_t at = 0; at < size; at += 8) {
      passed.pieces.push_back(word().pieces.front());
      passed.pieces.back().offset = at;
    }
    return passed;
  }

  Passed stacked(std::uint64_t size, std::uint64_t alignment) {
    stack_ = rounded(stack_, std::max<std::uint64_t>(8, alignment));
    Passed passed{{{RegisterPart{}, stack_, 0, size}}, false};
    stack_ += rounded(size, 8);
    return passed;
  }

  Types& types_;
  const arch::Machine& machine_;
  Compiler compiler_;
  Classifier classifier_;
  unsigned generals_ = 0, vectors_ = 0;
  std::uint64_t stack_ = 0;
};

// ---- i386 -----------------------------------------------------------------------------------------------------------

class Layout32 {
 public:
  Layout32(Types& types, Compiler compiler, WordRegisters registers)
      : types_(types), compiler_(compiler), registers_(std::move(registers)) {}

  CallLayout run(std::span<const TypeId> arguments, TypeId result) {
    CallLayout layout;
    layout.result = returned(result, layout.hidden_result);
    if (layout.hidden_result) (void)words(kWord);
    layout.arguments.resize(arguments.size());
    for (std::size_t i = 0; i < arguments.size() && registers_.reals; ++i) {
      if (is_in_vectors(arguments[i])) layout.arguments[i] = in_vectors(types_.size(arguments[i]), 1);
    }
    for (std::size_t i = 0; i < arguments.size(); ++i) {
      if (layout.arguments[i].pieces.empty()) layout.arguments[i] = argument(arguments[i]);
    }
    layout.stack = stack_;
    return layout;
  }

 private:
  static constexpr std::uint64_t kWord = 4;

  Passed returned(TypeId id, bool& hidden) {
    const Type& type = types_[types_.plain(id)];
    const std::uint64_t size = types_.size(id);
    if (type.kind == Type::Kind::none || size == 0) return {};
    const bool is_vector = type.kind == Type::Kind::array && type.vector;
    const bool is_complex = type.kind == Type::Kind::base && type.encoding == Encoding::complex_float;
    if (is_vector && size == 8) return {{{{RegisterFile::mmx, 0, 0, 64}, 0, 0, 8}}, false};
    if (is_vector && size == 16) return {{{vector(0, 16), 0, 0, 16}}, false};
    if (registers_.reals && is_in_vectors(id)) return {{{vector(0, size), 0, 0, size}}, false};
    if (const auto same = registers_.reals ? of_one_kind(id) : std::nullopt)
      return in_vectors_from(0, same->size, same->count);
    if (is_real(type) && !is_quad(type)) return {{{floating_stack(0), 0, 0, size}}, false};
    if (is_class(type) || size > 2 * kWord || (is_complex && size > 2 * kWord)) {
      hidden = true;
      return {{{general(arch::kRax, kWord), 0, 0, kWord}}, true};
    }
    if (size <= kWord) return {{{general(arch::kRax, size), 0, 0, size}}, false};
    return {{{general(arch::kRax, kWord), 0, 0, kWord}, {general(arch::kRdx, kWord), 0, kWord, size - kWord}}, false};
  }

  Passed argument(TypeId id) {
    if (id == kVoid) return words(kWord);
    if (goes_by_address(types_, id)) return address();
    const std::uint64_t size = types_.size(id);
    if (size == 0 || (compiler_.clang && has_empty_bases_alone(id))) return {};
    const Type& type = types_[types_.plain(id)];
    const bool is_vector = type.kind == Type::Kind::array && type.vector;
    if (registers_.reals) {
      const auto same = of_one_kind(id);
      if (same && vectors_ + same->count <= registers_.vectors) return in_vectors(same->size, same->count);
      if (same || is_in_vectors(id)) return address();
    }
    if (is_vector && size == 16 && vectors_ < registers_.vectors) return in_vectors(size, 1);
    constexpr unsigned kMmx = 3;
    if (is_vector && size == 8 && mmx_ < kMmx)
      return {{{{RegisterFile::mmx, static_cast<std::uint8_t>(mmx_++), 0, 64}, 0, 0, 8}}, false};
    const bool aligned = is_vector || (!compiler_.clang && holds_wide(id));
    const std::uint64_t alignment = aligned ? std::max<std::uint64_t>(16, types_.alignment(id, kWord)) : kWord;
    if (!is_vector && is_whole_number(id)) return words(size, alignment, is_class(type));
    return stacked(size, alignment);
  }

  Passed address() {
    Passed passed = words(kWord);
    passed.by_address = true;
    return passed;
  }

  /// False for a floating-point number, and for a structure of nothing else than one: these take up no registers. What
  /// counts is the mode that gcc gives to a type.
  bool is_whole_number(TypeId id, int depth = 0) {
    constexpr int kDeepest = 16;
    const Type& type = types_[types_.plain(id)];
    if (type.kind == Type::Kind::base) return !is_real(type) && type.encoding != Encoding::complex_float;
    if (type.kind == Type::Kind::array)
      return types_.size(type.target) != types_.size(id) || is_whole_number(type.target, depth + 1);
    if (type.kind == Type::Kind::union_type || !is_class(type) || depth > kDeepest) return true;
    return std::ranges::none_of(type.members, [&](const debuginfo::Member& member) {
      return types_.size(member.type) == type.size && !is_whole_number(member.type, depth + 1);
    });
  }

  /// A value of whole words: in registers, if there are as many left.
  Passed words(std::uint64_t size, std::uint64_t alignment = kWord, bool is_structure = false) {
    const std::size_t count = (size + kWord - 1) / kWord, left = registers_.words.size() - next_;
    const bool fits = count <= left && !(registers_.numbers_alone && (is_structure || count > 1));
    const std::size_t first = next_;
    next_ += std::min(count, left);
    if (!fits || count == 0) return stacked(size, alignment);
    Passed passed;
    for (std::size_t i = 0; i < count; ++i) {
      const std::uint64_t bytes = std::min(kWord, size - i * kWord);
      RegisterPart part = registers_.words[first + i];
      part.width = static_cast<std::uint16_t>(count == 1 && std::has_single_bit(bytes) ? bytes * 8 : kWord * 8);
      passed.pieces.push_back({part, 0, i * kWord, bytes});
    }
    return passed;
  }

  struct OfOneKind {
    std::uint64_t size = 0;  ///< of each, bytes
    unsigned count = 0;
  };
  /// A structure of up to four floating-point numbers or vectors of one size.
  std::optional<OfOneKind> of_one_kind(TypeId id, int depth = 0) {
    constexpr int kDeepest = 16;
    constexpr unsigned kMost = 4;
    const Type& type = types_[types_.plain(id)];
    if (depth > kDeepest) return std::nullopt;
    if (depth > 0 && is_in_vectors(id)) return OfOneKind{types_.size(id), 1};
    OfOneKind all;
    const auto add = [&](TypeId part, std::uint64_t times) {
      const auto one = times <= kMost ? of_one_kind(part, depth + 1) : std::nullopt;
      if (!one || (all.count != 0 && one->size != all.size)) return false;
      all = {one->size, all.count + one->count * static_cast<unsigned>(times)};
      return true;
    };
    if (type.kind == Type::Kind::array && !type.vector && depth > 0) {
      const std::uint64_t element = types_.size(type.target);
      if (element == 0 || !add(type.target, types_.size(id) / element)) return std::nullopt;
    } else if (!is_class(type) || type.kind == Type::Kind::union_type ||
               !std::ranges::all_of(type.members, [&](const auto& member) { return add(member.type, 1); })) {
      return std::nullopt;
    }
    const bool whole = all.count != 0 && all.count <= kMost && all.count * all.size == types_.size(id);
    return whole ? std::optional(all) : std::nullopt;
  }

  bool is_in_vectors(TypeId id) {
    const Type& type = types_[types_.plain(id)];
    const std::uint64_t size = types_.size(id);
    return (is_real(type) && size <= 2 * kWord) || (type.kind == Type::Kind::array && type.vector && size == 16);
  }
  /// Nothing where too few are left.
  Passed in_vectors(std::uint64_t size, unsigned count) {
    if (vectors_ + count > registers_.vectors) return {};
    const unsigned first = std::exchange(vectors_, vectors_ + count);
    return in_vectors_from(first, size, count);
  }
  static Passed in_vectors_from(unsigned first, std::uint64_t size, unsigned count) {
    Passed passed;
    for (unsigned i = 0; i < count; ++i) passed.pieces.push_back({vector(first + i, size), 0, i * size, size});
    return passed;
  }

  /// Members of empty classes count, bases do not.
  bool has_empty_bases_alone(TypeId id, int depth = 0) {
    constexpr int kDeepest = 16;
    const Type& type = types_[types_.plain(id)];
    return is_class(type) && type.complete && depth < kDeepest &&
           std::ranges::all_of(type.members, [&](const debuginfo::Member& member) {
             return member.base && has_empty_bases_alone(member.type, depth + 1);
           });
  }

  /// True for a vector or number of 128 bits, and for what has one in it.
  bool holds_wide(TypeId id, int depth = 0) {
    constexpr int kDeepest = 16;
    const Type& type = types_[types_.plain(id)];
    if (depth > kDeepest) return false;
    if (type.kind == Type::Kind::array) return type.vector ? type.size >= 16 : holds_wide(type.target, depth + 1);
    if (type.kind == Type::Kind::base) return is_quad(type);
    return is_class(type) && types_.alignment(id, kWord) >= 16 &&
           std::ranges::any_of(type.members,
                               [&](const debuginfo::Member& member) { return holds_wide(member.type, depth + 1); });
  }

  Passed stacked(std::uint64_t size, std::uint64_t alignment) {
    stack_ = rounded(stack_, alignment);
    Passed passed{{{RegisterPart{}, stack_, 0, size}}, false};
    stack_ += rounded(size, kWord);
    return passed;
  }

  Types& types_;
  Compiler compiler_;
  WordRegisters registers_;
  std::size_t next_ = 0;  ///< of the registers for words
  unsigned vectors_ = 0, mmx_ = 0;
  std::uint64_t stack_ = 0;
};

}  // namespace

Compiler compiler_of(std::string_view producer) {
  constexpr std::string_view kClang = "clang version ";
  const std::size_t at = producer.find(kClang);
  if (at == std::string_view::npos) return {};
  Compiler compiler{.clang = true};
  const std::string_view number = producer.substr(at + kClang.size());
  std::from_chars(number.data(), number.data() + number.size(), compiler.version);
  return compiler;
}

Compiler compiler_of(const debuginfo::Entry& function) {
  constexpr std::uint64_t kFirst = 0x40;  // DW_CC_lo_user: those before are not about registers (DWARF 5, 7.15)
  // clang's preserve_most and preserve_all: more registers are kept, arguments travel as ever.
  constexpr std::uint64_t kPreserveMost = 0xc9, kPreserveAll = 0xca;
  Compiler compiler = compiler_of(function.unit->producer);
  const std::uint64_t code = function.number(debuginfo::At::calling_convention).value_or(0);
  if (code >= kFirst && code != kPreserveMost && code != kPreserveAll) compiler.declared = code;
  return compiler;
}

CallLayout layout_of_call(arch::Mode mode, Compiler compiler, Types& types, std::span<const TypeId> arguments,
                          TypeId result) {
  if (const std::uint64_t code = std::exchange(compiler.declared, 0); code != 0) {
    if (const Convention* declared = convention_of_code(code, mode)) {
      if (auto layout = layout_by(*declared, compiler, types, arguments, result, false)) return std::move(*layout);
    }
    CallLayout unknown;
    unknown.known = false;
    unknown.arguments.resize(arguments.size());
    return unknown;
  }
  if (mode == arch::Mode::bits32) return layout_in_words({}, compiler, types, arguments, result);
  return Layout64(types, arch::machine_of(mode), compiler).run(arguments, result);
}

CallLayout layout_in_words(const WordRegisters& registers, Compiler compiler, Types& types,
                           std::span<const TypeId> arguments, TypeId result) {
  return Layout32(types, compiler, registers).run(arguments, result);
}

}  // namespace deeptrace::abi
