#include "look/value_doubts.h"

#include <algorithm>
#include <array>
#include <filesystem>
#include <system_error>
#include <utility>
#include <vector>

#include "arch/dwarf_registers.h"
#include "arch/register_roles.h"
#include "debuginfo/constants.h"
#include "isa/effects.h"
#include "isa/operand.h"
#include "isa/table.h"
#include "look/code_ways.h"

namespace deeptrace::look {

using debuginfo::LocalVariable;

namespace {

/// The register that an expression says all of a variable lies in.
std::optional<arch::RegisterPart> register_in(Bytes expression, arch::Mode mode) {
  const auto number = debuginfo::register_alone(expression);
  return number ? arch::dwarf_register(*number, mode) : std::nullopt;
}

Error unknown(std::string why) { return {Fault::usage, std::move(why)}; }

Error left_out(std::uint32_t line, std::string_view what = "it") {
  return unknown("the compiler does not say what line " + std::to_string(line) + " did to " + std::string(what));
}

/// clang leaves bits of a number away that nothing reads, also from the value that it describes: a number that is not
/// in the text then has bits of one that is.
bool has_some_bits(std::span<const std::uint64_t> operands, std::span<const std::uint64_t> numbers) {
  return std::ranges::any_of(operands, [&](std::uint64_t operand) {
    const auto has_it = [&](std::uint64_t number) { return operand != 0 && (operand & ~number) == 0; };
    return std::ranges::find(numbers, operand) == numbers.end() && std::ranges::any_of(numbers, has_it);
  });
}

bool is(std::uint8_t byte, debuginfo::Op op) { return byte == static_cast<std::uint8_t>(op); }

/// True for a number in an expression that has nothing else in it (DWARF 5, 2.5.1.1 and 2.6.1.1.4).
bool is_constant(Bytes expression) {
  using debuginfo::Op;
  if (expression.size() < 2 || !is(expression.back(), Op::stack_value)) return false;
  const auto first = static_cast<Op>(expression[0]);
  if (first >= Op::literal0 && first <= Op::literal31) return expression.size() == 2;
  constexpr std::array<std::pair<Op, std::size_t>, 8> kFixed{{{Op::const1u, 1},
                                                              {Op::const1s, 1},
                                                              {Op::const2u, 2},
                                                              {Op::const2s, 2},
                                                              {Op::const4u, 4},
                                                              {Op::const4s, 4},
                                                              {Op::const8u, 8},
                                                              {Op::const8s, 8}}};
  const auto fixed = std::ranges::find(kFixed, first, &std::pair<Op, std::size_t>::first);
  if (fixed != kFixed.end()) return expression.size() == fixed->second + 2;
  if (first != Op::constu && first != Op::consts) return false;
  const auto ends = std::ranges::find_if(expression.subspan(1), [](std::uint8_t byte) { return byte < 0x80; });
  return ends - expression.begin() + 2 == static_cast<std::ptrdiff_t>(expression.size());
}

constexpr std::string_view kSeveralLines = "the compiler put calls of several lines together";

/// C, where a function that is given a variable by its name gets a copy (DW_LANG_ codes; DWARF 5, table 7.17).
bool is_of_c(const debuginfo::Unit& unit) {
  constexpr std::array<std::uint16_t, 5> kC{0x01, 0x02, 0x0c, 0x1d, 0x2c};
  return std::ranges::find(kC, unit.language) != kC.end();
}

/// True for a source that was written after the program: its statements may be others than those that were built.
bool is_later(const std::string& source, const std::string& program) {
  std::error_code no_source, no_program;
  const auto written = std::filesystem::last_write_time(source, no_source);
  const auto built = std::filesystem::last_write_time(program, no_program);
  return !no_source && !no_program && written > built;
}

}  // namespace

/// clang gives calls that it put together line 0, and what it says of variables there is true for one of them at most.
bool ValueDoubts::is_call_of_several_lines() const {
  const debuginfo::LineTable& table = module_.program->lines();
  if (!called_ || !table.covers(address_)) return false;
  const auto line = table.at(address_);
  return !line || line->line == 0;
}

/// The line whose statement began before this place and changes a variable after it. Compilers move what is left of a
/// statement past calls, and say of the places in between that the variable has its old value there: it is gone where
/// the statement's last instruction is, at the end of `part`, in rows that begin no statement.
std::optional<std::uint32_t> ValueDoubts::line_moved_past(AddressRange part) const {
  const debuginfo::LineTable& table = module_.program->lines();
  const auto here = table.at(address_);
  const auto last = table.at(part.to - 1);
  if (!here || !last || last->line == 0 || last->file != here->file || last->line >= here->line) return std::nullopt;
  const auto begins = [&](const debuginfo::LineRow& row) {
    return row.statement && row.file == last->file && row.line == last->line;
  };
  if (std::ranges::any_of(table.rows_in({address_ + 1, part.to}), begins)) return std::nullopt;
  return last->line;
}

std::optional<ValueDoubts::LinesAt> ValueDoubts::lines_at(const debuginfo::LocalScope& scope,
                                                          std::uint64_t address) const {
  const debuginfo::LineTable& table = module_.program->lines();
  ModuleDebug& debug = Modules::debug(module_);
  const auto inlined = debug.scopes.inlined_at(address);
  const std::size_t depth = depth_of(scope);
  if (inlined.size() > depth) {
    const debuginfo::InlinedCall& call = *inlined[depth];
    const debuginfo::DescribedFunction& whole = *debug.scopes.function_at(address);
    const auto line = table.line_of(*whole.unit, call.call_file, call.call_line);
    if (!line) return std::nullopt;
    // Statements without instructions before the call begin where it does; they are the function's own.
    const std::uint32_t start = depth == 0 ? whole.declared.line : inlined[depth - 1]->declared.line;
    const auto rows = table.rows_at(address);
    const auto before = std::ranges::find_if(rows, [&](const debuginfo::LineRow& row) {
      return row.statement && row.file == line->file && row.line >= start && row.line < line->line;
    });
    return LinesAt{line->file, before != rows.end() ? before->line : line->line, line->line, line->line};
  }
  const auto own = table.at(address);
  if (!own) return std::nullopt;
  LinesAt lines{own->file, own->line, own->line, own->line};
  // Where an inlined call begins, statements of the calling function may stand, too.
  const bool begins = depth != 0 && std::ranges::find(scope.ranges, address, &AddressRange::from) != scope.ranges.end();
  bool any = false;
  for (const debuginfo::LineRow& row : table.rows_at(address)) {
    if (!row.statement || row.file != own->file || row.line == 0 || (begins && row.line > own->line)) continue;
    if (!std::exchange(any, true)) lines.first = row.line;
    lines.last = row.line;
  }
  return lines;
}

/// True when some part of the locations is a register that is narrower than the variable: clang spills such a register,
/// and says then that all of the variable lies in that memory.
bool ValueDoubts::is_cut_to_register(const Value& value) const {
  return std::ranges::any_of(value.parts, [&](const debuginfo::LocationPart& part) {
    const auto reg = register_in(part.expression, module_.program->mode());
    return reg && reg->width < value.size * 8;
  });
}

/// Where the value began that a variable has in this part: parts before it say that another register held it, from
/// which it was copied.
std::uint64_t ValueDoubts::value_since(const Value& value) const {
  const arch::Mode mode = module_.program->mode();
  const debuginfo::LocationPart* first = &value.part;
  const auto comes_from = [&](const debuginfo::LocationPart& before) {
    if (before.range.to != first->range.from || before.range.from >= first->range.from) return false;
    const auto from = register_in(before.expression, mode);
    const auto to = register_in(first->expression, mode);
    return from && to && is_copied(*module_.program, before.range, *from, *to);
  };
  while (!first->always) {
    const auto before = std::ranges::find_if(value.parts, comes_from);
    if (before == value.parts.end()) break;
    first = &*before;
  }
  return first->range.from;
}

/// True when an instruction of these lines of the scope's function, in a range, writes what a value is made of.
/// Compilers move what is left of a statement to later lines, so a write of the register counts on any of them, if
/// control may have come from there; a write of memory may be any other's there, and counts on the first line alone.
bool ValueDoubts::lines_write(Lines lines, const debuginfo::LocalScope& scope, AddressRange range,
                              const Origin& origin) const {
  const program::Program& program = *module_.program;
  const auto rows = program.lines().rows_in(range);
  const std::vector<debuginfo::LineRow> held(rows.begin(), rows.end());
  const auto writes = [&](const isa::Instruction& one, bool first_line) {
    const isa::Effects effects = isa::effects_of(one);
    return (origin.memory && first_line && effects.writes_memory) || writes_any(effects, origin.registers);
  };
  const std::uint64_t last = range_around(function(), address_).to;
  const auto may_come_before = [&](std::uint64_t at) {
    return at <= address_ || at >= last || comes_back(program, at, address_, last);
  };
  for (std::size_t i = 0; i < held.size(); ++i) {
    const auto in = lines_at(scope, held[i].address);
    if (!in || in->own < lines.from || in->own >= lines.to) continue;
    const std::uint64_t end = i + 1 < held.size() ? held[i + 1].address : range.to;
    for (std::uint64_t at = held[i].address; at < end;) {
      const isa::Instruction one = isa::decode(program.elf().bytes_at(at), program.mode());
      if (!one) break;
      if (writes(one, in->own == lines.from) && may_come_before(at)) return true;
      at += one.length;
    }
  }
  return false;
}

/// A statement of the source that may have changed the variable since its value here began, and that debug information
/// leaves out. gcc leaves out those of loops that it removes, and others only where it gives the value at the
/// function's entry (about_entry_value) or the argument on the stack.
std::optional<std::uint32_t> ValueDoubts::line_left_out(const Value& value, const Origin& origin) const {
  const LocalVariable& variable = value.variable;
  const debuginfo::LocationPart& part = value.part;
  const debuginfo::LocalScope* scope = debuginfo::scope_of(variable, scopes_);
  const auto place = scope != nullptr ? lines_at(*scope, address_) : std::nullopt;
  if (!place) return std::nullopt;
  const std::uint32_t here = called_ ? place->own : place->last;
  const std::uint64_t since = value_since(value);
  const bool in_scope = std::ranges::any_of(scope->ranges, [&](const AddressRange& one) { return one.holds(since); });
  const auto begin = part.always || !in_scope ? std::nullopt : lines_at(*scope, since);
  const std::uint32_t from = begin && begin->file == place->file ? begin->first : 0;
  const bool is_pointer = plain_type(variable).kind == debuginfo::Type::Kind::pointer;
  const bool entered = !part.expression.empty() && (is(part.expression[0], debuginfo::Op::entry_value) ||
                                                    is(part.expression[0], debuginfo::Op::gnu_entry_value));
  const bool removed_alone = variable.entry.unit->is_of_gcc() && !part.always && !entered;
  // What a loop changes that was removed is seen nowhere, so in a loop around both it counts wherever the part begins.
  const std::uint32_t after = removed_alone ? 0 : from;
  const program::Assignments& text = modules_.assignments(module_, place->file);
  const auto changes_since = [&](std::uint32_t line) {
    return text.between(variable.name, {variable.declared.line, line, here});
  };
  const auto later = changes_since(from);
  for (const auto& one : changes_since(after)) {
    if (one.element && is_pointer) continue;
    const bool code = has_code({place->file, one.line}, *scope);
    // gcc does not see what the pass before did where that left no code, or where it goes on from a number.
    const bool pass_before =
        one.line >= here && std::ranges::find(later, one) != later.end() && (!code || is_constant(part.expression));
    if (removed_alone && !pass_before && (one.line <= from || !one.in_loop_before || code)) continue;
    if (part.always || !lines_write({one.line, std::max(one.line + 1, here)}, *scope, {since, part.range.to}, origin))
      return one.line;
  }
  // Nor what was done to it by its address.
  if (!origin.memory && text.takes_address(variable.name, variable.declared.line, here)) {
    for (const auto& one : text.through_pointers({variable.declared.line, from, here})) {
      if (!lines_write({one.line, std::max(one.line + 1, here)}, *scope, {since, part.range.to}, origin))
        return one.line;
    }
  }
  // Lines that control has come by since the register was written.
  const std::uint64_t held = part.always || variable.entry.unit->is_of_gcc() ? since : held_since(value);
  const auto there = held < since ? lines_at(*scope, held) : std::nullopt;
  if (!there || there->file != place->file) return std::nullopt;
  for (const auto& one : changes_since(there->last)) {
    if (one.certain && !one.element) return one.line;
  }
  return std::nullopt;
}

/// Where the value began that a variable has in this part, which says a register: after the only instruction that can
/// have written it, or, if that copies another register that the variable lay in, where that began. Where the part
/// begins if this cannot be told.
std::uint64_t ValueDoubts::held_since(const Value& value) const {
  const arch::Mode mode = module_.program->mode();
  std::uint64_t since = value.part.range.from;
  auto held = register_in(value.part.expression, mode);
  while (held && arch::role_of(*held).kept_by_callee) {
    const auto writer = only_writer(*module_.program, function(), *held, since);
    if (!writer) return since;
    const isa::Instruction one = isa::decode(module_.program->elf().bytes_at(*writer), mode);
    const auto lies_in = [&](std::uint64_t at, arch::RegisterPart reg) {
      return std::ranges::find_if(value.parts, [&](const debuginfo::LocationPart& part) {
        const auto said = register_in(part.expression, mode);
        return part.range.holds(at) && said && said->file == reg.file && said->index == reg.index;
      });
    };
    if (const auto part = lies_in(*writer + one.length, *held); part != value.parts.end())
      return std::min(since, part->range.from);
    const isa::Operands operands = isa::operands_of(one);
    const bool copies = isa::operation_of(one).meaning == isa::meaning::copy && operands.shown == 2 &&
                        operands[1].kind == isa::Operand::Kind::reg;
    const auto part = copies ? lies_in(*writer, operands[1].reg) : value.parts.end();
    if (part == value.parts.end() || part->range.from >= since) return since;
    since = part->range.from;
    held = operands[1].reg;
  }
  return since;
}

/// Of a loop that they unroll completely, compilers may describe a counter's values at one place, in another order than
/// theirs, or leave one out: the number changes inside a pass, or stays the same from one pass to the next.
bool ValueDoubts::is_of_other_pass(const Value& value) const {
  const LocalVariable& variable = value.variable;
  const debuginfo::LocalScope* scope = debuginfo::scope_of(variable, scopes_);
  if (scope == nullptr || value.part.always || !is_constant(value.part.expression)) return false;
  const auto here = lines_at(*scope, address_);
  const program::Assignments* text = here ? &modules_.assignments(module_, here->file) : nullptr;
  const auto loop =
      text != nullptr ? text->counting_loop(variable.name, variable.declared.line, here->own) : std::nullopt;
  if (!loop) return false;
  const std::uint64_t since = value.part.range.from;
  const auto line_in_loop = [&](std::uint64_t at) -> std::uint32_t {
    const auto lines = lines_at(*scope, at);
    return lines && lines->file == here->file && loop->holds(lines->own) ? lines->own : 0;
  };
  const auto ends_here = [&](const debuginfo::LocationPart& one) {
    return one.range.to == since && is_constant(one.expression);
  };
  std::uint32_t last = line_in_loop(since);
  if (std::ranges::any_of(value.parts, ends_here) && line_in_loop(since - 1) != 0 && line_in_loop(since - 1) < last)
    return true;
  const auto rows = module_.program->lines().rows_in({since, address_ + 1});
  for (const debuginfo::LineRow& row : std::vector<debuginfo::LineRow>(rows.begin(), rows.end())) {
    const std::uint32_t line = line_in_loop(row.address);
    if (line != 0 && line < last) return true;
    last = std::max(last, line);
  }
  return false;
}

/// The line before this one whose statement changes the variable, where an instruction of it that control comes to next
/// writes what the value is made of: it has not changed it yet.
std::optional<std::uint32_t> ValueDoubts::line_done_later(const Value& value, const Origin& origin) const {
  const debuginfo::LocalScope* scope = debuginfo::scope_of(value.variable, scopes_);
  const auto place = scope != nullptr ? lines_at(*scope, address_) : std::nullopt;
  if (!place || value.part.always || !called_) return std::nullopt;
  const program::Program& program = *module_.program;
  const auto changes =
      modules_.assignments(module_, place->file)
          .between(value.variable.name, {value.variable.declared.line, value.variable.declared.line, place->own});
  const auto changes_it = [&](std::uint32_t line) {
    return std::ranges::any_of(changes, [&](const auto& one) { return one.line == line; });
  };
  for (std::uint64_t at = address_ + 1; at < value.part.range.to;) {
    const isa::Instruction one = isa::decode(program.elf().bytes_at(at), program.mode());
    const isa::ControlFlow flow = isa::flow_of(one);
    if (!one || flow == isa::ControlFlow::jump || flow == isa::ControlFlow::return_) return std::nullopt;
    const auto line = program.lines().at(at);
    const bool writes = line && line->file == place->file && line->line < place->own &&
                        writes_any(isa::effects_of(one), origin.registers);
    const auto is_late = [&] {
      return !program.lines().starts_statement(at) ||
             (!value.variable.entry.unit->is_of_gcc() && goes_on_above(at + one.length, line->line));
    };
    if (writes && changes_it(line->line) && is_late()) return line->line;
    at += one.length;
  }
  return std::nullopt;
}

/// True when a loop goes on at a line above this one, its head, before it jumps back to before the place that is looked
/// at: what stands in front belongs to the pass that ends there.
bool ValueDoubts::goes_on_above(std::uint64_t from, std::uint32_t line) const {
  const program::Program& program = *module_.program;
  const std::uint64_t end = range_around(function(), from).to;
  bool above = false;
  while (from < end) {
    const isa::Instruction one = isa::decode(program.elf().bytes_at(from), program.mode());
    const isa::ControlFlow flow = isa::flow_of(one);
    const auto here = program.lines().at(from);
    above = above || (here && here->line != 0 && here->line < line);
    if (!one || flow == isa::ControlFlow::return_) return false;
    const auto target = target_of_jump(one, from);
    if (target || flow == isa::ControlFlow::jump) return above && target && *target <= address_;
    from += one.length;
  }
  return false;
}

/// True when control has left the variable's inlined call since the part began: this is a later call.
bool ValueDoubts::is_of_call_before(const Value& value) const {
  const debuginfo::LocalScope* scope = debuginfo::scope_of(value.variable, scopes_);
  if (scope == nullptr || value.part.always || value.variable.entry.unit->is_of_gcc() || depth_of(*scope) == 0)
    return false;
  const std::uint64_t since = value.part.range.from;
  const auto is_outside = [&](const debuginfo::LineRow& row) {
    return row.statement &&
           std::ranges::none_of(scope->ranges, [&](const AddressRange& one) { return one.holds(row.address); });
  };
  return since < address_ && std::ranges::any_of(module_.program->lines().rows_in({since, address_}), is_outside);
}

/// The instructions around the place of a loop of the source: from where its last jump leads back to, to that jump.
/// Empty where no jump does.
AddressRange ValueDoubts::passes_of(program::Assignments::Lines loop, const debuginfo::LocalScope& scope) const {
  const program::Program& program = *module_.program;
  const std::uint64_t end = range_around(function(), address_).to;
  for (std::uint64_t at = address_ + (called_ ? 1 : 0); at < end;) {
    const isa::Instruction one = isa::decode(program.elf().bytes_at(at), program.mode());
    if (!one) break;
    const auto target = target_of_jump(one, at);
    const auto lines = target && *target <= address_ ? lines_at(scope, at) : std::nullopt;
    if (lines && (lines->own == loop.from || lines->own == loop.to)) return {*target, at};
    at += one.length;
  }
  return {};
}

/// A line that each pass of a loop around the place comes by, and that changes the variable, of which debug information
/// says one value for all passes: a number for what the loop's head counts, or a register that no instruction of the
/// loop writes.
std::optional<std::uint32_t> ValueDoubts::line_of_passes(const Value& value) const {
  const LocalVariable& variable = value.variable;
  const debuginfo::LocalScope* scope = debuginfo::scope_of(variable, scopes_);
  const auto here = scope != nullptr && !value.part.always ? lines_at(*scope, address_) : std::nullopt;
  if (!here) return std::nullopt;
  const program::Program& program = *module_.program;
  const bool constant = is_constant(value.part.expression);
  const auto reg = register_in(value.part.expression, program.mode());
  if (!constant && (!reg || !arch::role_of(*reg).kept_by_callee)) return std::nullopt;
  const program::Assignments& text = modules_.assignments(module_, here->file);
  for (const auto& pass : text.changed_in_passes(variable.name, variable.declared.line, here->own)) {
    const AddressRange code = passes_of(pass.loop, *scope);
    if (code.size() == 0) continue;
    if (constant && pass.line == pass.loop.from && value.part.range.holds(code.from)) return pass.line;
    if (reg && loop_leaves(program, function(), code, *reg)) return pass.line;
  }
  return std::nullopt;
}

/// The line that gives the variable its value here by a call, where the value that debug information says is older than
/// this call.
std::optional<std::uint32_t> ValueDoubts::line_under_way(const Value& value, const Origin& origin) const {
  const LocalVariable& variable = value.variable;
  const std::uint64_t since = value.part.range.from;
  const debuginfo::LocalScope* scope = debuginfo::scope_of(variable, scopes_);
  if (scope == nullptr || value.part.always || is_constant(value.part.expression)) return std::nullopt;
  const auto here = lines_at(*scope, address_), begin = lines_at(*scope, since);
  if (!here || !begin || begin->file != here->file || begin->own == 0 || begin->own >= here->own) return std::nullopt;
  const std::uint32_t line = begin->own;
  const auto changes =
      modules_.assignments(module_, here->file).between(variable.name, {variable.declared.line, line - 1, here->own});
  const auto is_later = [&](const auto& one) { return line < one.line && one.line < here->own; };
  const auto gives_it = [&](const auto& one) { return one.line == line && one.certain && !one.element; };
  const bool declares = !variable.parameter && variable.declared.line == line;
  if (std::ranges::any_of(changes, is_later) || (!declares && std::ranges::none_of(changes, gives_it)))
    return std::nullopt;
  const program::Program& program = *module_.program;
  bool older = false;
  for (std::uint64_t at = since; at < address_;) {
    const isa::Instruction one = isa::decode(program.elf().bytes_at(at), program.mode());
    const isa::ControlFlow flow = isa::flow_of(one);
    if (!one || flow == isa::ControlFlow::jump || flow == isa::ControlFlow::return_) return std::nullopt;
    const isa::Effects effects = isa::effects_of(one);
    if (flow == isa::ControlFlow::call) {
      const auto lines = lines_at(*scope, at);
      older = older || (lines && lines->own == line);
    } else if (writes_any(effects, origin.registers) || (origin.memory && effects.writes_memory)) {
      older = false;
    }
    at += one.length;
  }
  return older ? std::optional(line) : std::nullopt;
}

/// True when a jump leads into the part, up to this place, from where the variable has another constant than here.
bool ValueDoubts::is_another_from_jump(const Value& value) const {
  if (value.part.always || !is_constant(value.part.expression)) return false;
  const program::Program& program = *module_.program;
  for (const debuginfo::LocationPart& other : value.parts) {
    if (!is_constant(other.expression) || std::ranges::equal(other.expression, value.part.expression)) continue;
    for (std::uint64_t at = other.range.from; at < other.range.to;) {
      const isa::Instruction one = isa::decode(program.elf().bytes_at(at), program.mode());
      if (!one) break;
      const auto target = target_of_jump(one, at);
      if (target && value.part.range.from < *target && *target <= address_) return true;
      at += one.length;
    }
  }
  return false;
}

/// The line from which statements without instructions may stand at an address: of the instruction before it, or of the
/// function where that is another one's.
std::optional<std::uint32_t> ValueDoubts::first_line_before(const debuginfo::LocalScope& scope,
                                                            std::uint64_t since) const {
  ModuleDebug& debug = Modules::debug(module_);
  const std::size_t depth = depth_of(scope);
  const auto inlined = debug.scopes.inlined_at(since), outside = debug.scopes.inlined_at(since - 1);
  if (depth != 0 && inlined.size() >= depth && (outside.size() < depth || outside[depth - 1] != inlined[depth - 1]))
    return inlined[depth - 1]->declared.line;
  const auto before = lines_at(scope, since - 1), begin = lines_at(scope, since);
  return before && begin && before->file == begin->file ? std::optional(before->own) : std::nullopt;
}

/// Of several statements that leave no instruction, clang may describe what the variable is after each at one place,
/// the last one first.
std::optional<Error> ValueDoubts::about_order(const Value& value) const {
  const LocalVariable& variable = value.variable;
  const std::uint64_t since = value.part.range.from;
  const debuginfo::LocalScope* scope = debuginfo::scope_of(variable, scopes_);
  if (variable.entry.unit->is_of_gcc() || value.part.always || scope == nullptr || since == 0) return std::nullopt;
  const auto before = first_line_before(*scope, since);
  const auto begin = lines_at(*scope, since);
  if (!before || !begin) return std::nullopt;
  const std::uint32_t declared = variable.declared.line;
  const program::Assignments& text = modules_.assignments(module_, begin->file);
  const bool pointers = text.takes_address(variable.name, declared, begin->own);
  const auto two = text.two_in(variable.name, declared, *before, begin->own, pointers);
  if (!two) return std::nullopt;
  return unknown("the compiler does not say in which order lines " + std::to_string(two->earlier) + " and " +
                 std::to_string(two->later) + " changed it");
}

/// Of a value that is nowhere, but is computed from others.
std::optional<Error> ValueDoubts::about_made(const Value& value, const debuginfo::Evaluated& evaluated) const {
  const LocalVariable& variable = value.variable;
  const debuginfo::LocalScope* scope = debuginfo::scope_of(variable, scopes_);
  const bool made = evaluated.pieces.size() == 1 && evaluated.pieces[0].kind == debuginfo::Piece::Kind::value;
  if (scope == nullptr || !made || plain_type(variable).kind != debuginfo::Type::Kind::base) return std::nullopt;
  const auto here = lines_at(*scope, address_);
  if (!here) return std::nullopt;
  const program::Assignments& text = modules_.assignments(module_, here->file);
  const auto words = text.words_for(variable.name, variable.declared.line, here->own);
  if (!variable.entry.unit->is_of_gcc()) {
    // The variables that it is made of are part of the expression, too.
    std::vector<std::uint64_t> numbers = words.numbers;
    for (const std::string_view name : words.names) {
      const LocalVariable* other = variable_named(name);
      if (other == nullptr) continue;
      const auto more = text.words_for(name, other->declared.line, here->own);
      numbers.insert(numbers.end(), more.numbers.begin(), more.numbers.end());
    }
    if (const auto call = variable.parameter ? call_of(*scope) : std::nullopt; call && call->file == here->file) {
      const auto passed = text.numbers_on(call->line);
      numbers.insert(numbers.end(), passed.begin(), passed.end());
    }
    if (has_some_bits(evaluated.operands, numbers)) return unknown("the compiler computes a part of it only");
  }
  for (const std::string_view name : words.names) {
    const LocalVariable* other = variable_named(name);
    if (other == nullptr || other == &variable) continue;
    if (!variable.entry.unit->is_of_gcc() && is_lost(*other, value.part))
      return unknown("the compiler does not say what became of " + std::string(name));
    if (const auto line =
            variable.entry.unit->is_of_gcc() ? removed_loop_over(*other, {here->file, here->own}) : std::nullopt)
      return left_out(*line, name);
  }
  return std::nullopt;
}

/// The line of the inlined call whose scope it is; nothing for that of a function.
std::optional<debuginfo::SourceLine> ValueDoubts::call_of(const debuginfo::LocalScope& scope) const {
  ModuleDebug& debug = Modules::debug(module_);
  const auto inlined = debug.scopes.inlined_at(address_);
  const std::size_t depth = depth_of(scope);
  if (depth == 0 || depth > inlined.size()) return std::nullopt;
  const debuginfo::InlinedCall& call = *inlined[depth - 1];
  return module_.program->lines().line_of(*debug.scopes.function_at(address_)->unit, call.call_file, call.call_line);
}

/// How many inlined calls a scope lies in.
std::size_t ValueDoubts::depth_of(const debuginfo::LocalScope& scope) const {
  return static_cast<std::size_t>(
      std::count_if(std::ranges::find(scopes_, &scope), scopes_.end(),
                    [](const debuginfo::LocalScope* one) { return !one->inlined.empty(); }));
}

/// clang knows the variable at some places, and not where this part begins.
bool ValueDoubts::is_lost(const LocalVariable& variable, const debuginfo::LocationPart& part) const {
  const debuginfo::DebugInfo& info = module_.program->debug();
  const auto entry = info.read(variable.entry);
  if (!entry || part.always) return false;
  const auto parts = info.locations(*entry, debuginfo::At::location);
  return !parts.empty() && std::ranges::none_of(parts, [&](const debuginfo::LocationPart& one) {
    return one.always || one.range.holds(part.range.from);
  });
}

/// gcc goes on from what a variable was before a loop that it removed: a line in it that changes the variable.
std::optional<std::uint32_t> ValueDoubts::removed_loop_over(const LocalVariable& variable,
                                                            const debuginfo::SourceLine& here) const {
  const debuginfo::LocalScope* scope = debuginfo::scope_of(variable, scopes_);
  if (scope == nullptr) return std::nullopt;
  const program::Assignments::Stretch stretch{variable.declared.line, variable.declared.line, here.line};
  for (const auto& one : modules_.assignments(module_, here.file).between(variable.name, stretch)) {
    if (one.in_loop_before && !has_code({here.file, one.line}, *scope)) return one.line;
  }
  return std::nullopt;
}

/// The innermost variable of a name.
const LocalVariable* ValueDoubts::variable_named(std::string_view name) const {
  for (const debuginfo::LocalScope* scope : scopes_) {
    const auto found = std::ranges::find(scope->variables, name, &LocalVariable::name);
    if (found != scope->variables.end()) return &*found;
  }
  return nullptr;
}

/// True when instructions of a scope belong to a line.
bool ValueDoubts::has_code(const debuginfo::SourceLine& line, const debuginfo::LocalScope& scope) const {
  const auto is_it = [&](const debuginfo::LineRow& row) { return row.line == line.line && row.file == line.file; };
  return std::ranges::any_of(scope.ranges, [&](const AddressRange& range) {
    return std::ranges::any_of(module_.program->lines().rows_in(range), is_it);
  });
}

/// gcc gives a parameter's value at the entry also after statements that changed the parameter, and in a loop around
/// such a statement.
std::optional<Error> ValueDoubts::about_entry_value(Bytes location, const debuginfo::LocationPart& part) const {
  const debuginfo::DescribedFunction* around = function();
  if (around == nullptr || !around->optimised || around->ranges.empty() || scopes_.empty() || part.always)
    return std::nullopt;
  const debuginfo::DebugInfo& info = module_.program->debug();
  const debuginfo::LocalScope& outermost = *scopes_.back();
  const auto lies_there = [&](const debuginfo::LocationPart& first) {
    return (first.always || first.range.holds(around->ranges[0].from)) &&
           std::ranges::equal(first.expression, location);
  };
  const auto is_it = [&](const LocalVariable& one) {
    const auto entry = info.read(one.entry);
    return one.parameter && entry && std::ranges::any_of(info.locations(*entry, debuginfo::At::location), lies_there);
  };
  const auto found = std::ranges::find_if(outermost.variables, is_it);
  const auto from = lines_at(outermost, part.range.from);
  if (found == outermost.variables.end() || !from) return std::nullopt;
  const auto changes =
      modules_.assignments(module_, from->file).between(found->name, {found->declared.line, 0, from->own});
  return changes.empty() ? std::nullopt : std::optional(left_out(changes[0].line));
}

std::optional<Error> ValueDoubts::about_part(const debuginfo::LocationPart& part) const {
  if (part.always) return std::nullopt;
  if (is_call_of_several_lines()) return unknown(std::string(kSeveralLines));
  const auto line = line_moved_past(part.range);
  if (!line) return std::nullopt;
  return unknown("the compiler moved what line " + std::to_string(*line) + " does to it past this place");
}

/// True for a parameter of optimised code whose address nobody else knows: what is not read again of it need not be
/// written there. Only numbers and pointers: of an object functions may know the address without a `&`.
bool ValueDoubts::is_argument_alone(const LocalVariable& variable) const {
  const debuginfo::DescribedFunction* around = function();
  if (!variable.parameter || around == nullptr || !around->optimised) return false;
  using Kind = debuginfo::Type::Kind;
  const Kind kind = plain_type(variable).kind;
  if (kind != Kind::base && kind != Kind::pointer && kind != Kind::enumeration) return false;
  const debuginfo::LocalScope* scope = debuginfo::scope_of(variable, scopes_);
  const auto here = scope != nullptr ? lines_at(*scope, address_) : std::nullopt;
  return here &&
         !modules_.assignments(module_, here->file).takes_address(variable.name, variable.declared.line, here->last);
}

std::optional<Error> ValueDoubts::about_argument(const LocalVariable& variable) const {
  return is_argument_alone(variable) ? about_constant(variable) : std::nullopt;
}

std::optional<Error> ValueDoubts::about_value(const Value& value, const debuginfo::Evaluated& evaluated,
                                              std::vector<arch::RegisterPart> asked) const {
  using Kind = debuginfo::Piece::Kind;
  const auto in_memory = [](const debuginfo::Piece& piece) { return piece.kind == Kind::memory; };
  const bool has_a_place = std::ranges::all_of(evaluated.pieces, in_memory);
  if (has_a_place && value.part.always) return about_argument(value.variable);
  if (is_call_of_several_lines()) return unknown(std::string(kSeveralLines));
  Origin origin{std::move(asked), std::ranges::any_of(evaluated.pieces, in_memory)};
  if (has_a_place) origin.registers.clear();
  for (const debuginfo::Piece& piece : evaluated.pieces) {
    const auto part =
        piece.kind == Kind::reg ? arch::dwarf_register(piece.number, module_.program->mode()) : std::nullopt;
    if (part) origin.registers.push_back(*part);
  }
  if (const auto line = line_left_out(value, origin)) return left_out(*line);
  if (const auto line = line_done_later(value, origin))
    return unknown("the compiler moved what line " + std::to_string(*line) + " does to it past this place");
  if (const auto line = line_of_passes(value)) return left_out(*line);
  if (const auto line = line_under_way(value, origin))
    return unknown("the compiler's value for it is older than the call on line " + std::to_string(*line));
  if (is_of_call_before(value)) return unknown("the compiler describes its value in an earlier call");
  if (is_of_other_pass(value)) return unknown("the compiler describes its value in another pass of the loop");
  if (is_another_from_jump(value)) return unknown("the compiler describes different values on the ways to this place");
  if (auto doubt = about_order(value)) return doubt;
  if (auto doubt = about_made(value, evaluated)) return doubt;
  // What clang does not know any more it may take for 0, and computes on with that.
  const bool from_zero = value.part.expression.size() > 2 && is(value.part.expression[0], debuginfo::Op::literal0);
  if (!value.variable.entry.unit->is_of_gcc() && from_zero && origin.registers.empty())
    return unknown("the compiler computes a part of it only");
  if (has_a_place && evaluated.pieces.size() == 1 && is_cut_to_register(value))
    return unknown("the compiler keeps a part of it only");
  return std::nullopt;
}

std::optional<Error> ValueDoubts::about_constant(const LocalVariable& variable) const {
  if (is_call_of_several_lines()) return unknown(std::string(kSeveralLines));
  const debuginfo::LocationPart whole{.range = {}, .always = true, .expression = {}};
  const auto line = line_left_out({variable, {}, whole}, {});
  return line ? std::optional(left_out(*line)) : std::nullopt;
}

std::optional<program::Assignments::Way> ValueDoubts::statements_for(const LocalVariable& variable) const {
  const debuginfo::LocalScope* scope = debuginfo::scope_of(variable, scopes_);
  const auto place = scope != nullptr ? lines_at(*scope, address_) : std::nullopt;
  if (!place || function() == nullptr || !function()->optimised || !is_of_c(*variable.entry.unit)) return std::nullopt;
  if (is_later(module_.program->lines().file(place->file), module_.path)) return std::nullopt;
  const program::Assignments& text = modules_.assignments(module_, place->file);
  return text.way_to(variable.name, variable.declared.line, variable.parameter, place->all());
}

std::optional<ValueDoubts::Argument> ValueDoubts::argument_of(const LocalVariable& parameter) const {
  const debuginfo::LocalScope* scope = debuginfo::scope_of(parameter, scopes_);
  if (scope == nullptr || function() == nullptr) return std::nullopt;
  const auto offset = [](const LocalVariable& one) { return (one.origin ? one.origin : one.entry).offset; };
  const auto comes_before = [&](const LocalVariable& one) { return one.parameter && offset(one) < offset(parameter); };
  const auto number = static_cast<std::size_t>(std::ranges::count_if(scope->variables, comes_before));
  if (!scope->inlined.empty()) return Argument{scope->inlined, number, true};
  const debuginfo::DebugInfo& info = module_.program->debug();
  const auto entry = info.read({function()->unit, function()->entry});
  return entry ? std::optional(Argument{info.name_of(*entry), number, false}) : std::nullopt;
}

ValueDoubts::Passed ValueDoubts::passed_for(const LocalVariable& parameter) const {
  const debuginfo::LocalScope* scope = debuginfo::scope_of(parameter, scopes_);
  const auto call = scope != nullptr ? call_of(*scope) : std::nullopt;
  const auto argument = call ? argument_of(parameter) : std::nullopt;
  if (!argument || !argument->inlined) return {};
  const auto passed = modules_.assignments(module_, call->file).passed_on(call->line, argument->function);
  const auto around = std::ranges::find(scopes_, scope) + 1;
  if (around == scopes_.end() || argument->number >= passed.size()) return {};
  return {passed[argument->number], call->line, *around};
}

ValueDoubts::Passed ValueDoubts::passed_here(const Argument& argument) const {
  if (scopes_.empty() || function() == nullptr || !is_of_c(*function()->unit) || is_call_of_several_lines()) return {};
  const auto inlined = std::ranges::find_if(scopes_, [](const auto* one) { return !one->inlined.empty(); });
  const debuginfo::LocalScope& scope = inlined != scopes_.end() ? **inlined : *scopes_.back();
  const auto place = lines_at(scope, address_);
  if (!place || is_later(module_.program->lines().file(place->file), module_.path)) return {};
  const auto passed = modules_.assignments(module_, place->file).passed_on(place->own, argument.function);
  return argument.number < passed.size() ? Passed{passed[argument.number], place->own, &scope} : Passed{};
}

bool ValueDoubts::is_kept_since(std::uint32_t line, std::string_view name, const debuginfo::LocalScope& scope) const {
  const LocalVariable* used = variable_named(name, scope);
  const auto place = lines_at(scope, address_);
  if (used == nullptr || !place) return false;
  const debuginfo::Type& type = plain_type(*used);
  const bool number = type.kind == debuginfo::Type::Kind::enumeration || type.kind == debuginfo::Type::Kind::base;
  return number && modules_.assignments(module_, place->file).is_kept(name, used->declared.line, line, place->all());
}

/// The innermost variable of a name in the same function as a scope.
const LocalVariable* ValueDoubts::variable_named(std::string_view name, const debuginfo::LocalScope& scope) const {
  const std::size_t depth = depth_of(scope);
  for (const debuginfo::LocalScope* one : scopes_) {
    const auto found = std::ranges::find(one->variables, name, &LocalVariable::name);
    if (found != one->variables.end() && depth_of(*one) == depth) return &*found;
  }
  return nullptr;
}

const debuginfo::DescribedFunction* ValueDoubts::function() const {
  return Modules::debug(module_).scopes.function_at(address_);
}

const debuginfo::Type& ValueDoubts::plain_type(const LocalVariable& variable) const {
  debuginfo::Types& types = Modules::debug(module_).types;
  const auto typed = module_.program->debug().read(variable.type);
  return types[typed ? types.plain(types.of(*typed)) : debuginfo::TypeId{}];
}

}  // namespace deeptrace::look
