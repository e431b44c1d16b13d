#include "study/declaration.h"

#include <algorithm>
#include <array>
#include <cctype>
#include <map>
#include <optional>
#include <set>

#include "base/number.h"

namespace deeptrace::study {
namespace {

using debuginfo::Encoding;
using debuginfo::kVoid;
using debuginfo::Type;
using debuginfo::TypeId;

/// A number of C's or its headers', by name. Sizes in bytes; 0: a word of the program's.
struct NamedType {
  std::string_view name;
  std::uint8_t size;
  Encoding encoding;
};
constexpr NamedType kNamed[] = {
    {"int8_t", 1, Encoding::signed_char},
    {"uint8_t", 1, Encoding::unsigned_char},
    {"int16_t", 2, Encoding::signed_integer},
    {"uint16_t", 2, Encoding::unsigned_integer},
    {"int32_t", 4, Encoding::signed_integer},
    {"uint32_t", 4, Encoding::unsigned_integer},
    {"int64_t", 8, Encoding::signed_integer},
    {"uint64_t", 8, Encoding::unsigned_integer},
    {"intptr_t", 0, Encoding::signed_integer},
    {"uintptr_t", 0, Encoding::unsigned_integer},
    {"size_t", 0, Encoding::unsigned_integer},
    {"ssize_t", 0, Encoding::signed_integer},
    {"ptrdiff_t", 0, Encoding::signed_integer},
    {"off_t", 0, Encoding::signed_integer},
    {"time_t", 0, Encoding::signed_integer},
    {"wchar_t", 4, Encoding::signed_integer},
    {"bool", 1, Encoding::boolean},
    {"_Bool", 1, Encoding::boolean},
    {"pid_t", 4, Encoding::signed_integer},
    {"mode_t", 4, Encoding::unsigned_integer},
};
constexpr std::string_view kIgnored[] = {"const",    "volatile", "restrict", "static",     "extern",   "inline",
                                         "register", "_Atomic",  "__inline", "__restrict", "_Noreturn"};
/// Words that a number's type is put together from.
constexpr std::string_view kParts[] = {"char",     "short", "int",    "long",     "signed",
                                       "unsigned", "float", "double", "_Complex", "__int128"};

template <std::size_t N>
bool is_one_of(const std::string_view (&list)[N], std::string_view word) {
  return std::ranges::find(list, word) != std::end(list);
}

class Parser {
 public:
  Parser(std::string_view text, arch::Mode mode, debuginfo::Types& types)
      : text_(text), word_(arch::machine_of(mode).word), types_(types) {
    next();
  }

  Result<DeclaredFunction> run() {
    const auto result = specifiers();
    std::optional<Declared> declared = result ? declarator(*result) : std::nullopt;
    if (declared && !declared->function) fail("the parameters of a function, in parentheses");
    if (token_ == ";") next();
    if (!token_.empty()) fail("the end");
    if (error_) return *error_;
    DeclaredFunction function = std::move(*declared->function);
    function.name = declared->name;
    return function;
  }

 private:
  struct Declared {
    std::string name;
    TypeId type = kVoid;
    std::optional<DeclaredFunction> function;  ///< it is one
  };

  // ---- words ----

  void next() {
    while (at_ < text_.size() && std::isspace(static_cast<unsigned char>(text_[at_])) != 0) ++at_;
    start_ = at_;
    const auto is_name = [&](std::size_t i) {
      return i < text_.size() && (std::isalnum(static_cast<unsigned char>(text_[i])) != 0 || text_[i] == '_');
    };
    if (is_name(at_)) {
      while (is_name(at_)) ++at_;
    } else if (text_.substr(at_, 3) == "...") {
      at_ += 3;
    } else if (at_ < text_.size()) {
      ++at_;
    }
    token_ = text_.substr(start_, at_ - start_);
  }
  [[nodiscard]] bool is_name() const {
    return !token_.empty() && (std::isalpha(static_cast<unsigned char>(token_[0])) != 0 || token_[0] == '_');
  }
  bool take(std::string_view word) {
    if (token_ != word) return false;
    next();
    return true;
  }
  void expect(std::string_view word) {
    if (!take(word)) fail("`" + std::string(word) + "`");
  }
  void fail(const std::string& expected) { problem(expected + " was expected"); }
  void problem(const std::string& message) {
    if (!error_)
      error_ =
          Error{Fault::usage, std::string(text_) + ": at character " + std::to_string(start_ + 1) + ": " + message};
    token_ = {};
    at_ = text_.size();
  }

  // ---- types ----

  std::optional<TypeId> specifiers() {
    std::map<std::string_view, unsigned> parts;
    std::optional<TypeId> named;
    bool is_constant = false;
    while (is_name() && !error_) {
      if (is_one_of(kIgnored, token_)) {
        is_constant |= token_ == "const";
        next();
      } else if (is_one_of(kParts, token_) && !named) {
        ++parts[token_];
        next();
      } else if (parts.empty() && !named) {
        named = one_word();
      } else {
        break;
      }
    }
    if (error_) return std::nullopt;
    if (!named && parts.empty()) {
      fail("a type");
      return std::nullopt;
    }
    const TypeId type = named ? *named : number(parts);
    return is_constant ? constant(type) : type;
  }

  TypeId constant(TypeId target) {
    Type type;
    type.kind = Type::Kind::constant;
    type.target = target;
    return types_.add_made(std::move(type));
  }

  std::optional<TypeId> one_word() {
    const std::string_view word = token_;
    if (word == "struct" || word == "union") return structure();
    if (word == "enum") return enumeration();
    if (word == "void") {
      next();
      return kVoid;
    }
    if (word.starts_with("__m128") || word == "__m64") {
      next();
      Type type;
      type.kind = Type::Kind::array;
      type.vector = true;
      type.size = word == "__m64" ? 8 : 16;
      type.target = word == "__m128"    ? types_.base_type("float", 4, Encoding::floating)
                    : word == "__m128d" ? types_.base_type("double", 8, Encoding::floating)
                                        : types_.base_type("long long int", 8, Encoding::signed_integer);
      type.counts = {type.size / types_.size(type.target)};
      type.name = word;
      return types_.add_made(std::move(type));
    }
    const auto* found = std::ranges::find(kNamed, word, &NamedType::name);
    if (found == std::end(kNamed)) {
      problem("`" + std::string(word) +
              "` is no type that is known here: write it out (struct { ... }), or ask for a function of a program");
      return std::nullopt;
    }
    next();
    return types_.base_type(std::string(word), found->size != 0 ? found->size : word_, found->encoding);
  }

  TypeId number(std::map<std::string_view, unsigned>& parts) {
    const bool is_unsigned = parts["unsigned"] != 0;
    const auto make = [&](std::string_view name, std::uint64_t size, Encoding encoding) {
      return types_.base_type(std::string(name), size, encoding);
    };
    const bool complex = parts["_Complex"] != 0;
    const std::uint64_t longest = word_ == 8 ? 16 : 12;
    if (parts["float"] != 0)
      return complex ? make("float _Complex", 8, Encoding::complex_float) : make("float", 4, Encoding::floating);
    if (parts["double"] != 0 || complex) {
      const bool wide = parts["long"] != 0;
      const std::uint64_t size = wide ? longest : 8;
      if (complex) return make(wide ? "long double _Complex" : "double _Complex", 2 * size, Encoding::complex_float);
      return make(wide ? "long double" : "double", size, Encoding::floating);
    }
    const Encoding encoding = is_unsigned ? Encoding::unsigned_integer : Encoding::signed_integer;
    const std::string sign = is_unsigned ? "unsigned " : "";
    if (parts["char"] != 0)
      return make(sign + "char", 1, is_unsigned ? Encoding::unsigned_char : Encoding::signed_char);
    if (parts["__int128"] != 0) return make(sign + "__int128", 16, encoding);
    if (parts["short"] != 0) return make(sign + "short", 2, encoding);
    if (parts["long"] > 1) return make(sign + "long long", 8, encoding);
    if (parts["long"] != 0) return make(sign + "long", word_, encoding);
    return make(sign + "int", 4, encoding);
  }

  std::optional<TypeId> enumeration() {
    next();
    if (is_name()) next();
    if (take("{")) {
      while (!token_.empty() && token_ != "}") next();
      expect("}");
    }
    Type type;
    type.kind = Type::Kind::enumeration;
    type.size = 4;
    type.target = types_.base_type("unsigned int", 4, Encoding::unsigned_integer);
    return types_.add_made(std::move(type));
  }

  std::optional<TypeId> structure() {
    Type type;
    type.kind = token_ == "union" ? Type::Kind::union_type : Type::Kind::structure;
    next();
    if (is_name()) {
      type.name = token_;
      next();
    }
    if (token_ != "{") {
      const auto known = structures_.find(type.name);
      if (known != structures_.end()) return known->second;
      type.complete = false;
      return types_.add_made(std::move(type));
    }
    next();
    Room room;
    while (!token_.empty() && token_ != "}") members(type, room);
    expect("}");
    if (error_) return std::nullopt;
    type.size = (room.bytes() + room.alignment - 1) / room.alignment * room.alignment;
    const std::string name = type.name;
    const TypeId made = types_.add_made(std::move(type));
    if (!name.empty()) structures_[name] = made;
    return made;
  }

  /// What a structure takes up so far.
  struct Room {
    std::uint64_t bits = 0, longest = 0, alignment = 1;
    [[nodiscard]] std::uint64_t bytes() const { return (std::max(bits, longest) + 7) / 8; }
  };

  void members(Type& owner, Room& room) {
    const auto base = specifiers();
    if (!base) return;
    for (bool first = true; first || take(","); first = false) {
      Declared one;
      one.type = *base;
      if (token_ != ":" && token_ != ";") {
        auto declared = declarator(*base);
        if (!declared) return;
        one = std::move(*declared);
      }
      if (!is_whole(one.type)) return;
      if (take(":")) {
        bit_field(owner, room, one);
      } else {
        place(owner, room, std::move(one));
      }
      if (error_) return;
    }
    expect(";");
  }

  void place(Type& owner, Room& room, Declared one) const {
    const std::uint64_t alignment = std::max<std::uint64_t>(1, types_.alignment(one.type, word_));
    room.alignment = std::max(room.alignment, alignment);
    debuginfo::Member member;
    member.name = std::move(one.name);
    member.type = one.type;
    if (owner.kind == Type::Kind::union_type) {
      room.longest = std::max(room.longest, 8 * types_.size(one.type));
    } else {
      member.offset = (room.bytes() + alignment - 1) / alignment * alignment;
      room.bits = 8 * (member.offset + types_.size(one.type));
    }
    owner.members.push_back(std::move(member));
  }

  /// Where the type's own storage would hold it in part only, it begins the next one (x86-64 psABI, 3.1.2).
  void bit_field(Type& owner, Room& room, const Declared& one) {
    const auto width = number_in(token_);
    const std::uint64_t storage = 8 * types_.size(one.type);
    if (!width || *width > storage) return fail("a number of bits");
    next();
    if (*width == 0) {
      room.bits = (room.bits + storage - 1) / storage * storage;
      return;
    }
    std::uint64_t at = owner.kind == Type::Kind::union_type ? 0 : room.bits;
    if (at / storage != (at + *width - 1) / storage) at = (at + storage - 1) / storage * storage;
    debuginfo::Member member;
    member.name = one.name;
    member.type = one.type;
    member.offset = at / 8;
    member.bit_offset = static_cast<std::uint16_t>(at % 8);
    member.bit_size = static_cast<std::uint16_t>(*width);
    (owner.kind == Type::Kind::union_type ? room.longest : room.bits) = std::max(room.longest, at + *width);
    if (!one.name.empty()) {
      room.alignment = std::max(room.alignment, types_.alignment(one.type, word_));
      owner.members.push_back(std::move(member));
    }
  }

  bool is_whole(TypeId id) {
    const Type& type = types_[types_.plain(id)];
    if (type.is_aggregate() && !type.complete) {
      problem((type.kind == Type::Kind::union_type ? "union " : "struct ") + type.name +
              " is passed itself, and has to be written out: struct " + type.name + " { ... }");
      return false;
    }
    return true;
  }

  // ---- declarators ----

  std::optional<Declared> declarator(TypeId base) {
    while (take("*")) {
      base = types_.pointer_to(base, word_);
      while (is_one_of(kIgnored, token_)) next();
    }
    Declared result;
    bool pointer = false;  // a pointer to a function or an array, in parentheses
    if (token_ == "(" && is_pointer_ahead()) {
      next();
      while (take("*")) {
        while (is_one_of(kIgnored, token_)) next();
      }
      pointer = true;
      if (is_name()) result.name = std::string(token_), next();
      expect(")");
    } else if (is_name()) {
      result.name = token_;
      next();
    }
    result.type = base;
    if (token_ == "(") {
      auto function = parameters(base);
      if (!function) return std::nullopt;
      if (!pointer) result.function = std::move(function);
    }
    std::vector<std::optional<std::uint64_t>> counts;
    while (take("[")) {
      std::optional<std::uint64_t> count;
      if (token_ != "]") {
        count = number_in(token_);
        if (!count) return fail("a number of elements"), std::nullopt;
        next();
      }
      expect("]");
      counts.push_back(count);
    }
    if (pointer) {
      result.type = types_.pointer_to(kVoid, word_);
    } else if (!counts.empty()) {
      Type array;
      array.kind = Type::Kind::array;
      array.target = base;
      array.size = types_.size(base);
      for (const auto& one : counts) array.size *= one.value_or(0);
      array.counts = std::move(counts);
      result.type = types_.add_made(std::move(array));
    }
    if (error_) return std::nullopt;
    return result;
  }

  [[nodiscard]] bool is_pointer_ahead() const {
    std::size_t i = at_;
    while (i < text_.size() && std::isspace(static_cast<unsigned char>(text_[i])) != 0) ++i;
    return i < text_.size() && text_[i] == '*';
  }

  std::optional<DeclaredFunction> parameters(TypeId result) {
    DeclaredFunction function;
    function.result = result;
    if (!is_whole(result)) return std::nullopt;
    expect("(");
    if (take(")")) return function;
    for (bool first = true; first || take(","); first = false) {
      if (take("...")) {
        function.variadic = true;
        break;
      }
      const auto base = specifiers();
      auto one = base ? declarator(*base) : std::nullopt;
      if (!one) return std::nullopt;
      if (first && one->type == kVoid && one->name.empty() && token_ == ")") break;
      if (one->type == kVoid) return problem("a parameter cannot be void"), std::nullopt;
      if (one->function) {
        one->type = types_.pointer_to(kVoid, word_);
      } else if (types_[one->type].kind == Type::Kind::array && !types_[one->type].vector) {
        one->type = types_.pointer_to(types_.element_of(one->type), word_);  // C11, 6.7.6.3
      }
      if (!is_whole(one->type)) return std::nullopt;
      function.parameters.push_back({one->name, one->type});
    }
    expect(")");
    if (error_) return std::nullopt;
    return function;
  }

  std::string_view text_;
  std::uint64_t word_;
  debuginfo::Types& types_;
  std::size_t at_ = 0, start_ = 0;
  std::string_view token_;
  std::optional<Error> error_;
  std::map<std::string, TypeId, std::less<>> structures_;
};

}  // namespace

Result<DeclaredFunction> parse_declaration(std::string_view text, arch::Mode mode, debuginfo::Types& types) {
  return Parser(text, mode, types).run();
}

}  // namespace deeptrace::study
