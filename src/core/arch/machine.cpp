#include "arch/machine.h"

#include <algorithm>

namespace deeptrace::arch {
namespace {

constexpr General kArguments64[] = {kRdi, kRsi, kRdx, kRcx, kR8, kR9};
constexpr General kCallArguments64[] = {kRdi, kRsi, kRdx, kR10, kR8, kR9};
constexpr General kCallArguments32[] = {kRbx, kRcx, kRdx, kRsi, kRdi, kRbp};
// exit, exit_group, rt_sigreturn; of 32-bit programs sigreturn too.
constexpr std::uint64_t kFinalCalls64[] = {60, 231, 15};
constexpr std::uint64_t kFinalCalls32[] = {1, 252, 119, 173};
constexpr std::uint8_t kByDwarf64[] = {kRax, kRdx, kRcx, kRbx, kRsi, kRdi, kRbp, kRsp,
                                       kR8,  kR9,  kR10, kR11, kR12, kR13, kR14, kR15};
constexpr std::uint8_t kByDwarf32[] = {kRax, kRcx, kRdx, kRbx, kRsp, kRbp, kRsi, kRdi};

constexpr std::uint16_t bits(std::initializer_list<General> registers) {
  unsigned result = 0;
  for (const General one : registers) result |= 1U << one;
  return static_cast<std::uint16_t>(result);
}

constexpr Machine k386 = {.mode = Mode::bits32,
                          .name = "x86, 32-bit",
                          .elf_machine = 3,
                          .word = 4,
                          .stack_pointer = kRsp,
                          .frame_pointer = kRbp,
                          .result = kRax,
                          .arguments = {},
                          .vector_arguments = 0,
                          .kept = bits({kRbx, kRsi, kRdi, kRbp, kRsp}),
                          .red_zone = 0,
                          .thread_segment = kGs,
                          .unused_block = 0xf0000000,
                          .protector = 0x14,
                          .calls = CallTable::i386,
                          .call_arguments = kCallArguments32,
                          .final_calls = kFinalCalls32,
                          .changed_by_call_instruction = bits({kRax, kRcx}),
                          .general_by_dwarf = kByDwarf32,
                          .dwarf_return_address = 8};

constexpr Machine kX86_64 = {.mode = Mode::bits64,
                             .name = "x86-64",
                             .elf_machine = 62,
                             .word = 8,
                             .stack_pointer = kRsp,
                             .frame_pointer = kRbp,
                             .result = kRax,
                             .arguments = kArguments64,
                             .vector_arguments = 8,
                             .kept = bits({kRbx, kRbp, kRsp, kR12, kR13, kR14, kR15}),
                             .red_zone = 128,
                             .thread_segment = kFs,
                             .unused_block = std::uint64_t(1) << 46,
                             .protector = 0x28,
                             .calls = CallTable::x86_64,
                             .call_arguments = kCallArguments64,
                             .final_calls = kFinalCalls64,
                             .changed_by_call_instruction = bits({kRax, kRcx, kR11}),
                             .general_by_dwarf = kByDwarf64,
                             .dwarf_return_address = 16};

}  // namespace

std::uint16_t Machine::changed_by_call() const {
  return static_cast<std::uint16_t>(((1U << general_registers()) - 1) & ~unsigned(kept));
}

unsigned Machine::dwarf_number(unsigned general) const {
  return static_cast<unsigned>(std::ranges::find(general_by_dwarf, general) - general_by_dwarf.begin());
}

const Machine& machine_of(Mode mode) { return mode == Mode::bits64 ? kX86_64 : k386; }

}  // namespace deeptrace::arch
