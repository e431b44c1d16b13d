// What instructions refer to, as expressions that the assembler reads.
#include <algorithm>
#include <cstring>

#include "base/number.h"
#include "isa/assembler.h"
#include "study/source_writer.h"

namespace deeptrace::study {

namespace {

bool is_plain(char c) {
  return (c >= 'a' && c <= 'z') || (c >= 'A' && c <= 'Z') || (c >= '0' && c <= '9') || c == '_' || c == '.' || c == '$';
}

}  // namespace

std::string with_offset(std::string name, std::int64_t offset) {
  if (offset == 0) return name;
  isa::Text text;
  if (offset > 0) text.add('+');
  text.add_signed_hex(offset);
  return name.append(text.view());
}

std::string quoted(std::string_view name) {
  if (std::ranges::all_of(name, is_plain)) return std::string(name);
  std::string result = "\"";
  for (const char c : name) {
    if (c == '"' || c == '\\') result += '\\';
    result += c;
  }
  return result + '"';
}

bool means_something_else(std::string_view name) {
  static const std::set<std::string> kWords = [] {
    std::set<std::string> words = {"offset", "byte",    "word",    "dword",   "fword", "qword", "tbyte", "oword",
                                   "ptr",    "and",     "or",      "not",     "xor",   "mod",   "shl",   "shr",
                                   "eq",     "ne",      "lt",      "le",      "gt",    "ge",    "flat",  "near",
                                   "far",    "short",   "length",  "size",    "type",  "high",  "low",   "this",
                                   "mmword", "xmmword", "ymmword", "zmmword", "st",    "rip",   "eip",   "bcst"};
    for (const auto file : {isa::RegisterFile::general, isa::RegisterFile::segment, isa::RegisterFile::control,
                            isa::RegisterFile::debug, isa::RegisterFile::vector, isa::RegisterFile::mask,
                            isa::RegisterFile::mmx, isa::RegisterFile::x87, isa::RegisterFile::bound}) {
      for (std::uint8_t index = 0; index < 32; ++index) {
        for (const std::uint16_t width : std::initializer_list<std::uint16_t>{8, 16, 32, 64, 80, 128, 256, 512}) {
          words.insert(std::string(isa::name_of({file, index, 0, width})));
          words.insert(std::string(isa::name_of({file, index, 8, width})));
        }
      }
    }
    return words;
  }();
  std::string lower(name);
  std::ranges::transform(lower, lower.begin(), [](char c) { return c >= 'A' && c <= 'Z' ? char(c + 32) : c; });
  return kWords.count(lower) != 0;
}

Result<std::string> SourceWriter::symbol_of(const Relocation& relocation, std::int64_t offset, std::uint64_t from) {
  if (!relocation.defined) return with_offset(quoted(relocation.symbol), offset);
  const Section& section = elf_.sections()[relocation.section];
  if (section.is_code()) {
    const std::uint64_t place = relocation.symbol_value + static_cast<std::uint64_t>(offset);
    if (relocation.section_symbol) {
      if (starts_.count(place) != 0) return label(place);
      // Distances that only data tables make sense of, and code that is not listed.
      if (!section.holds(relocation.symbol_value) || !is_listed(relocation.symbol_value))
        return refuse(from, "refers to code in " + std::string(section.name) + " that is not listed");
      return with_offset(quoted(section.name), offset);
    }
    if (relocation.local && starts_.count(relocation.symbol_value) == 0)
      return refuse(from, "refers to " + std::string(relocation.symbol) + ", local code that is not listed");
  } else if (relocation.local) {
    need_section(section.index);
    // The assembler keeps labels of mergeable sections apart; there the distance from the section's start is said.
    const std::uint64_t place = relocation.symbol_value + static_cast<std::uint64_t>(offset);
    if (relocation.section_symbol && (section.flags & binary::kMerge) == 0 && section.holds(place)) return label(place);
  }
  return with_offset(quoted(relocation.symbol), offset);
}

Result<References> SourceWriter::refer_by_relocation(const isa::Instruction& in, std::uint64_t address) {
  References result;
  const auto& relocations = program_.relocations();
  auto at = std::ranges::lower_bound(relocations, address, {}, &Relocation::address);
  for (; at != relocations.end() && at->address < address + in.length; ++at) {
    const std::uint64_t offset = at->address - address;
    const arch::RelocationKind* kind = arch::relocation_kind(at->type, program_.mode());
    if (kind == nullptr) return refuse(address, "has a relocation of unknown type " + std::to_string(at->type));
    std::uint64_t target = 0;
    const bool branch = isa::direct_target(in, address, target) && offset == in.immediate_at;
    const unsigned place = place_of(in, offset, branch);
    // Branches to symbols that others see go by way of PLT stubs.
    const bool direct = branch && elf_.wide() && kind->suffix.empty();
    if ((kind->places & place) == 0 || (direct && (!at->defined || !at->local))) {
      if (auto error = add_directive(*at, *kind, address, in.length, result)) return *error;
      if (branch) result.target = ".+" + std::to_string(in.length);
      continue;
    }
    // What the field's own distance from the instruction's end or start adds is the assembler's business.
    const std::int64_t addend = at->addend + program_.distance_in_addend(*at, address, in.length);
    Result<std::string> name = symbol_of(*at, addend, address);
    if (!name) return name.error();
    result.ambiguous |= means_something_else(at->symbol);
    std::string expression =
        place == arch::RelocationKind::kBranch && elf_.wide() ? *name : suffixed(*at, *kind, *name);
    (place == arch::RelocationKind::kBranch         ? result.target
     : place == arch::RelocationKind::kDisplacement ? result.displacement
                                                    : result.immediate) = std::move(expression);
  }
  return result;
}

unsigned SourceWriter::place_of(const isa::Instruction& in, std::uint64_t offset, bool branch) {
  if (branch) return arch::RelocationKind::kBranch;
  if (in.displacement_size != 0 && offset == in.displacement_at) return arch::RelocationKind::kDisplacement;
  if (in.immediate_size[0] != 0 && offset == in.immediate_at) return arch::RelocationKind::kImmediate;
  return 0;
}

std::string SourceWriter::suffixed(const Relocation& relocation, const arch::RelocationKind& kind,
                                   std::string expression) {
  if (kind.suffix.empty()) return expression;
  const std::string name = quoted(relocation.symbol);
  const std::size_t at = expression.starts_with(name) ? name.size() : expression.size();
  return expression.insert(at, kind.suffix);
}

std::optional<Error> SourceWriter::add_directive(const Relocation& relocation, const arch::RelocationKind& kind,
                                                 std::uint64_t address, std::uint64_t length, References& result) {
  const std::int64_t distance = program_.distance_in_addend(relocation, address, length);
  const Result<std::string> name = symbol_of(relocation, relocation.addend + distance, address);
  if (!name) return name.error();
  result.directive += "\t.reloc .+" + std::to_string(relocation.address - address) + ", " + std::string(kind.name) +
                      ", " + with_offset(*name, -distance) + "\n";
  return std::nullopt;
}

Result<References> SourceWriter::refer(const isa::Instruction& in, std::uint64_t address) {
  const bool relocated = object_ && program_.relocation_in(address, in.length) != nullptr;
  if (relocated) return refer_by_relocation(in, address);
  References result;
  std::uint64_t target = 0;
  if (isa::direct_target(in, address, target)) {
    Result<std::string> name = name_of_code(address, target, result);
    if (!name) return name.error();
    result.target = *name;
    return result;
  }
  if (object_) {
    if (in.is_ip_relative() && isa::fixed_memory_address(in, address, target)) {
      Result<std::string> name = code_label(address, target);
      if (!name) return name.error();
      result.displacement = *name;
    }
    return result;
  }
  if (in.segment_override() == arch::machine_of(in.mode()).thread_segment && in.displacement < 0) {
    Result<std::string> name = name_of_thread_local(in, address);
    if (!name) return name.error();
    result.displacement = *name;
  } else if (in.is_ip_relative() && isa::fixed_memory_address(in, address, target)) {
    Result<std::string> name = name_of_data(in, address, target, result);
    if (!name) return name.error();
    result.displacement = *name;
  } else if (elf_.kind() == binary::Kind::executable) {
    refer_to_absolute(in, address, result);
  } else if (!elf_.wide()) {
    if (uses_table_register(in))
      return refuse(address, "refers to data by a register in position-independent 32-bit code");
  }
  return result;
}

bool SourceWriter::uses_table_register(const isa::Instruction& in) {
  return in.modrm_at != 0 && in.modrm < 0xc0 && in.displacement_size == 4;
}

Result<std::string> SourceWriter::name_of_code(std::uint64_t from, std::uint64_t target, References& result) {
  if (is_listed(target)) {
    const Function* function = program_.function_at(target);
    if (function != nullptr && function->address == target && !function->symbol().empty() && !object_) {
      result.ambiguous |= means_something_else(function->symbol());
      return quoted(function->symbol());
    }
    return code_label(from, target);
  }
  const Function* function = program_.function_at(target);
  if (object_ || function == nullptr || function->address != target) return code_label(from, target);
  if (function->origin == Function::Origin::section)
    return refuse(from, "calls " + function->name.str() + ", code without a symbol");
  const std::string_view name = function->symbol().empty() ? std::string_view(function->name) : function->symbol();
  result.ambiguous |= means_something_else(name);
  return function->origin == Function::Origin::plt ? quoted(stub_symbol(*function)) + "@PLT" : named(*function);
}

std::string_view SourceWriter::stub_symbol(const Function& stub) const {
  for (const Relocation& relocation : program_.relocations()) {
    if (!relocation.symbol.empty() && program::demangled(relocation.symbol) == stub.name) return relocation.symbol;
  }
  return stub.name;
}

std::string SourceWriter::named(const Function& function) {
  for (const Symbol& symbol : elf_.symbols()) {
    if (symbol.address == function.address && symbol.name == function.symbol() && !symbol.global)
      remark(std::string(symbol.name) + " is local to its file; to link against it, make it global");
  }
  return quoted(function.symbol());
}

void SourceWriter::remark(std::string text) {
  if (std::ranges::find(remarks_, text) == remarks_.end()) remarks_.push_back(std::move(text));
}

Result<std::string> SourceWriter::name_of_data(const isa::Instruction& in, std::uint64_t from, std::uint64_t target,
                                               References& result) {
  if (is_listed(target)) {
    const Function* function = program_.function_at(target);
    if (function != nullptr && function->address == target && !function->symbol().empty())
      return quoted(function->symbol());
    return code_label(from, target);
  }
  const auto& relocations = program_.relocations();
  const auto slot = std::ranges::lower_bound(relocations, target, {}, &Relocation::address);
  const Section* section = elf_.section_at(target);
  const bool in_table = section != nullptr && section->name.starts_with(".got");
  if (slot != relocations.end() && slot->address == target && in_table) {
    if (!slot->symbol.empty()) return quoted(slot->symbol) + "@GOTPCREL";
    if (const Symbol* symbol = symbol_holding(static_cast<std::uint64_t>(slot->addend)))
      return quoted(symbol->name) + "@GOTPCREL";
  }
  if (const Function* function = program_.function_at(target); function != nullptr && function->address == target) {
    result.ambiguous |= means_something_else(function->symbol());
    if (function->origin == Function::Origin::plt) return quoted(stub_symbol(*function)) + "@PLT";
    if (!function->symbol().empty()) return named(*function);
  }
  if (const Symbol* symbol = symbol_holding(target)) {
    result.ambiguous |= means_something_else(symbol->name);
    if (!symbol->global)
      remark(std::string(symbol->name) + " is local to its file; to link against it, make it global");
    return with_offset(quoted(symbol->name), static_cast<std::int64_t>(target - symbol->address));
  }
  if (tables_.count(target) != 0) return copy_name(target, 0);
  if (section != nullptr && (section->flags & binary::kWritable) == 0 && !section->is_code()) {
    const unsigned width = memory_width(in);
    if (width != 0) return copy_name(target, width / 8);
    if (!program_.reference(target).text.empty() || is_short_string(target)) return copy_name(target, 0);
  }
  return refuse(from, "refers to unnamed data at " + hex_text(target) + ", whose extent is not known");
}

Result<std::string> SourceWriter::name_of_thread_local(const isa::Instruction& in, std::uint64_t from) {
  for (const binary::Segment& segment : elf_.segments()) {
    if (segment.type != binary::kThreadSegment) continue;
    const std::uint64_t alignment = std::max<std::uint64_t>(segment.alignment, 1);
    const std::uint64_t size = (segment.memory_size + alignment - 1) / alignment * alignment;
    const std::uint64_t offset = size + static_cast<std::uint64_t>(std::int64_t(in.displacement));
    for (const Symbol& symbol : elf_.symbols()) {
      if (symbol.type != binary::kThreadLocal || offset - symbol.address >= std::max<std::uint64_t>(symbol.size, 1))
        continue;
      return with_offset(quoted(symbol.name) + "@tpoff", static_cast<std::int64_t>(offset - symbol.address));
    }
  }
  return refuse(from, "refers to thread-local storage that no symbol names");
}

bool SourceWriter::is_short_string(std::uint64_t address) const {
  const Bytes bytes = elf_.bytes_at(address);
  if (!bytes.empty() && bytes[0] == 0) return true;
  return bytes.size() >= 2 && bytes[0] >= 0x20 && bytes[0] < 0x7f && bytes[1] == 0;
}

unsigned SourceWriter::memory_width(const isa::Instruction& in) {
  for (const isa::Operand& operand : isa::operands_of(in)) {
    if (operand.kind == isa::Operand::Kind::memory && !operand.stack_slot) return operand.width;
  }
  return 0;
}

const binary::Symbol* SourceWriter::symbol_holding(std::uint64_t address) {
  if (by_address_.empty()) {
    for (const Symbol& symbol : elf_.symbols()) {
      if (symbol.section == 0 || symbol.type == binary::kSectionSymbol || symbol.type == binary::kFile ||
          symbol.type == binary::kThreadLocal || symbol.name.empty())
        continue;
      by_address_.push_back(symbol);
      longest_ = std::max(longest_, symbol.size);
    }
    std::ranges::stable_sort(by_address_, {}, &Symbol::address);
  }
  const Symbol* best = nullptr;
  for (auto at = std::ranges::upper_bound(by_address_, address, {}, &Symbol::address); at != by_address_.begin();) {
    --at;
    if (address - at->address > longest_) break;
    if (address != at->address && address - at->address >= at->size) continue;
    // Of equals the first in the file.
    if (best == nullptr || at->global || !best->global) best = &*at;
  }
  return best;
}

void SourceWriter::refer_to_absolute(const isa::Instruction& in, std::uint64_t address, References& result) {
  std::string* into = nullptr;
  std::uint64_t value = 0;
  if (in.modrm_at != 0 && in.modrm < 0xc0 && in.displacement_size == 4) {
    into = &result.displacement;
    value = static_cast<std::uint32_t>(in.displacement);
  } else if (in.immediate_size[0] >= 4) {
    into = &result.immediate;
    value = in.immediate & (in.immediate_size[0] == 8 ? ~std::uint64_t(0) : 0xffffffffU);
  }
  if (into == nullptr || elf_.section_at(value) == nullptr) return;
  const Function* function = program_.function_at(value);
  const Symbol* symbol = symbol_holding(value);
  std::string name;
  if (function != nullptr && function->address == value && !function->symbol().empty()) {
    name = named(*function);
  } else if (symbol != nullptr && (into == &result.displacement || symbol->address == value)) {
    name = with_offset(quoted(symbol->name), static_cast<std::int64_t>(value - symbol->address));
  } else if (tables_.count(value) != 0 || (function == nullptr && !program_.reference(value).text.empty())) {
    name = copy_name(value, 0);
  } else {
    return;
  }
  remark(hex_text(value) + " in " + program_.place_name(address) + " was taken for the address of " + name);
  *into = std::move(name);
}

}  // namespace deeptrace::study
