// Parts of registers by name, and their bytes in a state.
#pragma once

#include <optional>
#include <string_view>
#include <vector>

#include "isa/register.h"
#include "state/view.h"

namespace deeptrace::state {

/// The register part of an architectural name: rax eax ax ah al, rip, xmm3, ymm3, st0 or st(0), mm1, k1, fs, mxcsr.
/// 64-bit names and r8 to r15 exist in 64-bit code only. Nothing for other words.
std::optional<isa::RegisterPart> part_named(std::string_view name, isa::Mode mode);

/// The bit of rflags that a flag's name (zf cf sf of pf af df if tf, in any case) stands for; nothing for other words.
std::optional<unsigned> flag_bit(std::string_view name);
/// True for the flags register by name: rflags, eflags, flags; `bits` is its width.
bool is_flags_register(std::string_view name, unsigned& bits);

/// A part's bytes in memory order; nothing where they are not known.
std::optional<std::vector<std::uint8_t>> bytes_of(const StateView& view, isa::RegisterPart part);

}  // namespace deeptrace::state
