#include "study/source.h"

#include <algorithm>
#include <array>
#include <cstring>
#include <map>
#include <set>

#include "arch/relocations.h"
#include "base/number.h"
#include "isa/assembler.h"
#include "isa/walk.h"
#include "program/code_scan.h"
#include "program/location.h"

namespace deeptrace::study {
namespace {

using binary::Elf;
using binary::Relocation;
using binary::Section;
using binary::Symbol;
using program::AddressRange;
using program::Function;
using program::JumpTable;
using program::Program;
using program::Stretch;

std::string with_offset(std::string name, std::int64_t offset) {
  if (offset == 0) return name;
  isa::Text text;
  if (offset > 0) text.add('+');
  text.add_signed_hex(offset);
  return name.append(text.view());
}

bool is_plain(char c) {
  return (c >= 'a' && c <= 'z') || (c >= 'A' && c <= 'Z') || (c >= '0' && c <= '9') || c == '_' || c == '.' || c == '$';
}

/// A symbol as the assembler reads it.
std::string quoted(std::string_view name) {
  if (std::ranges::all_of(name, is_plain)) return std::string(name);
  std::string result = "\"";
  for (const char c : name) {
    if (c == '"' || c == '\\') result += '\\';
    result += c;
  }
  return result + '"';
}

/// Words that Intel syntax reads as operators and the like; registers are asked of the table.
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

/// What an instruction refers to, as expressions. Empty ones stay numbers.
struct References {
  std::string target, displacement, immediate;
  std::string directive;   ///< a line that must stand before the instruction
  bool ambiguous = false;  ///< a name that Intel syntax would read as something else
};

class SourceWriter {
 public:
  SourceWriter(const Program& program, const AssemblyRequest& request, AssemblySink& sink)
      : program_(program), elf_(program.elf()), request_(request), sink_(sink), scan_(program) {
    object_ = elf_.kind() == binary::Kind::relocatable;
    for (const Symbol& symbol : elf_.symbols()) {
      if (symbol.section == 0 || symbol.section >= elf_.sections().size() || symbol.name.empty()) continue;
      if (symbol.type != binary::kSectionSymbol && symbol.type != binary::kFile)
        symbols_.emplace(std::pair(symbol.section, symbol.address), symbol);
    }
    if (object_) find_groups();
  }

  std::optional<Error> plan() {
    if (auto error = choose_ranges()) return error;
    for (const AddressRange& range : ranges_) {
      if (auto error = plan_starts(range)) return error;
    }
    for (const AddressRange& range : ranges_) {
      if (auto error = plan_references(range)) return error;
    }
    // Tables refer to code, data may refer to more data.
    for (const auto& [address, size] : copies_) {
      if (const auto table = tables_.find(address); table != tables_.end())
        for_each_entry(table->second, [&](std::uint64_t target) { (void)label(target); });
    }
    for (std::size_t i = 0; i < data_sections_.size(); ++i) {
      if (auto error = plan_data(elf_.sections()[data_sections_[i]])) return error;
    }
    return std::nullopt;
  }

  AssemblySummary write() {
    std::string options = elf_.wide() ? "--64" : "--32";
    for (const std::string_view option : isa::kAssemblerOptions) options += " " + std::string(option);
    line("# " + elf_.path());
    line("# as " + options);
    for (const std::string& remark : remarks_) line("# note: " + remark);
    line(request_.syntax == isa::Syntax::intel ? ".intel_syntax noprefix" : ".att_syntax");
    for (const AddressRange& range : ranges_) write_code(range);
    for (const std::uint32_t section : data_sections_) write_data(elf_.sections()[section]);
    write_copies();
    if (object_) write_other_symbols();
    for (std::size_t i = 0; i < late_.size(); ++i) {
      if (!late_[i]) continue;
      isa::Text name, value;
      isa::add_late_symbol_name(name, static_cast<std::int8_t>(i));
      value.add_signed_hex(static_cast<std::int8_t>(i));
      line("\t.set " + std::string(name.view()) + ", " + std::string(value.view()));
    }
    line("\t.section .note.GNU-stack,\"\",@progbits");
    line("# " + std::to_string(summary_.instructions) + " instructions, " + std::to_string(summary_.data) +
         " bytes of data");
    return summary_;
  }

 private:
  /// Sections of which the linker keeps one copy, with the symbol that their group goes by (System V ABI, 4-10).
  void find_groups() {
    constexpr std::uint32_t kGroup = 17;
    for (const Section& section : elf_.sections()) {
      if (section.type != kGroup || section.info >= elf_.symbols().size()) continue;
      const Bytes words = elf_.bytes_of(section);
      for (std::size_t at = 4; at + 4 <= words.size(); at += 4) {
        std::uint32_t member = 0;
        std::memcpy(&member, words.data() + at, 4);
        groups_[member] = quoted(elf_.symbols()[section.info].name);
      }
    }
  }

  // ---- what to write

  std::optional<Error> choose_ranges() {
    for (const std::string& where : request_.where) {
      Result<std::vector<AddressRange>> found = program::ranges_of(program_, where);
      if (!found) return found.error();
      ranges_.insert(ranges_.end(), found->begin(), found->end());
    }
    if (!object_) add_cold_parts();
    if (!request_.where.empty()) return std::nullopt;
    for (const Section& section : elf_.sections()) {
      if (!object_ || (section.flags & binary::kAllocated) == 0 || section.name == ".eh_frame") continue;
      if (section.is_code()) {
        if (section.size != 0) ranges_.push_back({section.address, section.address + section.size});
      } else if (section.size != 0) {
        need_section(section.index);
      }
    }
    for (const Function& function : program_.functions()) {
      if (!object_ && program_.is_own(function)) ranges_.push_back(function.range());
    }
    return std::nullopt;
  }

  /// Compilers split what is rarely run off a function, under its name with an ending.
  void add_cold_parts() {
    for (std::size_t i = 0; i < ranges_.size(); ++i) {
      const Function* function = program_.function_at(ranges_[i].from);
      if (function == nullptr || function->symbol().empty()) continue;
      const std::string start = std::string(function->symbol()) + ".cold";
      for (const Function& part : program_.functions()) {
        if (part.symbol().starts_with(start) && !is_listed(part.address)) ranges_.push_back(part.range());
      }
    }
  }

  void need_section(std::uint32_t section) {
    if (std::ranges::find(data_sections_, section) == data_sections_.end()) data_sections_.push_back(section);
  }

  [[nodiscard]] bool is_listed(std::uint64_t address) const {
    return std::ranges::any_of(ranges_, [address](const AddressRange& range) { return range.holds(address); });
  }

  [[nodiscard]] Error refuse(std::uint64_t address, const std::string& why) const {
    std::string place = program_.place_name(address);
    if (place.empty()) place = hex_text(address);
    return {Fault::usage, "--format assembler: " + place + " " + why};
  }

  // ---- labels

  [[nodiscard]] const Symbol* local_symbol_at(std::uint32_t section, std::uint64_t address) const {
    const auto [from, to] = symbols_.equal_range(std::pair(section, address));
    for (auto at = from; at != to; ++at) {
      if (!at->second.global && at->second.type != binary::kObject) return &at->second;
    }
    return nullptr;
  }

  /// The label of a place that is written here; a label of ours where no local symbol stands.
  std::string label(std::uint64_t address) {
    const Section* section = elf_.section_at(address);
    const std::uint32_t index = section != nullptr ? section->index : 0;
    if (const Symbol* symbol = local_symbol_at(index, address)) return quoted(symbol->name);
    std::string name = ".L" + std::to_string(index) + "_";
    isa::Text digits;
    digits.add_digits(elf_.section_offset(address));
    labels_[address] = name.append(digits.view());
    return name;
  }

  /// The label of an instruction of the listed code. Places inside instructions have none.
  Result<std::string> code_label(std::uint64_t from, std::uint64_t address) {
    if (starts_.count(address) != 0) return label(address);
    if (const Function* other = program_.function_at(address); other != nullptr && !is_listed(address)) {
      return refuse(from, "goes into the middle of " + other->name.str() + " (+" + hex_text(address - other->address) +
                              "), which is not listed");
    }
    return refuse(from, "refers to " + hex_text(elf_.section_offset(address)) + ", where no listed instruction starts");
  }

  // ---- first pass: what is referred to

  std::optional<Error> plan_starts(AddressRange range) {
    const auto split = scan_.split(range);
    std::vector<Stretch>& stretches = stretches_[range.from];
    stretches.assign(split.begin(), split.end());
    for (const Stretch& stretch : stretches) {
      if (stretch.kind == Stretch::Kind::code) {
        for (const isa::Placed& one : instructions_of(stretch)) starts_.insert(stretch.range.from + one.at);
      } else {
        for (std::uint64_t at = stretch.range.from; at < stretch.range.to; ++at) starts_.insert(at);
      }
    }
    return object_ ? std::nullopt : plan_tables(range);
  }

  std::optional<Error> plan_references(AddressRange range) {
    for (const Stretch& stretch : stretches_[range.from]) {
      if (stretch.kind != Stretch::Kind::code) continue;
      for (const isa::Placed& one : instructions_of(stretch)) {
        if (!one.instruction) continue;
        const Result<References> references = refer(one.instruction, stretch.range.from + one.at);
        if (!references) return references.error();
      }
    }
    return std::nullopt;
  }

  [[nodiscard]] isa::Walk instructions_of(const Stretch& stretch) const {
    const Bytes bytes = elf_.bytes_at(stretch.range.from);
    return isa::instructions_of(bytes.first(std::min<std::size_t>(bytes.size(), stretch.range.to - stretch.range.from)),
                                program_.mode());
  }

  [[nodiscard]] isa::Instruction decode(const Stretch& stretch, std::uint64_t at) const {
    const Bytes bytes = elf_.bytes_at(at);
    return isa::decode(bytes.first(std::min<std::size_t>(bytes.size(), stretch.range.to - at)), program_.mode());
  }

  /// Tables are written with labels, so all entries must be known.
  std::optional<Error> plan_tables(AddressRange range) {
    const Function* function = program_.function_at(range.from);
    if (function == nullptr) return std::nullopt;
    const auto tables = scan_.tables_of(*function);
    for (const JumpTable& table : tables) {
      if (!table.bounded) return refuse(table.jump, "jumps through a table whose length no comparison before it tells");
      if (table.base != 0 && !table.from_table())
        return refuse(table.jump, "jumps through a table that counts from the global offset table");
      tables_[table.address] = table;
    }
    if (const std::uint64_t jump = scan_.unresolved_jump(); jump != 0)
      return refuse(jump, "is a computed jump whose table was not found");
    return std::nullopt;
  }

  std::optional<Error> plan_data(const Section& section) {
    const auto& relocations = program_.relocations();
    auto at = std::ranges::lower_bound(relocations, section.address, {}, &Relocation::address);
    for (; at != relocations.end() && at->address < section.address + section.size; ++at) {
      const arch::RelocationKind* kind = arch::relocation_kind(at->type, program_.mode());
      if (kind != nullptr && (kind->places & arch::RelocationKind::kDataDistance) != 0)
        (void)distance(*at, section.index);
      const Result<std::string> name = symbol_of(*at, at->addend, at->address);
      if (!name) return name.error();
    }
    return std::nullopt;
  }

  // ---- references of objects

  /// The symbol of a relocation with an offset; code goes by its labels.
  Result<std::string> symbol_of(const Relocation& relocation, std::int64_t offset, std::uint64_t from) {
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
      if (relocation.section_symbol && (section.flags & binary::kMerge) == 0 && section.holds(place))
        return label(place);
    }
    return with_offset(quoted(relocation.symbol), offset);
  }

  Result<References> refer_by_relocation(const isa::Instruction& in, std::uint64_t address) {
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
      // Branches to symbols that others see go by way of linkage stubs.
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

  /// Which field of an instruction lies at an offset, as Place bit; 0 for none.
  static unsigned place_of(const isa::Instruction& in, std::uint64_t offset, bool branch) {
    if (branch) return arch::RelocationKind::kBranch;
    if (in.displacement_size != 0 && offset == in.displacement_at) return arch::RelocationKind::kDisplacement;
    if (in.immediate_size[0] != 0 && offset == in.immediate_at) return arch::RelocationKind::kImmediate;
    return 0;
  }

  /// "name@GOTPCREL+4": the suffix follows the symbol.
  static std::string suffixed(const Relocation& relocation, const arch::RelocationKind& kind, std::string expression) {
    if (kind.suffix.empty()) return expression;
    const std::string name = quoted(relocation.symbol);
    const std::size_t at = expression.starts_with(name) ? name.size() : expression.size();
    return expression.insert(at, kind.suffix);
  }

  /// A relocation that no text gives, for an instruction of `length` bytes at `address`.
  std::optional<Error> add_directive(const Relocation& relocation, const arch::RelocationKind& kind,
                                     std::uint64_t address, std::uint64_t length, References& result) {
    const std::int64_t distance = program_.distance_in_addend(relocation, address, length);
    const Result<std::string> name = symbol_of(relocation, relocation.addend + distance, address);
    if (!name) return name.error();
    result.directive += "\t.reloc .+" + std::to_string(relocation.address - address) + ", " + std::string(kind.name) +
                        ", " + with_offset(*name, -distance) + "\n";
    return std::nullopt;
  }

  // ---- references of linked files

  Result<References> refer(const isa::Instruction& in, std::uint64_t address) {
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

  /// Position-independent 32-bit code reaches data by a displacement from the table's address.
  [[nodiscard]] static bool uses_table_register(const isa::Instruction& in) {
    return in.modrm_at != 0 && in.modrm < 0xc0 && in.displacement_size == 4;
  }

  Result<std::string> name_of_code(std::uint64_t from, std::uint64_t target, References& result) {
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

  /// The symbol that a linkage stub goes to, as the file has it.
  [[nodiscard]] std::string_view stub_symbol(const Function& stub) const {
    for (const Relocation& relocation : program_.relocations()) {
      if (!relocation.symbol.empty() && program::demangled(relocation.symbol) == stub.name) return relocation.symbol;
    }
    return stub.name;
  }

  std::string named(const Function& function) {
    for (const Symbol& symbol : elf_.symbols()) {
      if (symbol.address == function.address && symbol.name == function.symbol() && !symbol.global)
        remark(std::string(symbol.name) + " is local to its file; to link against it, make it global");
    }
    return quoted(function.symbol());
  }

  void remark(std::string text) {
    if (std::ranges::find(remarks_, text) == remarks_.end()) remarks_.push_back(std::move(text));
  }

  Result<std::string> name_of_data(const isa::Instruction& in, std::uint64_t from, std::uint64_t target,
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

  /// Thread-local variables of a program lie below the thread pointer (x86-64 ABI, 3.4.6; "ELF handling for
  /// thread-local storage", variant II).
  Result<std::string> name_of_thread_local(const isa::Instruction& in, std::uint64_t from) {
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

  /// The empty string, or a single character: what `program::Reference` does not take for text.
  [[nodiscard]] bool is_short_string(std::uint64_t address) const {
    const Bytes bytes = elf_.bytes_at(address);
    if (!bytes.empty() && bytes[0] == 0) return true;
    return bytes.size() >= 2 && bytes[0] >= 0x20 && bytes[0] < 0x7f && bytes[1] == 0;
  }

  static unsigned memory_width(const isa::Instruction& in) {
    for (const isa::Operand& operand : isa::operands_of(in)) {
      if (operand.kind == isa::Operand::Kind::memory && !operand.stack_slot) return operand.width;
    }
    return 0;
  }

  /// The symbol that an address lies in; global ones first.
  [[nodiscard]] const Symbol* symbol_holding(std::uint64_t address) {
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

  /// In executables at fixed addresses a number can be an address: of a function, a variable or a string exactly.
  void refer_to_absolute(const isa::Instruction& in, std::uint64_t address, References& result) {
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

  // ---- copies of unnamed data

  /// `size` bytes, or a string or jump table when 0.
  std::string copy_name(std::uint64_t address, unsigned size) {
    unsigned& known = copies_[address];
    known = std::max(known, size);
    isa::Text name;
    name.add(tables_.count(address) != 0 ? ".Ltable_" : size != 0 ? ".Lconstant_" : ".Lstring_");
    name.add_digits(address);
    return std::string(name.view());
  }

  void write_copies() {
    if (copies_.empty()) return;
    line("\t.section .rodata");
    for (const auto& [address, size] : copies_) {
      if (const auto table = tables_.find(address); table != tables_.end()) {
        write_table(table->second);
        continue;
      }
      const Bytes bytes = elf_.bytes_at(address);
      if (size != 0) {
        line("\t.balign " + std::to_string(size >= 16 ? 16 : size >= 8 ? 8 : size));
        line(copy_name(address, size) + ":");
      }
      // The same place can be read as a string too.
      const auto end = std::ranges::find(bytes, 0);
      const auto length = static_cast<std::size_t>(end - bytes.begin());
      if (size == 0) {
        line(copy_name(address, 0) + ":");
        write_bytes(bytes.first(std::min(length + 1, bytes.size())), true);
      } else {
        write_bytes(bytes.first(std::min<std::size_t>(size, bytes.size())), false);
      }
    }
  }

  void write_table(const JumpTable& table) {
    const std::string name = copy_name(table.address, 0);
    line("\t.balign " + std::to_string(table.entry_size));
    line(name + ":");
    for_each_entry(table, [&](std::uint64_t target) {
      line((table.entry_size == 8 ? "\t.quad " : "\t.long ") + label(target) + (table.from_table() ? "-" + name : ""));
    });
  }

  /// The targets of a jump table in order.
  template <class Use>
  void for_each_entry(const JumpTable& table, Use use) const {
    for (std::uint64_t i = 0; i < table.entries; ++i) {
      if (const auto target = program::target_of(program_, table, i)) use(*target);
    }
  }

  // ---- second pass: writing

  void line(std::string_view text) { sink_.line(text); }

  void write_bytes(Bytes bytes, bool text) {
    const std::size_t most = text ? 48 : 8;
    for (std::size_t at = 0; at < bytes.size(); at += most) {
      isa::Text out;
      out.add('\t');
      (text ? isa::add_characters : isa::add_bytes)(out, bytes.subspan(at, std::min(most, bytes.size() - at)));
      line(out.view());
    }
    summary_.data += bytes.size();
  }

  void begin_section(const Section& section) {
    std::string flags;
    if ((section.flags & binary::kAllocated) != 0) flags += 'a';
    if ((section.flags & binary::kWritable) != 0) flags += 'w';
    if ((section.flags & binary::kExecutable) != 0) flags += 'x';
    if ((section.flags & binary::kMerge) != 0) flags += 'M';
    if ((section.flags & binary::kStrings) != 0) flags += 'S';
    if ((section.flags & binary::kThreadStorage) != 0) flags += 'T';
    if (groups_.count(section.index) != 0) flags += 'G';
    std::string text = "\t.section " + quoted(section.name) + ",\"" + flags + "\"," + type_word(section.type);
    if ((section.flags & binary::kMerge) != 0) text += "," + std::to_string(section.entry_size);
    if (const auto group = groups_.find(section.index); group != groups_.end()) text += "," + group->second + ",comdat";
    line(text);
    if (section.alignment > 1) line("\t.balign " + std::to_string(section.alignment));
  }

  static std::string type_word(std::uint32_t type) {
    switch (type) {
      case 1: return "@progbits";
      case 7: return "@note";
      case 8: return "@nobits";
      case 14: return "@init_array";
      case 15: return "@fini_array";
      case 16: return "@preinit_array";
      default: return "@" + std::to_string(type);
    }
  }

  void write_code(AddressRange range) {
    const Section* section = elf_.section_at(range.from);
    if (object_) {
      if (section->index != section_) begin_section(*section);
    } else {
      if (section_ == 0) line("\t.text");
      if (range.from % 16 == 0) line("\t.balign 16");
    }
    section_ = section->index;
    const auto& relocations = program_.relocations();
    for (const Stretch& stretch : stretches_[range.from]) {
      for (std::uint64_t at = stretch.range.from; at < stretch.range.to;) {
        head(section_, at);
        const isa::Instruction instruction =
            stretch.kind == Stretch::Kind::code ? decode(stretch, at) : isa::Instruction{};
        if (instruction) {
          write_instruction(instruction, at);
          at += instruction.length;
          continue;
        }
        const auto next = std::ranges::lower_bound(relocations, at, {}, &Relocation::address);
        if (stretch.kind == Stretch::Kind::code) {
          write_bytes(elf_.bytes_at(at).first(1), false);
          ++at;
        } else if (object_ && next != relocations.end() && next->address == at) {
          at += write_word(*next, section_);
        } else {
          std::uint64_t to = at + 1;
          while (to < stretch.range.to && !needs_head(section_, to) && !(object_ && program_.relocation_in(to, 1)))
            ++to;
          write_bytes(elf_.bytes_at(at).first(to - at), stretch.kind == Stretch::Kind::string);
          at = to;
        }
      }
    }
    end_symbols(range.to);
  }

  void write_instruction(const isa::Instruction& in, std::uint64_t address) {
    const Result<References> found = refer(in, address);
    const References references = found ? *found : References{};
    // Names can be longer than the assembler text holds: they are put in afterwards.
    constexpr std::string_view kTarget = "\1", kDisplacement = "\2", kImmediate = "\3";
    const bool intel = request_.syntax == isa::Syntax::intel && !references.ambiguous;
    isa::Names names;
    if (!references.target.empty()) names.target = kTarget;
    if (!references.displacement.empty()) names.displacement = kDisplacement;
    if (!references.immediate.empty()) names.immediate = kImmediate;
    const isa::AssemblerText text = isa::assembler_text(in, elf_.bytes_at(address).first(in.length), address,
                                                        intel ? isa::Syntax::intel : isa::Syntax::att, names);
    if (text.form == isa::Form::late_symbol) late_[static_cast<std::uint8_t>(text.late_value)] = true;
    std::string result;
    for (const char c : text.text.view()) {
      if (c == kTarget[0]) {
        result += references.target;
      } else if (c == kDisplacement[0]) {
        result += references.displacement;
      } else if (c == kImmediate[0]) {
        result += intel ? "offset " + references.immediate : references.immediate;
      } else {
        result += c;
        if (c == '\n') result += '\t';
      }
    }
    if (!references.directive.empty())
      line(std::string_view(references.directive).substr(0, references.directive.size() - 1));
    const bool switched = references.ambiguous && request_.syntax == isa::Syntax::intel;
    if (switched) line("\t.att_syntax");
    line("\t" + result);
    if (switched) line("\t.intel_syntax noprefix");
    ++summary_.instructions;
  }

  // ---- symbols

  [[nodiscard]] bool needs_head(std::uint32_t section, std::uint64_t address) const {
    return labels_.count(address) != 0 || symbols_.count(std::pair(section, address)) != 0 || ends_.count(address) != 0;
  }

  /// Ends of symbols before a place, then its symbols and labels.
  void head(std::uint32_t section, std::uint64_t address) {
    end_symbols(address);
    const auto [from, to] = symbols_.equal_range(std::pair(section, address));
    for (auto at = from; at != to; ++at) declare(at->second);
    const auto label = labels_.find(address);
    if (label != labels_.end()) line(label->second + ":");
  }

  void declare(const Symbol& symbol) {
    const std::string name = quoted(symbol.name);
    attributes(symbol, name);
    if (const std::string_view type = type_name(symbol); !type.empty())
      line("\t.type " + name + ", " + std::string(type));
    line(name + ":");
    if (symbol.size != 0) ends_.emplace(symbol.address + symbol.size, name);
  }

  void attributes(const Symbol& symbol, const std::string& name) {
    constexpr std::array<std::string_view, 4> kVisibility = {"", "\t.internal ", "\t.hidden ", "\t.protected "};
    if (symbol.weak) {
      line("\t.weak " + name);
    } else if (symbol.global) {
      line("\t.globl " + name);
    }
    if (symbol.visibility != 0) line(std::string(kVisibility[symbol.visibility]) + name);
  }

  static std::string_view type_name(const Symbol& symbol) {
    switch (symbol.type) {
      case binary::kFunction: return "@function";
      case binary::kObject: return "@object";
      case binary::kThreadLocal: return "@tls_object";
      case binary::kIndirectFunction: return "@gnu_indirect_function";
      default: return {};
    }
  }

  void end_symbols(std::uint64_t address) {
    while (!ends_.empty() && ends_.begin()->first <= address) {
      const auto& [end, name] = *ends_.begin();
      if (end == address) line("\t.size " + name + ", .-" + name);
      ends_.erase(ends_.begin());
    }
  }

  /// Undefined symbols that are more than their name, and storage that the linker makes.
  void write_other_symbols() {
    for (const Symbol& symbol : elf_.symbols()) {
      if (symbol.name.empty() || symbol.section != 0) continue;
      const std::string name = quoted(symbol.name);
      if (symbol.common) {
        line("\t.comm " + name + "," + std::to_string(symbol.size) + "," + std::to_string(symbol.address));
      } else if (symbol.weak || symbol.visibility != 0) {
        attributes(symbol, name);
      }
    }
  }

  // ---- data sections

  void write_data(const Section& section) {
    begin_section(section);
    section_ = section.index;
    const Bytes bytes = elf_.bytes_of(section);
    const auto& relocations = program_.relocations();
    const std::uint64_t end = section.address + section.size;
    for (std::uint64_t at = section.address; at < end;) {
      head(section.index, at);
      const auto next = std::ranges::lower_bound(relocations, at, {}, &Relocation::address);
      const bool relocated = next != relocations.end() && next->address < end;
      if (relocated && next->address == at) {
        at += write_word(*next, section.index);
        continue;
      }
      std::uint64_t to = relocated ? next->address : end;
      const auto symbol = symbols_.upper_bound(std::pair(section.index, at));
      if (symbol != symbols_.end() && symbol->first.first == section.index) to = std::min(to, symbol->first.second);
      if (const auto label = labels_.upper_bound(at); label != labels_.end()) to = std::min(to, label->first);
      if (const auto ended = ends_.upper_bound(at); ended != ends_.end()) to = std::min(to, ended->first);
      write_plain(section, bytes, at, to);
      at = to;
    }
    end_symbols(end);
  }

  void write_plain(const Section& section, Bytes bytes, std::uint64_t from, std::uint64_t to) {
    if (section.type == binary::kNoBits) {
      line("\t.zero " + std::to_string(to - from));
      return;
    }
    const Bytes piece = bytes.subspan(from - section.address, to - from);
    if (piece.size() > 8 && std::ranges::all_of(piece, [](std::uint8_t byte) { return byte == 0; })) {
      line("\t.zero " + std::to_string(piece.size()));
      summary_.data += piece.size();
    } else {
      const auto readable = std::ranges::count_if(piece, [](std::uint8_t b) { return b >= 0x20 && b < 0x7f; });
      write_bytes(piece, static_cast<std::size_t>(readable) * 4 >= piece.size() * 3);
    }
  }

  /// One relocated word of data; its size.
  std::uint64_t write_word(const Relocation& relocation, std::uint32_t section) {
    const arch::RelocationKind* kind = arch::relocation_kind(relocation.type, program_.mode());
    const std::uint64_t size = kind != nullptr && kind->size != 0 ? kind->size : 1;
    const std::string_view word = size == 8 ? "\t.quad " : "\t.long ";
    if (kind != nullptr && (kind->places & arch::RelocationKind::kDataDistance) != 0) {
      line(std::string(word) + distance(relocation, section));
    } else if (kind != nullptr && (kind->places & arch::RelocationKind::kData) != 0) {
      const Result<std::string> name = symbol_of(relocation, relocation.addend, relocation.address);
      line(std::string(word) + (name ? suffixed(relocation, *kind, *name) : "0"));
    } else {
      References references;
      if (kind != nullptr) (void)add_directive(relocation, *kind, relocation.address, size, references);
      if (!references.directive.empty())
        line(std::string_view(references.directive).substr(0, references.directive.size() - 1));
      write_bytes(elf_.bytes_at(relocation.address).first(size), false);
      return size;
    }
    summary_.data += size;
    return size;
  }

  /// An entry of a jump table holds a label's distance from the table's start: the table is the nearest place before it
  /// at which a label is needed and that makes the target an instruction.
  std::string distance(const Relocation& relocation, std::uint32_t section) {
    if (relocation.section_symbol && elf_.sections()[relocation.section].is_code()) {
      for (auto table = labels_.upper_bound(relocation.address); table != labels_.begin();) {
        --table;
        if (table->first < elf_.sections()[section].address) break;
        const std::uint64_t target = relocation.symbol_value + static_cast<std::uint64_t>(relocation.addend) -
                                     (relocation.address - table->first);
        if (starts_.count(target) != 0) return label(target) + "-" + table->second;
      }
      for (const auto& [place, symbol] : symbols_) {
        if (place.first != section || place.second > relocation.address) continue;
        const std::uint64_t target = relocation.symbol_value + static_cast<std::uint64_t>(relocation.addend) -
                                     (relocation.address - place.second);
        if (starts_.count(target) != 0) return label(target) + "-" + quoted(symbol.name);
      }
    }
    return with_offset(quoted(relocation.symbol), relocation.addend) + "-.";
  }

  const Program& program_;
  const Elf& elf_;
  const AssemblyRequest& request_;
  AssemblySink& sink_;
  program::CodeScan scan_;
  bool object_ = false;
  std::vector<AddressRange> ranges_, pending_;
  std::vector<std::uint32_t> data_sections_;
  std::multimap<std::pair<std::uint32_t, std::uint64_t>, Symbol> symbols_;  ///< by section and address
  std::vector<Symbol> by_address_;                                          ///< all that have a place
  std::uint64_t longest_ = 0;                                               ///< of them, bytes
  std::map<std::uint64_t, std::vector<Stretch>> stretches_;                 ///< by range
  std::set<std::uint64_t> starts_;                                          ///< of listed instructions and data
  std::map<std::uint64_t, std::string> labels_;                             ///< of ours
  std::multimap<std::uint64_t, std::string> ends_;                          ///< of the symbols that are open
  std::map<std::uint64_t, JumpTable> tables_;
  std::map<std::uint64_t, unsigned> copies_;     ///< unnamed data by address: bytes, 0 for strings and tables
  std::map<std::uint32_t, std::string> groups_;  ///< by section
  std::vector<std::string> remarks_;
  std::array<bool, 256> late_{};
  std::uint32_t section_ = 0;
  AssemblySummary summary_;
};

}  // namespace

Result<AssemblySummary> write_source(const Program& program, const AssemblyRequest& request, AssemblySink& sink) {
  SourceWriter writer(program, request, sink);
  if (auto error = writer.plan()) return *error;
  return writer.write();
}

}  // namespace deeptrace::study
