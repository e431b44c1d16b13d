#include "look/foresight.h"

#include <algorithm>
#include <cstring>

#include "abi/system_calls.h"
#include "base/number.h"
#include "isa/comparison.h"
#include "isa/text.h"
#include "state/execute.h"
#include "state/parts.h"
#include "state/touched.h"

namespace deeptrace::look {
namespace {

using isa::ControlFlow;
using state::Reg;

std::string decimal(std::uint64_t value, unsigned bits) {
  const unsigned unused = bits >= 64 ? 0 : 64 - bits;
  return std::to_string(static_cast<std::int64_t>(value << unused) >> unused);
}

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
  [[nodiscard]] std::string place(std::uint64_t address) { return modules_.place_name(address); }

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
        one.name = modules_.reference(*one.address).name;
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
        if (!one.address && value > 0x1000 && one.bits == 64) one.name = modules_.reference(value).name;
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
    if (const auto code = isa::condition_of(instruction_)) result_.verdict += ": " + flag_words(*code);
    if (const auto setter = setter_before()) {
      const std::string sentence = isa::sentence_after(instruction_, at_, setter->first, setter->second);
      if (!sentence.empty()) result_.sentence = sentence;
    }
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
        const std::string words = isa::comparison_words(*isa::condition_of(next), instruction_, at_);
        result_.verdict =
            compared_words() +
            (words.empty() ? "" : (compared_words().empty() ? "" : "; ") + words + (*holds ? ": yes" : ": no")) +
            ", so the jump to " + place(target) + (*holds ? " will be taken" : " will not be taken");
        return;
      }
      if (isa::flow_of(next) != ControlFlow::next || isa::sets_condition_flags(next)) return;
      at += next.length;
    }
  }

  /// "compares 2 with 5".
  std::string compared_words() {
    const isa::Meaning meaning = isa::operation_of(isa::row_of(instruction_)).meaning;
    if (meaning != isa::meaning::cmp && meaning != isa::meaning::test) return {};
    const isa::Operands operands = isa::operands_of(instruction_);
    std::string values[2];
    std::size_t from = 0;
    for (unsigned i = 0; i < 2 && i < operands.shown; ++i) {
      if (operands[i].kind == isa::Operand::Kind::immediate) {
        values[i] = decimal(static_cast<std::uint64_t>(operands[i].value), operands[i].width);
        continue;
      }
      if (from >= result_.operands.size()) return {};
      const Foresight::Operand& known = result_.operands[from++];
      if (!known.value) return {};
      values[i] = decimal(*known.value, known.bits);
    }
    return (meaning == isa::meaning::cmp ? "compares " : "tests ") + values[0] + " with " + values[1];
  }

  void plain() {
    if (outcome_.ending == state::Ending::exception) {
      result_.verdict = outcome_.exception == isa::Exception::divide
                            ? "will fault: a division by zero, or its result does not fit"
                            : "will fault";
      return;
    }
    if (outcome_.ending != state::Ending::done) return;
    for (std::size_t i = 0; i < state::kRegCount; ++i) {
      const auto reg = static_cast<Reg>(i);
      if (reg == Reg::rip || reg == Reg::rflags || outcome_.registers[reg] == view_.registers()[reg]) continue;
      result_.results.push_back({std::string(state::name_of(reg, view_.mode())), outcome_.registers[reg],
                                 view_.mode() == isa::Mode::bits64 ? 64U : 32U});
    }
    if (outcome_.store.size != 0 && outcome_.store.size <= 8) {
      std::uint64_t value = 0;
      std::memcpy(&value, outcome_.store.bytes.data(), outcome_.store.size);
      result_.results.push_back({"[" + hex_text(outcome_.store.address) + "]", value, outcome_.store.size * 8U});
    }
    if (result_.verdict.empty()) decided_jump();
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
  result.sentence = "system call " + abi::call_name(*number, abi::call_table(view.mode())) +
                    " is under way in the kernel; its result comes to " +
                    std::string(state::name_of(Reg::rax, view.mode())) + " when it returns";
  return result;
}

std::string sentence_at(const state::StateView& view, std::uint64_t address) {
  const isa::Instruction instruction = decode_at(view, address);
  return instruction ? isa::sentence(instruction, address) : std::string();
}

}  // namespace deeptrace::look
