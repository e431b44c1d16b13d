#include "debuginfo/variables.h"

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

}  // namespace deeptrace::debuginfo
