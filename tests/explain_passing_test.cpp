// `explain passing`: declarations read as the compiler reads them, and where their arguments travel, against what
// compilers make of the same declarations.
#include <gtest/gtest.h>

#include <array>
#include <map>
#include <nlohmann/json.hpp>
#include <regex>
#include <string>
#include <vector>

#include "abi/conventions.h"
#include "live_support.h"

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

/// A parameter, and the number in it that `f` returns.
struct Parameter {
  std::string type;
  std::string member{}, member_type{};  ///< of a structure
  int offset = 0;                       ///< of the member, bytes
};

/// The place of a byte of an argument: "edx", or "[esp+8]" with what is added for where it lies in its part.
std::string place_of(const json& argument, int offset, int& add) {
  for (const json& part : argument["parts"]) {
    add = offset - part["offset"].get<int>();
    if (add >= 0 && add < part["bytes"].get<int>()) return part["where"].get<std::string>();
    if (argument["by_address"].get<bool>()) return part["where"].get<std::string>();
  }
  return {};
}

/// What `f` returns is where the compiler's code takes it from.
TEST(Passing, ByOtherConventionsIsWhatTheCompilerDoes) {
  struct Case {
    const char *convention, *attribute, *width;
    std::vector<Parameter> parameters;
    std::string compiler = "gcc";
  };
  const std::vector<Parameter> mixed = {{"int"}, {"char *"}, {"short"}, {"unsigned"},
                                        {"int"}, {"long"},   {"int"},   {"long"}};
  const Parameter word = {"struct { int a; }", ".a", "int"}, two = {"struct { int a, b; }", ".b", "int", 4},
                  three = {"struct { char a[3]; }", ".a[2]", "char", 2}, real = {"struct { float a; }", ".a", "float"},
                  reals = {"struct { float a, b; }", ".b", "float", 4},
                  many = {"struct { int a[3]; }", ".a[1]", "int", 4},
                  either = {"union { int i; float f; }", ".i", "int"},
                  inner = {"struct { struct { float d[1]; } s; }", ".s.d[0]", "float"}, wide = {"long long"};
  const std::vector<Case> cases = {
      {"microsoft-64", "ms_abi", "64", mixed},
      {"microsoft-64", "ms_abi", "64", {{"int"}, {"double"}, {"long"}, {"double"}, {"double"}, {"int"}}},
      {"system-v-64", "sysv_abi", "64", mixed},
      {"system-v-64", "sysv_abi", "64", {{"double"}, {"int"}, {"double"}, {"int"}, {"long"}}},
      {"stdcall", "stdcall", "32", mixed},
      {"stdcall", "stdcall", "32", {two, three, wide, real, {"int"}}},
      {"fastcall", "fastcall", "32", mixed},
      {"fastcall", "fastcall", "32", {wide, {"int"}, {"int"}, {"int"}}},
      {"fastcall", "fastcall", "32", {word, {"int"}, {"int"}}},
      {"fastcall", "fastcall", "32", {real, three, {"int"}, {"int"}}},
      {"fastcall", "fastcall", "32", {{"int"}, many, {"int"}}},
      {"fastcall", "fastcall", "32", {either, {"int"}, {"int"}}},
      {"thiscall", "thiscall", "32", mixed},
      {"thiscall", "thiscall", "32", {real, {"int"}, {"int"}}},
      {"thiscall", "thiscall", "32", {word, {"int"}}},
      {"regparm", "regparm(3)", "32", mixed},
      {"regparm", "regparm(3)", "32", {{"int"}, {"int"}, wide, {"int"}, {"int"}}},
      {"regparm", "regparm(3)", "32", {word, two, {"int"}}},
      {"regparm", "regparm(3)", "32", {real, reals, {"int"}, {"int"}}},
      {"regparm", "regparm(3)", "32", {inner, many, {"int"}}},
      {"regparm", "regparm(3)", "32", {{"int"}, many, {"int"}}},
      {"regparm", "regparm(3)", "32", {either, three, {"int"}, {"int"}}},
      {"system-v-32", "cdecl", "32", mixed},
      {"vectorcall", "vectorcall", "32", mixed, "clang"},
      {"vectorcall", "vectorcall", "32", {word, {"int"}, two, {"int"}}, "clang"},
  };
  const TempFolder folder;
  for (const Case& one : cases) {
    std::string parameters;
    for (std::size_t i = 0; i < one.parameters.size(); ++i)
      parameters += std::string(i == 0 ? "" : ", ") + one.parameters[i].type + " a" + std::to_string(i);
    const json explained = passing({"--convention", one.convention, "passing", "long f(" + parameters + ")"});
    for (std::size_t i = 0; i < one.parameters.size(); ++i) {
      const Parameter& parameter = one.parameters[i];
      write_file(folder / "f.c", "__attribute__((" + std::string(one.attribute) + ")) " +
                                     (parameter.member.empty() ? parameter.type : parameter.member_type) + " f(" +
                                     parameters + ") { return a" + std::to_string(i) + parameter.member + "; }\n");
      const Outcome code =
          run({one.compiler, "-w", "-O1", "-S", "-masm=intel", "-fomit-frame-pointer", "-fcf-protection=none",
               "-fno-pie", "-msse2", std::string("-m") + one.width, "-o", "-", folder / "f.c"});
      ASSERT_EQ(code.status, 0) << code.err;
      int add = 0;
      const std::string where = place_of(explained["arguments"][i], parameter.offset, add);
      const bool is_wide = std::string(one.width) == "64";
      SCOPED_TRACE(std::string(one.convention) + " " + parameters + ": a" + std::to_string(i) + " in " + where);
      ASSERT_FALSE(where.empty());
      if (where[0] != '[') {
        // The register's name at whichever width the compiler moves; where it is the result's nothing is moved.
        const std::string core = where.starts_with("xmm")  ? where
                                 : where.starts_with("r8") ? "r8"
                                 : where.starts_with("r9") ? "r9"
                                                           : where.substr(where.size() - 2);
        const bool is_result = core == "ax" || where == "xmm0";
        EXPECT_TRUE(is_result || code.out.find(core) != std::string::npos ||
                    (core[1] == 'x' && code.out.find(core.substr(0, 1) + "l") != std::string::npos))
            << code.out;
        EXPECT_FALSE(std::regex_search(code.out, std::regex("\\[[er]sp ?\\+ ?[0-9]+\\]"))) << code.out;
        continue;
      }
      // In the function the return address lies below, and what it takes itself.
      std::smatch room;
      const std::uint64_t taken =
          std::regex_search(code.out, room, std::regex("sub\\s+[er]sp, (\\d+)")) ? std::stoul(room[1]) : 0;
      const std::size_t plus = where.find('+');
      const std::uint64_t offset = (plus == std::string::npos ? 0 : std::stoul(where.substr(plus + 1), nullptr, 0)) +
                                   static_cast<std::uint64_t>(add) + taken + (is_wide ? 8 : 4);
      EXPECT_TRUE(std::regex_search(
          code.out, std::regex((is_wide ? "\\[rsp ?\\+ ?" : "\\[esp ?\\+ ?") + std::to_string(offset) + "\\]")))
          << code.out;
    }
  }
}

/// As callers are compiled: the compiler's own callees of that kind do not return floating-point numbers.
TEST(Passing, VectorcallIsWhatTheCompilerDoes) {
  const json explained = passing({"--convention", "vectorcall", "passing",
                                  "int f(double a, struct { double x, y; } s, int n, double b, double c, double d, "
                                  "struct { double x; } t, double e, int m)"});
  const auto where = [&](std::size_t argument, std::size_t part = 0) {
    return explained["arguments"][argument]["parts"][part]["where"].get<std::string>();
  };
  // Numbers come first, in their order; of the structures one has room.
  EXPECT_EQ(where(0) + where(3) + where(4) + where(5) + where(7), "xmm0xmm1xmm2xmm3xmm4");
  EXPECT_EQ(where(1), "ecx");
  EXPECT_TRUE(explained["arguments"][1]["by_address"].get<bool>());
  EXPECT_EQ(where(2) + where(6), "edxxmm5");
  const TempFolder folder;
  write_file(
      folder / "f.c",
      "struct s { double x, y; }; struct t { double x; };\n"
      "int __attribute__((vectorcall)) f(double, struct s, int, double, double, double, struct t, double, int);\n"
      "extern double a[5]; extern struct s s; extern struct t t;\n"
      "int g(void) { return f(a[0], s, 1001, a[1], a[2], a[3], t, a[4], 1002) + 1; }\n");
  const Outcome code =
      run({"clang", "-O1", "-S", "-m32", "-msse2", "-masm=intel", "-fno-pie", "-o", "-", folder / "f.c"});
  ASSERT_EQ(code.status, 0) << code.err;
  for (const char* part : {"xmm0, qword ptr \\[a\\]", "xmm1, qword ptr \\[a\\+8\\]", "xmm2, qword ptr \\[a\\+16\\]",
                           "xmm3, qword ptr \\[a\\+24\\]", "xmm4, qword ptr \\[a\\+32\\]", "xmm5, qword ptr \\[t\\]",
                           "(lea|mov)\\s+ecx, .*esp", "mov\\s+edx, 1001"})
    EXPECT_TRUE(std::regex_search(code.out, std::regex(part))) << part << "\n" << code.out;
}

/// clang says which convention a function was declared to follow.
TEST(Passing, FunctionsFollowWhatTheyWereDeclaredToFollow) {
  const TempFolder folder;
  const std::string text =
      "__attribute__((noinline, CONVENTION)) long scale(long level, int by, long offset) { return level * by + offset; "
      "}\n"
      "int main(void) { return scale(21, -3, 8) == -55 ? 0 : 1; }\n";
  const std::pair<const char*, const char*> cases[] = {{"ms_abi", "-m64"},   {"sysv_abi", "-m64"},
                                                       {"stdcall", "-m32"},  {"fastcall", "-m32"},
                                                       {"thiscall", "-m32"}, {"vectorcall", "-m32"}};
  for (const auto& [attribute, width] : cases) {
    for (const char* level : {"-O0", "-O1"}) {
      SCOPED_TRACE(std::string(attribute) + " " + level);
      const std::string program =
          built(folder, "scale", text, {"clang", "-g", width, level, "-DCONVENTION=" + std::string(attribute)});
      const std::string name = std::string(attribute) == "vectorcall" ? "scale@@12" : "scale";  // as it is linked
      const std::string convention = passing({"passing", program, name})["convention"];
      EXPECT_EQ(abi::convention_named(convention), abi::convention_named(attribute)) << convention;
      const json seen = json::parse(deeptrace({"calls", "--of", name, "--format", "json", program}).out);
      ASSERT_EQ(seen["calls"].size(), 1U) << seen;
      const json& call = seen["calls"][0];
      ASSERT_EQ(call["arguments"].size(), 3U) << call;
      for (std::size_t i = 0; i < 3; ++i)
        EXPECT_EQ(call["arguments"][i]["value"]["signed"], (std::array{"21", "-3", "8"})[i]) << call;
      EXPECT_EQ(call["result"]["value"]["signed"], "-55") << call;
      const Outcome hit =
          deeptrace({"hits", "--halt", "at " + name + "+0", "--keep", "arg(2)", "--format", "csv", program});
      EXPECT_NE(hit.out.find("-3"), std::string::npos) << hit.out << hit.err;
    }
  }
}

/// Nothing is made up of a convention that nobody here knows.
TEST(Passing, OtherDeclaredConventionsAreNotKnown) {
  const TempFolder folder;
  const std::string program = built(folder, "other", R"(
__attribute__((noinline, regcall)) long scale(long level, int by) { return level * by; }
__attribute__((noinline, preserve_most)) long shift(long level, int by) { return level + by; }
int main(void) { return scale(21, -3) + shift(60, 3) == 0 ? 0 : 1; }
)",
                                    {"clang", "-g", "-O1"});
  const json seen = json::parse(deeptrace({"calls", "--format", "json", program}).out);
  std::map<std::string, json> calls;
  for (const json& one : seen["calls"]) calls[one["function"].get<std::string>()] = one;
  const json& scale = calls.at("__regcall3__scale");
  EXPECT_TRUE(scale["arguments"][0]["value"].is_null()) << scale;
  EXPECT_TRUE(scale["result"].is_null() || scale["result"]["value"].is_null()) << scale;
  EXPECT_EQ(calls.at("shift")["arguments"][0]["value"]["signed"], "60") << "that keeps more registers";
  const Outcome explained = deeptrace({"explain", "passing", program, "__regcall3__scale"});
  EXPECT_EQ(explained.status, 2);
  EXPECT_NE(explained.err.find("a calling convention that is not known here"), std::string::npos) << explained.err;
  const Outcome hit = deeptrace({"hits", "--halt", "at __regcall3__scale+0", "--keep", "arg(1)", program});
  EXPECT_NE(hit.out.find("a calling convention that is not known here"), std::string::npos) << hit.out << hit.err;
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
  EXPECT_EQ(deeptrace({"explain", "--convention", "vectorcall", "passing", "int f(long double)"}).status, 2);
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
