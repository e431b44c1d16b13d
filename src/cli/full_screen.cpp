#include "cli/full_screen.h"

namespace deeptrace::cli {
int full_screen(Talk&, program::SourceText&) { return 0; }
}  // namespace deeptrace::cli
