// How fast code is decoded and listed: megabytes of a library's code a second, decoding alone and the whole text and
// JSON listings written to /dev/null.
//
// usage: listing_rate [FILE]      (default: the system's C library)
#include <benchmark/benchmark.h>
#include <fcntl.h>
#include <unistd.h>

#include <string>

#include "program/program.h"
#include "program/source_text.h"
#include "report/listing.h"
#include "study/listing.h"

namespace {

using namespace deeptrace;

std::string file = "/lib/x86_64-linux-gnu/libc.so.6";

const program::Program& library() {
  static const program::Program loaded = *program::Program::open(file, {{.all = true, .paths = {}}, {}, false, false});
  return loaded;
}

std::int64_t code_bytes() {
  std::int64_t total = 0;
  for (const binary::Section& section : library().elf().sections()) {
    if (section.is_code()) total += static_cast<std::int64_t>(section.size);
  }
  return total;
}

void decode(benchmark::State& state) {
  const std::int64_t bytes = code_bytes();
  for (auto _ : state) {
    std::uint64_t checksum = 0;
    for (const binary::Section& section : library().elf().sections()) {
      if (!section.is_code()) continue;
      const Bytes code = library().elf().bytes_of(section);
      for (std::size_t at = 0; at < code.size();) {
        const isa::Instruction instruction = isa::decode(code.subspan(at), isa::Mode::bits64);
        checksum += instruction.row + instruction.immediate + static_cast<std::uint64_t>(instruction.displacement);
        at += instruction ? instruction.length : 1;
      }
    }
    benchmark::DoNotOptimize(checksum);
  }
  state.SetBytesProcessed(state.iterations() * bytes);
}

void list(benchmark::State& state, bool json) {
  const std::int64_t bytes = code_bytes();
  for (auto _ : state) {
    const int null = ::open("/dev/null", O_WRONLY);
    report::Output out(null);
    program::SourceText sources;
    const auto sink = json ? report::listing_json(out) : report::listing_text(out, {}, &sources);
    (void)study::list(*study::plan_listing(library(), {}), *sink);
    out.flush();
    ::close(null);
  }
  state.SetBytesProcessed(state.iterations() * bytes);
}

BENCHMARK(decode)->Unit(benchmark::kMillisecond);
BENCHMARK_CAPTURE(list, text, false)->Unit(benchmark::kMillisecond);
BENCHMARK_CAPTURE(list, json, true)->Unit(benchmark::kMillisecond);

}  // namespace

int main(int argc, char** argv) {
  benchmark::Initialize(&argc, argv);
  if (argc > 1) file = argv[1];
  benchmark::RunSpecifiedBenchmarks();
}
