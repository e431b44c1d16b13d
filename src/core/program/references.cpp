#include "program/references.h"

#include <algorithm>
#include <array>
#include <optional>
#include <unordered_set>

#include "arch/relocations.h"

namespace deeptrace::program {
namespace {

using isa::ControlFlow;
using isa::Operand;
using state::Known;

bool leaves(ControlFlow flow) { return flow == ControlFlow::call || flow == ControlFlow::jump; }

UseKind kind_of(isa::Access access) {
  if (isa::reads(access)) return isa::writes(access) ? UseKind::read_write : UseKind::read;
  return isa::writes(access) ? UseKind::write : UseKind::address;
}

}  // namespace

std::uint64_t thread_block(const Program& program) { return arch::machine_of(program.mode()).unused_block; }

bool gives_thread_address(const Function& function) {
  return function.name == "__tls_get_addr" || function.name == "___tls_get_addr";
}

std::optional<std::uint64_t> target_of(const Program& program, std::uint64_t address,
                                       const isa::Instruction& instruction) {
  std::uint64_t target = 0;
  if (!isa::direct_target(instruction, address, target)) return std::nullopt;
  const auto* relocation = program.relocation_in(address, instruction.length);
  if (relocation == nullptr) return target;
  const std::uint64_t next = address + instruction.length;
  if (!relocation->defined) return std::nullopt;
  return relocation->symbol_value + static_cast<std::uint64_t>(relocation->addend) + (next - relocation->address);
}

int register_of_thunk(const Program& program, std::uint64_t target) {
  // mov reg, [esp]; ret
  const Bytes code = program.elf().bytes_at(target);
  const isa::Instruction load = isa::decode(code, program.mode());
  if (!load || isa::operation_of(load).meaning != isa::meaning::copy) return -1;
  const isa::Instruction back = isa::decode(code.subspan(load.length), program.mode());
  if (!back || isa::flow_of(back) != ControlFlow::return_) return -1;
  const isa::Operands operands = isa::operands_of(load);
  if (operands.shown != 2 || operands[0].kind != Operand::Kind::reg || operands[1].kind != Operand::Kind::memory)
    return -1;
  const isa::MemoryRecipe from = operands[1].memory();
  const bool top = from.base.file == isa::RegisterFile::general && from.base.index == isa::kRsp && !from.index &&
                   from.displacement == 0;
  return top && operands[0].reg.file == isa::RegisterFile::general ? operands[0].reg.index : -1;
}

References::References(const Program& program)
    : program_(program),
      scan_(program),
      addresses_in_code_(program.elf().kind() == binary::Kind::executable || !program.elf().wide()) {}

void References::operand_references(std::uint64_t address, const isa::Instruction& instruction, const Known* known,
                                    std::vector<CodeReference>& out) const {
  const isa::Operands operands = isa::operands_of(instruction);
  const std::uint64_t next = address + instruction.length;
  const ControlFlow flow = isa::flow_of(instruction);
  for (const Operand& operand : operands) {
    if (operand.kind == Operand::Kind::memory && !operand.stack_slot) {
      const isa::MemoryRecipe recipe = operand.memory();
      CodeReference reference;
      reference.size = operand.width / 8U;
      reference.kind = reference.size == 0 ? UseKind::address : kind_of(operand.access);
      const bool fixed = !recipe.index && (!recipe.base || recipe.is_ip_relative());
      if (fixed && (recipe.segment.index == isa::kFs || recipe.segment.index == isa::kGs)) continue;
      std::optional<std::uint64_t> target;
      if (fixed) {
        target = (recipe.is_ip_relative() ? next : 0) + static_cast<std::uint64_t>(recipe.displacement);
        if (recipe.address_size == 4) *target &= 0xffffffff;
      } else if (known != nullptr) {
        target = known->address_of(recipe, next, true);
        reference.computed = true;
      }
      // The displacement alone may be an array that an index goes over.
      if (!target && addresses_in_code_ && !recipe.is_ip_relative() && recipe.displacement > 0xfff &&
          !recipe.is_absolute()) {
        target = static_cast<std::uint64_t>(recipe.displacement) &
                 (recipe.address_size == 4 ? 0xffffffff : ~std::uint64_t(0));
        reference.computed = true;
      }
      if (!target) continue;
      reference.target = *target;
      const bool whole_address = fixed || !recipe.index;
      if (leaves(flow) && operand.width != 0 && isa::reads(operand.access) && whole_address) {
        reference.kind = flow == ControlFlow::call ? UseKind::call : UseKind::jump;
        reference.through_slot = true;
      }
      out.push_back(reference);
    } else if (operand.kind == Operand::Kind::immediate && operand.width >= 32 && addresses_in_code_ &&
               !operand.hidden && operand.value > 0xfff) {
      out.push_back({static_cast<std::uint64_t>(operand.value), 0, UseKind::address, false, false});
    } else if (operand.kind == Operand::Kind::reg && known != nullptr && leaves(flow) && !operand.hidden &&
               isa::reads(operand.access)) {
      if (const auto target = known->value(operand.reg))
        out.push_back({*target, 0, flow == ControlFlow::call ? UseKind::call : UseKind::jump, false, true});
    }
  }
}

void References::plain(std::uint64_t address, const isa::Instruction& instruction,
                       std::vector<CodeReference>& out) const {
  std::uint64_t target = 0;
  if (isa::direct_target(instruction, address, target)) {
    out.push_back(
        {target, 0, isa::flow_of(instruction) == ControlFlow::call ? UseKind::call : UseKind::jump, false, false});
    return;
  }
  const bool may = instruction.displacement_size >= 2 || isa::brief_of(instruction.row).has_absolute() ||
                   (addresses_in_code_ && (instruction.immediate_size[0] >= 4));
  if (may && !isa::does_nothing(instruction)) operand_references(address, instruction, nullptr, out);
}

void References::each(const Function& function, const Visitor& visitor) {
  for_each_instruction(program_, scan_.split(function.range()),
                       [&](std::uint64_t address, const isa::Instruction& instruction) {
                         found_.clear();
                         plain(address, instruction, found_);
                         visitor(address, instruction, found_);
                       });
}

std::optional<std::uint64_t> References::thread_address(std::uint64_t target, const Known& known) const {
  const Function* helper = program_.function_at(target);
  if (helper == nullptr || !gives_thread_address(*helper)) return std::nullopt;
  // The argument: two words, of which the loader fills the first with the number of the module's block. The helper of
  // 32-bit programs takes it in a register (i386 ABI, "Thread-Local Storage").
  const arch::Machine& machine = arch::machine_of(program_.mode());
  const std::uint8_t argument = machine.arguments.empty() ? machine.result : machine.arguments[0];
  const auto slot = known.value({isa::RegisterFile::general, argument, 0, 64});
  const auto& relocations = program_.relocations();
  const auto found =
      slot ? std::ranges::lower_bound(relocations, *slot, {}, &binary::Relocation::address) : relocations.end();
  if (found == relocations.end() || found->address != *slot ||
      !arch::relocation_means(found->type, program_.mode(), arch::RelocationKind::kBlockNumber))
    return std::nullopt;
  if (!found->symbol.empty()) {
    if (!found->defined) return std::nullopt;
    return thread_block(program_) + found->symbol_value;
  }
  const std::size_t word = machine.word;
  ByteReader reader(program_.elf().bytes_at(*slot + word));
  const std::uint64_t offset = reader.unsigned_of(word);
  return reader.good() ? std::optional(thread_block(program_) + offset) : std::nullopt;
}

void References::walk(const Function& function, Joins at_joins, const StateVisitor& visitor) {
  const std::span<const Stretch> split = scan_.split(function.range());
  const std::vector<Stretch> stretches(split.begin(), split.end());
  // Where jumps arrive.
  std::unordered_set<std::uint64_t> joins;
  const auto each_instruction = [&](const auto& act) { for_each_instruction(program_, stretches, act); };
  each_instruction([&](std::uint64_t address, const isa::Instruction& instruction) {
    std::uint64_t target = 0;
    if (isa::flow_of(instruction) != ControlFlow::call && isa::direct_target(instruction, address, target))
      joins.insert(target);
  });
  // A register that only ever gets one value in the function holds it from there on: the first pass finds those.
  struct Constant {
    bool any = false, varies = false;
    std::uint64_t value = 0, since = 0;
  };
  std::array<Constant, 16> constants{};
  const auto pass = [&](bool first) {
    Known known(program_.mode(), program_.elf().kind() != binary::Kind::relocatable);
    bool after_end = true;
    each_instruction([&](std::uint64_t address, const isa::Instruction& instruction) {
      const bool join = joins.contains(address) || program_.label_at(address) != nullptr;
      if (after_end || (join && (first || at_joins == Joins::forget))) {
        known.forget();
        for (unsigned number = 0; number < 16 && !first; ++number) {
          const Constant& constant = constants[number];
          if (constant.any && !constant.varies && address > constant.since)
            known.set(static_cast<isa::General>(number), constant.value);
        }
      }
      if (!first) visitor(address, instruction, known);
      std::uint64_t target = 0;
      const ControlFlow flow = isa::flow_of(instruction);
      const auto in_block = flow == ControlFlow::call && isa::direct_target(instruction, address, target)
                                ? thread_address(target, known)
                                : std::nullopt;
      known.step(instruction, address);
      if (in_block) known.set(isa::kRax, *in_block);
      const int thunk = flow == ControlFlow::call && program_.mode() == isa::Mode::bits32 &&
                                isa::direct_target(instruction, address, target)
                            ? register_of_thunk(program_, target)
                            : -1;
      if (thunk >= 0) known.set(static_cast<isa::General>(thunk), address + instruction.length);
      after_end = flow == ControlFlow::jump || flow == ControlFlow::return_;
      if (!first) return;
      const bool restores = isa::operation_of(instruction).meaning == isa::meaning::pop ||
                            isa::operation_of(instruction).meaning == isa::meaning::leave;
      for (unsigned number = 0; number < 16; ++number) {
        if ((known.written() >> number & 1) == 0 ||
            (restores && !known.value({isa::RegisterFile::general, static_cast<std::uint8_t>(number), 0, 64})))
          continue;
        const auto value = known.value({isa::RegisterFile::general, static_cast<std::uint8_t>(number), 0, 64});
        Constant& constant = constants[number];
        // The helper's register gets its last value by the addition that follows.
        if (static_cast<int>(number) == thunk) continue;
        const bool builds_up = constant.any && isa::operation_of(instruction).meaning == isa::meaning::add;
        constant.varies |= !value || (constant.any && constant.value != *value && !builds_up);
        if (!value) continue;
        if (!constant.any || builds_up) constant.since = address;
        constant.any = true;
        constant.value = *value;
      }
    });
  };
  pass(true);
  pass(false);
}

void References::follow(const Function& function, Joins at_joins, const Visitor& visitor) {
  walk(function, at_joins, [&](std::uint64_t address, const isa::Instruction& instruction, const Known& known) {
    found_.clear();
    std::uint64_t target = 0;
    if (isa::direct_target(instruction, address, target)) {
      plain(address, instruction, found_);
    } else if (!isa::does_nothing(instruction)) {
      operand_references(address, instruction, &known, found_);
    }
    visitor(address, instruction, found_);
  });
}

void References::each_followed(const Function& function, const Visitor& visitor) {
  follow(function, Joins::forget, visitor);
}

void References::each_straight(const Function& function, const Visitor& visitor) {
  follow(function, Joins::ignore, visitor);
}

void References::each_state(const Function& function, const StateVisitor& visitor) {
  walk(function, Joins::forget, visitor);
}

}  // namespace deeptrace::program
