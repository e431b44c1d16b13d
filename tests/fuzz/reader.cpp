// Any bytes as a file: opened, surveyed, listed, with lines, data, uses and a comparison. Whatever comes must be an
// answer or an error, in bounded time and memory. The seeds are small real files (run.sh makes them).
#include <sys/mman.h>
#include <unistd.h>

#include <cstdint>
#include <string>

#include "debuginfo/frame_rules.h"
#include "debuginfo/locals.h"
#include "debuginfo/location.h"
#include "debuginfo/variables.h"
#include "program/flow_graph.h"
#include "study/compare.h"
#include "study/convention_check.h"
#include "study/data.h"
#include "study/explain_frame.h"
#include "study/lines.h"
#include "study/listing.h"
#include "study/survey.h"
#include "study/uses.h"

namespace {

using namespace deeptrace;

struct Listing : study::ListingSink {
  void begin(const study::ListedFile& /*file*/) override {}
  void begin_function(const study::ListedFunction& /*function*/) override {}
  void instruction(const study::ListedInstruction& row) override { bytes += row.bytes.size() + row.text.size(); }
  void end_function() override {}
  void end() override {}
  std::uint64_t bytes = 0;
};
struct Data : study::DataSink {
  void begin(const study::DataFile& /*file*/) override {}
  void variable(const study::DataRow& row) override { size += row.size; }
  void end() override {}
  std::uint64_t size = 0;
};
struct Lines : study::LinesSink {
  void begin(const program::Program& /*program*/, std::size_t /*lines*/) override {}
  void line(const study::LineEntry& row) override { bytes += row.bytes; }
  void end() override {}
  std::uint64_t bytes = 0;
};
struct Uses : study::UsesSink {
  void begin(const study::UsesHead& /*head*/) override {}
  void use(const study::Use& /*row*/) override {}
  void end(const study::UsesSummary& /*summary*/) override {}
};
struct Compare : study::CompareSink {
  void begin(const program::Program& /*a*/, const program::Program& /*b*/, bool /*whole*/) override {}
  void function(const study::ComparedFunction& /*function*/) override {}
  void end(const study::CompareSummary& /*summary*/) override {}
};

/// A state in which every register and all memory has a value.
struct Anything : debuginfo::LocationContext {
  std::optional<std::uint64_t> reg(unsigned number) override { return number * 4096; }
  bool read(std::uint64_t address, std::span<std::uint8_t> into) override {
    for (std::uint8_t& byte : into) byte = static_cast<std::uint8_t>(address++);
    return true;
  }
  std::optional<std::uint64_t> frame_base() override { return 0x7000; }
  std::optional<std::uint64_t> cfa() override { return 0x7010; }
  std::optional<std::uint64_t> thread_address(std::uint64_t offset) override { return offset; }
  std::optional<std::uint64_t> at_entry(Bytes expression) override { return expression.size(); }
};

/// Frames and variables at the ends and in the middle of each function.
void look_at_functions(const program::Program& program) {
  debuginfo::FrameTable frames(program.elf(), program.debug_elf());
  debuginfo::Scopes scopes(program.debug());
  debuginfo::Locals locals(program.debug(), scopes);
  Anything context;
  std::size_t looked = 0;
  for (const program::Function& function : program.functions()) {
    if (++looked > 200) return;
    for (const std::uint64_t address : {function.address, function.address + function.size / 2}) {
      if (const auto rule = frames.at(address); rule && !rule->cfa_expression.empty())
        (void)debuginfo::evaluate_number(rule->cfa_expression, {}, context);
      for (const debuginfo::LocalScope* scope : locals.around(address)) {
        for (const debuginfo::LocalVariable& variable : scope->variables) {
          const auto entry = program.debug().read(variable.entry);
          if (!entry) continue;
          const debuginfo::ExpressionPlace place{&program.debug(), variable.entry.unit, 0, 8};
          for (const auto& part : program.debug().locations(*entry, debuginfo::At::location))
            (void)debuginfo::evaluate(part.expression, place, context);
        }
      }
    }
  }
}

}  // namespace

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  static const int file = memfd_create("input", 0);
  if (ftruncate(file, static_cast<off_t>(size)) != 0 || pwrite(file, data, size, 0) != static_cast<ssize_t>(size))
    return 0;
  const auto program =
      program::Program::open("/proc/self/fd/" + std::to_string(file), {{.all = true, .paths = {}}, {}, false, true});
  if (!program) return 0;
  (void)study::survey(*program);
  const auto plan = study::plan_listing(*program, {});
  Listing listing;
  if (plan) study::list(*plan, listing);
  Data variables;
  (void)study::list_data(*program, {{}, {}, true}, variables);
  Lines lines;
  (void)study::list_lines(*program, {}, true, lines);
  Uses uses;
  (void)study::list_uses(*program, {"level", false, isa::Syntax::intel}, uses);
  (void)study::list_uses(*program, {"1", true, isa::Syntax::intel}, uses);
  Compare compare;
  (void)study::compare(*program, *program, {.where = {}, .all = true}, compare);
  look_at_functions(*program);
  program::CodeScan scan(*program);
  for (const program::Function& function : program->functions())
    (void)program::condensed(program::flow_graph_of(*program, scan, function), 8);
  for (const program::Function& function : program->functions())
    (void)study::explain_frame(*program, function, isa::Syntax::intel);
  (void)study::check_conventions(*program);
  return 0;
}
