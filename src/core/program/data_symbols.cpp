#include "program/data_symbols.h"

#include <algorithm>
#include <cctype>
#include <set>
#include <string>

#include "base/path.h"
#include "program/code_scan.h"
#include "program/program.h"

namespace deeptrace::program {
namespace {

/// "stdin" of "stdin@GLIBC_2.2.5": linkers write the version of a library's symbol beside its name.
std::string_view without_version(std::string_view name) {
  const std::size_t at = name.find('@');
  return at == 0 ? name : name.substr(0, at);
}

/// Names that are the implementation's (C11, 7.1.3), as the linker's __bss_start and _edata.
bool is_reserved(std::string_view name) {
  return name.starts_with("__") || name == "_edata" || name == "_end" || name == "_fp_hw" ||
         (name.size() > 1 && name[0] == '_' && std::isupper(static_cast<unsigned char>(name[1])) != 0);
}

/// Among symbols of one address the best name has the highest: a program's own names before reserved ones, variables
/// before labels, then those with a size, then global ones.
int rank_of(const DataSymbol& one, const binary::Symbol& symbol) {
  return (is_reserved(one.symbol) ? 0 : 8) + (symbol.type != binary::kNoType ? 4 : 0) + (symbol.size != 0 ? 2 : 0) +
         (symbol.global ? 1 : 0);
}

/// Source files of units whose assembler gives labels of data the size of their first element.
std::set<std::string> first_element_sources(const Program& program) {
  constexpr std::string_view kAssemblers[] = {"NASM", "yasm"};
  std::set<std::string> result;
  for (const auto& unit : program.debug().units()) {
    const bool so = std::ranges::any_of(
        kAssemblers, [&](std::string_view name) { return unit->producer.substr(0, name.size()) == name; });
    if (so) result.insert(base_name(unit->name));
  }
  return result;
}

class Finder {
 public:
  explicit Finder(const Program& program)
      : elf_(program.elf()), threads_(thread_storage(program)), first_element_(first_element_sources(program)) {
    gather();
    std::ranges::stable_sort(found_, [](const Ranked& a, const Ranked& b) {
      return a.symbol.address != b.symbol.address ? a.symbol.address < b.symbol.address : a.rank < b.rank;
    });
    for (Ranked& one : found_) give_room(one);
  }

  [[nodiscard]] std::vector<DataSymbol> result() const {
    std::vector<DataSymbol> result;
    result.reserve(found_.size());
    for (const Ranked& one : found_) result.push_back(one.symbol);
    return result;
  }

 private:
  struct Ranked {
    DataSymbol symbol;
    int rank = 0;
    bool whole = true;  ///< a size that is said is that of the whole
  };

  void gather() {
    const binary::SymbolTable& symbols = elf_.symbols();
    const bool object = elf_.kind() == binary::Kind::relocatable;
    bool in_first_element = false;  // local symbols follow the name of their source file
    for (std::size_t i = 0; i < symbols.size(); ++i) {
      const binary::Symbol bare = symbols.nameless(i);
      if (bare.type == binary::kFile)
        in_first_element = !first_element_.empty() && first_element_.contains(base_name(symbols.name_at(i)));
      if (bare.section == 0 || bare.section >= elf_.sections().size() || bare.type == binary::kSectionSymbol) continue;
      const bool thread = bare.type == binary::kThreadLocal;
      const binary::Section& section = elf_.sections()[bare.section];
      if ((section.flags & binary::kAllocated) == 0 || *symbols.name_at(i) == 0) continue;
      if (!thread) starts_.push_back(bare.address);
      if (!thread && bare.type != binary::kObject && bare.type != binary::kNoType) continue;
      if (section.is_code() && bare.type != binary::kObject) continue;
      Ranked& one = found_.emplace_back();
      const binary::Symbol symbol = symbols[i];
      one.symbol.symbol = without_version(symbol.name);
      one.symbol.address = symbol.address + (thread && !object ? threads_.from : 0);
      one.symbol.size = symbol.size;
      one.symbol.in_thread = thread;
      one.symbol.among_code = section.is_code();
      one.symbol.section = symbol.section;
      one.rank = rank_of(one.symbol, symbol);
      // A global symbol stands apart from its file's name.
      const bool first_element = symbol.global ? !first_element_.empty() : in_first_element;
      one.whole = symbol.size != 0 && !(first_element && symbol.type == binary::kObject && is_element(symbol.size));
    }
    std::ranges::sort(starts_);
  }

  static bool is_element(std::uint64_t size) { return size == 1 || size == 2 || size == 4 || size == 8 || size == 10; }

  /// Up to the next symbol or the end of its section.
  void give_room(Ranked& one) const {
    DataSymbol& symbol = one.symbol;
    if (one.whole || symbol.in_thread || is_reserved(symbol.symbol)) return;
    const binary::Section& section = elf_.sections()[symbol.section];
    std::uint64_t end = section.address + section.size;
    const auto next = std::ranges::upper_bound(starts_, symbol.address);
    if (next != starts_.end()) end = std::min(end, *next);
    if (end <= symbol.address) return;
    symbol.element = static_cast<unsigned>(symbol.size);
    symbol.size = std::max(symbol.size, end - symbol.address);
    symbol.inferred = true;
  }

  const binary::Elf& elf_;
  AddressRange threads_;
  std::set<std::string> first_element_;
  std::vector<Ranked> found_;
  std::vector<std::uint64_t> starts_;  ///< of all symbols in sections
};

}  // namespace

AddressRange thread_storage(const Program& program) {
  for (const binary::Segment& segment : program.elf().segments()) {
    if (segment.type == binary::kThreadSegment) return {segment.address, segment.address + segment.memory_size};
  }
  for (const binary::Section& section : program.elf().sections()) {
    if ((section.flags & binary::kThreadStorage) != 0) return {section.address, section.address + section.size};
  }
  return {};
}

std::vector<DataSymbol> find_data_symbols(const Program& program) { return Finder(program).result(); }

std::vector<DataSymbol> find_data_among_code(const Program& program) {
  std::vector<DataSymbol> result;
  CodeScan scan(program);
  const std::vector<Label>& labels = program.labels();
  const auto next_label = [&](std::uint64_t address) {
    const auto next = std::ranges::upper_bound(labels, address, {}, &Label::address);
    return next != labels.end() ? next->address : ~std::uint64_t(0);
  };
  const auto add = [&](std::uint64_t address, std::string_view name, const Function& function) {
    for (const Stretch& stretch : scan.split(function.range())) {
      if (!stretch.range.holds(address) || stretch.kind == Stretch::Kind::code) continue;
      const std::uint64_t end = std::min(stretch.range.to, next_label(address));
      if (!result.empty() && result.back().address == address) return;
      DataSymbol& one = result.emplace_back();
      one.symbol = name;
      one.address = address;
      one.size = end - address;
      one.inferred = true;
      one.among_code = true;
      one.section = function.section;
    }
  };
  for (const Label& label : labels) {
    const Function* function = program.function_at(label.address);
    if (function != nullptr && !function->typed) add(label.address, label.name, *function);
  }
  return result;
}

}  // namespace deeptrace::program
