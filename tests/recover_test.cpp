// Functions of stripped files: those that the symbols of the unstripped file name are found again, and few others.
#include <gtest/gtest.h>

#include <array>
#include <set>

#include "program/program.h"
#include "support.h"

namespace deeptrace::tests {
namespace {

using program::Function;

struct Counts {
  std::size_t functions = 0, cold = 0;  ///< in the unstripped file; cold: parts that the compiler split off
  std::size_t found = 0, found_cold = 0, wrong = 0;

  Counts& operator+=(const Counts& other) {
    functions += other.functions;
    cold += other.cold;
    found += other.found;
    found_cold += other.found_cold;
    wrong += other.wrong;
    return *this;
  }
};

Counts compare_with_stripped(const std::string& path, const TempFolder& folder) {
  EXPECT_EQ(run({"strip", "-o", folder / "stripped", path}).status, 0) << path;
  const auto whole = program::Program::open(path, {});
  const auto bare = program::Program::open(folder / "stripped", {});
  EXPECT_TRUE(whole && bare);
  Counts counts;
  std::set<std::uint64_t> known, again;
  for (const Function& function : bare->functions()) {
    if (function.origin == Function::Origin::recovered || function.origin == Function::Origin::symbol)
      again.insert(function.address);
  }
  for (const Function& function : whole->functions()) {
    // PLT stubs and the linker's own sections have no functions.
    const std::string_view section = whole->elf().sections()[function.section].name;
    if (function.origin != Function::Origin::symbol || section == ".init" || section == ".fini" || function.size == 0)
      continue;
    known.insert(function.address);
    const bool cold = function.symbol().find(".cold") != std::string_view::npos ||
                      function.symbol().find(".part.") != std::string_view::npos;
    const bool found = again.contains(function.address);
    ++(cold ? counts.cold : counts.functions);
    (cold ? counts.found_cold : counts.found) += found ? 1 : 0;
    if (!found && !cold && std::getenv("SHOW_MISSED") != nullptr)
      std::fprintf(stderr, "missed %s %llx\n", function.name.str().c_str(),
                   static_cast<unsigned long long>(function.address));
  }
  for (const std::uint64_t address : again) {
    if (known.contains(address)) continue;
    ++counts.wrong;
    if (std::getenv("SHOW_MISSED") != nullptr) std::fprintf(stderr, "wrong %s\n", whole->place_name(address).c_str());
  }
  return counts;
}

/// Programs of the demo and of the tests, by two compilers at several levels.
Counts over_all_programs(const std::vector<std::string>& more_options) {
  const std::vector<std::vector<std::string>> programs = {
      {"gcc", source("demo/tidelog/tidelog.c"), source("demo/tidelog/levels.c"), source("demo/tidelog/checksum.s")},
      {"g++", source("demo/station/station.cpp"), "-std=c++17", "-pthread"},
      {"gcc", source("demo/gauge32/gauge32.c"), "-m32"},
      {"gcc", source("demo/buoy/buoy.c")},
      {"g++", source("tests/programs/throwing.cpp"), "-pthread"},
      {"gcc", source("tests/programs/winding.c")},
      {"gcc", source("demo/seal/seal.c")},
  };
  Counts sum;
  std::size_t built = 0;
  for (const bool clang : {false, true}) {
    for (const std::string level : {"-O0", "-O1", "-O2", "-Os"}) {
      for (const auto& words : programs) {
        const TempFolder folder;
        std::vector<std::string> command = words;
        if (clang) command[0] = command[0] == "gcc" ? "clang" : "clang++";
        command.insert(command.end(), {level, "-o", folder / "program"});
        command.insert(command.end(), more_options.begin(), more_options.end());
        EXPECT_EQ(run(command).status, 0);
        sum += compare_with_stripped(folder / "program", folder);
        ++built;
      }
    }
  }
  // Programs of real packages: both compilers, one level each in turn.
  const TempFolder written;
  std::size_t turn = 0;
  for (const RealSource& real : real_programs(written)) {
    for (const bool clang : {false, true}) {
      const TempFolder folder;
      const std::string level = std::array{"-O0", "-O1", "-O2", "-Os"}[turn++ / 2 % 4];
      std::vector<std::string> command = {real.is_cxx() ? (clang ? "clang++" : "g++") : (clang ? "clang" : "gcc"),
                                          "-w",
                                          level,
                                          "-o",
                                          folder / "program",
                                          real.path};
      command.insert(command.end(), more_options.begin(), more_options.end());
      command.insert(command.end(), real.options.begin(), real.options.end());
      EXPECT_EQ(run(command).status, 0) << real.path;
      sum += compare_with_stripped(folder / "program", folder);
      ++built;
    }
  }
  std::printf("%zu builds: %zu of %zu functions found, %zu of %zu split-off parts, %zu wrong\n", built, sum.found,
              sum.functions, sum.found_cold, sum.cold, sum.wrong);
  return sum;
}

TEST(Recover, NearlyAllFunctionsOfStrippedPrograms) {
  const Counts sum = over_all_programs({});
  EXPECT_GE(100 * sum.found, 99 * sum.functions);
  EXPECT_LT(100 * sum.wrong, sum.functions);
}

TEST(Recover, MostFunctionsWithoutUnwindTables) {
  const Counts sum = over_all_programs({"-fno-asynchronous-unwind-tables", "-fno-unwind-tables"});
  EXPECT_GE(100 * sum.found, 98 * sum.functions);
}

TEST(Recover, StartUpCodeIsKnownByItsPlace) {
  const TempFolder folder;
  ASSERT_EQ(run({"gcc", "-O2", "-s", "-o", folder / "a", source("demo/buoy/buoy.c")}).status, 0);
  const Outcome all = deeptrace({"listing", "--all", folder / "a"});
  const Outcome own = deeptrace({"listing", folder / "a"});
  for (const std::string name :
       {"_start", "frame_dummy", "register_tm_clones", "deregister_tm_clones", "__do_global_dtors_aux"}) {
    EXPECT_NE(all.out.find("\n" + name + " (no symbol)"), std::string::npos) << name;
    EXPECT_EQ(own.out.find("\n" + name + " "), std::string::npos) << name;
  }
  EXPECT_NE(own.out.find("\nmain (no symbol)"), std::string::npos);
}

}  // namespace
}  // namespace deeptrace::tests
