#include "program/program.h"

#include <cxxabi.h>

#include <algorithm>
#include <array>
#include <cctype>
#include <cstdlib>
#include <map>
#include <memory>

#include "arch/relocations.h"
#include "base/number.h"
#include "isa/operand.h"
#include "isa/text.h"
#include "program/code_roots.h"
#include "program/debug_file.h"
#include "program/function_finder.h"
#include "program/name_match.h"

namespace deeptrace::program {
namespace {

bool is_printable(std::uint8_t byte) {
  return (byte >= 0x20 && byte < 0x7f) || byte == '\n' || byte == '\t' || byte >= 0xc2;
}

/// A zero-terminated run of readable characters at the start of `bytes`, or nothing. Bytes from 0xc2 up are let
/// through as UTF-8 leads or continuations only after a lead.
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

/// The first part of the name that a linker's C++ name stands for; empty where that takes more than a look (Itanium C++
/// ABI, 5.1.3).
std::string_view first_component(std::string_view symbol) {
  symbol.remove_prefix(2);
  if (symbol.starts_with('L')) symbol.remove_prefix(1);
  if (symbol.starts_with('N')) symbol.remove_prefix(1);
  while (!symbol.empty() && std::string_view("KVrOR").find(symbol.front()) != std::string_view::npos)
    symbol.remove_prefix(1);
  if (symbol.starts_with("St")) return "std";
  std::size_t size = 0, digits = 0;
  while (digits < symbol.size() && digits < 4 && std::isdigit(static_cast<unsigned char>(symbol[digits])) != 0)
    size = size * 10 + static_cast<std::size_t>(symbol[digits++] - '0');
  if (digits == 0 || size > symbol.size() - digits) return {};
  const std::string_view name = symbol.substr(digits, size);
  return name == "_GLOBAL__N_1" ? "(anonymous namespace)" : name;
}

/// Names of C++ without the marks of their binary interface: "[abi:cxx11]".
std::string without_tags(std::string_view name) {
  std::string result(name);
  for (std::size_t tag = result.find("[abi:"); tag != std::string::npos; tag = result.find("[abi:", tag)) {
    const std::size_t end = result.find(']', tag);
    if (end == std::string::npos) break;
    result.erase(tag, end + 1 - tag);
  }
  return result;
}

/// True when `full` is `name` with a signature after it, and nothing but what qualifies a function after that.
bool is_signed(std::string_view full, std::string_view name) {
  if (!full.starts_with(name) || full.size() <= name.size() || full[name.size()] != '(') return false;
  std::size_t at = name.size();
  int depth = 0;
  do {
    depth += full[at] == '(' ? 1 : full[at] == ')' ? -1 : 0;
    ++at;
  } while (at < full.size() && depth > 0);
  const std::string_view rest = full.substr(at);
  return rest.empty() || rest.front() == ' ';
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
  constexpr std::string_view kAbbreviated[] = {"allocator",     "basic_string",  "string",
                                               "basic_istream", "basic_ostream", "basic_iostream",
                                               "istream",       "ostream",       "iostream"};
  const bool plain =
      std::ranges::all_of(last, [](char c) { return std::isalnum(static_cast<unsigned char>(c)) != 0 || c == '_'; });
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

Result<Program> Program::open(const std::string& path, const OpenOptions& options) {
  Result<binary::Elf> elf = binary::Elf::open(path, options.cores);
  return elf ? read(std::move(*elf), options) : elf.error();
}

Result<Program> Program::read(binary::Elf elf, const OpenOptions& options) {
  const std::string path = elf.path();
  Program program(std::move(elf));
  program.rule_ = options.own;
  program.find_debug_information(options.debug_folders);
  program.relocations_ = program.elf_.relocations();
  program.find_functions(options.linker_names);
  const std::unique_ptr<char, decltype(&std::free)> real(::realpath(path.c_str(), nullptr), &std::free);
  program.module_ = real ? real.get() : path;
  return program;
}

const debuginfo::DebugInfo& Program::debug() const {
  std::call_once(description_->read_info,
                 [this] { description_->info = debuginfo::DebugInfo(debug_elf(), supplementary_.get()); });
  return description_->info;
}

const debuginfo::LineTable& Program::lines() const {
  std::call_once(description_->read_lines,
                 [this] { description_->lines = debuginfo::LineTable::read(debug_elf(), debug()); });
  return description_->lines;
}

/// What was stripped may lie elsewhere.
void Program::find_debug_information(const std::vector<std::string>& folders) {
  const bool has_debug = elf_.section_named(".debug_info") != nullptr || elf_.section_named(".zdebug_info") != nullptr;
  if (!has_debug && elf_.kind() != binary::Kind::relocatable && elf_.kind() != binary::Kind::core)
    debug_elf_ = find_debug_file(elf_, folders);
  supplementary_ = find_supplementary_file(debug_elf(), folders);
  if (elf_.has_symbol_table()) return;
  if (debug_elf_ != nullptr && debug_elf_->has_symbol_table()) {
    elf_.add_symbols_of(*debug_elf_);
  } else if (auto small = small_symbol_file(elf_)) {
    elf_.add_symbols_of(*small);
    small_symbols_ = std::move(small);
  }
}

void Program::find_functions(bool linker_names) {
  // Few symbols make few functions.
  const bool may_be_many = elf_.symbols().size() >= kManyFunctions && elf_.has_symbol_table() && !linker_names;
  if (may_be_many) index_ = FunctionIndex::find(elf_);
  if (index_ != nullptr) {
    functions_ = FunctionList(
        index_->size(), [index = index_](std::size_t number) { return index->function(number); },
        [index = index_](std::uint64_t address) { return index->at_or_before(address); });
    labels_ = index_->labels();
    return;
  }
  FoundFunctions found = program::find_functions(elf_, relocations_, linker_names);
  functions_ = FunctionList(std::move(found.functions));
  labels_ = std::move(found.labels);
  aliases_ = std::move(found.aliases);
}

void Program::keep_index() const {
  if (index_ == nullptr && functions_.size() >= kManyFunctions && elf_.has_symbol_table())
    FunctionIndex::keep(elf_, functions_, labels_);
}

/// Asked for `_start` only: an assembly program's is its own.
bool Program::with_c_start() const {
  if (!with_c_start_) {
    const auto starts = [](std::string_view name) { return name == "main" || name.starts_with("__libc_start_main"); };
    with_c_start_ = std::ranges::any_of(relocations_, [&](const auto& r) { return starts(r.symbol); }) ||
                    !functions_named("main").empty() || !functions_named("__libc_start_main").empty();
  }
  return *with_c_start_;
}

std::span<const std::uint64_t> Program::code_roots() const {
  std::call_once(roots_->gathered, [&] { roots_->addresses = program::code_roots(elf_, relocations_); });
  return roots_->addresses;
}

bool Program::only_padding(AddressRange range) const {
  const Bytes bytes = elf_.bytes_at(range.from);
  return program::only_padding(bytes.first(std::min<std::uint64_t>(range.size(), bytes.size())), mode());
}

std::optional<debuginfo::SourceLine> Program::source_of(const Function& function) const {
  return lines().first_in(function.range());
}

bool Program::is_own(const Function& function) const {
  if (rule_.all) return true;
  const std::string_view section = elf_.sections()[function.section].name;
  const bool linkage = function.origin == Function::Origin::plt || section.starts_with(".plt") || section == ".init" ||
                       section == ".fini";
  if (linkage) return false;
  if (rule_.paths.empty() && in_system_libraries(module_)) return false;
  const auto source = source_of(function);
  return program::is_own(rule_, module_, !lines().empty(),
                         source ? std::string_view(source_path(*source)) : std::string_view(), function.name,
                         function.name == "_start" && with_c_start());
}

const std::vector<DataSymbol>& Program::data_symbols() const {
  std::call_once(data_->found, [this] { data_->symbols = find_data_symbols(*this); });
  return data_->symbols;
}

const std::vector<DataSymbol>& Program::data_among_code() const {
  std::call_once(data_->found_among_code, [this] { data_->among_code = find_data_among_code(*this); });
  return data_->among_code;
}

bool Program::is_own_source(std::string_view path) const {
  if (rule_.all || rule_.paths.empty()) return rule_.all || !in_system_sources(path);
  return program::is_own(rule_, elf_.path(), true, path, {}, false);
}

const DataSymbol* Program::data_named(std::string_view name) const {
  for (const auto* list : {&data_symbols(), &data_among_code()}) {
    for (const DataSymbol& one : *list) {
      const bool readable = one.symbol.starts_with("_Z") && one.symbol != name;
      if (one.symbol == name || (readable && demangled(one.symbol) == name)) return &one;
    }
  }
  return nullptr;
}

const DataSymbol* Program::data_at(std::uint64_t address) const {
  const std::vector<DataSymbol>& known = data_symbols();
  auto after = std::ranges::upper_bound(known, address, {}, &DataSymbol::address);
  while (after != known.begin()) {
    const DataSymbol& one = *--after;
    // A mark without a size says nothing of what it stands in.
    if (one.in_thread || (one.size == 0 && one.address != address)) continue;
    return address == one.address || address - one.address < one.size ? &one : nullptr;
  }
  return nullptr;
}

ElementWidth Program::element_width(const DataSymbol& variable) const {
  if (variable.element != 0) return {variable.element, false};
  std::call_once(data_->found_widths, [this] { data_->widths = AccessWidths(*this); });
  const unsigned width = data_->widths.most_often(variable.range());
  if (width != 0) return {width, true};
  const bool holds_addresses = relocation_in(variable.address, variable.size) != nullptr;
  return {holds_addresses ? unsigned{elf_.machine().word} : 0U, false};
}

const Function* Program::function_at(std::uint64_t address) const {
  const auto next = functions_.after(address);
  if (next == functions_.begin()) return nullptr;
  const Function& function = *(next - 1);
  return function.range().holds(address) ? &function : nullptr;
}

bool goes_by(std::string_view symbol, const std::function<std::string_view()>& shown, std::string_view name) {
  // Names need not be made readable where they cannot fit.
  if (symbol == name) return true;
  if (symbol.starts_with("_Z") && !name.starts_with(first_component(symbol))) return false;
  std::string_view full = shown();
  // "parse[abi:cxx11](int)" goes by "parse" too.
  std::string untagged;
  if (full.find("[abi:") != std::string_view::npos && name.find("[abi:") == std::string_view::npos) {
    untagged = without_tags(full);
    full = untagged;
  }
  return full == name || is_signed(full, name);
}

void Program::each_candidate(std::string_view name, const std::function<void(const Function&)>& visit) const {
  const std::string identifier = identifier_of(name);
  if (index_ != nullptr && !identifier.empty() && !name.starts_with("unnamed_") && !name.starts_with('.')) {
    for (const std::size_t number : index_->with_word(identifier)) visit(functions_[number]);
    return;
  }
  for (const Function& function : functions_) {
    const std::string_view symbol = function.symbol();
    const bool cannot = symbol.starts_with("_Z") && symbol != name && symbol.find(identifier) == std::string_view::npos;
    if (!cannot) visit(function);
  }
}

std::vector<const Function*> Program::functions_named(std::string_view name) const {
  std::vector<const Function*> result;
  if (name.empty()) return result;
  each_candidate(name, [&](const Function& function) {
    const auto shown = [&]() -> std::string_view { return function.name; };
    if (function.origin != Function::Origin::plt && goes_by(function.symbol(), shown, name))
      result.push_back(&function);
  });
  if (index_ != nullptr) return result;
  // Where several symbols have one address, one of them is shown; any of them finds it.
  for (const Label& alias : aliases_) {
    if (alias.name != name) continue;
    const Function* function = function_at(alias.address);
    if (function != nullptr && std::ranges::find(result, function) == result.end()) result.push_back(function);
  }
  return result;
}

Program::Meant Program::functions_meant(std::string_view name) const {
  Meant result;
  result.functions = functions_named(name);
  const bool could_be_short = !name.empty() && name.find_first_of(":.+") != 0 && !number_in(name);
  if (!result.functions.empty() || !could_be_short) return result;
  const NameMatch match(name);
  std::map<std::string, std::vector<const Function*>> tails, others;
  for (const Function& function : functions_) {
    const std::string_view symbol = function.symbol();
    const bool readable = symbol.starts_with("_Z") || (match.is_pattern() && !symbol.empty());
    if (!readable || function.origin == Function::Origin::plt || symbol.find(match.word()) == std::string_view::npos)
      continue;
    const std::string_view full = function.name;
    if (const auto how = match.fits(full))
      (*how == NameMatch::How::tail ? tails : others)[bare_name(full)].push_back(&function);
  }
  const bool ambiguous = others.empty() && tails.size() > 1;
  for (auto& [bare, functions] : others.empty() ? tails : others) {
    result.names.push_back(bare);
    if (!ambiguous) result.functions.insert(result.functions.end(), functions.begin(), functions.end());
  }
  std::ranges::sort(result.functions, {}, &Function::address);
  return result;
}

std::string Program::Meant::words() const {
  constexpr std::size_t kMost = 12;
  std::string result = "could be each of ";
  for (std::size_t i = 0; i < std::min(names.size(), kMost); ++i) result += (i == 0 ? "" : ", ") + names[i];
  return names.size() > kMost ? result + " and " + std::to_string(names.size() - kMost) + " more" : result;
}

std::string Program::thread_variable(std::int64_t offset) const {
  for (const binary::Segment& segment : elf_.segments()) {
    if (segment.type != binary::kThreadSegment) continue;
    const std::uint64_t alignment = std::max<std::uint64_t>(segment.alignment, 1);
    const std::uint64_t size = (segment.memory_size + alignment - 1) / alignment * alignment;
    const std::uint64_t inside = size + static_cast<std::uint64_t>(offset);
    if (offset >= 0 || inside >= segment.memory_size) return {};
    for (const binary::Symbol& symbol : elf_.symbols()) {
      if (symbol.type != binary::kThreadLocal || symbol.section == 0 || symbol.name.empty()) continue;
      if (inside < symbol.address || inside - symbol.address >= std::max<std::uint64_t>(symbol.size, 1)) continue;
      return demangled(symbol.name) + (inside == symbol.address ? "" : "+" + hex_text(inside - symbol.address));
    }
  }
  return {};
}

const Label* Program::label_at(std::uint64_t address) const {
  const auto found = std::lower_bound(labels_.begin(), labels_.end(), address,
                                      [](const Label& l, std::uint64_t a) { return l.address < a; });
  return found != labels_.end() && found->address == address ? &*found : nullptr;
}

std::optional<Program::NearestName> Program::nearest_name(std::uint64_t address) const {
  const Function* function = function_at(address);
  if (function == nullptr) return std::nullopt;
  if (function->origin == Function::Origin::plt)
    return NearestName{"PLT stub of " + function->name.str(), function->address};
  // Labels that an assembler makes for itself say nothing to people.
  const auto is_written = [](std::string_view name) { return !name.starts_with(".L") && !name.starts_with("..@"); };
  auto label = std::ranges::upper_bound(labels_, address, {}, &Label::address);
  while (label != labels_.begin() && (label - 1)->address > function->address) {
    --label;
    if (is_written(label->name)) return NearestName{demangled(label->name), label->address};
  }
  return NearestName{function->name, function->address};
}

std::string Program::place_name(std::uint64_t address) const {
  const auto nearest = nearest_name(address);
  if (!nearest) return {};
  return address == nearest->address ? nearest->name : nearest->name + "+" + hex_text(address - nearest->address);
}

std::optional<std::uint64_t> Program::label_named(std::string_view name) const {
  const auto found = std::ranges::find(labels_, name, &Label::name);
  return found != labels_.end() ? std::optional(found->address) : std::nullopt;
}

Reference Program::reference(std::uint64_t address) const {
  if (const Function* function = function_at(address)) {
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
  if (const DataSymbol* one = data_at(address)) {
    const std::uint64_t offset = address - one->address;
    return {demangled(one->symbol) + (offset == 0 ? "" : "+" + hex_text(offset)), {}};
  }
  Reference result{std::string(section->name) + "+" + hex_text(address - section->address), {}};
  if ((section->flags & binary::kWritable) == 0) result.text = readable_string(elf_.bytes_at(address));
  return result;
}

std::int64_t Program::distance_in_addend(const binary::Relocation& relocation, std::uint64_t address,
                                         std::uint64_t length) const {
  using arch::RelocationKind;
  if (arch::relocation_means(relocation.type, mode(), RelocationKind::kFromEnd))
    return static_cast<std::int64_t>(address + length - relocation.address);
  const bool from_start = arch::relocation_means(relocation.type, mode(), RelocationKind::kFromStart);
  return from_start ? -static_cast<std::int64_t>(relocation.address - address) : 0;
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
  if (offset > 0) result.name += "+" + hex_text(static_cast<std::uint64_t>(offset));
  if (offset < 0) result.name += "-" + hex_text(static_cast<std::uint64_t>(-offset));
  return result;
}

const std::string& Program::source_path(const debuginfo::SourceLine& line) const { return lines().file(line.file); }

}  // namespace deeptrace::program
