// The table of library functions against what a compiler makes of the same headers; formats against the standard.
#include "abi/prototypes.h"

#include <gtest/gtest.h>

#include <map>
#include <set>
#include <sstream>

#include "live_support.h"
#include "support.h"

namespace deeptrace::tests {
namespace {

using abi::Prototype;
using Number = Prototype::Number;

/// A letter and a size for what a parameter is: "p8", "i4", "u8", "r8".
std::string kind_of(Number number, std::uint8_t size, bool is_signed) {
  switch (number) {
    case Number::none: return "v";
    case Number::pointer: return "p8";
    case Number::real: return "r" + std::to_string(size);
    default: return (is_signed ? "i" : "u") + std::to_string(size == 0 ? 8 : size);
  }
}

std::string line_of(const Prototype& one) {
  std::string text = std::string(one.name) + " " + kind_of(one.result_number, one.result_size, one.result_is_signed);
  for (const Prototype::Parameter& parameter : one.parameters())
    text += " " + kind_of(parameter.number, parameter.size, parameter.is_signed);
  return text + (one.variadic ? " ..." : "");
}

/// Prints for each function what the compiler takes its parameters for.
std::string printer(const std::vector<std::string>& names) {
  std::string text = R"(
#include <arpa/inet.h>
#include <assert.h>
#include <ctype.h>
#include <dirent.h>
#include <fcntl.h>
#include <locale.h>
#include <math.h>
#include <netdb.h>
#include <poll.h>
#include <pthread.h>
#include <setjmp.h>
#include <signal.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <strings.h>
#include <sys/mman.h>
#include <sys/select.h>
#include <sys/socket.h>
#include <sys/stat.h>
#include <sys/time.h>
#include <sys/wait.h>
#include <time.h>
#include <unistd.h>
#include <wchar.h>
template <class T> struct Kind { static void put() { put_number((T)-1 < (T)0); }
  static void put_number(bool is_signed) { printf(" %c%d", __is_enum(T) ? 'u' : is_signed ? 'i' : 'u', (int)sizeof(T)); } };
template <> struct Kind<void> { static void put() { printf(" v"); } };
template <class T> struct Kind<T *> { static void put() { printf(" p8"); } };
template <> struct Kind<float> { static void put() { printf(" r4"); } };
template <> struct Kind<double> { static void put() { printf(" r8"); } };
template <> struct Kind<long double> { static void put() { printf(" r16"); } };
template <class R, class... A> void print(const char *name, R (*)(A...)) {
  printf("%s", name);
  Kind<R>::put();
  (Kind<A>::put(), ...);
  puts("");
}
template <class R, class... A> void print(const char *name, R (*)(A..., ...)) {
  printf("%s", name);
  Kind<R>::put();
  (Kind<A>::put(), ...);
  puts(" ...");
}
int main() {
)";
  for (const std::string& name : names) text += "  print(\"" + name + "\", &::" + name + ");\n";
  return text + "}\n";
}

TEST(Prototypes, AreThoseOfTheHeaders) {
  // What C++ overloads, and what no header declares to everybody.
  const std::set<std::string_view> left_out = {"strchr",  "strrchr", "strstr",    "strpbrk",    "memchr",
                                               "memrchr", "abs",     "strchrnul", "strcasestr", "at_quick_exit"};
  std::vector<std::string> names;
  std::map<std::string, std::string> expected;
  for (const Prototype& one : abi::prototypes()) {
    if (one.name.starts_with("__") || left_out.contains(one.name)) continue;
    names.emplace_back(one.name);
    expected[std::string(one.name)] = line_of(one);
  }
  const TempFolder folder;
  const std::string program =
      built(folder, "printer", printer(names), {"g++", "-std=c++17", "-nostdinc++", "-w", "-fno-builtin", "-D_GNU_SOURCE"});
  std::istringstream lines(run({program}).out);
  std::size_t compared = 0;
  for (std::string line; std::getline(lines, line); ++compared) {
    const std::string name = line.substr(0, line.find(' '));
    EXPECT_EQ(expected[name], line);
  }
  EXPECT_EQ(compared, names.size());
  EXPECT_GT(compared, 200U);
}

TEST(Prototypes, AreFoundByTheirSymbols) {
  ASSERT_NE(abi::prototype("memcpy"), nullptr);
  EXPECT_EQ(abi::prototype("memcpy")->parameters()[0].use, Prototype::Use::writes);
  EXPECT_EQ(abi::prototype("memcpy")->parameters()[0].extent[0], 3);
  EXPECT_EQ(abi::prototype("memcpy")->parameters()[1].name, "src");
  EXPECT_EQ(abi::prototype("nothing of the kind"), nullptr);
  EXPECT_EQ(abi::prototype(""), nullptr);
  EXPECT_EQ(abi::source_name("__isoc99_sscanf"), "sscanf");
  EXPECT_EQ(abi::source_name("__printf_chk"), "printf");
  EXPECT_EQ(abi::source_name("__own_chk"), "__own_chk");
  EXPECT_EQ(abi::source_name("puts"), "puts");
}

std::string types_of(std::string_view format, bool scan) {
  std::string text;
  for (const abi::FormatArgument& one : abi::arguments_of_format(format, scan))
    text += (text.empty() ? "" : ", ") + std::string(one.type);
  return text;
}

TEST(Prototypes, FormatsTellTheArgumentsAfterThem) {
  EXPECT_EQ(types_of("%d of %s, 100%%\n", false), "int, const char *");
  EXPECT_EQ(types_of("%-08.3Lf %*.*f %#lx %hhu %zu %jd", false),
            "long double, int, int, double, unsigned long, unsigned char, size_t, intmax_t");
  EXPECT_EQ(types_of("%c%p%n%m%ls", false), "int, void *, int *, const wchar_t *");
  EXPECT_EQ(types_of("%d %*d %ld %lf %5s %[^]a] %n", true), "int *, long *, double *, char *, char *, int *");
  EXPECT_EQ(types_of("no arguments", false), "");
  EXPECT_EQ(types_of("%", false), "");
  EXPECT_EQ(types_of("%[abc", true), "char *");
}

}  // namespace
}  // namespace deeptrace::tests
