#include "inspect/type_check.h"

#include <algorithm>

#include "inspect/expression_node.h"
#include "inspect/number.h"

namespace deeptrace::inspect {
namespace {

using debuginfo::Encoding;
using debuginfo::Type;
using debuginfo::TypeId;
using Op = ExpressionNode::Op;

constexpr int kDeepest = 32;  // base classes and unnamed parts

std::optional<MemberType> member_type(debuginfo::Types& types, TypeId whole, std::string_view name, int depth) {
  if (depth > kDeepest) return std::nullopt;
  const Type& type = types[types.plain(whole)];
  for (const debuginfo::Member& member : type.members) {
    if (!member.base && (member.name == name || name == captured_name(type, member)))
      return MemberType{member.type, member.bit_size};
    if (!member.name.empty() && !member.base) continue;
    if (auto found = member_type(types, member.type, name, depth + 1)) return found;
  }
  return std::nullopt;
}

void names_of_members(debuginfo::Types& types, TypeId whole, std::vector<std::string>& names, int depth) {
  for (const debuginfo::Member& member : types[types.plain(whole)].members) {
    if (!member.name.empty() && !member.base) {
      names.push_back(member.name);
    } else if (depth < kDeepest) {
      names_of_members(types, member.type, names, depth + 1);
    }
  }
}

bool may_be_more(debuginfo::Types& types, TypeId whole, int depth) {
  const Type& type = types[types.plain(whole)];
  if (!type.complete || depth > kDeepest) return true;
  return std::ranges::any_of(type.members, [&](const debuginfo::Member& member) {
    return member.moving || member.name.starts_with("_vptr") ||
           (member.base && may_be_more(types, member.type, depth + 1));
  });
}

/// Objects of the C++ library stand for what they hold; the evaluator knows which.
bool is_of_library(const Type& type) { return type.name.starts_with("std::") || type.name.starts_with("__gnu"); }

/// An integer literal, perhaps with a sign.
struct Literal {
  __int128 value = 0;
  unsigned bits = 32;
  bool is_signed = true;
};
struct Range {
  __int128 least = 0, most = 0;
};
std::optional<Literal> literal_of(const ExpressionNode& node) {
  const bool negative = node.op == Op::negate;
  const ExpressionNode& number = negative ? *node.parts[0] : node;
  if (number.op != Op::number || number.real) return std::nullopt;
  const __int128 value = number.literal_signed && number.literal_bits == 64 ? static_cast<std::int64_t>(number.value)
                                                                            : static_cast<__int128>(number.value);
  if (negative && !number.literal_signed) return std::nullopt;
  return Literal{negative ? -value : value, number.literal_bits, number.literal_signed};
}

Op mirrored(Op op) {
  switch (op) {
    case Op::less: return Op::greater;
    case Op::less_equal: return Op::greater_equal;
    case Op::greater: return Op::less;
    case Op::greater_equal: return Op::less_equal;
    default: return op;
  }
}

class Check {
 public:
  explicit Check(const TypeOfName& type_of_name) : type_of_name_(type_of_name) {}

  std::optional<Error> run(const ExpressionNode& root, bool is_condition) {
    const std::optional<Known> type = type_of(root);
    if (is_condition) {
      expect_value(type);
      expect_possible(root);
    }
    return error_;
  }

 private:
  struct Known {
    TypeRef type;
    unsigned bits = 0;  ///< of a bit field
    [[nodiscard]] const Type& plain() const { return (*type.types)[type.types->plain(type.id)]; }
    [[nodiscard]] std::string name() const { return type.types->name(type.id); }
  };

  void wrong(std::string message) {
    if (!error_) error_ = Error{Fault::usage, std::move(message)};
  }

  /// References stand for their objects.
  std::optional<Known> known(std::optional<TypeRef> type, unsigned bits = 0) {
    if (!type || !*type) return std::nullopt;
    Known result{*type, bits};
    for (int i = 0; i < kDeepest; ++i) {
      const Type& plain = result.plain();
      if (plain.kind != Type::Kind::reference && plain.kind != Type::Kind::rvalue_reference) break;
      result.type.id = plain.target;
    }
    return result;
  }

  std::optional<Known> type_of(const ExpressionNode& node) {
    switch (node.op) {
      case Op::name:
      case Op::variable: return known(type_of_name_(node.text));
      case Op::member:
      case Op::arrow: return member(node);
      case Op::index: return index(node);
      case Op::dereference: return pointed(type_of(*node.parts[0]));
      case Op::logical_and:
      case Op::logical_or:
      case Op::logical_not:
        for (const auto& part : node.parts) expect_value(type_of(*part));
        return std::nullopt;
      default: break;
    }
    if (node.op >= Op::multiply && node.parts.size() == 2) {
      binary(node);
      return std::nullopt;
    }
    for (const auto& part : node.parts) type_of(*part);
    return std::nullopt;
  }

  std::optional<Known> member(const ExpressionNode& node) {
    std::optional<Known> whole = type_of(*node.parts[0]);
    if (!whole) return std::nullopt;
    if (whole->plain().kind == Type::Kind::pointer) {
      whole = known(TypeRef{whole->type.types, whole->plain().target});
    } else if (node.op == Op::arrow) {
      return whole->plain().is_aggregate() ? std::nullopt : not_a_pointer(*whole);
    }
    const Type& type = whole->plain();
    if (type.kind == Type::Kind::none || type.kind == Type::Kind::array) return std::nullopt;
    if (!type.is_aggregate()) {
      wrong("." + node.text + ": " + whole->name() + " has no members");
      return std::nullopt;
    }
    if (const auto found = inspect::member_type(*whole->type.types, whole->type.id, node.text))
      return known(TypeRef{whole->type.types, found->type}, found->bits);
    if (!inspect::may_be_more(*whole->type.types, whole->type.id) && !is_of_library(type))
      wrong(no_such_member(*whole->type.types, whole->type.id, node.text));
    return std::nullopt;
  }

  std::optional<Known> index(const ExpressionNode& node) {
    type_of(*node.parts[1]);
    return pointed(type_of(*node.parts[0]));
  }

  std::optional<Known> pointed(const std::optional<Known>& pointer) {
    if (!pointer) return std::nullopt;
    debuginfo::Types& types = *pointer->type.types;
    switch (pointer->plain().kind) {
      case Type::Kind::array: return known(TypeRef{&types, types.element_of(pointer->type.id)});
      case Type::Kind::pointer: return known(TypeRef{&types, pointer->plain().target});
      case Type::Kind::base:
      case Type::Kind::enumeration: return not_a_pointer(*pointer);
      default: return std::nullopt;
    }
  }

  std::optional<Known> not_a_pointer(const Known& what) {
    wrong(what.name() + " is no pointer");
    return std::nullopt;
  }

  /// A number, pointer or object that stands for one.
  void expect_value(const std::optional<Known>& type) {
    if (type && type->plain().is_aggregate() && !is_of_library(type->plain()))
      wrong(type->name() + " is no number; name a member of it");
  }

  void binary(const ExpressionNode& node) {
    const std::optional<Known> left = type_of(*node.parts[0]), right = type_of(*node.parts[1]);
    for (const auto& [text, other] : {std::pair(node.parts[0].get(), &right), std::pair(node.parts[1].get(), &left)}) {
      if (text->op != Op::text || !*other) continue;
      const Type::Kind kind = (*other)->plain().kind;
      if (kind == Type::Kind::base || kind == Type::Kind::enumeration)
        wrong("a string is compared with strings only, and " + (*other)->name() + " is none");
    }
    expect_value(left);
    expect_value(right);
  }

  /// What has to hold for the whole to hold.
  void expect_possible(const ExpressionNode& node) {
    if (error_) return;
    if (node.op == Op::logical_and) {
      for (const auto& part : node.parts) expect_possible(*part);
      return;
    }
    if (node.op < Op::equal || node.parts.size() != 2) return;
    const std::optional<Known> left = type_of(*node.parts[0]), right = type_of(*node.parts[1]);
    if (left) never_holds(node.op, *node.parts[0], *left, *node.parts[1]);
    if (right) never_holds(mirrored(node.op), *node.parts[1], *right, *node.parts[0]);
  }

  /// A comparison with a literal that no value of the type makes true.
  void never_holds(Op op, const ExpressionNode& node, const Known& side, const ExpressionNode& other) {
    const std::optional<Literal> literal = literal_of(other);
    const Type& type = side.plain();
    const bool is_signed = type.encoding == Encoding::signed_integer || type.encoding == Encoding::signed_char;
    const bool is_bool = type.encoding == Encoding::boolean;
    const bool is_unsigned = type.encoding == Encoding::unsigned_integer || type.encoding == Encoding::unsigned_char ||
                             type.encoding == Encoding::utf || is_bool;
    if (!literal || type.kind != Type::Kind::base || (!is_signed && !is_unsigned) || type.size > 8) return;
    const unsigned width = is_bool ? 1 : side.bits != 0 ? side.bits : static_cast<unsigned>(type.size) * 8;
    const __int128 values = static_cast<__int128>(1) << width;
    Range range{is_signed ? -values / 2 : 0, is_signed ? values / 2 - 1 : values - 1};
    const Range own = range;
    __int128 value = literal->value;
    bool gap = false;
    // C11, 6.3.1.8: the narrower side takes the width of the other, at least that of int. Of the same width, one that
    // is unsigned makes the other so.
    if (width < 32 || literal->bits > width) {
      // Its negative values become the largest ones.
      if (is_signed && !literal->is_signed) range = {0, (static_cast<__int128>(1) << literal->bits) - 1};
      gap = is_signed && !literal->is_signed && value > own.most && value < range.most + 1 + own.least;
    } else if (is_unsigned || (!literal->is_signed && literal->bits == width)) {
      range = {0, values - 1};
      value = value < 0 ? value + values : value;
    }
    const bool never = (op == Op::equal && (value < range.least || value > range.most || gap)) ||
                       (op == Op::less && value <= range.least) || (op == Op::less_equal && value < range.least) ||
                       (op == Op::greater && value >= range.most) || (op == Op::greater_equal && value > range.most);
    if (!never) return;
    const std::string name = node.text.empty() ? "it" : node.text;
    const std::string bits = side.bits != 0 ? " of " + std::to_string(side.bits) + " bits" : "";
    wrong("this never holds: " + name + " is " + side.name() + bits + ", " + number_text(own.least) + " to " +
          number_text(own.most));
  }

  static std::string number_text(__int128 number) {
    if (number < 0) return "-" + number_text(-number);
    return std::to_string(static_cast<std::uint64_t>(number));
  }

  const TypeOfName& type_of_name_;
  std::optional<Error> error_;
};

}  // namespace

std::optional<MemberType> member_type(debuginfo::Types& types, TypeId whole, std::string_view name) {
  return member_type(types, whole, name, 0);
}

bool may_be_more(debuginfo::Types& types, TypeId whole) { return may_be_more(types, whole, 0); }

std::string no_such_member(debuginfo::Types& types, TypeId whole, std::string_view name) {
  constexpr std::size_t kMost = 30;
  std::vector<std::string> names;
  names_of_members(types, whole, names, 0);
  std::string near;
  for (std::size_t i = 0; i < std::min(names.size(), kMost); ++i) near += (i == 0 ? "; it has " : ", ") + names[i];
  if (names.size() > kMost) near += " and " + std::to_string(names.size() - kMost) + " more";
  return "." + std::string(name) + ": " + types.name(whole) + " has no such member" + near;
}

std::optional<Error> type_error(const ExpressionNode& root, const TypeOfName& type_of_name, bool is_condition) {
  return Check(type_of_name).run(root, is_condition);
}

}  // namespace deeptrace::inspect
