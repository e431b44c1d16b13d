#include "debuginfo/variables.h"

#include <algorithm>
#include <cstring>

namespace deeptrace::debuginfo {

std::optional<FixedPlace> fixed_place(const DebugInfo& info, const Unit& unit, Bytes expression) {
  ByteReader reader(expression);
  std::optional<FixedPlace> place;
  while (!reader.at_end() && reader.good()) {
    const auto op = static_cast<Op>(reader.u8());
    switch (op) {
      case Op::address: place = FixedPlace{reader.unsigned_of(unit.form.address_size)}; break;
      case Op::const4u: place = FixedPlace{reader.u32()}; break;
      case Op::const8u: place = FixedPlace{reader.u64()}; break;
      case Op::indexed_address:
      case Op::indexed_constant:
      case Op::gnu_indexed_address:
      case Op::gnu_indexed_constant: {
        const auto address = info.indexed_address(unit, reader.uleb());
        if (!address) return std::nullopt;
        place = FixedPlace{*address};
        break;
      }
      case Op::plus_constant:
        if (!place) return std::nullopt;
        place->address += reader.uleb();
        break;
      case Op::constu: {  // what is added next
        const std::uint64_t number = reader.uleb();
        if (!place || static_cast<Op>(reader.u8()) != Op::plus) return std::nullopt;
        place->address += number;
        break;
      }
      case Op::form_tls_address:
      case Op::gnu_push_tls_address:
        if (!place) return std::nullopt;
        place->in_thread = true;
        place->address = info.thread_offset(place->address);
        break;
      default: return std::nullopt;
    }
  }
  return reader.good() ? place : std::nullopt;
}

std::vector<StaticVariable> static_variables(const DebugInfo& info, Types& types) {
  std::vector<StaticVariable> result;
  for (const auto& unit : info.units()) {
    for (Cursor cursor(info, *unit); cursor.next();) {
      const Entry& entry = cursor.entry();
      const bool type = entry.tag == Tag::structure_type || entry.tag == Tag::class_type ||
                        entry.tag == Tag::union_type || entry.tag == Tag::enumeration_type;
      if (type) cursor.skip_children();
      if (entry.tag != Tag::variable || !entry.has(At::location)) continue;
      const auto parts = info.locations(entry, At::location);
      if (parts.size() != 1 || !parts[0].always) continue;
      const auto place = fixed_place(info, *unit, parts[0].expression);
      if (!place || (place->address == 0 && !place->in_thread && !info.relocatable())) continue;
      StaticVariable variable;
      variable.address = place->address;
      variable.in_thread = place->in_thread;
      variable.unit = unit.get();
      variable.name = types.qualified_name(entry);
      variable.linkage_name = info.linkage_name_of(entry);
      variable.type = types.of(entry);
      if (const auto declared = info.with_attribute(entry, At::declaration_line)) {
        variable.unit = declared->unit;
        variable.line = static_cast<std::uint32_t>(declared->number(At::declaration_line).value_or(0));
        variable.file = declared->number(At::declaration_file);
        if (variable.file == 0 && declared->unit->form.version < 5) variable.file.reset();
      }
      result.push_back(std::move(variable));
    }
  }
  return result;
}

bool ends_with_name(std::string_view full, std::string_view wanted) {
  if (full == wanted) return true;
  return full.size() > wanted.size() + 2 && full.ends_with(wanted) &&
         full.substr(full.size() - wanted.size() - 2, 2) == "::";
}

namespace {

/// Goes through the entries for constants_named.
class ConstantFinder {
 public:
  ConstantFinder(const DebugInfo& info, Types& types, std::string_view name)
      : info_(info), types_(types), name_(name), last_(last_part(name)) {}

  std::vector<NamedConstant> find() {
    for (const auto& unit : info_.units()) {
      std::optional<EntryPlace> enumeration;
      for (Cursor cursor(info_, *unit); cursor.next();) {
        const Entry& entry = cursor.entry();
        if (entry.tag == Tag::enumeration_type) enumeration = EntryPlace{unit.get(), entry.offset};
        const bool constant =
            entry.tag == Tag::enumerator || ((entry.tag == Tag::variable || entry.tag == Tag::member) &&
                                             entry.has(At::const_value) && !entry.has(At::location));
        if (!constant || info_.text(entry, At::name) != last_) continue;
        entry.tag == Tag::enumerator ? add_enumerator(enumeration) : add(entry);
      }
    }
    return std::move(result_);
  }

 private:
  static std::string_view last_part(std::string_view name) {
    const std::size_t colons = name.rfind("::");
    return colons == std::string_view::npos ? name : name.substr(colons + 2);
  }

  void add_enumerator(const std::optional<EntryPlace>& enumeration) {
    const auto entry = enumeration ? info_.read(*enumeration) : std::nullopt;
    if (!entry) return;
    NamedConstant constant;
    constant.type = types_.at(*enumeration);
    constant.enumeration = info_.text(*entry, At::name);
    const std::string whole = types_.qualified_name(*entry);
    const std::string around = whole.substr(0, whole.size() - std::min(whole.size(), constant.enumeration.size()));
    const Type& type = types_[constant.type];
    const auto one = std::ranges::find(type.enumerators, last_, &Enumerator::name);
    if (one == type.enumerators.end()) return;
    constant.name = (constant.enumeration.empty() ? around : whole + "::") + one->name;
    if (!ends_with_name(constant.name, name_) && !ends_with_name(around + one->name, name_)) return;
    constant.bytes.resize(std::clamp<std::uint64_t>(type.size, 1, 8));
    std::memcpy(constant.bytes.data(), &one->value, constant.bytes.size());
    keep(std::move(constant));
  }

  void add(const Entry& entry) {
    NamedConstant constant;
    constant.name = types_.qualified_name(entry);
    if (!ends_with_name(constant.name, name_)) return;
    constant.type = types_.of(entry);
    const FormValue* value = entry.find(At::const_value);
    if (!value->bytes.empty()) {
      constant.bytes.assign(value->bytes.begin(), value->bytes.end());
    } else {
      constant.bytes.resize(std::clamp<std::uint64_t>(types_.size(constant.type), 1, 8));
      std::memcpy(constant.bytes.data(), &value->number, constant.bytes.size());
    }
    keep(std::move(constant));
  }

  /// Headers bring the same ones into many units.
  void keep(NamedConstant constant) {
    const bool known = std::ranges::any_of(
        result_, [&](const NamedConstant& one) { return one.name == constant.name && one.bytes == constant.bytes; });
    if (!known) result_.push_back(std::move(constant));
  }

  const DebugInfo& info_;
  Types& types_;
  std::string_view name_, last_;
  std::vector<NamedConstant> result_;
};

}  // namespace

std::vector<NamedConstant> constants_named(const DebugInfo& info, Types& types, std::string_view name) {
  return ConstantFinder(info, types, name).find();
}

}  // namespace deeptrace::debuginfo
