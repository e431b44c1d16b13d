#include "program/register_read.h"

#include <deque>
#include <set>

#include "isa/effects.h"
#include "isa/walk.h"
#include "state/known.h"

namespace deeptrace::program {
namespace {

using isa::ControlFlow;

/// The code of the function around an address.
class FunctionCode {
 public:
  FunctionCode(const Program& program, std::uint64_t address)
      : program_(program), function_(program.function_at(address)) {}
  explicit operator bool() const { return function_ != nullptr; }
  [[nodiscard]] isa::Mode mode() const { return program_.mode(); }
  [[nodiscard]] isa::Instruction at(std::uint64_t address) const {
    if (!function_->range().holds(address)) return {};
    return isa::decode(program_.elf().bytes_at(address), mode());
  }
  /// Each instruction from the first one on, until `visit` gives true.
  template <class Visit>
  std::optional<std::uint64_t> find(const Visit& visit) const {
    const Bytes code = program_.elf().bytes_at(function_->address);
    const std::size_t size = std::min<std::size_t>(code.size(), function_->size);
    for (const isa::Placed& one : isa::instructions_of(code.first(size), mode())) {
      if (one.instruction && visit(one.instruction)) return function_->address + one.at;
    }
    return std::nullopt;
  }

 private:
  const Program& program_;
  const Function* function_;
};

/// The bits that it reads of a general register, counted from the lowest; 0: none. A save on the stack counts for none.
unsigned bits_read(const isa::Instruction& instruction, const isa::Operands& operands, isa::General number) {
  if (state::clears(instruction, operands) || isa::operation_of(instruction).meaning == isa::meaning::push) return 0;
  const isa::Effects effects = isa::effects_of(instruction, operands);
  unsigned bits = 0;
  for (std::size_t i = 0; i < effects.register_count; ++i) {
    const isa::RegisterEffect& one = effects.registers[i];
    if (one.part.file != isa::RegisterFile::general || one.part.index != number || !isa::reads(one.access)) continue;
    bits = std::max<unsigned>(bits, one.part.offset + one.part.width);
  }
  return bits;
}

}  // namespace

std::optional<RegisterRead> next_read(const Program& program, std::uint64_t address, isa::General number,
                                      bool through_calls) {
  constexpr std::size_t kMost = 400;  // instructions
  const FunctionCode code(program, address);
  if (!code) return std::nullopt;
  std::set<std::uint64_t> seen;
  std::deque<std::uint64_t> ways = {address};
  while (!ways.empty()) {
    std::uint64_t at = ways.front();
    ways.pop_front();
    while (seen.insert(at).second && seen.size() < kMost) {
      const isa::Instruction instruction = code.at(at);
      if (!instruction) break;
      const isa::Operands operands = isa::operands_of(instruction);
      if (const unsigned bits = bits_read(instruction, operands, number))
        return RegisterRead{at, instruction, bits, isa::operation_of(instruction).meaning == isa::meaning::copy};
      const state::GeneralUse use = state::general_use(isa::effects_of(instruction, operands));
      if ((use.written >> number & 1) != 0) break;
      std::uint64_t target = 0;
      const bool direct = isa::direct_target(instruction, at, target);
      const ControlFlow flow = isa::flow_of(instruction);
      if (flow == ControlFlow::conditional && direct) ways.push_back(target);
      if (flow == ControlFlow::jump && direct) {
        at = target;
        continue;
      }
      const bool goes_on =
          flow == ControlFlow::next || flow == ControlFlow::conditional || (flow == ControlFlow::call && through_calls);
      if (!goes_on) break;
      at += instruction.length;
    }
  }
  return std::nullopt;
}

std::uint32_t registers_read(const isa::Instruction& instruction) {
  const isa::Operands operands = isa::operands_of(instruction);
  std::uint32_t read = 0;
  for (unsigned number = 0; number < 16; ++number) {
    if (bits_read(instruction, operands, static_cast<isa::General>(number)) != 0) read |= 1U << number;
  }
  return read;
}

std::optional<std::uint64_t> first_write(const Program& program, std::uint64_t address, isa::General number) {
  const FunctionCode code(program, address);
  if (!code) return std::nullopt;
  return code.find([&](const isa::Instruction& instruction) {
    if (isa::flow_of(instruction) == ControlFlow::call) return false;
    const auto meaning = isa::operation_of(instruction).meaning;
    if (meaning == isa::meaning::pop || meaning == isa::meaning::leave) return false;
    return (state::general_use(isa::effects_of(instruction)).written >> number & 1) != 0;
  });
}

std::optional<std::uint64_t> floating_write(const Program& program, std::uint64_t address) {
  const FunctionCode code(program, address);
  if (!code) return std::nullopt;
  return code.find([](const isa::Instruction& instruction) { return isa::effects_of(instruction).touches_x87; });
}

std::optional<std::uint64_t> aligned_access(const Program& program, std::uint64_t address) {
  const FunctionCode code(program, address);
  if (!code) return std::nullopt;
  return code.find([](const isa::Instruction& instruction) {
    if ((isa::row_of(instruction).traits & isa::kAligned) == 0) return false;
    for (const isa::Operand& operand : isa::operands_of(instruction)) {
      if (operand.kind != isa::Operand::Kind::memory) continue;
      const isa::RegisterPart base = operand.memory().base;
      if (base.file == isa::RegisterFile::general && (base.index == isa::kRsp || base.index == isa::kRbp)) return true;
    }
    return false;
  });
}

}  // namespace deeptrace::program
