// `fault` beyond what tests/wrecks.py checks: going back to where a value was made, threads, what is no fault, the
// planted crashes of the demo.
#include <gtest/gtest.h>
#include <sys/wait.h>
#include <unistd.h>

#include <map>
#include <nlohmann/json.hpp>
#include <sstream>

#include "live_support.h"
#include "support.h"

namespace deeptrace::tests {
namespace {

using Json = nlohmann::json;

Json fault_of(std::vector<std::string> words, int status = 0) {
  words.insert(words.begin(), {"fault", "--format", "json", "--program-output", "/dev/null"});
  const Outcome outcome = deeptrace(words);
  EXPECT_EQ(outcome.status, status) << outcome.err;
  const Json parsed = Json::parse(outcome.out, nullptr, false);
  EXPECT_FALSE(parsed.is_discarded()) << outcome.out.substr(0, 300);
  return parsed.is_discarded() ? Json() : parsed;
}

/// The number of the line of reef.cpp that has a text.
unsigned line_of(const std::string& text) {
  std::istringstream lines(read_file(source("demo/reef/reef.cpp")));
  unsigned number = 0;
  for (std::string line; std::getline(lines, line);) {
    ++number;
    if (line.find(text) != std::string::npos) return number;
  }
  return 0;
}

TEST(Fault, EachPlantedCrashHasItsCauseAndItsLine) {
  struct Planted {
    const char *word, *kind, *line;
    unsigned after = 0;  ///< lines after the first that has the text
  };
  for (const Planted& one : {Planted{"nothing", "null_pointer", "return buoy->depth"},
                             {"no-text", "bad_argument", "std::strlen(name)"},
                             {"number", "bad_argument", "std::sscanf"},
                             {"constant", "read_only", "name[0] = 'G'"},
                             {"index", "index_out_of_range", "depths[place] = 1"},
                             {"freed", "used_after_free", "first = first->next"},
                             {"twice", "double_free", "std::free(buoy);", 1},
                             {"middle", "invalid_free", "std::free(buoys + 1)"},
                             {"deep", "stack_overflow", "return soundings"},
                             {"large", "stack_overflow", "void chart("},
                             {"divide", "division_by_zero", "int mean("},
                             {"least", "division_overflow", "int mean("},
                             {"assert", "assertion", "assert(depth >= 0)"},
                             {"throw", "uncaught_exception", "void thrown()"},
                             {"noexcept", "uncaught_exception", "void promised()"},
                             {"pure", "pure_virtual_call", "void blink()"},
                             {"abort", "abort", "void gave_up()"},
                             {"trap", "never_reached", "void trap()"},
                             {"half", "half_address", "return buoy->depth"},
                             {"file", "past_file", "page[10]"},
                             {"thread", "null_pointer", "return buoy->depth"},
                             {"left", "terminate", "void left()"}}) {
    SCOPED_TRACE(one.word);
    const Json said = fault_of({demo("reef"), one.word});
    ASSERT_TRUE(said["fault"].is_object());
    const Json& first = said["fault"]["findings"][0];
    EXPECT_EQ(first["kind"], one.kind) << first;
    // Where a stack ends in recursion depends on the environment.
    // Which instruction comes to the stack's end depends on the environment.
    const Json& own = said["fault"]["own"];
    if (one.word == std::string("deep")) {
      EXPECT_TRUE(std::string(own["function"]).starts_with("reef::soundings(int)")) << own;
    } else {
      EXPECT_EQ(own["line"], line_of(one.line) + one.after) << own;
    }
  }
  EXPECT_TRUE(fault_of({demo("reef"), "calm"}, 1)["fault"].is_null());
}

TEST(Fault, DeepGoesBackToTheInstructionThatMadeTheValue) {
  for (const auto& [word, line] : std::map<std::string, std::string>{{"number", "int depth = 5;"},
                                                                     {"nothing", "Buoy only{1, 2400, nullptr};"},
                                                                     {"divide", "volatile int count = 0;"},
                                                                     {"index", "depths[place] = 1;"}}) {
    SCOPED_TRACE(word);
    const Json said = fault_of({"--deep", demo("reef"), word});
    const Json& last = said["fault"]["findings"].back();
    EXPECT_EQ(last["kind"], "value_made") << last;
    EXPECT_EQ(last["line"], line_of(line)) << last;
  }
}

TEST(Fault, DeepCountsTheCallsBefore) {
  const TempFolder folder;
  const std::string program = built(folder, "later", R"(
#include <stddef.h>
int levels[4] = {1, 2, 3, 4};
int *choose(int turn) {
  int *chosen = levels;
  if (turn == 5) chosen = (int *)(long)turn;
  return chosen;
}
int use(int *level) { return *level; }
int main(void) {
  int sum = 0;
  for (int turn = 0; turn < 9; ++turn) {
    int *level = choose(turn);
    sum += use(level);
  }
  return sum;
}
)");
  const Json said = fault_of({"--deep", program});
  const Json& last = said["fault"]["findings"].back();
  EXPECT_EQ(last["kind"], "value_made") << last;
  EXPECT_EQ(last["line"], 6) << "the number became an address there: " << last;
  EXPECT_NE(last.dump().find("in call 6 of use"), std::string::npos) << last;
}

TEST(Fault, DeepSaysWhenAnotherRunGoesAnotherWay) {
  const TempFolder folder;
  const std::string program = built(folder, "chance", R"(
#include <fcntl.h>
#include <unistd.h>
int use(int *level) { return *level; }
int main(int argc, char **argv) {
  int level = 1;
  int first = access(argv[1], F_OK) != 0;
  close(open(argv[1], O_CREAT | O_WRONLY, 0600));
  return use(first ? (int *)8 : &level) & 0;
}
)");
  const Json said = fault_of({"--deep", program, folder / "mark"});
  const Json& last = said["fault"]["findings"].back();
  EXPECT_EQ(last["kind"], "value_not_followed") << last;
  EXPECT_NE(last.dump().find("another way"), std::string::npos) << last;
}

TEST(Fault, AddressesNearMemoryAreNoTextThoughTheirBytesCanBePrinted) {
  const TempFolder folder;
  const std::string program = built(folder, "near", R"(
#include <stdlib.h>
#include <sys/mman.h>
int main(int count, char **words) {
  void *here = mmap((void *)0x556600000000, 4096, PROT_READ | PROT_WRITE, MAP_PRIVATE | MAP_ANONYMOUS | MAP_FIXED, -1, 0);
  return here == MAP_FAILED ? 0 : *(volatile int *)strtoul(words[1], 0, 16);
}
)");
  EXPECT_EQ(fault_of({program, "556e6b636f64"})["fault"]["findings"][0]["kind"], "not_mapped");
  EXPECT_EQ(fault_of({program, "657e6b636f64"})["fault"]["findings"][0]["kind"], "text_as_address");
  EXPECT_EQ(fault_of({program, "6b636f64"})["fault"]["findings"][0]["kind"], "text_as_address");
}

TEST(Fault, CardsAndStepsSayTheSame) {
  const TempFolder folder;
  const std::string sentence = "calls sscanf: argument 3 (rdx) is 5: a number where an address belongs";
  const Outcome talk = conversation(folder, {demo("reef"), "number"}, "resume\nquit\n");
  EXPECT_NE(talk.out.find(sentence), std::string::npos) << talk.out;
  const Outcome steps =
      deeptrace({"steps", "--from", "reef::number", "--program-output", "/dev/null", demo("reef"), "number"});
  EXPECT_NE(steps.out.find(sentence), std::string::npos) << steps.out;
}

TEST(Fault, AttachedProgramsAreExplainedWhenTheyDie) {
  const TempFolder folder;
  const std::string program = built(folder, "waiting", R"(
#include <unistd.h>
int *volatile level;
int main(void) {
  usleep(700000);
  return *level;
}
)");
  const pid_t child = ::fork();
  if (child == 0) {
    ::execl(program.c_str(), program.c_str(), nullptr);
    ::_exit(127);
  }
  ASSERT_TRUE(wait_until([&] { return status_field(child, "Name") == "waiting"; }));
  const Json said = fault_of({"--attach", std::to_string(child)});
  EXPECT_EQ(said["attached"], true);
  EXPECT_EQ(said["fault"]["own"]["line"], 6);
  EXPECT_EQ(said["exit"]["signal"], "SIGSEGV");
  int status = 0;
  ::waitpid(child, &status, 0);
  EXPECT_TRUE(WIFSIGNALED(status) && WTERMSIG(status) == SIGSEGV) << "it dies as it would have alone";
}

}  // namespace
}  // namespace deeptrace::tests
