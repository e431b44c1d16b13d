#include "study/source.h"

#include "study/source_writer.h"

namespace deeptrace::study {

Result<AssemblySummary> write_source(const program::Program& program, const AssemblyRequest& request,
                                     AssemblySink& sink) {
  SourceWriter writer(program, request, sink);
  if (auto error = writer.plan()) return *error;
  return writer.write();
}

}  // namespace deeptrace::study
