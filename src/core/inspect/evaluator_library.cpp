// Objects of the C++ library as the language has them: elements, keys, what pointers and iterators refer to, and a few
// functions whose answers their layout knows; and objects of classes with virtual functions as what they are.
#include <algorithm>
#include <cstring>

#include "inspect/dynamic_type.h"
#include "inspect/evaluator.h"

namespace deeptrace::inspect {

using debuginfo::Type;
using debuginfo::TypeId;
using Kind = LibraryValue::Kind;
using Op = ExpressionNode::Op;

namespace {

constexpr std::uint64_t kMost = 1 << 20;  // places are listed for elements that lie apart

/// Functions whose answers the layout of an object gives.
constexpr std::string_view kFunctions[] = {"size", "length", "empty", "front",     "back",  "at",
                                           "data", "c_str",  "get",   "has_value", "value", "use_count"};

std::string known_functions() {
  std::string names;
  for (const std::string_view one : kFunctions) names += (names.empty() ? "" : ", ") + std::string(one) + "()";
  return names;
}

}  // namespace

namespace {

/// What an object wraps or refers to; nothing for those that lie in no memory, and for containers.
std::optional<Datum> inner_of(const Datum& datum, const std::optional<LibraryValue>& meant) {
  if (!meant || datum.place != Datum::Place::memory) return std::nullopt;
  if (!meant->is_inside() && meant->kind != Kind::refers) return std::nullopt;
  Datum inner;
  inner.place = Datum::Place::memory;
  inner.address = meant->address;
  inner.type = {datum.type.types, meant->type};
  return inner;
}

}  // namespace

std::optional<Datum> Evaluator::wrapped(Datum& datum) { return inner_of(datum, library_value(datum, environment_, 0)); }

Result<Datum> Evaluator::operand(const ExpressionNode& node) {
  Result<Datum> datum = evaluate(node);
  return datum ? unwrapped(std::move(*datum)) : datum;
}

Result<Datum> Evaluator::unwrapped(Datum datum) {
  while (is_aggregate(datum)) {
    const auto meant = library_value(datum, environment_, 0);
    if (meant && meant->kind == Kind::nothing) return problem("it holds nothing");
    auto inner = meant && meant->is_inside() ? inner_of(datum, meant) : std::nullopt;
    if (!inner) break;
    datum = std::move(*inner);
  }
  return datum;
}

Result<Datum> Evaluator::pointed(Datum& datum, std::int64_t position) {
  while (is_aggregate(datum)) {
    const auto meant = library_value(datum, environment_, 0);
    if (meant && meant->kind == Kind::nothing) return problem("it holds nothing");
    if (meant && meant->kind == Kind::past_end) return problem("it is past the end");
    auto inner = inner_of(datum, meant);
    if (!inner) break;
    datum = std::move(*inner);
    if (position == 0 && meant->kind == Kind::refers) return datum;
    if (!is_pointer(datum) && position == 0 && !is_aggregate(datum)) return datum;
  }
  if (datum.pointee && position == 0) return Datum(*datum.pointee);
  const Result<Number> number = number_in(datum, environment_);
  if (!number) return number.error();
  if (!number->pointer)
    return problem("it is not a pointer; say what lies there, as in [u32 " + std::string("…]") +
                   " or with a cast like (int *)");
  return element(number->pointer, low_word(number->bits), position);
}

Datum Evaluator::element_of(const Datum& whole, const LibraryValue& meant, std::uint64_t at) const {
  Datum result;
  result.place = Datum::Place::memory;
  result.type = {whole.type.types, meant.kind == Kind::tuple ? meant.types[at] : meant.type};
  if (meant.kind == Kind::bits) {
    result.address = meant.address + (meant.bit + at) / 8;
    result.bit_offset = static_cast<unsigned>((meant.bit + at) % 8);
    result.bit_size = 1;
    return result;
  }
  result.address = meant.lies_apart() ? meant.places[at] : meant.address + at * whole.type.types->size(meant.type);
  return result;
}

Result<Datum> Evaluator::library_element(Datum& datum, std::int64_t position) {
  const auto at = static_cast<std::uint64_t>(position);
  const auto meant = library_value(datum, environment_, std::min(at, kMost) + 1);
  if (meant && meant->is_inside()) {
    auto inner = wrapped(datum);
    if (!inner) return pointed(datum, position);
    const bool array = (*inner->type.types)[inner->type.types->plain(inner->type.id)].kind == Type::Kind::array;
    if (array) return array_element(*inner, position);
    return is_aggregate(*inner) ? library_element(*inner, position) : pointed(*inner, position);
  }
  if (!meant || !meant->has_index()) return pointed(datum, position);
  if (position < 0 || at >= meant->count)
    return problem("there are " + std::to_string(meant->count) + " elements, from 0");
  if (meant->lies_apart() && at >= meant->places.size())
    return problem("that element is too far away to be looked for");
  return element_of(datum, *meant, at);
}

std::optional<Result<Datum>> Evaluator::keyed(Datum& map, Datum& key) {
  const auto meant = library_value(map, environment_, kMost);
  if (!meant || meant->kind != Kind::elements) return std::nullopt;
  debuginfo::Types& types = *map.type.types;
  const Type& pair = types[types.plain(meant->type)];
  if (!pair.name.starts_with("std::pair<")) return Result<Datum>(problem("a set has no values for its keys"));
  const auto wanted_text = text_in(key);
  const bool by_text = wanted_text && *wanted_text;
  const Result<Number> wanted = by_text ? Result<Number>(Number{}) : number_in(key, environment_);
  if (!wanted) return Result<Datum>(wanted.error());
  for (std::size_t i = 0; i < meant->places.size(); ++i) {
    Datum one = element_of(map, *meant, i);
    auto first = find_member(one, pair, "first", 0);
    if (!first) break;
    bool same = false;
    if (by_text) {
      const auto text = text_in(*first);
      if (!text || !*text) return Result<Datum>(problem("its keys are no strings"));
      same = **text == **wanted_text;
    } else {
      const Result<Number> number = number_in(*first, environment_);
      if (!number) return Result<Datum>(number.error());
      same = number->bits == wanted->bits;
    }
    if (!same) continue;
    if (auto second = find_member(one, pair, "second", 0)) return Result<Datum>(std::move(*second));
  }
  return Result<Datum>(problem("it has no such key"));
}

std::optional<Datum> Evaluator::as_what_it_is(const Datum& datum) const {
  if (datum.place != Datum::Place::memory || !is_aggregate(datum)) return std::nullopt;
  const PointerReader names = environment_.pointers();
  const auto name_of = [&](std::uint64_t address) { return names ? names(0, address, false).name : std::string(); };
  const auto object = dynamic_object(*datum.type.types, datum.type.id, datum.address, memory_of(environment_),
                                     word_of(environment_), name_of);
  if (!object) return std::nullopt;
  Datum whole;
  whole.place = Datum::Place::memory;
  whole.address = object->address;
  whole.type = {datum.type.types, object->type};
  return whole;
}

Result<Datum> Evaluator::call(const ExpressionNode& node) {
  Result<Datum> object = evaluate(*node.parts[0]);
  if (!object) return object;
  if (node.value != 0 || is_pointer(*object)) {
    object = pointed(*object, 0);
    if (!object) return object;
  }
  return answer(*object, node.text, node);
}

Result<Datum> Evaluator::answer(Datum& object, const std::string& function, const ExpressionNode& node) {
  const Error unknown = problem(
      "." + function + "(): no code of the program is run for an expression; known of objects of the C++ library are " +
      known_functions());
  const auto meant = library_value(object, environment_, kMost);
  if (!meant || std::ranges::find(kFunctions, function) == std::end(kFunctions)) return unknown;
  const bool argument = function == "at";
  if (node.parts.size() != (argument ? 2U : 1U))
    return problem("." + function + "(): takes " + (argument ? "one argument" : "no argument"));
  if (function == "has_value") return truth(meant->kind != Kind::nothing);
  if (function == "use_count" && meant->kind == Kind::owner) return integer(meant->owners.value_or(0), 64, true);
  if (function == "get" && meant->kind == Kind::owner) return *wrapped(object);
  if (function == "value" && meant->kind == Kind::wrapped) return *wrapped(object);
  if (meant->is_inside()) {  // of a std::array, a std::stack
    auto inner = wrapped(object);
    if (!inner) return unknown;
    debuginfo::Types& types = *inner->type.types;
    const Type& type = types[types.plain(inner->type.id)];
    if (type.kind != Type::Kind::array) return is_aggregate(*inner) ? answer(*inner, function, node) : unknown;
    const std::uint64_t count = type.counts.empty() ? 0 : type.counts[0].value_or(0);
    if (function == "size") return integer(count, 64, false);
    if (function == "empty") return truth(count == 0);
    if (function == "front" && count != 0) return array_element(*inner, 0);
    if (function == "back" && count != 0) return array_element(*inner, static_cast<std::int64_t>(count) - 1);
    return unknown;
  }
  if (function == "at") {
    Result<Datum> at = evaluate(*node.parts[1]);
    if (!at) return at;
    if (auto found = keyed(object, *at)) return *found;
    const Result<std::uint64_t> position = inspect::number_of(*at, environment_);
    if (!position) return position.error();
    return library_element(object, static_cast<std::int64_t>(*position));
  }
  const bool counted = meant->has_index() || meant->kind == Kind::elements;
  if (!counted) return unknown;
  if (function == "size" || function == "length") return integer(meant->count, 64, false);
  if (function == "empty") return truth(meant->count == 0);
  if (function == "data" || function == "c_str") {
    if (meant->kind != Kind::string && meant->kind != Kind::sequence) return unknown;
    Datum result = integer(meant->address, pointer_size() * 8, false);
    result.type = {object.type.types, object.type.types->pointer_to(meant->type, pointer_size())};
    return result;
  }
  if (function != "front" && function != "back") return unknown;
  if (meant->count == 0) return problem("it is empty");
  const std::uint64_t at = function == "front" ? 0 : meant->count - 1;
  if (meant->lies_apart() && at >= meant->places.size())
    return problem("that element is too far away to be looked for");
  return element_of(object, *meant, at);
}

}  // namespace deeptrace::inspect
