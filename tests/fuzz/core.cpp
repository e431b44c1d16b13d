// Any bytes as a core file: its notes, regions, threads, registers and memory. Whatever comes must be an answer, a
// remark or an error. The seeds are made up as the kernel writes them (tests/fake_core.h).
#include <sys/mman.h>
#include <unistd.h>

#include <cstdint>
#include <cstdlib>
#include <string>

#include "../fake_core.h"
#include "corefile/core_file.h"

namespace {

using namespace deeptrace;

}  // namespace

void write_core_seeds(const std::string& folder) {
  for (const bool wide : {true, false}) {
    tests::FakeCore core(wide);
    core.thread(70, std::vector<std::uint64_t>(wide ? 27 : 17, 0x401000));
    core.note("LINUX", 0x202, std::vector<std::uint8_t>(wide ? 2696 : 832, 0xe7));
    core.note("LINUX", 0x205, std::vector<std::uint8_t>(64, 2));
    core.note("LINUX", 0x200, std::vector<std::uint8_t>(48, 12));
    core.thread(71, std::vector<std::uint64_t>(wide ? 27 : 17, ~std::uint64_t(0)));
    core.process(70, "prog");
    core.signal(11, 1, 0x1234);
    core.auxiliary({{9, 0x401000}, {31, 0x700010}, {33, 0x401000}});
    core.files({{0x400000, 0x402000, 0, "/proc/self/exe"}, {0x402000, 0x403000, 2, "/proc/self/exe"}});
    core.memory = {{0x400000, std::vector<std::uint8_t>(64, 0x7f), 8192}, {0x700000, {1, 2, 3}, 4096, 6}};
    core.many = wide;
    core.write(folder + (wide ? "/wide" : "/narrow"));
  }
}

extern "C" int LLVMFuzzerInitialize(int* /*count*/, char*** /*words*/) {
  if (const char* folder = std::getenv("CORE_SEEDS")) write_core_seeds(folder);
  return 0;
}

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  static const int file = ::memfd_create("core", 0);
  if (::ftruncate(file, 0) != 0 || ::pwrite(file, data, size, 0) != static_cast<ssize_t>(size)) return 0;
  const std::string path = "/proc/self/fd/" + std::to_string(file);
  for (const char* program : {"", "/proc/self/exe"}) {
    const auto core = corefile::CoreFile::open(path, program);
    if (!core) continue;
    std::uint8_t into[256];
    for (const state::ThreadId thread : (*core)->threads()) {
      const state::StateView& view = (*core)->view(thread);
      (void)view.extended();
      (void)view.read_memory(view.registers()[state::Reg::rsp], into);
      (void)view.read_memory(0x400000, into);
      (void)view.why_unreadable(view.registers()[state::Reg::rip]);
      (void)(*core)->system_call(thread);
      (void)(*core)->pending_signal(thread);
    }
    for (const state::Mapping& mapping : (*core)->mappings()) {
      (void)(*core)->view((*core)->signalled()).read_memory(mapping.to - 16, into);
    }
  }
  return 0;
}
