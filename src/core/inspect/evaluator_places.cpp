// What lies in memory and in parts of registers: typed memory, elements, members, addresses.
#include <algorithm>
#include <cstring>

#include "base/number.h"
#include "inspect/dynamic_type.h"
#include "inspect/evaluator.h"
#include "inspect/type_check.h"
#include "state/parts.h"

namespace deeptrace::inspect {

using debuginfo::Encoding;
using debuginfo::Type;
using debuginfo::TypeId;
using Op = ExpressionNode::Op;

Result<Datum> Evaluator::memory(const ExpressionNode& node) {
  const Result<std::uint64_t> address = address_at(*node.parts[0]);
  if (!address) return address.error();
  Datum datum;
  datum.place = Datum::Place::memory;
  datum.address = *address;
  if (!node.text.empty()) {  // a segment
    using state::Reg;
    const auto& registers = environment_.view().registers();
    datum.address += node.text == "fs" ? registers[Reg::fs_base] : node.text == "gs" ? registers[Reg::gs_base] : 0;
  }
  if (pointer_size() == 4) datum.address &= 0xffffffff;
  datum.shape = node.shape;
  if (node.shape->kind == Shape::Kind::pointer) datum.shape->size = pointer_size();
  if (node.parts.size() > 1) {
    const Result<std::uint64_t> count = number_at(*node.parts[1]);
    if (!count) return count.error();
    constexpr std::uint64_t kMost = std::uint64_t(1) << 24;
    if (*count == 0 || *count > kMost) return problem("[" + std::string("…, N]: N is a number from 1 to 16777216"));
    datum.count = *count;
    datum.many = true;
  }
  return datum;
}

Result<Datum> Evaluator::element(TypeRef type, std::uint64_t address, std::int64_t position) {
  debuginfo::Types& types = *type.types;
  const Type& whole = types[types.plain(type.id)];
  Datum datum;
  datum.place = Datum::Place::memory;
  const TypeId inner = whole.kind == Type::Kind::array ? types.element_of(type.id) : whole.target;
  datum.type = {type.types, inner};
  const std::uint64_t size = types.size(inner);
  const Type& target = types[types.plain(inner)];
  if (target.kind == Type::Kind::none) return problem("it is a void *; cast it to a pointer to something");
  if (size == 0 && target.kind != Type::Kind::function)
    return problem("the size of " + types.name(inner) + " is not known");
  datum.address = address + static_cast<std::uint64_t>(position) * size;
  return datum;
}

Result<Datum> Evaluator::dereference(const ExpressionNode& node) {
  Result<Datum> datum = evaluate(*node.parts[0]);
  if (!datum) return datum;
  return pointed(*datum, 0);
}

Result<Datum> Evaluator::index(const ExpressionNode& node) {
  Result<Datum> base = evaluate(*node.parts[0]);
  if (!base) return base;
  Result<Datum> at = evaluate(*node.parts[1]);
  if (!at) return at;
  if (is_aggregate(*base)) {
    if (auto found = keyed(*base, *at)) return *found;
  }
  const Result<Number> number = number_in(*at, environment_);
  if (!number) return number.error();
  const auto position = static_cast<std::int64_t>(low_word(number->bits));
  Datum& datum = *base;
  if (datum.shape && datum.many) {
    if (position < 0 || static_cast<std::uint64_t>(position) >= datum.count)
      return problem("there are " + std::to_string(datum.count) + " elements, from 0");
    return lane(datum, *datum.shape, static_cast<std::uint64_t>(position));
  }
  if (!datum.type) return pointed(datum, position);
  debuginfo::Types& types = *datum.type.types;
  const Type& type = types[types.plain(datum.type.id)];
  if (type.is_aggregate()) return library_element(datum, position);
  if (type.kind != Type::Kind::array) return pointed(datum, position);
  return array_element(datum, position);
}

Result<Datum> Evaluator::array_element(Datum& datum, std::int64_t position) {
  debuginfo::Types& types = *datum.type.types;
  const TypeId inner = types.element_of(datum.type.id);
  const std::uint64_t size = types.size(inner);
  Datum result;
  result.type = {&types, inner};
  if (datum.place == Datum::Place::memory) {
    result.place = Datum::Place::memory;
    result.address = datum.address + static_cast<std::uint64_t>(position) * size;
    return result;
  }
  const std::uint64_t at = static_cast<std::uint64_t>(position) * size;
  if (position < 0 || at + size > datum.bytes.size()) return problem("the array has no such element");
  take_part(result, datum, at, size);
  return result;
}

Result<Datum> Evaluator::lane(Datum& datum, Shape shape, std::uint64_t position) {
  Datum result;
  result.shape = shape;
  const std::uint64_t at = position * shape.size;
  if (datum.place == Datum::Place::memory) {
    result.place = Datum::Place::memory;
    result.address = datum.address + at;
    return result;
  }
  if (at + shape.size > datum.bytes.size())
    return problem("there are " + std::to_string(datum.bytes.size() / shape.size) + " elements, from 0");
  result.loaded = true;
  if (datum.place == Datum::Place::reg) {
    result.place = Datum::Place::reg;
    result.part = datum.part;
    result.part.offset = static_cast<std::uint16_t>(result.part.offset + at * 8);
    result.part.width = static_cast<std::uint16_t>(shape.size * 8);
  }
  result.bytes.assign(datum.bytes.begin() + static_cast<std::ptrdiff_t>(at),
                      datum.bytes.begin() + static_cast<std::ptrdiff_t>(at + shape.size));
  return result;
}

Result<Datum> Evaluator::member(const ExpressionNode& node) {
  Result<Datum> base = evaluate(*node.parts[0]);
  if (!base) return base;
  if (node.op == Op::arrow || is_pointer(*base)) {
    base = pointed(*base, 0);
    if (!base) return base;
  }
  Datum& datum = *base;
  if (!datum.type || datum.shape) {
    const auto shape = shape_named(node.text, pointer_size());
    if (!shape || shape->kind == Shape::Kind::string || datum.place != Datum::Place::reg)
      return problem("." + node.text + ": it has no members");
    datum.shape = shape;
    datum.many = true;
    datum.count = datum.bytes.size() / shape->size;
    return datum;
  }
  debuginfo::Types& types = *datum.type.types;
  const Type& type = types[types.plain(datum.type.id)];
  if (!type.is_aggregate()) return problem("." + node.text + ": " + types.name(datum.type.id) + " has no members");
  if (auto found = find_member(datum, type, node.text, 0)) return *found;
  if (auto whole = as_what_it_is(datum)) {
    if (auto found = find_member(*whole, types[types.plain(whole->type.id)], node.text, 0)) return *found;
  }
  return problem(no_such_member(types, datum.type.id, node.text));
}

bool Evaluator::is_aggregate(const Datum& datum) {
  return datum.type && (*datum.type.types)[datum.type.types->plain(datum.type.id)].is_aggregate();
}

bool Evaluator::is_pointer(const Datum& datum) {
  if (!datum.type) return false;
  const Type::Kind kind = (*datum.type.types)[datum.type.types->plain(datum.type.id)].kind;
  return kind == Type::Kind::pointer || kind == Type::Kind::reference || kind == Type::Kind::rvalue_reference;
}

std::optional<Datum> Evaluator::find_member(Datum& whole, const Type& type, const std::string& name, int depth) {
  constexpr int kDeepest = 32;
  if (depth > kDeepest) return std::nullopt;
  debuginfo::Types& types = *whole.type.types;
  for (const debuginfo::Member& member : type.members) {
    Datum part;
    part.type = {&types, member.type};
    part.place = whole.place == Datum::Place::memory ? Datum::Place::memory : Datum::Place::none;
    part.address = whole.address + member.offset;
    if (member.moving) {
      const auto place = part.place == Datum::Place::memory
                             ? moving_base(member, whole.address, memory_of(environment_), pointer_size())
                             : std::nullopt;
      if (!place) continue;
      part.address = *place;
      const Type& inner = types[types.plain(member.type)];
      if (auto found = find_member(part, inner, name, depth + 1)) return found;
      continue;
    }
    part.bit_offset = member.bit_offset;
    part.bit_size = member.bit_size;
    if (whole.loaded) {
      const std::uint64_t size =
          member.bit_size != 0 ? (member.bit_offset + member.bit_size + 7U) / 8U : types.size(member.type);
      if (member.offset + size > whole.bytes.size()) continue;
      take_part(part, whole, member.offset, size);
    }
    if (!member.base && (member.name == name || name == captured_name(type, member))) return part;
    if (!member.name.empty() && !member.base) continue;
    const Type& inner = types[types.plain(member.type)];
    if (!inner.is_aggregate()) continue;
    if (auto found = find_member(part, inner, name, depth + 1)) return found;
  }
  return std::nullopt;
}

Result<Datum> Evaluator::address_of(const ExpressionNode& node) {
  Result<Datum> datum = evaluate(*node.parts[0]);
  if (!datum) return datum;
  if (datum->place == Datum::Place::reg) return problem("a register has no address");
  if (datum->place != Datum::Place::memory) return problem("a value that lies nowhere has no address");
  if (datum->bit_size != 0) return problem("a bit field has no address");
  Datum result = integer(datum->address, pointer_size() * 8, false);
  result.label = "address";
  if (datum->type) {
    result.type = {datum->type.types, datum->type.types->pointer_to(datum->type.id, pointer_size())};
  } else {
    result.shape = Shape{Shape::Kind::pointer, pointer_size()};
  }
  return result;
}

}  // namespace deeptrace::inspect
