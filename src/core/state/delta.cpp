#include "state/delta.h"

#include <algorithm>
#include <cstring>

#include "isa/operand.h"
#include "isa/register.h"
#include "state/parts.h"

namespace deeptrace::state {

using isa::RegisterFile;
using isa::RegisterPart;

namespace {

/// The width of the smallest vector register that holds a part: 128, 256 or 512 bits.
std::uint16_t whole_width(RegisterPart part) {
  const unsigned end = part.offset + part.width;
  return end <= 128 ? 128 : end <= 256 ? 256 : 512;
}

std::uint16_t changed_width(const std::array<std::uint8_t, 64>& before, const std::array<std::uint8_t, 64>& after) {
  if (std::memcmp(before.data() + 32, after.data() + 32, 32) != 0) return 512;
  return std::memcmp(before.data() + 16, after.data() + 16, 16) != 0 ? 256 : 128;
}

/// The registers of the floating-point unit do not move when its stack grows or shrinks; their names do (Intel SDM
/// volume 1, 8.1.2).
void compare_unit(Delta& delta, const ExtendedSet& before, const ExtendedSet& after) {
  constexpr unsigned kCount = 8;
  const auto top = [](const ExtendedSet& set) { return static_cast<unsigned>(set.x87_status) >> 11; };
  for (unsigned i = 0; i < kCount; ++i) {
    const unsigned was = (i + top(after) - top(before)) % kCount;
    WideChange change;
    change.part = {RegisterFile::x87, static_cast<std::uint8_t>(i), 0, 80};
    change.was_index = static_cast<std::uint8_t>(was);
    change.was_empty = (before.x87_used >> was & 1) == 0;
    change.is_empty = (after.x87_used >> i & 1) == 0;
    const bool same = before.x87[was] == after.x87[i];
    if (change.was_empty == change.is_empty && (change.is_empty || same)) continue;
    std::ranges::copy(before.x87[was], change.before.begin());
    std::ranges::copy(after.x87[i], change.after.begin());
    delta.wide.push_back(change);
  }
}

}  // namespace

std::string_view name_of(const WideChange& change) {
  const bool top = change.part.file == RegisterFile::x87 && change.part.index == 0;
  return top ? "st(0)" : isa::name_of(change.part);
}

void Delta::clear() {
  registers.clear();
  written.clear();
  wide.clear();
  memory.clear();
  bytes.clear();
  flags_before = flags_after = 0;
}

void Delta::compare(const RegisterSet& before, const RegisterSet& after) {
  for (std::size_t i = 0; i < kRegCount; ++i) {
    const Reg reg = static_cast<Reg>(i);
    if (before.values[i] != after.values[i] && reg != Reg::rip && reg != Reg::rflags) {
      registers.push_back({reg, before.values[i], after.values[i]});
    }
  }
  flags_before = before[Reg::rflags];
  flags_after = after[Reg::rflags];
}

void Delta::compare(const ExtendedSet& before, const ExtendedSet& after) {
  if (before == after) return;
  const auto add = [&](RegisterPart part, const void* was, const void* is) {
    const std::size_t size = part.width / 8U;
    if (std::memcmp(was, is, size) == 0) return;
    WideChange& change = wide.emplace_back();
    change.part = part;
    std::memcpy(change.before.data(), was, size);
    std::memcpy(change.after.data(), is, size);
  };
  for (std::uint8_t i = 0; i < before.vectors.size(); ++i)
    add({RegisterFile::vector, i, 0, changed_width(before.vectors[i], after.vectors[i])}, before.vectors[i].data(),
        after.vectors[i].data());
  for (std::uint8_t i = 0; i < before.masks.size(); ++i)
    add({RegisterFile::mask, i, 0, 64}, &before.masks[i], &after.masks[i]);
  compare_unit(*this, before, after);
  add({RegisterFile::x87_control, 0, 0, 16}, &before.x87_control, &after.x87_control);
  add({RegisterFile::x87_status, 0, 0, 16}, &before.x87_status, &after.x87_status);
  add({RegisterFile::mxcsr, 0, 0, 32}, &before.mxcsr, &after.mxcsr);
}

void Delta::name_as(std::span<const RegisterPart> parts) {
  for (WideChange& change : wide) {
    for (const RegisterPart& part : parts) {
      if (part.index != change.part.index) continue;
      if (part.file == RegisterFile::vector && change.part.file == RegisterFile::vector)
        change.part.width = std::max(change.part.width, whole_width(part));
      if (part.file == RegisterFile::mmx && change.part.file == RegisterFile::x87)
        change.part = {RegisterFile::mmx, part.index, 0, 64};
    }
  }
}

std::vector<RegisterPart> written_registers(const isa::Instruction& instruction) {
  std::vector<RegisterPart> result;
  if (!instruction) return result;
  const isa::Operands operands = isa::operands_of(instruction);
  const auto add = [&](const isa::Operand& operand) {
    if (operand.kind != isa::Operand::Kind::reg || operand.reg.file != RegisterFile::general) return;
    if (!isa::writes(operand.access) || (operand.hidden && operand.reg.index == isa::kRsp)) return;
    if (std::ranges::find(result, operand.reg) == result.end()) result.push_back(operand.reg);
  };
  for (unsigned i = 0; i < operands.shown; ++i) add(operands[i]);
  for (const isa::Operand& operand : operands) add(operand);
  return result;
}

void Delta::add_written(std::span<const RegisterPart> parts, const RegisterSet& before, const RegisterSet& after) {
  for (const RegisterPart& part : parts) {
    const RegisterPart whole{part.file, part.index, 0, 64};
    const std::uint64_t was = value_of(before, whole), is = value_of(after, whole);
    WrittenRegister& one = written.emplace_back();
    one.part = part;
    one.before = value_of(before, part);
    one.after = value_of(after, part);
    const std::uint64_t mask =
        part.width >= 64 ? ~std::uint64_t(0) : ((std::uint64_t(1) << part.width) - 1) << part.offset;
    if (((was ^ is) & ~mask) != 0) one.whole_before = was;
  }
}

MemoryChange& Delta::add_memory(std::uint64_t address, std::uint64_t size) {
  memory.push_back({address, size, bytes.size(), true, true});
  bytes.resize(bytes.size() + 2 * size);
  return memory.back();
}

}  // namespace deeptrace::state
