#include "state/execute.h"

#include <algorithm>

#include "isa/effects.h"
#include "isa/flags.h"
#include "state/delta.h"
#include "state/parts.h"
#include "state/touched.h"

namespace deeptrace::state {
namespace {

using isa::Operand;

std::uint64_t ones(unsigned bits) { return bits >= 64 ? ~std::uint64_t(0) : (std::uint64_t(1) << bits) - 1; }

/// A register write, and what it does to the bits around it (see isa::Rest).
void put(RegisterSet& registers, isa::RegisterPart part, std::uint64_t value) {
  std::uint64_t& whole = registers[reg_of(part)];
  if (part.width == 32) {
    whole = value & ones(32);
    return;
  }
  const std::uint64_t mask = ones(part.width) << part.offset;
  whole = (whole & ~mask) | ((value << part.offset) & mask);
}

/// A register that is a number of up to 64 bits.
bool is_whole_number(const Operand& operand) {
  return operand.reg.file == isa::RegisterFile::general || operand.reg.file == isa::RegisterFile::segment;
}

class Execution {
 public:
  Execution(const isa::Instruction& instruction, const StateView& view)
      : in_(instruction), view_(view), before_(view.registers()), operands_(isa::operands_of(instruction)) {}

  Outcome run() {
    const isa::Row& row = isa::row_of(in_);
    const isa::Operation& operation = isa::operation_of(row);
    outcome_.registers = before_;
    if ((row.traits & isa::kPrivileged) != 0) return raise(isa::Exception::general_protection);
    if (operation.meaning == nullptr) return outcome_;
    after_ = at_mode_width(before_[Reg::rip] + in_.length);
    const bool repeated = isa::is_repeated(in_);
    if (repeated && counter() == 0) {
      outcome_.registers[Reg::rip] = after_;
      outcome_.ending = Ending::done;
      return outcome_;
    }
    c_.next = after_;
    c_.flags = before_[Reg::rflags];
    c_.slot = in_.operand_size;
    c_.holds = operation.condition >= 0 &&
               isa::condition_holds(static_cast<unsigned>(operation.condition), before_[Reg::rflags]);
    for (std::size_t i = 0; i < operands_.count; ++i) {
      if (!fetch(i)) return outcome_;
    }
    operation.meaning(c_);
    if (c_.exception != isa::Exception::none) return raise(c_.exception);
    for (std::size_t i = operands_.count; i-- > 0;) store(i);
    put_flags(operation.flags);
    if (repeated) repeat();
    outcome_.registers[Reg::rip] = at_mode_width(c_.next);
    outcome_.ending = Ending::done;
    return outcome_;
  }

 private:
  [[nodiscard]] std::uint64_t at_mode_width(std::uint64_t address) const {
    return in_.mode() == isa::Mode::bits64 ? address : address & ones(32);
  }

  [[nodiscard]] isa::RegisterPart counter_part() const {
    return {isa::RegisterFile::general, isa::kRcx, 0, static_cast<std::uint16_t>(in_.address_size * 8U)};
  }
  [[nodiscard]] std::uint64_t counter() const { return value_of(before_, counter_part()); }

  const Outcome& raise(isa::Exception exception) {
    outcome_.registers = before_;
    outcome_.exception = exception;
    outcome_.ending = Ending::exception;
    return outcome_;
  }

  /// The operand's value before; false when it cannot be had.
  bool fetch(std::size_t i) {
    const Operand& operand = operands_[i];
    c_.bits[i] = operand.width;
    switch (operand.kind) {
      case Operand::Kind::reg:
        if (!is_whole_number(operand)) return fetch_vector(i, operand);
        c_.value[i] = value_of(before_, operand.reg);
        return true;
      case Operand::Kind::immediate: c_.value[i] = static_cast<std::uint64_t>(operand.value); return true;
      case Operand::Kind::target:
        c_.value[i] = (before_[Reg::rip] + static_cast<std::uint64_t>(operand.value)) & ones(target_bits());
        return true;
      case Operand::Kind::memory: return fetch_memory(i, operand);
      default: return false;
    }
  }

  /// What is stored of a vector register, where the view has those. None is written here.
  bool fetch_vector(std::size_t i, const Operand& operand) {
    constexpr unsigned kXmm = 128;  // bits
    if (operand.reg.file != isa::RegisterFile::vector || operand.width > kXmm || isa::writes(operand.access))
      return false;
    const auto bytes = bytes_of(view_, operand.reg);
    if (!bytes) return false;
    std::ranges::copy(*bytes, c_.block.begin());
    c_.value[i] = number_of(bytes->data(), static_cast<unsigned>(std::min<std::size_t>(bytes->size(), 8)));
    return true;
  }

  [[nodiscard]] unsigned target_bits() const { return in_.mode() == isa::Mode::bits64 ? 64 : in_.operand_size * 8U; }

  bool fetch_memory(std::size_t i, const Operand& operand) {
    const std::size_t size = operand.width / 8U;
    if (size == 0) {  // only the address counts, without the segment's base
      isa::MemoryRecipe flat = operand.memory();
      flat.segment = {isa::RegisterFile::segment, isa::kDs, 0, 16};
      c_.value[i] = address_of(flat, before_, after_, 0);
      return true;
    }
    if (size > c_.block.size()) return false;
    c_.address = address_of(operand.memory(), before_, after_, operand.width);
    const bool aligned = (isa::row_of(in_).traits & isa::kAligned) != 0;
    if (aligned && c_.address % size != 0) {
      raise(isa::Exception::general_protection);
      return false;
    }
    if (isa::writes(operand.access)) outcome_.store.address = c_.address;
    if (!isa::reads(operand.access)) return true;
    // Slots of `enter` that it reads after having written there: the order is not followed here.
    if (i > 2 && c_.address < outcome_.store.address + c_.block.size() && outcome_.store.address < c_.address + size)
      return false;
    isa::Block& bytes = i > 2 ? c_.frame : c_.block;
    if (view_.read_memory(c_.address, std::span(bytes).first(size)) != size) {
      outcome_.address = c_.address;
      outcome_.ending = Ending::unreadable;
      return false;
    }
    c_.value[i] = 0;
    for (std::size_t k = 0; k < std::min<std::size_t>(size, 8); ++k) c_.value[i] |= std::uint64_t(bytes[k]) << (8 * k);
    return true;
  }

  void store(std::size_t i) {
    const Operand& operand = operands_[i];
    if (!isa::writes(operand.access) || ((c_.kept >> i) & 1) != 0) return;
    const bool undefined = ((c_.undefined >> i) & 1) != 0;
    if (operand.kind == Operand::Kind::reg) {
      if (undefined) {
        outcome_.undefined_registers |= static_cast<std::uint16_t>(1U << operand.reg.index);
      } else {
        put(outcome_.registers, operand.reg, c_.value[i]);
      }
      return;
    }
    outcome_.store.size = static_cast<std::uint16_t>(operand.width / 8U);
    outcome_.store.undefined = undefined;
    if (outcome_.store.size > 8) {
      std::copy_n(c_.block.begin(), outcome_.store.size, outcome_.store.bytes.begin());
    } else {
      for (std::size_t k = 0; k < outcome_.store.size; ++k)
        outcome_.store.bytes[k] = static_cast<std::uint8_t>(c_.value[i] >> (8 * k));
    }
  }

  void put_flags(const isa::FlagUse& use) {
    std::uint64_t& flags = outcome_.registers[Reg::rflags];
    if (c_.keeps_flags) return;
    if (c_.whole_flags) {
      flags = c_.flags;
      return;
    }
    outcome_.undefined_flags = static_cast<std::uint16_t>(use.undefined | c_.undefined_flags);
    const std::uint64_t computed = use.written & ~std::uint64_t(outcome_.undefined_flags);
    flags = (flags & ~computed) | (c_.flags & computed);
    flags = (flags & ~std::uint64_t(use.cleared)) | use.set;
  }

  /// After one repetition: counts down, and stays here unless the count or a comparison ends it.
  void repeat() {
    const std::uint64_t left = counter() - 1;
    put(outcome_.registers, counter_part(), left);
    const bool compares = (isa::row_of(in_).traits & isa::kRepz) != 0;
    const bool equal = (outcome_.registers[Reg::rflags] & isa::kZero) != 0;
    const bool wants_equal = (in_.prefixes & isa::kPrefixRep) != 0;
    if ((left & ones(in_.address_size * 8U)) == 0 || (compares && equal != wants_equal)) return;
    c_.next = before_[Reg::rip];
    outcome_.registers[Reg::rflags] = before_[Reg::rflags];  // the flags come with the last repetition
  }

  const isa::Instruction& in_;
  const StateView& view_;
  const RegisterSet& before_;
  isa::Operands operands_;
  isa::Computation c_{};
  std::uint64_t after_ = 0;
  Outcome outcome_;
};

/// A view that has registers only.
class Bare final : public StateView {
 public:
  Bare(const RegisterSet& registers, isa::Mode mode) : registers_(registers), mode_(mode) {}
  [[nodiscard]] isa::Mode mode() const override { return mode_; }
  [[nodiscard]] const RegisterSet& registers() const override { return registers_; }
  void read_memory(std::span<MemoryRequest> requests, Provenance) const override {
    for (MemoryRequest& request : requests) request.got = 0;
  }

 private:
  const RegisterSet& registers_;
  isa::Mode mode_;
};

}  // namespace

Outcome execute(const isa::Instruction& instruction, const StateView& view) {
  return Execution(instruction, view).run();
}

Outcome execute(const isa::Instruction& instruction, const RegisterSet& registers) {
  return execute(instruction, Bare(registers, instruction.mode()));
}

bool is_computed(const isa::Instruction& instruction) {
  if (!instruction || isa::operation_of(instruction).meaning == nullptr) return false;
  const isa::Operands operands = isa::operands_of(instruction);
  for (std::size_t i = 0; i < operands.count; ++i) {
    if (operands[i].kind == Operand::Kind::reg && !is_whole_number(operands[i])) return false;
  }
  return !isa::is_repeated(instruction) && isa::effects_of(instruction, operands).flags.undefined == 0;
}

std::optional<bool> condition_holds(const isa::Instruction& instruction, const RegisterSet& registers) {
  const isa::Operation& operation = isa::operation_of(instruction);
  if (operation.condition >= 0)
    return isa::condition_holds(static_cast<unsigned>(operation.condition), registers[Reg::rflags]);
  if (isa::flow_of(instruction) != isa::ControlFlow::conditional) return std::nullopt;
  const Outcome outcome = execute(instruction, registers);
  if (outcome.ending != Ending::done) return std::nullopt;
  return outcome.registers[Reg::rip] != registers[Reg::rip] + instruction.length;
}

}  // namespace deeptrace::state
