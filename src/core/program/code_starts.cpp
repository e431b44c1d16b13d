#include "program/code_starts.h"

#include <algorithm>

#include "isa/operand.h"
#include "isa/walk.h"

namespace deeptrace::program {
namespace {

Bytes code_of(const Program& program, const Function& function) {
  const Bytes code = program.elf().bytes_at(function.address);
  return code.first(std::min<std::size_t>(code.size(), function.size));
}

using isa::kRbp;
using isa::kRsp;
using isa::Operand;

bool sets_frame_pointer(const isa::Instruction& instruction) {
  const isa::Operands operands = isa::operands_of(instruction);
  return isa::operation_of(instruction).meaning == isa::meaning::copy && operands.shown == 2 &&
         is_register(operands[0], kRbp) && is_register(operands[1], kRsp);
}

/// An instruction that only sets up a frame: a push of a kept register, rbp set to rsp, room taken on the stack.
bool sets_up_frame(const isa::Instruction& instruction, const arch::Machine& machine) {
  if (does_nothing(instruction) || sets_frame_pointer(instruction)) return true;
  const isa::Operands operands = isa::operands_of(instruction);
  if (operands.shown == 0) return false;
  const Operand& first = operands[0];
  if (isa::operation_of(instruction).meaning == isa::meaning::push)
    return first.kind == Operand::Kind::reg && first.reg.file == isa::RegisterFile::general &&
           machine.keeps(first.reg.index);
  return isa::operation_of(instruction).meaning == isa::meaning::sub && operands.shown == 2 &&
         is_register(first, kRsp) && operands[1].kind == Operand::Kind::immediate;
}

/// Bytes of instructions at the start that only set up a frame.
std::uint64_t frame_setup(const Program& program, Bytes code, bool hand_written) {
  const arch::Machine& machine = arch::machine_of(program.mode());
  std::uint64_t at = 0;
  bool pushed = false, frame_pointer = false;
  while (at < code.size()) {
    const isa::Instruction instruction = isa::decode(code.subspan(at), program.mode());
    if (!instruction || !sets_up_frame(instruction, machine)) break;
    const isa::Operands operands = isa::operands_of(instruction);
    const bool pushes = isa::operation_of(instruction).meaning == isa::meaning::push;
    if (hand_written && !pushed && !does_nothing(instruction) && !(pushes && is_register(operands[0], kRbp))) break;
    if (hand_written && pushed && !frame_pointer && !sets_frame_pointer(instruction)) break;
    pushed |= pushes;
    frame_pointer |= sets_frame_pointer(instruction);
    at += instruction.length;
  }
  return hand_written && !frame_pointer ? 0 : at;
}

bool stays(const isa::Instruction& instruction) { return isa::flow_of(instruction) == isa::ControlFlow::next; }

/// A call by which 32-bit code learns where it lies (i386 psABI, "Position-Independent Function Prologue").
bool finds_itself(const Program& program, const isa::Instruction& instruction, std::uint64_t address) {
  std::uint64_t target = 0;
  if (isa::flow_of(instruction) != isa::ControlFlow::call || !isa::direct_target(instruction, address, target))
    return false;
  const Function* called = program.function_at(target);
  return called != nullptr && called->symbol().starts_with("__x86.get_pc_thunk");
}

/// Unoptimised code stores its parameters before the first statement; optimised code mixes statements in, so that its
/// second row says nothing.
bool is_straight_to(const Program& program, const Function& function, std::uint64_t second) {
  const Bytes code = code_of(program, function);
  std::uint64_t at = 0;
  bool frame_pointer = false;
  while (at < code.size() && function.address + at < second) {
    const isa::Instruction instruction = isa::decode(code.subspan(at), program.mode());
    if (!instruction || !(stays(instruction) || finds_itself(program, instruction, function.address + at)))
      return false;
    const isa::Operands operands = isa::operands_of(instruction);
    frame_pointer |= operands.shown == 2 && is_register(operands[0], kRbp);
    at += instruction.length;
  }
  return function.address + at == second && frame_pointer;
}

}  // namespace

bool is_assembly(const Program& program, std::uint64_t address) {
  constexpr std::uint16_t kAssembler = 0x8001;
  const auto units = program.debug().units_at(address);
  return std::ranges::any_of(units, [](const debuginfo::Unit* unit) { return unit->language == kAssembler; });
}

Prologue prologue_of(const Program& program, const Function& function) {
  const AddressRange range = function.range();
  const bool described = program.lines().covers(function.address);
  const bool hand_written = described ? is_assembly(program, function.address) : !function.typed;
  std::uint64_t marked = 0, second = 0;
  if (described && !hand_written) {
    for (const debuginfo::LineRow& row : program.lines().rows_in(range)) {
      if (row.ends) continue;
      if (row.prologue_end && (marked == 0 || row.address < marked)) marked = row.address;
      if (row.address > range.from && row.statement && (second == 0 || row.address < second)) second = row.address;
    }
  }
  using By = Prologue::By;
  if (marked != 0) return {marked, marked == range.from ? By::none : By::debug_information};
  if (second != 0 && is_straight_to(program, function, second)) return {second, By::debug_information};
  const std::uint64_t set_up = frame_setup(program, code_of(program, function), hand_written);
  if (second != 0 && range.from + set_up > second) return {second, By::debug_information};
  return {range.from + set_up, set_up != 0 ? By::code : By::none};
}

Prologue prologue_after(const Program& program, std::uint64_t label) {
  const Function* function = program.function_at(label);
  if (function == nullptr) return {label, Prologue::By::none};
  if (function->address == label) return prologue_of(program, *function);
  const Bytes code = code_of(program, *function);
  const std::uint64_t set_up =
      frame_setup(program, code.subspan(std::min<std::uint64_t>(label - function->address, code.size())), true);
  return {label + set_up, set_up != 0 ? Prologue::By::code : Prologue::By::none};
}

std::uint64_t prologue_end_of(const Program& program, const Function& function) {
  const std::uint64_t end = prologue_of(program, function).end;
  std::uint64_t head = ~std::uint64_t(0), before = function.address;
  const Bytes code = code_of(program, function);
  for (const isa::Placed& one : isa::instructions_of(code, program.mode())) {
    std::uint64_t target = 0;
    const std::uint64_t at = function.address + one.at;
    const isa::ControlFlow flow = isa::flow_of(one.instruction);
    const bool jumps = flow == isa::ControlFlow::jump || flow == isa::ControlFlow::conditional;
    if (at < end || !jumps || !isa::direct_target(one.instruction, at, target)) continue;
    if (target > function.address && target <= end) head = std::min(head, target);
  }
  if (head > end) return end;
  for (const isa::Placed& one : isa::instructions_of(code, program.mode())) {
    if (function.address + one.next() > head) break;
    before = function.address + one.at;
  }
  return before;
}

Boundaries boundaries_around(const Program& program, std::uint64_t address) {
  const Function* function = program.function_at(address);
  if (function == nullptr || address == function->address) return {address, address};
  // A label of hand-written code may stand after data.
  const auto nearest = program.nearest_name(address);
  const std::uint64_t from = nearest ? nearest->address : function->address;
  if (address == from) return {address, address};
  const Bytes code = code_of(program, *function).subspan(from - function->address);
  for (const isa::Placed& one : isa::instructions_of(code, program.mode())) {
    const std::uint64_t at = from + one.at, next = from + one.next();
    if (next <= address) continue;
    // Where data stands among code the line table knows better.
    if (at == address || program.lines().starts_row(address)) return {address, address};
    return {at, next};
  }
  return {};
}

}  // namespace deeptrace::program
