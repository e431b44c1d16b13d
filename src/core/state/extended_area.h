// The registers beyond the integer core as bytes: the area of xsave in its standard form (Intel SDM volume 1, 13.4), as
// the kernel hands it out by ptrace(2) and keeps it in core files (note NT_X86_XSTATE).
#pragma once

#include <cstdint>
#include <optional>
#include <span>

#include "base/byte_reader.h"
#include "state/extended.h"

namespace deeptrace::state {

/// Where the components that a processor may have lie in the area; those of size 0 it does not have. The legacy part
/// (floating-point unit, xmm registers) stands first in every area.
struct AreaLayout {
  struct Place {
    std::uint32_t offset = 0, size = 0;  ///< bytes
  };
  Place ymm_high, masks, zmm_high, high_zmm;

  /// The place of a component by its number in XCR0 (Intel SDM volume 1, 13.1); null for one that is not read.
  [[nodiscard]] Place* component(std::uint32_t number);
};

/// Bytes of the legacy part, which is also the whole of a floating-point note (NT_PRFPREG, NT_PRXFPREG).
inline constexpr std::size_t kLegacyArea = 512;
/// Where in it the kernel keeps the components that are switched on (<asm/user.h>: USER_XSTATE_XCR0_WORD).
inline constexpr std::size_t kComponentsAt = 464;

/// The components that the operating system has switched on, by bits as in XCR0: the kernel puts them into bytes of the
/// legacy part that the processor leaves free.
std::uint64_t components_of(Bytes area);

/// The layout of an area that does not say it: known for the components and sizes of the processors there are; nothing
/// otherwise.
std::optional<AreaLayout> known_layout(std::uint64_t components, std::size_t size);

/// Takes the floating-point unit, xmm0 to xmm15 and mxcsr from a legacy part, and leaves the rest as it is.
void take_legacy(std::span<const std::uint8_t, kLegacyArea> area, ExtendedSet& set);

/// Nothing where the area is shorter than its legacy part.
std::optional<ExtendedSet> extended_from(Bytes area, const AreaLayout& layout);
/// Puts vectors, masks and the floating-point unit into an area, and marks them as present. It has at least the legacy
/// part and the header after it.
void put_extended(std::span<std::uint8_t> area, const AreaLayout& layout, const ExtendedSet& registers);

}  // namespace deeptrace::state
