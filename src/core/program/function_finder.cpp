#include "program/function_finder.h"

#include <algorithm>
#include <optional>
#include <set>
#include <unordered_set>

#include "debuginfo/unwind_table.h"
#include "isa/operand.h"
#include "isa/text.h"
#include "isa/walk.h"
#include "state/known.h"

namespace deeptrace::program {
namespace {

using binary::Section;
using binary::Symbol;
using isa::ControlFlow;

/// "1f"
std::string digits(std::uint64_t value) {
  isa::Text text;
  text.add_hex(value);
  std::string_view view = text.view();
  if (view.starts_with("0x")) view.remove_prefix(2);
  return std::string(view);
}

/// Among symbols of one address the best name has the highest: functions before labels, then global ones, then those
/// with a size.
std::uint8_t rank_of(const Symbol& s) {
  return static_cast<std::uint8_t>((s.type != binary::kNoType ? 4 : 0) + (s.global ? 2 : 0) + (s.size != 0 ? 1 : 0));
}

bool ends_flow(ControlFlow flow) {
  return flow == ControlFlow::jump || flow == ControlFlow::return_ || flow == ControlFlow::trap;
}

class Finder {
 public:
  Finder(const binary::Elf& elf, std::span<const binary::Relocation> relocations, bool linker_names)
      : elf_(elf), relocations_(relocations), linker_names_(linker_names), mode_(elf.machine().mode) {}

  FoundFunctions run() {
    collect_symbols();
    for (const Section& section : elf_.sections()) {
      if (section.is_code() && section.name.starts_with(".plt")) collect_stubs(section);
    }
    sort(keys_);
    find_gaps();
    gather_evidence();
    build();
    name_start_up();
    return std::move(found_);
  }

 private:
  // ---- symbols and stubs

  /// A function before it is made. Symbols go by their number, so that millions of them need little room.
  struct Key {
    std::uint64_t address = 0;
    std::uint32_t number = 0;  ///< of the symbol, or of the stub
    std::uint8_t rank = 0;     ///< of those with one address
    bool stub = false;

    friend bool operator<(const Key& a, const Key& b) {
      if (a.address != b.address) return a.address < b.address;
      return a.rank != b.rank ? a.rank > b.rank : a.number < b.number;
    }
  };

  /// By address, eleven bits at a time (millions of keys take a second otherwise), then those of one address by rank.
  static void sort(std::vector<Key>& keys) {
    constexpr std::size_t kFew = 4096;
    constexpr unsigned kBits = 11;
    if (std::is_sorted(keys.begin(), keys.end())) return;
    if (keys.size() < kFew) return std::sort(keys.begin(), keys.end());
    const auto [low, high] = std::ranges::minmax(keys, {}, &Key::address);
    const std::uint64_t base = low.address, span = high.address - low.address;
    std::vector<Key> other(keys.size());
    for (unsigned shift = 0; shift < 64 && span >> shift != 0; shift += kBits) {
      const auto digit = [&](const Key& key) { return (key.address - base) >> shift & ((1U << kBits) - 1); };
      std::vector<std::size_t> places((1U << kBits) + 1);
      for (const Key& key : keys) ++places[digit(key) + 1];
      for (std::size_t i = 1; i < places.size(); ++i) places[i] += places[i - 1];
      for (const Key& key : keys) other[places[digit(key)]++] = key;
      std::swap(keys, other);
    }
    for (auto at = keys.begin(); at != keys.end();) {
      const auto end = std::find_if(at, keys.end(), [&](const Key& key) { return key.address != at->address; });
      if (end - at > 1) std::sort(at, end);
      at = end;
    }
  }

  /// Function symbols, and untyped ones in code sections as hand-written assembly has them: global ones are functions,
  /// local ones are functions when they lie outside all others, and labels inside.
  void collect_symbols() {
    std::vector<Key> locals;
    const binary::SymbolTable& symbols = elf_.symbols();
    for (std::size_t i = 0; i < symbols.size(); ++i) {
      const Symbol symbol = symbols.nameless(i);
      if (symbol.section == 0 || symbol.section >= elf_.sections().size()) continue;
      const Section& section = elf_.sections()[symbol.section];
      if (!section.is_code() || !section.holds(symbol.address)) continue;
      const bool function = symbol.type == binary::kFunction || symbol.type == binary::kIndirectFunction ||
                            (symbol.type == binary::kNoType && symbol.global);
      if (!function && symbol.type != binary::kNoType) continue;
      if (*symbols.name_at(i) == 0) continue;
      (function ? keys_ : locals).push_back({symbol.address, static_cast<std::uint32_t>(i), rank_of(symbol), false});
    }
    sort(keys_);
    sort(locals);
    std::vector<Key> outside, labels;
    for (const Key& local : locals) {
      const auto after = std::ranges::upper_bound(keys_, local.address, {}, &Key::address);
      bool inside = after != keys_.begin() && lies_in(local, *(after - 1));
      // A local symbol outside of all functions is one itself, and holds those after it.
      if (!inside && !outside.empty()) {
        const bool between = after != keys_.begin() && (after - 1)->address > outside.back().address;
        inside = !between && outside.back().address < local.address && lies_in(local, outside.back());
      }
      (inside ? labels : outside).push_back(local);
    }
    const std::set<std::uint64_t> called = called_among(labels, outside);
    for (const Key& label : labels) {
      if (called.contains(label.address)) {
        outside.push_back(label);
      } else {
        found_.labels.push_back({label.address, symbols[label.number].name});
      }
    }
    keys_.insert(keys_.end(), outside.begin(), outside.end());
  }

  /// Labels of hand-written code that its own calls lead to: they are functions as well.
  [[nodiscard]] std::set<std::uint64_t> called_among(const std::vector<Key>& labels,
                                                     const std::vector<Key>& outside) const {
    // Code is decoded from every name on, so that data before it does no harm.
    std::set<std::uint64_t> names, starts, result;
    const auto is_untyped = [&](const Key& key) { return elf_.symbols().nameless(key.number).type == binary::kNoType; };
    for (const std::vector<Key>* keys : {&labels, &outside}) {
      for (const Key& key : *keys) starts.insert(key.address);
    }
    for (const Key& label : labels) {
      const std::string_view name = elf_.symbols().name_at(label.number);
      const auto after = std::ranges::upper_bound(keys_, label.address, {}, &Key::address);
      const bool hand_written = after == keys_.begin() || is_untyped(*(after - 1)) || !lies_in(label, *(after - 1));
      if (hand_written && !name.starts_with(".L") && !name.starts_with("..@")) names.insert(label.address);
    }
    if (names.empty()) return result;
    for (const Key& key : keys_) {
      if (!key.stub && is_untyped(key)) starts.insert(key.address);
    }
    for (auto start = starts.begin(); start != starts.end(); ++start) {
      const Bytes rest = elf_.bytes_at(*start);
      const auto next = std::next(start);
      const std::uint64_t room = next != starts.end() ? *next - *start : rest.size();
      for (const isa::Placed& one :
           isa::instructions_of(rest.first(std::min<std::uint64_t>(rest.size(), room)), mode_)) {
        const std::uint64_t here = *start + one.at;
        std::uint64_t target = 0;
        if (!one.instruction || isa::flow_of(one.instruction) != ControlFlow::call) continue;
        if (!isa::direct_target(one.instruction, here, target) || !names.contains(target)) continue;
        const auto relocation = std::ranges::lower_bound(relocations_, here, {}, &binary::Relocation::address);
        const bool relocated = elf_.kind() == binary::Kind::relocatable && relocation != relocations_.end() &&
                               relocation->address < here + one.instruction.length;
        if (!relocated) result.insert(target);
      }
    }
    return result;
  }

  [[nodiscard]] bool lies_in(const Key& label, const Key& function) const {
    const Symbol inner = elf_.symbols().nameless(label.number), outer = elf_.symbols().nameless(function.number);
    return outer.section == inner.section && (outer.size == 0 || label.address - outer.address < outer.size);
  }

  /// PLT stubs: each jumps through a slot whose relocation names the function (x86-64 ABI, 5.2).
  void collect_stubs(const Section& section) {
    const Bytes code = elf_.bytes_of(section);
    // Older linkers do not say the size; stubs that are but a jump take 8 bytes.
    const isa::Instruction first = isa::decode(code, mode_);
    const std::uint64_t usual = first && isa::flow_of(first) == ControlFlow::jump ? 8 : 16;
    const std::uint64_t entry = section.entry_size == 0 ? usual : section.entry_size;
    const std::uint64_t table = elf_.offset_table();
    for (const auto& [at, instruction] : isa::instructions_of(code, mode_)) {
      const std::uint64_t here = section.address + at;
      if (!instruction || isa::flow_of(instruction) != ControlFlow::jump) continue;
      const auto slot = slot_of(instruction, here, table);
      if (!slot) continue;
      const char* name = name_in_slot(*slot);
      if (name == nullptr) continue;
      Function stub;
      stub.name = LazyName::of_symbol(name);
      stub.origin = Function::Origin::plt;
      stub.section = section.index;
      stub.address = section.address + (here - section.address) / entry * entry;
      stub.size = std::min(entry, section.address + section.size - stub.address);
      keys_.push_back({stub.address, static_cast<std::uint32_t>(stubs_.size()), 0, true});
      stubs_.push_back(std::move(stub));
    }
  }

  [[nodiscard]] std::optional<std::uint64_t> slot_of(const isa::Instruction& instruction, std::uint64_t address,
                                                     std::uint64_t table) const {
    std::uint64_t slot = 0;
    if (isa::fixed_memory_address(instruction, address, slot)) return slot;
    if (mode_ == isa::Mode::bits64) return std::nullopt;
    const isa::Operands operands = isa::operands_of(instruction);
    if (operands.shown != 1 || operands[0].kind != isa::Operand::Kind::memory) return std::nullopt;
    const isa::MemoryRecipe recipe = operands[0].memory();
    if (recipe.index || recipe.base.file != isa::RegisterFile::general || recipe.base.index != isa::kRbx)
      return std::nullopt;
    return (table + static_cast<std::uint64_t>(recipe.displacement)) & 0xffffffff;
  }

  [[nodiscard]] const char* name_in_slot(std::uint64_t slot) const {
    const auto found = std::ranges::lower_bound(relocations_, slot, {}, &binary::Relocation::address);
    if (found == relocations_.end() || found->address != slot) return nullptr;
    if (!found->symbol.empty()) return found->symbol.data();
    // A function that is chosen when the program starts: the one that chooses gives the name.
    const auto chooser = static_cast<std::uint64_t>(found->addend);
    for (const Key& key : keys_) {
      if (!key.stub && key.address == chooser) return elf_.symbols().name_at(key.number);
    }
    return nullptr;
  }

  // ---- what nothing covers

  struct Gap {
    AddressRange range;
    std::uint32_t section = 0;
  };

  /// The size of the function of a key: symbols without one reach up to the next or the section's end.
  [[nodiscard]] std::uint64_t size_of(std::size_t i, const Section& section) const {
    const std::uint64_t room = section.address + section.size - keys_[i].address;
    if (keys_[i].stub) return std::min(room, stubs_[keys_[i].number].size);
    const std::uint64_t size = elf_.symbols().nameless(keys_[i].number).size;
    if (size != 0) return std::min(size, room);
    std::size_t next = i + 1;
    while (next < keys_.size() && keys_[next].address == keys_[i].address) ++next;
    return next < keys_.size() ? std::min(room, keys_[next].address - keys_[i].address) : room;
  }

  void find_gaps() {
    for (const Section& section : elf_.sections()) {
      if (!section.is_code()) continue;
      const Bytes bytes = elf_.bytes_of(section);
      std::uint64_t at = section.address;
      const std::uint64_t end = section.address + std::min<std::uint64_t>(section.size, bytes.size());
      const auto cover = [&](std::uint64_t to) {
        if (at >= to || only_padding(bytes.subspan(at - section.address, to - at), mode_)) return;
        gaps_.push_back({{at, to}, section.index});
      };
      const auto first = std::ranges::lower_bound(keys_, at, {}, &Key::address);
      for (auto key = first; key != keys_.end() && key->address < end; ++key) {
        if (key != first && (key - 1)->address == key->address) continue;
        cover(key->address);
        at = std::max(at, key->address + size_of(static_cast<std::size_t>(key - keys_.begin()), section));
      }
      cover(end);
    }
    std::ranges::sort(gaps_, {}, [](const Gap& gap) { return gap.range.from; });
  }

  // ---- what shows where functions begin

  [[nodiscard]] const Gap* gap_at(std::uint64_t address) const {
    const auto after = std::ranges::upper_bound(gaps_, address, {}, [](const Gap& gap) { return gap.range.from; });
    if (after == gaps_.begin() || !(after - 1)->range.holds(address) || !may_hold_functions(*(after - 1)))
      return nullptr;
    return &*(after - 1);
  }

  void add_start(std::uint64_t address) {
    if (gap_at(address) != nullptr) starts_.insert(address);
  }

  void gather_evidence() {
    if (elf_.kind() == binary::Kind::relocatable ||
        std::ranges::none_of(gaps_, [this](const Gap& gap) { return may_hold_functions(gap); }))
      return;
    // A program without any unwind tables is an assembly program: where its functions begin is its own affair, and its
    // code and data are told apart best as a whole.
    if (elf_.section_named(".eh_frame") == nullptr) return;
    if (elf_.kind() != binary::Kind::shared_library) {
      add_start(elf_.entry());
      if (const auto main = main_address()) add_start(*main);
    }
    for (const AddressRange& range : debuginfo::code_entries(elf_).ranges) {
      if (gap_at(range.from) == nullptr) continue;
      described_.push_back(range);
      starts_.insert(range.from);
    }
    std::ranges::sort(described_, {}, &AddressRange::from);
    for (const char* name : {".init_array", ".fini_array", ".preinit_array"}) {
      for (const std::uint64_t address : words_of(name)) add_start(address);
    }
    std::uint64_t open = 0, code = 0;
    for (const Gap& gap : gaps_) {
      if (may_hold_functions(gap)) open += gap.range.size() - described_in(gap.range);
    }
    for (const Section& section : elf_.sections()) code += section.is_code() ? section.size : 0;
    // Where unwind tables or symbols tell nearly all, the rest is start-up code: only larger rests are worth a look at
    // all calls.
    constexpr std::uint64_t kSmall = std::uint64_t(1) << 22;
    if (open != 0 && (code < kSmall || open * 20 > code)) add_called();
  }

  /// The linker's own sections are whole pieces.
  [[nodiscard]] bool may_hold_functions(const Gap& gap) const {
    const std::string_view name = elf_.sections()[gap.section].name;
    return !name.starts_with(".plt") && name != ".init" && name != ".fini";
  }

  [[nodiscard]] std::uint64_t described_in(AddressRange range) const {
    std::uint64_t sum = 0;
    auto at = std::ranges::lower_bound(described_, range.from, {}, &AddressRange::from);
    for (; at != described_.end() && at->from < range.to; ++at) sum += std::min(at->to, range.to) - at->from;
    return std::min(sum, range.size());
  }

  /// The addresses that a section holds, as the loader will fill them.
  [[nodiscard]] std::vector<std::uint64_t> words_of(std::string_view name) const {
    std::vector<std::uint64_t> result;
    const Section* section = elf_.section_named(name);
    if (section == nullptr) return result;
    ByteReader reader(elf_.bytes_of(*section));
    const std::size_t size = elf_.machine().word;
    for (std::uint64_t at = section->address; reader.remaining() >= size; at += size) {
      std::uint64_t value = reader.unsigned_of(size);
      const auto found = std::ranges::lower_bound(relocations_, at, {}, &binary::Relocation::address);
      if (found != relocations_.end() && found->address == at)
        value = found->symbol_value + static_cast<std::uint64_t>(found->addend);
      result.push_back(value);
    }
    return result;
  }

  /// Where calls go, and addresses that are taken, if a function may begin there.
  void add_called() {
    for (const binary::Relocation& relocation : relocations_) {
      const std::uint64_t target = relocation.symbol_value + static_cast<std::uint64_t>(relocation.addend);
      if (relocation.symbol.empty() && looks_like_start(target)) add_start(target);
    }
    for (const Section& section : elf_.sections()) {
      if (!section.is_code() || section.name.starts_with(".plt")) continue;
      const Bytes code = elf_.bytes_of(section);
      for (std::size_t at = 0; at < code.size();) {
        isa::Instruction instruction;
        const unsigned length = isa::decode(code.subspan(at), mode_, instruction);
        const std::uint64_t here = section.address + at;
        at += std::max(length, 1U);
        if (length == 0) continue;
        std::uint64_t target = 0;
        if (isa::direct_target(instruction, here, target)) {
          if (isa::flow_of(instruction) == ControlFlow::call && target != here + length) add_start(target);
        } else if (isa::fixed_memory_address(instruction, here, target) && looks_like_start(target)) {
          add_start(target);
        } else if (instruction.immediate_size[0] == 4 && !elf_.sections().empty() &&
                   elf_.kind() == binary::Kind::executable && looks_like_start(instruction.immediate & 0xffffffff)) {
          add_start(instruction.immediate & 0xffffffff);
        }
      }
    }
  }

  /// After the end of other code, and at a place that compilers choose.
  [[nodiscard]] bool looks_like_start(std::uint64_t address) const {
    const Gap* gap = gap_at(address);
    if (gap == nullptr) return false;
    if (described_at(address)) return false;
    const Bytes code = elf_.bytes_at(address);
    const isa::Instruction first = isa::decode(code, mode_);
    if (!first) return false;
    return is_marked(*gap, address) || address % 16 == 0 || sets_up_frame(code);
  }

  /// The code begins with `push rbp` and `mov rbp, rsp`.
  [[nodiscard]] bool sets_up_frame(Bytes code) const {
    const isa::Instruction push = isa::decode(code, mode_);
    if (!push || isa::operation_of(push).meaning != isa::meaning::push) return false;
    const isa::Instruction move = isa::decode(code.subspan(push.length), mode_);
    if (!move || isa::operation_of(move).meaning != isa::meaning::copy) return false;
    const isa::Operands moved = isa::operands_of(move);
    return isa::is_register(isa::operands_of(push)[0], isa::kRbp) && isa::is_register(moved[0], isa::kRbp) &&
           isa::is_register(moved[1], isa::kRsp);
  }

  [[nodiscard]] bool described_at(std::uint64_t address) const {
    const auto after = std::ranges::upper_bound(described_, address, {}, &AddressRange::from);
    return after != described_.begin() && (after - 1)->holds(address);
  }

  // ---- making the list

  void build() {
    found_.functions.reserve(keys_.size() + starts_.size() + gaps_.size());
    std::size_t gap = 0;
    std::uint64_t aliases_from = ~std::uint64_t(0);  // the address whose first name was kept too
    const auto gaps_before = [&](std::uint64_t address) {
      while (gap < gaps_.size() && gaps_[gap].range.from < address) fill(gaps_[gap++]);
    };
    for (std::size_t i = 0; i < keys_.size(); ++i) {
      const Key& key = keys_[i];
      if (i > 0 && keys_[i - 1].address == key.address) {
        if (key.stub) continue;
        if (aliases_from != key.address) {
          aliases_from = key.address;
          if (!keys_[i - 1].stub) found_.aliases.push_back({key.address, elf_.symbols().name_at(keys_[i - 1].number)});
        }
        found_.aliases.push_back({key.address, elf_.symbols().name_at(key.number)});
        continue;
      }
      gaps_before(key.address);
      if (key.stub) {
        found_.functions.push_back(std::move(stubs_[key.number]));
        continue;
      }
      const Symbol symbol = elf_.symbols().nameless(key.number);
      const char* name = name_for_people(i);
      Function function;
      function.name = linker_names_ ? LazyName::raw(name) : LazyName::of_symbol(name);
      function.typed = symbol.type != binary::kNoType;
      function.section = symbol.section;
      function.address = symbol.address;
      function.size = size_of(i, elf_.sections()[symbol.section]);
      found_.functions.push_back(std::move(function));
    }
    gaps_before(~std::uint64_t(0));
    std::ranges::stable_sort(found_.labels, {}, &Label::address);
    // Sections of an object may stand in another order than their symbols.
    if (!std::ranges::is_sorted(found_.functions, {}, &Function::address))
      std::ranges::stable_sort(found_.functions, {}, &Function::address);
  }

  /// Of the equally good symbols at a key's address the one that people would write: without underscores in front, then
  /// the shortest. `free`, not `__libc_free`; `fopen`, not `fopen64`.
  [[nodiscard]] const char* name_for_people(std::size_t first) const {
    std::string_view best = elf_.symbols().name_at(keys_[first].number);
    for (std::size_t i = first + 1; i < keys_.size() && keys_[i].address == keys_[first].address; ++i) {
      if (keys_[i].stub || keys_[i].rank != keys_[first].rank) break;
      const std::string_view other = elf_.symbols().name_at(keys_[i].number);
      const bool plainer = best.starts_with('_') && !other.starts_with('_');
      const bool shorter = best.starts_with('_') == other.starts_with('_') && other.size() < best.size();
      if (plainer || shorter) best = other;
    }
    return best.data();
  }

  void add(const Gap& gap, AddressRange range, Function::Origin origin) {
    const Section& section = elf_.sections()[gap.section];
    const Bytes bytes = elf_.bytes_of(section).subspan(range.from - section.address, range.size());
    if (only_padding(bytes, mode_)) return;
    Function function;
    if (origin == Function::Origin::recovered) {
      function.name = "unnamed_" + digits(range.from);
    } else {
      function.name = std::string(section.name) +
                      (range.from == section.address ? "" : "+0x" + digits(range.from - section.address));
    }
    function.origin = origin;
    function.section = gap.section;
    function.address = range.from;
    function.size = range.size();
    found_.functions.push_back(std::move(function));
  }

  void fill(const Gap& gap) {
    auto start = starts_.lower_bound(gap.range.from);
    if (start == starts_.end() || *start >= gap.range.to) return add(gap, gap.range, Function::Origin::section);
    std::uint64_t at = gap.range.from;
    while (at < gap.range.to) {
      const auto next = starts_.upper_bound(at);
      const std::uint64_t limit = next == starts_.end() ? gap.range.to : std::min(*next, gap.range.to);
      const auto described = std::ranges::lower_bound(described_, at, {}, &AddressRange::from);
      std::uint64_t end = 0;
      if (described != described_.end() && described->from == at && described->to > at) {
        end = std::min(described->to, limit);
      } else {
        end = end_of_flow(gap, at, limit);
      }
      // What follows an end is a function of its own where compilers would begin one; otherwise it is taken for a part.
      std::uint64_t after = after_padding(gap, end, limit);
      while (after < limit && after % 16 != 0 && !is_marked(gap, after)) {
        end = end_of_flow(gap, after, limit);
        after = after_padding(gap, end, limit);
      }
      add(gap, {at, end}, Function::Origin::recovered);
      at = after;
    }
  }

  /// An `endbr` stands there.
  [[nodiscard]] bool is_marked(const Gap& gap, std::uint64_t address) const {
    constexpr std::uint8_t kEndbr[] = {0xf3, 0x0f, 0x1e};
    const Bytes code = code_of(gap, address);
    return code.size() >= 4 && std::equal(std::begin(kEndbr), std::end(kEndbr), code.begin());
  }

  [[nodiscard]] Bytes code_of(const Gap& gap, std::uint64_t address) const {
    const Section& section = elf_.sections()[gap.section];
    return elf_.bytes_of(section).subspan(address - section.address, gap.range.to - address);
  }

  /// Where a function that begins at `at` ends, at `limit` the latest: after the instruction that ends the flow, if no
  /// jump of the function goes beyond it.
  [[nodiscard]] std::uint64_t end_of_flow(const Gap& gap, std::uint64_t at, std::uint64_t limit) const {
    std::uint64_t furthest = at;
    const std::uint64_t start = at;
    while (at < limit) {
      isa::Instruction instruction;
      const unsigned length = isa::decode(code_of(gap, at), mode_, instruction);
      if (length == 0) {
        ++at;
        continue;
      }
      const ControlFlow flow = isa::flow_of(instruction);
      std::uint64_t target = 0;
      const bool direct = isa::direct_target(instruction, at, target);
      if (direct && flow != ControlFlow::call && target > start && target < limit) {
        const bool may_leave = flow == ControlFlow::jump && is_past_end(gap, target);
        if (!may_leave) furthest = std::max(furthest, target);
      }
      at += length;
      const bool through_table = flow == ControlFlow::jump && !direct;
      if (ends_flow(flow) && !through_table && furthest < at) return at;
      // After a jump through a table its cases follow; the first padding after an end is taken for the function's.
      if (through_table && furthest < at) furthest = at;
    }
    return limit;
  }

  /// An unconditional jump to a place at 16 bytes that padding stands before, is taken for a call at a function's end.
  [[nodiscard]] bool is_past_end(const Gap& gap, std::uint64_t target) const {
    if (target % 16 != 0 || target < gap.range.from + 1) return false;
    const Section& section = elf_.sections()[gap.section];
    const Bytes bytes = elf_.bytes_of(section);
    const std::uint64_t at = target - section.address;
    for (std::uint64_t size = 1; size <= 15 && size <= at; ++size) {
      if (only_padding(bytes.subspan(at - size, size), mode_)) return true;
    }
    return false;
  }

  [[nodiscard]] std::uint64_t after_padding(const Gap& gap, std::uint64_t at, std::uint64_t limit) const {
    const Bytes bytes = code_of(gap, at);
    std::uint64_t skipped = 0;
    while (at + skipped < limit) {
      const std::uint8_t byte = bytes[skipped];
      if (byte == 0 || byte == arch::kStopByte) {
        ++skipped;
        continue;
      }
      const isa::Instruction instruction = isa::decode(bytes.subspan(skipped), mode_);
      // A marked target begins a function, although it does nothing.
      if (!instruction || !isa::does_nothing(instruction) || (byte == 0xf3 && instruction.length == 4)) break;
      if (at + skipped + instruction.length > limit) break;  // something begins inside of it
      skipped += instruction.length;
    }
    return at + skipped;
  }

  // ---- start-up code

  [[nodiscard]] Function* recovered_at(std::uint64_t address) {
    const auto found = std::ranges::lower_bound(found_.functions, address, {}, &Function::address);
    const bool hit =
        found != found_.functions.end() && found->address == address && found->origin == Function::Origin::recovered;
    return hit ? &*found : nullptr;
  }

  void name_start_up() {
    if (elf_.kind() == binary::Kind::relocatable || starts_.empty()) return;
    if (elf_.kind() != binary::Kind::shared_library) {
      if (Function* start = recovered_at(elf_.entry())) {
        start->name = std::string("_start");
        const auto main = main_address();
        if (Function* function = main ? recovered_at(*main) : nullptr) function->name = std::string("main");
      }
    }
    name_by_table(".init_array", "frame_dummy", "register_tm_clones");
    name_by_table(".fini_array", "__do_global_dtors_aux", "deregister_tm_clones");
  }

  /// The entry of a C program passes main's address to the library as the first argument (x86-64) or the last pushed
  /// one (i386).
  [[nodiscard]] std::optional<std::uint64_t> main_address() const {
    constexpr std::size_t kLongest = 128;  // bytes of start-up code
    state::Known known(mode_);
    const Bytes code = elf_.bytes_at(elf_.entry());
    for (std::uint64_t at = 0; at < std::min(kLongest, code.size());) {
      const isa::Instruction instruction = isa::decode(code.subspan(at), mode_);
      if (!instruction) break;
      if (isa::flow_of(instruction) == ControlFlow::call) {
        const auto main = mode_ == isa::Mode::bits64 ? known.value({isa::RegisterFile::general, isa::kRdi, 0, 64})
                                                     : known.last_pushed();
        const bool code_there = main && gap_at(*main) != nullptr;
        if (mode_ == isa::Mode::bits64 || code_there) return code_there ? main : std::nullopt;
      }
      known.step(instruction, elf_.entry() + at);
      at += instruction.length;
    }
    return std::nullopt;
  }

  /// The compiler's own first entry of a table, and the helper that it calls or jumps to.
  void name_by_table(std::string_view table, const char* name, const char* helper) {
    const std::vector<std::uint64_t> words = words_of(table);
    if (words.empty()) return;
    Function* function = recovered_at(words.front());
    constexpr std::uint64_t kLongest = 128;
    if (function == nullptr || function->size > kLongest || described_at(function->address)) return;
    function->name = std::string(name);
    const Bytes code = elf_.bytes_at(function->address);
    for (std::uint64_t at = 0; at < std::min<std::uint64_t>(function->size, code.size());) {
      const isa::Instruction instruction = isa::decode(code.subspan(at), mode_);
      if (!instruction) return;
      std::uint64_t target = 0;
      const bool direct = isa::direct_target(instruction, function->address + at, target);
      if (direct && !function->range().holds(target)) {
        if (Function* called = recovered_at(target)) called->name = std::string(helper);
      }
      at += instruction.length;
    }
  }

  const binary::Elf& elf_;
  std::span<const binary::Relocation> relocations_;
  bool linker_names_;
  isa::Mode mode_;
  std::vector<Key> keys_;
  std::vector<Function> stubs_;
  std::vector<Gap> gaps_;
  std::set<std::uint64_t> starts_;       ///< of functions in gaps
  std::vector<AddressRange> described_;  ///< by unwind tables, in gaps
  FoundFunctions found_;
};

}  // namespace

bool only_padding(Bytes bytes, isa::Mode mode) {
  for (std::uint64_t at = 0; at < bytes.size();) {
    if (bytes[at] == 0 || bytes[at] == arch::kStopByte) {
      ++at;
      continue;
    }
    const isa::Instruction instruction = isa::decode(bytes.subspan(at), mode);
    if (!instruction || !isa::does_nothing(instruction)) return false;
    at += instruction.length;
  }
  return true;
}

FoundFunctions find_functions(const binary::Elf& elf, std::span<const binary::Relocation> relocations,
                              bool linker_names) {
  return Finder(elf, relocations, linker_names).run();
}

}  // namespace deeptrace::program
