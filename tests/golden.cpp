#include "golden.h"

#include <gtest/gtest.h>

#include <cstdlib>
#include <regex>

namespace deeptrace::tests {

const TempFolder& gauge_folder() {
  static const TempFolder folder;
  static const bool built = [] {
    const std::string text = read_file(source("tests/programs/gauge.s"));
    write_file(folder / "gauge.s", text);
    write_file(folder / "changed.s", std::regex_replace(text, std::regex("jle     above"), "jbe     above"));
    write_file(
        folder / "gauge.plan",
        "# The sum, and what is above the mark.\nat next_height when ecx == 3: keep [i32 rbp-4]; expect [i32 rbp-4] == "
        "2510\nat counted: expect eax == 3\nat above from hit 9: keep esi\n");
    for (const std::string name : {"gauge", "changed"}) {
      const std::string map = "--debug-prefix-map=" + folder.path().string() + "=/tide";
      const std::string object = folder / (name + ".o");
      if (run({"sh", "-c",
               "cd '" + folder.path().string() + "' && as --64 --gdwarf-5 " + map + " -o " + object + " " + name +
                   ".s && ld -o " + name + " " + object})
              .status != 0)
        return false;
    }
    return true;
  }();
  EXPECT_TRUE(built);
  return folder;
}

void expect_golden(const std::string& name, const std::string& text) {
  const std::string path = source("tests/golden/" + name + ".txt");
  const char* mode = std::getenv("DEEPTRACE_GOLDEN");
  if (mode != nullptr && std::string(mode) == "write") return write_file(path, text);
  EXPECT_EQ(text, read_file(path)) << path;
}

}  // namespace deeptrace::tests
