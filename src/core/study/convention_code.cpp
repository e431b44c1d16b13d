#include "study/convention_code.h"

#include <algorithm>

#include "abi/inferred_arguments.h"
#include "base/path.h"
#include "isa/text.h"
#include "program/code_starts.h"

namespace deeptrace::study {

using isa::ControlFlow;
using program::Function;

bool ConventionCode::is_hand_written(const Function& function) {
  if (program.debug().units_at(function.address).empty()) return !frames_.at(function.address).has_value();
  return program::is_assembly(program, function.address);
}

std::optional<abi::DescribedFunction> ConventionCode::described(std::uint64_t address) {
  if (program.debug().empty()) return std::nullopt;
  return abi::described_function(program, types_, scopes_, locals_, address);
}

std::uint32_t ConventionCode::arguments_read(const Function& function) {
  const auto [place, added] = arguments_.try_emplace(function.address);
  if (!added) return place->second;
  for (const abi::Passed& one : abi::inferred_arguments(program, scan, function)) {
    const arch::RegisterPart part = one.pieces.front().part;
    for (const arch::General argument : machine.arguments) {
      if (part.file == arch::RegisterFile::general && part.index == argument) place->second |= bit(argument);
    }
  }
  return place->second;
}

const std::vector<std::uint64_t>& ConventionCode::callers_of(std::uint64_t function) {
  if (!callers_known_) {
    callers_known_ = true;
    for (const Function& one : program.functions()) {
      references_.each(one, [&](std::uint64_t address, const isa::Instruction& instruction, const auto&) {
        if (!instruction || isa::flow_of(instruction) != ControlFlow::call) return;
        if (const auto target = program::target_of(program, address, instruction)) callers_[*target].push_back(address);
      });
    }
  }
  return callers_[function];
}

isa::Instruction ConventionCode::instruction_at(std::uint64_t address) const {
  return isa::decode(program.elf().bytes_at(address), program.mode());
}

bool ConventionCode::finds_itself(const isa::Instruction& call, std::uint64_t address) const {
  return isa::flow_of(call) == ControlFlow::call && program::target_of(program, address, call) == address + call.length;
}

bool ConventionCode::never_returns(const program::FlowBlocks::Code& call) {
  if (scan.is_final_call(call.instruction, call.address)) return true;
  const auto target = program::target_of(program, call.address, call.instruction);
  const Function* called = target ? program.function_at(*target) : nullptr;
  if (called != nullptr && called->address == *target && has_no_end(*called)) return true;
  const auto before = frames_.at(call.address), after = frames_.at(call.address + call.instruction.length);
  return before && after && (before->cfa_register != after->cfa_register || before->cfa_offset != after->cfa_offset) &&
         before->cfa_expression.empty() && after->cfa_expression.empty();
}

bool ConventionCode::has_no_end(const Function& function) {
  const auto [place, added] = endless_.try_emplace(function.address);
  if (!added) return place->second;
  if (function.origin == Function::Origin::plt) {
    // The file may have the function itself.
    const auto own = program.functions_named(function.name.symbol());
    const auto found = std::ranges::find(own, Function::Origin::symbol, &Function::origin);
    return place->second = found != own.end() && has_no_end(**found);
  }
  const std::uint64_t end = function.range().to;
  bool calls = false, ends = false;
  for (std::uint64_t at = function.address; at < end && !ends;) {
    const isa::Instruction instruction = instruction_at(at);
    const isa::ControlFlow flow = instruction ? isa::flow_of(instruction) : isa::ControlFlow::jump;
    calls |= flow == isa::ControlFlow::call;
    if (flow == isa::ControlFlow::return_ || flow == isa::ControlFlow::system) ends = true;
    if (flow == isa::ControlFlow::jump || flow == isa::ControlFlow::conditional) {
      const auto to = instruction ? program::target_of(program, at, instruction) : std::nullopt;
      ends |= !to || *to < function.address || *to >= end;
    }
    at += std::max<std::uint64_t>(instruction.length, 1);
  }
  return place->second = calls && !ends;
}

std::optional<std::int64_t> ConventionCode::off_at_entry(const Function& function, unsigned levels) {
  if (function.origin != Function::Origin::recovered) return 0;
  if (levels == 0) return std::nullopt;
  std::optional<std::int64_t> off;
  for (const std::uint64_t call : std::vector(callers_of(function.address))) {
    const Function* caller = program.function_at(call);
    if (caller == nullptr || caller == &function) continue;
    const auto there = off_at_entry(*caller, levels - 1);
    const auto places = program::frame_places(program, scan, *caller);
    const auto place = std::ranges::find(places, call, &program::FramePlace::address);
    if (!there || place == places.end() || !place->stack || place->aligned) return std::nullopt;
    constexpr std::int64_t kAlignment = 16;
    const std::int64_t here = (*there + *place->stack) % kAlignment;
    if (off && *off != here) return std::nullopt;
    off = here;
  }
  return off;
}

std::string ConventionCode::name_of(unsigned general) const {
  return std::string(isa::name_of(arch::RegisterPart{arch::RegisterFile::general, static_cast<std::uint8_t>(general), 0,
                                                     static_cast<std::uint16_t>(machine.word * 8)}));
}

std::string ConventionCode::place(std::uint64_t address) const {
  std::string text = program.place_name(address);
  if (const auto line = program.lines().at(address); line && line->line != 0)
    text += "  " + base_name(program.source_path(*line)) + ":" + std::to_string(line->line);
  return text;
}

void ConventionCode::doubt_compiled(const CheckedFunction& checked, ConventionFinding& finding) {
  if (checked.hand_written) return;
  finding.note = true;
  finding.evidence.emplace_back(
      "compiled code: assembly in the source may do that; or the way leads over a call that never returns");
}

void ConventionCode::add(const CheckedFunction& checked, std::uint64_t address, ConventionFinding finding) {
  finding.function = checked.function.name.str();
  finding.address = address;
  if (const auto line = program.lines().at(address); line && line->line != 0) {
    finding.file = program.source_path(*line);
    finding.line = line->line;
  }
  found_.push_back(std::move(finding));
}

}  // namespace deeptrace::study
