// The first pass: what is to be written, and what it refers to.
#include <algorithm>

#include "base/number.h"
#include "program/location.h"
#include "study/source_writer.h"

namespace deeptrace::study {

SourceWriter::SourceWriter(const Program& program, const AssemblyRequest& request, AssemblySink& sink)
    : program_(program), elf_(program.elf()), request_(request), sink_(sink), scan_(program) {
  object_ = elf_.kind() == binary::Kind::relocatable;
  for (const Symbol& symbol : elf_.symbols()) {
    if (symbol.section == 0 || symbol.section >= elf_.sections().size() || symbol.name.empty()) continue;
    if (symbol.type != binary::kSectionSymbol && symbol.type != binary::kFile)
      symbols_.emplace(std::pair(symbol.section, symbol.address), symbol);
  }
  if (object_) find_groups();
}

std::optional<Error> SourceWriter::plan() {
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
  plan_unwinding();
  return std::nullopt;
}

void SourceWriter::plan_unwinding() {
  const Section* section = elf_.section_named(".eh_frame");
  if (section == nullptr) return;
  debuginfo::UnwindSection table{elf_.bytes_of(*section), section->address, elf_.machine().word, false, {}};
  table.relocated = [&](std::uint64_t field) -> std::optional<std::uint64_t> {
    const Relocation* found = program_.relocation_in(field, 1);
    if (found == nullptr || !found->defined) return std::nullopt;
    return found->symbol_value + static_cast<std::uint64_t>(found->addend);
  };
  std::vector<std::string> without;
  debuginfo::each_unwind_entry(table, [&](const debuginfo::UnwindEntry& entry) {
    const bool whole = std::ranges::any_of(ranges_, [&](const AddressRange& range) {
      return range.from <= entry.range.from && entry.range.to <= range.to;
    });
    if (!whole) return;
    auto directives = unwind_directives(entry, program_.mode());
    const auto exceptions = directives ? exception_directives(entry) : std::nullopt;
    const bool placed = directives && std::ranges::all_of(directives->at, [&](const auto& one) {
                          return one.first == entry.range.from || starts_.contains(one.first);
                        });
    if (!placed || !exceptions) {
      without.push_back(program_.place_name(entry.range.from));
      return;
    }
    if (!exceptions->empty()) {
      auto& first = directives->at[entry.range.from];
      first.insert(first.begin(), *exceptions);
    }
    for (auto& [address, lines] : directives->at) unwind_lines_[address] = lines;
    unwinding_[entry.range.from] = std::move(*directives);
  });
  if (without.empty()) return;
  std::string names;
  for (std::size_t i = 0; i < std::min<std::size_t>(without.size(), 8); ++i) names += (i == 0 ? "" : ", ") + without[i];
  if (without.size() > 8) names += " and " + std::to_string(without.size() - 8) + " more";
  remark("no unwind tables are written for " + names + ": exceptions do not pass " +
         (without.size() == 1 ? "it" : "them"));
}

/// The table of handlers is written with the data of an object; of linked files it is not.
std::optional<std::string> SourceWriter::exception_directives(const debuginfo::UnwindEntry& entry) {
  std::string result;
  const auto expression = [&](const debuginfo::UnwindEntry::Field& field) -> std::optional<std::string> {
    const Relocation* found = program_.relocation_in(field.address, 1);
    if (!object_ || found == nullptr) return std::nullopt;
    Result<std::string> name = symbol_of(*found, found->addend, found->address);
    return name ? std::optional(hex_text(field.encoding) + ", " + *name) : std::nullopt;
  };
  if (entry.handlers == 0) return result;
  const auto personality = expression(entry.personality), handlers = expression(entry.exception_table);
  if (!personality || !handlers) return std::nullopt;
  return "\t.cfi_personality " + *personality + "\n\t.cfi_lsda " + *handlers;
}

void SourceWriter::find_groups() {
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

std::optional<Error> SourceWriter::choose_ranges() {
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

void SourceWriter::add_cold_parts() {
  for (std::size_t i = 0; i < ranges_.size(); ++i) {
    const Function* function = program_.function_at(ranges_[i].from);
    if (function == nullptr || function->symbol().empty()) continue;
    const std::string start = std::string(function->symbol()) + ".cold";
    for (const Function& part : program_.functions()) {
      if (part.symbol().starts_with(start) && !is_listed(part.address)) ranges_.push_back(part.range());
    }
  }
}

void SourceWriter::need_section(std::uint32_t section) {
  if (std::ranges::find(data_sections_, section) == data_sections_.end()) data_sections_.push_back(section);
}

bool SourceWriter::is_listed(std::uint64_t address) const {
  return std::ranges::any_of(ranges_, [address](const AddressRange& range) { return range.holds(address); });
}

Error SourceWriter::refuse(std::uint64_t address, const std::string& why) const {
  std::string place = program_.place_name(address);
  if (place.empty()) place = hex_text(address);
  return {Fault::usage, "--format assembler: " + place + " " + why};
}

const binary::Symbol* SourceWriter::local_symbol_at(std::uint32_t section, std::uint64_t address) const {
  const auto [from, to] = symbols_.equal_range(std::pair(section, address));
  for (auto at = from; at != to; ++at) {
    if (!at->second.global && at->second.type != binary::kObject) return &at->second;
  }
  return nullptr;
}

std::string SourceWriter::label(std::uint64_t address) {
  const Section* section = elf_.section_at(address);
  const std::uint32_t index = section != nullptr ? section->index : 0;
  if (const Symbol* symbol = local_symbol_at(index, address)) return quoted(symbol->name);
  std::string name = ".L" + std::to_string(index) + "_";
  isa::Text digits;
  digits.add_digits(elf_.section_offset(address));
  labels_[address] = name.append(digits.view());
  return name;
}

Result<std::string> SourceWriter::code_label(std::uint64_t from, std::uint64_t address) {
  if (starts_.count(address) != 0) return label(address);
  if (const Function* other = program_.function_at(address); other != nullptr && !is_listed(address)) {
    return refuse(from, "goes into the middle of " + other->name.str() + " (+" + hex_text(address - other->address) +
                            "), which is not listed");
  }
  return refuse(from, "refers to " + hex_text(elf_.section_offset(address)) + ", where no listed instruction starts");
}

std::optional<Error> SourceWriter::plan_starts(AddressRange range) {
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

std::optional<Error> SourceWriter::plan_references(AddressRange range) {
  for (const Stretch& stretch : stretches_[range.from]) {
    if (stretch.kind != Stretch::Kind::code) continue;
    for (const isa::Placed& one : instructions_of(stretch)) {
      if (!one.instruction) continue;
      Result<References> references = refer(one.instruction, stretch.range.from + one.at);
      if (!references) return references.error();
      if (references->any()) references_[stretch.range.from + one.at] = std::move(*references);
    }
  }
  return std::nullopt;
}

isa::Walk SourceWriter::instructions_of(const Stretch& stretch) const {
  const Bytes bytes = elf_.bytes_at(stretch.range.from);
  return isa::instructions_of(bytes.first(std::min<std::size_t>(bytes.size(), stretch.range.to - stretch.range.from)),
                              program_.mode());
}

isa::Instruction SourceWriter::decode(const Stretch& stretch, std::uint64_t at) const {
  const Bytes bytes = elf_.bytes_at(at);
  return isa::decode(bytes.first(std::min<std::size_t>(bytes.size(), stretch.range.to - at)), program_.mode());
}

std::optional<Error> SourceWriter::plan_tables(AddressRange range) {
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

std::optional<Error> SourceWriter::plan_data(const Section& section) {
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

}  // namespace deeptrace::study
