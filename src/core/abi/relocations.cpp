#include "abi/relocations.h"

#include <algorithm>
#include <iterator>

namespace deeptrace::abi {
namespace {

constexpr std::uint8_t kD = RelocationKind::kDisplacement, kB = RelocationKind::kBranch,
                       kI = RelocationKind::kImmediate, kW = RelocationKind::kData, kP = RelocationKind::kDataDistance;

constexpr RelocationKind kWide[] = {
    {1, "R_X86_64_64", "", 8, kI | kD | kW},
    {2, "R_X86_64_PC32", "", 4, kD | kB | kP},
    {3, "R_X86_64_GOT32", "@GOT", 4, kD | kI},
    {4, "R_X86_64_PLT32", "@PLT", 4, kB | kD},
    {9, "R_X86_64_GOTPCREL", "@GOTPCREL", 4, kD},
    {10, "R_X86_64_32", "", 4, kI | kD | kW},
    {11, "R_X86_64_32S", "", 4, kI | kD},
    {17, "R_X86_64_DTPOFF64", "@dtpoff", 8, kI | kW},
    {18, "R_X86_64_TPOFF64", "@tpoff", 8, kI | kW},
    {19, "R_X86_64_TLSGD", "@tlsgd", 4, kD},
    {20, "R_X86_64_TLSLD", "@tlsld", 4, kD},
    {21, "R_X86_64_DTPOFF32", "@dtpoff", 4, kD | kI},
    {22, "R_X86_64_GOTTPOFF", "@gottpoff", 4, kD},
    {23, "R_X86_64_TPOFF32", "@tpoff", 4, kD | kI},
    {24, "R_X86_64_PC64", "", 8, kP},
    {25, "R_X86_64_GOTOFF64", "@GOTOFF", 8, kI | kW},
    {26, "R_X86_64_GOTPC32", "", 4, kD},
    {32, "R_X86_64_SIZE32", "@SIZE", 4, 0},
    {33, "R_X86_64_SIZE64", "@SIZE", 8, 0},
    {34, "R_X86_64_GOTPC32_TLSDESC", "@tlsdesc", 4, kD},
    {35, "R_X86_64_TLSDESC_CALL", "", 0, 0},
    {41, "R_X86_64_GOTPCRELX", "@GOTPCREL", 4, kD},
    {42, "R_X86_64_REX_GOTPCRELX", "@GOTPCREL", 4, kD},
};

constexpr RelocationKind kNarrow[] = {
    {1, "R_386_32", "", 4, kI | kD | kW},
    {2, "R_386_PC32", "", 4, kB | kP},
    {3, "R_386_GOT32", "@GOT", 4, kD},
    {4, "R_386_PLT32", "@PLT", 4, kB},
    {9, "R_386_GOTOFF", "@GOTOFF", 4, kD | kI | kW},
    {10, "R_386_GOTPC", "", 4, kI},
    {15, "R_386_TLS_IE", "@indntpoff", 4, kD},
    {16, "R_386_TLS_GOTIE", "@gotntpoff", 4, kD},
    {17, "R_386_TLS_LE", "@ntpoff", 4, kD | kI},
    {18, "R_386_TLS_GD", "@tlsgd", 4, kD},
    {19, "R_386_TLS_LDM", "@tlsldm", 4, kD},
    {32, "R_386_TLS_LDO_32", "@dtpoff", 4, kD},
    {43, "R_386_GOT32X", "@GOT", 4, kD},
};

}  // namespace

const RelocationKind* relocation_kind(std::uint32_t type, bool wide) {
  const auto* const begin = wide ? std::begin(kWide) : std::begin(kNarrow);
  const auto* const end = wide ? std::end(kWide) : std::end(kNarrow);
  const auto* const found = std::find_if(begin, end, [type](const RelocationKind& kind) { return kind.type == type; });
  return found == end ? nullptr : found;
}

}  // namespace deeptrace::abi
