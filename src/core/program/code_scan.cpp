#include "program/code_scan.h"

#include <algorithm>
#include <array>
#include <cstring>
#include <utility>

#include "isa/operand.h"

namespace deeptrace::program {
namespace {

/// What programs of ours do not execute: privileged instructions, far transfers and loads of segment registers are
/// signs that data is read as code.
bool is_unlikely(const isa::Instruction& instruction) {
  const isa::Row& row = isa::row_of(instruction);
  if ((row.traits & isa::kPrivileged) != 0) return true;
  for (const isa::OperandUse use : isa::uses_of(row)) {
    const isa::OperandKind& kind = isa::kind_of(use);
    if (kind.source == isa::Source::far || kind.width == isa::Width::far_pointer) return true;
    if (kind.file == isa::RegisterFile::segment && isa::writes(use.access)) return true;
  }
  return false;
}

bool ends_flow(isa::ControlFlow flow) { return flow == isa::ControlFlow::jump || flow == isa::ControlFlow::return_; }

bool is_text_byte(std::uint8_t byte) {
  return (byte >= 0x20 && byte < 0x7f) || (byte >= 9 && byte <= 13) || byte == 27;
}

/// True for strings one after the other, each of four characters or more, that zero bytes may end and fill up.
bool is_text(Bytes bytes) {
  std::size_t run = 0, longest = 0;
  for (const std::uint8_t byte : bytes) {
    if (byte == 0) {
      run = 0;
    } else if (is_text_byte(byte) || byte >= 0x80) {
      longest = std::max(longest, ++run);
    } else {
      return false;
    }
  }
  const auto plain = static_cast<std::size_t>(std::ranges::count_if(bytes, is_text_byte));
  const auto zeros = static_cast<std::size_t>(std::ranges::count(bytes, 0));
  return longest >= 4 && 10 * plain >= 9 * (bytes.size() - zeros) && plain > zeros;
}

/// Functions that the C and C++ standards, POSIX and the ABIs say do not return.
constexpr std::string_view kNeverReturn[] = {"exit",
                                             "_exit",
                                             "_Exit",
                                             "abort",
                                             "quick_exit",
                                             "__assert_fail",
                                             "longjmp",
                                             "siglongjmp",
                                             "__longjmp_chk",
                                             "__stack_chk_fail",
                                             "__cxa_throw",
                                             "__cxa_rethrow",
                                             "__cxa_bad_cast",
                                             "_Unwind_Resume",
                                             "__fortify_fail",
                                             "__chk_fail",
                                             "pthread_exit",
                                             "thrd_exit",
                                             "std::terminate()",
                                             "_ZSt9terminatev"};

/// The linker's name is there without being made readable.
std::string_view linker_name(const Function& function) {
  const std::string_view symbol = function.name.symbol();
  return symbol.empty() ? std::string_view(function.name) : symbol;
}

bool is_final(std::string_view name) {
  return std::ranges::find(kNeverReturn, name.substr(0, name.find('@'))) != std::end(kNeverReturn);
}

bool is_final(const Function* callee, std::uint64_t target) {
  return callee != nullptr && callee->address == target && is_final(linker_name(*callee));
}

/// How far before an indirect jump the instruction stands that names its table, in bytes.
constexpr std::uint64_t kTableLookBack = 64;

/// Longer jump tables are not believed.
constexpr std::uint64_t kMostEntries = 4096;

}  // namespace

namespace {

/// Where the entry at the start of `bytes` leads, in a file without relocations for it.
std::optional<std::uint64_t> target_in(const Program& program, const JumpTable& table, Bytes bytes) {
  ByteReader reader(bytes);
  const std::uint64_t value = reader.unsigned_of(table.entry_size);
  if (!reader.good()) return std::nullopt;
  if (table.base == 0) return value;
  const std::uint64_t target = table.base + static_cast<std::uint64_t>(std::int64_t(static_cast<std::int32_t>(value)));
  return program.elf().wide() ? target : target & 0xffffffff;
}

}  // namespace

std::optional<std::uint64_t> target_of(const Program& program, const JumpTable& table, std::uint64_t number) {
  const std::uint64_t place = table.address + number * table.entry_size;
  if (program.elf().kind() == binary::Kind::relocatable) {
    const binary::Relocation* relocation = program.relocation_in(place, table.entry_size);
    // R_X86_64_PC32 and R_386_PC32 count from the entry, of which the table's distance is made.
    constexpr std::uint32_t kPc32 = 2;
    if (relocation == nullptr || !relocation->defined || (relocation->type == kPc32) != table.from_table())
      return std::nullopt;
    const std::uint64_t target = relocation->symbol_value + static_cast<std::uint64_t>(relocation->addend);
    return table.from_table() ? target - (place - table.address) : target;
  }
  return target_in(program, table, program.elf().bytes_at(place));
}

std::vector<std::uint64_t> targets_of(const Program& program, const JumpTable& table,
                                      const std::function<bool(std::uint64_t)>& goes_on) {
  const bool object = program.elf().kind() == binary::Kind::relocatable;
  const Bytes entries = program.elf().bytes_at(table.address);
  std::vector<std::uint64_t> result;
  for (std::uint64_t i = 0; i < table.entries; ++i) {
    const std::uint64_t place = std::min<std::uint64_t>(i * table.entry_size, entries.size());
    const auto target = object ? target_of(program, table, i) : target_in(program, table, entries.subspan(place));
    if (!target || !goes_on(*target)) break;
    result.push_back(*target);
  }
  return result;
}

CodeScan::CodeScan(const Program& program) : program_(program) {}

isa::Instruction CodeScan::decode(std::uint64_t address) const {
  return isa::decode(bytes_.subspan(address - start_), program_.mode());
}

std::span<const Stretch> CodeScan::split(AddressRange range) {
  stretches_.clear();
  const auto& functions = program_.functions();
  while (range.from < range.to) {
    const auto next = functions.after(range.from);
    const Function* function = next == functions.begin() ? nullptr : &*(next - 1);
    std::uint64_t to = next == functions.end() ? range.to : std::min(range.to, next->address);
    if (function != nullptr && function->range().holds(range.from)) {
      to = std::min(to, function->address + function->size);
      look_at(*function);
      gather({range.from, to});
    } else {  // between functions there is only padding
      add({range.from, to}, Stretch::Kind::code);
    }
    range.from = to;
  }
  return stretches_;
}

void CodeScan::add(AddressRange range, Stretch::Kind kind) {
  if (!stretches_.empty() && stretches_.back().kind == kind && stretches_.back().range.to == range.from) {
    stretches_.back().range.to = range.to;
  } else {
    stretches_.push_back({range, kind});
  }
}

std::span<const JumpTable> CodeScan::tables_of(const Function& function) {
  look_at(function, true);
  return tables_;
}

void CodeScan::look_at(const Function& function, bool for_tables) {
  if (function_ == &function && !(for_tables && all_code_)) return;
  function_ = &function;
  start_ = function.address;
  bytes_on_ = program_.elf().bytes_at(function.address);
  bytes_ = bytes_on_.first(std::min<std::size_t>(bytes_on_.size(), function.size));
  all_code_ = !for_tables && is_all_code();
  if (!all_code_) trace();
}

namespace {

/// What the one pass must know of a row, worked out once for all rows.
enum RowClass : std::uint8_t { kPlain, kBranches, kUnlikely };

std::vector<std::uint8_t> classes_of_rows() {
  std::vector<std::uint8_t> result;
  for (const isa::Row& row : isa::rows()) {
    isa::Instruction instruction;
    instruction.row = static_cast<std::uint16_t>(result.size());
    const bool plain = isa::operation_of(row).flow == isa::ControlFlow::next;
    result.push_back(is_unlikely(instruction) ? kUnlikely : plain ? kPlain : kBranches);
  }
  return result;
}

}  // namespace

/// True when one pass shows that all of a function is code: every byte decodes, nothing is unlikely, and whatever
/// stands past the end of the flow is padding or reached by a jump. Of functions that no symbol calls so, each such
/// run must be reached from the function's start; a compiler's are believed to reach theirs somehow.
bool CodeScan::is_all_code() {
  if (!function_->typed && (object_ || function_->origin == Function::Origin::section)) return false;
  return decode_all() && pass_over() && all_runs_reached();
}

/// All instructions of the function, one after the other. False when they do not fill it.
bool CodeScan::decode_all() {
  constexpr std::size_t kAtOnce = 64;
  instructions_.clear();
  for (std::size_t at = 0; at < bytes_.size();) {
    const std::size_t before = instructions_.size();
    instructions_.resize(before + kAtOnce);
    const std::size_t more =
        isa::decode_run(bytes_on_.subspan(at), bytes_.size() - at, mode_, std::span(instructions_).subspan(before));
    instructions_.resize(before + more);
    if (more == 0) return false;
    for (std::size_t i = before; i < instructions_.size(); ++i) at += instructions_[i].length;
    if (at > bytes_.size()) return false;
  }
  return true;
}

bool CodeScan::pass_over() {
  static const std::vector<std::uint8_t> kClasses = classes_of_rows();
  tables_.clear();
  jumps_.clear();
  runs_.assign(1, {});
  seen_.assign(bytes_.size() + 1, 0);
  in_order_ = true;
  bool after_end = false, arrived = false;
  std::size_t at = 0;
  for (std::size_t i = 0; i < instructions_.size(); ++i) {
    const isa::Instruction& instruction = instructions_[i];
    if (after_end) arrived |= (seen_[at] & kArrivedAt) != 0;
    seen_[at] |= kBegins;
    if (after_end && !isa::does_nothing(instruction)) {
      runs_.push_back({.from = static_cast<std::uint32_t>(at)});
      in_order_ &= arrived;
      after_end = false;
    }
    const std::uint8_t row_class = kClasses[instruction.row];
    std::uint64_t touched = 0;
    if (row_class == kUnlikely) return false;
    if (!function_->typed && isa::fixed_memory_address(instruction, start_ + at, touched) && holds(touched))
      return false;
    if (!after_end && row_class == kBranches && !note_flow(i, at, after_end)) return false;
    at += instruction.length;
    if (!after_end) {
      runs_.back().to = static_cast<std::uint32_t>(at);
      arrived = false;
    }
  }
  return true;
}

/// A branch, call or trap of the one pass. False where only following the flow can tell.
bool CodeScan::note_flow(std::size_t number, std::size_t at, bool& after_end) {
  const isa::Instruction& instruction = instructions_[number];
  const isa::ControlFlow flow = isa::flow_of(instruction);
  std::uint64_t target = 0;
  const bool direct = isa::direct_target(instruction, start_ + at, target);
  if (direct && holds(target)) note_jump(at, target);
  if (flow == isa::ControlFlow::jump && !direct && !note_table(number, at)) return false;
  after_end = ends_flow(flow);
  if (!function_->typed) {
    if (flow == isa::ControlFlow::system) return false;
    if (flow == isa::ControlFlow::trap) after_end = never_returns(instruction, start_ + at);
    if (flow == isa::ControlFlow::call && direct) after_end = callee_never_returns(target);
  }
  if (after_end) runs_.back().to = static_cast<std::uint32_t>(at + instruction.length);
  return true;
}

void CodeScan::note_jump(std::size_t from, std::uint64_t target) {
  jumps_.push_back({static_cast<std::uint32_t>(from), static_cast<std::uint32_t>(target - start_)});
  seen_[target - start_] |= kArrivedAt;
}

/// The jumps through the table of an indirect jump, where it has one of known length outside this function.
bool CodeScan::note_table(std::size_t number, std::size_t at) {
  const std::uint64_t jump = start_ + at, run = start_ + runs_.back().from;
  std::vector<Placed> backwards;
  std::size_t of_run = 0;
  std::uint64_t before = jump + instructions_[number].length;
  for (std::size_t i = number + 1; i-- > 0;) {
    before -= instructions_[i].length;
    if (before + kTableLookBack < jump) break;
    backwards.push_back({before, instructions_[i]});
    of_run += before >= run ? 1 : 0;
  }
  Candidates found = candidates(backwards);
  for (JumpTable& table : found.tables) {
    table.jump = jump;
    if (!count_entries(table, found.bound)) continue;
    // What stands before the run may not be what comes before it.
    const bool certain = table.bounded && candidates(std::span(backwards).first(of_run)).bound == found.bound;
    if (!certain || holds(table.address)) return false;
    for (const std::uint64_t target : targets_of(program_, table)) note_jump(at, target);
    tables_.push_back(table);
    break;
  }
  return true;
}

/// Jumps lead to the beginning of an instruction, and what is reached has jumps to the first instruction of every run,
/// or to the padding in front of it.
bool CodeScan::all_runs_reached() {
  if (std::ranges::any_of(jumps_, [&](const Jump& jump) { return (seen_[jump.to] & kBegins) == 0; })) return false;
  if (in_order_) return true;
  arrivals_.assign(1, 0);
  if (function_->typed) {
    for (const Jump& jump : jumps_) arrivals_.push_back(jump.to);
  }
  while (!arrivals_.empty()) {
    std::uint32_t to = arrivals_.back();
    arrivals_.pop_back();
    auto run = std::ranges::upper_bound(runs_, to, {}, &Run::from) - 1;
    if (to >= run->to && ++run == runs_.end()) continue;  // padding leads to the next run
    to = std::max(to, run->from);
    const std::uint32_t known = std::exchange(run->reached, std::min(run->reached, to));
    auto jump = std::ranges::lower_bound(jumps_, to, {}, &Jump::from);
    for (const std::uint32_t end = std::min(known, run->to); jump != jumps_.end() && jump->from < end; ++jump)
      arrivals_.push_back(jump->to);
  }
  return std::ranges::all_of(runs_, [](const Run& run) { return run.reached == run.from; });
}

bool CodeScan::callee_never_returns(std::uint64_t target) {
  Callee& callee = callees_[target * 0x9e3779b97f4a7c15 >> 54];
  if (callee.address != target) callee = {target, is_final(program_.function_at(target), target)};
  return callee.never_returns;
}

void CodeScan::trace() {
  marks_.assign(bytes_.size(), kUnknown);
  read_.assign(bytes_.size(), false);
  open_.clear();
  doubtful_.clear();
  tables_.clear();
  unresolved_ = 0;
  unreached_ = false;
  add_root(start_);
  if (function_->origin == Function::Origin::section) {
    const auto roots = program_.code_roots();
    for (auto root = std::ranges::lower_bound(roots, start_); root != roots.end() && holds(*root); ++root)
      add_root(*root);
  }
  follow_all();
  // Where a table of unknown length ends is a guess: what it names must fit to what is known.
  for (std::size_t i = 0; i < doubtful_.size(); ++i) {
    const Doubtful one = doubtful_[i];
    if (one.entry >= entries_before_next(tables_[one.table])) continue;
    if (marks_[one.target - start_] == kUnknown && fits(one.target)) follow(one.target);
    follow_all();
  }
  for (JumpTable& table : tables_) table.entries = std::min(table.entries, entries_before_next(table));
  weigh_gaps();
}

void CodeScan::follow_all() {
  while (!open_.empty()) {
    const std::uint64_t at = open_.back();
    open_.pop_back();
    follow(at);
  }
}

/// True when instructions from here run into known ones or to an end of the flow.
bool CodeScan::fits(std::uint64_t at) const {
  while (holds(at) && marks_[at - start_] != kFirst) {
    const isa::Instruction instruction = decode(at);
    if (marks_[at - start_] != kUnknown || !instruction || is_unlikely(instruction)) return false;
    if (ends_flow(isa::flow_of(instruction))) return true;
    at += instruction.length;
  }
  return holds(at);
}

void CodeScan::add_root(std::uint64_t address) {
  if (holds(address) && marks_[address - start_] == kUnknown) open_.push_back(address);
}

/// Marks instructions from a root on, until control cannot go on to the next one.
void CodeScan::follow(std::uint64_t at) {
  while (holds(at) && marks_[at - start_] == kUnknown && follow_one(at)) {
  }
}

bool CodeScan::follow_one(std::uint64_t& at) {
  isa::Instruction instruction;
  const std::uint64_t offset = at - start_;
  const unsigned length = isa::decode(bytes_.subspan(offset), mode_, instruction);
  if (length == 0) return false;
  marks_[offset] = kFirst;
  for (std::uint64_t i = 1; i < length; ++i) marks_[offset + i] = kInside;
  const isa::ControlFlow flow = isa::flow_of(instruction);
  std::uint64_t target = 0;
  if (object_ && program_.relocation_in(at, length) != nullptr) {
    // The number in the instruction means nothing yet.
  } else if (isa::direct_target(instruction, at, target)) {
    add_root(target);
  } else if (isa::fixed_memory_address(instruction, at, target) && holds(target)) {
    // Of an address that is only taken nobody knows yet what stands there; weigh_gaps looks at it.
    const isa::Operands operands = isa::operands_of(instruction);
    const bool touched = std::ranges::any_of(
        operands, [](const isa::Operand& o) { return o.kind == isa::Operand::Kind::memory && o.width != 0; });
    if (touched) read_[target - start_] = true;
  }
  if (flow != isa::ControlFlow::next) {
    if (flow == isa::ControlFlow::jump && !isa::direct_target(instruction, at, target)) jump_table(at);
    if (ends_flow(flow) || never_returns(instruction, at)) return false;
  }
  at += length;
  return true;
}

/// Traps that end the program, calls of functions that never return, and final calls of the kernel whose number stands
/// in an instruction shortly before.
bool CodeScan::is_final_call(const isa::Instruction& instruction, std::uint64_t address) const {
  std::uint64_t target = 0;
  if (isa::flow_of(instruction) != isa::ControlFlow::call || !isa::direct_target(instruction, address, target))
    return false;
  const auto relocated = program_.relocated_reference(address, instruction.length);
  return relocated ? is_final(relocated->name) : is_final(program_.function_at(target), target);
}

bool CodeScan::never_returns(const isa::Instruction& instruction, std::uint64_t address) const {
  const isa::ControlFlow flow = isa::flow_of(instruction);
  if (flow == isa::ControlFlow::trap) return isa::operation_of(instruction).meaning == isa::meaning::invalid;
  if (flow == isa::ControlFlow::call) return is_final_call(instruction, address);
  if (flow != isa::ControlFlow::system) return false;
  constexpr std::uint64_t kLookBack = 48;
  const bool narrow = mode_ == isa::Mode::bits32 || (isa::row_of(instruction).traits & isa::kGate) != 0;
  for (std::uint64_t at = address; at > start_ && at + kLookBack > address;) {
    --at;
    if (marks_[at - start_] != kFirst) continue;
    const isa::Instruction before = decode(at);
    if (isa::flow_of(before) != isa::ControlFlow::next) return false;
    const isa::Operands operands = isa::operands_of(before);
    if (operands.count == 0 || operands[0].kind != isa::Operand::Kind::reg || !isa::writes(operands[0].access) ||
        operands[0].reg.file != isa::RegisterFile::general || operands[0].reg.index != isa::kRax)
      continue;
    if (isa::operation_of(before).meaning != isa::meaning::copy || operands.count < 2 ||
        operands[1].kind != isa::Operand::Kind::immediate)
      return false;
    const auto number = static_cast<std::uint64_t>(operands[1].value);
    const arch::Machine& machine = arch::machine_of(narrow ? isa::Mode::bits32 : isa::Mode::bits64);
    return std::ranges::find(machine.final_calls, number) != machine.final_calls.end();
  }
  return false;
}

/// The instructions at and before an indirect jump, from the jump backwards: each may name a table, and a comparison
/// its length.
CodeScan::Candidates CodeScan::candidates(std::span<const Placed> backwards) const {
  Candidates result;
  for (const Placed& one : backwards) {
    const isa::Instruction& instruction = one.instruction;
    if (result.bound == 0 && isa::operation_of(instruction).meaning == isa::meaning::cmp) {
      const isa::Operands operands = isa::operands_of(instruction);
      if (operands[1].kind == isa::Operand::Kind::immediate && operands[1].value >= 0 &&
          static_cast<std::uint64_t>(operands[1].value) < kMostEntries)
        result.bound = static_cast<std::uint64_t>(operands[1].value) + 1;
    }
    add_tables_named(instruction, one.address, result.tables);
  }
  return result;
}

/// Whatever table of addresses or distances an instruction shortly before an indirect jump names: its entries that lie
/// in this range are roots, and the table itself is data where it lies here too.
void CodeScan::jump_table(std::uint64_t jump) {
  std::vector<Placed> backwards;
  for (std::uint64_t at = jump + 1; at > start_ && at + kTableLookBack > jump;) {
    --at;
    if (marks_[at - start_] == kFirst) backwards.push_back({at, decode(at)});
  }
  Candidates found = candidates(backwards);
  for (JumpTable& table : found.tables) {
    table.jump = jump;
    if (take_table(table, found.bound)) return;
  }
  unresolved_ = jump;
}

std::optional<JumpTable> CodeScan::table_of(const Function& function, std::uint64_t jump) {
  look_at(function);
  const auto found = std::ranges::find(tables_, jump, &JumpTable::jump);
  return found != tables_.end() ? std::optional(*found) : std::nullopt;
}

/// The tables that the address in an instruction may be, with each kind of entry that it may have.
void CodeScan::add_tables_named(const isa::Instruction& instruction, std::uint64_t at,
                                std::vector<JumpTable>& tables) const {
  const unsigned word = arch::machine_of(program_.mode()).word;
  const auto add = [&](std::uint64_t address) {
    tables.push_back({.address = address, .entry_size = 4, .base = address});
    tables.push_back({.address = address, .entry_size = word, .base = 0});
  };
  std::uint64_t address = 0;
  if (object_) {
    const binary::Relocation* relocation = program_.relocation_in(at, instruction.length);
    if (relocation == nullptr || !relocation->defined) return;
    const std::int64_t offset = relocation->addend + program_.distance_in_addend(*relocation, at, instruction.length);
    add(relocation->symbol_value + static_cast<std::uint64_t>(offset));
  } else if (isa::fixed_memory_address(instruction, at, address)) {
    add(address);
  } else if (instruction.modrm_at != 0 && instruction.displacement_size == 4) {
    add(static_cast<std::uint32_t>(instruction.displacement));
    const std::uint64_t base = program_.elf().wide() ? 0 : program_.elf().offset_table();
    if (base == 0) return;
    address = (base + static_cast<std::uint32_t>(instruction.displacement)) & 0xffffffff;
    tables.push_back({.address = address, .entry_size = 4, .base = base});
  } else if (instruction.immediate_size[0] == 4) {
    add(static_cast<std::uint32_t>(instruction.immediate));
  }
}

/// Entries count as long as they lead into the range. False when the first does not.
bool CodeScan::count_entries(JumpTable& table, std::uint64_t bound) const {
  table.entries = bound != 0 ? bound : kMostEntries;
  const auto goes_on = [&](std::uint64_t target) { return holds(target); };
  table.entries = targets_of(program_, table, goes_on).size();
  table.bounded = table.entries != 0 && table.entries == bound;
  return table.entries != 0;
}

bool CodeScan::take_table(JumpTable table, std::uint64_t bound) {
  if (!count_entries(table, bound)) return false;
  std::uint64_t entry = 0;
  for (const std::uint64_t target : targets_of(program_, table)) {
    if (bound != 0) add_root(target);
    if (bound == 0 && marks_[target - start_] == kUnknown) doubtful_.push_back({target, tables_.size(), entry});
    ++entry;
  }
  for (std::uint64_t i = 0; i < table.entries * table.entry_size && holds(table.address + i); ++i) {
    if (marks_[table.address + i - start_] == kUnknown) marks_[table.address + i - start_] = kData;
  }
  tables_.push_back(table);
  return true;
}

/// The entries of a table whose length nothing says end where another table begins.
std::uint64_t CodeScan::entries_before_next(const JumpTable& table) const {
  std::uint64_t entries = table.bounded ? table.entries : kMostEntries;
  for (const JumpTable& other : tables_) {
    if (!table.bounded && other.address > table.address)
      entries = std::min(entries, (other.address - table.address) / table.entry_size);
  }
  return entries;
}

/// Decides about what was not reached, piece by piece; pieces end at labels and at memory that is read.
void CodeScan::weigh_gaps() {
  const auto is_edge = [&](std::uint64_t at) { return program_.label_at(start_ + at) != nullptr || read_[at]; };
  for (std::uint64_t at = 0; at < bytes_.size();) {
    if (marks_[at] != kUnknown) {
      ++at;
      continue;
    }
    std::uint64_t to = at + 1;
    while (to < bytes_.size() && marks_[to] == kUnknown && !is_edge(to)) ++to;
    const Stretch::Kind kind = weigh(start_ + at, start_ + to);
    unreached_ |= kind == Stretch::Kind::code && !program_.only_padding({start_ + at, start_ + to});
    if (kind == Stretch::Kind::code) {
      follow(start_ + at);
      follow_all();
      // What the flow does not reach of it (after a jump) stays code, decoded in a row.
      for (std::uint64_t i = at; i < to;) {
        if (marks_[i] != kUnknown) {
          ++i;
          continue;
        }
        const isa::Instruction instruction = decode(start_ + i);
        const std::uint64_t length = instruction ? instruction.length : 1;
        for (std::uint64_t k = 0; k < length && i + k < bytes_.size(); ++k) marks_[i + k] = k == 0 ? kFirst : kInside;
        i += length;
      }
    } else {
      for (std::uint64_t i = at; i < to; ++i) marks_[i] = kind == Stretch::Kind::string ? kText : kData;
    }
    at = to;
  }
}

Stretch::Kind CodeScan::weigh(std::uint64_t from, std::uint64_t to) const {
  const Bytes bytes = bytes_.subspan(from - start_, to - from);
  const bool padding = program_.only_padding({from, to});
  if (padding && !read_[from - start_]) return Stretch::Kind::code;  // nearly all of them: no line table is needed
  if (program_.lines().starts_row(from)) return Stretch::Kind::code;
  if (is_text(bytes)) return Stretch::Kind::string;
  if (read_[from - start_]) return Stretch::Kind::bytes;
  return padding || decodes_cleanly(from, to) ? Stretch::Kind::code : Stretch::Kind::bytes;
}

/// True when instructions, none of them unlikely, fill a gap to its end; in a long one they need not meet the end. Zero
/// bytes decode too, but nobody writes them.
bool CodeScan::decodes_cleanly(std::uint64_t from, std::uint64_t to) const {
  constexpr std::uint64_t kLong = 32;
  std::uint64_t at = from;
  while (at < to) {
    const isa::Instruction instruction = decode(at);
    if (!instruction || is_unlikely(instruction)) return false;
    const Bytes bytes = bytes_.subspan(at - start_, instruction.length);
    const bool zeros = std::ranges::all_of(bytes, [](std::uint8_t byte) { return byte == 0; });
    if (zeros && !program_.only_padding({at, to})) return false;
    at += instruction.length;
  }
  return at == to || to - from >= kLong;
}

void CodeScan::gather(AddressRange range) {
  if (all_code_) return add(range, Stretch::Kind::code);
  const auto kind_at = [&](std::uint64_t address) {
    const std::uint8_t mark = address - start_ < marks_.size() ? marks_[address - start_] : std::uint8_t(kUnknown);
    return mark == kText ? Stretch::Kind::string : mark == kData ? Stretch::Kind::bytes : Stretch::Kind::code;
  };
  while (range.from < range.to) {
    const Stretch::Kind kind = kind_at(range.from);
    std::uint64_t to = range.from + 1;
    while (to < range.to && kind_at(to) == kind) ++to;
    add({range.from, to}, kind);
    range.from = to;
  }
}

}  // namespace deeptrace::program
