// The console on the whole screen: panes that keep their places, and the same words typed at the bottom.
#pragma once

#include "cli/talk.h"
#include "program/source_text.h"

namespace deeptrace::cli {

/// Takes over the terminal until the conversation ends. Gives the exit status.
int full_screen(Talk& talk, program::SourceText& sources);

}  // namespace deeptrace::cli
