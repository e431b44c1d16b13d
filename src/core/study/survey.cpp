#include "study/survey.h"

#include <algorithm>
#include <set>

#include "base/number.h"
#include "base/path.h"
#include "corefile/regions.h"

namespace deeptrace::study {
namespace {

using binary::Elf;
using binary::Section;

/// What sections are for, by the beginning of their names; the first fitting line counts.
struct Role {
  std::string_view prefix;
  ByteUse use;
  std::string_view phrase;
};

constexpr Role kRoles[] = {
    {".text.unlikely", ByteUse::code, "instructions that are rarely run"},
    {".text.startup", ByteUse::code, "instructions that run once, before main or in it"},
    {".text.hot", ByteUse::code, "instructions that are run often"},
    {".text", ByteUse::code, "the program's instructions"},
    {".init_array", ByteUse::data, "addresses of functions that run before main"},
    {".fini_array", ByteUse::data, "addresses of functions that run at the end"},
    {".preinit_array", ByteUse::data, "addresses of functions that run before all others"},
    {".init", ByteUse::code, "start-up code"},
    {".fini", ByteUse::code, "code for the end"},
    {".plt", ByteUse::code, "PLT stubs: jumps to functions of libraries"},
    {".rodata", ByteUse::read_only_data, "constants and strings"},
    {".eh_frame_hdr", ByteUse::unwinding, "index of the unwind tables"},
    {".eh_frame", ByteUse::unwinding, "unwind tables: how to leave each function"},
    {".gcc_except_table", ByteUse::unwinding, "exception tables"},
    {".data.rel.ro", ByteUse::data, "variables that the loader fills and nobody changes after it"},
    {".data", ByteUse::data, "variables with initial values"},
    {".tdata", ByteUse::data, "each thread's variables with initial values"},
    {".tbss", ByteUse::data, "each thread's variables that begin as zero"},
    {".bss", ByteUse::data, "variables that begin as zero: they take no room in the file"},
    {".got", ByteUse::data, "addresses that the loader fills in"},
    {".dynamic", ByteUse::linking, "what the loader has to know"},
    {".interp", ByteUse::linking, "the loader's path"},
    {".dynsym", ByteUse::linking, "symbols that are linked when the program starts"},
    {".dynstr", ByteUse::linking, "names of the symbols for linking, and of libraries"},
    {".gnu.hash", ByteUse::linking, "index of the symbols for linking"},
    {".hash", ByteUse::linking, "index of the symbols for linking"},
    {".gnu.version", ByteUse::linking, "versions of the symbols for linking"},
    {".rel", ByteUse::linking, "relocations: addresses filled in at load"},
    {".symtab", ByteUse::symbols, "all symbols: not needed to run"},
    {".strtab", ByteUse::symbols, "names of the symbols"},
    {".shstrtab", ByteUse::symbols, "names of the sections"},
    {".debug", ByteUse::debug, "debug information"},
    {".zdebug", ByteUse::debug, "debug information, compressed"},
    {".gnu_debuglink", ByteUse::debug, "the name of a file with debug information"},
    {".gnu_debugdata", ByteUse::debug, "symbols in short, compressed"},
    {".note", ByteUse::notes, "notes for tools and the loader"},
    {".comment", ByteUse::notes, "the compiler's name"},
};

Role role_of(const Section& section) {
  for (const Role& role : kRoles) {
    const bool fits = section.name.starts_with(role.prefix);
    if (fits && (section.name.size() == role.prefix.size() || role.prefix == ".rel" || role.prefix == ".debug" ||
                 role.prefix == ".zdebug" || section.name[role.prefix.size()] == '.' ||
                 section.name[role.prefix.size()] == '_'))
      return role;
  }
  const bool allocated = (section.flags & binary::kAllocated) != 0;
  if (section.is_code()) return {{}, ByteUse::code, "instructions"};
  if (!allocated) return {{}, ByteUse::other, "not loaded"};
  if ((section.flags & binary::kWritable) != 0) return {{}, ByteUse::data, "variables"};
  return {{}, ByteUse::read_only_data, "read-only data"};
}

/// Gives every byte of the file to the first of the ranges that holds it.
class Accounts {
 public:
  explicit Accounts(std::uint64_t size) : size_(size) {}

  void add(ByteUse use, std::uint64_t offset, std::uint64_t size) {
    if (offset < size_ && size != 0) ranges_.push_back({offset, offset + std::min(size, size_ - offset), use});
  }

  [[nodiscard]] std::array<std::uint64_t, kByteUses> settle() {
    std::array<std::uint64_t, kByteUses> result{};
    std::ranges::stable_sort(ranges_, {}, &Range::from);
    std::uint64_t at = 0;
    for (const Range& range : ranges_) {
      if (range.from > at) result[static_cast<std::size_t>(ByteUse::padding)] += range.from - at;
      at = std::max(at, range.from);
      if (range.to > at) result[static_cast<std::size_t>(range.use)] += range.to - at;
      at = std::max(at, range.to);
    }
    result[static_cast<std::size_t>(ByteUse::padding)] += size_ - at;
    return result;
  }

 private:
  struct Range {
    std::uint64_t from, to;
    ByteUse use;
  };
  std::uint64_t size_;
  std::vector<Range> ranges_;
};

std::string_view memory_role(const binary::Segment& segment) {
  if (segment.memory_size == 0) return "nothing";
  if (segment.file_size == 0) return "memory that was not saved";
  return segment.file_size < segment.memory_size ? "memory, of which a part was saved"
                                                 : "memory of the program when it ended";
}

void survey_memory(const Elf& elf, Accounts& accounts, Survey& out) {
  for (const binary::Segment& segment : elf.segments()) {
    if (segment.type != binary::kLoadSegment && segment.type != binary::kNoteSegment) continue;
    const bool memory = segment.type == binary::kLoadSegment;
    const ByteUse use = memory ? ByteUse::data : ByteUse::notes;
    std::uint64_t flags = 0;
    if (memory) flags |= binary::kAllocated;
    if (memory && (segment.flags & 2) != 0) flags |= binary::kWritable;
    if (memory && (segment.flags & 1) != 0) flags |= binary::kExecutable;
    out.sections.push_back({memory ? "(memory)" : "(notes)", segment.address,
                            memory ? segment.memory_size : segment.file_size, segment.file_size, flags, use,
                            memory ? memory_role(segment) : "registers, signal, names of files"});
    accounts.add(use, segment.offset, segment.file_size);
  }
}

void survey_core(const Elf& elf, Survey& out) {
  const corefile::CoreNotes notes = corefile::read_notes(elf);
  const std::vector<corefile::Region> regions = corefile::regions_of(elf, notes);
  SurveyedCore& core = out.core.emplace();
  core.program = corefile::program_path(regions, notes);
  core.process = notes.process;
  core.signal = notes.signal;
  core.remarks = notes.remarks;
  std::uint64_t missing = 0;
  for (const corefile::Region& region : regions) {
    core.memory.push_back({region.mapping, region.saved.size()});
    missing += region.missing;
  }
  if (missing != 0)
    core.remarks.push_back("it is cut off: " + std::to_string(missing) + " bytes of memory are missing");
  if (!notes.threads.empty()) core.signalled = notes.threads.front().id;
  for (const state::ThreadId id : corefile::numbered_threads(notes)) {
    const auto thread = std::ranges::find(notes.threads, id, &corefile::ThreadNotes::id);
    const std::uint64_t address = thread->registers[state::Reg::rip];
    const corefile::Region* region = corefile::region_at(regions, address);
    std::string place;
    if (region != nullptr && !region->mapping.path.empty())
      place = base_name(region->mapping.path) + "+" + hex_text(address - region->mapping.from + region->mapping.offset);
    core.threads.push_back({core.threads.size() + 1, id, address, std::move(place)});
  }
}

void survey_sections(const Elf& elf, Survey& out) {
  Accounts accounts(elf.file_size());
  for (const Elf::FileRange& range : elf.headers()) accounts.add(ByteUse::headers, range.offset, range.size);
  for (const Section& section : elf.sections()) {
    if (section.index == 0 || section.type == 0) continue;
    const Role role = role_of(section);
    const std::uint64_t in_file = section.type == binary::kNoBits ? 0 : section.size;
    const std::uint64_t address = elf.kind() == binary::Kind::relocatable ? 0 : section.address;
    out.sections.push_back({section.name, address, section.size, in_file, section.flags, role.use, role.phrase});
    accounts.add(role.use, section.offset, in_file);
  }
  if (elf.kind() == binary::Kind::core) survey_memory(elf, accounts, out);
  out.bytes = accounts.settle();
}

void survey_debug(const program::Program& program, Survey& out) {
  const Elf& elf = program.elf();
  std::set<std::uint16_t> versions;
  std::set<std::string> compilers;
  for (const auto& unit : program.debug().units()) {
    if (unit->type != debuginfo::UnitType::compile && unit->type != debuginfo::UnitType::skeleton) continue;
    versions.insert(unit->form.version);
    ++out.debug_units;
    // After the compiler's name and version stand its options.
    if (!unit->producer.empty()) compilers.insert(std::string(unit->producer.substr(0, unit->producer.find(" -"))));
  }
  out.debug_versions.assign(versions.begin(), versions.end());
  if (const Section* comment = elf.section_named(".comment"); comment != nullptr && compilers.empty()) {
    ByteReader reader(elf.bytes_of(*comment));
    while (!reader.at_end() && reader.good()) {
      const std::string_view name = reader.string();
      if (!name.empty()) compilers.insert(std::string(name));
    }
  }
  out.compilers.assign(compilers.begin(), compilers.end());
}

constexpr std::size_t kShown = 10;

void keep_largest(std::vector<SurveyedFunction>& list) {
  const std::size_t shown = std::min(kShown, list.size());
  std::ranges::partial_sort(list, list.begin() + static_cast<std::ptrdiff_t>(shown), std::greater<>{},
                            &SurveyedFunction::size);
  list.resize(shown);
}

void survey_units(const program::Program& program, Survey& out) {
  for (const auto& unit : program.debug().units()) {
    const bool code = unit->type == debuginfo::UnitType::compile || unit->type == debuginfo::UnitType::split_compile;
    std::uint64_t size = 0;
    for (const AddressRange& range : unit->ranges) size += range.size();
    if (code && size != 0) out.largest_units.push_back({std::string_view(unit->name), 0, size});
  }
  keep_largest(out.largest_units);
}

void survey_symbols(const program::Program& program, Survey& out) {
  const Elf& elf = program.elf();
  out.stripped = !elf.has_symbol_table();
  const auto look_at = [&](std::string_view name) {
    out.stack_protection |= name.starts_with("__stack_chk_fail");
    const std::string_view plain = name.substr(0, name.find('@'));
    out.checked_calls |= plain.size() > 6 && plain.starts_with("__") && plain.ends_with("_chk");
  };
  for (const binary::Symbol& symbol : elf.symbols()) {
    if (symbol.name.empty() || symbol.type == binary::kSectionSymbol || symbol.type == binary::kFile) continue;
    ++out.symbols;
    look_at(symbol.name);
  }
  for (const binary::Relocation& relocation : program.relocations()) look_at(relocation.symbol);
  for (const program::Function& function : program.functions()) {
    if (function.origin == program::Function::Origin::plt) continue;
    ++out.functions;
    out.own_functions += program.is_own(function) ? 1 : 0;
    out.largest.push_back({function.name, elf.section_offset(function.address), function.size});
  }
  keep_largest(out.largest);
}

}  // namespace

Survey survey(const program::Program& program) {
  const Elf& elf = program.elf();
  Survey out;
  out.program = &program;
  out.loading = binary::loading_of(elf);
  if (elf.entry() != 0) out.entry_function = program.place_name(elf.entry());
  survey_sections(elf, out);
  if (elf.kind() == binary::Kind::core) survey_core(elf, out);
  survey_debug(program, out);
  survey_symbols(program, out);
  survey_units(program, out);
  return out;
}

std::string_view name_of(ByteUse use) {
  constexpr std::string_view kNames[kByteUses] = {"code",  "read-only data", "data",  "linking", "unwinding", "symbols",
                                                  "debug", "notes",          "other", "headers", "padding"};
  return kNames[static_cast<std::size_t>(use)];
}

}  // namespace deeptrace::study
