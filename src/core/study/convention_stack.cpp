// The stack at calls and returns. x86-64: System V psABI, 3.2.2 (alignment, red zone), 3.7 (unwind tables). i386:
// System V psABI, 2.2.2.
#include <algorithm>

#include "base/number.h"
#include "program/register_read.h"
#include "study/convention_code.h"

namespace deeptrace::study {
namespace {

using isa::ControlFlow;
using program::FramePlace;

constexpr std::int64_t kAlignment = 16;  // bytes

class Stack {
 public:
  Stack(ConventionCode& code, const CheckedFunction& checked)
      : code_(code), checked_(checked), machine_(code.machine) {}

  void run() {
    // In an object file, what such a call leaves on the stack is not followed (state/known.h).
    const bool object = code_.program.elf().kind() == binary::Kind::relocatable;
    const bool lost = object && std::ranges::any_of(checked_.places, [&](const FramePlace& place) {
                        return code_.finds_itself(place.instruction, place.address);
                      });
    if (lost) return;
    for (const FramePlace& place : checked_.places) {
      const ControlFlow flow = isa::flow_of(place.instruction);
      if (flow != ControlFlow::call && flow != ControlFlow::return_) continue;
      const std::optional<std::int64_t> to_cfa = depth(place);
      if (!to_cfa) continue;
      if (flow == ControlFlow::return_) {
        not_restored(place, *to_cfa);
      } else {
        misaligned(place, *to_cfa);
      }
    }
    if (!checked_.hand_written) return;
    below_stack_pointer();
    unwind_rules();
  }

 private:
  /// By the compiler's unwind table, where there is one; of hand-written code by what it does. After a call that does
  /// not come back stands code that belongs to another way, at another depth. What was rounded down is not known for
  /// sure.
  std::optional<std::int64_t> depth(const FramePlace& place) {
    const auto rule = checked_.hand_written ? std::nullopt : code_.rule_at(place.address);
    if (!rule) return place.aligned ? std::nullopt : place.stack;
    const bool by_stack =
        rule->cfa_expression.empty() && rule->cfa_register == machine_.dwarf_number(machine_.stack_pointer);
    return by_stack ? std::optional(rule->cfa_offset) : std::nullopt;
  }

  void not_restored(const FramePlace& place, std::int64_t to_cfa) {
    const std::int64_t word = machine_.word;
    if (to_cfa == word || !checked_.hand_written) return;
    ConventionFinding finding;
    finding.kind = "stack_not_restored";
    const std::int64_t off = to_cfa - word;
    finding.text = checked_.function.name.str() + " returns with the stack pointer " +
                   std::to_string(off < 0 ? -off : off) + " bytes " + (off < 0 ? "above" : "below") +
                   " its return address";
    for (const FramePlace& call : checked_.places) {
      const std::uint64_t taken = program::taken_by_call(code_.program, call.instruction, call.address);
      if (taken == 0) continue;
      finding.evidence.push_back("what it calls at " + code_.place(call.address) + " takes " + std::to_string(taken) +
                                 " bytes of arguments off itself");
    }
    code_.add(checked_, place.address, std::move(finding));
  }

  void misaligned(const FramePlace& place, std::int64_t to_cfa) {
    if (machine_.mode != arch::Mode::bits64 || to_cfa % kAlignment == 0) return;
    if (code_.finds_itself(place.instruction, place.address)) return;
    const auto off = code_.off_at_entry(checked_.function);
    if (!off || (to_cfa + *off) % kAlignment == 0) return;
    const auto target = program::target_of(code_.program, place.address, place.instruction);
    const program::Function* called = target ? code_.program.function_at(*target) : nullptr;
    const bool here = called != nullptr && called->origin != program::Function::Origin::plt;
    const auto relies = here ? program::aligned_access(code_.program, called->address) : std::nullopt;
    // A compiler that knows both leaves it out where nothing needs it.
    if (here && !relies && !checked_.hand_written) return;
    ConventionFinding finding;
    finding.kind = "stack_misaligned";
    finding.text = checked_.function.name.str() + " calls " +
                   (called != nullptr ? called->name.str() : std::string("a function elsewhere")) +
                   " with the stack pointer " + std::to_string((to_cfa % kAlignment + kAlignment) % kAlignment) +
                   " bytes off a multiple of 16";
    finding.note = !relies;
    if (relies) finding.evidence.push_back("it faults then at " + code_.place(*relies));
    code_.add(checked_, place.address, std::move(finding));
  }

  // ---- memory below the stack pointer ----

  struct Below {
    std::int64_t to_cfa = 0;  ///< bytes from where it lies up to where the stack pointer will be after the return
    std::uint64_t bytes = 0;  ///< below the stack pointer
    bool read = false, written = false;
  };

  std::optional<Below> below(const FramePlace& place) const {
    if (!place.stack) return std::nullopt;
    for (const isa::Operand& operand : isa::operands_of(place.instruction)) {
      if (operand.kind != isa::Operand::Kind::memory || operand.stack_slot || operand.width == 0) continue;
      const isa::MemoryRecipe recipe = operand.memory();
      if (recipe.index || recipe.base.file != isa::RegisterFile::general) continue;
      const bool by_stack = recipe.base.index == machine_.stack_pointer;
      if (!by_stack && (recipe.base.index != machine_.frame_pointer || !place.frame)) continue;
      const std::int64_t to_cfa = (by_stack ? *place.stack : *place.frame) - recipe.displacement;
      if (to_cfa <= *place.stack) continue;
      return Below{to_cfa, static_cast<std::uint64_t>(to_cfa - *place.stack), isa::reads(operand.access),
                   isa::writes(operand.access)};
    }
    return std::nullopt;
  }

  /// What lies there belongs to whoever comes next: what is called, and signal handlers beyond the red zone.
  void below_stack_pointer() {
    std::vector<std::pair<Below, const FramePlace*>> written;
    bool beyond = false;
    for (const FramePlace& place : checked_.places) {
      const auto use = below(place);
      if (!use) continue;
      if (use->bytes > machine_.red_zone && !beyond) {
        beyond = true;
        beyond_red_zone(place, *use);
      }
      if (use->written) written.emplace_back(*use, &place);
      if (!use->read) continue;
      for (const auto& [before, at] : written) {
        if (before.to_cfa == use->to_cfa && overwritten(*at, place, *use)) return;
      }
    }
  }

  void beyond_red_zone(const FramePlace& place, const Below& use) {
    ConventionFinding finding;
    finding.kind = "below_stack_pointer";
    finding.note = true;
    finding.text = checked_.function.name.str() + " uses memory " + std::to_string(use.bytes) +
                   " bytes below the stack pointer" +
                   (machine_.red_zone == 0 ? std::string(": a signal handler may overwrite it")
                                           : ": a signal handler may overwrite what lies more than " +
                                                 std::to_string(machine_.red_zone) + " bytes below it");
    code_.add(checked_, place.address, std::move(finding));
  }

  /// A call or push between a write and a read, in the order of the code, goes over what was written.
  bool overwritten(const FramePlace& write, const FramePlace& read, const Below& use) {
    for (const FramePlace& place : checked_.places) {
      if (place.address <= write.address || place.address >= read.address || !place.stack) continue;
      const bool call =
          isa::flow_of(place.instruction) == ControlFlow::call && !code_.finds_itself(place.instruction, place.address);
      const bool pushed = place.stack_after && *place.stack_after > *place.stack && *place.stack_after >= use.to_cfa &&
                          isa::operation_of(place.instruction).meaning == isa::meaning::push;
      if (!(call && use.to_cfa > *place.stack) && !pushed) continue;
      ConventionFinding finding;
      finding.kind = "red_zone_overwritten";
      finding.text = checked_.function.name.str() + " reads what it has put " + std::to_string(use.bytes) +
                     " bytes below the stack pointer, after " + (call ? "a call" : "a push") + " that goes over it";
      finding.evidence.push_back("it is written at " + code_.place(write.address));
      finding.evidence.push_back((call ? "the call at " : "the push at ") + code_.place(place.address) +
                                 " uses the same memory");
      code_.add(checked_, read.address, std::move(finding));
      return true;
    }
    return false;
  }

  // ---- unwind tables ----

  struct WrongRule {
    std::string by;                  ///< the register that it counts from
    std::int64_t said = 0;           ///< bytes from there up to the caller's stack pointer
    std::optional<std::int64_t> is;  ///< nothing: the register is the caller's again
  };
  std::optional<WrongRule> wrong_rule_at(const FramePlace& place) {
    const auto rule = place.aligned ? std::nullopt : code_.rule_at(place.address);
    if (!rule || !rule->cfa_expression.empty()) return std::nullopt;
    const bool by_stack = rule->cfa_register == machine_.dwarf_number(machine_.stack_pointer);
    if (!by_stack && rule->cfa_register != machine_.dwarf_number(machine_.frame_pointer)) return std::nullopt;
    const auto is = by_stack ? place.stack : place.frame;
    const bool restored = !by_stack && !is && place.stack == machine_.word;
    if (!restored && (!is || *is == rule->cfa_offset)) return std::nullopt;
    return WrongRule{code_.name_of(by_stack ? machine_.stack_pointer : machine_.frame_pointer), rule->cfa_offset, is};
  }

  /// Exceptions, and whoever looks for callers, go by the table.
  void unwind_rules() {
    const auto wrong = [&](const FramePlace& place) { return wrong_rule_at(place).has_value(); };
    const auto first = std::ranges::find_if(checked_.places, wrong);
    if (first == checked_.places.end()) return;
    const bool calls = std::ranges::any_of(checked_.places, [&](const FramePlace& place) {
      return isa::flow_of(place.instruction) == ControlFlow::call && wrong(place);
    });
    const WrongRule rule = *wrong_rule_at(*first);
    const auto at = [&](std::int64_t offset) { return rule.by + "+" + hex_text(static_cast<std::uint64_t>(offset)); };
    ConventionFinding finding;
    finding.kind = "unwind_rule_wrong";
    finding.note = !calls;
    finding.text =
        checked_.function.name.str() + ": the unwind table (.cfi) has the caller's stack pointer at " + at(rule.said) +
        (rule.is ? ", and the code has it at " + at(*rule.is) : ", and " + rule.by + " is the caller's again");
    finding.evidence.emplace_back(
        calls ? "it calls while the table is wrong: callers are not found, and exceptions end there"
              : "nothing is called while the table is wrong: it matters to signals alone");
    code_.add(checked_, first->address, std::move(finding));
  }

  ConventionCode& code_;
  const CheckedFunction& checked_;
  const arch::Machine& machine_;
};

}  // namespace

void check_stack(ConventionCode& code, const CheckedFunction& checked) { Stack(code, checked).run(); }

}  // namespace deeptrace::study
