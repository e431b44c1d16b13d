#include "cli/command.h"
namespace deeptrace::cli {
const Command kDemo = {"demo", "", "", "", nullptr};
}
