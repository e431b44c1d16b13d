#include "debuginfo/types.h"

#include <algorithm>
#include <bit>

#include "base/number.h"

namespace deeptrace::debuginfo {
namespace {

using Kind = Type::Kind;

/// A damaged file may hold types that are made of themselves.
constexpr int kDeepest = 64;

struct KindOfTag {
  Tag tag;
  Kind kind;
};
constexpr KindOfTag kKinds[] = {
    {Tag::base_type, Kind::base},
    {Tag::pointer_type, Kind::pointer},
    {Tag::reference_type, Kind::reference},
    {Tag::rvalue_reference_type, Kind::rvalue_reference},
    {Tag::pointer_to_member_type, Kind::member_pointer},
    {Tag::structure_type, Kind::structure},
    {Tag::class_type, Kind::class_type},
    {Tag::union_type, Kind::union_type},
    {Tag::enumeration_type, Kind::enumeration},
    {Tag::array_type, Kind::array},
    {Tag::subroutine_type, Kind::function},
    {Tag::subprogram, Kind::function},
    {Tag::typedef_type, Kind::named},
    {Tag::const_type, Kind::constant},
    {Tag::volatile_type, Kind::volatile_type},
    {Tag::restrict_type, Kind::restricted},
    {Tag::atomic_type, Kind::atomic},
    {Tag::unspecified_type, Kind::unspecified},
};

Kind kind_of(Tag tag) {
  const auto found = std::ranges::find(kKinds, tag, &KindOfTag::tag);
  return found == std::end(kKinds) ? Kind::none : found->kind;
}

/// Languages whose structures go without the word (DWARF 5, table 7.17): C++ in its versions, and others.
bool has_c_names(std::uint16_t language) {
  constexpr std::uint16_t kC[] = {0x01, 0x02, 0x0c, 0x1d, 0x2c, 0x8001};
  return std::ranges::find(kC, language) != std::end(kC);
}

bool scopes_names(Tag tag) {
  return tag == Tag::name_space || tag == Tag::structure_type || tag == Tag::class_type || tag == Tag::union_type ||
         tag == Tag::enumeration_type || tag == Tag::subprogram;
}

/// A constant, or what a location of DWARF 2 and 3 adds to the address of the whole.
std::optional<std::uint64_t> offset_of(const FormValue& value) {
  if (value.bytes.empty()) return value.number;
  ByteReader reader(value.bytes);
  if (static_cast<Op>(reader.u8()) != Op::plus_constant) return std::nullopt;
  const std::uint64_t offset = reader.uleb();
  return reader.at_end() ? std::optional(offset) : std::nullopt;
}

std::int64_t signed_value(const FormValue& value, std::uint64_t size) {
  // The forms of fixed size do not say how they are to be extended.
  if (value.kind != FormClass::constant || size == 0 || size >= 8) return static_cast<std::int64_t>(value.number);
  const unsigned unused = 64 - static_cast<unsigned>(size) * 8;
  return static_cast<std::int64_t>(value.number << unused) >> unused;
}

}  // namespace

Types::Types(const DebugInfo& info) : info_(info) {
  slots_.push_back(std::make_unique<Slot>());
  slots_.back()->loaded = true;
}

TypeId Types::of(const Entry& entry) {
  const auto typed = info_.with_attribute(entry, At::type);
  return typed ? at(info_.reference(*typed, At::type)) : kVoid;
}

TypeId Types::at(EntryPlace place) {
  if (!place) return kVoid;
  const auto [found, added] = ids_.try_emplace({place.unit, place.offset}, static_cast<TypeId>(slots_.size()));
  if (added) {
    slots_.push_back(std::make_unique<Slot>());
    slots_.back()->place = place;
  }
  return found->second;
}

void Types::load(Slot& slot) {
  slot.loaded = true;
  std::optional<Entry> entry = info_.read(slot.place);
  if (!entry) return;
  // An entry may name the type unit that holds the definition, and say no more itself (DWARF 5, 5.7.1).
  for (int i = 0; i < 4 && entry->has(At::signature); ++i) {
    auto definition = info_.read(info_.reference(*entry, At::signature));
    if (!definition) break;
    entry = std::move(definition);
  }
  Type& type = slot.type;
  type.kind = kind_of(entry->tag);
  const auto entry_size = entry->number(At::byte_size);
  type.size = entry_size.value_or(0);
  type.complete = !entry->flag(At::declaration);
  type.c_names = has_c_names(entry->unit->language);
  type.vector = entry->flag(At::gnu_vector);
  type.alignment = entry->number(At::alignment).value_or(0);
  constexpr std::uint64_t kPassByReference = 4;  // DW_CC_pass_by_reference (DWARF 5, table 7.19)
  type.by_address = entry->number(At::calling_convention) == kPassByReference;
  if (entry->has(At::name)) type.name = qualified_name(*entry);
  type.target = at(info_.reference(*entry, At::type));
  switch (type.kind) {
    case Kind::base: type.encoding = static_cast<Encoding>(entry->number(At::encoding).value_or(0)); break;
    case Kind::pointer:
    case Kind::reference:
    case Kind::rvalue_reference:
      if (!entry_size) type.size = entry->unit->form.address_size;
      break;
    case Kind::member_pointer: {
      type.container = at(info_.reference(*entry, At::containing_type));
      const bool method = (*this)[type.target].kind == Kind::function;
      if (!entry_size) type.size = std::uint64_t(entry->unit->form.address_size) * (method ? 2 : 1);
      break;
    }
    case Kind::structure:
    case Kind::class_type:
    case Kind::union_type:
    case Kind::enumeration: add_members(*entry, type); break;
    case Kind::array: add_dimensions(*entry, type); break;
    case Kind::function: add_parameters(*entry, type); break;
    case Kind::unspecified:
      // decltype(nullptr) is as large as a pointer (ISO C++ 6.8.2), which nobody writes down.
      if (!entry_size && type.name.find("nullptr") != std::string::npos) type.size = entry->unit->form.address_size;
      break;
    default: break;
  }
}

void Types::add_members(const Entry& entry, Type& type) {
  Cursor cursor(info_, *entry.unit, entry.offset);
  if (!cursor.next()) return;
  while (cursor.next()) {
    const Entry& child = cursor.entry();
    if (cursor.depth() == 1) {
      if (child.tag == Tag::member || child.tag == Tag::inheritance) add_member(child, type);
      if (child.tag == Tag::template_type_parameter) type.arguments.push_back(of(child));
      if (child.tag == Tag::subprogram && info_.text(child, At::name) == "operator()") type.callable = true;
      // Where the compiler does not say how it is passed, what it has does.
      if (!entry.has(At::calling_convention) && needs_code_to_copy(entry, child)) type.by_address = true;
      if (child.tag == Tag::enumerator) {
        const FormValue* value = child.find(At::const_value);
        type.enumerators.push_back(
            {std::string(info_.text(child, At::name)), value == nullptr ? 0 : signed_value(*value, type.size)});
      }
    }
    cursor.skip_children();
  }
}

/// True for what makes a class one that calls pass by its address (Itanium C++ ABI, 1.1: non-trivial for the purposes
/// of calls): virtual functions and bases, a destructor, or a constructor that copies, which somebody wrote.
bool Types::needs_code_to_copy(const Entry& owner, const Entry& child) {
  if (child.has(At::virtuality)) return true;
  if (child.tag != Tag::subprogram || child.flag(At::artificial) || child.number(At::defaulted).value_or(0) == 1)
    return false;
  const std::string_view name = info_.text(child, At::name);
  if (name.starts_with('~')) return true;
  if (name.empty() || name != info_.text(owner, At::name)) return false;
  Cursor cursor(info_, *child.unit, child.offset);
  if (!cursor.next()) return false;
  while (cursor.next() && cursor.depth() > 0) {
    const Entry& parameter = cursor.entry();
    if (parameter.tag != Tag::formal_parameter || parameter.flag(At::artificial)) continue;
    const auto referred = info_.read(info_.reference(parameter, At::type));
    if (!referred || (referred->tag != Tag::reference_type && referred->tag != Tag::rvalue_reference_type))
      return false;
    auto object = info_.read(info_.reference(*referred, At::type));
    if (object && object->tag == Tag::const_type) object = info_.read(info_.reference(*object, At::type));
    return object && object->unit == owner.unit && object->offset == owner.offset;
  }
  return false;
}

void Types::add_member(const Entry& entry, Type& type) {
  // Static members are declared here and defined elsewhere.
  if (entry.flag(At::external) || entry.flag(At::declaration)) return;
  Member member;
  member.name = info_.text(entry, At::name);
  member.type = of(entry);
  member.base = entry.tag == Tag::inheritance;
  member.moving = member.base && entry.number(At::virtuality).value_or(0) != 0;
  member.bit_size = static_cast<std::uint16_t>(entry.number(At::bit_size).value_or(0));
  const FormValue* place = entry.find(At::data_member_location);
  const std::uint64_t start = place == nullptr ? 0 : offset_of(*place).value_or(0);
  if (member.moving && place != nullptr) member.place = place->bytes;
  std::uint64_t bits = start * 8;
  if (const auto data_bits = entry.number(At::data_bit_offset)) {
    bits += *data_bits;
  } else if (const auto high = entry.number(At::bit_offset)) {
    // Counted from the highest bit of the storage unit, as big-endian machines do (DWARF 2, 5.5.4).
    const std::uint64_t storage = entry.number(At::byte_size).value_or(size(member.type));
    bits += storage * 8 - *high - member.bit_size;
  }
  member.offset = bits / 8;
  member.bit_offset = bits % 8;
  type.members.push_back(std::move(member));
}

void Types::add_dimensions(const Entry& entry, Type& type) {
  Cursor cursor(info_, *entry.unit, entry.offset);
  if (!cursor.next()) return;
  while (cursor.next()) {
    const Entry& child = cursor.entry();
    if (child.tag != Tag::subrange_type && child.tag != Tag::enumeration_type) continue;
    const FormValue* count = child.find(At::count);
    const FormValue* last = child.find(At::upper_bound);
    const std::uint64_t first = child.number(At::lower_bound).value_or(0);
    const auto constant = [](const FormValue* value) {
      return value != nullptr && (value->kind == FormClass::constant || value->kind == FormClass::signed_constant);
    };
    std::optional<std::uint64_t> dimension;
    if (constant(count)) {
      dimension = count->number;
    } else if (constant(last)) {
      // The last index of an array without elements is -1, in as many bits as the form has.
      const bool none = first == 0 && (last->number == ~std::uint64_t(0) || last->number == 0xffffffff);
      dimension = none ? 0 : last->number - first + 1;
    }
    type.counts.push_back(dimension);
    cursor.skip_children();
  }
  if (type.size != 0) return;
  std::uint64_t total = size(type.target);
  for (const auto& count : type.counts) {
    if (!count || __builtin_mul_overflow(total, *count, &total)) total = 0;
  }
  type.size = total;
}

void Types::add_parameters(const Entry& entry, Type& type) {
  Cursor cursor(info_, *entry.unit, entry.offset);
  if (!cursor.next()) return;
  while (cursor.next()) {
    if (cursor.entry().tag == Tag::formal_parameter) type.parameters.push_back(of(cursor.entry()));
    if (cursor.entry().tag == Tag::unspecified_parameters) type.variadic = true;
    cursor.skip_children();
  }
}

TypeId Types::plain(TypeId id) {
  for (int i = 0; i < kDeepest; ++i) {
    switch ((*this)[id].kind) {
      case Kind::named:
      case Kind::constant:
      case Kind::volatile_type:
      case Kind::restricted:
      case Kind::atomic: id = (*this)[id].target; break;
      default: return id;
    }
  }
  return kVoid;
}

TypeId Types::add_made(Type type) {
  slots_.push_back(std::make_unique<Slot>(Slot{{}, true, std::move(type), {}}));
  return static_cast<TypeId>(slots_.size() - 1);
}

TypeId Types::pointer_to(TypeId target, std::uint64_t size) {
  const auto [place, added] = pointers_.try_emplace(target);
  if (!added) return place->second;
  Type type;
  type.kind = Type::Kind::pointer;
  type.size = size;
  type.target = target;
  return place->second = add_made(std::move(type));
}

TypeId Types::base_type(std::string name, std::uint64_t size, Encoding encoding) {
  const auto [place, added] = made_.try_emplace({std::move(name), size, encoding}, kVoid);
  if (!added) return place->second;
  Type type;
  type.kind = Type::Kind::base;
  type.name = std::get<0>(place->first);
  type.size = size;
  type.encoding = encoding;
  return place->second = add_made(std::move(type));
}

TypeId Types::element_of(TypeId array) {
  const TypeId id = plain(array);
  if ((*this)[id].counts.size() < 2) return (*this)[id].target;
  const auto [place, added] = elements_.try_emplace(id);
  if (!added) return place->second;
  Type type = (*this)[id];
  type.counts.erase(type.counts.begin());
  type.size = size(type.target);
  for (const auto& count : type.counts) type.size *= count.value_or(0);
  return place->second = add_made(std::move(type));
}

std::string Types::part_name(TypeId id, std::uint64_t offset, std::uint64_t access) {
  constexpr int kMostParts = 16;
  std::string result;
  for (int depth = 0; depth < kMostParts; ++depth) {
    const Type& type = (*this)[plain(id)];
    if (access == 0 && offset == 0) break;
    if (type.kind == Type::Kind::array) {
      const TypeId element = element_of(id);
      const std::uint64_t element_size = size(element);
      if (element_size == 0 || access > element_size) break;
      result += "[" + std::to_string(offset / element_size) + "]";
      offset %= element_size;
      id = element;
      continue;
    }
    if (!type.is_aggregate()) break;
    const std::uint64_t wanted = std::max<std::uint64_t>(access, 1);
    const auto found = std::ranges::find_if(type.members, [&](const Member& member) {
      const std::uint64_t room = std::max<std::uint64_t>(size(member.type), 1);
      return member.bit_size == 0 && offset >= member.offset && offset - member.offset + wanted <= room;
    });
    if (found == type.members.end()) break;
    if (!found->name.empty()) result += "." + found->name;
    offset -= found->offset;
    id = found->type;
  }
  return offset == 0 ? result : result + "+" + std::to_string(offset);
}

std::uint64_t Types::size(TypeId id) {
  const Type& type = (*this)[id];
  if (type.size != 0 || type.kind == Kind::array) return type.size;
  const TypeId inner = plain(id);
  return inner == id ? type.size : (*this)[inner].size;
}

std::uint64_t Types::alignment(TypeId id, std::uint64_t word) {
  if (++depth_of_alignment_ > kDeepest) {
    --depth_of_alignment_;
    return 1;
  }
  const Type& type = (*this)[id];
  std::uint64_t result = 1;
  switch (type.kind) {
    case Kind::named:
    case Kind::constant:
    case Kind::volatile_type:
    case Kind::restricted:
    case Kind::atomic: result = alignment(type.target, word); break;
    case Kind::structure:
    case Kind::class_type:
    case Kind::union_type:
      for (const Member& member : type.members) {
        const std::uint64_t one = alignment(member.type, word);
        const bool packed = member.bit_size == 0 && member.offset % one != 0;
        result = std::max(result, packed ? type.size + 1 : one);
      }
      if (type.size % result != 0) result = 1;  // packed: nothing in debug information says so
      break;
    case Kind::array: result = type.vector ? type.size : alignment(type.target, word); break;
    case Kind::base: {
      // Of a complex number that of its parts. On i386 nothing but vectors is aligned to more than a word.
      const std::uint64_t part = type.encoding == Encoding::complex_float ? type.size / 2 : type.size;
      result = word == 4 && type.name.find("128") == std::string::npos ? std::min(part, word) : std::bit_floor(part);
      break;
    }
    case Kind::none:
    case Kind::function: break;
    default: result = std::min(std::bit_floor(std::max<std::uint64_t>(1, size(id))), word); break;
  }
  --depth_of_alignment_;
  return std::max({result, type.alignment, std::uint64_t(1)});
}

const std::vector<Types::Scope>& Types::scopes_of(const Unit& unit) {
  constexpr std::size_t kMostUnits = 32;
  if (scopes_.size() > kMostUnits && !scopes_.contains(&unit)) scopes_.clear();
  const auto [place, added] = scopes_.try_emplace(&unit);
  std::vector<Scope>& scopes = place->second;
  if (!added) return scopes;
  struct Open {
    unsigned depth;
    std::size_t scope;
  };
  std::vector<Open> open;
  const auto close = [&](unsigned depth, std::uint64_t at) {
    while (!open.empty() && open.back().depth >= depth) {
      scopes[open.back().scope].end = at;
      open.pop_back();
    }
  };
  for (Cursor cursor(info_, unit); cursor.next();) {
    const Entry& entry = cursor.entry();
    close(cursor.depth(), entry.offset);
    if (!entry.has_children || cursor.depth() == 0) continue;
    const bool function = entry.tag == Tag::subprogram;
    if (scopes_names(entry.tag)) {
      const std::int64_t parent = open.empty() ? -1 : static_cast<std::int64_t>(open.back().scope);
      open.push_back({cursor.depth(), scopes.size()});
      scopes.push_back({entry.offset, 0, parent, function});
    }
    // Below these nothing has a name that could be asked for by itself.
    if (function || entry.tag == Tag::enumeration_type || entry.tag == Tag::array_type ||
        entry.tag == Tag::subroutine_type)
      cursor.skip_children();
  }
  close(0, unit.end);
  return scopes;
}

std::vector<std::uint64_t> Types::around(const Unit& unit, std::uint64_t offset) {
  std::vector<std::uint64_t> result;
  const std::vector<Scope>& scopes = scopes_of(unit);
  auto after = std::ranges::upper_bound(scopes, offset, {}, &Scope::offset);
  std::int64_t at = after - scopes.begin() - 1;
  while (at >= 0 && scopes[static_cast<std::size_t>(at)].end <= offset)
    at = scopes[static_cast<std::size_t>(at)].parent;
  if (at >= 0 && scopes[static_cast<std::size_t>(at)].offset == offset)
    at = scopes[static_cast<std::size_t>(at)].parent;
  if (at >= 0 && scopes[static_cast<std::size_t>(at)].function) {
    // The way to it inside the function.
    std::vector<std::pair<unsigned, std::uint64_t>> open;
    for (Cursor cursor(info_, unit, scopes[static_cast<std::size_t>(at)].offset); cursor.next();) {
      const Entry& entry = cursor.entry();
      while (!open.empty() && open.back().first >= cursor.depth()) open.pop_back();
      if (entry.offset >= offset) break;
      if (cursor.depth() > 0 && scopes_names(entry.tag)) open.emplace_back(cursor.depth(), entry.offset);
    }
    for (auto scope = open.rbegin(); scope != open.rend(); ++scope) result.push_back(scope->second);
  }
  for (; at >= 0; at = scopes[static_cast<std::size_t>(at)].parent)
    result.push_back(scopes[static_cast<std::size_t>(at)].offset);
  return result;
}

std::string Types::qualified_name(const Entry& entry) {
  const auto named = info_.with_attribute(entry, At::name);
  if (!named) return {};
  std::string result(info_.text(*named, At::name));
  // A definition outside of its namespace or class (in a type unit always) has a declaration inside.
  const auto inside = info_.read(info_.reference(*named, At::specification));
  const Entry& context = inside ? *inside : *named;
  std::vector<std::uint64_t> outer_ones = around(*context.unit, context.offset);
  for (std::size_t i = 0; i < outer_ones.size() && i < kDeepest; ++i) {
    Entry outer;
    if (!info_.read(*context.unit, outer_ones[i], outer) || outer.tag == Tag::none) break;
    // The enumerators of old enumerations are seen outside.
    if (outer.tag == Tag::enumeration_type && !outer.flag(At::enum_class)) continue;
    // A definition outside of its namespace or class leads back into it.
    const auto declared = info_.with_attribute(outer, At::name);
    const std::string_view name = declared ? info_.text(*declared, At::name) : std::string_view{};
    if (declared && declared->unit == context.unit && declared->offset != outer.offset) {
      outer_ones = around(*declared->unit, declared->offset);
      outer_ones.insert(outer_ones.begin(), i + 1, 0);  // those that are done
    }
    if (name.empty() && outer.tag != Tag::name_space) continue;
    result = (name.empty() ? std::string("(anonymous namespace)") : std::string(name)) + "::" + result;
  }
  return result;
}

std::string Types::declaration(TypeId id, std::string_view name) {
  if (!name.empty() || id >= slots_.size()) return declaration(id, std::string(name), 0);
  std::string& spelled = slots_[id]->spelled;
  if (spelled.empty()) spelled = declaration(id, std::string(), 0);
  return spelled;
}

namespace {

/// std::string goes by the name of its template in debug information; nobody writes that.
std::string as_written(std::string name) {
  constexpr std::string_view kLong = "std::__cxx11::basic_string<char, std::char_traits<char>, std::allocator<char> >";
  for (std::size_t at = name.find(kLong); at != std::string::npos; at = name.find(kLong, at))
    name.replace(at, kLong.size() + (name.compare(at + kLong.size(), 2, " >") == 0 ? 1 : 0), "std::string");
  return name;
}

}  // namespace

std::string Types::declaration(TypeId id, std::string inner, int depth) {
  const Type& type = (*this)[id];
  if (depth > kDeepest) return "…";
  const auto before = [&](std::string word) {  // "int" + "*p": with a space between, and none at the end
    if (inner.empty()) return word;
    const bool joined =
        inner.front() == '[' || (inner.front() == '(' && !inner.starts_with("(*") && !inner.starts_with("(&"));
    return word + (joined ? "" : " ") + inner;
  };
  const auto qualified = [&](std::string_view word) {
    const Kind target = (*this)[type.target].kind;
    const bool after = target == Kind::pointer || target == Kind::member_pointer;
    // An array of constants is constant; some compilers say it twice.
    if (target == Kind::array && (*this)[(*this)[type.target].target].kind == type.kind)
      return declaration(type.target, inner, depth + 1);
    // After a star, else in front of everything.
    if (after) return declaration(type.target, std::string(word) + (inner.empty() ? "" : " " + inner), depth + 1);
    return std::string(word) + " " + declaration(type.target, inner, depth + 1);
  };
  const auto pointing = [&](std::string_view mark) {
    const Kind target = (*this)[type.target].kind;
    const bool space = !inner.empty() && inner.front() != '*' && inner.front() != '&' && inner.front() != ')' &&
                       (inner.starts_with("const") || inner.starts_with("volatile") || inner.starts_with("restrict"));
    std::string text = std::string(mark) + (space ? " " : "") + inner;
    if (target == Kind::array || target == Kind::function) text = "(" + text + ")";
    return declaration(type.target, text, depth + 1);
  };
  const auto tagged = [&](std::string_view word) {
    if (type.name.empty()) return before(type.callable ? "lambda" : "unnamed " + std::string(word));
    return before((type.c_names ? std::string(word) + " " : std::string()) + as_written(type.name));
  };
  switch (type.kind) {
    case Kind::none: return before("void");
    case Kind::base:
    case Kind::unspecified:
    case Kind::named: return before(type.name.empty() ? "unnamed" : as_written(type.name));
    case Kind::pointer: return pointing("*");
    case Kind::reference: return pointing("&");
    case Kind::rvalue_reference: return pointing("&&");
    case Kind::member_pointer: return pointing((*this)[type.container].name + "::*");
    case Kind::structure: return tagged("struct");
    case Kind::class_type: return tagged("class");
    case Kind::union_type: return tagged("union");
    case Kind::enumeration: return tagged("enum");
    case Kind::array: {
      for (const auto& count : type.counts) inner += count ? "[" + std::to_string(*count) + "]" : "[]";
      if (type.counts.empty()) inner += "[]";
      return declaration(type.target, inner, depth + 1);
    }
    case Kind::function: {
      std::string list;
      for (const TypeId parameter : type.parameters)
        list += (list.empty() ? "" : ", ") + declaration(parameter, std::string(), depth + 1);
      if (type.variadic) list += list.empty() ? "..." : ", ...";
      return declaration(type.target, inner + "(" + list + ")", depth + 1);
    }
    case Kind::constant: return qualified("const");
    case Kind::volatile_type: return qualified("volatile");
    case Kind::restricted: return qualified("restrict");
    case Kind::atomic: return before("_Atomic(" + declaration(type.target, std::string(), depth + 1) + ")");
  }
  return {};
}

const std::vector<TypeId>& Types::named(std::string_view name) {
  const auto [known, added] = named_.try_emplace(std::string(name));
  std::vector<TypeId>& result = known->second;
  if (!added) return result;
  std::vector<TypeId> shorter;  // what the name may be short for
  for (const auto& unit : info_.units()) {
    for (Cursor cursor(info_, *unit); cursor.next();) {
      const Entry& entry = cursor.entry();
      const Kind kind = kind_of(entry.tag);
      const bool type = kind == Kind::structure || kind == Kind::class_type || kind == Kind::union_type ||
                        kind == Kind::enumeration || kind == Kind::named || kind == Kind::base;
      if (type && !entry.flag(At::declaration)) {
        const std::string_view own = info_.text(entry, At::name);
        // The last part of the name must fit before the whole is put together.
        if (own.empty() || !name.ends_with(own)) continue;
        const std::string whole = qualified_name(entry);
        if (whole == name) {
          result.push_back(at({unit.get(), entry.offset}));
        } else if (whole.ends_with("::" + std::string(name))) {
          shorter.push_back(at({unit.get(), entry.offset}));
        }
      }
      if (entry.tag == Tag::subprogram) cursor.skip_children();
    }
  }
  if (result.empty()) result = std::move(shorter);
  return result;
}

std::optional<Types::Placed> Types::placed_member(TypeId id, std::string_view name, int depth) {
  const Type& type = (*this)[plain(id)];
  if (!type.is_aggregate() || depth > kDeepest) return std::nullopt;
  for (const Member& one : type.members) {
    if (one.moving) continue;
    if (!one.base && one.name == name)
      return one.bit_size == 0 ? std::optional(Placed{one.type, one.offset}) : std::nullopt;
    if (!one.base && !one.name.empty()) continue;
    if (const auto inner = placed_member(one.type, name, depth + 1))
      return Placed{inner->type, one.offset + inner->offset};
  }
  return std::nullopt;
}

std::optional<Types::Placed> Types::placed(TypeId id, std::string_view path) {
  Placed at{id, 0};
  while (!path.empty()) {
    std::optional<Placed> inner;
    if (path.front() == '.') {
      path.remove_prefix(1);
      const std::string_view name = path.substr(0, path.find_first_of(".["));
      path.remove_prefix(name.size());
      inner = placed_member(at.type, name, 0);
    } else if (const std::size_t close = path.find(']'); path.front() == '[' && close != std::string_view::npos) {
      const auto index = number_in(path.substr(1, close - 1));
      path.remove_prefix(close + 1);
      const Type& array = (*this)[plain(at.type)];
      const bool inside =
          index && array.kind == Kind::array && !array.counts.empty() && *index < array.counts.front().value_or(0);
      if (inside) inner = Placed{element_of(at.type), *index * size(element_of(at.type))};
    }
    if (!inner) return std::nullopt;
    at = {inner->type, at.offset + inner->offset};
  }
  return at;
}

std::optional<std::uint64_t> Types::flexible_part(TypeId id) {
  const Type& type = (*this)[plain(id)];
  if (!type.is_aggregate() || type.kind == Kind::union_type || type.members.empty()) return std::nullopt;
  const Member& last = type.members.back();
  const Type& array = (*this)[plain(last.type)];
  if (array.kind != Kind::array || array.counts.empty()) return std::nullopt;
  if (array.counts.front().value_or(0) != 0) return std::nullopt;
  return last.offset;
}

std::string_view captured_name(const Type& closure, const Member& member) {
  const std::string_view name = member.name;
  const bool unnamed = closure.name.empty() || closure.name.find("<lambda") != std::string::npos;
  return unnamed && closure.callable && !member.base && name.starts_with("__") && name.size() > 2 ? name.substr(2)
                                                                                                  : std::string_view();
}

std::string as_described(std::string_view name) {
  struct Spelling {
    std::string_view written, described;
  };
  static constexpr Spelling kSpellings[] = {
      {"unsigned", "unsigned int"},
      {"signed", "int"},
      {"signed int", "int"},
      {"long", "long int"},
      {"signed long", "long int"},
      {"long int", "long int"},
      {"unsigned long", "long unsigned int"},
      {"unsigned long int", "long unsigned int"},
      {"long unsigned", "long unsigned int"},
      {"long long", "long long int"},
      {"unsigned long long", "long long unsigned int"},
      {"short", "short int"},
      {"signed short", "short int"},
      {"unsigned short", "short unsigned int"},
      {"unsigned short int", "short unsigned int"},
      {"unsigned __int128", "__int128 unsigned"},
      {"bool", "_Bool"},
  };
  for (const std::string_view prefix : {"struct ", "union ", "enum ", "class "}) {
    if (name.starts_with(prefix)) return std::string(name.substr(prefix.size()));
  }
  for (const Spelling& one : kSpellings) {
    if (one.written == name) return std::string(one.described);
  }
  return std::string(name);
}

}  // namespace deeptrace::debuginfo
