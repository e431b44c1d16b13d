// Files below the commands: ELF, unwind tables, own code, the table of system calls, the memory an instruction touches.
#include "program/program.h"

#include <gtest/gtest.h>
#include <sys/syscall.h>

#include <algorithm>
#include <map>
#include <set>
#include <sstream>

#include "abi/system_calls.h"
#include "base/mapped_file.h"
#include "binary/elf.h"
#include "debuginfo/line_table.h"
#include "debuginfo/unwind_table.h"
#include "live_support.h"
#include "process/launch.h"
#include "process/stop_bytes.h"
#include "program/location.h"
#include "program/own_code.h"
#include "program/source_text.h"
#include "state/touched.h"
#include "support.h"

namespace deeptrace::tests {
namespace {

using program::Program;
using state::Reg;

TEST(ByteReader, StaysInsideAndStaysBad) {
  const std::uint8_t bytes[] = {0xe5, 0x8e, 0x26, 0x7f, 'h', 'i', 0, 1};
  ByteReader reader(bytes);
  EXPECT_EQ(reader.uleb(), 624485U);
  EXPECT_EQ(reader.sleb(), -1);
  EXPECT_EQ(reader.string(), "hi");
  EXPECT_EQ(reader.u32(), 0U);
  EXPECT_FALSE(reader.good());
  EXPECT_EQ(reader.u8(), 0U) << "bad for good";
  EXPECT_EQ(ByteReader(bytes, 99).remaining(), 0U);
  EXPECT_EQ(ByteReader(Bytes(bytes).subspan(7)).string(), "") << "no zero byte ends it";
  const std::uint8_t endless[20] = {0x80, 0x80, 0x80};
  EXPECT_FALSE(ByteReader(Bytes(endless, 3)).uleb() != 0);
}

/// The linker puts names of its own where .bss begins; a program's variable there keeps its name, with a type and
/// without.
TEST(Program, OwnNamesComeBeforeTheLinkers) {
  const TempFolder folder;
  const std::string c = built(folder, "first", "static volatile int level;\nint main(void) { return level; }\n");
  write_file(folder / "first.s",
             ".globl _start\n_start: movl level(%rip), %edi\n movl $60, %eax\n syscall\n.bss\nlevel: .zero 4\n");
  ASSERT_EQ(run({"gcc", "-nostdlib", "-static", "-o", folder / "assembled", folder / "first.s"}).status, 0);
  for (const std::string& path : {c, std::string(folder / "assembled")}) {
    const auto program = Program::open(path, {});
    ASSERT_TRUE(program);
    const binary::Section* bss = program->elf().section_named(".bss");
    ASSERT_NE(bss, nullptr);
    bool found = false;
    for (std::uint64_t at = bss->address; at < bss->address + bss->size; ++at)
      found |= program->reference(at).name == "level";
    EXPECT_TRUE(found) << path;
    const std::string listing = deeptrace({"listing", path, path == c ? "main" : "_start"}).out;
    EXPECT_NE(listing.find("level"), std::string::npos) << listing;
    EXPECT_EQ(listing.find("__TMC_END__"), std::string::npos) << listing;
    EXPECT_EQ(listing.find("__bss_start"), std::string::npos) << listing;
  }
}

TEST(StopBytes, HideOnlyWhatTheyPut) {
  process::StopBytes stops;
  stops.add(0x1000, 0x55);
  stops.add(0x1003, 0x90);
  std::uint8_t memory[] = {process::StopBytes::kTrap, 1, 2, 0xb8};  // the program has written over the second one
  stops.hide(0x1000, memory);
  EXPECT_EQ(memory[0], 0x55);
  EXPECT_EQ(memory[3], 0xb8);
  EXPECT_TRUE(stops.overlap(0x1001, 3));
  EXPECT_FALSE(stops.overlap(0x1001, 2));
}

TEST(Elf, SectionsAndSymbolsAreThoseOfTheLinker) {
  const auto elf = binary::Elf::open(demo("tidelog"));
  ASSERT_TRUE(elf);
  EXPECT_EQ(elf->kind(), binary::Kind::position_independent);
  const binary::Section* text = elf->section_named(".text");
  ASSERT_NE(text, nullptr);
  EXPECT_TRUE(text->is_code());
  EXPECT_TRUE(text->holds(elf->entry()));
  EXPECT_EQ(elf->section_at(text->address + text->size - 1), text);
  const auto main =
      std::find_if(elf->symbols().begin(), elf->symbols().end(), [](const auto& s) { return s.name == "main"; });
  ASSERT_NE(main, elf->symbols().end());
  const binary::Symbol symbol = *main;
  EXPECT_EQ(symbol.type, binary::kFunction);
  EXPECT_EQ(elf->bytes_at(symbol.address)[0], 0x55) << "push rbp";
  EXPECT_TRUE(elf->bytes_at(0xffffffffffff0000).empty());
}

/// The linker's own account of where it put things.
TEST(Elf, SymbolsLieWhereTheLinkerPutThem) {
  const TempFolder folder;
  write_file(folder / "a.c",
             "int level = 3, marks[4];\nint deeper(int by) { return level - by; }\n"
             "int main(void) { return deeper(marks[1]); }\n");
  ASSERT_EQ(run({"gcc", "-O0", "-Wl,-Map=" + (folder / "map").string(), "-o", folder / "a", folder / "a.c"}).status, 0);
  std::istringstream map(read_file(folder / "map"));
  const auto elf = binary::Elf::open(folder / "a");
  ASSERT_TRUE(elf);
  std::size_t compared = 0;
  for (std::string line; std::getline(map, line);) {
    std::istringstream words(line);
    std::string address, name, more;
    if (!(words >> address >> name) || words >> more || !address.starts_with("0x")) continue;
    for (const char* const wanted : {"main", "deeper", "level", "marks"}) {
      if (name != wanted) continue;
      const auto found = std::ranges::find_if(elf->symbols(), [&](const auto& symbol) { return symbol.name == name; });
      ASSERT_NE(found, elf->symbols().end()) << name;
      EXPECT_EQ((*found).address, std::stoull(address, nullptr, 16)) << name;
      ++compared;
    }
  }
  EXPECT_EQ(compared, 4U);
}

TEST(MappedFile, WhatWasCutOffReadsAsZerosAndIsTold) {
  const TempFolder folder;
  const std::string path = folder / "log";
  write_file(path, std::string(5 * 4096, 'x'));
  const auto file = MappedFile::open(path);
  ASSERT_TRUE(file);
  std::filesystem::resize_file(path, 4096);
  EXPECT_EQ(file->bytes()[4095], 'x');
  EXPECT_EQ(file->bytes()[4096], 0);
  EXPECT_EQ(file->bytes()[5 * 4096 - 1], 0);
  EXPECT_EQ(damaged_files(), std::vector{path});
  EXPECT_TRUE(damaged_files().empty());
}

TEST(MappedFile, DamageIsToldWhenTheFileIsNoLongerUsed) {
  const TempFolder folder;
  const std::string path = folder / "log";
  write_file(path, std::string(2 * 4096, 'x'));
  {
    const auto file = MappedFile::open(path);
    ASSERT_TRUE(file);
    std::filesystem::resize_file(path, 100);
    EXPECT_EQ(file->bytes()[2 * 4096 - 1], 0);
  }
  EXPECT_EQ(damaged_files(), std::vector{path});
}

TEST(Elf, ManySectionsAreCountedInTheFirstHeader) {
  // More than 65,279 sections do not fit the header's field.
  const TempFolder folder;
  std::string assembly;
  for (int i = 0; i < 66000; ++i)
    assembly += ".section .s" + std::to_string(i) + ",\"ax\",@progbits\nf" + std::to_string(i) + ": ret\n";
  write_file(folder / "many.s", assembly);
  ASSERT_EQ(run({"as", "-o", folder / "many.o", folder / "many.s"}).status, 0);
  const auto elf = binary::Elf::open(folder / "many.o");
  ASSERT_TRUE(elf);
  EXPECT_GT(elf->sections().size(), 66000U);
  EXPECT_NE(elf->section_named(".s65999"), nullptr);
}

/// A file with very many functions is opened from what was kept of it, to the same functions, until it changes.
TEST(FunctionIndex, GivesTheSameFunctionsAndNoticesChanges) {
  const TempFolder folder;
  ::setenv("XDG_CACHE_HOME", (folder / "cache").c_str(), 1);
  std::string source = ".text\n";
  for (std::size_t i = 0; i < program::kManyFunctions + 5; ++i) {
    const std::string name = "level_" + std::to_string(i);
    source += name + ":\n.type " + name + ",@function\nret\n.size " + name + ",.-" + name + "\n";
  }
  write_file(folder / "a.s", source + ".globl _start\n_start: hlt\ninner: nop\n");
  ASSERT_EQ(run({"gcc", "-nostdlib", "-static", "-o", folder / "a", folder / "a.s"}).status, 0);
  const auto first = Program::open(folder / "a", {});
  ASSERT_TRUE(first);
  first->keep_index();
  ASSERT_FALSE(std::filesystem::is_empty(folder / "cache/deeptrace"));
  const auto second = Program::open(folder / "a", {});
  ASSERT_TRUE(second);
  ASSERT_EQ(second->functions().size(), first->functions().size());
  for (std::size_t i = 0; i < first->functions().size(); i += 777) {
    EXPECT_EQ(second->functions()[i].name.str(), first->functions()[i].name.str());
    EXPECT_EQ(second->functions()[i].range(), first->functions()[i].range());
  }
  for (const std::string name : {"level_0", "level_77777", "_start", "level_"}) {
    const auto a = first->functions_named(name), b = second->functions_named(name);
    ASSERT_EQ(a.size(), b.size()) << name;
    if (!a.empty()) {
      EXPECT_EQ(a[0]->address, b[0]->address) << name;
    }
  }
  const std::uint64_t last = first->functions()[first->functions().size() - 1].address;
  EXPECT_EQ(second->place_name(last + 1), first->place_name(last + 1));
  EXPECT_EQ(second->labels().size(), first->labels().size());
  // Another file in its place.
  write_file(folder / "a.s", source + ".globl _start\n_start: nop\nhlt\n");
  ASSERT_EQ(run({"gcc", "-nostdlib", "-static", "-o", folder / "a", folder / "a.s"}).status, 0);
  const auto changed = Program::open(folder / "a", {});
  EXPECT_EQ(changed->functions_named("_start")[0]->size, 2U);
  // Damage is no reason to fail.
  for (const auto& entry : std::filesystem::directory_iterator(folder / "cache/deeptrace"))
    std::filesystem::resize_file(entry.path(), 100);
  EXPECT_EQ(Program::open(folder / "a", {})->functions().size(), first->functions().size());
}

TEST(UnwindTable, NamesEveryFunctionThatTheSymbolsName) {
  for (const std::string& path : {demo("tidelog"), demo("tidelog-O2"), fixture("throwing")}) {
    const auto program = Program::open(path, {});
    ASSERT_TRUE(program);
    const debuginfo::CodeEntries entries = debuginfo::code_entries(program->elf());
    const std::set<std::uint64_t> found(entries.functions.begin(), entries.functions.end());
    for (const program::Function& function : program->functions()) {
      if (!program->is_own(function) || function.name == "log_checksum")
        continue;  // assembly without unwind directives
      EXPECT_EQ(found.count(function.address), 1U) << path << " " << function.name;
    }
    for (const std::uint64_t pad : entries.landing_pads) EXPECT_NE(program->function_at(pad), nullptr);
    EXPECT_EQ(entries.landing_pads.empty(), path != fixture("throwing"));
  }
}

TEST(OwnCode, FollowsItsDefinition) {
  const program::OwnCode usual;
  const auto own = [&](std::string_view module, bool lines, std::string_view source, std::string_view name) {
    return program::is_own(usual, module, lines, source, name, true);
  };
  EXPECT_TRUE(own("/srv/tide/log", true, "/srv/tide/log.c", "main"));
  EXPECT_FALSE(own("/srv/tide/log", true, "/usr/include/c++/12/bits/stl_vector.h", "std::vector<int>::size"));
  EXPECT_FALSE(own("/srv/tide/log", true, "", "_start"));
  EXPECT_TRUE(own("/srv/tide/log", false, "", "main"));
  EXPECT_FALSE(own("/srv/tide/log", false, "", "_start"));
  EXPECT_FALSE(own("/usr/lib/x86_64-linux-gnu/libtide.so", true, "/srv/tide/lib.c", "tide"));
  EXPECT_TRUE(program::is_own(usual, "/srv/tide/beacon", false, "", "_start", false)) << "an assembly program's own";
  EXPECT_TRUE(program::is_own({.all = true, .paths = {}}, "/usr/lib/libc.so", false, "", "puts", true));
  const program::OwnCode chosen{.all = false, .paths = {"/usr/include/c++", "/opt/tide/"}};
  EXPECT_TRUE(program::is_own(chosen, "/srv/tide/log", true, "/usr/include/c++/12/vector", "f", true));
  EXPECT_TRUE(program::is_own(chosen, "/opt/tide/lib.so", false, "", "f", true));
  EXPECT_FALSE(program::is_own(chosen, "/opt/tidelog/lib.so", false, "", "f", true)) << "a folder of another name";
}

TEST(Locations, TakeCppNamesWithAndWithoutTheirSignature) {
  const auto program = Program::open(fixture("throwing"), {});
  ASSERT_TRUE(program);
  const auto bare = program::addresses_of(*program, "try_all");
  ASSERT_TRUE(bare);
  const auto full = program::addresses_of(*program, program->function_at(bare->front())->name);
  ASSERT_TRUE(full);
  EXPECT_EQ(*bare, *full);
  EXPECT_FALSE(program::addresses_of(*program, "try_al"));
  EXPECT_EQ(program::similar_names(*program, "try_al"), std::vector<std::string>{"try_all"});
}

TEST(Locations, ALineIsEveryRunOfItsInstructions) {
  const auto program = Program::open(demo("tidelog"), {});
  ASSERT_TRUE(program);
  const auto ranges = program::ranges_of(*program, "levels.c:33");
  ASSERT_TRUE(ranges);
  EXPECT_EQ(ranges->size(), 2U) << "the loop's start, and its step and condition";
  for (const auto& range : *ranges) {
    for (std::uint64_t a = range.from; a < range.to; ++a) EXPECT_EQ(program->lines().at(a)->line, 33U);
  }
  EXPECT_EQ(program::addresses_of(*program, "levels.c:33")->size(), 1U) << "one place to stop in each function";
  for (const char* wrong :
       {"levels.c:9999", "nothing.c:1", "0x5", "0x10..0x5", ".data", "level_sum+", "", ":", "+", "::"}) {
    EXPECT_FALSE(program::ranges_of(*program, wrong)) << wrong;
  }
}

TEST(SourceText, GivesLinesWithoutTheirEnds) {
  const TempFolder folder;
  write_file(folder / "a.c", "one\r\n\ntwo");
  program::SourceText text;
  EXPECT_EQ(text.line(folder / "a.c", 1), "one");
  EXPECT_EQ(text.line(folder / "a.c", 2), "");
  EXPECT_EQ(text.line(folder / "a.c", 3), "two");
  EXPECT_EQ(text.line(folder / "a.c", 4), std::nullopt);
  EXPECT_EQ(text.line(folder / "a.c", 0), std::nullopt);
  EXPECT_FALSE(text.found(folder / "b.c"));
}

TEST(SystemCalls, HaveTheKernelsNumbers) {
  const auto name = [](long number) { return abi::system_call(static_cast<std::uint64_t>(number))->name; };
  EXPECT_EQ(name(SYS_read), "read");
  EXPECT_EQ(name(SYS_exit_group), "exit_group");
  EXPECT_EQ(name(SYS_rt_sigreturn), "rt_sigreturn");
  EXPECT_EQ(name(SYS_openat), "openat");
  EXPECT_EQ(abi::system_call(100000), nullptr);
  EXPECT_TRUE(abi::system_call(SYS_write)->outputs_known);
  EXPECT_FALSE(abi::system_call(SYS_ioctl)->outputs_known);
  EXPECT_EQ(abi::system_call(SYS_uname)->outputs[0].size, 390U);
}

/// The ranges that the instruction writes in a state, as text.
std::string touched(std::vector<std::uint8_t> code, const std::map<Reg, std::uint64_t>& values) {
  state::RegisterSet registers;
  registers[Reg::rip] = 0x1000;
  for (const auto& [reg, value] : values) registers[reg] = value;
  code.resize(20);
  std::string result;
  for (const state::TouchedRange& range : state::touched_by(isa::decode(code, isa::Mode::bits64), registers)) {
    char text[80];
    std::snprintf(text, sizeof text, "%s%s%llx+%llu ", isa::reads(range.access) ? "r" : "",
                  isa::writes(range.access) ? "w" : "", static_cast<unsigned long long>(range.address),
                  static_cast<unsigned long long>(range.size));
    result += text;
  }
  return result;
}

TEST(Touched, IsWhatTheManualSays) {
  EXPECT_EQ(touched({0x50}, {{Reg::rsp, 0x8000}}), "w7ff8+8 ");
  EXPECT_EQ(touched({0x66, 0x50}, {{Reg::rsp, 0x8000}}), "w7ffe+2 ");
  EXPECT_EQ(touched({0xe8, 0, 0, 0, 0}, {{Reg::rsp, 0x8000}}), "w7ff8+8 ");
  EXPECT_EQ(touched({0x8f, 0x44, 0x24, 0x10}, {{Reg::rsp, 0x8000}}), "w8018+8 r8000+8 ")
      << "pop counts rsp after the pop";
  EXPECT_EQ(touched({0xc8, 0x20, 0, 3}, {{Reg::rsp, 0x8000}, {Reg::rbp, 0x9000}}), "w7fe0+32 r8ff0+16 ")
      << "a nested frame copies the outer frames' addresses";
  EXPECT_EQ(touched({0xf3, 0xaa}, {{Reg::rdi, 0x8000}, {Reg::rcx, 10}}), "w8000+10 ");
  EXPECT_EQ(touched({0xf3, 0x48, 0xa5}, {{Reg::rdi, 0x8000}, {Reg::rsi, 0x9000}, {Reg::rcx, 3}, {Reg::rflags, 0x400}}),
            "w7ff0+24 r8ff0+24 ");
  EXPECT_EQ(touched({0xf3, 0xaa}, {{Reg::rdi, 0x8000}, {Reg::rcx, 0}}), "");
  EXPECT_EQ(touched({0x48, 0x0f, 0xab, 0x08}, {{Reg::rax, 0x8000}, {Reg::rcx, 200}}), "rw8018+8 ") << "bts [rax], rcx";
  EXPECT_EQ(touched({0x0f, 0xab, 0x08}, {{Reg::rax, 0x8000}, {Reg::rcx, ~std::uint64_t(0)}}), "rw7ffc+4 ") << "bit -1";
  EXPECT_EQ(touched({0x64, 0x89, 0x04, 0x25, 0x28, 0, 0, 0}, {{Reg::fs_base, 0x70000000}}), "w70000028+4 ");
  EXPECT_EQ(touched({0x89, 0x05, 0x10, 0, 0, 0}, {}), "w1016+4 ") << "from the next instruction";
  EXPECT_EQ(touched({0x67, 0x89, 0x00}, {{Reg::rax, 0xff00000010}}), "w10+4 ") << "32-bit addresses are cut";
  EXPECT_EQ(touched({0x8d, 0x00}, {{Reg::rax, 0x8000}}), "") << "lea touches nothing";
  EXPECT_EQ(touched({0x0f, 0x1f, 0x00}, {{Reg::rax, 0x8000}}), "") << "nor does nop";
}

TEST(StopBytes, AreHiddenFromWhatIsRead) {
  process::StopBytes stops;
  stops.add(0x1002, 0x55);
  stops.add(0x1010, 0x66);
  std::vector<std::uint8_t> copy(8, 0xcc);
  stops.hide(0x1000, copy);
  EXPECT_EQ(copy, (std::vector<std::uint8_t>{0xcc, 0xcc, 0x55, 0xcc, 0xcc, 0xcc, 0xcc, 0xcc}));
}

TEST(Launch, FindsProgramsAsPeopleNameThem) {
  EXPECT_EQ(*process::find_program("sh").operator->(), "/usr/bin/sh");
  EXPECT_EQ(*process::find_program("/bin/sh").operator->(), "/bin/sh");
  EXPECT_EQ(process::find_program("no-such-tide-program").error().fault, Fault::program);
  EXPECT_EQ(process::find_program("/tmp").error().fault, Fault::program);
}

}  // namespace
}  // namespace deeptrace::tests
