#include "look/call_site_value.h"

#include <algorithm>
#include <span>
#include <vector>

#include "arch/dwarf_registers.h"
#include "debuginfo/constants.h"
#include "debuginfo/location.h"
#include "isa/effects.h"
#include "isa/meaning.h"
#include "isa/operand.h"

namespace deeptrace::look {
namespace {

using debuginfo::Op;

/// DW_OP_deref_size at the end, with the size in bytes after it.
bool ends_with_read(Bytes expression) {
  constexpr std::size_t kLeast = 3;  // an address before it
  return expression.size() >= kLeast &&
         expression[expression.size() - 2] == static_cast<std::uint8_t>(Op::dereference_size) &&
         expression.back() <= sizeof(std::uint64_t);
}

bool sets(const isa::Operands& operands, arch::RegisterPart part) {
  return operands.shown != 0 && isa::is_register(operands[0], part) && isa::writes(operands[0].access);
}

/// The register that an expression begins with: DW_OP_breg0 to breg31.
std::optional<arch::RegisterPart> base_register(Bytes expression, arch::Mode mode) {
  const unsigned op = expression.empty() ? 0U : expression[0];
  const auto first = static_cast<unsigned>(Op::base_register0), last = static_cast<unsigned>(Op::base_register31);
  return op < first || op > last ? std::nullopt : arch::dwarf_register(op - first, mode);
}

/// Which registers got what they hold before one of them, the base, was changed for the last time.
class Older {
 public:
  explicit Older(arch::RegisterPart base) : base_(base) {}

  void pass(const isa::Instruction& instruction) {
    const isa::Effects effects = isa::effects_of(instruction);
    const auto registers = std::span(effects.registers).first(effects.register_count);
    const bool of_older = std::ranges::any_of(
        registers, [&](const auto& one) { return isa::reads(one.access) && !is_stack(one.part) && holds(one.part); });
    const auto changes = [&](const auto& one) { return isa::writes(one.access) && is_same(one.part, base_); };
    if (std::ranges::any_of(registers, changes)) {
      changed_ = true;
      newer_.clear();
    }
    for (const auto& one : registers) {
      if (!isa::writes(one.access)) continue;
      std::erase_if(newer_, [&](arch::RegisterPart part) { return is_same(part, one.part); });
      if (!of_older) newer_.push_back(one.part);
    }
  }
  [[nodiscard]] bool holds(arch::RegisterPart part) const {
    const auto is_it = [&](arch::RegisterPart one) { return is_same(one, part); };
    return changed_ && !is_same(part, base_) && std::ranges::none_of(newer_, is_it);
  }

 private:
  static bool is_same(arch::RegisterPart a, arch::RegisterPart b) { return a.file == b.file && a.index == b.index; }
  static bool is_stack(arch::RegisterPart part) {
    return part.file == arch::RegisterFile::general && part.index == isa::kRsp;
  }

  arch::RegisterPart base_;
  bool changed_ = false;
  std::vector<arch::RegisterPart> newer_;
};

/// One operand is read, and the register's own value is not.
bool loads(const isa::Instruction& instruction, const isa::Operands& operands) {
  return operands.shown == 2 && !isa::reads(operands[0].access) &&
         isa::operation_of(instruction).meaning != isa::meaning::copy_signed;
}

}  // namespace

bool is_what_is_passed(const program::Program& program, const debuginfo::Unit& unit, const debuginfo::CallSite& call,
                       const debuginfo::CallSite::Parameter& parameter) {
  constexpr std::uint64_t kNear = 128;  // bytes; lines begin much closer together
  const auto number = debuginfo::register_alone(parameter.location);
  const auto part = number ? arch::dwarf_register(*number, program.mode()) : std::nullopt;
  const auto base = !unit.is_of_gcc() ? base_register(parameter.value, program.mode()) : std::nullopt;
  const bool read = ends_with_read(parameter.value);
  if (!part || (!read && !base)) return true;
  const std::uint64_t end = call.return_address;
  const auto rows = program.lines().rows_in({end - std::min(end, kNear), end});
  bool result = true;
  std::optional<Older> older;
  if (base) older.emplace(*base);
  for (std::uint64_t at = rows.empty() ? end : rows.front().address; at < end;) {
    const isa::Instruction one = isa::decode(program.elf().bytes_at(at), program.mode());
    if (!one) break;
    const isa::Operands operands = isa::operands_of(one);
    if (sets(operands, *part)) result = !read || loads(one, operands);
    if (older) older->pass(one);
    at += one.length;
  }
  return result && (!older || !older->holds(*part));
}

}  // namespace deeptrace::look
