// `explain passing`: declarations read as the compiler reads them, and where their arguments travel, against what
// compilers make of the same declarations.
#include <gtest/gtest.h>

#include <nlohmann/json.hpp>
#include <string>
#include <vector>

#include "support.h"

namespace deeptrace::tests {
namespace {

using nlohmann::json;
using Words = std::vector<std::string>;

json passing(Words words) {
  words.insert(words.begin(), {"explain", "--format", "json"});
  const Outcome outcome = deeptrace(words);
  EXPECT_EQ(outcome.status, 0) << outcome.err;
  return outcome.status == 0 ? json::parse(outcome.out)["passing"] : json();
}

/// Sizes and places, without the spelling of types.
std::string places_of(const json& explained) {
  const auto one = [](const json& place) {
    std::string text = std::to_string(place["size"].get<int>()) + (place["by_address"].get<bool>() ? "&" : "");
    for (const json& part : place["parts"])
      text += " " + part["where"].get<std::string>() + "@" + std::to_string(part["offset"].get<int>()) + "+" +
              std::to_string(part["bytes"].get<int>());
    return text;
  };
  std::string text;
  for (const json& argument : explained["arguments"])
    text += argument["name"].get<std::string>() + " " + one(argument) + "; ";
  return text + (explained["result"].is_null() ? "nothing" : one(explained["result"])) +
         (explained["hidden"].is_null() ? "" : " hidden");
}

const char* const kDeclarations[] = {
    "void f(void)",
    "int f(int a, unsigned char b, short c, long d, long long e, unsigned g, char h)",
    "double f(float a, double b, long double c, int d, float e)",
    "const char *f(const char *text, char *const *list, int values[], int table[3][4], int (*call)(int, char))",
    "struct pair { long a; double b; } f(struct { int a; double b; } s, struct { char c[3]; } t, int last)",
    "struct large { long a[3]; } f(struct { long a[3]; } s, int last)",
    "struct { float x, y; } f(struct { float x, y, z; } s, union { int i; float f; } u)",
    "long f(struct { int a : 3; int b : 30; unsigned c : 5; char d; } s, struct { long long a : 40; short b; } t)",
    "_Bool f(enum colour { RED, GREEN } c, signed char a, unsigned short b, unsigned long long e)",
    "long f(struct { struct { char a; short b; } inner; int c; } s, struct { char a; double b; } t)",
    "double _Complex f(float _Complex a, double _Complex b, int n)",
    "unsigned f(int a1, int a2, int a3, int a4, int a5, int a6, struct { long a, b; } s, int a8, double d)",
};

TEST(Passing, DeclarationsAreReadAsTheCompilerReadsThem) {
  for (const char* width : {"64", "32"}) {
    const TempFolder folder;
    for (const std::string declaration : kDeclarations) {
      const std::string body = declaration.starts_with("void") ? " {}\n" : " { __builtin_trap(); }\n";
      write_file(folder / "f.c", declaration + body);
      const std::string object = folder / "f.o";
      ASSERT_EQ(run({"gcc", "-g", "-w", "-c", std::string("-m") + width, "-o", object, folder / "f.c"}).status, 0)
          << declaration;
      EXPECT_EQ(places_of(passing({"--bits", width, "passing", declaration})),
                places_of(passing({"passing", object, "f"})))
          << declaration;
    }
  }
}

/// What `f` returns is where the compiler's code takes it from.
TEST(Passing, ByOtherConventionsIsWhatTheCompilerDoes) {
  struct Case {
    const char *convention, *attribute, *width;
    std::vector<const char*> parameters;
  };
  const std::vector<const char*> mixed = {"int", "char *", "short", "unsigned", "int", "long", "int", "long"};
  const std::vector<Case> cases = {
      {"microsoft-64", "ms_abi", "64", mixed},
      {"microsoft-64", "ms_abi", "64", {"int", "double", "long", "double", "double", "int"}},
      {"system-v-64", "sysv_abi", "64", mixed},
      {"system-v-64", "sysv_abi", "64", {"double", "int", "double", "int", "long"}},
      {"stdcall", "stdcall", "32", mixed},
      {"fastcall", "fastcall", "32", mixed},
      {"fastcall", "fastcall", "32", {"long long", "int", "int", "int"}},
      {"thiscall", "thiscall", "32", mixed},
      {"regparm", "regparm(3)", "32", mixed},
      {"regparm", "regparm(3)", "32", {"int", "int", "long long", "int", "int"}},
      {"system-v-32", "cdecl", "32", mixed},
  };
  const TempFolder folder;
  for (const Case& one : cases) {
    std::string parameters;
    for (std::size_t i = 0; i < one.parameters.size(); ++i)
      parameters += std::string(i == 0 ? "" : ", ") + one.parameters[i] + " a" + std::to_string(i);
    const json explained = passing({"--convention", one.convention, "passing", "long f(" + parameters + ")"});
    for (std::size_t i = 0; i < one.parameters.size(); ++i) {
      const std::string type = one.parameters[i];
      write_file(folder / "f.c", "__attribute__((" + std::string(one.attribute) + ")) " + type + " f(" + parameters +
                                     ") { return a" + std::to_string(i) + "; }\n");
      const Outcome code = run({"gcc", "-O1", "-S", "-masm=intel", "-fomit-frame-pointer", "-fcf-protection=none",
                                "-fno-pie", std::string("-m") + one.width, "-o", "-", folder / "f.c"});
      ASSERT_EQ(code.status, 0) << code.err;
      std::string where = explained["arguments"][i]["parts"][0]["where"];
      const bool wide = std::string(one.width) == "64";
      SCOPED_TRACE(std::string(one.convention) + " " + parameters + ": a" + std::to_string(i) + " in " + where);
      if (where[0] != '[') {
        // The register's name at whichever width the compiler moves; where it is the result's nothing is moved.
        const std::string core = where.starts_with("xmm")  ? where
                                 : where.starts_with("r8") ? "r8"
                                 : where.starts_with("r9") ? "r9"
                                                           : where.substr(where.size() - 2);
        const bool is_result = core == "ax" || where == "xmm0";
        EXPECT_TRUE(is_result || code.out.find(core) != std::string::npos) << code.out;
        EXPECT_EQ(code.out.find(wide ? "[rsp" : "[esp"), std::string::npos) << code.out;
        continue;
      }
      // In the function the return address lies below.
      const std::size_t plus = where.find('+');
      const std::uint64_t offset =
          (plus == std::string::npos ? 0 : std::stoul(where.substr(plus + 1), nullptr, 0)) + (wide ? 8 : 4);
      EXPECT_NE(code.out.find((wide ? "[rsp+" : "[esp+") + std::to_string(offset) + "]"), std::string::npos)
          << code.out;
    }
  }
}

TEST(Passing, WhatIsWrongIsMarked) {
  const std::pair<const char*, const char*> cases[] = {
      {"long f(tide_log log)", "at character 8: `tide_log` is no type that is known here"},
      {"long f(struct log log)", "struct log is passed itself, and has to be written out"},
      {"long f(int a", "`)` was expected"},
      {"long f", "the parameters of a function"},
      {"f(int)", "at character 1"},
      {"int f(int) g", "the end was expected"},
      {"", "a type was expected"},
  };
  for (const auto& [declaration, message] : cases) {
    const Outcome outcome = deeptrace({"explain", "passing", declaration});
    EXPECT_EQ(outcome.status, 2) << declaration;
    EXPECT_NE(outcome.err.find(message), std::string::npos) << declaration << ": " << outcome.err;
  }
  EXPECT_EQ(deeptrace({"explain", "passing", demo("tidelog"), "no_such"}).status, 2);
  EXPECT_EQ(deeptrace({"explain", "passing", demo("ebb"), "mean_of"}).status, 0) << "its caller declares it";
  EXPECT_EQ(deeptrace({"explain", "passing", demo("ebb"), "sum_in_rbx"}).status, 2)
      << "an assembler says nothing of it";
  EXPECT_EQ(deeptrace({"explain", "--convention", "pascal", "passing", "int f(int)"}).status, 2);
  EXPECT_EQ(deeptrace({"explain", "--convention", "vectorcall", "passing", "int f(int)"}).status, 2);
}

TEST(Passing, InText) {
  const std::string text =
      deeptrace({"explain", "passing", "long scale(const short *levels, struct { long a; double b; } by, ...)"}).out;
  for (const char* part : {"long scale(const short *levels,", "const short *", "levels", "rdi",
                           "rsi (bytes 0 to 7), xmm0 (bytes 8 to 15)", "al: 1 of these", "rax"})
    EXPECT_NE(text.find(part), std::string::npos) << text;
  const std::string stacked = deeptrace({"explain", "--bits", "32", "passing", "int sum(int a, double b)"}).out;
  EXPECT_LT(stacked.find("esp+8      b, 8 bytes"), stacked.find("esp+4      a, 4 bytes")) << stacked;
  EXPECT_NE(stacked.find("12 bytes of arguments on the stack; the caller takes them off"), std::string::npos);
}

}  // namespace
}  // namespace deeptrace::tests
