#include "program/line_entries.h"

#include <algorithm>
#include <optional>
#include <set>
#include <string_view>
#include <unordered_map>
#include <utility>

#include "isa/operand.h"
#include "program/flow_blocks.h"

namespace deeptrace::program {
namespace {

using debuginfo::LineRow;
using debuginfo::SourceLine;

/// The entries of all lines in the code of one function.
class Finder {
 public:
  Finder(const Program& program, CodeScan& scan, const debuginfo::DescribedFunction* described,
         std::span<const AddressRange> ranges)
      : program_(program), ranges_(ranges), flow_(program, scan, ranges) {
    read_rows();
    read_scopes(described);
  }

  LineEntries::OfFunction run() {
    if (flow_.code().empty()) return {};
    generic_events();
    find(false);
    if (has_copies_) add_copies_in_a_row();
    if (has_marks()) {
      std::vector<Entry> generic = std::exchange(entries_, {});
      mark_events();
      find(true);
      // Lines without a mark in their scope have instructions only.
      std::vector<bool> marked(positions_.size());
      for (const Event& event : events_) {
        for (std::uint32_t target = event.position; target != 0; target = around(target)) {
          if (target >= marked.size()) marked.resize(positions_.size());
          marked[target] = true;
        }
      }
      std::erase_if(generic, [&](const Entry& entry) { return entry.target < marked.size() && marked[entry.target]; });
      for (Entry& entry : generic) entry.statement = false;
      entries_.insert(entries_.end(), generic.begin(), generic.end());
    }
    return sorted();
  }

 private:
  static constexpr std::uint32_t kNone = ~std::uint32_t(0);

  /// The function itself (number 0) or an inlined call in it.
  struct Scope {
    std::uint32_t parent = kNone;
    unsigned depth = 0;
    SourceLine call;          ///< where it is called; line 0: unknown
    SourceLine declared;      ///< where the function is; line 0: unknown
    std::uint64_t entry = 0;  ///< of the call in the debug information
  };
  /// A line in a scope, or with line 0 all of an inlined call.
  struct Position {
    std::uint32_t scope = 0;
    SourceLine line;
    std::uint32_t around = kNone;  ///< see around(); kNone: not looked for yet
  };
  struct Entry {
    std::uint32_t instruction = 0, target = 0, event = 0;
    bool statement = true;
  };
  /// From this instruction on control is at a position.
  struct Event {
    std::uint32_t instruction = 0;
    std::uint32_t position = 0;
  };
  /// A piece of a line's code inside a block, or its beginning in a block.
  struct Run {
    std::uint32_t block = 0, instruction = 0, event = 0;
    bool from_outside = false, from_inside = false;
    std::uint32_t pass = 0;  ///< what belongs to one pass over the line has one number
    bool enters = false;
  };
  using Keys = std::vector<std::uint64_t>;

  // ---- what is there ----------------------------------------------------------------------------------------------

  void read_rows() {
    for (const AddressRange& range : ranges_) {
      // The row that the range begins in may lie before it.
      const auto rows = program_.lines().rows_in(range);
      rows_.insert(rows_.end(), rows.begin(), rows.end());
    }
    row_of_.assign(flow_.code().size(), nullptr);
    std::size_t next = 0;
    for (std::size_t i = 0; i < flow_.code().size(); ++i) {
      while (next < rows_.size() && rows_[next].address <= flow_.code()[i].address) ++next;
      if (next > 0 && !rows_[next - 1].ends) row_of_[i] = &rows_[next - 1];
    }
  }

  [[nodiscard]] SourceLine line_of(const debuginfo::Unit* unit, std::optional<std::uint64_t> file,
                                   std::uint32_t line) const {
    return unit != nullptr ? program_.lines().line_of(*unit, file, line).value_or(SourceLine{}) : SourceLine{};
  }

  void read_scopes(const debuginfo::DescribedFunction* described) {
    scopes_.resize(1);
    scope_of_.assign(flow_.code().size(), 0);
    if (described == nullptr) return;
    has_copies_ = described->optimised;
    const auto declared = [this](const debuginfo::Declaration& d) { return line_of(d.unit, d.file, d.line); };
    scopes_[0].declared = declared(described->declared);
    std::vector<std::uint32_t> open = {0};
    for (const debuginfo::InlinedCall& call : described->inlined) {
      open.resize(std::min<std::size_t>(open.size(), call.depth));
      const auto number = static_cast<std::uint32_t>(scopes_.size());
      scopes_.push_back({open.back(), call.depth, line_of(described->unit, call.call_file, call.call_line),
                         declared(call.declared), call.entry});
      open.push_back(number);
      for (const AddressRange& range : call.ranges) {
        const std::uint32_t end = flow_.number_at(range.to);
        for (std::uint32_t i = flow_.number_at(range.from); i < end; ++i) scope_of_[i] = number;
      }
    }
  }

  std::uint32_t position(std::uint32_t scope, SourceLine line) {
    const std::uint64_t key = std::uint64_t(line.file) << 32 | line.line;
    const auto [place, added] = numbers_.try_emplace({scope, key}, static_cast<std::uint32_t>(positions_.size()));
    if (added) positions_.push_back({scope, line});
    return place->second;
  }

  /// What lies around a position: its scope as a whole (line 0), then the line that calls that, and so on; 0 at the
  /// end.
  std::uint32_t around(std::uint32_t number) {
    if (positions_[number].around == kNone) {
      const std::uint32_t scope = positions_[number].scope;
      const std::uint32_t parent = scopes_[scope].parent;
      const bool line = positions_[number].line.line != 0;
      const std::uint32_t outer = parent == kNone ? 0
                                  : line          ? position(scope, {})
                                                  : position(parent, scopes_[scope].call);
      positions_[number].around = outer;
    }
    return positions_[number].around;
  }

  /// True when control at `number` is in the code of `target`.
  bool is_in(std::uint32_t number, std::uint32_t target) {
    while (number != 0 && number != kMany && number != target) number = around(number);
    return number == target;
  }

  // ---- events -----------------------------------------------------------------------------------------------------

  /// gcc's marks of statements are rows of their own kind: instructions of other lines follow as no statements. Where
  /// only lines begin statements, rows that are none go on with their line.
  [[nodiscard]] bool has_marks() const {
    std::uint32_t line = 0;
    for (const LineRow& row : rows_) {
      if (row.ends || row.line == 0) continue;
      if (!row.statement && line != 0 && row.line != line) return true;
      line = row.line;
    }
    return false;
  }

  void generic_events() {
    events_.clear();
    std::uint32_t last = 0, block = kNone;
    for (std::uint32_t i = 0; i < flow_.code().size(); ++i) {
      if (std::exchange(block, flow_.block_of(i)) != flow_.block_of(i)) last = 0;
      const LineRow* row = row_of_[i];
      if (row == nullptr || row->line == 0) continue;
      const std::uint32_t scope = scope_for(*row, i);
      if (scope == kNone) continue;
      const std::uint32_t here = position(scope, {row->file, row->line});
      if (here != last) events_.push_back({i, here});
      last = here;
    }
    add_lines_without_code();
  }

  /// Lines whose rows all have others after them at the same address: control passes there.
  void add_lines_without_code() {
    std::set<SourceLine, decltype([](const SourceLine& a, const SourceLine& b) {
               return std::pair(a.file, a.line) < std::pair(b.file, b.line);
             })>
        with_code;
    for (const LineRow* row : row_of_) {
      if (row != nullptr) with_code.insert({row->file, row->line});
    }
    std::vector<Event> added;
    for (std::size_t i = 0; i + 1 < rows_.size(); ++i) {
      const LineRow& row = rows_[i];
      if (row.ends || row.line == 0 || !row.statement || rows_[i + 1].address != row.address) continue;
      if (with_code.contains({row.file, row.line})) continue;
      const std::uint32_t number = flow_.number_at(row.address);
      if (number == flow_.code().size()) continue;
      const std::uint32_t scope = scope_for(row, number);
      if (scope != kNone) added.push_back({number, position(scope, {row.file, row.line})});
    }
    events_.insert(events_.end(), added.begin(), added.end());
    std::ranges::stable_sort(events_, {}, &Event::instruction);
    // They come before what has the instruction.
    for (std::size_t i = 0; i + 1 < events_.size(); ++i) {
      const auto is_code = [&](const Event& event) { return with_code.contains(positions_[event.position].line); };
      if (events_[i].instruction == events_[i + 1].instruction && is_code(events_[i]) && !is_code(events_[i + 1]))
        std::swap(events_[i], events_[i + 1]);
    }
  }

  void mark_events() {
    events_.clear();
    for (std::size_t i = 0; i < rows_.size(); ++i) {
      const LineRow& row = rows_[i];
      if (row.ends || row.line == 0 || !row.statement) continue;
      const std::uint32_t number = flow_.number_at(row.address);
      if (number == flow_.code().size()) continue;
      const std::uint32_t scope = scope_for(row, number);
      if (scope != kNone) events_.push_back({number, position(scope, {row.file, row.line})});
    }
  }

  /// True unless the scope's function is declared after the line: then the row is not that function's.
  [[nodiscard]] bool fits(std::uint32_t scope, const LineRow& row) const {
    const SourceLine& declared = scopes_[scope].declared;
    return declared.line == 0 || declared.file != row.file || declared.line <= row.line;
  }

  /// The scope of a row at an instruction: of those around it the one that fits best. Some instructions of inlined
  /// calls lie outside the ranges that debug information gives these, and some of others inside: what fits lies near
  /// then. kNone where nothing does.
  [[nodiscard]] std::uint32_t scope_for(const LineRow& row, std::uint32_t number) const {
    constexpr std::uint32_t kNear = 8;
    if (const std::uint32_t scope = nearest_declared(row, number); scope != kNone) return scope;
    if (fits(scope_of_[number], row)) return scope_of_[number];
    for (std::uint32_t distance = 1; distance <= kNear; ++distance) {
      for (const std::uint32_t near : {number + distance, number - distance}) {
        if (near >= scope_of_.size()) continue;
        if (const std::uint32_t scope = nearest_declared(row, near); scope != kNone) return scope;
      }
    }
    return kNone;
  }

  /// Of the scopes around an instruction the one whose function is declared nearest before the row's line.
  [[nodiscard]] std::uint32_t nearest_declared(const LineRow& row, std::uint32_t number) const {
    std::uint32_t best = kNone;
    for (std::uint32_t scope = scope_of_[number]; scope != kNone; scope = scopes_[scope].parent) {
      const SourceLine& declared = scopes_[scope].declared;
      if (declared.line == 0 || declared.file != row.file || declared.line > row.line) continue;
      if (best == kNone || declared.line > scopes_[best].declared.line) best = scope;
    }
    return best;
  }

  // ---- where control comes from -----------------------------------------------------------------------------------

  /// Where control may be at the end of each block: positions; 0 stands for outside, kMany for too many.
  void follow() {
    const auto count = static_cast<std::uint32_t>(flow_.blocks().size());
    ends_.assign(count, {});
    first_event_.assign(count + 1, 0);
    for (std::uint32_t b = 0, e = 0; b < count; ++b) {
      first_event_[b] = e;
      while (e < events_.size() && events_[e].instruction < flow_.blocks()[b].end) ++e;
      first_event_[b + 1] = e;
    }
    std::vector<std::uint32_t> open;
    for (std::uint32_t b = count; b-- > 0;) {
      if (first_event_[b] != first_event_[b + 1]) {
        ends_[b] = {events_[first_event_[b + 1] - 1].position};
      } else {
        open.push_back(b);
      }
    }
    while (!open.empty()) {
      const std::uint32_t block = open.back();
      open.pop_back();
      std::vector<std::uint32_t> now = before(block);
      if (now == ends_[block]) continue;
      ends_[block] = std::move(now);
      for (const std::uint32_t to : flow_.blocks()[block].to) {
        if (first_event_[to] == first_event_[to + 1]) open.push_back(to);
      }
    }
  }

  /// Where control may be when it comes to a block.
  [[nodiscard]] std::vector<std::uint32_t> before(std::uint32_t block) const {
    constexpr std::size_t kMost = 16;
    std::vector<std::uint32_t> result;
    if (flow_.is_root(block)) result.push_back(0);
    for (const std::uint32_t from : flow_.blocks()[block].from)
      result.insert(result.end(), ends_[from].begin(), ends_[from].end());
    std::ranges::sort(result);
    result.erase(std::unique(result.begin(), result.end()), result.end());
    if (result.size() > kMost) result = {kMany};
    return result;
  }

  // ---- entries ----------------------------------------------------------------------------------------------------

  void find(bool marks) {
    follow();
    runs_.clear();
    std::vector<std::uint32_t> come_to;
    for (std::uint32_t b = 0; b < flow_.blocks().size(); ++b) {
      std::vector<std::uint32_t> from = before(b);
      for (std::uint32_t e = first_event_[b]; e < first_event_[b + 1]; ++e) {
        for (std::uint32_t target = events_[e].position; target != 0; target = around(target)) {
          Run run{b, events_[e].instruction, e};
          for (const std::uint32_t one : from) (is_in(one, target) ? run.from_inside : run.from_outside) = true;
          if (from.empty()) run.from_outside = true;
          if (!run.from_outside && e != first_event_[b]) continue;
          if (target >= runs_.size()) runs_.resize(std::max<std::size_t>(positions_.size(), target + 1));
          if (runs_[target].empty()) come_to.push_back(target);
          runs_[target].push_back(run);
        }
        from = {events_[e].position};
      }
    }
    std::vector<bool> own(positions_.size());
    for (const Event& event : events_) own[event.position] = true;
    std::ranges::sort(come_to);
    for (const std::uint32_t target : come_to) {
      std::vector<Run>& runs = runs_[target];
      // A line that is marked itself is not entered in the midst of what it calls; an inlined call is entered at the
      // mark of its function's declaration, where it has one.
      const std::uint32_t mark = positions_[target].line.line != 0 ? target : declaration_of(target);
      const bool marked = marks && mark < own.size() && own[mark];
      for (Run& run : runs) run.enters = run.from_outside && (!marked || events_[run.event].position == mark);
      if (!marks && runs.size() > 1) leave_out_continuations(target, runs);
      if (!has_copies_) {
        enter_at_conditions(runs);
        leave_out_jumps(runs);
        enter_at_turns(target, runs);
      }
      for (Run& run : runs) run.enters = run.enters && !leads_into_another(target, runs, run);
      for (const Run& run : runs) {
        if (!run.enters) continue;
        entries_.push_back({run.instruction, target, run.event});
      }
    }
  }

  void leave_out_continuations(std::uint32_t target, std::vector<Run>& runs) {
    constexpr std::size_t kLookBack = 16;
    std::ranges::sort(runs, [this](const Run& a, const Run& b) {
      return a.block != b.block ? flow_.order_of(a.block) < flow_.order_of(b.block) : a.instruction < b.instruction;
    });
    std::vector<Keys> passes, own;
    for (std::size_t i = 0; i < runs.size(); ++i) {
      Run& run = runs[i];
      const Keys keys = keys_of(target, run);
      const Run* earlier = nullptr;
      for (std::size_t k = i; earlier == nullptr && k-- > 0 && i - k <= kLookBack;) {
        if (!runs[k].from_outside) continue;  // the rest of a piece
        if (run.from_outside ? goes_on_with(runs[k], run) : flow_.dominates(runs[k].block, run.block))
          earlier = &runs[k];
      }
      if (earlier == nullptr && run.from_outside) earlier = after_all_of(runs, i);
      own.push_back(keys);
      const bool goes_on =
          earlier != nullptr && !(has_copies_ && run.from_outside && repeats(passes[earlier->pass], keys));
      if (goes_on) run.enters = false;
      // What is begun again here was a beginning before: the second part of a loop's line after its first part.
      for (std::size_t k = i; earlier != nullptr && !goes_on && k-- > 0 && i - k <= kLookBack;) {
        const bool same_pass = runs[k].from_outside && runs[k].pass == earlier->pass;
        if (same_pass && !keys.empty() && !own[k].empty() && own[k].front() == keys.front()) runs[k].enters = true;
      }
      run.pass = goes_on ? earlier->pass : static_cast<std::uint32_t>(passes.size());
      if (!goes_on) passes.emplace_back();
      passes[run.pass].insert(passes[run.pass].end(), keys.begin(), keys.end());
    }
  }

  /// Unoptimised code has a statement's pieces in order: one that is reached after an earlier piece only goes on with
  /// it, whatever conditions lie between (`a ||` on one line, `b && c` on the next), but for the step of a loop, which
  /// leads back to that piece.
  [[nodiscard]] bool goes_on_with(const Run& earlier, const Run& run) const {
    if (flow_.follows_on(earlier.block, run.block)) return true;
    return !has_copies_ && !earlier.from_inside && flow_.only_after(earlier.block, run.block);
  }

  /// Of unoptimised code: the last of several earlier pieces without one of which control does not come to run `number`
  /// (what follows both arms of a condition that is spread over lines); null where it may.
  [[nodiscard]] const Run* after_all_of(const std::vector<Run>& runs, std::size_t number) const {
    constexpr std::size_t kLookBack = 16;
    if (has_copies_) return nullptr;
    std::vector<std::uint32_t> before;
    const Run* last = nullptr;
    for (std::size_t k = number; k-- > 0 && number - k <= kLookBack;) {
      const bool counts = runs[k].from_outside && !runs[k].from_inside && runs[k].block != runs[number].block &&
                          flow_.in_loops_of(runs[k].block, runs[number].block);
      if (!counts) continue;
      before.push_back(runs[k].block);
      if (last == nullptr) last = &runs[k];
    }
    return before.size() > 1 && !flow_.reached_without(before, runs[number].block) ? last : nullptr;
  }

  /// A loop whose condition stands after its body begins with a jump there. The condition is what is come to again and
  /// again, also where nothing of another line lies between (an empty body): it is entered in place of the jump.
  void enter_at_conditions(std::vector<Run>& runs) const {
    for (std::size_t i = 0; i < runs.size(); ++i) {
      if (!runs[i].enters || !is_jump_alone(runs[i])) continue;
      const std::uint32_t to = flow_.blocks()[runs[i].block].to.front();
      for (Run& run : runs) run.enters |= run.block == to && run.event == first_event_[to] && run.from_inside;
    }
  }

  /// clang gives the jump after the last statement of a branch or loop that statement's line.
  void leave_out_jumps(std::vector<Run>& runs) const {
    const bool does_more = std::ranges::any_of(runs, [this](const Run& run) { return !is_jump_alone(run); });
    for (Run& run : runs) run.enters = run.enters && !(does_more && is_jump_alone(run));
  }

  [[nodiscard]] bool is_jump_alone(const Run& run) const {
    const FlowBlocks::Block& block = flow_.blocks()[run.block];
    return run.instruction + 1 == block.end && block.to.size() == 1 &&
           isa::flow_of(flow_.code()[run.instruction].instruction) == isa::ControlFlow::jump;
  }

  /// A loop that is all on one line is come to once a turn: where a jump leads back from inside, unless something in
  /// the loop is an entry already.
  void enter_at_turns(std::uint32_t target, std::vector<Run>& runs) {
    for (Run& run : runs) {
      if (run.enters || !run.from_inside || run.event != first_event_[run.block]) continue;
      const std::vector<std::uint32_t>& from = flow_.blocks()[run.block].from;
      const bool again = std::ranges::any_of(from, [&](std::uint32_t block) {
        const bool back = flow_.order_of(block) >= flow_.order_of(run.block);
        return back && std::ranges::any_of(ends_[block], [&](std::uint32_t end) { return is_in(end, target); });
      });
      const bool has_entry = std::ranges::any_of(
          runs, [&](const Run& one) { return one.enters && flow_.in_loops_of(one.block, run.block); });
      run.enters = again && !has_entry;
    }
  }

  /// It begins as the pass began, or at least half of it has been done in this pass.
  static bool repeats(const Keys& earlier, const Keys& keys) {
    if (!earlier.empty() && !keys.empty() && earlier.front() == keys.front()) return true;
    const auto again = std::ranges::count_if(
        keys, [&](std::uint64_t key) { return std::ranges::find(earlier, key) != earlier.end(); });
    return again != 0 && static_cast<std::size_t>(again) * 2 >= keys.size();
  }

  /// Copies that nothing lies between: where an instruction of a piece changes the same fixed memory as one at the
  /// piece's beginning did, from the same place of the source, the line begins again.
  void add_copies_in_a_row() {
    for (std::size_t e = 0; e < events_.size(); ++e) {
      const std::uint32_t number = events_[e].instruction;
      const std::uint32_t end =
          e + 1 < events_.size() ? events_[e + 1].instruction : static_cast<std::uint32_t>(flow_.code().size());
      const auto first = key_of(number);
      const std::uint64_t memory = first ? changed_memory(number) : 0;
      for (std::uint32_t i = number + 1; memory != 0 && i < end && flow_.block_of(i) == flow_.block_of(number); ++i) {
        if (changed_memory(i) != memory || key_of(i) != first) continue;
        entries_.push_back({i, events_[e].position, static_cast<std::uint32_t>(e)});
      }
    }
  }

  /// The fixed address that an instruction reads and writes; 0: none.
  [[nodiscard]] std::uint64_t changed_memory(std::uint32_t number) const {
    const FlowBlocks::Code& at = flow_.code()[number];
    std::uint64_t address = 0;
    if (!isa::fixed_memory_address(at.instruction, at.address, address)) return 0;
    const isa::Operands operands = isa::operands_of(at.instruction);
    const bool changes = std::ranges::any_of(operands, [](const isa::Operand& operand) {
      return operand.kind == isa::Operand::Kind::memory && operand.access == isa::Access::read_write;
    });
    return changes ? address : 0;
  }

  /// What a piece does, as numbers that come again where a copy does the same.
  Keys keys_of(std::uint32_t target, const Run& run) {
    Keys result;
    const std::uint32_t end = flow_.blocks()[run.block].end;
    std::uint32_t event = static_cast<std::uint32_t>(
        std::ranges::upper_bound(events_, run.instruction, {}, &Event::instruction) - events_.begin());
    for (std::uint32_t i = run.instruction; i < end; ++i) {
      for (; event < events_.size() && events_[event].instruction == i; ++event) {
        if (!is_in(events_[event].position, target)) return result;
      }
      if (const auto key = key_of(i)) result.push_back(*key);
    }
    return result;
  }

  /// Moves between registers and of vectors, which set things up, say nothing. Slots of the stack are variables, each
  /// another, and constants are what the source has.
  [[nodiscard]] std::optional<std::uint64_t> key_of(std::uint32_t number) const {
    const isa::Instruction& instruction = flow_.code()[number].instruction;
    const isa::ControlFlow flow = isa::flow_of(instruction);
    if (flow == isa::ControlFlow::jump || isa::does_nothing(instruction)) return std::nullopt;
    std::uint64_t number_in_it = 0;
    if (flow == isa::ControlFlow::next) {
      bool memory = false, vector = false;
      for (const isa::Operand& operand : isa::operands_of(instruction)) {
        if (operand.stack_slot) return std::nullopt;
        memory |= operand.kind == isa::Operand::Kind::memory && operand.width != 0;
        const bool on_stack = operand.recipe.has_base(isa::kRsp) || operand.recipe.has_base(isa::kRbp);
        const bool slot_of_stack = operand.kind == isa::Operand::Kind::memory && on_stack;
        if (slot_of_stack || operand.kind == isa::Operand::Kind::immediate)
          number_in_it = number_in_it * 31 + static_cast<std::uint64_t>(operand.value);
        vector |= operand.kind == isa::Operand::Kind::reg && operand.width > 64;
      }
      const std::string_view name = isa::mnemonic_of(isa::row_of(instruction));
      if (name == "lea" || vector || (name.starts_with("mov") && !memory)) return std::nullopt;
    }
    const LineRow* row = row_of_[number];
    const std::uint64_t column = row != nullptr ? row->column : 0;
    const std::uint64_t line = row != nullptr ? row->line : 0;
    return (line << 32 | column << 16 | instruction.row) ^ number_in_it * 0x9e3779b97f4a7c15;
  }

  /// True when whatever `run` leads to is another entry of the line, before control leaves the line.
  bool leads_into_another(std::uint32_t target, const std::vector<Run>& runs, const Run& run) {
    constexpr std::size_t kMost = 16;
    if (std::ranges::none_of(runs, [](const Run& one) { return one.enters && one.from_inside; })) return false;
    std::vector<std::uint32_t> open = {run.block}, seen;
    while (!open.empty()) {
      const std::uint32_t block = open.back();
      open.pop_back();
      if (std::ranges::find(seen, block) != seen.end()) continue;
      if (seen.size() == kMost) return false;
      seen.push_back(block);
      for (std::uint32_t e = first_event_[block]; e < first_event_[block + 1]; ++e) {
        const bool later = block != run.block || e >= run.event;
        if (later && !is_in(events_[e].position, target)) return false;
      }
      if (flow_.blocks()[block].to.empty()) return false;
      for (const std::uint32_t to : flow_.blocks()[block].to) {
        const auto entry = std::ranges::find_if(runs, [&](const Run& one) {
          return one.block == to && one.event == first_event_[to] && one.enters && one.from_inside;
        });
        if (entry != runs.end() && &*entry == &run) return false;
        if (entry == runs.end()) open.push_back(to);
      }
    }
    return true;
  }

  /// The position of the declaration of an inlined call's function, or 0.
  std::uint32_t declaration_of(std::uint32_t target) {
    const std::uint32_t scope = positions_[target].scope;
    return scopes_[scope].declared.line != 0 ? position(scope, scopes_[scope].declared) : 0;
  }

  /// Of several entries of a line at one address the innermost stays.
  static void add(std::vector<LineEntry>& lines, const LineEntry& entry) {
    for (std::size_t i = lines.size(); i-- > 0 && lines[i].address == entry.address;) {
      if (lines[i].line != entry.line) continue;
      if (lines[i].depth < entry.depth) lines[i] = entry;
      return;
    }
    lines.push_back(entry);
  }

  LineEntries::OfFunction sorted() {
    LineEntries::OfFunction result;
    std::ranges::stable_sort(entries_, {}, [](const Entry& one) { return std::pair(one.instruction, one.event); });
    for (const Entry& entry : entries_) {
      const std::uint64_t address = flow_.code()[entry.instruction].address;
      const Position& position = positions_[entry.target];
      const Scope& scope = scopes_[position.scope];
      if (position.line.line != 0) {
        add(result.lines, {address, position.line, scope.depth, entry.statement});
      } else if (position.scope != 0) {
        result.inlined.push_back({address, scope.depth, scope.entry, scope.declared});
      }
    }
    std::ranges::sort(result.inlined, {}, [](const InlinedEntry& one) { return std::pair(one.address, one.depth); });
    result.inlined.erase(std::unique(result.inlined.begin(), result.inlined.end()), result.inlined.end());
    return result;
  }

  static constexpr std::uint32_t kMany = kNone - 1;

  const Program& program_;
  std::span<const AddressRange> ranges_;
  FlowBlocks flow_;
  std::vector<LineRow> rows_;
  std::vector<const LineRow*> row_of_;  ///< of each instruction; null: none
  std::vector<Scope> scopes_;
  std::vector<std::uint32_t> scope_of_;                         ///< of each instruction: the innermost
  std::vector<Position> positions_ = std::vector<Position>(1);  ///< number 0 stands for outside
  struct HashOfPlace {
    std::size_t operator()(const std::pair<std::uint32_t, std::uint64_t>& place) const {
      return (place.second * 0x9e3779b97f4a7c15 ^ place.first) * 0x9e3779b97f4a7c15 >> 7;
    }
  };
  std::unordered_map<std::pair<std::uint32_t, std::uint64_t>, std::uint32_t, HashOfPlace> numbers_;
  std::vector<Event> events_;               ///< by instruction
  std::vector<std::uint32_t> first_event_;  ///< of each block
  std::vector<std::vector<std::uint32_t>> ends_;
  std::vector<std::vector<Run>> runs_;  ///< of each line in its scope
  std::vector<Entry> entries_;
  bool has_copies_ = true;  ///< the compiler may have copied code
};

}  // namespace

const LineEntries::OfFunction& LineEntries::function_around(std::uint64_t address) {
  static const OfFunction kNone;
  const debuginfo::DescribedFunction* described = scopes_.function_at(address);
  std::vector<AddressRange> ranges;
  if (described != nullptr) {
    ranges = described->ranges;
    std::erase_if(ranges, [](const AddressRange& range) { return range.size() == 0; });
    std::ranges::sort(ranges, {}, &AddressRange::from);
  } else if (const Function* function = program_.function_at(address)) {
    ranges = {function->range()};
  }
  if (ranges.empty()) return kNone;
  const auto [place, added] = functions_.try_emplace(ranges.front().from);
  if (added) place->second = Finder(program_, scan_, described, ranges).run();
  return place->second;
}

std::vector<LineEntry> LineEntries::of(std::span<const std::uint32_t> files, std::uint32_t line) {
  std::vector<std::uint64_t> addresses;
  program_.lines().each_run([&](std::span<const LineRow> rows) {
    for (const LineRow& row : rows) {
      if (!row.ends && row.line == line && std::ranges::find(files, row.file) != files.end())
        addresses.push_back(row.address);
    }
  });
  std::ranges::sort(addresses);
  std::vector<LineEntry> result;
  const LineEntry* last = nullptr;  // the function that was looked at last
  for (const std::uint64_t address : addresses) {
    const auto entries = around(address);
    if (entries.empty() || std::exchange(last, entries.data()) == entries.data()) continue;
    for (const LineEntry& entry : entries) {
      if (entry.line.line == line && std::ranges::find(files, entry.line.file) != files.end()) result.push_back(entry);
    }
  }
  const auto key = [](const LineEntry& entry) { return std::pair(entry.address, ~entry.depth); };
  std::ranges::sort(result, {}, key);
  result.erase(std::unique(result.begin(), result.end(),
                           [](const LineEntry& a, const LineEntry& b) { return a.address == b.address; }),
               result.end());
  return result;
}

const LineEntry* LineEntries::at(std::uint64_t address, unsigned depth) {
  const LineEntry* result = nullptr;
  const auto all = around(address);
  for (auto entry = std::ranges::lower_bound(all, address, {}, &LineEntry::address);
       entry != all.end() && entry->address == address; ++entry) {
    if (entry->statement && entry->depth <= depth && (result == nullptr || entry->depth >= result->depth))
      result = &*entry;
  }
  return result;
}

}  // namespace deeptrace::program
