// The fuzzers' bodies over seeds and changes of them that are the same every time, as a test: what they found once, and
// what anybody's build must stand.   usage: fuzz_replay CORPUS CHANGES [FILE…]
//
// CORPUS has a folder for each body; files given beside it are seeds of `reader`.
#include <algorithm>
#include <cstdint>
#include <cstdio>
#include <cstdlib>
#include <filesystem>
#include <fstream>
#include <iterator>
#include <random>
#include <string>
#include <vector>

extern "C" {
int fuzz_decoder(const std::uint8_t* data, std::size_t size);
int fuzz_reader(const std::uint8_t* data, std::size_t size);
int fuzz_core(const std::uint8_t* data, std::size_t size);
int fuzz_words(const std::uint8_t* data, std::size_t size);
}
void write_core_seeds(const std::string& folder);

namespace {

namespace fs = std::filesystem;
using Bytes = std::vector<std::uint8_t>;

Bytes bytes_of(const fs::path& path) {
  std::ifstream file(path, std::ios::binary);
  return {std::istreambuf_iterator<char>(file), {}};
}

/// A few bytes are changed, cut out, doubled, or moved to extremes.
Bytes changed(Bytes bytes, std::mt19937& random) {
  if (bytes.empty()) return bytes;
  for (unsigned i = 1 + random() % 4; i > 0 && !bytes.empty(); --i) {
    const auto at = static_cast<std::ptrdiff_t>(random() % bytes.size());
    const auto rest = bytes.size() - static_cast<std::size_t>(at);
    const auto length = static_cast<std::ptrdiff_t>(1 + random() % std::min<std::size_t>(rest, 8));
    switch (random() % 5) {
      case 0: bytes[static_cast<std::size_t>(at)] = static_cast<std::uint8_t>(random()); break;
      case 1: bytes[static_cast<std::size_t>(at)] ^= static_cast<std::uint8_t>(1U << random() % 8); break;
      case 2: bytes.erase(bytes.begin() + at, bytes.begin() + at + length); break;
      case 3: std::fill_n(bytes.begin() + at, length, static_cast<std::uint8_t>(random() % 2 == 0 ? 0xff : 0)); break;
      default: {
        const Bytes piece(bytes.begin() + at, bytes.begin() + at + length);
        bytes.insert(bytes.begin() + at, piece.begin(), piece.end());
      }
    }
  }
  return bytes;
}

std::vector<fs::path> files_in(const fs::path& folder) {
  std::vector<fs::path> result;
  if (!fs::is_directory(folder)) return result;
  for (const auto& entry : fs::directory_iterator(folder)) result.push_back(entry.path());
  std::sort(result.begin(), result.end());
  return result;
}

}  // namespace

int main(int argc, char** argv) {
  if (argc < 3) return 2;
  const fs::path corpus = argv[1];
  const unsigned long changes = std::strtoul(argv[2], nullptr, 10);
  char folder[] = "/tmp/deeptrace-seeds-XXXXXX";
  if (::mkdtemp(folder) == nullptr) return 2;
  write_core_seeds(folder);
  struct Body {
    const char* name;
    int (*run)(const std::uint8_t*, std::size_t);
    unsigned long share;  ///< of the changes, by what one costs
  };
  for (const Body& body : {Body{"decoder", fuzz_decoder, 1},
                           {"words", fuzz_words, 1},
                           {"core", fuzz_core, 10},
                           {"reader", fuzz_reader, 40}}) {
    std::vector<fs::path> seeds = files_in(corpus / body.name);
    if (body.run == fuzz_core) {
      for (const fs::path& path : files_in(folder)) seeds.push_back(path);
    }
    if (body.run == fuzz_reader) seeds.insert(seeds.end(), argv + 3, argv + argc);
    if (seeds.empty()) {
      std::printf("%s: no seeds\n", body.name);
      return 1;
    }
    std::mt19937 random(17);
    unsigned long ran = 0;
    for (const fs::path& path : seeds) {
      const Bytes seed = bytes_of(path);
      body.run(seed.data(), seed.size());
      for (unsigned long i = 0; i < changes / body.share / seeds.size(); ++i, ++ran) {
        const Bytes input = changed(seed, random);
        body.run(input.data(), input.size());
      }
    }
    std::printf("%s: %zu seeds, %lu changed\n", body.name, seeds.size(), ran);
  }
  fs::remove_all(folder);
  return 0;
}
