#include "look/code_lines.h"

#include <algorithm>

#include "isa/text.h"
#include "isa/walk.h"
#include "program/constants.h"

namespace deeptrace::look {
namespace {

using state::Reg;

CodeLine describe(Modules& modules, const state::StateView& view, std::uint64_t address, const StopNames& stops) {
  CodeLine line;
  line.address = address;
  std::uint8_t bytes[isa::kLongestInstruction] = {};
  const std::size_t size = view.read_memory(address, bytes);
  const isa::Instruction instruction = isa::decode({bytes, size}, view.mode());
  const std::size_t length = instruction ? instruction.length : std::min<std::size_t>(size, 1);
  line.bytes.assign(bytes, bytes + length);
  if (instruction) {
    line.text = isa::text_of(instruction, address, isa::Syntax::intel).view();
    std::uint64_t target = 0;
    if (isa::direct_target(instruction, address, target)) {
      line.target = modules.called_name(target);
    } else if (isa::fixed_memory_address(instruction, address, target)) {
      line.target = modules.reference(target).name;
      if (const Module* module = modules.at(target)) {
        const std::string constant = program::floating_constant(*module->program, instruction, address - module->bias);
        line.target = program::constant_words(line.target, constant);
      }
    }
  } else {
    line.text = length == 0 ? "(no memory)" : "(no instruction)";
  }
  line.place = modules.place_name(address);
  const auto [file, number] = modules.line_of(address);
  line.file = file;
  line.line = number;
  line.next = address == view.registers()[Reg::rip];
  if (const auto stop = stops.find(address); stop != stops.end()) line.halts = stop->second;
  return line;
}

/// The starts of the instructions before an address in its function, the last `most` of them.
std::vector<std::uint64_t> starts_before(Modules& modules, std::uint64_t address, std::size_t most) {
  std::vector<std::uint64_t> starts;
  const Module* module = modules.at(address);
  if (module == nullptr) return starts;
  const program::Function* function = module->program->function_at(address - module->bias);
  if (function == nullptr) return starts;
  const Bytes code = module->program->elf().bytes_at(function->address);
  const std::uint64_t start = function->address + module->bias;
  bool exact = false;
  for (const isa::Placed& one : isa::instructions_of(code, module->program->mode())) {
    exact = start + one.at == address;
    if (start + one.at >= address) break;
    starts.push_back(start + one.at);
  }
  if (!exact) return {};
  if (starts.size() > most) starts.erase(starts.begin(), starts.end() - static_cast<std::ptrdiff_t>(most));
  return starts;
}

/// Whether an address lies in what a file has as code: what comes after it in memory are no instructions, nor is data
/// that hand-written code keeps there.
bool is_code(Modules& modules, std::uint64_t address) {
  const Module* module = modules.at(address);
  if (module == nullptr) return false;
  const std::uint64_t inside = address - module->bias;
  const binary::Section* section = module->program->elf().section_at(inside);
  if (section == nullptr || !section->is_code()) return false;
  return std::ranges::none_of(module->program->data_among_code(),
                              [&](const auto& data) { return data.range().holds(inside); });
}

}  // namespace

std::vector<CodeLine> code_around(Modules& modules, const state::StateView& view, std::uint64_t address,
                                  std::size_t before, std::size_t after, const StopNames& stops) {
  std::vector<CodeLine> result;
  for (const std::uint64_t start : starts_before(modules, address, before))
    result.push_back(describe(modules, view, start, stops));
  std::uint64_t at = address;
  const bool in_code = is_code(modules, address);
  for (std::size_t i = 0; i < after; ++i) {
    if (in_code && !is_code(modules, at)) break;
    result.push_back(describe(modules, view, at, stops));
    if (result.back().bytes.empty()) break;
    at += result.back().bytes.size();
  }
  return result;
}

}  // namespace deeptrace::look
