// What tests of running programs need: compiling one, running it under `hits`, watching processes from outside.
#pragma once

#include <sys/types.h>

#include <functional>
#include <nlohmann/json.hpp>
#include <string>
#include <vector>

#include "support.h"

namespace deeptrace::tests {

/// Compiles a source; the program's path.
std::string built(const TempFolder& folder, const std::string& name, const std::string& text,
                  std::vector<std::string> options = {"gcc", "-g", "-O0", "-w"});

/// What `explain --format json` says.
nlohmann::json explained(std::vector<std::string> words);
/// What `hits --format json` says.
nlohmann::json hits_of(std::vector<std::string> words, int status = 0);

/// A conversation of `console`: what it says to words, a line each, that come from a pipe. Given up after a minute.
Outcome conversation(const TempFolder& folder, const std::vector<std::string>& program, const std::string& words);

/// A field of /proc/PID/status; empty when the process is gone.
std::string status_field(pid_t pid, const std::string& field);

/// Asks again and again. False when the time is over.
bool wait_until(const std::function<bool()>& condition, int milliseconds = 20000);

/// Nothing of us is left in a process: no tracer, debug registers clear, code as in the file (which is not position
/// independent).
void expect_untouched(pid_t pid, const std::string& program);

}  // namespace deeptrace::tests
