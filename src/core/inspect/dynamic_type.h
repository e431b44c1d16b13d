// Objects whose class only they themselves know: those with virtual functions or virtual base classes (Itanium C++ ABI,
// 2.4 and 2.5).
#pragma once

#include <cstdint>
#include <functional>
#include <optional>
#include <string>

#include "debuginfo/types.h"
#include "inspect/library_types.h"

namespace deeptrace::inspect {

struct DynamicObject {
  debuginfo::TypeId type = debuginfo::kVoid;
  std::uint64_t address = 0;
};

/// The complete object that the one at `address` is a part of, when that is of another class than `declared`: by the
/// name of its table of virtual functions, which `data_name` gives ("vtable for tide::Gauge+0x10"). Nothing where it is
/// of that class, where it has no such table, or where the table has no name (it is not constructed, or not any more).
std::optional<DynamicObject> dynamic_object(debuginfo::Types& types, debuginfo::TypeId declared, std::uint64_t address,
                                            const MemoryReader& memory, std::uint64_t word,
                                            const std::function<std::string(std::uint64_t)>& data_name);

/// Where a virtual base class of the object at `address` lies. Nothing where its memory cannot be read.
std::optional<std::uint64_t> moving_base(const debuginfo::Member& base, std::uint64_t address,
                                         const MemoryReader& memory, std::uint64_t word);

}  // namespace deeptrace::inspect
