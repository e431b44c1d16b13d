#include "isa/register.h"

#include <array>
#include <span>

namespace deeptrace::isa {
namespace {

using Names = std::array<std::string_view, 16>;

constexpr Names k64 = {"rax", "rcx", "rdx", "rbx", "rsp", "rbp", "rsi", "rdi",
                       "r8",  "r9",  "r10", "r11", "r12", "r13", "r14", "r15"};
constexpr Names k32 = {"eax", "ecx", "edx",  "ebx",  "esp",  "ebp",  "esi",  "edi",
                       "r8d", "r9d", "r10d", "r11d", "r12d", "r13d", "r14d", "r15d"};
constexpr Names k16 = {"ax",  "cx",  "dx",   "bx",   "sp",   "bp",   "si",   "di",
                       "r8w", "r9w", "r10w", "r11w", "r12w", "r13w", "r14w", "r15w"};
constexpr Names k8 = {"al",  "cl",  "dl",   "bl",   "spl",  "bpl",  "sil",  "dil",
                      "r8b", "r9b", "r10b", "r11b", "r12b", "r13b", "r14b", "r15b"};
constexpr std::array<std::string_view, 4> kHigh8 = {"ah", "ch", "dh", "bh"};
constexpr std::array<std::string_view, 6> kSegments = {"es", "cs", "ss", "ds", "fs", "gs"};
constexpr Names kControl = {"cr0", "cr1", "cr2",  "cr3",  "cr4",  "cr5",  "cr6",  "cr7",
                            "cr8", "cr9", "cr10", "cr11", "cr12", "cr13", "cr14", "cr15"};
constexpr Names kDebug = {"dr0", "dr1", "dr2",  "dr3",  "dr4",  "dr5",  "dr6",  "dr7",
                          "dr8", "dr9", "dr10", "dr11", "dr12", "dr13", "dr14", "dr15"};
constexpr std::array<std::string_view, 32> kXmm = {
    "xmm0",  "xmm1",  "xmm2",  "xmm3",  "xmm4",  "xmm5",  "xmm6",  "xmm7",  "xmm8",  "xmm9",  "xmm10",
    "xmm11", "xmm12", "xmm13", "xmm14", "xmm15", "xmm16", "xmm17", "xmm18", "xmm19", "xmm20", "xmm21",
    "xmm22", "xmm23", "xmm24", "xmm25", "xmm26", "xmm27", "xmm28", "xmm29", "xmm30", "xmm31"};
constexpr std::array<std::string_view, 32> kYmm = {
    "ymm0",  "ymm1",  "ymm2",  "ymm3",  "ymm4",  "ymm5",  "ymm6",  "ymm7",  "ymm8",  "ymm9",  "ymm10",
    "ymm11", "ymm12", "ymm13", "ymm14", "ymm15", "ymm16", "ymm17", "ymm18", "ymm19", "ymm20", "ymm21",
    "ymm22", "ymm23", "ymm24", "ymm25", "ymm26", "ymm27", "ymm28", "ymm29", "ymm30", "ymm31"};
constexpr std::array<std::string_view, 32> kZmm = {
    "zmm0",  "zmm1",  "zmm2",  "zmm3",  "zmm4",  "zmm5",  "zmm6",  "zmm7",  "zmm8",  "zmm9",  "zmm10",
    "zmm11", "zmm12", "zmm13", "zmm14", "zmm15", "zmm16", "zmm17", "zmm18", "zmm19", "zmm20", "zmm21",
    "zmm22", "zmm23", "zmm24", "zmm25", "zmm26", "zmm27", "zmm28", "zmm29", "zmm30", "zmm31"};
constexpr std::array<std::string_view, 8> kMask = {"k0", "k1", "k2", "k3", "k4", "k5", "k6", "k7"};
constexpr std::array<std::string_view, 8> kMmx = {"mm0", "mm1", "mm2", "mm3", "mm4", "mm5", "mm6", "mm7"};
constexpr std::array<std::string_view, 8> kX87 = {"st", "st(1)", "st(2)", "st(3)", "st(4)", "st(5)", "st(6)", "st(7)"};
constexpr std::array<std::string_view, 8> kTiles = {"tmm0", "tmm1", "tmm2", "tmm3", "tmm4", "tmm5", "tmm6", "tmm7"};
constexpr std::array<std::string_view, 4> kBounds = {"bnd0", "bnd1", "bnd2", "bnd3"};

std::string_view pick(std::span<const std::string_view> names, std::size_t index) {
  return index < names.size() ? names[index] : std::string_view{};
}

std::string_view general_name(RegisterPart part) {
  switch (part.width) {
    case 64: return pick(k64, part.index);
    case 32: return pick(k32, part.index);
    case 16: return pick(k16, part.index);
    case 8: return part.offset == 8 ? pick(kHigh8, part.index) : pick(k8, part.index);
    default: return {};
  }
}

}  // namespace

std::string_view name_of(RegisterPart part) {
  switch (part.file) {
    case RegisterFile::general: return general_name(part);
    case RegisterFile::segment: return pick(kSegments, part.index);
    case RegisterFile::control: return pick(kControl, part.index);
    case RegisterFile::debug: return pick(kDebug, part.index);
    case RegisterFile::vector:
      return pick(part.offset + part.width > 256 ? kZmm : part.offset + part.width > 128 ? kYmm : kXmm, part.index);
    case RegisterFile::mask: return pick(kMask, part.index);
    case RegisterFile::mmx: return pick(kMmx, part.index);
    case RegisterFile::x87: return pick(kX87, part.index);
    case RegisterFile::x87_control: return "fcw";
    case RegisterFile::x87_status: return "fsw";
    case RegisterFile::tile: return pick(kTiles, part.index);
    case RegisterFile::bound: return pick(kBounds, part.index);
    case RegisterFile::mxcsr: return "mxcsr";
    case RegisterFile::instruction_pointer: return part.width == 32 ? "eip" : "rip";
    case RegisterFile::none: break;
  }
  return {};
}

}  // namespace deeptrace::isa
