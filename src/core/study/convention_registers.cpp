// Registers at calls and returns. x86-64: System V psABI, 3.2.1 and 3.2.3, A.2.1 (what `syscall` changes). i386: System
// V psABI, 2.2.1.
#include <array>

#include "abi/prototypes.h"
#include "base/number.h"
#include "isa/text.h"
#include "program/register_read.h"
#include "state/known.h"
#include "study/convention_code.h"

namespace deeptrace::study {
namespace {

using isa::ControlFlow;
using Code = program::FlowBlocks::Code;

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
  const isa::Meaning meaning = isa::operation_of(instruction).meaning;
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
    if (!checked_.hand_written) return;
    stale();
    order();
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
    std::uint32_t passed = 0;
    for (const Parameter& one : parameters_of_prototype(code)) passed |= bit(one.reg);
    return passed;
  }

  // ---- arguments in each other's places ----

  /// What a register is known to hold.
  struct Held {
    std::uint64_t value = 0;
    std::string address{};  ///< of what in the file: "message", "0x402010"; empty: it is no address
  };
  using Held16 = std::array<std::optional<Held>, 16>;  ///< by register

  /// A small number where the called function takes an address, and an address where it takes a number: both put there
  /// in the block that calls.
  void order() {
    for (const auto& block : checked_.blocks.blocks()) {
      Held16 held{};
      for (std::uint32_t at = block.first; at < block.end; ++at) {
        const Code& code = checked_.blocks.code()[at];
        if (!code.instruction) continue;
        if (isa::flow_of(code.instruction) == ControlFlow::call) {
          look_at_order(code, held);
          held = {};
        } else {
          follow(code, held);
        }
      }
    }
  }

  void follow(const Code& code, Held16& held) {
    const isa::Operands operands = isa::operands_of(code.instruction);
    const std::uint32_t written = state::general_use(isa::effects_of(code.instruction, operands)).written;
    for (unsigned number = 0; number < held.size(); ++number) {
      if ((written >> number & 1) != 0) held[number].reset();
    }
    if (operands.shown != 2 || operands[0].kind != isa::Operand::Kind::reg ||
        operands[0].reg.file != isa::RegisterFile::general)
      return;
    const unsigned number = operands[0].reg.index;
    if (isa::operation_of(code.instruction).meaning != isa::meaning::copy) return;
    std::uint64_t place = 0;
    const isa::Operand& from = operands[1];
    if (from.kind == isa::Operand::Kind::immediate) {
      place = static_cast<std::uint64_t>(from.value);
    } else if (from.kind != isa::Operand::Kind::memory || from.width != 0 ||
               !isa::fixed_memory_address(code.instruction, code.address, place)) {
      return;  // the width is that of what is read there: of none for an address
    }
    const auto relocated = code_.program.relocated_reference(code.address, code.instruction.length);
    held[number] = Held{place, relocated ? relocated->name : is_in_file(place) ? hex_text(place) : std::string()};
  }
  [[nodiscard]] bool is_in_file(std::uint64_t address) const {
    constexpr std::uint64_t kLowest = 4096;
    return address >= kLowest && code_.program.elf().section_at(address) != nullptr;
  }

  void look_at_order(const Code& call, const Held16& held) {
    constexpr std::uint64_t kSmall = 4096;
    std::optional<std::size_t> pointer, number;
    const std::vector<Parameter> parameters = parameters_of(call);
    for (std::size_t i = 0; i < parameters.size(); ++i) {
      const std::optional<Held>& one = held[parameters[i].reg];
      if (!one) continue;
      const bool is_address = !one->address.empty();
      if (parameters[i].is_pointer && !is_address && one->value != 0 && one->value < kSmall && !pointer) pointer = i;
      if (!parameters[i].is_pointer && is_address && !number) number = i;
    }
    if (!pointer || !number) return;
    const Parameter &taken = parameters[*pointer], &other = parameters[*number];
    ConventionFinding finding;
    finding.kind = "exchanged_arguments";
    finding.text = checked_.function.name.str() + " calls " + called_name(call) +
                   " with arguments that look exchanged: " + code_.name_of(taken.reg) + " is " +
                   std::to_string(held[taken.reg]->value) + ", where an address belongs, and " +
                   code_.name_of(other.reg) + " is the address " + held[other.reg]->address +
                   ", where a number belongs";
    code_.add(checked_, call.address, std::move(finding));
  }

  struct Parameter {
    unsigned reg = 0;  ///< the general register that it travels in
    bool is_pointer = false;
  };
  /// Of what is called: those that travel in general registers, whole, and whose types are known.
  std::vector<Parameter> parameters_of(const Code& call) {
    std::vector<Parameter> found;
    const auto target = program::target_of(code_.program, call.address, call.instruction);
    const auto described = target ? code_.described(*target) : std::nullopt;
    if (described && described->complete) {
      debuginfo::Types& types = code_.types();
      const abi::CallLayout layout = abi::layout_of(*described, code_.program.mode(), types);
      for (std::size_t i = 0; i < layout.arguments.size(); ++i) {
        const auto& pieces = layout.arguments[i].pieces;
        const debuginfo::Type& type = types[types.plain(described->parameters[i].type)];
        const bool is_pointer = type.kind == debuginfo::Type::Kind::pointer;
        if (pieces.size() == 1 && pieces[0].part.file == isa::RegisterFile::general &&
            (is_pointer || type.kind == debuginfo::Type::Kind::base))
          found.push_back({pieces[0].part.index, is_pointer});
      }
      return found;
    }
    return parameters_of_prototype(call);
  }
  /// Of a library function, by its prototype.
  std::vector<Parameter> parameters_of_prototype(const Code& call) {
    std::vector<Parameter> found;
    const std::optional<std::string> name = called_elsewhere(call);
    const abi::Prototype* prototype = name ? abi::prototype(*name) : nullptr;
    if (prototype == nullptr) return found;
    for (const abi::Prototype::Parameter& one : prototype->parameters()) {
      if (one.number == abi::Prototype::Number::real || found.size() == machine_.arguments.size()) continue;
      found.push_back({machine_.arguments[found.size()], one.number == abi::Prototype::Number::pointer});
    }
    return found;
  }

  void read_after_call(unsigned number, const Code& read) {
    ConventionFinding finding;
    finding.kind = "scratch_register_read";
    finding.text = checked_.function.name.str() + " reads " + code_.name_of(number) + " after " +
                   changer(number, read) + ": what it held before may be gone";
    evidence(number, read, finding);
    code_.add(checked_, read.address, std::move(finding));
  }

  std::string called_name(const Code& call) {
    const auto target = program::target_of(code_.program, call.address, call.instruction);
    const program::Function* function = target ? code_.program.function_at(*target) : nullptr;
    return function != nullptr ? function->name.str() : called_elsewhere(call).value_or("a function");
  }

  void not_passed(unsigned number, const Code& call) {
    ConventionFinding finding;
    finding.kind = "argument_not_set";
    finding.text = checked_.function.name.str() + " calls " + called_name(call) + ", which takes " +
                   code_.name_of(number) + ": nothing sets that after " + changer(number, call);
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
