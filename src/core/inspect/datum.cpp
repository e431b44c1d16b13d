// Reading, showing and changing what an expression stands for.
#include <algorithm>
#include <cstring>

#include "base/number.h"
#include "inspect/number.h"
#include "state/parts.h"

namespace deeptrace::inspect {

using debuginfo::Encoding;
using debuginfo::Type;
using debuginfo::TypeId;
using Op = ExpressionNode::Op;

namespace {

std::string unreadable(const state::StateView& view, std::uint64_t address) {
  return "memory at " + hex_text(address) + " " + std::string(view.why_unreadable(address));
}

/// A C string is as long as it is.
std::optional<Error> load_string(Datum& datum, Environment& environment) {
  constexpr std::size_t kMost = 4096, kPiece = 64;
  while (datum.bytes.size() < kMost) {
    std::uint8_t piece[kPiece];
    const std::uint64_t at = datum.address + datum.bytes.size();
    const std::size_t got = environment.view().read_memory(at, piece);
    const auto zero = static_cast<std::size_t>(std::find(piece, piece + got, std::uint8_t(0)) - piece);
    datum.bytes.insert(datum.bytes.end(), piece, piece + zero);
    if (zero != got) break;
    if (got < kPiece) {
      if (datum.bytes.empty()) return problem(unreadable(environment.view(), datum.address));
      break;
    }
  }
  datum.bytes.push_back(0);
  datum.loaded = true;
  return std::nullopt;
}

bool has_parts(const TypeRef& type) {
  const Type& plain = (*type.types)[type.types->plain(type.id)];
  return plain.is_aggregate() || plain.kind == Type::Kind::array;
}

}  // namespace

void take_part(Datum& part, const Datum& whole, std::uint64_t at, std::uint64_t size) {
  part.loaded = true;
  part.bytes.assign(whole.bytes.begin() + static_cast<std::ptrdiff_t>(at),
                    whole.bytes.begin() + static_cast<std::ptrdiff_t>(at + size));
  for (const Gap& gap : whole.gaps) {
    const std::uint64_t from = std::max(gap.from, at), to = std::min(gap.to, at + size);
    if (from < to) part.gaps.push_back({from - at, to - at});
  }
}

std::optional<Error> load(Datum& datum, Environment& environment) {
  if (datum.pointee) return problem("the compiler removed it; it would point to " + datum.pointee->label);
  if (datum.loaded) {
    const bool whole = datum.gaps.empty() || !datum.type || has_parts(datum.type);
    return whole ? std::nullopt : std::optional(problem("no value here"));
  }
  if (datum.shape && datum.shape->kind == Shape::Kind::string && !datum.many) return load_string(datum, environment);
  if (datum.type) {
    const Type& type = (*datum.type.types)[datum.type.types->plain(datum.type.id)];
    if (type.kind == Type::Kind::function) {
      datum.loaded = true;
      return std::nullopt;
    }
  }
  const std::uint64_t size = bytes_of(datum);
  constexpr std::uint64_t kMost = std::uint64_t(1) << 26;
  if (size == 0) return problem("its size is not known");
  if (size > kMost) return problem("it takes " + std::to_string(size) + " bytes, too many to show");
  datum.bytes.resize(size);
  const std::size_t got = environment.view().read_memory(datum.address, datum.bytes);
  if (got != size) {
    datum.bytes.clear();
    const std::string range = hex_text(datum.address) + (got == 0 ? "" : ".." + hex_text(datum.address + size));
    const std::string_view why = environment.view().why_unreadable(datum.address + got);
    return problem("memory at " + range + " " + std::string(why) +
                   (got == 0 ? "" : " from " + hex_text(datum.address + got) + " on"));
  }
  datum.loaded = true;
  return std::nullopt;
}

Result<Datum> referred(Datum datum, Environment& environment) {
  if (!datum.type || datum.bit_size != 0) return datum;
  debuginfo::Types& types = *datum.type.types;
  const Type& type = types[types.plain(datum.type.id)];
  if (type.kind != Type::Kind::reference && type.kind != Type::Kind::rvalue_reference) return datum;
  if (auto error = load(datum, environment)) return *error;
  Datum object;
  object.place = Datum::Place::memory;
  object.type = {&types, type.target};
  std::memcpy(&object.address, datum.bytes.data(), std::min<std::size_t>(8, datum.bytes.size()));
  return object;
}

MemoryReader memory_of(const Environment& environment) {
  const state::StateView& view = environment.view();
  return [&view](std::uint64_t address, std::span<std::uint8_t> into) {
    return view.read_memory(address, into) == into.size();
  };
}

std::optional<LibraryValue> library_value(Datum& datum, Environment& environment, std::uint64_t most) {
  if (!datum.type || datum.bit_size != 0 || load(datum, environment) || !datum.gaps.empty()) return std::nullopt;
  const PointerReader names = environment.pointers();
  const LibraryContext context{memory_of(environment),
                               [&](std::uint64_t address) { return names ? names(0, address, false).name : ""; },
                               word_of(environment), most};
  return library_value(*datum.type.types, datum.type.id, datum.bytes, datum.address, context);
}

std::string not_set_words(std::uint32_t line) { return "not yet set here: declared on line " + std::to_string(line); }

Value value_of(Datum& datum, Environment& environment, const ValueLimits& limits) {
  Value value;
  if (datum.declared_ahead != 0) {
    value.kind = Value::Kind::not_set;
    value.text = not_set_words(datum.declared_ahead);
    value.type = datum.type.types->name(datum.type.id);
    value.address = datum.place == Datum::Place::memory ? datum.address : 0;
    return value;
  }
  if (auto error = load(datum, environment)) {
    value.text = error->message;
    return value;
  }
  if (datum.bit_size != 0) {
    std::uint64_t bits = 0;
    std::memcpy(&bits, datum.bytes.data(), std::min<std::size_t>(8, datum.bytes.size()));
    const std::uint64_t field = low_word(extended(bits >> datum.bit_offset, datum.bit_size, false));
    debuginfo::Types& types = *datum.type.types;
    std::vector<std::uint8_t> raw(std::max<std::uint64_t>(1, types.size(datum.type.id)));
    std::memcpy(raw.data(), &field, std::min<std::size_t>(8, raw.size()));
    value = value_of(types, datum.type.id, raw, datum.address, environment.pointers(), limits);
    value.bits = datum.bit_size;
    value.bit_field = true;
    value.bit_offset = datum.bit_offset;
    return value;
  }
  if (datum.type) {
    const Type& type = (*datum.type.types)[datum.type.types->plain(datum.type.id)];
    if (type.kind != Type::Kind::function) {
      const std::uint64_t address = datum.place == Datum::Place::memory ? datum.address : 0;
      ValueLimits within = limits;
      within.memory = memory_of(environment);
      within.word = word_of(environment);
      within.gaps = datum.gaps;
      return object_of(*datum.type.types, datum.type.id, datum.bytes, address, environment.pointers(), within);
    }
    value.kind = Value::Kind::pointer;
    value.number = datum.address;
    value.bits = 64;
    value.size = 8;
    value.text = datum.label;
    value.type = datum.type.types->name(datum.type.id);
    return value;
  }
  if (datum.text_literal) {
    value.kind = Value::Kind::string;
    value.text.assign(datum.bytes.begin(), datum.bytes.end());
    return value;
  }
  if (datum.shape) {
    const std::uint64_t address = datum.place == Datum::Place::memory ? datum.address : 0;
    ValueLimits within = limits;
    within.word = word_of(environment);
    value = value_of(*datum.shape, datum.bytes, address, environment.pointers(), within);
    value.from_code = datum.from_code;
    return value;
  }
  value.size = datum.bytes.size();
  value.bits = datum.bits;
  value.is_signed = datum.is_signed || datum.signless;  // people read registers with their sign
  std::memcpy(&value.number, datum.bytes.data(), std::min<std::size_t>(8, datum.bytes.size()));
  value.number = low_word(extended(value.number, datum.bits, false));
  value.kind = Value::Kind::integer;
  if (datum.floating) return value_of(Shape{Shape::Kind::floating, 8}, datum.bytes, 0, environment.pointers(), limits);
  if (datum.bytes.size() > 8) {
    if (datum.place == Datum::Place::reg || datum.bytes.size() != sizeof(Wide)) value.kind = Value::Kind::bytes;
    value.raw = datum.bytes;
  } else if (datum.signless && datum.bits == word_of(environment) * 8 && datum.label.empty()) {
    (void)take_for_pointer(value, environment.pointers());
  }
  return value;
}

Result<std::uint64_t> number_of(Datum& datum, Environment& environment) {
  const Result<Number> number = number_in(datum, environment);
  if (!number) return number.error();
  if (number->floating) return problem("an integer is needed, not a floating-point number");
  return low_word(number->bits);
}

std::uint64_t size_of(const Datum& datum, Environment& /*environment*/) { return bytes_of(datum); }

std::optional<Error> assign(Datum& to, Datum& value, Environment& environment, state::StateEdit& edit) {
  if (to.place == Datum::Place::none)
    return problem(to.label == "flag" || to.label == "flags" ? "flags are set through rflags as a whole"
                                                             : "it lies nowhere, so it cannot be set");
  if (auto error = load(value, environment)) return error;
  const Result<Number> number = number_in(value, environment);
  if (!number) {
    // Whole structures and vectors are copied.
    if (auto error = load(to, environment)) return error;
    if (to.bytes.size() != value.bytes.size()) return problem("the two are not of one size");
    to.bytes = value.bytes;
  } else if (to.bit_size != 0) {
    if (auto error = load(to, environment)) return error;
    std::uint64_t bits = 0;
    std::memcpy(&bits, to.bytes.data(), std::min<std::size_t>(8, to.bytes.size()));
    const std::uint64_t mask = low_word(extended(~0ULL, to.bit_size, false)) << to.bit_offset;
    bits = (bits & ~mask) | (low_word(number->bits) << to.bit_offset & mask);
    std::memcpy(to.bytes.data(), &bits, std::min<std::size_t>(8, to.bytes.size()));
  } else {
    if (auto error = load(to, environment)) return error;
    const std::size_t size = to.bytes.size();
    bool real = to.shape && to.shape->kind == Shape::Kind::floating;
    if (to.type) {
      const Type& type = (*to.type.types)[to.type.types->plain(to.type.id)];
      if (type.is_aggregate() || type.kind == Type::Kind::array) return problem("it is not a number; set its members");
      real = type.kind == Type::Kind::base && type.encoding == Encoding::floating;
    }
    if (to.many || size > 16) return problem("it holds several values; set one of them");
    const long double wide = real_value(*number);
    if (!real) {
      const Result<Wide> bits = integer_of(*number, size);
      if (!bits) return problem(bits.error().message);
      if (!number->floating && size < 8) {
        const auto width = static_cast<unsigned>(8 * size);
        const bool fits =
            extended(*bits, width, false) == *bits || (extended(*bits, width, true) == *bits && number->is_signed);
        if (!fits) return problem("the value does not fit " + std::to_string(size) + " bytes");
      }
      std::ranges::fill(to.bytes, std::uint8_t(0));
      std::memcpy(to.bytes.data(), &*bits, std::min(sizeof *bits, size));
    } else if (size == 4) {
      const auto narrow = static_cast<float>(wide);
      std::memcpy(to.bytes.data(), &narrow, 4);
    } else if (size == 8) {
      const auto narrow = static_cast<double>(wide);
      std::memcpy(to.bytes.data(), &narrow, 8);
    } else {
      std::memcpy(to.bytes.data(), &wide, std::min<std::size_t>(10, size));
    }
  }
  const bool done =
      to.place == Datum::Place::reg ? edit.write_register(to.part, to.bytes) : edit.write_memory(to.address, to.bytes);
  if (!done) return problem("it could not be written");
  return std::nullopt;
}

}  // namespace deeptrace::inspect
