#include "isa/prefixes.h"

namespace deeptrace::isa {
namespace {

constexpr NamedPrefix kPrefixes[] = {
    {"lock", "f0", "the memory that is changed is read and written as one: no other processor comes between",
     "before add, adc, and, btc, btr, bts, cmpxchg, cmpxchg8b, cmpxchg16b, dec, inc, neg, not, or, sbb, sub, xadd, "
     "xchg and xor that change memory; before anything else it is an invalid instruction",
     "xchg with memory is locked without it"},
    {"rep", "f3", "the string instruction is repeated as many times as rcx says, which it counts down to 0",
     "before movs, stos, lods, ins and outs; before cmps and scas the same byte means repe",
     "with rcx at 0 nothing is done at all; 32-bit code counts in ecx"},
    {"repe repz", "f3",
     "the string comparison is repeated while it finds equal elements, at most as many times as rcx says",
     "before cmps and scas", "rcx and the flags tell which of the two ended it: ZF is 0 where elements differed"},
    {"repne repnz", "f2",
     "the string comparison is repeated while it finds different elements, at most as many times as rcx says",
     "before cmps and scas", "rcx and the flags tell which of the two ended it: ZF is 1 where elements were equal"},
    {"rex", "40 to 4f",
     "register numbers from 8 up, operands of 64 bits (W), and spl, bpl, sil, dil by their low bytes",
     "in 64-bit code, as the last prefix before the opcode", "in 32-bit code these bytes are inc and dec"},
    {"data16", "66", "operands of 16 bits instead of 32",
     "in many vector instructions the same byte is a part of the opcode and says nothing of sizes",
     "a 16-bit result leaves the rest of its register as it was"},
    {"addr32", "67", "addresses are computed in 32 bits",
     "in 64-bit code; assemblers write 32-bit registers in brackets", "the upper half of the address is 0"},
    {"addr16", "67", "addresses are computed in 16 bits",
     "in 32-bit code; assemblers write 16-bit registers in brackets", "the upper half of the address is 0"},
    {"vex", "c5, c4",
     "begins an encoding of two or three bytes that holds register numbers, a third operand and the vector length",
     "before vector instructions with three operands, and a few of general registers",
     "bits above those written become 0"},
    {"evex", "62", "begins an encoding of four bytes with a mask register, 32 vector registers, broadcast and rounding",
     "before instructions of AVX-512", "elements that the mask leaves out stay as they were, or become 0 with {z}"},
    {"notrack", "3e", "the indirect jump or call may arrive at a place that is not marked for it (endbr64)",
     "before indirect jmp and call, where branch targets are checked",
     "elsewhere it is the segment prefix ds, without effect in 64-bit code"},
    {"bnd", "f2", "bounds stay set over the jump, call or return; processors of today ignore it",
     "before jumps, calls and returns", "programs made with bounds checking (MPX) have it in front of every call"},
    {"xacquire", "f2", "a lock is taken without writing it, where the processor can",
     "before locked instructions and xchg", "processors without the feature ignore it"},
    {"xrelease", "f3", "a lock that was taken so is given back", "before locked instructions, xchg, and mov to memory",
     "processors without the feature ignore it"},
};

}  // namespace

std::span<const NamedPrefix> named_prefixes() { return kPrefixes; }

}  // namespace deeptrace::isa
