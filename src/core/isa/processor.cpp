#include "isa/processor.h"

#include <cpuid.h>

#include <algorithm>
#include <cstdint>

namespace deeptrace::isa {
namespace {

enum Register : std::uint8_t { kEax, kEbx, kEcx, kEdx };
/// Which registers the system must save (Intel SDM volume 1, 13.3): bits of XCR0.
enum State : std::uint32_t { kNoState = 0, kAvx = 0x6, kMpx = 0x18, kAvx512 = 0xe6, kPku = 0x200, kAmx = 0x60000 };

struct Feature {
  std::string_view name;
  std::uint32_t leaf, subleaf;
  Register in;
  std::uint8_t bit;
  State state = kNoState;
};

constexpr std::uint32_t kExtended = 0x80000001, kExtended8 = 0x80000008;

constexpr Feature kFeatures[] = {
    {"x87", 1, 0, kEdx, 0},
    {"mmx", 1, 0, kEdx, 23},
    {"fxsr", 1, 0, kEdx, 24},
    {"sse", 1, 0, kEdx, 25},
    {"sse2", 1, 0, kEdx, 26},
    {"clflush", 1, 0, kEdx, 19},
    {"sse3", 1, 0, kEcx, 0},
    {"pclmul", 1, 0, kEcx, 1},
    {"ssse3", 1, 0, kEcx, 9},
    {"fma", 1, 0, kEcx, 12, kAvx},
    {"cx16", 1, 0, kEcx, 13},
    {"sse4.1", 1, 0, kEcx, 19},
    {"sse4.2", 1, 0, kEcx, 20},
    {"movbe", 1, 0, kEcx, 22},
    {"popcnt", 1, 0, kEcx, 23},
    {"aes", 1, 0, kEcx, 25},
    {"xsave", 1, 0, kEcx, 27},
    {"avx", 1, 0, kEcx, 28, kAvx},
    {"f16c", 1, 0, kEcx, 29, kAvx},
    {"rdrand", 1, 0, kEcx, 30},
    {"fsgsbase", 7, 0, kEbx, 0},
    {"bmi1", 7, 0, kEbx, 3},
    {"avx2", 7, 0, kEbx, 5, kAvx},
    {"bmi2", 7, 0, kEbx, 8},
    {"rtm", 7, 0, kEbx, 11},
    {"mpx", 7, 0, kEbx, 14, kMpx},
    {"avx512f", 7, 0, kEbx, 16, kAvx512},
    {"avx512dq", 7, 0, kEbx, 17, kAvx512},
    {"rdseed", 7, 0, kEbx, 18},
    {"adx", 7, 0, kEbx, 19},
    {"avx512ifma", 7, 0, kEbx, 21, kAvx512},
    {"clflushopt", 7, 0, kEbx, 23},
    {"clwb", 7, 0, kEbx, 24},
    {"avx512pf", 7, 0, kEbx, 26, kAvx512},
    {"avx512er", 7, 0, kEbx, 27, kAvx512},
    {"avx512cd", 7, 0, kEbx, 28, kAvx512},
    {"sha", 7, 0, kEbx, 29},
    {"avx512bw", 7, 0, kEbx, 30, kAvx512},
    {"prefetchwt1", 7, 0, kEcx, 0},
    {"avx512vbmi", 7, 0, kEcx, 1, kAvx512},
    {"pku", 7, 0, kEcx, 4, kPku},
    {"waitpkg", 7, 0, kEcx, 5},
    {"avx512vbmi2", 7, 0, kEcx, 6, kAvx512},
    {"gfni", 7, 0, kEcx, 8},
    {"vaes", 7, 0, kEcx, 9, kAvx},
    {"vpclmulqdq", 7, 0, kEcx, 10, kAvx},
    {"avx512vnni", 7, 0, kEcx, 11, kAvx512},
    {"avx512bitalg", 7, 0, kEcx, 12, kAvx512},
    {"avx512vpopcntdq", 7, 0, kEcx, 14, kAvx512},
    {"rdpid", 7, 0, kEcx, 22},
    {"cldemote", 7, 0, kEcx, 25},
    {"movdiri", 7, 0, kEcx, 27},
    {"movdir64b", 7, 0, kEcx, 28},
    {"avx5124vnniw", 7, 0, kEdx, 2, kAvx512},
    {"avx5124fmaps", 7, 0, kEdx, 3, kAvx512},
    {"avx512vp2intersect", 7, 0, kEdx, 8, kAvx512},
    {"serialize", 7, 0, kEdx, 14},
    {"tsxldtrk", 7, 0, kEdx, 16},
    {"amxbf16", 7, 0, kEdx, 22, kAmx},
    {"avx512fp16", 7, 0, kEdx, 23, kAvx512},
    {"amxtile", 7, 0, kEdx, 24, kAmx},
    {"amxint8", 7, 0, kEdx, 25, kAmx},
    {"raoint", 7, 1, kEax, 3},
    {"avxvnni", 7, 1, kEax, 4, kAvx},
    {"avx512bf16", 7, 1, kEax, 5, kAvx512},
    {"cmpccxadd", 7, 1, kEax, 7},
    {"amxfp16", 7, 1, kEax, 21, kAmx},
    {"avxifma", 7, 1, kEax, 23, kAvx},
    {"avxvnniint8", 7, 1, kEdx, 4, kAvx},
    {"avxneconvert", 7, 1, kEdx, 5, kAvx},
    {"prefetchi", 7, 1, kEdx, 14},
    {"xsaveopt", 0xd, 1, kEax, 0},
    {"xsavec", 0xd, 1, kEax, 1},
    {"ptwrite", 0x14, 0, kEbx, 4},
    {"lzcnt", kExtended, 0, kEcx, 5},
    {"sse4a", kExtended, 0, kEcx, 6},
    {"prefetchw", kExtended, 0, kEcx, 8},
    {"xop", kExtended, 0, kEcx, 11, kAvx},
    {"fma4", kExtended, 0, kEcx, 16, kAvx},
    {"tbm", kExtended, 0, kEcx, 21},
    {"rdtscp", kExtended, 0, kEdx, 27},
    {"3dnow", kExtended, 0, kEdx, 31},
    {"clzero", kExtended8, 0, kEbx, 0},
    {"rdpru", kExtended8, 0, kEbx, 4},
    {"mcommit", kExtended8, 0, kEbx, 8},
};

std::uint64_t saved_state() {
  std::uint32_t a = 0, b = 0, c = 0, d = 0;
  if (__get_cpuid(1, &a, &b, &c, &d) == 0 || ((c >> 27) & 1) == 0) return 0;
  std::uint32_t low = 0, high = 0;
  __asm__("xgetbv" : "=a"(low), "=d"(high) : "c"(0));
  return low | std::uint64_t(high) << 32;
}

/// Instructions whose effect the system decides: the kernel carries them out itself, or keeps what they need from
/// programs; those that would end the single-stepping that proves them; and those that want an image that another one
/// wrote.
constexpr std::string_view kOfTheSystem[] = {
    "popf", "popfw", "popfd",   "popfq",  "wrfsbase", "wrgsbase", "rdfsbase", "sldt",   "str",    "sgdt", "sidt",
    "smsw", "xtest", "vmgexit", "xabort", "rdgsbase", "xrstor",   "xrstor64", "frstpm", "wrpkru", "rdpmc"};

/// Loads of segment registers and far transfers go by tables that the system keeps.
bool goes_by_segment_tables(const Row& row) {
  for (const OperandUse use : uses_of(row)) {
    const OperandKind& kind = kind_of(use);
    if (kind.source == Source::far || kind.width == Width::far_pointer) return true;
    if (kind.file == RegisterFile::segment && writes(use.access)) return true;
  }
  const std::string_view name = mnemonic_of(row);
  return name.starts_with("retf") || name.starts_with("iret");
}

}  // namespace

bool processor_has(std::string_view feature) {
  if (feature == "none" || feature == "base" || feature == "i686") return true;
  const auto* const found =
      std::find_if(std::begin(kFeatures), std::end(kFeatures), [&](const Feature& f) { return f.name == feature; });
  if (found == std::end(kFeatures)) return false;
  std::uint32_t registers[4] = {};
  if (__get_cpuid_count(found->leaf, found->subleaf, registers, registers + 1, registers + 2, registers + 3) == 0)
    return false;
  static const std::uint64_t kSaved = saved_state();
  return ((registers[found->in] >> found->bit) & 1) != 0 && (kSaved & found->state) == found->state;
}

std::string_view why_not_provable(const Row& row) {
  if ((row.traits & kPrivileged) != 0) return "only the kernel may run it";
  if (!processor_has(feature_of(row))) return "this processor does not have it";
  const ControlFlow flow = operation_of(row).flow;
  const bool of_the_system = std::ranges::find(kOfTheSystem, mnemonic_of(row)) != std::end(kOfTheSystem);
  if (of_the_system || flow == ControlFlow::system || flow == ControlFlow::trap || (row.traits & kGate) != 0 ||
      goes_by_segment_tables(row))
    return "the system decides what it does";
  return {};
}

}  // namespace deeptrace::isa
