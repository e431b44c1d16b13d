#include "inspect/dynamic_type.h"

#include <cstring>

#include "debuginfo/location.h"

namespace deeptrace::inspect {
namespace {

using debuginfo::Member;
using debuginfo::Type;
using debuginfo::TypeId;
using debuginfo::Types;

std::optional<std::uint64_t> word_at(std::uint64_t address, const MemoryReader& memory, std::uint64_t word) {
  std::uint8_t raw[8] = {};
  if (word > sizeof raw || !memory || !memory(address, {raw, word})) return std::nullopt;
  std::uint64_t value = 0;
  std::memcpy(&value, raw, sizeof value);
  return value;
}

/// Where in an object the pointer to its table lies: compilers describe it as a member that no source has.
std::optional<std::uint64_t> table_pointer(Types& types, TypeId id, int depth) {
  constexpr int kDeepest = 32;
  const Type& type = types[types.plain(id)];
  if (depth > kDeepest || !type.is_aggregate()) return std::nullopt;
  for (const Member& one : type.members) {
    if (one.name.starts_with("_vptr")) return one.offset;
  }
  for (const Member& one : type.members) {
    if (!one.base || one.moving) continue;
    if (const auto inner = table_pointer(types, one.type, depth + 1)) return one.offset + *inner;
  }
  return std::nullopt;
}

class ObjectContext final : public debuginfo::LocationContext {
 public:
  explicit ObjectContext(const MemoryReader& memory) : memory_(memory) {}
  std::optional<std::uint64_t> reg(unsigned /*number*/) override { return std::nullopt; }
  bool read(std::uint64_t address, std::span<std::uint8_t> into) override { return memory_(address, into); }

 private:
  const MemoryReader& memory_;
};

}  // namespace

std::optional<DynamicObject> dynamic_object(Types& types, TypeId declared, std::uint64_t address,
                                            const MemoryReader& memory, std::uint64_t word,
                                            const std::function<std::string(std::uint64_t)>& data_name) {
  if (!data_name) return std::nullopt;
  const auto offset = table_pointer(types, declared, 0);
  const auto table = offset ? word_at(address + *offset, memory, word) : std::nullopt;
  if (!table) return std::nullopt;
  constexpr std::string_view kTable = "vtable for ";
  const std::string named = data_name(*table);
  if (!named.starts_with(kTable)) return std::nullopt;
  const std::string name = named.substr(kTable.size(), named.rfind('+') - kTable.size());
  if (name == types[types.plain(declared)].name) return std::nullopt;
  // Two words before where the pointer points: how far the complete object lies from there.
  auto to_top = word_at(*table - 2 * word, memory, word);
  if (!to_top) return std::nullopt;
  if (word == 4) to_top = static_cast<std::uint64_t>(static_cast<std::int64_t>(static_cast<std::int32_t>(*to_top)));
  for (const TypeId found : types.named(name)) {
    const Type& type = types[types.plain(found)];
    if (type.is_aggregate() && type.name == name) return DynamicObject{found, address + *offset + *to_top};
  }
  return std::nullopt;
}

std::optional<std::uint64_t> moving_base(const Member& base, std::uint64_t address, const MemoryReader& memory,
                                         std::uint64_t word) {
  if (base.place.empty() || !memory) return std::nullopt;
  ObjectContext context(memory);
  const debuginfo::ExpressionPlace place{.pointer_size = static_cast<unsigned>(word)};
  return debuginfo::evaluate_number(base.place, place, context, address);
}

}  // namespace deeptrace::inspect
