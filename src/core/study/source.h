// The work of `listing --format assembler` without --exact: source that can be edited, assembled and linked.
//
// Object files are written exactly: assembled unchanged, the source gives the same bytes and relocations. Of linked
// files single functions can be taken out: what they refer to goes by its symbol, unnamed strings and constants are
// copied, jump tables are written with labels. What cannot be said so is refused by name. Debug information is left
// out. Unwind tables are written as directives; of linked files not for functions with exception handlers, which a
// remark says.
#pragma once

#include "base/result.h"
#include "program/program.h"
#include "study/assembly.h"

namespace deeptrace::study {

/// Writes the source; nothing is written when it is refused. Errors: a location that stands for nothing; a reference
/// that has no name.
Result<AssemblySummary> write_source(const program::Program& program, const AssemblyRequest& request,
                                     AssemblySink& sink);

}  // namespace deeptrace::study
