// What a function does with the stack, read from its instructions: how much it takes, which registers it saves there.
#pragma once

#include <cstdint>
#include <optional>
#include <vector>

#include "program/code_scan.h"
#include "program/program.h"

namespace deeptrace::program {

struct FrameShape {
  std::uint64_t size = 0;      ///< bytes below the return address at the deepest place; what calls push is not in it
  std::uint64_t red_zone = 0;  ///< bytes that it uses beyond, without taking them (x86-64 ABI, 3.2.2)
  std::uint64_t aligned = 0;   ///< what the stack pointer is rounded down to, bytes; 0: it is not. Above 16, which
                               ///< callers guarantee (both ABIs), up to `aligned` - 16 bytes more are taken
  bool varies = false;         ///< more is taken by an amount that is known only at run time
  bool frame_pointer = false;  ///< rbp (ebp) marks the frame
  std::vector<isa::General> saved;  ///< registers of the caller's that it puts on the stack, in order
};

/// Where at an instruction the caller's frame lies.
struct FramePoint {
  bool by_stack = true;     ///< counted from rsp (esp); otherwise from rbp (ebp)
  std::int64_t to_cfa = 0;  ///< bytes from that register up to where the stack pointer will be after the return
  struct Saved {
    isa::General number;
    std::int64_t below_cfa = 0;  ///< bytes
  };
  std::vector<Saved> saved;  ///< registers of the caller's on the stack there
};

/// The same question for one instruction; nothing when no way to it is found, or the ways disagree about it.
std::optional<FramePoint> frame_at(const Program& program, CodeScan& scan, const Function& function,
                                   std::uint64_t address);

/// An instruction of a function, on the way by which it was come to first.
struct FramePlace {
  std::uint64_t address = 0;
  isa::Instruction instruction;
  std::optional<std::int64_t> stack;        ///< before it: bytes from rsp (esp) up to where it will be after the return
  std::optional<std::int64_t> stack_after;  ///< the same after it
  std::optional<std::int64_t> frame;        ///< before it: the same of rbp (ebp), where that points into the stack
  std::uint32_t changed = 0;  ///< registers that no longer hold what the caller had in them, bits by number
  bool aligned = false;       ///< the stack pointer was rounded down: its distance is the least that it may be
  bool called = false;        ///< a call was made before it
};
/// Those that the flow of control leads to, by address.
std::vector<FramePlace> frame_places(const Program& program, CodeScan& scan, const Function& function);

/// Bytes of arguments that the called function takes off the stack itself (`ret 8`), as those of stdcall do and those
/// of i386 that return structures: where its code is at hand, and of direct calls. x86-64 has none.
std::uint64_t taken_by_call(const Program& program, const isa::Instruction& call, std::uint64_t address);

/// Room on the stack that an instruction of the function reads, writes or takes the address of.
struct StackUse {
  std::uint64_t below_cfa = 0;  ///< bytes from where it begins up to where the stack pointer will be after the return
  std::uint64_t size = 0;       ///< bytes
  bool open = false;            ///< its address is taken, or it is indexed: more above it may be used
};

/// All of them that are known; nothing when some places are not: the function takes room by amounts, or rounds the
/// stack pointer down by ones, that are known only at run time.
std::optional<std::vector<StackUse>> stack_uses(const Program& program, CodeScan& scan, const Function& function);

/// Follows the code from its start along direct jumps and jump tables; what is reached by neither is left out.
FrameShape frame_of(const Program& program, CodeScan& scan, const Function& function);

}  // namespace deeptrace::program
