#include "process/launch.h"

#include <sys/stat.h>
#include <unistd.h>

#include <cerrno>
#include <cstdlib>
#include <cstring>
#include <sstream>

namespace deeptrace::process {
namespace {

bool is_regular(const std::string& path) {
  struct stat status {};
  return ::stat(path.c_str(), &status) == 0 && S_ISREG(status.st_mode);
}

Result<std::string> checked(const std::string& path) {
  struct stat status {};
  const auto refuse = [&](const std::string& why) { return Error{Fault::program, path + ": " + why}; };
  if (::stat(path.c_str(), &status) != 0) return refuse(errno == ENOENT ? "no such program" : std::strerror(errno));
  if (S_ISDIR(status.st_mode)) return refuse("is a directory, not a program");
  if (::access(path.c_str(), X_OK) != 0)
    return refuse("may not be executed (" + std::string(std::strerror(errno)) + "); chmod +x makes it executable");
  return path;
}

}  // namespace

Result<std::string> find_program(const std::string& word) {
  if (word.find('/') != std::string::npos) return checked(word);
  if (is_regular(word)) return checked("./" + word);
  const char* path = std::getenv("PATH");
  std::istringstream folders(path == nullptr ? "/usr/bin:/bin" : path);
  for (std::string folder; std::getline(folders, folder, ':');) {
    const std::string candidate = (folder.empty() ? "." : folder) + "/" + word;
    if (is_regular(candidate) && ::access(candidate.c_str(), X_OK) == 0) return candidate;
  }
  return Error{Fault::program, word + ": no such program here or in PATH"};
}

}  // namespace deeptrace::process
