// Motions of generated programs against an independent account of their whole run (trace.h): wherever one starts, it
// has to end where that account says.
#include <fcntl.h>
#include <gtest/gtest.h>
#include <unistd.h>

#include <map>
#include <random>
#include <set>

#include "control/control.h"
#include "process/attention.h"
#include "support.h"
#include "trace.h"

namespace deeptrace::tests {
namespace {

using control::Control;
using control::Motion;
using look::Stopped;

/// A program whose functions call each other, themselves, and back through the C library; with loops, jumps out of
/// functions, exceptions and signals. What it calls lies in one section, in order. With `threads`, two others do the
/// same all the while.
std::string generated(std::mt19937& random, bool threads, bool exceptions) {
  const auto below = [&](unsigned most) { return static_cast<unsigned>(random() % most); };
  std::string text = R"(
#include <csetjmp>
#include <csignal>
#include <cstdlib>
#include <pthread.h>
#include <unistd.h>
#define OWN __attribute__((section(".text.own"), noinline))
extern "C" {
__thread volatile long own_clock;
OWN int own_first(int x) { ++own_clock; return x + 1; }
OWN static int own_compare(const void *a, const void *b) { ++own_clock; return *(const int *)a - *(const int *)b; }
OWN static void own_handler(int) { ++own_clock; own_first(1); }
OWN static int own_apply(int (*f)(int), int x) { ++own_clock; return f(x) + f(x + 1); }
OWN static int own_thrower(int depth) { ++own_clock; if (depth == 0) throw 7; return own_thrower(depth - 1) + 1; }
)";
  const unsigned functions = 2 + below(3);
  for (unsigned i = 0; i < functions; ++i) {
    const std::string n = std::to_string(i);
    text += "static __thread jmp_buf env" + n + ";\nOWN static int own_jump" + n +
            "(int d) { ++own_clock; if (d > 0) return own_jump" + n + "(d - 1) + 1; longjmp(env" + n + ", 1); }\n";
    text += "OWN int own_" + n + "(int x) {\n  ++own_clock;\n  volatile int y = x;\n";
    const auto callee = [&] { return i == 0 ? std::string("own_first") : "own_" + std::to_string(below(i)); };
    const unsigned statements = 2 + below(4);
    for (unsigned s = 0; s < statements; ++s) {
      // Exceptions take a hundred thousand instructions each, so they are rare.
      const unsigned kind = below(24);
      switch (kind == 23 && exceptions ? 7 : kind % 8 == 7 ? 8 : kind % 8) {
        case 0: text += "  y += " + callee() + "(y & 3);\n"; break;
        case 1:
          text += "  for (int i = 0; i < " + std::to_string(1 + below(3)) + "; i++)\n    y += " + callee() + "(i);\n";
          break;
        case 2: text += "  if (x > 0)\n    y += own_" + n + "((x & 3) - 1);\n"; break;
        case 3: text += "  y += own_apply(" + callee() + ", y & 3);\n"; break;
        case 4:
          text +=
              "  {\n    int a[4] = {3, y & 7, 2, 1};\n    qsort(a, 4, sizeof a[0], own_compare);\n    y += a[0];\n  "
              "}\n";
          break;
        case 5: text += "  raise(SIGUSR1);\n"; break;
        case 6:
          text += "  if (setjmp(env" + n + ") == 0)\n    y += own_jump" + n + "(" + std::to_string(below(3)) +
                  ");\n  else\n    y += 5;\n";
          break;
        case 7:
          text += "  try {\n    y += own_thrower(" + std::to_string(below(3)) +
                  ");\n  } catch (int v) {\n    y += v;\n  }\n";
          break;
        default:
          text +=
              "  {\n    char b[16];\n    char *d = b;\n    long c = 16;\n    asm volatile(\"rep stosb\" : \"+D\"(d), "
              "\"+c\"(c) : \"a\"(y) : \"memory\");\n    y += b[3] & 1;\n  }\n";
      }
    }
    text += "  return y & 0xff;\n}\n";
  }
  text += "OWN int own_last(int x) {\n  int y = 0;\n  signal(SIGUSR1, own_handler);\n  y += own_" +
          std::to_string(functions - 1) + "(x);\n  y += own_" + std::to_string(functions - 1) +
          "(2);\n  return y & 1;\n}\n";
  if (threads)
    text += "OWN static void *own_beside(void *) {\n  for (;;) {\n    own_" + std::to_string(functions - 1) +
            "(1);\n    usleep(300);\n  }\n}\n";
  text += "}\nOWN int main() {\n";
  if (threads)
    text +=
        "  signal(SIGUSR1, own_handler);\n  pthread_t thread;\n"
        "  for (int i = 0; i < 2; i++)\n    pthread_create(&thread, 0, own_beside, 0);\n";
  text += "  return own_last(1) & 0;\n}\n";
  return text;
}

/// A built program with the account of its run and, for -O0, what the compiler said of its lines.
struct Subject {
  TempFolder folder;
  std::string path;
  std::vector<Moment> moments;
  std::uint64_t own_from = 0, own_to = 0;
  struct Place {
    unsigned line = 0;
    bool starts = false;
  };
  std::map<std::uint64_t, Place> lines;
  std::set<std::uint64_t> starts;  ///< of functions, after their prologues
  std::set<unsigned> loops;        ///< lines of the source where a loop begins; its body is the line after

  Subject(unsigned seed, const std::string& level, bool threads, bool exceptions = true) : path(folder / "subject") {
    std::mt19937 random(seed);
    const std::string text = generated(random, threads, exceptions);
    write_file(folder / "subject.cpp", text);
    std::istringstream source(text);
    unsigned number = 0;
    for (std::string line; std::getline(source, line);) {
      ++number;
      if (line.starts_with("  for (int i = 0;") && line.ends_with("i++)")) loops.insert(number);
    }
    const Outcome compiled = run({"g++", "-g", level, "-w", "-fno-toplevel-reorder", "-fno-pie", "-S", "-o",
                                  folder / "subject.s", folder / "subject.cpp"});
    EXPECT_EQ(compiled.status, 0) << compiled.err;
    const auto listing = assemble_with_listing(folder / "subject.s", folder / "subject.o");
    const Outcome linked = run({"g++", "-no-pie", "-o", path, folder / "subject.o"});
    EXPECT_EQ(linked.status, 0) << linked.err;
    const auto program = program::Program::open(path, {});
    EXPECT_TRUE(program);
    const program::Function* first = program->functions_named("own_first").at(0);
    const program::Function* last = program->functions_named("main").at(0);
    own_from = first->address;
    own_to = last->address + last->size;
    std::map<std::string, unsigned> statements;
    for (const Assembled& row : listing) {
      if (row.section != ".text.own") continue;
      lines[own_from + row.offset] = {row.line, row.starts};
      // After a function's prologue its second statement begins.
      if (row.starts && ++statements[row.function] == 2) starts.insert(own_from + row.offset);
    }
    std::int64_t clock = 0;
    const auto& symbols = program->elf().symbols();
    for (std::size_t i = 0; i < symbols.size(); ++i) {
      if (std::string_view(symbols.name_at(i)) == "own_clock") clock = static_cast<std::int64_t>(symbols[i].address);
    }
    for (const binary::Segment& segment : program->elf().segments()) {
      if (segment.type != binary::kThreadSegment) continue;
      clock -= static_cast<std::int64_t>((segment.memory_size + segment.alignment - 1) / segment.alignment *
                                         segment.alignment);
    }
    moments = trace_of(path, last->address, own_from, own_to, clock);
  }

  [[nodiscard]] bool own(std::uint64_t address) const { return address >= own_from && address < own_to; }
  [[nodiscard]] unsigned occurrence(std::size_t index) const {
    unsigned count = 0;
    for (std::size_t i = 0; i <= index; ++i) {
      // The repetitions of a string instruction are one arrival.
      const bool repetition = i > 0 && moments[i - 1].address == moments[i].address && moments[i].opcode[0] == 0xf3;
      count += moments[i].address == moments[index].address && !repetition ? 1 : 0;
    }
    return count;
  }
  /// Stack pointers before the calls (or signals) that led to a moment, the innermost last, for own code.
  [[nodiscard]] std::vector<std::uint64_t> callers(std::size_t index) const {
    std::vector<std::uint64_t> stack;
    for (std::size_t i = 1; i <= index; ++i) {
      while (!stack.empty() && moments[i].stack >= stack.back()) stack.pop_back();
      if (moments[i].handler || (moments[i - 1].is_call() && moments[i].stack == moments[i - 1].stack - 8))
        stack.push_back(moments[i - 1].stack);
    }
    return stack;
  }
  [[nodiscard]] std::size_t first(std::size_t from, const std::function<bool(const Moment&)>& wanted) const {
    for (std::size_t i = from; i < moments.size(); ++i) {
      if (wanted(moments[i])) return i;
    }
    return moments.size();
  }

  // ---- where each motion must end ----
  [[nodiscard]] std::size_t after_into(std::size_t k) const { return k + 1; }
  [[nodiscard]] std::size_t after_over(std::size_t k) const {
    if (moments[k].is_call())
      return first(k + 1, [&](const Moment& m) { return own(m.address) && m.stack >= moments[k].stack; });
    if (moments[k].opcode[0] == 0xf3 && moments[k].opcode[1] == 0xaa)
      return first(k + 1, [&](const Moment& m) { return m.address != moments[k].address; });
    return k + 1;
  }
  [[nodiscard]] std::size_t after_out(std::size_t k, std::uint64_t frame) const {
    // In the C library only a return counts: longjmp and the unwinder move the stack pointer in their midst.
    return first(k + 1, [&](const Moment& m) {
      return m.stack >= frame && (own(m.address) || (m.stack == frame && (&m - 1)->is_return()));
    });
  }
  /// The first moment in this frame that is of no line of the loop, or the first in the caller's.
  [[nodiscard]] std::size_t after_loop(std::size_t k, std::uint64_t frame, unsigned loop) const {
    for (std::size_t i = k + 1; i < moments.size(); ++i) {
      if (!own(moments[i].address) || !lines.contains(moments[i].address)) continue;
      if (moments[i].stack >= frame) return i;
      const auto inner = callers(i);
      if (!inner.empty() && inner.back() < frame) continue;
      const unsigned line = lines.at(moments[i].address).line;
      if (line != loop && line != loop + 1) return i;
    }
    return moments.size();
  }
  /// The first statement of another line in this frame, or of any in a caller's; with `into` the first in a function
  /// that is called, after its prologue, as well.
  [[nodiscard]] std::size_t after_line(std::size_t k, std::uint64_t frame, bool into = false) const {
    unsigned line = lines.at(moments[k].address).line;
    bool left = false;
    for (std::size_t i = k + 1; i < moments.size(); ++i) {
      const Moment& m = moments[i];
      if (m.stack >= frame && !own(m.address)) {
        // Back in the C library (not in longjmp or the unwinder, which move the stack pointer in their midst): on to
        // own code, in a function that it calls back or after the call of it.
        if (!moments[i - 1].is_return() || !own(moments[i - 1].address)) continue;
        const auto outer = callers(i);
        const auto own_frame = outer.empty() ? ~0ULL : outer.back();
        left = true;
        for (++i; i < moments.size(); ++i) {
          if (starts.contains(moments[i].address)) return i;
          if (own(moments[i].address) && moments[i].stack >= own_frame) break;
        }
        if (i >= moments.size()) return i;
        const auto around = callers(i);
        frame = around.empty() ? ~0ULL : around.back();
        if (lines.at(moments[i].address).starts) return i;
        continue;
      }
      if (m.stack >= frame) {
        left = true;
        const auto outer = callers(i);
        frame = outer.empty() ? ~0ULL : outer.back();
      }
      if (!own(m.address) || !lines.contains(m.address)) continue;
      const auto inner = callers(i);
      if (!inner.empty() && inner.back() < frame) {  // in something that was called
        if (into && starts.contains(m.address)) return i;
        continue;
      }
      const Place& place = lines.at(m.address);
      if (place.starts && (left || place.line != line)) return i;
    }
    return moments.size();
  }
};

std::string told(const Subject& subject, std::size_t index) {
  if (index >= subject.moments.size()) return "the end";
  std::ostringstream out;
  out << std::hex << subject.moments[index].address << " with rsp " << subject.moments[index].stack << std::dec
      << " clock " << subject.moments[index].clock;
  return out.str();
}

/// Moves from moment `k` and compares where that ends with moment `expected`.
void check(const Subject& subject, std::size_t k, Motion::Kind kind, std::size_t expected, const char* name,
           const std::string& where = {}) {
  control::ControlOptions options;
  options.launch.program = subject.path;
  options.launch.environment = {{"LC_ALL", "C"}};
  const int nowhere = ::open("/dev/null", O_WRONLY);
  options.launch.output = nowhere;
  auto control = Control::start(options);
  ::close(nowhere);
  ASSERT_TRUE(control) << control.error().message;
  control::HaltRule rule;
  std::ostringstream address;
  address << "0x" << std::hex << subject.moments[k].address;
  rule.what = address.str();
  rule.from = subject.occurrence(k);
  rule.thread = 1;
  rule.once = true;
  const auto number = (*control)->add(rule);
  ASSERT_TRUE(number) << number.error().message;
  const auto there = (*control)->go({});
  ASSERT_TRUE(there && there->why == Stopped::Why::halt) << rule.text() << " was not reached";
  ASSERT_EQ((*control)->view().registers()[state::Reg::rsp], subject.moments[k].stack) << rule.text();
  const auto stopped = (*control)->go({kind, where, 1});
  ASSERT_TRUE(stopped) << name << " from " << told(subject, k) << ": " << stopped.error().message;
  if (expected >= subject.moments.size()) {
    EXPECT_TRUE(stopped->program_is_gone()) << name << " from " << told(subject, k);
    return;
  }
  ASSERT_FALSE(stopped->program_is_gone())
      << name << " from " << told(subject, k) << " must end at " << told(subject, expected);
  const auto& registers = (*control)->view().registers();
  const bool right = registers[state::Reg::rip] == subject.moments[expected].address &&
                     registers[state::Reg::rsp] == subject.moments[expected].stack;
  EXPECT_TRUE(right) << name << " from moment " << k << " (" << told(subject, k) << ") ended at " << std::hex
                     << registers[state::Reg::rip] << " with rsp " << registers[state::Reg::rsp] << ", not at "
                     << told(subject, expected);
  // The program's own clock says that it is that moment and not a later one at the same place.
  if (right && subject.own(subject.moments[expected].address)) {
    std::int64_t clock = 0;
    look::Scope scope((*control)->modules(), (*control)->view());
    auto datum = scope.variable("own_clock");
    ASSERT_TRUE(datum);
    const auto value = inspect::number_of(*datum, scope);
    ASSERT_TRUE(value);
    clock = static_cast<std::int64_t>(*value);
    EXPECT_EQ(clock, subject.moments[expected].clock) << name << " from " << told(subject, k);
  }
}

unsigned programs() {
  const char* wanted = std::getenv("DEEPTRACE_MOTION_PROGRAMS");
  return wanted != nullptr ? static_cast<unsigned>(std::atoi(wanted)) : 6;
}

// With DEEPTRACE_MOTION_PROGRAMS=N many are tried, from DEEPTRACE_MOTION_SEED on; DEEPTRACE_KEEP=FILE keeps the first
// that fails.
TEST(Motions, EndWhereAnIndependentWalkSays) {
  const char* first = std::getenv("DEEPTRACE_MOTION_SEED");
  const unsigned start = first != nullptr ? static_cast<unsigned>(std::atoi(first)) : 1;
  for (unsigned seed = start; seed < start + programs(); ++seed) {
    if (first != nullptr && seed % 10 == 0) std::cout << "at seed " << seed << std::endl;
    for (const std::string level : {"-O0", "-O2"}) {
      const bool threads = seed % 2 == 0;
      SCOPED_TRACE("seed " + std::to_string(seed) + " " + level + (threads ? " with threads" : ""));
      const Subject subject(seed, level, threads);
      ASSERT_GT(subject.moments.size(), 50U);
      std::vector<std::size_t> mine, calls;
      for (std::size_t i = 0; i + 1 < subject.moments.size(); ++i) {
        if (!subject.own(subject.moments[i].address)) continue;
        // In the middle of a string instruction no stop point stands.
        if (i > 0 && subject.moments[i - 1].address == subject.moments[i].address) continue;
        (subject.moments[i].is_call() ? calls : mine).push_back(i);
      }
      std::mt19937 random(seed * 7919);
      const auto pick = [&](const std::vector<std::size_t>& from) { return from[random() % from.size()]; };
      for (int sample = 0; sample < 3; ++sample) {
        const std::size_t any = pick(mine), call = pick(calls);
        check(subject, any, Motion::Kind::into, subject.after_into(any), "into");
        check(subject, call, Motion::Kind::into, subject.after_into(call), "into");
        check(subject, any, Motion::Kind::over, subject.after_over(any), "over");
        check(subject, call, Motion::Kind::over, subject.after_over(call), "over");
        const auto frames = subject.callers(any);
        if (frames.empty()) continue;
        bool in_handler = false;  // whose caller is the kernel
        for (std::size_t i = 1; i <= any; ++i)
          in_handler |= subject.moments[i].handler && subject.moments[i - 1].stack == frames.back();
        if (!in_handler) check(subject, any, Motion::Kind::out, subject.after_out(any, frames.back()), "out");
        const std::size_t later = any + random() % (subject.moments.size() - any);
        if (subject.own(subject.moments[later].address) && later > any && !in_handler) {
          std::ostringstream where;
          where << "0x" << std::hex << subject.moments[later].address;
          const std::uint64_t target = subject.moments[later].address;
          const std::size_t there = subject.first(any + 1, [&](const Moment& m) { return m.address == target; });
          check(subject, any, Motion::Kind::to, std::min(there, subject.after_out(any, frames.back())), "to",
                where.str());
        }
        if (level == "-O0" && !in_handler && subject.lines.contains(subject.moments[any].address))
          check(subject, any, Motion::Kind::line, subject.after_line(any, frames.back()), "line");
      }
      if (testing::Test::HasFatalFailure() || testing::Test::HasFailure()) {
        if (const char* keep = std::getenv("DEEPTRACE_KEEP")) std::filesystem::copy(subject.path, keep);
        return;
      }
    }
  }
}

/// The motions that follow source lines further, of which there are fewer places to begin at.
TEST(Motions, IntoLinesAndPastLoops) {
  const char* first = std::getenv("DEEPTRACE_MOTION_SEED");
  const unsigned start = first != nullptr ? static_cast<unsigned>(std::atoi(first)) : 1;
  unsigned entered = 0, loops = 0;
  for (unsigned seed = start; seed < start + programs(); ++seed) {
    if (first != nullptr && seed % 10 == 0) std::cout << "at seed " << seed << std::endl;
    const bool threads = seed % 2 == 0;
    SCOPED_TRACE("seed " + std::to_string(seed) + (threads ? " with threads" : ""));
    const Subject subject(seed, "-O0", threads, seed % 8 == 0);  // they make a run long
    std::vector<std::size_t> calls, bodies;
    for (std::size_t i = 0; i + 1 < subject.moments.size(); ++i) {
      const Moment& m = subject.moments[i];
      if (!subject.own(m.address) || !subject.lines.contains(m.address)) continue;
      const unsigned line = subject.lines.at(m.address).line;
      if (m.is_call()) calls.push_back(i);
      if (line > 0 && subject.loops.contains(line - 1)) bodies.push_back(i);
    }
    std::mt19937 random(seed * 104729);
    const auto in_handler = [&](std::size_t k) {
      const std::uint64_t frame = subject.callers(k).back();
      for (std::size_t i = 1; i <= k; ++i) {
        if (subject.moments[i].handler && subject.moments[i - 1].stack == frame) return true;
      }
      return false;
    };
    for (int sample = 0; sample < 2; ++sample) {
      if (!calls.empty()) {
        const std::size_t k = calls[random() % calls.size()];
        const auto frames = subject.callers(k);
        if (!frames.empty() && !in_handler(k)) {
          ++entered;
          check(subject, k, Motion::Kind::line_into, subject.after_line(k, frames.back(), true), "line into");
        }
      }
      if (bodies.empty()) continue;
      const std::size_t k = bodies[random() % bodies.size()];
      const auto frames = subject.callers(k);
      if (frames.empty() || in_handler(k)) continue;
      ++loops;
      check(subject, k, Motion::Kind::past_loop,
            subject.after_loop(k, frames.back(), subject.lines.at(subject.moments[k].address).line - 1), "past loop");
    }
    if (testing::Test::HasFailure()) {
      if (const char* keep = std::getenv("DEEPTRACE_KEEP")) std::filesystem::copy(subject.path, keep);
      return;
    }
  }
  EXPECT_GT(entered, 0U);
  EXPECT_GT(loops, 0U);
  if (first != nullptr) std::cout << entered << " into lines, " << loops << " past loops" << std::endl;
}

}  // namespace
}  // namespace deeptrace::tests
