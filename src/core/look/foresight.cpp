#include "look/foresight.h"

#include <algorithm>
#include <cstring>

#include "abi/system_calls.h"
#include "base/number.h"
#include "isa/comparison.h"
#include "isa/text.h"
#include "look/scope.h"
#include "state/delta.h"
#include "state/execute.h"
#include "state/parts.h"
#include "state/touched.h"

namespace deeptrace::look {
namespace {

/// Descriptors are numbers here: what they are open on only the operating system knows.
std::optional<DecodedCall> call_at(const AskedCall& asked, const state::StateView& view) {
  constexpr std::size_t kShownBytes = 64;
  DecodedCall call;
  CallDecoder({}, kShownBytes).before(call, asked, view);
  return call.known ? std::optional(std::move(call)) : std::nullopt;
}

using isa::ControlFlow;
using state::Reg;

isa::Instruction decode_at(const state::StateView& view, std::uint64_t address) {
  std::uint8_t bytes[isa::kLongestInstruction] = {};
  const std::size_t size = view.read_memory(address, bytes);
  return isa::decode({bytes, size}, view.mode());
}

class Seer {
 public:
  Seer(Modules& modules, const state::StateView& view)
      : modules_(modules), view_(view), at_(view.registers()[Reg::rip]), instruction_(decode_at(view, at_)) {}

  Foresight run() {
    if (!instruction_) {
      result_.sentence = "no instruction stands here";
      result_.verdict = "will fault: the bytes here are no instruction, or cannot be read";
      return result_;
    }
    result_.sentence = isa::sentence(instruction_, at_);
    read_operands();
    outcome_ = state::execute(instruction_, view_);
    switch (isa::flow_of(instruction_)) {
      case ControlFlow::conditional: conditional(); break;
      case ControlFlow::call: result_.verdict = "calls " + target_words(); break;
      case ControlFlow::jump: result_.verdict = "goes to " + target_words(); break;
      case ControlFlow::return_: result_.verdict = "returns to " + target_words(); break;
      case ControlFlow::system: system_call(); break;
      default: plain(); break;
    }
    return result_;
  }

 private:
  [[nodiscard]] std::string place(std::uint64_t address) { return modules_.called_name(address); }

  /// What an address points to, of a value that is as wide as one.
  AddressName named(std::uint64_t value, unsigned bits) {
    const bool wide = bits == arch::machine_of(view_.mode()).word * 8U;
    return wide ? address_name(modules_, view_, value, view_.registers()[Reg::rsp]) : AddressName{};
  }

  std::string variable_at(std::uint64_t address, std::uint64_t size) {
    std::string name = memory_name(modules_, address, size);
    if (name.empty()) name = Scope(modules_, view_).name_of_memory(address, size);
    return !name.empty() ? name : modules_.reference(address).name;
  }

  void read_operands() {
    const isa::Operands operands = isa::operands_of(instruction_);
    const std::uint64_t next = at_ + instruction_.length;
    for (unsigned i = 0; i < operands.shown; ++i) {
      const isa::Operand& operand = operands[i];
      if (operand.kind != isa::Operand::Kind::reg && operand.kind != isa::Operand::Kind::memory) continue;
      Foresight::Operand one;
      isa::Text text;
      isa::add_operand(text, instruction_, operand, at_, isa::Syntax::intel);
      one.text = text.view();
      one.bits = operand.width;
      std::vector<std::uint8_t> bytes;
      if (operand.kind == isa::Operand::Kind::reg) {
        const bool only_written = operand.access == isa::Access::write;
        const bool known =
            std::ranges::find(result_.operands, one.text, &Foresight::Operand::text) != result_.operands.end();
        if (only_written || known) continue;  // test eax, eax
        isa::RegisterPart part = operand.reg;
        if (auto raw = state::bytes_of(view_, part)) bytes = std::move(*raw);
        one.bits = part.width;
      } else {
        if (operand.recipe.has_vector_index()) continue;
        one.address = state::address_of(operand.memory(), view_.registers(), next, operand.width);
        one.name = variable_at(*one.address, operand.width / 8U);
        bytes.resize(operand.width / 8U);
        if (operand.width == 0) {
          result_.operands.push_back(std::move(one));
          continue;
        }
        if (view_.read_memory(*one.address, bytes) != bytes.size()) {
          bytes.clear();
          if (result_.verdict.empty())
            result_.verdict = "will fault: memory at " + hex_text(*one.address) + " cannot be " +
                              (operand.access == isa::Access::write ? "written" : "read");
        }
      }
      if (!bytes.empty() && bytes.size() <= 8) {
        std::uint64_t value = 0;
        std::memcpy(&value, bytes.data(), bytes.size());
        one.value = value;
        one.points_to = named(value, one.bits);
      }
      result_.operands.push_back(std::move(one));
    }
  }

  std::string target_words() {
    std::uint64_t target = 0;
    if (outcome_.ending == state::Ending::done) {
      target = outcome_.registers[Reg::rip];
    } else if (!isa::direct_target(instruction_, at_, target)) {
      return "where is not known";
    }
    if (modules_.at(target) == nullptr) {
      std::uint8_t byte = 0;
      if (view_.read_memory(target, {&byte, 1}) != 1) return hex_text(target) + ", where no memory is: it will fault";
    }
    return place(target);
  }

  /// The flags that a condition asks for, as they are.
  std::string flag_words(unsigned code) {
    const std::uint64_t flags = view_.registers()[Reg::rflags];
    struct Asked {
      std::uint64_t mask;
      const char* name;
    };
    constexpr Asked kFlags[] = {{0x1, "CF"}, {0x4, "PF"}, {0x40, "ZF"}, {0x80, "SF"}, {0x800, "OF"}};
    constexpr std::uint64_t kByCode[] = {0x800, 0x1, 0x40, 0x41, 0x80, 0x4, 0x880, 0x8c0};
    std::string text;
    for (const Asked& one : kFlags) {
      if ((kByCode[code / 2 % 8] & one.mask) != 0)
        text +=
            (text.empty() ? "" : ", ") + std::string(one.name) + ((flags & one.mask) != 0 ? " is set" : " is clear");
    }
    return text;
  }

  void conditional() {
    const auto holds = state::condition_holds(instruction_, view_.registers());
    std::uint64_t target = 0;
    const bool direct = isa::direct_target(instruction_, at_, target);
    if (!holds) return;
    result_.verdict = "the jump" + (direct ? " to " + place(target) : std::string()) +
                      (*holds ? " will be taken" : " will not be taken");
    const auto code = isa::condition_of(instruction_);
    const auto setter = setter_before();
    const std::string reason = code && setter ? decision(*code, *holds, setter->first, setter->second) : std::string();
    if (code) result_.verdict += ": " + (reason.empty() ? flag_words(*code) : reason + " (" + flag_words(*code) + ")");
    if (setter) {
      const std::string sentence = isa::sentence_after(instruction_, at_, setter->first, setter->second);
      if (!sentence.empty()) result_.sentence = sentence;
    }
  }

  /// "3 is less than 6, signed": what the instruction right before compared, where the flags are those that it left.
  std::string decision(unsigned code, bool holds, const isa::Instruction& setter, std::uint64_t address) {
    if (address + setter.length != at_) return {};
    inspect::Frame there;
    there.registers = view_.registers();
    there.registers[Reg::rip] = address;
    const inspect::FrameView view(view_, there);
    const isa::Meaning meaning = isa::operation_of(setter).meaning;
    const bool compares = meaning == isa::meaning::cmp || meaning == isa::meaning::test;
    if (compares) {
      constexpr std::uint64_t kAsked = 0x8c5;  // OF SF ZF PF CF
      const state::Outcome outcome = state::execute(setter, view);
      const std::uint64_t differs = outcome.registers[Reg::rflags] ^ view_.registers()[Reg::rflags];
      if (outcome.ending != state::Ending::done || (differs & kAsked) != 0) return {};
    }
    auto values = compared(setter, view);
    if (!values) return {};
    values->result = values->first;  // it has run
    return isa::decision_words(code, holds, setter, *values);
  }

  /// The values of the first two operands of an instruction; nothing where one is not known.
  std::optional<isa::Compared> compared(const isa::Instruction& instruction, const state::StateView& view) {
    const isa::Operands operands = isa::operands_of(instruction);
    isa::Compared values;
    for (unsigned i = 0; i < 2 && i < operands.shown; ++i) {
      const auto value = value_of(instruction, operands[i], view);
      if (!value) return std::nullopt;
      (i == 0 ? values.first : values.second) = *value;
    }
    return values;
  }

  /// What an operand of an instruction that stands elsewhere holds, of up to 64 bits.
  std::optional<std::uint64_t> value_of(const isa::Instruction& instruction, const isa::Operand& operand,
                                        const state::StateView& view) {
    if (operand.kind == isa::Operand::Kind::immediate) return static_cast<std::uint64_t>(operand.value);
    if (operand.kind == isa::Operand::Kind::reg && operand.reg.file == isa::RegisterFile::general)
      return state::value_of(view.registers(), operand.reg);
    if (operand.kind != isa::Operand::Kind::memory || operand.width == 0 || operand.width > 64) return std::nullopt;
    const std::uint64_t next = view.registers()[Reg::rip] + instruction.length;
    const std::uint64_t address = state::address_of(operand.memory(), view.registers(), next, operand.width);
    std::uint8_t bytes[8] = {};
    if (view.read_memory(address, {bytes, operand.width / 8U}) != operand.width / 8U) return std::nullopt;
    return state::number_of(bytes, operand.width / 8U);
  }

  /// The instruction just before this one, when it set the flags.
  std::optional<std::pair<isa::Instruction, std::uint64_t>> setter_before() {
    const Module* module = modules_.at(at_);
    const program::Function* function = module != nullptr ? module->program->function_at(at_ - module->bias) : nullptr;
    if (function == nullptr) return std::nullopt;
    std::optional<std::pair<isa::Instruction, std::uint64_t>> last;
    const Bytes code = module->program->elf().bytes_at(function->address);
    const std::uint64_t start = function->address + module->bias;
    for (std::uint64_t at = start; at < at_ && at - start < code.size();) {
      const isa::Instruction one = isa::decode(code.subspan(at - start), view_.mode());
      if (!one) return std::nullopt;
      if (isa::sets_condition_flags(one)) {
        last = {one, at};
      } else if (isa::flow_of(one) != ControlFlow::next && isa::flow_of(one) != ControlFlow::conditional) {
        last.reset();
      }
      at += one.length;
    }
    return last;
  }

  /// What the kernel is asked for.
  void system_call() {
    const bool gate = (isa::row_of(instruction_).traits & isa::kGate) != 0;
    const abi::CallTable table =
        gate || view_.mode() == isa::Mode::bits32 ? abi::CallTable::i386 : abi::CallTable::x86_64;
    const std::uint64_t number =
        table == abi::CallTable::i386 ? view_.registers()[Reg::rax] & 0xffffffff : view_.registers()[Reg::rax];
    const abi::SystemCall* call = abi::system_call(number, table);
    result_.verdict =
        "asks the kernel for " +
        (call != nullptr ? std::string(call->name) : "system call " + std::to_string(number) + ", which is not known");
    result_.call = call_at(AskedCall::of(view_, table, number), view_);
  }

  /// Where the flags that this sets are asked for next: a conditional jump that follows in straight line.
  void decided_jump() {
    if (!isa::sets_condition_flags(instruction_) || outcome_.ending != state::Ending::done) return;
    std::uint64_t at = at_ + instruction_.length;
    for (int i = 0; i < 8; ++i) {
      const isa::Instruction next = decode_at(view_, at);
      if (!next) return;
      if (isa::flow_of(next) == ControlFlow::conditional && isa::condition_of(next)) {
        state::RegisterSet then = outcome_.registers;
        const auto holds = state::condition_holds(next, then);
        std::uint64_t target = 0;
        if (!holds || !isa::direct_target(next, at, target)) return;
        const std::string reason = found(*isa::condition_of(next), *holds);
        const std::string where = "the jump to " + place(target) + (*holds ? " will be taken" : " will not be taken");
        result_.verdict = reason.empty() ? where : reason + ", so " + where;
        return;
      }
      if (isa::flow_of(next) != ControlFlow::next || isa::sets_condition_flags(next)) return;
      at += next.length;
    }
  }

  /// What this instruction finds for a condition after it: "2 is greater than 1, signed".
  std::string found(unsigned code, bool holds) {
    auto values = compared(instruction_, view_);
    if (!values) return {};
    const isa::Operand first = isa::operands_of(instruction_)[0];
    if (first.kind == isa::Operand::Kind::reg && first.reg.file == isa::RegisterFile::general)
      values->result = state::value_of(outcome_.registers, first.reg);
    if (first.kind == isa::Operand::Kind::memory && isa::writes(first.access)) return {};
    return isa::decision_words(code, holds, instruction_, *values);
  }

  /// The dividend, which the text of a division does not name, and whether the quotient fits (Intel SDM volume 2, DIV
  /// and IDIV).
  void division(bool is_signed) {
    if (result_.operands.empty() || !result_.operands.front().value) return;
    const isa::Operand divisor_at = isa::operands_of(instruction_)[0];
    const unsigned bits = divisor_at.width;
    const auto part = [](isa::General number, unsigned width) {
      return isa::RegisterPart{isa::RegisterFile::general, number, 0, static_cast<std::uint16_t>(width)};
    };
    const bool byte = bits == 8;
    const std::uint64_t low = state::value_of(view_.registers(), part(isa::kRax, byte ? 16 : bits));
    const std::uint64_t high = byte ? 0 : state::value_of(view_.registers(), part(isa::kRdx, bits));
    __extension__ using Wide = __int128;
    __extension__ using Unsigned = unsigned __int128;
    const unsigned all = 2 * bits;
    Unsigned raw = byte ? low : static_cast<Unsigned>(high) << bits | low;
    if (is_signed && all < 128 && (raw >> (all - 1) & 1) != 0) raw |= ~Unsigned(0) << all;
    const std::uint64_t value = *result_.operands.front().value;
    const auto dividend = static_cast<Wide>(raw);
    const Wide divisor =
        is_signed ? static_cast<Wide>(static_cast<std::int64_t>(value << (64 - bits)) >> (64 - bits)) : Wide(value);
    Foresight::Operand shown;
    shown.text = byte ? "ax"
                      : std::string(isa::name_of(part(isa::kRdx, bits))) + ":" +
                            std::string(isa::name_of(part(isa::kRax, bits)));
    shown.bits = all;
    if (all <= 64) shown.value = static_cast<std::uint64_t>(raw) & (~std::uint64_t(0) >> (64 - all));
    result_.operands.insert(result_.operands.begin(), std::move(shown));
    if (divisor == 0) {
      result_.verdict = "will fault: division by zero";
      return;
    }
    const Wide quotient = is_signed ? dividend / divisor : static_cast<Wide>(raw / static_cast<Unsigned>(divisor));
    const Wide least = is_signed ? -(Wide(1) << (bits - 1)) : 0;
    const Wide most = (Wide(1) << (is_signed ? bits - 1 : bits)) - 1;
    const bool fits = quotient >= least && quotient <= most;
    const bool small = quotient >= -(Wide(1) << 63) && quotient < (Wide(1) << 63);
    const std::string words =
        "the quotient" + (small ? " " + std::to_string(static_cast<std::int64_t>(quotient)) : std::string());
    if (!fits) {
      result_.verdict = "will fault: " + words + " does not fit " + std::to_string(bits) + " bits";
    } else if (outcome_.ending == state::Ending::done) {
      result_.verdict = words + " fits " + std::to_string(bits) + " bits";
    }
  }

  void plain() {
    const isa::Meaning meaning = isa::operation_of(instruction_).meaning;
    const bool is_signed = meaning == isa::meaning::idiv || meaning == isa::meaning::idiv_byte;
    if (is_signed || meaning == isa::meaning::div || meaning == isa::meaning::div_byte) division(is_signed);
    if (outcome_.ending == state::Ending::exception) {
      if (result_.verdict.empty()) result_.verdict = "will fault";
      return;
    }
    if (outcome_.ending != state::Ending::done) return;
    for (std::size_t i = 0; i < state::kRegCount; ++i) {
      const auto reg = static_cast<Reg>(i);
      if (reg == Reg::rip || reg == Reg::rflags || outcome_.registers[reg] == view_.registers()[reg]) continue;
      // At the width that is written.
      isa::RegisterPart part{isa::RegisterFile::general, 0, 0,
                             static_cast<std::uint16_t>(arch::machine_of(view_.mode()).word * 8)};
      std::string name(state::name_of(reg, view_.mode()));
      for (const isa::RegisterPart& one : state::written_registers(instruction_)) {
        if (state::reg_of(one) != reg) continue;
        part = one;
        name = isa::name_of(one);
      }
      const auto number = state::general_number(reg);
      part.index = number ? static_cast<std::uint8_t>(*number) : 0;
      const std::uint64_t value = number ? state::value_of(outcome_.registers, part) : outcome_.registers[reg];
      AddressName points_to = named(value, part.width);
      if (reg == Reg::rsp && !points_to.region.empty()) points_to.region = "stack";
      result_.results.push_back({std::move(name), value, part.width, std::move(points_to)});
    }
    if (outcome_.store.size != 0 && outcome_.store.size <= 8 && !from_vector()) {
      std::uint64_t value = 0;
      std::memcpy(&value, outcome_.store.bytes.data(), outcome_.store.size);
      result_.results.push_back({"[" + hex_text(outcome_.store.address) + "]", value, outcome_.store.size * 8U,
                                 named(value, outcome_.store.size * 8U)});
    }
    if (result_.verdict.empty()) decided_jump();
  }

  /// A part of a vector register is no whole number.
  [[nodiscard]] bool from_vector() const {
    const isa::Operands operands = isa::operands_of(instruction_);
    return std::any_of(operands.begin(), operands.end(), [](const isa::Operand& one) {
      return one.kind == isa::Operand::Kind::reg && one.reg.file == isa::RegisterFile::vector;
    });
  }

  Modules& modules_;
  const state::StateView& view_;
  std::uint64_t at_;
  isa::Instruction instruction_;
  state::Outcome outcome_;
  Foresight result_;
};

}  // namespace

Foresight foresee(Modules& modules, const state::StateView& view) { return Seer(modules, view).run(); }

Foresight what_comes(const state::Target& target, state::ThreadId thread, Modules& modules) {
  const state::StateView& view = target.view(thread);
  const std::optional<std::uint64_t> number = target.system_call(thread);
  if (!number) return foresee(modules, view);
  Foresight result;
  result.sentence = "system call " + abi::call_name(*number, table_of_call(view)) +
                    " is under way in the kernel; its result comes to " +
                    std::string(state::name_of(Reg::rax, view.mode())) + " when it returns";
  result.call = call_at(AskedCall::of(view, table_of_call(view), *number), view);
  return result;
}

abi::CallTable table_of_call(const state::StateView& view) {
  // The thread stands at the instruction that makes the call, or after it.
  for (const std::uint64_t back : {0, 2}) {
    std::uint8_t bytes[2] = {};
    if (view.read_memory(view.registers()[Reg::rip] - back, bytes) != sizeof bytes) continue;
    if (bytes[0] == 0xcd && bytes[1] == 0x80) return abi::CallTable::i386;
    if (bytes[0] == 0x0f && bytes[1] == 0x05) break;
  }
  return abi::call_table(view.mode());
}

std::string sentence_at(const state::StateView& view, std::uint64_t address) {
  const isa::Instruction instruction = decode_at(view, address);
  return instruction ? isa::sentence(instruction, address) : std::string();
}

}  // namespace deeptrace::look
