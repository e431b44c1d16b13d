// Structures that system calls read and write, as the kernel's headers declare them, for 64-bit and 32-bit programs:
// kernel_types.c, compiled for both when the tool is built, whose debug information is part of it.
#pragma once

#include <map>
#include <memory>
#include <optional>
#include <string>
#include <string_view>

#include "arch/machine.h"
#include "binary/elf.h"
#include "debuginfo/debug_info.h"
#include "debuginfo/types.h"

namespace deeptrace::abi {

class KernelTypes {
 public:
  explicit KernelTypes(arch::CallTable table);

  /// By the name that linux.shapes has; nothing for one that programs of this width do not have.
  [[nodiscard]] std::optional<debuginfo::TypeId> named(std::string_view name) const;
  [[nodiscard]] debuginfo::Types& types() const { return *types_; }

 private:
  std::unique_ptr<binary::Elf> elf_;
  std::unique_ptr<debuginfo::DebugInfo> info_;
  std::unique_ptr<debuginfo::Types> types_;
  std::map<std::string, debuginfo::TypeId, std::less<>> names_;
};

}  // namespace deeptrace::abi
