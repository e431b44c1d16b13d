// `listing` against the compiler's own account of its lines and the assembler's of its instructions.
#include <gtest/gtest.h>

#include <map>
#include <nlohmann/json.hpp>

#include "support.h"

namespace deeptrace::tests {
namespace {

using nlohmann::json;

/// Compiler, optimisation, DWARF version.
struct Build {
  std::string compiler, level, dwarf;
};
void PrintTo(const Build& build, std::ostream* out) { *out << build.compiler << build.level << build.dwarf; }
std::vector<Build> all_builds() {
  std::vector<Build> builds;
  for (const char* compiler : {"gcc", "clang"}) {
    for (const char* level : {"-O0", "-O2"}) {
      for (const char* dwarf : {"-gdwarf-4", "-gdwarf-5"}) builds.push_back({compiler, level, dwarf});
    }
  }
  return builds;
}

class Lines : public testing::TestWithParam<Build> {};

json instructions_by_place(const json& listing, bool by_function) {
  json result;
  for (const json& function : listing["functions"]) {
    for (const json& row : function["instructions"]) {
      const std::string group = by_function ? function["name"] : function["section"];
      const std::uint64_t offset = by_function ? row["offset"].get<std::uint64_t>()
                                               : std::stoull(row["address"].get<std::string>(), nullptr, 16);
      result[group + "+" + std::to_string(offset)] = row;
    }
  }
  return result;
}

/// Every instruction of the assembler's listing is there, with its bytes and its line.
void expect_same(const std::vector<Assembled>& expected, const json& listing, bool by_function, bool linked) {
  const json rows = instructions_by_place(listing, by_function);
  ASSERT_GT(expected.size(), 50U);
  for (const Assembled& row : expected) {
    const std::string place = by_function ? row.function + "+" + std::to_string(row.function_offset)
                                          : row.section + "+" + std::to_string(row.offset);
    ASSERT_TRUE(rows.contains(place)) << place;
    const json& found = rows[place];
    EXPECT_EQ(found["bytes"].get<std::string>().size(), row.bytes.size()) << place << " " << found["text"];
    if (!linked) {
      EXPECT_EQ(found["bytes"], row.bytes) << place;
    }
    const unsigned line = found["line"].is_null() ? 0 : found["line"].get<unsigned>();
    EXPECT_EQ(line, row.line) << place << " " << found["text"];
  }
}

TEST_P(Lines, EqualTheLastLocBeforeEachInstruction) {
  const auto& [compiler, level, dwarf] = GetParam();
  const TempFolder folder;
  std::vector<std::string> link = {compiler, "-o", folder / "linked"};
  std::vector<std::vector<Assembled>> units;
  for (const std::string name : {"tidelog", "levels"}) {
    const std::string assembly = folder / (name + ".s");
    std::vector<std::string> compile = {
        compiler, level, dwarf, "-S", "-o", assembly, source("demo/tidelog/" + name + ".c")};
    if (compiler == "clang") compile.push_back("-fno-integrated-as");  // write what GNU as reads
    ASSERT_EQ(run(compile).status, 0);
    units.push_back(assemble_with_listing(assembly, folder / (name + ".o")));
    // GNU as leaves `.loc` with line 0 out of the table that it writes; clang's assembler keeps it.
    if (compiler == "clang") {
      ASSERT_EQ(run({"clang", "-O2", "-c", "-o", folder / (name + ".o"), assembly}).status, 0);
    }
    link.push_back(folder / (name + ".o"));
    const Outcome object = deeptrace({"listing", "--format", "json", folder / (name + ".o")});
    ASSERT_EQ(object.status, 0) << object.err;
    expect_same(units.back(), json::parse(object.out), false, false);
  }
  ASSERT_EQ(run({compiler, "-c", "-o", folder / "checksum.o", source("demo/tidelog/checksum.s")}).status, 0);
  link.push_back(folder / "checksum.o");
  ASSERT_EQ(run(link).status, 0);
  const Outcome linked = deeptrace({"listing", "--format", "json", folder / "linked"});
  ASSERT_EQ(linked.status, 0) << linked.err;
  for (const auto& unit : units) expect_same(unit, json::parse(linked.out), true, true);
}

INSTANTIATE_TEST_SUITE_P(Builds, Lines, testing::ValuesIn(all_builds()), [](const auto& build) {
  return build.param.compiler + build.param.level.substr(1) + "dwarf" + build.param.dwarf.substr(8);
});

TEST(Listing, ShowsOwnCodeFirstAndEverythingOnRequest) {
  const json own = json::parse(deeptrace({"listing", "--format", "json", demo("tidelog")}).out);
  std::vector<std::string> names;
  for (const json& function : own["functions"]) names.push_back(function["name"]);
  EXPECT_EQ(names, (std::vector<std::string>{"print_summary", "main", "log_read", "level_sum", "highest_level",
                                             "by_level", "sort_by_level", "log_checksum"}));
  const std::string all = deeptrace({"listing", "--all", demo("tidelog")}).out;
  EXPECT_NE(all.find("_start"), std::string::npos);
  EXPECT_NE(all.find("PLT stub of printf"), std::string::npos);
}

/// The last call of this `main` does not return, so that its line goes on to the very end; the start-up code is next.
TEST(Listing, LinesEndWithTheirCode) {
  const Outcome outcome = deeptrace({"listing", "--all", "--format", "csv", fixture("winding-O2"), "_start"});
  EXPECT_EQ(outcome.out.find("winding.c"), std::string::npos);
}

TEST(Listing, NamesWhatTargetsReferTo) {
  const json listing = json::parse(deeptrace({"listing", "--format", "json", demo("tidelog"), "print_summary"}).out);
  std::map<std::string, json> by_target;
  for (const json& row : listing["functions"][0]["instructions"]) {
    if (row["target_name"].is_string()) by_target[row["target_name"]] = row;
  }
  EXPECT_EQ(by_target.at("level_sum")["kind"], "call");
  EXPECT_EQ(by_target.at("printf")["kind"], "call");
  EXPECT_EQ(by_target.at("station_number")["kind"], "next");
}

TEST(Listing, NamesRelocatedTargetsOfObjectFiles) {
  const TempFolder folder;
  ASSERT_EQ(run({"gcc", "-g", "-O2", "-c", "-o", folder / "tidelog.o", source("demo/tidelog/tidelog.c")}).status, 0);
  const std::string text = deeptrace({"listing", folder / "tidelog.o"}).out;
  EXPECT_NE(text.find("log_checksum"), std::string::npos);
  EXPECT_NE(text.find("station_number"), std::string::npos);
  EXPECT_NE(text.find("\"station %d, %s: %d readings\\n\""), std::string::npos);
}

TEST(Listing, LocationsPickCode) {
  const auto first = [](const std::string& where) {
    const Outcome outcome = deeptrace({"listing", "--format", "json", demo("tidelog"), where});
    EXPECT_EQ(outcome.status, 0) << outcome.err;
    return json::parse(outcome.out)["functions"][0];
  };
  const json whole = first("level_sum");
  const std::string start = whole["address"];
  EXPECT_EQ(first(start), whole);
  EXPECT_EQ(first("levels.c:level_sum"), whole);
  EXPECT_EQ(first("tidelog/levels.c:31")["instructions"][0]["line"], 31);
  EXPECT_EQ(first("level_sum+8")["instructions"][0], whole["instructions"][3]);
  EXPECT_EQ(first("next_byte")["instructions"][0]["label"], "next_byte");
  EXPECT_EQ(first(".text")["section"], ".text");
  EXPECT_EQ(first(start + ".." + "0x" + "fffff")["instructions"][0], whole["instructions"][0]);
}

TEST(Listing, EveryNameOfAFunctionFindsIt) {
  const TempFolder folder;
  write_file(folder / "a.c",
             "int __tide_level(int a) { return a * 3; }\n"
             "int tide_level64(int a) __attribute__((alias(\"__tide_level\")));\n"
             "int tide_level(int a) __attribute__((alias(\"__tide_level\")));\n");
  ASSERT_EQ(run({"gcc", "-shared", "-o", folder / "a.so", folder / "a.c"}).status, 0);
  for (const char* name : {"__tide_level", "tide_level64", "tide_level"}) {
    const Outcome outcome = deeptrace({"listing", folder / "a.so", name});
    EXPECT_EQ(outcome.status, 0) << name << outcome.err;
    EXPECT_NE(outcome.out.find("\ntide_level   "), std::string::npos) << name << outcome.out;
  }
}

TEST(Listing, WorksWithoutSymbolsAndWithoutDebugInformation) {
  const TempFolder folder;
  ASSERT_EQ(run({"gcc", "-O1", "-o", folder / "bare", source("tests/programs/failing.c")}).status, 0);
  const std::string bare = deeptrace({"listing", folder / "bare"}).out;
  EXPECT_NE(bare.find("\nmain "), std::string::npos);
  EXPECT_EQ(bare.find("_start "), std::string::npos);
  ASSERT_EQ(run({"strip", folder / "bare"}).status, 0);
  const Outcome stripped = deeptrace({"listing", folder / "bare"});
  EXPECT_EQ(stripped.status, 0) << stripped.err;
  EXPECT_NE(stripped.out.find("\nmain (no symbol)"), std::string::npos) << "by the start-up code";
  EXPECT_EQ(stripped.out.find("_start "), std::string::npos) << stripped.out;
}

TEST(Listing, SaysOnceThatASourceIsMissing) {
  const TempFolder folder;
  write_file(folder / "gone.c", "int one(int a)\n{\n  return a + 1;\n}\n");
  ASSERT_EQ(run({"gcc", "-g", "-c", "-o", folder / "gone.o", folder / "gone.c"}).status, 0);
  std::filesystem::rename(folder / "gone.c", folder / "moved.c");
  const std::string text = deeptrace({"listing", folder / "gone.o"}).out;
  const std::size_t note = text.find("was not found");
  ASSERT_NE(note, std::string::npos);
  EXPECT_EQ(text.find("was not found", note + 1), std::string::npos);
  const std::string mapped =
      deeptrace({"listing", "--source-moved", (folder / "gone.c").string() + "=" + (folder / "moved.c").string(),
                 folder / "gone.o"})
          .out;
  EXPECT_NE(mapped.find("return a + 1;"), std::string::npos);
}

TEST(Listing, SavesEveryFormAndRefusesAFullFolder) {
  const TempFolder folder;
  const std::string save = folder / "saved";
  ASSERT_EQ(deeptrace({"listing", "--format", "none", "--save", save, demo("tidelog")}).out, "");
  EXPECT_TRUE(json::accept(read_file(save + "/listing.json")));
  EXPECT_NE(read_file(save + "/listing.txt").find("level_sum"), std::string::npos);
  EXPECT_EQ(read_file(save + "/listing.csv").find("function,address,offset,bytes"), 0U);
  EXPECT_EQ(deeptrace({"listing", "--save", save, demo("tidelog")}).status, 2);
  EXPECT_EQ(deeptrace({"listing", "--save", save, "--replace", demo("tidelog")}).status, 0);
}

TEST(Listing, TheWholeCLibrary) {
  const Outcome outcome = deeptrace({"listing", "--all", "--format", "json", "/lib/x86_64-linux-gnu/libc.so.6"});
  ASSERT_EQ(outcome.status, 0) << outcome.err;
  ASSERT_TRUE(json::accept(outcome.out));
  EXPECT_EQ(deeptrace({"listing", "/lib/x86_64-linux-gnu/libc.so.6"}).status, 1);
}

struct Bad {
  std::string name, content, says;
};
void PrintTo(const Bad& bad, std::ostream* out) { *out << bad.name; }

class BadFile : public testing::TestWithParam<Bad> {};

TEST_P(BadFile, IsOneLineAndAStatus) {
  const TempFolder folder;
  const std::string path = folder / "file";
  if (GetParam().content == "directory") {
    std::filesystem::create_directory(path);
  } else if (GetParam().content != "missing") {
    write_file(path, GetParam().content);
  }
  for (const char* command : {"listing", "steps"}) {
    if (GetParam().content != "directory" && GetParam().content != "missing")
      std::filesystem::permissions(path, std::filesystem::perms::owner_all);
    const Outcome outcome = deeptrace({command, path});
    const bool by_launcher =
        std::string(command) == "steps" && (GetParam().content == "directory" || GetParam().content == "missing");
    EXPECT_EQ(outcome.status, by_launcher ? 4 : 3) << outcome.err;
    EXPECT_EQ(outcome.out, "");
    EXPECT_EQ(std::count(outcome.err.begin(), outcome.err.end(), '\n'), 1) << outcome.err;
    if (!by_launcher) {
      EXPECT_NE(outcome.err.find(GetParam().says), std::string::npos) << outcome.err;
    }
  }
}

std::string elf_with(std::size_t at, char value) {
  std::string bytes = read_file(demo("tidelog"));
  bytes[at] = value;
  return bytes;
}

std::vector<Bad> bad_files() {
  std::string is32 = elf_with(4, 1);  // whose fields then lie elsewhere
  is32[18] = 3;
  return {{"Missing", "missing", "no such file"},
          {"Directory", "directory", "is a directory"},
          {"Empty", "", "is empty"},
          {"Text", "int main;\n", "not an ELF file"},
          {"Truncated", read_file(demo("tidelog")).substr(0, 9000), "truncated"},
          {"CutHeader", read_file(demo("tidelog")).substr(0, 30), "truncated"},
          {"OtherMachine", elf_with(18, 40), "another machine"},
          {"ThirtyTwoBit", is32, "damaged"}};
}

INSTANTIATE_TEST_SUITE_P(Files, BadFile, testing::ValuesIn(bad_files()),
                         [](const auto& file) { return file.param.name; });

TEST(Listing, UnknownLocationsSuggestNames) {
  const Outcome outcome = deeptrace({"listing", demo("tidelog"), "levl_sum"});
  EXPECT_EQ(outcome.status, 2);
  EXPECT_EQ(outcome.out, "");
  EXPECT_NE(outcome.err.find("level_sum"), std::string::npos);
  EXPECT_NE(deeptrace({"listing", demo("tidelog"), "levels.c:32"}).err.find("33"), std::string::npos);
  EXPECT_EQ(deeptrace({"listing", demo("tidelog"), "level_sum+0x1000"}).status, 2);
}

TEST(Listing, DamagedBytesNeverCrashIt) {
  std::string bytes = read_file(demo("tidelog"));
  std::uint64_t state = 88172645463325252;
  const auto next = [&] {
    state ^= state << 13;
    state ^= state >> 7;
    return state ^= state << 17;
  };
  const TempFolder folder;
  for (int round = 0; round < 60; ++round) {
    std::string damaged = bytes;
    for (int i = 0; i < 30; ++i)
      damaged[next() % (round % 2 == 0 ? 64 + 3000 : damaged.size())] = static_cast<char>(next());
    write_file(folder / "damaged", damaged);
    const Outcome outcome = deeptrace({"listing", "--all", folder / "damaged"});
    EXPECT_LT(outcome.status, 4) << "round " << round << ": " << outcome.err;
  }
}

TEST(CommandLine, TellsHelpVersionAndMistakes) {
  EXPECT_EQ(deeptrace({"--version"}).out.find("deeptrace 0."), 0U);
  for (const char* command : {"listing", "steps", "demo"}) {
    EXPECT_NE(deeptrace({"--help"}).out.find(command), std::string::npos);
    EXPECT_NE(deeptrace({command, "--help"}).out.find("Example"), std::string::npos);
  }
  EXPECT_EQ(deeptrace({"listings"}).status, 2);
  EXPECT_EQ(deeptrace({"listing"}).status, 2);
  EXPECT_EQ(deeptrace({"listing", "--format", "xml", demo("tidelog")}).status, 2);
  EXPECT_EQ(deeptrace({"listing", "--unknown", demo("tidelog")}).status, 2);
  EXPECT_EQ(deeptrace({"steps", "--count", "0", demo("tidelog")}).status, 2);
}

/// Tables, texts and numbers among code, reached and read in all the ways that the scan knows.
constexpr std::string_view kMixed = R"(
	.intel_syntax noprefix
	.globl _start
	.text
_start:
	mov	rcx, 3
	lea	rdx, [rip+table]
	movsxd	rax, dword ptr [rdx+rcx*4]
	add	rax, rdx
	jmp	rax
table:	.long	case0-table, case1-table, case2-table, case3-table
case0:	inc	r8
case1:	inc	r9
	jmp	done
case2:	mov	eax, dword ptr [rip+limit]
case3:	lea	rsi, [rip+message]
done:	call	write_message
	mov	eax, 60
	xor	edi, edi
	syscall
message: .ascii	"High water at the pier\n"
	.string	"Grayling Sound"
limit:	.long	0x90909090
write_message:
	mov	edx, 23
	mov	eax, 1
	mov	edi, eax
	syscall
	ret
never_called:
	xor	eax, eax
	ret
)";

TEST(Listing, TellsDataFromCode) {
  const TempFolder folder;
  write_file(folder / "mixed.s", std::string(kMixed));
  ASSERT_EQ(run({"gcc", "-nostdlib", "-static", "-o", folder / "mixed", folder / "mixed.s"}).status, 0);
  ASSERT_EQ(run({"strip", "-o", folder / "bare", folder / "mixed"}).status, 0);
  for (const char* name : {"mixed", "bare"}) {
    const Outcome outcome = deeptrace({"listing", "--format", "json", folder / name});
    ASSERT_EQ(outcome.status, 0) << outcome.err;
    std::string texts, bytes, last;
    std::size_t instructions = 0;
    const json listing = json::parse(outcome.out);
    for (const json& function : listing["functions"]) {  // without symbols, what is called is one of its own
      for (const json& row : function["instructions"]) {
        if (row["kind"] != "data") {
          ++instructions;
          last = row["text"];
        } else {
          (row["data"] == "string" ? texts : bytes) += row["bytes"].get<std::string>();
        }
      }
    }
    EXPECT_EQ(texts,
              "4869676820776174657220617420746865207069"
              "65720a477261796c696e6720536f756e6400")
        << name;
    EXPECT_EQ(bytes.size(), 2 * (16 + 4)) << name << " the table, and the number that is read: it would decode too";
    EXPECT_EQ(instructions, 21U) << name;
    EXPECT_EQ(last, "ret") << name << " what nobody calls is code when it reads as code";
    EXPECT_EQ(deeptrace({"listing", "--data-as-code", folder / name}).out.find("data"), std::string::npos);
  }
}

/// Functions that only unwind tables tell of, with data that would decode as instructions: after a call that never
/// returns, after a return, and between them a number that looks like padding but is read. The loop is entered in its
/// midst; the jump table has three entries, and another one's follow.
constexpr std::string_view kWithoutSymbols = R"(
.text
.p2align 4
leaves: .cfi_startproc
  push %rbx
  call exit@plt
  .ascii "PQRSTUVWPQRSTUVW"
  .cfi_endproc
.p2align 4
returns: .cfi_startproc
  mov %edi, %eax
  ret
  .ascii "SQUASHQUARTPQRST"
  .cfi_endproc
.p2align 4
reads: .cfi_startproc
  mov height(%rip), %eax
  ret
height: .long 0x90909090
  .cfi_endproc
.p2align 4
turns: .cfi_startproc
  jmp 2f
1: add %esi, %eax
  dec %edi
2: test %edi, %edi
  jne 1b
  cmp $2, %esi
  ja 3f
  lea table(%rip), %rdx
  movslq (%rdx,%rsi,4), %rcx
  add %rdx, %rcx
  jmp *%rcx
4: inc %eax
  ret
5: dec %eax
  ret
6: neg %eax
3: ret
  .cfi_endproc
.section .rodata
table: .long 4b - table, 5b - table, 6b - table, 4b - table, 5b - table
)";

TEST(Listing, TellsDataFromCodeInFunctionsWithoutSymbols) {
  const TempFolder folder;
  write_file(folder / "bare.s", std::string(kWithoutSymbols));
  ASSERT_EQ(run({"gcc", "-shared", "-s", "-o", folder / "bare.so", folder / "bare.s"}).status, 0);
  const Outcome outcome = deeptrace({"listing", "--all", "--format", "json", folder / "bare.so"});
  ASSERT_EQ(outcome.status, 0) << outcome.err;
  std::string data;
  std::vector<std::size_t> cases;
  const json listing = json::parse(outcome.out);
  for (const json& function : listing["functions"]) {
    for (const json& row : function["instructions"]) {
      if (row["kind"] == "data") data += row["text"].get<std::string>();
      for (const json& one : row.value("cases", json::array())) cases.push_back(one["entries"].size());
    }
  }
  EXPECT_EQ(data, "PQRSTUVWPQRSTUVWSQUASHQUARTPQRST....");
  EXPECT_EQ(cases, (std::vector<std::size_t>{1, 1, 1}));
}

/// Compilers put no data among the code of functions here: whatever the scan calls data would be an error.
TEST(Listing, CompiledFunctionsAreAllCode) {
  for (const std::string& file : {demo("tidelog"), demo("tidelog-O2"), fixture("throwing"), fixture("winding-static"),
                                  std::string("/usr/bin/bash"), std::string("/usr/bin/git")}) {
    const Outcome outcome = deeptrace({"listing", "--all", "--format", "csv", file});
    ASSERT_EQ(outcome.status, 0) << outcome.err;
    std::size_t data = 0;
    for (std::size_t at = outcome.out.find(",data,,,"); at != std::string::npos;
         at = outcome.out.find(",data,,,", at + 1))
      ++data;
    EXPECT_EQ(data, 0U) << file;
  }
}

TEST(Listing, ReadsThirtyTwoBitObjectsWithTheirRelocations) {
  const TempFolder folder;
  write_file(folder / "gauge.s",
             ".globl gauge\n.type gauge, @function\ngauge:\n call level\n add $_GLOBAL_OFFSET_TABLE_, %ebx\n"
             " lea marks@GOTOFF(%ebx), %eax\n mov marks+4, %ecx\n ret\n.bss\n.globl marks\nmarks: .zero 8\n");
  ASSERT_EQ(run({"as", "--32", "-o", folder / "gauge.o", folder / "gauge.s"}).status, 0);
  const Outcome outcome = deeptrace({"listing", "--format", "json", folder / "gauge.o", "gauge"});
  ASSERT_EQ(outcome.status, 0) << outcome.err;
  const json listing = json::parse(outcome.out);
  EXPECT_EQ(listing["machine"], "x86, 32-bit");
  std::vector<std::string> names;
  for (const json& row : listing["functions"][0]["instructions"])
    names.push_back(row["target_name"].is_null() ? "" : row["target_name"].get<std::string>());
  EXPECT_EQ(names, (std::vector<std::string>{"level", "_GLOBAL_OFFSET_TABLE_", "marks", "marks+4", ""}));
}

}  // namespace
}  // namespace deeptrace::tests
