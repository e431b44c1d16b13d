#include "abi/kernel_types.h"

#include <span>

#include "debuginfo/variables.h"

namespace deeptrace::abi {
namespace {

#include "kernel_types.inc"

}  // namespace

KernelTypes::KernelTypes(arch::CallTable table) {
  const std::span<const std::uint8_t> object = table == arch::CallTable::x86_64
                                                   ? std::span<const std::uint8_t>(kTypes64)
                                                   : std::span<const std::uint8_t>(kTypes32);
  auto elf = binary::Elf::read(MappedFile::of("kernel types", {object.begin(), object.end()}));
  if (!elf) return;  // it was made together with this code
  elf_ = std::make_unique<binary::Elf>(std::move(*elf));
  info_ = std::make_unique<debuginfo::DebugInfo>(*elf_);
  types_ = std::make_unique<debuginfo::Types>(*info_);
  for (const debuginfo::StaticVariable& one : debuginfo::static_variables(*info_, *types_)) names_[one.name] = one.type;
}

std::optional<debuginfo::TypeId> KernelTypes::named(std::string_view name) const {
  const auto found = names_.find(name);
  return found != names_.end() ? std::optional(found->second) : std::nullopt;
}

}  // namespace deeptrace::abi
