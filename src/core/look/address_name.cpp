#include "look/address_name.h"

#include <algorithm>

#include "base/number.h"
#include "base/path.h"

namespace deeptrace::look {
namespace {

constexpr std::uint64_t kLowest = 0x1000;  // below it no memory of a program lies (vm.mmap_min_addr at its smallest)

std::string with_offset(std::string_view name, std::uint64_t from, std::uint64_t to) {
  if (from == to) return std::string(name);
  return std::string(name) + (to > from ? "+" + hex_text(to - from) : "-" + hex_text(from - to));
}

std::string region_name(const state::Mapping& mapping, const state::StateView& view, std::uint64_t value,
                        std::uint64_t stack_pointer) {
  const bool on_stack = stack_pointer >= mapping.from && stack_pointer <= mapping.to;
  if (on_stack) return "stack, " + with_offset(state::name_of(state::Reg::rsp, view.mode()), stack_pointer, value);
  if (mapping.path.starts_with('[')) return mapping.path.substr(1, mapping.path.size() - 2);
  return mapping.path.empty() ? "mapped memory" : base_name(mapping.path);
}

/// The typed variable of a module that holds a place, with the part of it.
std::string typed_name(const Module& module, std::uint64_t inside, std::uint64_t size) {
  ModuleDebug& debug = Modules::debug(module);
  // All of very much debug information is not read for a name that the symbols know as well.
  constexpr std::uint64_t kMostDebug = std::uint64_t(64) << 20;
  const binary::Section* info = module.program->debug_elf().section_named(".debug_info");
  if (!debug.statics && info != nullptr && info->size > kMostDebug) return {};
  const debuginfo::StaticVariable* variable = debug.static_at(*module.program, inside);
  if (variable == nullptr) return {};
  return variable->name + debug.types.part_name(variable->type, inside - variable->address, size);
}

std::string untyped_name(const program::Program& program, std::uint64_t inside, std::uint64_t size) {
  const program::DataSymbol* symbol = program.data_at(inside);
  if (symbol == nullptr) return {};
  const std::string name = program::demangled(symbol->symbol);
  const std::uint64_t offset = inside - symbol->address;
  const unsigned width = offset != 0 || size < symbol->size ? program.element_width(*symbol).bytes : 0;
  const bool element = width != 0 && width == size && symbol->size > width && offset % width == 0;
  return element ? name + "[" + std::to_string(offset / width) + "]" : with_offset(name, 0, offset);
}

}  // namespace

AddressName address_name(Modules& modules, const state::StateView& view, std::uint64_t value,
                         std::uint64_t stack_pointer) {
  AddressName result;
  if (value < kLowest) return result;
  if (const Module* module = modules.at(value)) {
    program::Reference reference = module->program->reference(value - module->bias);
    const bool code = module->program->function_at(value - module->bias) != nullptr;
    const std::string typed = code ? std::string() : typed_name(*module, value - module->bias, 0);
    result.name = code ? modules.place_name(value) : !typed.empty() ? typed : std::move(reference.name);
    result.text = std::move(reference.text);
    if (!result.known()) result.region = base_name(module->path);
    return result;
  }
  if (const auto mapping = modules.mapping_at(view, value))
    result.region = region_name(*mapping, view, value, stack_pointer);
  return result;
}

std::string memory_name(Modules& modules, std::uint64_t address, std::uint64_t size) {
  const Module* module = modules.at(address);
  if (module == nullptr) return {};
  const std::uint64_t inside = address - module->bias;
  std::string name = typed_name(*module, inside, size);
  return !name.empty() ? name : untyped_name(*module->program, inside, size);
}

}  // namespace deeptrace::look
