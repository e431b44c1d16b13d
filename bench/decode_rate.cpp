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

using Lanes [[gnu::vector_size(16)]] = std::uint64_t;

/// Sums over structures of kSize bytes, one for every sixteen bytes of them: every field is in its own.
template <std::size_t kSize>
class Sums {
 public:
  void add(const void* structure) {
#pragma GCC unroll 8
    for (std::size_t i = 0; i < kCount; ++i) {
      Lanes piece;
      std::memcpy(&piece, static_cast<const char*>(structure) + i * sizeof piece, sizeof piece);
      sums_[i] += piece;
    }
  }
  [[nodiscard]] std::uint64_t sum() const {
    std::uint64_t result = 0;
    for (const Lanes& sum : sums_) result = (result * 31 + sum[0]) * 31 + sum[1];
    return result;
  }

 private:
  static_assert(kSize % sizeof(Lanes) == 0);
  static constexpr std::size_t kCount = kSize / sizeof(Lanes);
  std::array<Lanes, kCount> sums_{};
};

/// Every field: instructions and operands fill their bytes without gaps, effects those up to the end of the usual
/// registers.
class AllSums {
 public:
  void add(const isa::Instruction& instruction) {
    static_assert(std::has_unique_object_representations_v<isa::Instruction>);
    instructions_.add(&instruction);
  }
  void add(const isa::Usage& usage) {
    static_assert(std::has_unique_object_representations_v<isa::Operand> && sizeof(isa::RegisterEffect) == 8);
    const auto& [operands, effects] = usage;
    operands_.add(operands.items.data());
    effects_.add(&effects);
    rest_ += operands.count + 16U * operands.shown;
    if (operands.count <= kUsual && effects.register_count <= kUsualRegisters) [[likely]]
      return;
    Sums<sizeof(isa::Operand)> more;
    for (std::size_t i = kUsual; i < operands.count; ++i) more.add(&operands[i]);
    rest_ += more.sum();
    for (std::size_t i = kUsualRegisters; i < effects.register_count; ++i)
      rest_ += std::bit_cast<std::uint64_t>(effects.registers[i]) * (2 * i + 1);
  }
  [[nodiscard]] std::uint64_t sum() const {
    return instructions_.sum() ^ operands_.sum() * 3 ^ effects_.sum() * 5 ^ rest_ * 7;
  }

 private:
  static constexpr std::size_t kUsual = isa::Operands::kUsual, kUsualRegisters = isa::Effects::kUsual;
  Sums<sizeof(isa::Instruction)> instructions_;
  Sums<kUsual * sizeof(isa::Operand)> operands_;
  Sums<offsetof(isa::Effects, registers) + kUsualRegisters * sizeof(isa::RegisterEffect)> effects_;
  std::uint64_t rest_ = 0;
};

/// Goes over all code, a run of instructions at a time, whose bytes `work` adds up; a byte at which none stands is
/// passed over.
template <std::size_t kRun, class Work>
void sweep(const std::vector<std::uint8_t>& code, isa::Mode mode, Work work) {
  const std::span<const std::uint8_t> all(code);
  std::array<isa::Instruction, kRun> run;
  for (std::size_t at = 0; at < code.size();) {
    const std::size_t count = isa::decode_run(all.subspan(at), code.size() - at, mode, run);
    at += work(std::span<const isa::Instruction>(run).first(count));
    at += count < run.size() ? 1 : 0;
  }
}

std::uint64_t decode_compact(const std::vector<std::uint8_t>& code, isa::Mode mode) {
  AllSums sums;
  sweep<64>(code, mode, [&](std::span<const isa::Instruction> run) {
    std::size_t bytes = 0;
    for (const isa::Instruction& instruction : run) {
      sums.add(instruction);
      bytes += instruction.length;
    }
    return bytes;
  });
  return sums.sum();
}

std::uint64_t decode_fully(const std::vector<std::uint8_t>& code, isa::Mode mode, isa::Forms& forms) {
  AllSums sums;
  std::array<isa::Usage, 8> usages;
  sweep<64>(code, mode, [&](std::span<const isa::Instruction> run) {
    std::size_t bytes = 0;
    while (!run.empty()) {
      const auto few = run.first(std::min(run.size(), usages.size()));
      forms.look(few, usages);
      for (std::size_t i = 0; i < few.size(); ++i) {
        sums.add(few[i]);
        sums.add(usages[i]);
        bytes += few[i].length;
      }
      run = run.subspan(few.size());
    }
    return bytes;
  });
  return sums.sum();
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
  for (int turn = 0; turn < 7; ++turn) {
    times[kHash].push_back(seconds([&] { shell("taskset -c 0 sha256sum " + bytes + " > /dev/null"); }));
    times[kCompact].push_back(seconds([&] { compact = decode_compact(code, mode); }));
    times[kFull].push_back(seconds([&] { full = decode_fully(code, mode, *forms); }));
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
