#include "program/program.h"

#include <cxxabi.h>

#include <algorithm>
#include <array>
#include <cctype>
#include <cstdlib>
#include <memory>

#include "isa/operand.h"
#include "isa/text.h"

namespace deeptrace::program {
namespace {

/// "0x1f"; numbers below 10 as a digit, as in instruction text.
std::string hex(std::uint64_t value) {
  isa::Text text;
  text.add_hex(value);
  return std::string(text.view());
}

bool by_address(const Function& a, const Function& b) { return a.address < b.address; }

/// Among symbols of one address the best name: functions before labels, then global, then the one with a size.
bool better(const binary::Symbol& a, const binary::Symbol& b) {
  const auto rank = [](const binary::Symbol& s) {
    return (s.type != binary::kNoType ? 4 : 0) + (s.global ? 2 : 0) + (s.size != 0 ? 1 : 0);
  };
  return rank(a) > rank(b);
}

bool is_printable(std::uint8_t byte) {
  return (byte >= 0x20 && byte < 0x7f) || byte == '\n' || byte == '\t' || byte >= 0xc2;
}

/// A zero-terminated run of readable characters at the start of `bytes`, or nothing. Bytes from 0xc2 up are let
/// through as UTF-8 leads or continuations only behind a lead.
std::string readable_string(Bytes bytes) {
  constexpr std::size_t kLongest = 200;
  std::size_t size = 0;
  bool lead = false;
  while (size < bytes.size() && size < kLongest && bytes[size] != 0) {
    const std::uint8_t byte = bytes[size];
    const bool continuation = byte >= 0x80 && byte < 0xc0 && lead;
    if (!is_printable(byte) && !continuation) return {};
    lead = byte >= 0x80;
    ++size;
  }
  const bool ended = size < bytes.size() && (bytes[size] == 0 || size == kLongest);
  if (!ended || size < 2) return {};
  return {reinterpret_cast<const char*>(bytes.data()), size};
}

/// The part of a C++ name that its linker's name holds as well: the last name in it, without signature and template
/// arguments. Empty where that is not certain: operators, and names of the library that have abbreviations.
std::string identifier_of(std::string_view name) {
  if (name.find("operator") != std::string_view::npos) return {};
  const std::size_t end = std::min(name.find_first_of("(<["), name.size());
  const std::string_view path = name.substr(0, end);
  const std::size_t start = path.rfind("::");
  std::string_view last = start == std::string_view::npos ? path : path.substr(start + 2);
  if (last.starts_with('~')) last.remove_prefix(1);
  constexpr std::string_view kAbbreviated[] = {"allocator", "basic_string", "string", "basic_istream", "basic_ostream",
                                               "basic_iostream", "istream", "ostream", "iostream"};
  const bool plain = std::ranges::all_of(last, [](char c) { return std::isalnum(static_cast<unsigned char>(c)) != 0 || c == '_'; });
  if (!plain || std::ranges::find(kAbbreviated, last) != std::end(kAbbreviated)) return {};
  return std::string(last);
}

}  // namespace

std::string demangled(std::string_view symbol) {
  if (!symbol.starts_with("_Z")) return std::string(symbol);
  int status = 0;
  const std::unique_ptr<char, decltype(&std::free)> text(
      abi::__cxa_demangle(std::string(symbol).c_str(), nullptr, nullptr, &status), &std::free);
  return status == 0 && text ? std::string(text.get()) : std::string(symbol);
}

Result<Program> Program::open(const std::string& path, const OwnCode& rule) {
  Result<binary::Elf> elf = binary::Elf::open(path);
  if (!elf) return elf.error();
  Program program(std::move(*elf));
  program.debug_ = debuginfo::DebugInfo(program.elf_);
  program.lines_ = debuginfo::LineTable::read(program.elf_, program.debug_);
  program.relocations_ = program.elf_.relocations();
  program.rule_ = rule;
  program.find_functions();
  program.find_objects();
  return program;
}

void Program::find_functions() {
  add_symbols();
  for (const binary::Section& section : elf_.sections()) {
    if (section.is_code() && section.name.starts_with(".plt")) add_plt(section);
  }
  std::stable_sort(functions_.begin(), functions_.end(), by_address);
  settle_sizes();
  add_uncovered();
  const std::unique_ptr<char, decltype(&std::free)> real(::realpath(elf_.path().c_str(), nullptr), &std::free);
  module_ = real ? real.get() : elf_.path();
  with_c_start_ = std::ranges::any_of(elf_.symbols(), [](const binary::Symbol& symbol) {
    return symbol.name == "main" || symbol.name.starts_with("__libc_start_main");
  });
}

/// Function symbols, and untyped ones in code sections as hand-written assembly has them: global ones are functions,
/// local ones are functions when they lie outside all others, and labels inside.
void Program::add_symbols() {
  std::vector<binary::Symbol> symbols;
  std::vector<binary::Symbol> locals;
  for (const binary::Symbol& symbol : elf_.symbols()) {
    if (symbol.section == 0 || symbol.section >= elf_.sections().size() || symbol.name.empty()) continue;
    const binary::Section& section = elf_.sections()[symbol.section];
    if (!section.is_code() || !section.holds(symbol.address)) continue;
    if (symbol.type == binary::kFunction || symbol.type == binary::kIndirectFunction ||
        (symbol.type == binary::kNoType && symbol.global)) {
      symbols.push_back(symbol);
    } else if (symbol.type == binary::kNoType) {
      locals.push_back(symbol);
    }
  }
  std::stable_sort(symbols.begin(), symbols.end(), [](const binary::Symbol& a, const binary::Symbol& b) {
    return a.address != b.address ? a.address < b.address : better(a, b);
  });
  for (const binary::Symbol& local : locals) {
    const auto after = std::upper_bound(symbols.begin(), symbols.end(), local.address,
                                        [](std::uint64_t a, const binary::Symbol& s) { return a < s.address; });
    const bool inside = after != symbols.begin() && (after - 1)->section == local.section &&
                        ((after - 1)->size == 0 || local.address - (after - 1)->address < (after - 1)->size);
    if (inside) {
      labels_.push_back({local.address, local.name});
    } else {
      symbols.insert(after, local);
    }
  }
  std::stable_sort(labels_.begin(), labels_.end(),
                   [](const Label& a, const Label& b) { return a.address < b.address; });
  for (const binary::Symbol& symbol : symbols) {
    if (!functions_.empty() && functions_.back().address == symbol.address) continue;
    Function function;
    function.name = LazyName::of_symbol(symbol.name);
    function.symbol = symbol.name;
    function.typed = symbol.type != binary::kNoType;
    function.section = symbol.section;
    function.address = symbol.address;
    function.size = symbol.size;
    functions_.push_back(std::move(function));
  }
}

/// Linkage stubs: each jumps through a GOT slot whose relocation names the function (x86-64 ABI, 5.2).
void Program::add_plt(const binary::Section& section) {
  constexpr std::uint64_t kUsualEntry = 16;
  const std::uint64_t entry = section.entry_size == 0 ? kUsualEntry : section.entry_size;
  const Bytes code = elf_.bytes_of(section);
  for (std::uint64_t at = 0; at < code.size();) {
    const isa::Instruction instruction = isa::decode(code.subspan(at), mode());
    const std::uint64_t here = section.address + at;
    at += instruction ? instruction.length : 1;
    std::uint64_t slot = 0;
    if (!instruction || isa::flow_of(instruction) != isa::ControlFlow::jump ||
        !isa::fixed_memory_address(instruction, here, slot))
      continue;
    const auto found = std::lower_bound(relocations_.begin(), relocations_.end(), slot,
                                        [](const binary::Relocation& r, std::uint64_t a) { return r.address < a; });
    if (found == relocations_.end() || found->address != slot || found->symbol.empty()) continue;
    Function function;
    function.name = LazyName::of_symbol(found->symbol);
    function.origin = Function::Origin::plt;
    function.section = section.index;
    function.address = section.address + (here - section.address) / entry * entry;
    function.size = entry;
    functions_.push_back(std::move(function));
  }
}

/// Symbols without a size reach up to the next symbol or the section's end; none reaches over its section's end.
void Program::settle_sizes() {
  for (std::size_t i = 0; i < functions_.size(); ++i) {
    Function& function = functions_[i];
    const binary::Section& section = elf_.sections()[function.section];
    const std::uint64_t room = section.address + section.size - function.address;
    if (function.size == 0) {
      function.size = room;
      if (i + 1 < functions_.size() && functions_[i + 1].section == function.section) {
        function.size = std::min(room, functions_[i + 1].address - function.address);
      }
    }
    function.size = std::min(function.size, room);
  }
}

bool Program::only_padding(AddressRange range) const {
  const Bytes bytes = elf_.bytes_at(range.from);
  const std::uint64_t size = std::min<std::uint64_t>(range.to - range.from, bytes.size());
  for (std::uint64_t at = 0; at < size;) {
    if (bytes[at] == 0 || bytes[at] == 0xcc) {
      ++at;
      continue;
    }
    const isa::Instruction instruction = isa::decode(bytes.subspan(at, size - at), mode());
    if (!instruction || !isa::does_nothing(instruction)) return false;
    at += instruction.length;
  }
  return true;
}

/// Code that no symbol covers becomes a piece named after its section, so that a stripped file can be listed whole.
void Program::add_uncovered() {
  std::vector<Function> more;
  for (const binary::Section& section : elf_.sections()) {
    if (!section.is_code()) continue;
    std::uint64_t at = section.address;
    const std::uint64_t end = section.address + section.size;
    auto next = std::lower_bound(functions_.begin(), functions_.end(), at,
                                 [](const Function& f, std::uint64_t a) { return f.address < a; });
    const auto cover = [&](std::uint64_t to) {
      if (at >= to || only_padding({at, to})) return;
      Function piece;
      piece.name = std::string(section.name) + (at == section.address ? "" : "+" + hex(at - section.address));
      piece.origin = Function::Origin::section;
      piece.section = section.index;
      piece.address = at;
      piece.size = to - at;
      more.push_back(std::move(piece));
    };
    for (; next != functions_.end() && next->address < end; ++next) {
      cover(next->address);
      at = std::max(at, next->address + next->size);
    }
    cover(end);
  }
  functions_.insert(functions_.end(), std::make_move_iterator(more.begin()), std::make_move_iterator(more.end()));
  std::stable_sort(functions_.begin(), functions_.end(), by_address);
}

std::optional<debuginfo::SourceLine> Program::source_of(const Function& function) const {
  return lines_.first_in(function.range());
}

bool Program::is_own(const Function& function) const {
  if (rule_.all) return true;
  const std::string_view section = elf_.sections()[function.section].name;
  const bool linkage = function.origin == Function::Origin::plt || section.starts_with(".plt") || section == ".init" ||
                       section == ".fini";
  if (linkage) return false;
  const auto source = source_of(function);
  return program::is_own(rule_, module_, !lines_.empty(),
                         source ? std::string_view(source_path(*source)) : std::string_view(), function.name,
                         with_c_start_);
}

void Program::find_objects() {
  for (const binary::Symbol& symbol : elf_.symbols()) {
    if (symbol.section == 0 || symbol.section >= elf_.sections().size() || symbol.name.empty()) continue;
    const binary::Section& section = elf_.sections()[symbol.section];
    if ((section.flags & binary::kAllocated) == 0 || section.is_code()) continue;
    if (symbol.type == binary::kObject || symbol.type == binary::kNoType) objects_.push_back(symbol);
  }
  std::stable_sort(objects_.begin(), objects_.end(), [](const binary::Symbol& a, const binary::Symbol& b) {
    return a.address != b.address ? a.address < b.address : better(b, a);
  });
}

const Function* Program::function_at(std::uint64_t address) const {
  auto after = std::upper_bound(functions_.begin(), functions_.end(), address,
                                [](std::uint64_t a, const Function& f) { return a < f.address; });
  if (after == functions_.begin()) return nullptr;
  const Function& function = *(after - 1);
  return function.range().holds(address) ? &function : nullptr;
}

std::vector<const Function*> Program::functions_named(std::string_view name) const {
  std::vector<const Function*> result;
  if (name.empty()) return result;
  const std::string identifier = identifier_of(name);
  for (const Function& function : functions_) {
    // Names need not be made readable where they cannot fit.
    if (function.symbol.starts_with("_Z") && function.symbol != name &&
        function.symbol.find(identifier) == std::string_view::npos)
      continue;
    const std::string_view full = function.name;
    const bool signed_name = full.starts_with(name) && full.size() > name.size() && full[name.size()] == '(';
    if (function.origin != Function::Origin::plt && (full == name || function.symbol == name || signed_name))
      result.push_back(&function);
  }
  return result;
}

const Label* Program::label_at(std::uint64_t address) const {
  const auto found = std::lower_bound(labels_.begin(), labels_.end(), address,
                                      [](const Label& l, std::uint64_t a) { return l.address < a; });
  return found != labels_.end() && found->address == address ? &*found : nullptr;
}

std::string Program::place_name(std::uint64_t address) const {
  const Function* function = function_at(address);
  if (function == nullptr) return {};
  if (address == function->address) return function->name;
  return function->name.str() + "+" + hex(address - function->address);
}

Reference Program::reference(std::uint64_t address) const {
  if (const Function* function = function_at(address)) {
    const Label* label = label_at(address);
    if (label != nullptr && address != function->address) return {std::string(label->name), {}};
    return {function->origin == Function::Origin::plt ? function->name.str() : place_name(address), {}};
  }
  // A slot of the global offset table goes by the symbol that the loader puts there.
  const auto slot = std::lower_bound(relocations_.begin(), relocations_.end(), address,
                                     [](const binary::Relocation& r, std::uint64_t a) { return r.address < a; });
  if (elf_.kind() != binary::Kind::relocatable && slot != relocations_.end() && slot->address == address &&
      !slot->symbol.empty()) {
    return {demangled(slot->symbol), {}};
  }
  const binary::Section* section = elf_.section_at(address);
  if (section == nullptr) return {};
  auto after = std::upper_bound(objects_.begin(), objects_.end(), address,
                                [](std::uint64_t a, const binary::Symbol& s) { return a < s.address; });
  if (after != objects_.begin()) {
    const binary::Symbol& object = *(after - 1);
    if (address == object.address || address - object.address < object.size) {
      const std::uint64_t offset = address - object.address;
      return {demangled(object.name) + (offset == 0 ? "" : "+" + hex(offset)), {}};
    }
  }
  Reference result{std::string(section->name) + "+" + hex(address - section->address), {}};
  if ((section->flags & binary::kWritable) == 0) result.text = readable_string(elf_.bytes_at(address));
  return result;
}

std::int64_t Program::distance_in_addend(const binary::Relocation& relocation, std::uint64_t address,
                                         std::uint64_t length) const {
  // x86-64 ABI, tables 4.9 and 4.11; i386 ABI, table 2.11; other numbers mean other things there.
  constexpr std::array<std::uint32_t, 8> kWideFromEnd = {9, 19, 20, 22, 26, 34, 41, 42};
  constexpr std::uint32_t kPc32 = 2, kPlt32 = 4, k386GotPc = 10;
  const std::uint32_t type = relocation.type;
  const bool branch = type == kPc32 || type == kPlt32;
  // These count from the instruction's end …
  if (branch || (elf_.wide() && std::ranges::find(kWideFromEnd, type) != kWideFromEnd.end()))
    return static_cast<std::int64_t>(address + length - relocation.address);
  // … and the table's own address from its start.
  return !elf_.wide() && type == k386GotPc ? -static_cast<std::int64_t>(relocation.address - address) : 0;
}

const binary::Relocation* Program::relocation_in(std::uint64_t address, std::uint64_t length) const {
  const auto found = std::lower_bound(relocations_.begin(), relocations_.end(), address,
                                      [](const binary::Relocation& r, std::uint64_t a) { return r.address < a; });
  return found == relocations_.end() || found->address >= address + length ? nullptr : &*found;
}

std::optional<Reference> Program::relocated_reference(std::uint64_t address, std::uint64_t length) const {
  if (elf_.kind() != binary::Kind::relocatable) return std::nullopt;
  const binary::Relocation* found = relocation_in(address, length);
  if (found == nullptr) return std::nullopt;
  const std::int64_t offset = found->addend + distance_in_addend(*found, address, length);
  if (found->defined && !found->symbol.empty() && found->symbol.front() == '.') {
    return reference(found->symbol_value + static_cast<std::uint64_t>(offset));
  }
  Reference result{demangled(found->symbol), {}};
  if (offset > 0) result.name += "+" + hex(static_cast<std::uint64_t>(offset));
  if (offset < 0) result.name += "-" + hex(static_cast<std::uint64_t>(-offset));
  return result;
}

const std::string& Program::source_path(const debuginfo::SourceLine& line) const { return lines_.file(line.file); }

}  // namespace deeptrace::program
