#include "process/live_edit.h"

#include <algorithm>
#include <cstring>

namespace deeptrace::process {

bool LiveEdit::write_register(isa::RegisterPart part, std::span<const std::uint8_t> bytes) {
  using isa::RegisterFile;
  if (part.file != RegisterFile::general && part.file != RegisterFile::instruction_pointer)
    return write_extended(part, bytes);
  state::RegisterSet set = process_.view(thread_).registers();
  std::uint64_t& whole = set[state::reg_of(part)];
  std::uint64_t value = 0;
  std::memcpy(&value, bytes.data(), std::min<std::size_t>(8, bytes.size()));
  const std::uint64_t mask = part.width >= 64 ? ~0ULL : (1ULL << part.width) - 1;
  // Writing 32 bits clears the upper half, as an instruction would (Intel SDM volume 1, 3.4.1.1).
  whole = part.width == 32 ? value & mask : (whole & ~(mask << part.offset)) | (value & mask) << part.offset;
  return process_.set_registers(thread_, set);
}

bool LiveEdit::write_extended(isa::RegisterPart part, std::span<const std::uint8_t> bytes) {
  using isa::RegisterFile;
  auto set = process_.view(thread_).extended();
  if (!set) return false;
  const auto copy = [&](void* to, std::size_t most) { std::memcpy(to, bytes.data(), std::min(most, bytes.size())); };
  switch (part.file) {
    case RegisterFile::vector: copy(set->vectors[part.index].data() + part.offset / 8, part.width / 8U); break;
    case RegisterFile::mask: copy(&set->masks[part.index], 8); break;
    case RegisterFile::mxcsr: copy(&set->mxcsr, 4); break;
    case RegisterFile::x87:
      copy(set->x87[part.index & 7].data(), 10);
      set->x87_used |= static_cast<std::uint8_t>(1U << part.index);
      break;
    case RegisterFile::mmx: copy(set->x87[(part.index - (set->x87_status >> 11 & 7U)) & 7].data(), 8); break;
    default: return false;
  }
  return process_.set_extended(thread_, *set);
}

bool LiveEdit::write_flags(std::uint64_t flags) {
  state::RegisterSet set = process_.view(thread_).registers();
  set[state::Reg::rflags] = flags;
  return process_.set_registers(thread_, set);
}

bool LiveEdit::write_memory(std::uint64_t address, std::span<const std::uint8_t> bytes) {
  return process_.memory().write(address, bytes);
}

}  // namespace deeptrace::process
