// What is wrong with a condition before the program runs. Of comparisons with literals the compiler says whether any
// value makes them true.
#include <gtest/gtest.h>

#include <map>
#include <sstream>

#include "debuginfo/variables.h"
#include "inspect/expression.h"
#include "live_support.h"
#include "program/program.h"

namespace deeptrace::tests {
namespace {

struct Tried {
  std::string name;  // of the variable, of a bit field with its structure
  std::string type;  // of a variable
};

const std::vector<Tried> kVariables = {
    {"u8", "unsigned char"}, {"i8", "signed char"}, {"u16", "unsigned short"}, {"i16", "short"},
    {"u32", "unsigned"},     {"i32", "int"},        {"u64", "unsigned long"},  {"i64", "long"},
    {"truth", "_Bool"},      {"bits.u3", ""},       {"bits.i3", ""},
};
const std::vector<std::string> kOperators = {"==", "!=", "<", "<=", ">", ">="};
const std::vector<std::string> kLiterals = {
    "0",     "1",          "-1",         "2",           "3",          "-4",         "-5",         "7",          "8",
    "127",   "128",        "-128",       "-129",        "255",        "256",        "32767",      "-32769",     "65535",
    "65536", "2147483647", "2147483648", "-2147483648", "0x7fffffff", "0xffffffff", "4294967296", "-4294967297"};

std::string source_of_tries() {
  std::string text = R"(#include <stdio.h>
struct narrow { unsigned u3 : 3; int i3 : 3; } bits;
)";
  for (const Tried& one : kVariables) {
    if (!one.type.empty()) text += one.type + " " + one.name + ";\n";
  }
  text += "int main(void) {\n";
  for (const Tried& one : kVariables) {
    // Whatever a comparison turns on lies next to the literal or at an end of the type's range.
    text += "  {\n    long long values[] = {0, 1, -1, ";
    for (const std::string& literal : kLiterals) text += literal + ", " + literal + "LL - 1, " + literal + "LL + 1, ";
    text += "-9223372036854775807LL - 1, 9223372036854775807LL};\n    int n = sizeof values / sizeof values[0];\n";
    for (const std::string& op : kOperators) {
      for (const std::string& literal : kLiterals) {
        text += "    { int any = 0; for (int i = 0; i < n; i++) { " + one.name + " = values[i]; any |= " + one.name +
                " " + op + " " + literal + "; } printf(\"" + one.name + " " + op + " " + literal +
                "\\t%d\\n\", any); }\n";
      }
    }
    text += "  }\n";
  }
  return text + "}\n";
}

TEST(Conditions, AreRefusedWhereTheCompilersCodeNeverMakesThemTrue) {
  const TempFolder folder;
  for (const char* compiler : {"gcc", "clang"}) {
    SCOPED_TRACE(compiler);
    const std::string path = built(folder, "tries", source_of_tries(), {compiler, "-g", "-O0", "-w"});
    const Outcome said = run({path});
    const auto program = program::Program::open(path, {});
    ASSERT_TRUE(program);
    debuginfo::Types types(program->debug());
    const auto variables = debuginfo::static_variables(program->debug(), types);
    const auto type_of = [&](std::string_view name) -> std::optional<inspect::TypeRef> {
      for (const auto& variable : variables) {
        if (variable.name == name) return inspect::TypeRef{&types, variable.type};
      }
      return std::nullopt;
    };
    std::size_t tried = 0, refused = 0;
    std::istringstream lines(said.out);
    for (std::string line; std::getline(lines, line); ++tried) {
      const std::string text = line.substr(0, line.find('\t'));
      const auto expression = inspect::Expression::parse(text);
      ASSERT_TRUE(expression) << text;
      const bool possible = line.ends_with("1");
      const auto error = expression->type_error(type_of, true);
      // "!=" that cannot hold does not occur: every type has two values.
      EXPECT_EQ(error.has_value(), !possible) << text << (error ? ": " + error->message : "");
      EXPECT_FALSE(expression->type_error(type_of, false)) << text << ": its value may be asked for";
      refused += error ? 1 : 0;
    }
    EXPECT_EQ(tried, kVariables.size() * kOperators.size() * kLiterals.size());
    EXPECT_GT(refused, tried / 10);
    EXPECT_LT(refused, tried / 2);
  }
}

constexpr const char* kGauges = R"(#include <string>
struct base { int kept; virtual ~base() {} };
struct derived : base { int more; };
struct pair { int a, b; };
struct inner : pair { union { int c; char d; }; };
enum state { open_, shut };
inner in;
pair *to = &in;
base *object = new derived;
std::string name = "pier";
state now = shut;
int level = 3, levels[4];
const char *text = "pier";
int measured(int step) {
  in.a += step;
  return in.a;
}
struct tide { int high; int of(int x) {
  return high + x;
} };
int main() { tide t{2}; return measured(3) + t.of(1) - 6; }
)";

TEST(Conditions, AreRefusedByNamesAndTypes) {
  const TempFolder folder;
  const std::vector<std::vector<std::string>> kCpp = {{"g++", "-g", "-O0", "-w"},
                                                      {"clang++", "-g", "-O0", "-w", "-fstandalone-debug"}};
  for (const auto& options : kCpp) {
    SCOPED_TRACE(options.front());
    const std::string path = built(folder, "gauges", kGauges, options);
    const auto said = [&](const std::string& at, const std::string& condition) {
      const Outcome outcome = deeptrace({"hits", "--at", at + " when " + condition, path});
      return std::to_string(outcome.status) + " " + (outcome.status == 2 ? outcome.err : "");
    };
    const std::map<std::string, std::string> wrong = {
        {"in.e == 1", ".e: inner has no such member; it has"},
        {"to->c == 1", ".c: pair has no such member; it has a, b"},
        {"level.x == 1", ".x: int has no members"},
        {"level[1] == 1", "int is no pointer"},
        {"*now", "state is no pointer"},
        {"level->x", "int is no pointer"},
        {"in == 3", "inner is no number; name a member of it"},
        {"!in", "inner is no number"},
        {"levels[1].x == 2", ".x: int has no members"},
        {"level == \"pier\"", "a string is compared with strings only"},
        {"step == 3 && in.e", ".e: inner has no such member"},
        {"stepp == 3", "stepp: no register, variable or function of that name here; similar names: step"},
        {"level == 0x100000000", "this never holds: level is int, -2147483648 to 2147483647"},
    };
    for (const auto& [condition, message] : wrong) {
      const std::string answer = said("measured", condition);
      EXPECT_NE(answer.find(message), std::string::npos) << condition << ": " << answer;
    }
    for (const char* fine : {"in.a == 3 || 1", "in.c == 0", "to->a || 1", "name == \"pier\"", "text == \"pier\"",
                             "object->more == 0", "now == shut", "levels[2] == 0", "!(level == 0x100000000)",
                             "level == 0x100000000 || level == 3", "eax == eax"})
      EXPECT_EQ(said("measured", fine), "0 ") << fine;
    // Members of the object that a member function works on.
    EXPECT_EQ(said("gauges.cpp:19", "high == 2"), "0 ");
    EXPECT_NE(said("gauges.cpp:19", "low == 2").find("low: no register, variable or function of that name here"),
              std::string::npos);
  }
}

}  // namespace
}  // namespace deeptrace::tests
