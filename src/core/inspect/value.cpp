#include "inspect/value.h"

#include <algorithm>
#include <charconv>
#include <cstring>

#include "base/number.h"
#include "inspect/dynamic_type.h"
#include "inspect/wide_text.h"

namespace deeptrace::inspect {
namespace {

using debuginfo::Encoding;
using debuginfo::Type;
using debuginfo::TypeId;
using debuginfo::Types;
using Kind = Value::Kind;

Value unknown(std::string why) {
  Value value;
  value.text = std::move(why);
  return value;
}

/// The shortest decimal text that reads back as the same number.
template <typename T>
std::string decimal(Bytes bytes) {
  T number{};
  std::memcpy(&number, bytes.data(), std::min(sizeof number, bytes.size()));
  char buffer[64];
  const auto end = std::to_chars(buffer, buffer + sizeof buffer, number);
  return {buffer, end.ptr};
}

/// IEEE 754 half precision, exactly as a float.
std::string half_decimal(Bytes bytes) {
  const unsigned word = bytes[0] | unsigned(bytes[1]) << 8;
  const unsigned exponent = word >> 10 & 31, fraction = word & 0x3ff;
  float magnitude = 0;
  if (exponent == 31) {
    magnitude = fraction == 0 ? __builtin_inff() : __builtin_nanf("");
  } else {
    magnitude = exponent == 0 ? __builtin_ldexpf(float(fraction), -24)
                              : __builtin_ldexpf(float(fraction | 0x400), int(exponent) - 25);
  }
  if ((word & 0x8000) != 0) magnitude = -magnitude;
  std::uint8_t raw[sizeof magnitude];
  std::memcpy(raw, &magnitude, sizeof raw);
  return decimal<float>(raw);
}

void read_scalar(Value& value, Bytes bytes) {
  value.size = bytes.size();
  value.bits = static_cast<unsigned>(bytes.size()) * 8;
  std::memcpy(&value.number, bytes.data(), std::min<std::size_t>(bytes.size(), 8));
  if (bytes.size() > 8) value.raw.assign(bytes.begin(), bytes.end());
}

void read_floating(Value& value, Bytes bytes) {
  value.kind = Kind::floating;
  switch (bytes.size()) {
    case 2: value.text = half_decimal(bytes); break;
    case 4: value.text = decimal<float>(bytes); break;
    case 8: value.text = decimal<double>(bytes); break;
    case 10:
    case 12:
    case 16: value.text = decimal<long double>(bytes.first(10)); break;
    default: value.kind = Kind::bytes;
  }
}

void read_pointer(Value& value, const PointerReader& pointers, bool characters) {
  value.kind = Kind::pointer;
  if (!pointers) return;
  Pointed pointed = pointers(value.address, value.number, characters);
  value.text = std::move(pointed.name);
  value.pointed_text = std::move(pointed.text);
  if (!pointed.region.empty()) value.remarks.change().region = std::move(pointed.region);
  value.number = pointed.value;
  if (!pointed.known) {
    value.kind = Kind::unknown;
    value.text =
        "the loader puts " + (value.text.empty() ? std::string("it there") : "the address of " + value.text + " there");
  }
}

/// The characters of a number that was written as such: 'A', "done", "abc" and an end mark; else nothing.
std::string characters_of(Bytes bytes) {
  const auto zero = std::ranges::find(bytes, 0);
  const auto length = static_cast<std::size_t>(zero - bytes.begin());
  const bool padded = std::all_of(zero, bytes.end(), [](std::uint8_t b) { return b == 0; });
  constexpr std::size_t kWithEndMark = 3;
  const bool enough = length == bytes.size() || (length >= kWithEndMark && padded);
  const bool printable = std::all_of(bytes.begin(), zero, [](std::uint8_t b) { return b >= 0x20 && b < 0x7f; });
  return length != 0 && enough && printable ? std::string(bytes.begin(), zero) : std::string();
}

void read_text(Value& value, Bytes bytes) {
  value.kind = Kind::string;
  value.count = bytes.size();
  value.size = bytes.size();
  const auto zero = std::ranges::find(bytes, 0);
  value.text.assign(bytes.begin(), zero);
  value.raw.assign(bytes.begin(), bytes.end());
}

/// Printable characters, line ends and tabs, in UTF-8 (RFC 3629).
bool is_readable(Bytes bytes) {
  for (std::size_t at = 0; at < bytes.size();) {
    const std::uint8_t lead = bytes[at++];
    if (lead == 0x7f || (lead < 0x20 && lead != '\n' && lead != '\t')) return false;
    if (lead < 0x80) continue;
    const int more = lead >= 0xc2 && lead <= 0xdf   ? 1
                     : (lead & 0xf0) == 0xe0        ? 2
                     : lead >= 0xf0 && lead <= 0xf4 ? 3
                                                    : 0;
    if (more == 0) return false;
    for (int i = 0; i < more; ++i, ++at) {
      if (at >= bytes.size() || (bytes[at] & 0xc0) != 0x80) return false;
    }
  }
  return true;
}

class Reader {
 public:
  Reader(Types& types, const PointerReader& pointers, const ValueLimits& limits, Bytes whole)
      : types_(types), pointers_(pointers), limits_(limits), whole_(whole) {}

  Value read(TypeId id, Bytes bytes, std::uint64_t address, int depth) {
    const TypeId plain = types_.plain(id);
    const Type& type = types_[plain];
    const std::uint64_t size = types_.size(id);
    Value value;
    if (depth > limits_.depth) {
      value = unknown("too deep to show");
    } else if (type.kind == Type::Kind::none || type.kind == Type::Kind::function) {
      value = unknown("a value without a size");
    } else if (!type.complete) {
      value = unknown("its type is only declared here");
    } else if (bytes.size() < size) {
      value = unknown("its bytes are not in the file");
    } else if (is_gone(type, bytes.first(size))) {
      value = unknown("no value here");
    } else {
      value.address = address;
      value.size = size;
      // More than its size is given for what its last member takes ("int items[]").
      const bool flexible = bytes.size() > size && depth == 0 && types_.flexible_part(plain);
      fill(value, id, flexible ? bytes : bytes.first(size), address, depth);
    }
    value.address = address;
    value.size = size;
    value.type = types_.name(id);
    return value;
  }

  /// The object that this one is a part of; nothing where it is the whole.
  std::optional<DynamicObject> dynamic(TypeId id, std::uint64_t address) {
    if (!limits_.memory || !types_[types_.plain(id)].is_aggregate()) return std::nullopt;
    return dynamic_object(types_, id, address, limits_.memory, limits_.word, names());
  }
  /// An object that something points to, as what it is: of its own class.
  Value read_object(TypeId id, std::uint64_t address, int depth) {
    if (const auto object = dynamic(id, address)) {
      id = object->type;
      address = object->address;
    }
    const std::uint64_t size = types_.size(id);
    std::vector<std::uint8_t> raw(std::min<std::uint64_t>(size, kMostBytes));
    if (raw.empty() || raw.size() != size || !limits_.memory(address, raw)) return unknown("its memory cannot be read");
    ++elsewhere_;
    return read(id, raw, address, depth);
  }

 private:
  /// True where all of a value's bytes are nowhere; of one without parts, where one is.
  [[nodiscard]] bool is_gone(const Type& type, Bytes bytes) const {
    if (limits_.gaps.empty() || bytes.empty() || bytes.data() < whole_.data() ||
        bytes.data() >= whole_.data() + whole_.size())
      return false;
    const auto from = static_cast<std::uint64_t>(bytes.data() - whole_.data()), to = from + bytes.size();
    const bool has_parts = type.is_aggregate() || type.kind == Type::Kind::array;
    return std::ranges::any_of(limits_.gaps, [&](const Gap& gap) {
      return has_parts ? gap.from <= from && to <= gap.to : gap.from < to && from < gap.to;
    });
  }
  [[nodiscard]] std::function<std::string(std::uint64_t)> names() const {
    if (!pointers_) return {};
    return [this](std::uint64_t address) { return pointers_(0, address, false).name; };
  }

  void fill(Value& value, TypeId id, Bytes bytes, std::uint64_t address, int depth) {
    const Type& type = types_[types_.plain(id)];
    switch (type.kind) {
      case Type::Kind::base:
        base(value, type.encoding, bytes);
        if (character_size(types_, id) != 0) value.kind = Kind::character;
        return;
      case Type::Kind::enumeration: return enumeration(value, type, bytes);
      case Type::Kind::array: return array(value, type, 0, bytes, address, depth);
      case Type::Kind::structure:
      case Type::Kind::class_type:
      case Type::Kind::union_type:
        if (!library_object(value, id, bytes, address, depth)) aggregate(value, type, bytes, address, depth);
        return;
      case Type::Kind::pointer:
      case Type::Kind::reference:
      case Type::Kind::rvalue_reference: {
        const Type& target = types_[types_.plain(type.target)];
        const bool characters = target.encoding == Encoding::signed_char || target.encoding == Encoding::unsigned_char;
        read_scalar(value, bytes);
        const std::uint64_t wide = character_size(types_, type.target);
        read_pointer(value, pointers_, characters && type.kind == Type::Kind::pointer);
        if (wide > 1 && value.kind == Kind::pointer) value.pointed_text = text_at(value.number, wide);
        if (value.kind != Kind::pointer || value.number == 0) return;
        if (const auto object = dynamic(type.target, value.number))
          value.remarks.change().dynamic = types_.name(object->type);
        if (type.kind != Type::Kind::pointer) add_referred(value, type.target, depth);
        return;
      }
      case Type::Kind::unspecified:
        if (type.size == 0) break;
        value.kind = Kind::pointer;  // decltype(nullptr): whatever its bytes are
        value.bits = static_cast<unsigned>(type.size) * 8;
        return;
      default: break;
    }
    read_scalar(value, bytes);
    value.kind = bytes.size() <= 8 && !bytes.empty() ? Kind::integer : Kind::bytes;
  }

  /// The characters of two or four bytes each at an address, up to a zero.
  [[nodiscard]] std::string text_at(std::uint64_t address, std::uint64_t size) const {
    constexpr std::size_t kMost = 80;
    std::vector<std::uint8_t> units, unit(size);
    while (address != 0 && limits_.memory && units.size() < kMost * size) {
      if (!limits_.memory(address + units.size(), unit)) break;
      if (std::ranges::all_of(unit, [](std::uint8_t b) { return b == 0; })) break;
      units.insert(units.end(), unit.begin(), unit.end());
    }
    return utf8_of(units, size);
  }

  static void base(Value& value, Encoding encoding, Bytes bytes) {
    read_scalar(value, bytes);
    value.kind = bytes.size() <= 8 ? Kind::integer : Kind::bytes;
    switch (encoding) {
      case Encoding::boolean: value.kind = Kind::truth; break;
      case Encoding::signed_char: value.is_signed = true; [[fallthrough]];
      case Encoding::unsigned_char:
      case Encoding::utf: value.kind = Kind::character; break;
      case Encoding::signed_integer:
        value.is_signed = true;
        if (bytes.size() == 16) value.kind = Kind::integer;
        break;
      case Encoding::unsigned_integer:
        if (bytes.size() == 16) value.kind = Kind::integer;
        break;
      case Encoding::floating: read_floating(value, bytes); break;
      case Encoding::complex_float: {
        value.kind = Kind::aggregate;
        for (const bool imaginary : {false, true}) {
          Value part;
          const Bytes half = bytes.subspan(imaginary ? bytes.size() / 2 : 0, bytes.size() / 2);
          read_scalar(part, half);
          read_floating(part, half);
          part.address = value.address + (imaginary ? bytes.size() / 2 : 0);
          part.label = imaginary ? "imaginary" : "real";
          value.parts.push_back(std::move(part));
        }
        break;
      }
      default: break;
    }
  }

  void enumeration(Value& value, const Type& type, Bytes bytes) {
    read_scalar(value, bytes);
    value.kind = Kind::enumeration;
    const Type& under = types_[types_.plain(type.target)];
    const bool negative = std::ranges::any_of(type.enumerators, [](const auto& e) { return e.value < 0; });
    value.is_signed = under.encoding == Encoding::signed_integer || (type.target == debuginfo::kVoid && negative);
    name_enumerator(value, type);
  }

  /// The enumerator of a value, or those single bits that make it up together.
  static void name_enumerator(Value& value, const Type& type) {
    const std::uint64_t mask = value.bits >= 64 ? ~std::uint64_t(0) : (std::uint64_t(1) << value.bits) - 1;
    std::uint64_t left = value.number;
    for (const auto& one : type.enumerators) {
      if ((static_cast<std::uint64_t>(one.value) & mask) == value.number) {
        value.text = one.name;
        return;
      }
    }
    for (const auto& one : type.enumerators) {
      const std::uint64_t bit = static_cast<std::uint64_t>(one.value) & mask;
      if (bit == 0 || (bit & (bit - 1)) != 0 || (left & bit) == 0) continue;
      value.text += (value.text.empty() ? "" : " | ") + one.name;
      left &= ~bit;
    }
    if (left != 0) value.text.clear();
  }

  void array(Value& value, const Type& type, std::size_t dimension, Bytes bytes, std::uint64_t address, int depth) {
    const TypeId element = type.target;
    const Type& plain = types_[types_.plain(element)];
    const std::uint64_t element_size = types_.size(element);
    std::uint64_t below = element_size;  // bytes of one element of this dimension
    for (std::size_t i = dimension + 1; i < type.counts.size(); ++i) below *= type.counts[i].value_or(0);
    value.kind = Kind::array;
    value.count = below == 0 ? 0 : bytes.size() / below;
    const bool last = dimension + 1 >= type.counts.size();
    const bool characters = plain.kind == Type::Kind::base && element_size == 1 &&
                            (plain.encoding == Encoding::signed_char || plain.encoding == Encoding::unsigned_char);
    // Bytes that are used as numbers have the same type; what is not readable is shown as numbers.
    if (last && characters && reads_as_text(bytes)) return read_text(value, bytes);
    if (const std::uint64_t wide = character_size(types_, element); last && wide > 1 && !bytes.empty()) {
      const std::uint64_t length = wide_length(bytes, wide);
      const std::string text = utf8_of(bytes.first(length * wide), wide);
      if (is_readable(Bytes(reinterpret_cast<const std::uint8_t*>(text.data()), text.size()))) {
        value.kind = Kind::string;
        value.text = text;
        value.raw.assign(bytes.begin(), bytes.end());
        return;
      }
    }
    for (std::uint64_t i = 0; i < std::min<std::uint64_t>(value.count, limits_.elements); ++i) {
      const Bytes part = bytes.subspan(i * below, below);
      if (last) {
        value.parts.push_back(read(element, part, address + i * below, depth + 1));
      } else {
        Value row;
        row.address = address + i * below;
        row.size = below;
        array(row, type, dimension + 1, part, row.address, depth + 1);
        value.parts.push_back(std::move(row));
      }
    }
  }

  /// Units of `size` bytes before the first zero.
  static std::uint64_t wide_length(Bytes bytes, std::uint64_t size) {
    std::uint64_t length = 0;
    const auto zero = [&](std::uint64_t i) {
      const Bytes unit = bytes.subspan(i * size, size);
      return std::ranges::all_of(unit, [](std::uint8_t b) { return b == 0; });
    };
    while ((length + 1) * size <= bytes.size() && !zero(length)) ++length;
    return length;
  }

  static bool reads_as_text(Bytes bytes) {
    const auto zero = std::ranges::find(bytes, 0);
    return std::ranges::all_of(zero, bytes.end(), [](std::uint8_t b) { return b == 0; }) &&
           std::all_of(bytes.begin(), zero, [](std::uint8_t b) {
             return (b >= 0x20 && b != 0x7f) || b == '\n' || b == '\t' || b == '\r' || b == 0x1b;
           });
  }

  void aggregate(Value& value, const Type& type, Bytes bytes, std::uint64_t address, int depth) {
    value.kind = Kind::aggregate;
    for (const debuginfo::Member& member : type.members) {
      if (member.base && is_empty(member.type)) continue;
      Value part;
      if (member.moving) {
        part = virtual_base(member, address, depth);
      } else if (member.bit_size != 0) {
        part = bit_field(member, bytes, address);
      } else {
        const Bytes rest = member.offset <= bytes.size() ? bytes.subspan(member.offset) : Bytes{};
        const bool takes_rest = depth == 0 && bytes.size() > type.size && &member == &type.members.back();
        part = read(member.type, rest, address + member.offset, depth + 1);
        if (takes_rest) take_rest(part, member.type, rest, depth + 1);
      }
      const std::string_view captured = captured_name(type, member);
      part.label = captured.empty() ? member.name : std::string(captured);
      part.base = member.base;
      if (member.base) part.label = types_[types_.plain(member.type)].name;
      value.parts.push_back(std::move(part));
    }
  }

  /// A last member without a size of its own has the elements that fit.
  void take_rest(Value& part, TypeId id, Bytes rest, int depth) {
    const Type& type = types_[types_.plain(id)];
    if (type.kind != Type::Kind::array) return;
    array(part, type, 0, rest, part.address, depth);
    part.size = rest.size();
  }

  Value virtual_base(const debuginfo::Member& member, std::uint64_t address, int depth) {
    const auto place = moving_base(member, address, limits_.memory, limits_.word);
    const std::uint64_t size = types_.size(member.type);
    std::vector<std::uint8_t> raw(std::min<std::uint64_t>(size, kMostBytes));
    Value part = unknown("a virtual base: its place is known only at run time");
    if (place && raw.size() == size && limits_.memory(*place, raw)) return read(member.type, raw, *place, depth + 1);
    part.type = types_.name(member.type);
    return part;
  }

  /// What an object of the C++ library stands for; false for anything else.
  bool library_object(Value& value, TypeId id, Bytes bytes, std::uint64_t address, int depth) {
    if (!limits_.memory || limits_.as_members) return false;
    const LibraryContext context{limits_.memory, names(), limits_.word, limits_.elements};
    const auto meant = library_value(types_, id, bytes, address, context);
    if (!meant) return false;
    using Meant = LibraryValue::Kind;
    switch (meant->kind) {
      case Meant::nothing: value.kind = Kind::nothing; return true;
      case Meant::past_end:
        value.kind = Kind::nothing;
        value.text = "past the end";
        return true;
      case Meant::string: return characters(value, *meant);
      case Meant::wrapped:
      case Meant::owner: {
        const std::uint64_t offset = meant->address - address;
        const Bytes inner = offset <= bytes.size() ? bytes.subspan(offset) : Bytes{};
        value = read(meant->type, inner, meant->address, depth + 1);
        if (meant->kind == Meant::owner) add_owned(value, *meant, depth);
        if (!meant->name.empty()) value.remarks.change().unit = meant->name;
        return true;
      }
      case Meant::state:
        value.kind = Kind::state;
        value.text = meant->name;
        return true;
      case Meant::calls:
      case Meant::refers:
        value.kind = Kind::pointer;
        value.number = meant->address;
        value.bits = limits_.word * 8;
        value.text = meant->name;
        if (meant->kind == Meant::refers) value.parts = {read_object(meant->type, meant->address, depth + 1)};
        return true;
      case Meant::bits: return bits(value, *meant);
      case Meant::tuple: tuple(value, *meant, bytes, address, depth); return true;
      default: elements(value, *meant, depth); return true;
    }
  }

  /// What a smart pointer owns is shown with it; not what that owns in turn, which may go round in a circle.
  void add_owned(Value& value, const LibraryValue& meant, int depth) {
    constexpr int kDeepest = 2;
    if (value.kind != Kind::pointer) return;
    if (meant.owners || meant.watchers) {
      value.remarks.change().owners = meant.owners;
      value.remarks.change().watchers = meant.watchers;
    }
    const TypeId target = types_[types_.plain(meant.type)].target;
    const bool alive = value.number != 0 && meant.owners.value_or(1) != 0;
    if (!alive || depth > kDeepest || elsewhere_ >= kMostElsewhere || types_.size(target) == 0) return;
    value.parts = {read_object(target, value.number, depth + 1)};
    if (!value.remarks->region.empty()) value.remarks.change().region.clear();
  }

  /// A reference stands for what it refers to.
  void add_referred(Value& value, TypeId target, int depth) {
    constexpr int kDeepest = 2;
    if (depth > kDeepest || !limits_.memory || elsewhere_ >= kMostElsewhere || types_.size(target) == 0) return;
    value.parts = {read_object(target, value.number, depth + 1)};
    if (!value.remarks->region.empty()) value.remarks.change().region.clear();
  }

  bool bits(Value& value, const LibraryValue& meant) {
    value.kind = Kind::array;
    value.count = meant.count;
    for (std::uint64_t i = 0; i < std::min<std::uint64_t>(meant.count, limits_.elements); ++i) {
      Value one;
      std::uint8_t byte = 0;
      one.address = meant.address + (meant.bit + i) / 8;
      if (!limits_.memory(one.address, {&byte, 1})) return false;
      one.kind = Kind::truth;
      one.size = one.bits = 1;
      one.bit_field = true;
      one.bit_offset = static_cast<unsigned>((meant.bit + i) % 8);
      one.number = byte >> one.bit_offset & 1U;
      one.type = "bool";
      value.parts.push_back(std::move(one));
    }
    return true;
  }

  void tuple(Value& value, const LibraryValue& meant, Bytes bytes, std::uint64_t address, int depth) {
    value.kind = Kind::array;
    value.count = meant.count;
    for (std::size_t i = 0; i < meant.places.size(); ++i) {
      const std::uint64_t offset = meant.places[i] - address;
      const Bytes inner = offset <= bytes.size() ? bytes.subspan(offset) : Bytes{};
      value.parts.push_back(read(meant.types[i], inner, meant.places[i], depth + 1));
    }
  }

  void elements(Value& value, const LibraryValue& meant, int depth) {
    using Meant = LibraryValue::Kind;
    value.kind = Kind::array;
    value.count = meant.count;
    const std::uint64_t size = types_.size(meant.type);
    const std::uint64_t shown =
        meant.kind == Meant::sequence ? std::min<std::uint64_t>(meant.count, limits_.elements) : meant.places.size();
    std::vector<std::uint8_t> raw(std::min<std::uint64_t>(size, kMostBytes));
    for (std::uint64_t i = 0; i < shown && elsewhere_ < kMostElsewhere; ++i, ++elsewhere_) {
      const std::uint64_t place = meant.kind == Meant::sequence ? meant.address + i * size : meant.places[i];
      const bool got = raw.size() == size && limits_.memory(place, raw);
      value.parts.push_back(got ? read(meant.type, raw, place, depth + 1) : unknown("its memory cannot be read"));
    }
  }

  bool characters(Value& value, const LibraryValue& meant) {
    const std::uint64_t size = character_size(types_, meant.type);
    if (size == 0) return false;
    std::vector<std::uint8_t> text(std::min(meant.count, kMostBytes) * size);
    if (!text.empty() && !limits_.memory(meant.address, text)) return false;
    value.kind = Kind::string;
    value.count = meant.count;
    value.text = utf8_of(text, size);
    value.raw = std::move(text);
    return true;
  }

  /// A class without data, such as the allocators that containers have as bases.
  bool is_empty(TypeId id) {
    const Type& type = types_[types_.plain(id)];
    return type.is_aggregate() && type.complete && type.size <= 1 &&
           std::ranges::all_of(type.members, [&](const debuginfo::Member& one) {
             return one.base && !one.moving && is_empty(one.type);
           });
  }

  Value bit_field(const debuginfo::Member& member, Bytes bytes, std::uint64_t address) {
    Value value;
    const std::uint64_t size = (member.bit_offset + member.bit_size + 7U) / 8U;
    if (member.offset > bytes.size() || bytes.size() - member.offset < size || size > 9)
      return unknown("its bytes are not in the file");
    const Bytes held = bytes.subspan(member.offset, size);
    unsigned __int128 wide = 0;
    std::memcpy(&wide, held.data(), size);
    const Type& type = types_[types_.plain(member.type)];
    const std::uint64_t mask = member.bit_size >= 64 ? ~std::uint64_t(0) : (std::uint64_t(1) << member.bit_size) - 1;
    value.kind = type.encoding == Encoding::boolean ? Kind::truth : Kind::integer;
    value.number = static_cast<std::uint64_t>(wide >> member.bit_offset) & mask;
    value.bits = member.bit_size;
    value.bit_field = true;
    value.bit_offset = member.bit_offset;
    value.is_signed = type.encoding == Encoding::signed_integer || type.encoding == Encoding::signed_char;
    if (type.kind == Type::Kind::enumeration) {
      value.kind = Kind::enumeration;
      value.is_signed = types_[types_.plain(type.target)].encoding == Encoding::signed_integer;
      name_enumerator(value, type);
    }
    value.address = address + member.offset;
    value.size = size;
    value.type = types_.name(member.type) + " : " + std::to_string(member.bit_size);
    return value;
  }

  Types& types_;
  const PointerReader& pointers_;
  const ValueLimits& limits_;
  Bytes whole_;
  static constexpr std::uint64_t kMostBytes = 1 << 16, kMostElsewhere = 4096;
  std::uint64_t elsewhere_ = 0;  ///< elements that were read outside the object
};

/// Matches ".member" or "[3]" at the start of `path`, which is moved after it.
const Value* step(const Value& value, std::string_view& path) {
  if (path.front() == '[') {
    const std::size_t close = path.find(']');
    if (close == std::string_view::npos) return nullptr;
    const auto index = number_in(path.substr(1, close - 1));
    path.remove_prefix(close + 1);
    if (!index || *index >= value.parts.size() || value.kind != Value::Kind::array) return nullptr;
    return &value.parts[*index];
  }
  if (path.front() != '.') return nullptr;
  path.remove_prefix(1);
  const std::string_view name = path.substr(0, path.find_first_of(".["));
  path.remove_prefix(name.size());
  // Members of unnamed members and of base classes count as the whole's own.
  std::vector<const Value*> open = {&value};
  for (std::size_t i = 0; i < open.size(); ++i) {
    for (const Value& part : open[i]->parts) {
      if (part.label == name) return &part;
      if (part.label.empty() || part.base) open.push_back(&part);
    }
  }
  return nullptr;
}

}  // namespace

Value value_of(Types& types, TypeId type, Bytes bytes, std::uint64_t address, const PointerReader& pointers,
               const ValueLimits& limits) {
  return Reader(types, pointers, limits, bytes).read(type, bytes, address, 0);
}

Value object_of(Types& types, TypeId type, Bytes bytes, std::uint64_t address, const PointerReader& pointers,
                const ValueLimits& limits) {
  Reader reader(types, pointers, limits, bytes);
  const bool whole = address == 0 || limits.as_members || !reader.dynamic(type, address);
  if (whole) return reader.read(type, bytes, address, 0);
  Value value = reader.read_object(type, address, 0);
  value.type += " (declared as " + types.name(type) + ")";
  return value;
}

bool take_for_pointer(Value& value, const PointerReader& pointers) {
  if (!pointers || (value.number == 0 && value.address == 0)) return false;
  if (!pointers(value.address, value.number, false).is_address) return false;
  read_pointer(value, pointers, false);
  return true;
}

Value value_of(Shape shape, Bytes bytes, std::uint64_t address, const PointerReader& pointers,
               const ValueLimits& limits) {
  Value value;
  value.address = address;
  value.size = bytes.size();
  if (shape.kind == Shape::Kind::string) {
    read_text(value, bytes);
    return value;
  }
  if (shape.kind == Shape::Kind::bytes) {
    value.kind = Kind::bytes;
    value.raw.assign(bytes.begin(), bytes.end());
    return value;
  }
  const std::uint64_t count = bytes.size() / shape.size;
  if (count == 0) return unknown("fewer bytes than that shape takes");
  const auto element = [&](std::uint64_t i) {
    Value one;
    one.address = address + i * shape.size;
    const Bytes part = bytes.subspan(i * shape.size, shape.size);
    read_scalar(one, part);
    one.kind = Kind::integer;
    // People compare numbers of no known sign with signed ones.
    one.is_signed = shape.kind == Shape::Kind::signed_integer || shape.kind == Shape::Kind::integer;
    if (shape.kind == Shape::Kind::integer && shape.size == limits.word) (void)take_for_pointer(one, pointers);
    if (shape.kind == Shape::Kind::floating) read_floating(one, part);
    if (shape.kind == Shape::Kind::pointer) read_pointer(one, pointers, false);
    return one;
  };
  if (count == 1) {
    Value one = element(0);
    if (shape.kind == Shape::Kind::integer && one.kind == Kind::integer)
      one.text = characters_of(bytes.first(shape.size));
    return one;
  }
  value.kind = Kind::array;
  value.count = count;
  for (std::uint64_t i = 0; i < std::min<std::uint64_t>(count, limits.elements); ++i) value.parts.push_back(element(i));
  return value;
}

Shape untyped_shape(Bytes bytes, unsigned width, bool said) {
  const std::size_t size = bytes.size();
  const bool number = size == 1 || size == 2 || size == 4 || size == 8;
  if (number && (!said || width == size)) return {Shape::Kind::integer, static_cast<unsigned>(size)};
  const auto zero = std::ranges::find(bytes, 0);
  const auto length = static_cast<std::size_t>(zero - bytes.begin());
  const bool padded = std::all_of(zero, bytes.end(), [](std::uint8_t b) { return b == 0; });
  constexpr std::size_t kShortest = 3;
  const bool readable = length >= kShortest && padded && is_readable(bytes.first(length));
  if (readable && (!said || width == 1)) return {Shape::Kind::string, 1};
  const bool fits = width == 1 || width == 2 || width == 4 || width == 8;
  if (fits && size % width == 0) return {Shape::Kind::integer, width};
  return {Shape::Kind::bytes, 1};
}

namespace {

void add_fields(const Value& value, const std::string& path, std::vector<Field>& into) {
  if (value.parts.empty() || value.kind == Value::Kind::pointer) return into.push_back({path, &value});
  for (std::size_t i = 0; i < value.parts.size(); ++i) {
    const Value& part = value.parts[i];
    std::string name = path;
    if (value.kind == Value::Kind::array) {
      name += "[" + std::to_string(i) + "]";
    } else if (!part.label.empty() && !part.base) {
      name += "." + part.label;
    }
    add_fields(part, name, into);
  }
}

}  // namespace

std::vector<Field> fields_of(const Value& value) {
  std::vector<Field> result;
  add_fields(value, {}, result);
  return result;
}

const Value* part_of(const Value& value, std::string_view path) {
  const Value* at = &value;
  while (!path.empty() && at != nullptr) at = step(*at, path);
  return at;
}

}  // namespace deeptrace::inspect
