// The caller at every single instruction of programs' runs, against an account of calls and returns that is kept
// beside: from what the stack pointer and the words there do, without decoding anything.
#include <fcntl.h>
#include <gtest/gtest.h>
#include <unistd.h>

#include <cstdlib>
#include <cstring>
#include <iostream>
#include <random>

#include "control/control.h"
#include "support.h"

namespace deeptrace::tests {
namespace {

using control::Control;
using state::Reg;

/// A program of functions with frames of all kinds: small and large ones, arrays of a length known late, many
/// arguments, callbacks through the C library, recursion, tail calls.
std::string generated(unsigned seed) {
  std::mt19937 random(seed);
  const auto below = [&](unsigned most) { return static_cast<unsigned>(random() % most); };
  std::string text = R"(#include <alloca.h>
#include <stdarg.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#define APART __attribute__((noinline))
static volatile int sink;
APART int first(int x) { return x + 1; }
APART static int compare(const void *a, const void *b) { return *(const int *)a - *(const int *)b; }
APART static int apply(int (*f)(int), int x) { return f(x) + f(x + 1); }
APART static int sum(int count, ...) {
  va_list list;
  va_start(list, count);
  int total = 0;
  while (count-- > 0) total += va_arg(list, int);
  va_end(list);
  return total;
}
APART static int many(int a, int b, long c, char d, int e, int f, int g, long h, double i) {
  return a + b + (int)c + d + e + f + g + (int)h + (int)i;
}
)";
  const unsigned functions = 4 + below(3);
  for (unsigned i = 0; i < functions; ++i) {
    const std::string name = "f" + std::to_string(i);
    const auto callee = [&] { return i == 0 ? std::string("first") : "f" + std::to_string(below(i)); };
    text += "APART int " + name + "(int x) {\n  int y = x;\n";
    for (unsigned s = 0, count = 1 + below(4); s < count; ++s) {
      switch (below(10)) {
        case 0: text += "  y += " + callee() + "(y & 3);\n"; break;
        case 1: text += "  for (int i = 0; i < 2; i++) y += " + callee() + "(i);\n"; break;
        case 2: text += "  if (x > 0) y += " + name + "((x & 3) - 1);\n"; break;
        case 3: text += "  y += apply(" + callee() + ", y & 3);\n"; break;
        case 4: text += "  { int a[3] = {3, y & 7, 2}; qsort(a, 3, sizeof a[0], compare); y += a[0]; }\n"; break;
        case 5:
          text += "  { char *a = alloca((y & 63) + 20); memset(a, y, 20); y += a[3] + " + callee() + "(1); }\n";
          break;
        case 6: text += "  y += sum(3, y, x, 7) + many(y, 1, 2, 3, 4, x, 6, 7, 8.5);\n"; break;
        case 7:
          text += "  { char big[5000]; big[y & 255] = 1; sink = big[y & 255]; y += " + callee() + "(2); }\n";
          break;
        case 8: text += "  { char n[40]; snprintf(n, sizeof n, \"%d of %s\", y, \"tide\"); y += n[0]; }\n"; break;
        default:
          text += "  switch (y & 7) { case 0: y += 3; break; case 3: y -= " + callee() +
                  "(3); break; case 5: y ^= x; break; default: y += 7; }\n";
      }
    }
    text += below(3) == 0 ? "  return " + callee() + "(y & 15);\n}\n" : "  return y & 0xff;\n}\n";
  }
  return text + "int main(void) { int y = f" + std::to_string(functions - 1) +
         "(3); printf(\"%d\\n\", y); return 0; }\n";
}

/// Return addresses, with where they lie, of the calls that are under way.
class Account {
 public:
  struct Call {
    std::uint64_t slot, back;
  };

  explicit Account(unsigned word) : word_(word) {}

  /// Between two instructions: the registers before and after, and the word that the stack pointer is at afterwards.
  void step(const state::RegisterSet& before, const state::RegisterSet& after, std::uint64_t top) {
    while (!calls_.empty() && calls_.back().slot < after[Reg::rsp]) calls_.pop_back();
    constexpr std::uint64_t kLongest = 7;  // bytes of a call
    const bool pushed = after[Reg::rsp] == before[Reg::rsp] - word_;
    const bool back_here = top > before[Reg::rip] && top <= before[Reg::rip] + kLongest;
    // A call of the next instruction is there to learn where it is.
    if (pushed && back_here && after[Reg::rip] != top) calls_.push_back({after[Reg::rsp], top});
  }
  [[nodiscard]] const std::vector<Call>& calls() const { return calls_; }

 private:
  unsigned word_;
  std::vector<Call> calls_;
};

struct Count {
  std::size_t points = 0, wrong = 0;
  std::string first;  ///< that was wrong
};

/// Goes over a run from main on, and compares at each instruction of the program and its libraries.
Count compare(const std::string& program) {
  Count count;
  control::ControlOptions options;
  options.launch.program = program;
  options.launch.environment = {{"LC_ALL", "C"}};
  const int nowhere = ::open("/dev/null", O_WRONLY);
  options.launch.output = nowhere;
  auto started = Control::start(options);
  ::close(nowhere);
  if (!started) {
    ADD_FAILURE() << started.error().message;
    return count;
  }
  Control& control = **started;
  const auto there = control.go({control::Motion::Kind::to, "main+0", 1});
  if (!there || there->program_is_gone()) {
    ADD_FAILURE() << program << ": main was not reached";
    return count;
  }
  process::Process& process = control.process();
  const pid_t thread = control.thread();
  const unsigned word = arch::machine_of(control.view().mode()).word;
  const std::uint64_t mask = word == 4 ? 0xffffffff : ~std::uint64_t(0);
  const std::uint64_t end = control.view().registers()[Reg::rsp] + word;
  Account account(word);
  constexpr std::size_t kMost = 60000;
  while (count.points < kMost) {
    const state::RegisterSet before = control.view().registers();
    const process::Event event = process.step(thread);
    if (event.kind == process::Event::Kind::exited || event.kind == process::Event::Kind::killed) break;
    const state::StateView& view = process.view(thread);
    const state::RegisterSet& after = view.registers();
    if (after[Reg::rsp] >= end) break;
    std::uint8_t bytes[8] = {};
    std::uint64_t top = 0;
    if (view.read_memory(after[Reg::rsp], {bytes, word}) == word) std::memcpy(&top, bytes, word);
    account.step(before, after, top);
    if (account.calls().empty()) continue;
    ++count.points;
    // The whole way up now and then, else the caller and its caller.
    const std::size_t most = count.points % 64 == 0 ? 64 : 3;
    const auto frames = look::frames_of(control.modules(), view, most);
    for (std::size_t i = 1; i < most && i <= account.calls().size(); ++i) {
      const Account::Call& call = account.calls()[account.calls().size() - i];
      const bool right = i < frames.size() && (frames[i].address() & mask) == call.back &&
                         (frames[i].registers[Reg::rsp] & mask) == call.slot + word;
      if (right) continue;
      if (count.wrong++ == 0) {
        std::ostringstream out;
        out << control.modules().place_name(after[Reg::rip]) << ": caller " << i << " is " << std::hex << call.back
            << " (stack " << call.slot + word << "), found ";
        if (i < frames.size()) {
          out << frames[i].address() << " (stack " << frames[i].registers[Reg::rsp] << ")";
        } else {
          out << "nothing";
        }
        count.first = out.str();
      }
      break;
    }
  }
  return count;
}

struct Build {
  std::vector<std::string> words;
};

class FramesAtEveryInstruction : public ::testing::TestWithParam<Build> {};

TEST_P(FramesAtEveryInstruction, AreThoseOfCallsAndReturns) {
  const char* many = std::getenv("DEEPTRACE_FRAME_PROGRAMS");
  const unsigned programs = many != nullptr ? static_cast<unsigned>(std::atoi(many)) : 1;
  Count all;
  std::string build;
  for (const std::string& word : GetParam().words) build += word + " ";
  for (unsigned seed = 1; seed <= programs; ++seed) {
    const TempFolder folder;
    write_file(folder / "frames.c", generated(seed));
    std::vector<std::string> words = GetParam().words;
    words.insert(words.end(), {"-w", "-o", folder / "frames", folder / "frames.c"});
    const Outcome compiled = run(words);
    ASSERT_EQ(compiled.status, 0) << compiled.err;
    const Count count = compare(folder / "frames");
    all.points += count.points;
    all.wrong += count.wrong;
    EXPECT_EQ(count.wrong, 0U) << build << "seed " << seed << ": " << count.first;
  }
  EXPECT_GT(all.points, 1000U * programs);
  std::cout << build << ": " << all.points << " instructions, " << all.wrong << " wrong\n";
}

INSTANTIATE_TEST_SUITE_P(
    Builds, FramesAtEveryInstruction,
    ::testing::Values(Build{{"gcc", "-O0"}}, Build{{"gcc", "-O2"}}, Build{{"gcc", "-Os", "-fomit-frame-pointer"}},
                      Build{{"gcc", "-O1", "-fno-omit-frame-pointer"}}, Build{{"gcc", "-m32", "-O0"}},
                      Build{{"gcc", "-m32", "-O2"}}, Build{{"clang", "-O0"}}, Build{{"clang", "-O2"}},
                      Build{{"clang", "-m32", "-O1"}}, Build{{"clang", "-m32", "-Os"}},
                      Build{{"gcc", "-O2", "-fno-asynchronous-unwind-tables", "-fno-unwind-tables"}},
                      Build{{"gcc", "-O0", "-fno-asynchronous-unwind-tables", "-fno-unwind-tables"}},
                      Build{{"gcc", "-m32", "-O2", "-fno-asynchronous-unwind-tables", "-fno-unwind-tables"}},
                      Build{{"clang", "-O2", "-fno-asynchronous-unwind-tables", "-fno-unwind-tables"}}));

}  // namespace
}  // namespace deeptrace::tests
