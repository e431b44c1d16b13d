#include "inspect/frames.h"

#include <cstring>

#include "arch/dwarf_registers.h"
#include "base/number.h"

namespace deeptrace::inspect {
namespace {

using debuginfo::FrameRule;
using debuginfo::RegisterRule;
using state::Reg;

std::uint32_t bit(Reg reg) { return 1U << static_cast<unsigned>(reg); }

/// What the expressions of frame tables may ask.
class FrameContext final : public debuginfo::LocationContext {
 public:
  FrameContext(const Frame& frame, const state::StateView& view) : frame_(frame), view_(view) {}
  std::optional<std::uint64_t> reg(unsigned number) override {
    const auto reg = state::reg_of_dwarf(number, view_.mode());
    if (!reg || (frame_.known & bit(*reg)) == 0) return std::nullopt;
    return frame_.registers[*reg];
  }
  bool read(std::uint64_t address, std::span<std::uint8_t> into) override {
    return view_.read_memory(address, into) == into.size();
  }

 private:
  const Frame& frame_;
  const state::StateView& view_;
};

class Unwinder {
 public:
  Unwinder(const Frame& frame, const state::StateView& view)
      : frame_(frame), view_(view), context_(frame, view), width_(arch::machine_of(view.mode()).word) {}

  std::optional<std::uint64_t> cfa(const PlacedRule& placed) {
    const FrameRule& rule = placed.rule;
    const debuginfo::ExpressionPlace place{nullptr, nullptr, placed.bias, width_};
    std::optional<std::uint64_t> result;
    if (!rule.cfa_expression.empty()) {
      result = debuginfo::evaluate_number(rule.cfa_expression, place, context_);
    } else if (const auto base = context_.reg(rule.cfa_register)) {
      result = *base + static_cast<std::uint64_t>(rule.cfa_offset);
    }
    if (result && width_ == 4) *result &= 0xffffffff;
    return result;
  }

  /// Where in memory the value of a rule is kept.
  std::optional<std::uint64_t> place_of(const RegisterRule& rule, std::uint64_t cfa, const PlacedRule& placed) {
    using Kind = RegisterRule::Kind;
    if (rule.kind == Kind::at_offset) return cfa + static_cast<std::uint64_t>(rule.offset);
    if (rule.kind != Kind::expression) return std::nullopt;
    const debuginfo::ExpressionPlace place{nullptr, nullptr, placed.bias, width_};
    return debuginfo::evaluate_number(rule.expression, place, context_, cfa);
  }

  /// The value that the caller will find in the register of a rule; nothing when it is lost.
  std::optional<std::uint64_t> value(const RegisterRule& rule, std::uint64_t cfa, const PlacedRule& placed) {
    const debuginfo::ExpressionPlace place{nullptr, nullptr, placed.bias, width_};
    using Kind = RegisterRule::Kind;
    switch (rule.kind) {
      case Kind::at_offset:
      case Kind::expression: {
        const auto address = place_of(rule, cfa, placed);
        return address ? view_.word_at(*address) : std::nullopt;
      }
      case Kind::value_offset: return cfa + static_cast<std::uint64_t>(rule.offset);
      case Kind::in_register: return context_.reg(rule.number);
      case Kind::value_expression: return debuginfo::evaluate_number(rule.expression, place, context_, cfa);
      default: return std::nullopt;
    }
  }

  std::optional<Frame> by_rule(const PlacedRule& placed) {
    const auto base = cfa(placed);
    if (!base) return std::nullopt;
    Frame caller;
    caller.how = placed.from_table ? Frame::How::table : Frame::How::code;
    caller.registers = frame_.registers;
    caller.known = frame_.known & ~bit(Reg::rflags);
    const isa::Mode mode = view_.mode();
    for (unsigned number = 0; number < FrameRule::kRegisters; ++number) {
      const auto reg = state::reg_of_dwarf(number, mode);
      if (!reg || *reg == Reg::rip) continue;
      const RegisterRule& rule = placed.rule.registers[number];
      using Kind = RegisterRule::Kind;
      if (rule.kind == Kind::same || (rule.kind == Kind::unspecified && state::kept_by_callee(*reg, mode))) continue;
      set(caller, *reg, value(rule, *base, placed));
    }
    // Nothing is said of the stack pointer as a rule: it is the CFA (DWARF 5, section 6.4.1).
    const arch::Machine& machine = arch::machine_of(mode);
    const unsigned stack = machine.dwarf_number(machine.stack_pointer);
    if (placed.rule.registers[stack].kind == RegisterRule::Kind::unspecified) set(caller, Reg::rsp, *base);
    const RegisterRule& back = placed.rule.registers[placed.rule.return_register % FrameRule::kRegisters];
    if (back.kind == RegisterRule::Kind::undefined) return std::nullopt;
    const auto address =
        back.kind == RegisterRule::Kind::unspecified ? view_.word_at(*base - width_) : value(back, *base, placed);
    if (!address) return std::nullopt;
    caller.registers[Reg::rip] = *address;
    caller.at_call = !placed.rule.signal_frame;
    return caller;
  }

  /// [rbp] is the caller's rbp and above it lies the return address, in functions that keep a frame pointer.
  std::optional<Frame> by_pointer() const {
    const std::uint64_t pointer = frame_.registers[Reg::rbp];
    if ((frame_.known & bit(Reg::rbp)) == 0 || pointer < frame_.registers[Reg::rsp]) return std::nullopt;
    const auto outer = view_.word_at(pointer), back = view_.word_at(pointer + width_);
    if (!outer || !back) return std::nullopt;
    Frame caller;
    caller.how = Frame::How::pointer;
    caller.known = bit(Reg::rbp) | bit(Reg::rsp) | bit(Reg::rip) | bit(Reg::cs);
    caller.registers = frame_.registers;
    caller.registers[Reg::rbp] = *outer;
    caller.registers[Reg::rsp] = pointer + 2 * width_;
    caller.registers[Reg::rip] = *back;
    caller.at_call = true;
    return caller;
  }

 private:
  static void set(Frame& frame, Reg reg, std::optional<std::uint64_t> value) {
    frame.registers[reg] = value.value_or(0);
    value ? frame.known |= bit(reg) : frame.known &= ~bit(reg);
  }
  const Frame& frame_;
  const state::StateView& view_;
  FrameContext context_;
  unsigned width_;
};

void find_cfa(Frame& frame, const state::StateView& view, const RuleFinder& rules) {
  const auto placed = rules(frame.inside());
  if (!placed) return;
  frame.cfa = Unwinder(frame, view).cfa(*placed).value_or(0);
  frame.signal = placed->rule.signal_frame;
}

}  // namespace

Frame innermost_frame(const state::StateView& view, const RuleFinder& rules) {
  Frame frame;
  frame.registers = view.registers();
  frame.known = view.known_registers();
  find_cfa(frame, view, rules);
  return frame;
}

std::optional<std::uint64_t> kept_at(const Frame& frame, const state::StateView& view, const PlacedRule& placed,
                                     unsigned number) {
  if (frame.cfa == 0 || number >= FrameRule::kRegisters) return std::nullopt;
  return Unwinder(frame, view).place_of(placed.rule.registers[number], frame.cfa, placed);
}

std::optional<Frame> caller_of(const Frame& frame, const state::StateView& view, const RuleFinder& rules,
                               const std::function<bool(std::uint64_t)>& is_code, std::string* lost) {
  const auto end = [&](std::string why) {
    if (lost != nullptr) *lost = std::move(why);
    return std::nullopt;
  };
  Unwinder unwinder(frame, view);
  std::optional<Frame> caller;
  std::optional<PlacedRule> placed = rules(frame.inside());
  // The kernel's frame of a signal handler is entered by a return: its rule covers the address itself.
  if (!placed && frame.at_call) placed = rules(frame.address());
  if (placed && placed->outermost) return std::nullopt;
  if (placed) {
    caller = unwinder.by_rule(*placed);
  } else {
    caller = unwinder.by_pointer();
  }
  if (!caller) {
    // A rule without a return address is that of the outermost function (DWARF 5, section 6.4.4).
    const bool outermost =
        placed && placed->rule.registers[placed->rule.return_register % FrameRule::kRegisters].kind ==
                      RegisterRule::Kind::undefined;
    if (outermost) return std::nullopt;
    return end(placed ? "the stack cannot be read where the return address would be"
                      : "no unwind table covers this code, and the frame pointer leads nowhere");
  }
  if (!is_code(caller->address()))
    return end("the return address would be " + hex_text(caller->address()) + ", where no code is");
  // Outer frames lie higher on the stack; but a signal handler may have a stack of its own.
  const bool outer = caller->registers[Reg::rsp] > frame.registers[Reg::rsp];
  if (!outer && !(placed && placed->rule.signal_frame)) return end("the caller's frame would not lie above this one");
  if (placed && placed->rule.signal_frame) caller->at_call = false;
  find_cfa(*caller, view, rules);
  return caller;
}

}  // namespace deeptrace::inspect
