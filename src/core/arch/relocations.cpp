#include "arch/relocations.h"

#include <algorithm>
#include <iterator>

namespace deeptrace::arch {
namespace {

constexpr std::uint8_t kD = RelocationKind::kDisplacement, kB = RelocationKind::kBranch,
                       kI = RelocationKind::kImmediate, kW = RelocationKind::kData, kP = RelocationKind::kDataDistance;
constexpr std::uint8_t kWhole = RelocationKind::kAbsolute, kEnd = RelocationKind::kFromEnd,
                       kStart = RelocationKind::kFromStart, kSlot = RelocationKind::kTableSlot,
                       kThread = RelocationKind::kThreadAddress;

constexpr RelocationKind kWide[] = {
    {1, "R_X86_64_64", "", 8, kI | kD | kW, kWhole},
    {2, "R_X86_64_PC32", "", 4, kD | kB | kP, kEnd},
    {3, "R_X86_64_GOT32", "@GOT", 4, kD | kI},
    {4, "R_X86_64_PLT32", "@PLT", 4, kB | kD, kEnd},
    {9, "R_X86_64_GOTPCREL", "@GOTPCREL", 4, kD, kEnd | kSlot},
    {10, "R_X86_64_32", "", 4, kI | kD | kW, kWhole},
    {11, "R_X86_64_32S", "", 4, kI | kD, kWhole},
    {16, "R_X86_64_DTPMOD64", "", 8, 0, RelocationKind::kBlockNumber},
    {17, "R_X86_64_DTPOFF64", "@dtpoff", 8, kI | kW},
    {18, "R_X86_64_TPOFF64", "@tpoff", 8, kI | kW, RelocationKind::kThreadDistance},
    {19, "R_X86_64_TLSGD", "@tlsgd", 4, kD, kEnd | kThread},
    {20, "R_X86_64_TLSLD", "@tlsld", 4, kD, kEnd | kThread},
    {21, "R_X86_64_DTPOFF32", "@dtpoff", 4, kD | kI},
    {22, "R_X86_64_GOTTPOFF", "@gottpoff", 4, kD, kEnd | kThread},
    {23, "R_X86_64_TPOFF32", "@tpoff", 4, kD | kI},
    {24, "R_X86_64_PC64", "", 8, kP},
    {25, "R_X86_64_GOTOFF64", "@GOTOFF", 8, kI | kW},
    {26, "R_X86_64_GOTPC32", "", 4, kD, kEnd},
    {32, "R_X86_64_SIZE32", "@SIZE", 4, 0},
    {33, "R_X86_64_SIZE64", "@SIZE", 8, 0},
    {34, "R_X86_64_GOTPC32_TLSDESC", "@tlsdesc", 4, kD, kEnd | kThread},
    {35, "R_X86_64_TLSDESC_CALL", "", 0, 0, kThread},
    {41, "R_X86_64_GOTPCRELX", "@GOTPCREL", 4, kD, kEnd | kSlot},
    {42, "R_X86_64_REX_GOTPCRELX", "@GOTPCREL", 4, kD, kEnd | kSlot},
};

constexpr RelocationKind kNarrow[] = {
    {1, "R_386_32", "", 4, kI | kD | kW, kWhole},
    {2, "R_386_PC32", "", 4, kB | kP, kEnd},
    {3, "R_386_GOT32", "@GOT", 4, kD, kSlot},
    {4, "R_386_PLT32", "@PLT", 4, kB, kEnd},
    {9, "R_386_GOTOFF", "@GOTOFF", 4, kD | kI | kW},
    {10, "R_386_GOTPC", "", 4, kI, kStart},
    {14, "R_386_TLS_TPOFF", "", 4, 0, RelocationKind::kThreadDistance},
    {15, "R_386_TLS_IE", "@indntpoff", 4, kD, kThread},
    {16, "R_386_TLS_GOTIE", "@gotntpoff", 4, kD, kThread},
    {17, "R_386_TLS_LE", "@ntpoff", 4, kD | kI},
    {18, "R_386_TLS_GD", "@tlsgd", 4, kD, kThread},
    {19, "R_386_TLS_LDM", "@tlsldm", 4, kD, kThread},
    {32, "R_386_TLS_LDO_32", "@dtpoff", 4, kD},
    {35, "R_386_TLS_DTPMOD32", "", 4, 0, RelocationKind::kBlockNumber},
    {39, "R_386_TLS_GOTDESC", "@tlsdesc", 4, 0, kThread},
    {40, "R_386_TLS_DESC_CALL", "", 0, 0, kThread},
    {43, "R_386_GOT32X", "@GOT", 4, kD, kSlot},
};

}  // namespace

const RelocationKind* relocation_kind(std::uint32_t type, Mode mode) {
  const bool wide = mode == Mode::bits64;
  const auto* const begin = wide ? std::begin(kWide) : std::begin(kNarrow);
  const auto* const end = wide ? std::end(kWide) : std::end(kNarrow);
  const auto* const found = std::find_if(begin, end, [type](const RelocationKind& kind) { return kind.type == type; });
  return found == end ? nullptr : found;
}

bool relocation_means(std::uint32_t type, Mode mode, RelocationKind::Meaning meaning) {
  const RelocationKind* kind = relocation_kind(type, mode);
  return kind != nullptr && (kind->means & meaning) != 0;
}

}  // namespace deeptrace::arch
