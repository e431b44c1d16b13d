// `survey`: what the compiler and linker were told is what is found, and every byte is accounted for.
#include <gtest/gtest.h>

#include <nlohmann/json.hpp>

#include "support.h"

namespace deeptrace::tests {
namespace {

using nlohmann::json;

json surveyed(const std::filesystem::path& file) {
  const Outcome outcome = deeptrace({"survey", "--format", "json", file});
  EXPECT_EQ(outcome.status, 0) << outcome.err;
  return outcome.status == 0 ? json::parse(outcome.out)["files"][0] : json();
}

constexpr std::string_view kProgram = R"(
#include <stdio.h>
#include <string.h>
int tide_levels[100] = {1, 2, 3};
int main(int argc, char** argv) {
  char name[32];
  strcpy(name, argv[0]);
  return printf("%s %d\n", name, tide_levels[argc]);
}
)";

/// Compiler options, and the facts that follow from them, by the key of the survey's "hardening" or of the whole.
struct Case {
  std::vector<std::string> options;
  json facts;
};
void PrintTo(const Case& c, std::ostream* out) {
  for (const std::string& option : c.options) *out << option << ' ';
}

class Built : public testing::TestWithParam<Case> {};

TEST_P(Built, IsWhatTheCompilerWasTold) {
  const TempFolder folder;
  write_file(folder / "a.c", std::string(kProgram));
  std::vector<std::string> words = {"gcc", "-o", folder / "a", folder / "a.c"};
  words.insert(words.end(), GetParam().options.begin(), GetParam().options.end());
  ASSERT_EQ(run(words).status, 0);
  const json found = surveyed(folder / "a");
  for (const auto& [key, value] : GetParam().facts.items()) {
    const json& place = found.contains(key)            ? found
                        : found["debug"].contains(key) ? found["debug"]
                                                       : found["hardening"];
    EXPECT_EQ(place.value(key, json("absent")), value) << key;
  }
}

INSTANTIATE_TEST_SUITE_P(
    Options, Built,
    testing::Values(
        Case{{"-pie", "-fpie", "-Wl,-z,now"},
             {{"kind", "position-independent executable"},
              {"relro", "full"},
              {"position_independent", true},
              {"executable_stack", false},
              {"needed", json::array({"libc.so.6"})},
              {"stripped", false}}},
        Case{{"-no-pie", "-fno-pie", "-Wl,-z,norelro", "-z", "execstack"},
             {{"kind", "executable"}, {"relro", "none"}, {"position_independent", false}, {"executable_stack", true}}},
        Case{{"-Wl,-z,relro", "-Wl,-z,lazy", "-fno-stack-protector"},
             {{"relro", "partial"}, {"stack_protection", false}}},
        Case{{"-fstack-protector-all"}, {{"stack_protection", true}, {"checking_calls", false}}},
        Case{{"-O2", "-D_FORTIFY_SOURCE=2"}, {{"checking_calls", true}}},
        Case{{"-fcf-protection=none"}, {{"branch_marks", false}, {"shadow_stack", false}}},
        Case{{"-static"}, {{"kind", "executable"}, {"needed", json::array()}, {"interpreter", nullptr}}},
        Case{{"-shared", "-fPIC", "-Wl,-soname,libtide.so.1"},
             {{"kind", "shared library"}, {"library_name", "libtide.so.1"}, {"entry", nullptr}}},
        Case{{"-c"}, {{"kind", "object file"}, {"entry", nullptr}, {"position_independent", false}}},
        Case{{"-m32", "-c", "-ffreestanding", "-Dstrcpy=__builtin_strcpy", "-include", "/dev/null"},
             {{"machine", "x86, 32-bit"}}},
        Case{{"-g", "-gdwarf-4"}, {{"dwarf", 4}, {"units", 1}, {"lines", true}}},
        Case{{"-g", "-gdwarf-5", "-m64"}, {{"dwarf", 5}, {"units", 1}}},
        Case{{"-g0"}, {{"dwarf", nullptr}, {"units", 0}, {"lines", false}}}, Case{{"-s"}, {{"stripped", true}}}));

TEST(Survey, BytesAddUpToTheFile) {
  std::vector<std::filesystem::path> files = {demo("tidelog"), demo("beacon"), DEEPTRACE_PROGRAM,
                                              "/lib/x86_64-linux-gnu/libm.so.6"};
  std::size_t number = 0;
  for (const auto& entry : std::filesystem::directory_iterator("/usr/bin")) {
    if (entry.is_regular_file() && ++number % 25 == 0 &&
        read_file(entry.path())
            .starts_with("\x7f"
                         "ELF"))
      files.push_back(entry.path());
  }
  ASSERT_GT(files.size(), 10U);
  for (const std::filesystem::path& file : files) {
    const json found = surveyed(file);
    std::uint64_t sum = 0;
    for (const auto& [use, bytes] : found["bytes"].items()) sum += bytes.get<std::uint64_t>();
    EXPECT_EQ(sum, std::filesystem::file_size(file)) << file;
    // The headers' sizes, read here once more (System V ABI, figure 4-3).
    const std::string head = read_file(file);
    const auto half = [&](std::size_t at) {
      return static_cast<unsigned char>(head[at]) + 256U * static_cast<unsigned char>(head[at + 1]);
    };
    if (head[4] == 2) {
      EXPECT_EQ(found["bytes"]["headers"], 64 + half(54) * half(56) + half(58) * half(60)) << file;
    }
  }
}

TEST(Survey, NamesCompilersAndFunctions) {
  const json found = surveyed(demo("tidelog"));
  EXPECT_EQ(found["debug"]["units"], 3) << "two C files and an assembly routine";
  EXPECT_NE(found["debug"]["compilers"].dump().find("GNU C"), std::string::npos);
  EXPECT_EQ(found["entry"]["function"], "_start");
  EXPECT_EQ(found["own_function_count"], 8);
  bool text = false;
  for (const json& section : found["sections"]) text |= section["name"] == ".text" && section["flags"] == "r-x";
  EXPECT_TRUE(text);
}

TEST(Survey, PutsFilesSideBySide) {
  const TempFolder folder;
  ASSERT_EQ(run({"strip", "-o", folder / "bare", demo("tidelog")}).status, 0);
  const Outcome outcome = deeptrace({"survey", demo("tidelog"), folder / "bare"});
  EXPECT_EQ(outcome.status, 0);
  EXPECT_NE(outcome.out.find("stripped: only those for linking"), std::string::npos);
  EXPECT_EQ(deeptrace({"survey", demo("tidelog"), "no-such-file"}).status, 3);
  EXPECT_EQ(deeptrace({"survey"}).status, 2);
}

TEST(Survey, LibrariesWithAnEntryAreLibraries) {
  const TempFolder folder;
  write_file(folder / "gauge.c", "int read_gauge(void) { return 3; }\nint main(void) { return read_gauge(); }\n");
  const std::string source = folder / "gauge.c";
  const auto kind = [&](const std::string& name, std::vector<std::string> options) {
    options.insert(options.begin(), "gcc");
    options.insert(options.end(), {"-o", folder / name, source});
    EXPECT_EQ(run(options).status, 0);
    const Outcome outcome = run({DEEPTRACE_PROGRAM, "survey", folder / name});
    const std::size_t at = outcome.out.find("kind"), end = outcome.out.find(',', at);
    return outcome.out.substr(outcome.out.find_first_not_of(' ', at + 4),
                              end - outcome.out.find_first_not_of(' ', at + 4));
  };
  EXPECT_EQ(kind("plain.so", {"-shared", "-fPIC"}), "shared library");
  EXPECT_EQ(kind("started.so", {"-shared", "-fPIC", "-Wl,-soname,started.so", "-Wl,-e,read_gauge"}), "shared library");
  EXPECT_EQ(kind("program", {"-pie", "-fPIE"}), "position-independent executable");
  EXPECT_EQ(kind("named", {"-pie", "-fPIE", "-Wl,-soname,named"}), "position-independent executable");
}

}  // namespace
}  // namespace deeptrace::tests
