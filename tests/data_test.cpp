// `data`: what Deep Trace says of a program's variables is what the compiled program says of itself.
#include "study/data.h"

#include <gtest/gtest.h>

#include <cstdlib>
#include <map>
#include <nlohmann/json.hpp>
#include <random>
#include <sstream>

#include "support.h"

namespace deeptrace::tests {
namespace {

using nlohmann::json;

/// Makes types of a seed, a variable of each, and a program that prints every leaf of every variable: its path, offset
/// (-1 for bit fields), size in bytes, and value.
class TypeWriter {
 public:
  TypeWriter(unsigned seed, bool cpp) : random_(seed), cpp_(cpp) {}

  std::string program(int count) {
    for (int i = 0; i < count; ++i) {
      const std::string name = "T" + std::to_string(i);
      const std::string variable = "v" + std::to_string(i);
      leaves_.str("");
      std::string value;
      define(name, variable, value, i);
      variables_ << "struct " << name << " " << variable << " = " << value << ";\n";
      main_ << "  printf(\"" << variable << " 0 %d -\\n\", (int)sizeof " << variable << ");\n" << leaves_.str();
    }
    return "#include <stdio.h>\n#include <stddef.h>\n" + types_.str() + variables_.str() + "int main(void) {\n" +
           main_.str() + "  return 0;\n}\n";
  }

 private:
  int pick(int below) { return static_cast<int>(random_() % static_cast<unsigned>(below)); }

  struct Scalar {
    const char* name;
    int bits;
    bool is_signed;
    const char* format;
  };
  static constexpr Scalar kScalars[] = {
      {"signed char", 8, true, "%d"},  {"unsigned char", 8, false, "%u"},
      {"short", 16, true, "%d"},       {"unsigned short", 16, false, "%u"},
      {"int", 32, true, "%d"},         {"unsigned", 32, false, "%u"},
      {"long long", 64, true, "%lld"}, {"unsigned long long", 64, false, "%llu"},
      {"_Bool", 1, false, "%d"},
  };

  std::string number(int bits, bool is_signed) {
    if (bits == 1) return std::to_string(pick(2));
    const std::uint64_t word = (std::uint64_t(random_()) << 32 | random_()) >> (64 - bits);
    if (!is_signed) return std::to_string(word) + "u" + (bits > 32 ? "ll" : "");
    const auto value = static_cast<std::int64_t>(word << (64 - bits)) >> (64 - bits);
    if (value == std::int64_t(1) << 63 || value == -(std::int64_t(1) << (bits - 1))) return "1";
    return std::to_string(value) + (bits > 32 ? "ll" : "");
  }

  void leaf(const std::string& variable, const std::string& path, bool bit_field, const char* format) {
    const std::string whole = variable + path;
    leaves_ << "  printf(\"" << whole << " %d %d " << format << "\\n\", ";
    if (bit_field) {
      // A narrow field is passed as an int, whatever its type.
      leaves_ << "-1, 0, ("
              << (std::string_view(format) == "%lld"   ? "long long"
                  : std::string_view(format) == "%llu" ? "unsigned long long"
                  : std::string_view(format) == "%u"   ? "unsigned"
                                                       : "int")
              << ")";
    } else {
      leaves_ << "(int)((char*)&" << whole << " - (char*)&" << variable << "), (int)sizeof " << whole << ", ";
    }
    leaves_ << whole << ");\n";
  }

  /// Writes the members of a structure, and its value.
  void members(const std::string& indent, const std::string& variable, const std::string& path, std::ostream& out,
               std::string& value, int depth) {
    const int count = 1 + pick(5);
    value = "{";
    for (int i = 0; i < count; ++i) {
      const std::string name = "m" + std::to_string(i);
      const std::string here = path + "." + name;
      std::string one;
      switch (pick(depth > 2 ? 4 : 7)) {
        case 0:
        case 1: {
          Scalar scalar = kScalars[pick(std::size(kScalars))];
          if (cpp_ && scalar.bits == 1) scalar.name = "bool";
          one = number(scalar.bits, scalar.is_signed);
          out << indent << scalar.name << " " << name << ";\n";
          leaf(variable, here, false, scalar.format);
          break;
        }
        case 2: {  // a bit field
          Scalar scalar = kScalars[pick(8)];
          const int bits = 1 + pick(scalar.bits);
          one = number(bits, scalar.is_signed);
          if (bits == 1 && scalar.is_signed) one = std::to_string(-pick(2));
          out << indent << scalar.name << " " << name << " : " << bits << ";\n";
          leaf(variable, here, true, scalar.bits == 64 ? scalar.format : scalar.is_signed ? "%d" : "%u");
          break;
        }
        case 3: {
          const bool wide = pick(2) == 0;
          one = std::to_string(pick(100000)) + ".25" + (wide ? "" : "f");
          out << indent << (wide ? "double " : "float ") << name << ";\n";
          leaf(variable, here, false, "%.17g");
          break;
        }
        case 4: {  // an array
          const int first = 1 + pick(3), second = 1 + pick(3);
          out << indent << "short " << name << "[" << first << "][" << second << "];\n";
          one = "{";
          for (int a = 0; a < first; ++a) {
            one += "{";
            for (int b = 0; b < second; ++b) {
              one += number(16, true) + ",";
              leaf(variable, here + "[" + std::to_string(a) + "][" + std::to_string(b) + "]", false, "%d");
            }
            one += "},";
          }
          one += "}";
          break;
        }
        case 5: {  // a structure in the structure
          out << indent << "struct {\n";
          members(indent + "  ", variable, here, out, one, depth + 1);
          out << indent << "} " << name << ";\n";
          break;
        }
        default: {  // an enumeration
          const std::string tag = "E" + std::to_string(enums_++);
          types_ << "enum " << tag << " { " << tag << "_low = " << -pick(9) << ", " << tag
                 << "_high = " << 100 + pick(900) << " };\n";
          one = pick(2) == 0 ? tag + "_low" : tag + "_high";
          out << indent << "enum " << tag << " " << name << ";\n";
          leaf(variable, here, false, "%d");
        }
      }
      value += one + ", ";
    }
    value += "}";
  }

  void define(const std::string& name, const std::string& variable, std::string& value, int number_of) {
    std::ostringstream out;
    out << "struct " << (number_of % 7 == 6 ? "__attribute__((packed)) " : "") << name << " {\n";
    members("  ", variable, "", out, value, 0);
    out << "};\n";
    types_ << out.str();
  }

  std::mt19937 random_;
  bool cpp_;
  int enums_ = 0;
  std::ostringstream types_, variables_, leaves_, main_;
};

struct Leaf {
  std::int64_t offset = 0;
  std::uint64_t size = 0;
  std::string value;
};
using Leaves = std::map<std::string, Leaf>;

void flatten(const inspect::Value& value, const std::string& path, std::uint64_t start, Leaves& out) {
  using Kind = inspect::Value::Kind;
  if (value.kind == Kind::aggregate) {
    for (const inspect::Value& part : value.parts) flatten(part, path + "." + part.label, start, out);
    return;
  }
  if (value.kind == Kind::array) {
    for (std::size_t i = 0; i < value.parts.size(); ++i)
      flatten(value.parts[i], path + "[" + std::to_string(i) + "]", start, out);
    return;
  }
  Leaf leaf;
  leaf.offset = value.bit_field ? -1 : static_cast<std::int64_t>(value.address - start);
  leaf.size = value.bit_field ? 0 : value.size;
  leaf.value = value.kind == Kind::floating ? value.text
               : value.is_signed            ? std::to_string(value.signed_number())
                                            : std::to_string(value.number);
  out[path] = leaf;
}

class Capture : public study::DataSink {
 public:
  void begin(const study::DataFile& /*file*/) override {}
  void variable(const study::DataRow& row) override {
    leaves[row.name] = {0, row.size, "-"};
    flatten(row.value, row.name, row.value.address, leaves);
  }
  void end() override {}
  Leaves leaves;
};

struct Build {
  std::vector<std::string> compiler;
  bool cpp;
  std::vector<std::string> packer = {};  ///< puts the split parts into one file; they are deleted then
};
void PrintTo(const Build& build, std::ostream* out) {
  for (const std::string& word : build.compiler) *out << word << ' ';
}

class Types : public testing::TestWithParam<Build> {};

TEST_P(Types, AreAsTheProgramSays) {
  std::size_t leaves = 0;
  for (unsigned seed = 1; seed <= 4; ++seed) {
    const TempFolder folder;
    const std::string file = GetParam().cpp ? "a.cpp" : "a.c";
    write_file(folder / file, TypeWriter(seed, GetParam().cpp).program(20));
    std::vector<std::string> words = GetParam().compiler;
    // In two steps: split debug information is put beside the object.
    words.insert(words.end(), {"-g", "-w", "-c", "-o", folder / "a.o", folder / file});
    ASSERT_EQ(run(words).status, 0) << "seed " << seed;
    words.resize(GetParam().compiler.size());
    words.insert(words.end(), {"-o", folder / "a", folder / "a.o"});
    ASSERT_EQ(run(words).status, 0) << "seed " << seed;
    if (std::vector<std::string> pack = GetParam().packer; !pack.empty()) {
      pack.insert(pack.end(), {"-e", folder / "a", "-o", folder / "a.dwp"});
      ASSERT_EQ(run(pack).status, 0);
      ASSERT_TRUE(std::filesystem::remove(folder / "a.dwo"));
    }
    const Outcome told = run({folder / "a"});
    ASSERT_EQ(told.status, 0);
    const auto program = program::Program::open(folder / "a", {});
    ASSERT_TRUE(program);
    Capture capture;
    ASSERT_TRUE(study::list_data(*program, {}, capture));
    std::istringstream lines(told.out);
    std::string path;
    for (Leaf own; lines >> path >> own.offset >> own.size >> own.value; ++leaves) {
      const auto found = capture.leaves.find(path);
      ASSERT_NE(found, capture.leaves.end()) << "seed " << seed << ": " << path;
      if (own.offset >= 0) {  // of a bit field the value says whether the right bits were taken
        EXPECT_EQ(found->second.offset, own.offset) << "seed " << seed << ": " << path;
        EXPECT_EQ(found->second.size, own.size) << "seed " << seed << ": " << path;
      }
      if (own.value.find('.') != std::string::npos) {
        EXPECT_EQ(std::strtod(found->second.value.c_str(), nullptr), std::strtod(own.value.c_str(), nullptr)) << path;
      } else {
        EXPECT_EQ(found->second.value, own.value) << "seed " << seed << ": " << path;
      }
    }
  }
  EXPECT_GT(leaves, 300U);
}

INSTANTIATE_TEST_SUITE_P(Builds, Types,
                         testing::Values(Build{{"gcc", "-gdwarf-5"}, false}, Build{{"gcc", "-gdwarf-4", "-m32"}, false},
                                         Build{{"gcc", "-gdwarf-2", "-gstrict-dwarf"}, false},
                                         Build{{"gcc", "-gdwarf-5", "-gsplit-dwarf", "-m32"}, false},
                                         Build{{"g++", "-gdwarf-5", "-fdebug-types-section"}, true},
                                         Build{{"g++", "-gdwarf-4", "-fdebug-types-section", "-gz"}, true},
                                         Build{{"clang", "-gdwarf-5"}, false},
                                         Build{{"clang", "-gdwarf-4", "-m32"}, false},
                                         Build{{"clang++", "-gdwarf-5", "-m32"}, true},
                                         Build{{"clang", "-gdwarf-5", "-gdwarf64"}, false},
                                         Build{{"clang", "-gdwarf-5", "-gsplit-dwarf"}, false},
                                         Build{{"gcc", "-gdwarf-4", "-gsplit-dwarf"}, false, {"dwp"}},
                                         Build{{"clang", "-gdwarf-5", "-gsplit-dwarf"}, false, {"llvm-dwp-14"}}));

constexpr std::string_view kNames = R"(
#include <cstdio>
#include <cstring>
namespace tide {
struct Mark { const char* name; int level; };
Mark marks[2] = {{"datum", 0}, {"flood", 455}};
namespace { int hidden = 7; }
template <typename T> struct Kept { static T last; };
template <typename T> T Kept<T>::last = T(41);
enum class Phase : unsigned char { rising = 1, falling = 2 };
Phase phase = Phase::falling;
int& alias = hidden;
int Mark::*member = &Mark::level;
char greeting[8] = "log";
int count() { static int calls = 12; return ++calls; }
}
struct Base { int first = 1; };
struct Derived : Base { int second = 2; };
Derived derived;
thread_local int mine = 9;
long double tall = 1.5L;
__int128 huge = -5;
int main() { return tide::count() + tide::hidden + tide::Kept<int>::last + mine + (int)tall + (int)huge + tide::alias + derived.second; }
)";

json variable(const std::filesystem::path& file, const std::string& name) {
  const Outcome outcome = deeptrace({"data", "--format", "json", file, name});
  EXPECT_EQ(outcome.status, 0) << outcome.err;
  return outcome.status == 0 ? json::parse(outcome.out)["variables"][0] : json();
}

TEST(Data, ReadsNamesAndShapesOfCpp) {
  const TempFolder folder;
  write_file(folder / "a.cpp", std::string(kNames));
  for (const std::string compiler : {"g++", "clang++"}) {
    ASSERT_EQ(run({compiler, "-g", "-o", folder / "a", folder / "a.cpp"}).status, 0);
    const auto number = [&](const std::string& name) { return variable(folder / "a", name)["value"]["signed"]; };
    EXPECT_EQ(number("tide::count::calls"), "12");
    EXPECT_EQ(number("calls"), "12") << "the last part is enough";
    EXPECT_EQ(number("mine"), "9");
    EXPECT_EQ(number("tide::marks[1].level"), "455");
    EXPECT_EQ(variable(folder / "a", "tide::marks")["value"][1]["name"]["text"], "flood");
    EXPECT_EQ(variable(folder / "a", "tide::phase")["value"]["text"], "falling");
    EXPECT_EQ(variable(folder / "a", "tide::greeting")["value"]["text"], "log");
    EXPECT_EQ(variable(folder / "a", "tide::Kept<int>::last")["type"], "int");
    EXPECT_EQ(variable(folder / "a", "tall")["value"]["text"], "1.5");
    EXPECT_EQ(variable(folder / "a", "huge")["value"]["signed"], "-5");
    EXPECT_EQ(variable(folder / "a", "(anonymous namespace)::hidden")["value"]["hex"], "0x7");
    EXPECT_EQ(variable(folder / "a", "tide::member")["type"], "int tide::Mark::*");
    const Outcome shaped = deeptrace({"data", "--format", "json", "--as", "u16", folder / "a", "tide::greeting"});
    EXPECT_EQ(json::parse(shaped.out)["variables"][0]["value"][0]["hex"], "0x6f6c") << "'l', 'o'";
  }
  const Outcome wrong = deeptrace({"data", folder / "a", "tide::count::cals"});
  EXPECT_EQ(wrong.status, 2);
  EXPECT_NE(wrong.err.find("tide::count::calls"), std::string::npos) << wrong.err;
  EXPECT_NE(deeptrace({"data", folder / "a", "tide::marks[7].level"}).err.find("has no part [7].level"),
            std::string::npos);
}

TEST(Data, WorksWithoutDebugInformation) {
  const TempFolder folder;
  write_file(folder / "a.c",
             "int highest = -3; const char name[] = \"Grayling Sound\"; long table[3] = {1, 2, 3}; int main(int n, "
             "char** words) { (void)words; return (int)table[n]; }\n");
  ASSERT_EQ(run({"gcc", "-o", folder / "a", folder / "a.c"}).status, 0);
  EXPECT_EQ(variable(folder / "a", "highest")["value"]["signed"], "-3");
  EXPECT_EQ(variable(folder / "a", "name")["value"]["text"], "Grayling Sound");
  EXPECT_EQ(variable(folder / "a", "table")["value"][2]["unsigned"], "3");
  EXPECT_EQ(variable(demo("beacon"), "dark")["value"]["text"], "dark until high water\n") << "kept among the code";
}

TEST(Data, FindsSeparateDebugFiles) {
  // The C library's debug information lies in a package of its own and is found by the build's identity.
  const json environment = variable("/lib/x86_64-linux-gnu/libc.so.6", "environ");
  EXPECT_EQ(environment["type"], "char **");
  const TempFolder folder;
  ASSERT_EQ(run({"gcc", "-g", "-o", folder / "a", source("demo/gauge32/gauge32.c")}).status, 0);
  ASSERT_EQ(run({"objcopy", "--only-keep-debug", folder / "a", folder / "a.debug"}).status, 0);
  ASSERT_EQ(run({"objcopy", "--strip-all", "--remove-section=.note.gnu.build-id",
                 "--add-gnu-debuglink=" + (folder / "a.debug").string(), folder / "a"})
                .status,
            0);
  EXPECT_EQ(variable(folder / "a", "marks")["value"][2]["level"]["signed"], "412") << "by the name and checksum in it";
}

}  // namespace
}  // namespace deeptrace::tests
