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

/// An instruction that only sets up a frame: a push of a register, rbp set to rsp, room taken on the stack.
bool sets_up_frame(const isa::Instruction& instruction) {
  using namespace isa;
  const Meaning meaning = operation_of(row_of(instruction)).meaning;
  if (does_nothing(instruction)) return true;
  const Operands operands = operands_of(instruction);
  if (operands.shown == 0) return false;
  const Operand& first = operands[0];
  const bool first_register = first.kind == Operand::Kind::reg && first.reg.file == RegisterFile::general;
  if (meaning == meaning::push) return first_register;
  if (!first_register || operands.shown < 2) return false;
  const Operand& second = operands[1];
  if (meaning == meaning::copy)
    return first.reg.index == kRbp && second.kind == Operand::Kind::reg && second.reg.index == kRsp;
  return meaning == meaning::sub && first.reg.index == kRsp && second.kind == Operand::Kind::immediate;
}

bool stays(const isa::Instruction& instruction) { return isa::flow_of(instruction) == isa::ControlFlow::next; }

}  // namespace

std::uint64_t prologue_end_of(const Program& program, const Function& function) {
  const AddressRange range = function.range();
  std::uint64_t marked = 0, second = 0;
  if (program.lines().covers(function.address)) {
    program.lines().each_run([&](std::span<const debuginfo::LineRow> rows) {
      if (rows.empty() || rows.front().address >= range.to || rows.back().address < range.from) return;
      for (const debuginfo::LineRow& row : rows) {
        if (row.ends || !range.holds(row.address)) continue;
        if (row.prologue_end && (marked == 0 || row.address < marked)) marked = row.address;
        if (row.address > range.from && row.statement && (second == 0 || row.address < second)) second = row.address;
      }
    });
  }
  if (marked != 0) return marked;
  const Bytes code = code_of(program, function);
  std::uint64_t at = 0;
  bool straight = true;
  std::uint64_t set_up = 0;  // bytes that only set up the frame
  bool setting_up = true;
  bool frame_pointer = false;
  while (at < code.size() && straight) {
    const isa::Instruction instruction = isa::decode(code.subspan(at), program.mode());
    if (!instruction || !stays(instruction)) break;
    if (second != 0 && function.address + at >= second) break;
    const isa::Operands operands = isa::operands_of(instruction);
    frame_pointer |= operands.shown == 2 && operands[0].kind == isa::Operand::Kind::reg &&
                     operands[0].reg.index == isa::kRbp && operands[0].reg.file == isa::RegisterFile::general;
    setting_up &= sets_up_frame(instruction);
    at += instruction.length;
    if (setting_up) set_up = at;
  }
  // Unoptimised code stores its parameters before the first statement; optimised code mixes statements in.
  if (second != 0 && function.address + at == second && frame_pointer) return second;
  return function.address + set_up;
}

Boundaries boundaries_around(const Program& program, std::uint64_t address) {
  const Function* function = program.function_at(address);
  if (function == nullptr || address == function->address) return {address, address};
  const Bytes code = code_of(program, *function);
  for (const isa::Placed& one : isa::instructions_of(code, program.mode())) {
    const std::uint64_t at = function->address + one.at, next = function->address + one.next();
    if (next <= address) continue;
    // Where data stands among code the line table knows better.
    if (at == address || program.lines().starts_row(address)) return {address, address};
    return {at, next};
  }
  return {};
}

}  // namespace deeptrace::program
