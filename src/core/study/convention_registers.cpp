// Registers at calls and returns. x86-64: System V psABI, 3.2.1 and 3.2.3, A.2.1 (what `syscall` changes). i386: System
// V psABI, 2.2.1.
#include "abi/prototypes.h"
#include "isa/text.h"
#include "program/register_read.h"
#include "state/known.h"
#include "study/convention_code.h"

namespace deeptrace::study {
namespace {

using isa::ControlFlow;
using Code = program::FlowBlocks::Code;

isa::Meaning meaning_of(const isa::Instruction& instruction) {
  return isa::operation_of(isa::row_of(instruction)).meaning;
}

/// What one instruction does with registers that are kept.
struct KeptUse {
  std::uint32_t saved = 0;   ///< put on the stack or into another register, whole
  std::uint32_t loaded = 0;  ///< taken from the stack or from another register, whole
  std::uint32_t written = 0;
};

KeptUse kept_use(const isa::Instruction& instruction, const arch::Machine& machine) {
  KeptUse use;
  const isa::Operands operands = isa::operands_of(instruction);
  use.written = state::general_use(isa::effects_of(instruction, operands)).written & machine.kept;
  const isa::Meaning meaning = meaning_of(instruction);
  const auto whole = [&](const isa::Operand& operand) {
    return operand.kind == isa::Operand::Kind::reg && operand.reg.file == isa::RegisterFile::general &&
           operand.reg.width == machine.word * 8;
  };
  if (operands.shown == 0) {
    if (meaning == isa::meaning::leave) use.loaded = bit(machine.frame_pointer);
    return use;
  }
  const isa::Operand& first = operands[0];
  if (meaning == isa::meaning::push && whole(first)) use.saved = bit(first.reg.index);
  if (meaning == isa::meaning::enter) use.saved = bit(machine.frame_pointer);
  if (meaning == isa::meaning::pop && whole(first)) use.loaded = bit(first.reg.index);
  if (meaning == isa::meaning::copy && operands.shown == 2) {
    const isa::Operand& from = operands[1];
    if (whole(from)) use.saved = bit(from.reg.index);
    const bool place = from.kind == isa::Operand::Kind::memory || whole(from);
    if (whole(first) && place) use.loaded = bit(first.reg.index);
  }
  return use;
}

class Registers {
 public:
  Registers(ConventionCode& code, const CheckedFunction& checked)
      : code_(code), checked_(checked), machine_(code.machine) {}

  void run() {
    kept();
    // Compilers may know of a function of their own what it leaves alone.
    if (checked_.hand_written) stale();
  }

 private:
  // ---- registers that are kept ----

  void kept() {
    // A register that is put away nowhere cannot come back.
    std::uint32_t saved = 0, written = 0;
    for (const Code& code : checked_.blocks.code()) {
      if (!code.instruction) continue;
      const KeptUse use = kept_use(code.instruction, machine_);
      saved |= use.saved;
      written |= use.written;
    }
    if (written == 0) return;
    const auto step = [&](const Code& code, std::uint32_t kept) {
      if (!code.instruction) return kept;
      if (isa::flow_of(code.instruction) == ControlFlow::call && code_.never_returns(code)) return ~0U;
      const KeptUse use = kept_use(code.instruction, machine_);
      return (kept & ~use.written) | (use.loaded & saved);
    };
    std::uint32_t lost = 0;
    std::uint64_t at = 0;
    const std::uint32_t asked = machine_.kept & ~bit(machine_.stack_pointer);
    at_returns(checked_.blocks, along(checked_.blocks, asked, step), step, [&](const Code& code, std::uint32_t kept) {
      if ((asked & ~kept & ~lost) != 0) at = code.address;
      lost |= asked & ~kept;
    });
    for (unsigned number = 0; number < machine_.general_registers(); ++number) {
      if ((lost >> number & 1) != 0) changed(static_cast<isa::General>(number), at);
    }
  }

  void changed(isa::General number, std::uint64_t returns) {
    const std::uint64_t start = checked_.function.address;
    const std::string name = code_.name_of(number);
    const auto writer = program::first_write(code_.program, start, number);
    ConventionFinding finding;
    finding.kind = "kept_register_changed";
    finding.text = checked_.function.name.str() + " does not give " + name + " back as it was";
    finding.evidence.push_back("it returns at " + code_.place(returns) + " with " + name + " changed on some way");
    finding.note = true;
    for (const std::uint64_t call : code_.callers_of(start)) {
      const isa::Instruction instruction = code_.instruction_at(call);
      const auto read = program::next_read(code_.program, call + instruction.length, number, true);
      if (!read) continue;
      // A routine without a name is nobody else's: it may give a result back in it.
      finding.note = checked_.function.origin == program::Function::Origin::recovered;
      finding.evidence.push_back("a caller reads it after the call, at " + code_.place(read->address));
      break;
    }
    ConventionCode::doubt_compiled(checked_, finding);
    code_.add(checked_, writer.value_or(returns), std::move(finding));
  }

  // ---- registers that a call may change ----

  /// Registers that hold what was put into them: all, until a call may have changed them. They are read by
  /// instructions, and by what is called.
  void stale() {
    const auto step = [&](const Code& code, std::uint32_t fresh) {
      if (!code.instruction) return fresh;
      if (isa::flow_of(code.instruction) == ControlFlow::call && code_.never_returns(code)) return ~0U;
      const std::uint32_t written = state::general_use(isa::effects_of(code.instruction)).written;
      return (fresh & ~changed_by(code)) | (written & ~changed_by(code));
    };
    std::uint32_t reported = 0;
    at_each(checked_.blocks, along(checked_.blocks, ~0U, step), step, [&](const Code& code, std::uint32_t fresh) {
      const std::uint32_t passed = arguments_of(code);
      const std::uint32_t read = program::registers_read(code.instruction) & ~fresh & ~reported;
      const std::uint32_t missing = passed & ~fresh & ~read & ~reported;
      reported |= read | missing;
      for (unsigned number = 0; number < machine_.general_registers(); ++number) {
        if ((read >> number & 1) != 0) read_after_call(number, code);
        if ((missing >> number & 1) != 0) not_passed(number, code);
      }
    });
  }

  /// What a call or the kernel may change and gives nothing back in. Routines of the file's own may have a convention
  /// of their own.
  std::uint32_t changed_by(const Code& code) {
    const ControlFlow flow = isa::flow_of(code.instruction);
    // The gates of 32-bit programs change eax alone.
    if (flow == ControlFlow::system)
      return isa::brief_of(code.instruction.row).is_gate()
                 ? 0
                 : machine_.changed_by_call_instruction & ~bit(machine_.result);
    if (flow != ControlFlow::call) return 0;
    const std::optional<std::string> name = called_elsewhere(code);
    if (!name) return 0;
    std::uint32_t changed = machine_.changed_by_call() & ~bit(machine_.result);
    const abi::Prototype* prototype = abi::prototype(*name);
    // Results of two words come in rdx (edx), too.
    const bool one_word = prototype != nullptr && prototype->result_size <= machine_.word;
    if (!one_word) changed &= ~bit(isa::kRdx);
    return changed;
  }

  /// The name of the function that a call leads to, where that is compiled: of a library, or by its debug information.
  std::optional<std::string> called_elsewhere(const Code& code) {
    const program::Program& program = code_.program;
    const auto target = program::target_of(program, code.address, code.instruction);
    if (!target) {
      const auto relocated = program.relocated_reference(code.address, code.instruction.length);
      std::uint64_t place = 0;
      if (relocated) return relocated->name;
      // Through the slot that the dynamic linker fills.
      if (!isa::fixed_memory_address(code.instruction, code.address, place)) return std::nullopt;
      const auto* slot = program.relocation_in(place, 1);
      return slot != nullptr && !slot->symbol.empty() ? std::optional(std::string(slot->symbol)) : std::nullopt;
    }
    const program::Function* function = program.function_at(*target);
    if (function == nullptr || code_.finds_itself(code.instruction, code.address)) return std::nullopt;
    if (function->origin == program::Function::Origin::plt) return std::string(function->name.symbol());
    return code_.is_hand_written(*function) ? std::nullopt : std::optional(std::string(function->symbol()));
  }

  /// The registers that carry what the called function takes.
  std::uint32_t arguments_of(const Code& code) {
    if (isa::flow_of(code.instruction) != ControlFlow::call || machine_.arguments.empty()) return 0;
    const auto target = program::target_of(code_.program, code.address, code.instruction);
    const program::Function* function = target ? code_.program.function_at(*target) : nullptr;
    if (function != nullptr && function->address == *target && function->origin == program::Function::Origin::symbol)
      return code_.arguments_read(*function);
    const std::optional<std::string> name = called_elsewhere(code);
    const abi::Prototype* prototype = name ? abi::prototype(*name) : nullptr;
    if (prototype == nullptr) return 0;
    std::uint32_t passed = 0;
    std::size_t next = 0;
    for (const abi::Prototype::Parameter& one : prototype->parameters()) {
      if (one.number == abi::Prototype::Number::real || next == machine_.arguments.size()) continue;
      passed |= bit(machine_.arguments[next++]);
    }
    return passed;
  }

  void read_after_call(unsigned number, const Code& read) {
    ConventionFinding finding;
    finding.kind = "scratch_register_read";
    finding.text = checked_.function.name.str() + " reads " + code_.name_of(number) + " after " +
                   changer(number, read) + ": what it held before may be gone";
    evidence(number, read, finding);
    code_.add(checked_, read.address, std::move(finding));
  }

  void not_passed(unsigned number, const Code& call) {
    const auto target = program::target_of(code_.program, call.address, call.instruction);
    const program::Function* function = target ? code_.program.function_at(*target) : nullptr;
    const std::string name = function != nullptr ? function->name.str() : called_elsewhere(call).value_or("a function");
    ConventionFinding finding;
    finding.kind = "argument_not_set";
    finding.text = checked_.function.name.str() + " calls " + name + ", which takes " + code_.name_of(number) +
                   ": nothing sets that after " + changer(number, call);
    evidence(number, call, finding);
    code_.add(checked_, call.address, std::move(finding));
  }

  /// The call before a place in the code that may change a register: the nearest one, as most code has it.
  const Code* changing_call(unsigned number, const Code& place) {
    const Code* found = nullptr;
    for (const Code& code : checked_.blocks.code()) {
      if (!code.instruction || (changed_by(code) >> number & 1) == 0) continue;
      if (code.address < place.address || found == nullptr) found = &code;
    }
    return found;
  }

  std::string changer(unsigned number, const Code& place) {
    const Code* call = changing_call(number, place);
    if (call == nullptr) return "a call";
    if (isa::flow_of(call->instruction) == ControlFlow::system) return "a system call";
    const std::string name = called_elsewhere(*call).value_or("");
    return name.empty() ? "a call" : "the call of " + name;
  }

  void evidence(unsigned number, const Code& place, ConventionFinding& finding) {
    const Code* call = changing_call(number, place);
    if (call == nullptr) return;
    const std::string at = code_.place(call->address);
    if (isa::flow_of(call->instruction) == ControlFlow::system) {
      finding.evidence.push_back("`syscall` at " + at + " puts the return address into rcx and the flags into r11");
    } else {
      finding.evidence.push_back(code_.name_of(number) + " is no register that functions keep: the call at " + at +
                                 " may leave anything in it");
    }
  }

  ConventionCode& code_;
  const CheckedFunction& checked_;
  const arch::Machine& machine_;
};

}  // namespace

void check_registers(ConventionCode& code, const CheckedFunction& checked) { Registers(code, checked).run(); }

}  // namespace deeptrace::study
