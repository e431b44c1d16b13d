// Decoding against a plain tool over the same bytes: all code of a large library is decoded, to compact instructions
// and with full operands and effects, every field folded into a checksum; `sha256sum` reads the same bytes from a file.
// And the text listing against `gzip -1`. Both sides in one run, alternating, medians of seven; one thread but for the
// listing, which may use both processors.
//
// usage: decode_rate [FILE [decode]]      (default: libLLVM-14; with "decode" the listing is left out)
#include <fcntl.h>
#include <sys/wait.h>
#include <unistd.h>

#include <algorithm>
#include <array>
#include <bit>
#include <chrono>
#include <cstdio>
#include <cstdlib>
#include <cstring>
#include <fstream>
#include <functional>
#include <memory>
#include <string>
#include <type_traits>
#include <vector>

#include "binary/elf.h"
#include "isa/forms.h"

namespace {

using namespace deeptrace;

std::uint64_t fold(std::uint64_t sum, std::uint64_t value) { return (sum << 7 | sum >> 57) ^ value; }

/// Every field: they fill the structure without gaps.
std::uint64_t fold(std::uint64_t sum, const isa::Instruction& i) {
  static_assert(std::has_unique_object_representations_v<isa::Instruction>);
  std::uint64_t words[4];
  std::memcpy(words, &i, sizeof i);
  return fold(sum, words[0] ^ words[1] * 3 ^ words[2] * 5 ^ words[3] * 7);
}

using Lanes [[gnu::vector_size(16)]] = std::uint64_t;

/// Pieces of sixteen bytes; where they stand has a part in it.
template <std::size_t kSize>
Lanes fold_pieces(Lanes sum, const void* pieces) {
  static_assert(kSize % sizeof(Lanes) == 0);
#pragma GCC unroll 8
  for (std::size_t at = 0; at < kSize; at += sizeof(Lanes)) {
    Lanes piece;
    std::memcpy(&piece, static_cast<const char*>(pieces) + at, sizeof piece);
    sum = Lanes{sum[1], sum[0]} + piece;
  }
  return sum;
}

/// Every field: operands fill their bytes without gaps, and effects those up to the end of the usual registers.
std::uint64_t fold(std::uint64_t sum, const isa::Operands& operands, const isa::Effects& effects) {
  static_assert(std::has_unique_object_representations_v<isa::Operand> && sizeof(isa::RegisterEffect) == 8);
  constexpr std::size_t kUsual = isa::Operands::kUsual, kUsualRegisters = isa::Effects::kUsual;
  Lanes lanes =
      fold_pieces<kUsual * sizeof(isa::Operand)>(Lanes{operands.count, operands.shown}, operands.items.data());
  lanes = fold_pieces<offsetof(isa::Effects, registers) + kUsualRegisters * 8>(lanes, &effects);
  if (operands.count > kUsual || effects.register_count > kUsualRegisters) [[unlikely]] {
    for (std::size_t i = kUsual; i < operands.count; ++i)
      lanes = fold_pieces<sizeof(isa::Operand)>(lanes, &operands[i]);
    for (std::size_t i = kUsualRegisters; i < effects.register_count; ++i)
      lanes[0] += std::bit_cast<std::uint64_t>(effects.registers[i]) * (2 * i + 1);
  }
  return fold(sum, lanes[0] ^ lanes[1] * 3);
}

/// Goes over all code, a run of instructions at a time; a byte at which none stands is passed over.
template <class Work>
std::uint64_t sweep(const std::vector<std::uint8_t>& code, isa::Mode mode, Work work) {
  std::uint64_t sum = 0;
  const std::span<const std::uint8_t> all(code);
  std::array<isa::Instruction, 64> run;
  for (std::size_t at = 0; at < code.size();) {
    const std::size_t count = isa::decode_run(all.subspan(at), code.size() - at, mode, run);
    for (std::size_t i = 0; i < count; ++i) {
      sum = work(fold(sum, run[i]), run[i]);
      at += run[i].length;
    }
    at += count < run.size() ? 1 : 0;
  }
  return sum;
}

double seconds(const std::function<void()>& work) {
  const auto start = std::chrono::steady_clock::now();
  work();
  return std::chrono::duration<double>(std::chrono::steady_clock::now() - start).count();
}

void shell(const std::string& command) {
  if (std::system(command.c_str()) != 0) std::printf("failed: %s\n", command.c_str());
}

double median(std::vector<double> times) {
  std::sort(times.begin(), times.end());
  return times[times.size() / 2];
}

}  // namespace

int main(int argc, char** argv) {
  const std::string file = argc > 1 ? argv[1] : "/usr/lib/x86_64-linux-gnu/libLLVM-14.so.1";
  const auto elf = binary::Elf::open(file);
  if (!elf) return std::printf("%s\n", elf.error().message.c_str()), 1;
  std::vector<std::uint8_t> code;
  for (const binary::Section& section : elf->sections()) {
    if (!section.is_code()) continue;
    const Bytes bytes = elf->bytes_of(section);
    code.insert(code.end(), bytes.begin(), bytes.end());
  }
  const isa::Mode mode = elf->wide() ? isa::Mode::bits64 : isa::Mode::bits32;
  char path[] = "/tmp/decode-rate-XXXXXX";
  const int out = ::mkstemp(path);
  if (out < 0 || ::write(out, code.data(), code.size()) != static_cast<ssize_t>(code.size())) return 1;
  const std::string bytes = path;
  const std::string self(argv[0]);
  const std::string deeptrace = self.substr(0, self.rfind('/')) + "/../bin/deeptrace";

  enum Side { kHash, kCompact, kFull, kPack, kListing, kSides };
  constexpr const char* kNames[] = {"sha256sum", "decode, compact", "decode, operands, effects", "gzip -1",
                                    "text listing"};
  std::array<std::vector<double>, kSides> times;
  std::uint64_t compact = 0, full = 0;
  const auto forms = std::make_unique<isa::Forms>();
  isa::Operands operands;
  isa::Effects effects;
  for (int turn = 0; turn < 7; ++turn) {
    times[kHash].push_back(seconds([&] { shell("taskset -c 0 sha256sum " + bytes + " > /dev/null"); }));
    times[kCompact].push_back(seconds([&] { compact = sweep(code, mode, [](auto sum, auto&) { return sum; }); }));
    times[kFull].push_back(seconds([&] {
      full = sweep(code, mode, [&](std::uint64_t sum, const isa::Instruction& instruction) {
        forms->look(instruction, operands, effects);
        return fold(sum, operands, effects);
      });
    }));
    if (argc > 2) continue;
    times[kPack].push_back(seconds([&] { shell("gzip -1 -c " + bytes + " > /dev/null"); }));
    times[kListing].push_back(seconds([&] { shell(deeptrace + " listing --all " + file + " > /dev/null"); }));
  }
  const double size = static_cast<double>(code.size()) / 1e6;
  std::printf("%s: %.1f MB of code, checksums %016lx %016lx\n", file.c_str(), size, compact, full);
  for (int side = 0; side < kSides; ++side) {
    if (times[side].empty()) continue;
    const double time = median(times[side]);
    const Side against = side < kPack ? kHash : kPack;
    std::printf("%-26s %8.1f MB/s   %.2f of %s\n", kNames[side], size / time, median(times[against]) / time,
                kNames[against]);
  }
  ::unlink(path);
}
