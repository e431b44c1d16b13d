// Any bytes as a file: opened, surveyed, listed, with lines, data, uses and a comparison. Whatever comes must be an
// answer or an error, in bounded time and memory. The seeds are small real files (run.sh makes them).
#include <sys/mman.h>
#include <unistd.h>

#include <cstdint>
#include <string>

#include "debuginfo/variables.h"
#include "program/flow_graph.h"
#include "session/compare.h"
#include "session/data.h"
#include "session/lines.h"
#include "session/listing.h"
#include "session/survey.h"
#include "session/uses.h"

namespace {

using namespace deeptrace;

struct Listing : session::ListingSink {
  void begin(const session::ListedFile& /*file*/) override {}
  void begin_function(const session::ListedFunction& /*function*/) override {}
  void instruction(const session::ListedInstruction& row) override { bytes += row.bytes.size() + row.text.size(); }
  void end_function() override {}
  void end() override {}
  std::uint64_t bytes = 0;
};
struct Data : session::DataSink {
  void begin(const session::DataFile& /*file*/) override {}
  void variable(const session::DataRow& row) override { size += row.size; }
  void end() override {}
  std::uint64_t size = 0;
};
struct Lines : session::LinesSink {
  void begin(const program::Program& /*program*/, std::size_t /*lines*/) override {}
  void line(const session::LineEntry& row) override { bytes += row.bytes; }
  void end() override {}
  std::uint64_t bytes = 0;
};
struct Uses : session::UsesSink {
  void begin(const session::UsesHead& /*head*/) override {}
  void use(const session::Use& /*row*/) override {}
  void end(const session::UsesSummary& /*summary*/) override {}
};
struct Compare : session::CompareSink {
  void begin(const program::Program& /*a*/, const program::Program& /*b*/, bool /*whole*/) override {}
  void function(const session::ComparedFunction& /*function*/) override {}
  void end(const session::CompareSummary& /*summary*/) override {}
};

}  // namespace

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  static const int file = memfd_create("input", 0);
  if (ftruncate(file, static_cast<off_t>(size)) != 0 || pwrite(file, data, size, 0) != static_cast<ssize_t>(size))
    return 0;
  const auto program =
      program::Program::open("/proc/self/fd/" + std::to_string(file), {{.all = true, .paths = {}}, {}, false, true});
  if (!program) return 0;
  (void)session::survey(*program);
  const auto plan = session::plan_listing(*program, {});
  Listing listing;
  if (plan) session::list(*plan, listing);
  Data variables;
  (void)session::list_data(*program, {{}, {}, true}, variables);
  Lines lines;
  (void)session::list_lines(*program, {}, true, lines);
  Uses uses;
  (void)session::list_uses(*program, {"level", false, isa::Syntax::intel}, uses);
  (void)session::list_uses(*program, {"1", true, isa::Syntax::intel}, uses);
  Compare compare;
  (void)session::compare(*program, *program, {{}, true, isa::Syntax::intel}, compare);
  program::CodeScan scan(*program);
  for (const program::Function& function : program->functions())
    (void)program::condensed(program::flow_graph_of(*program, scan, function), 8);
  return 0;
}
