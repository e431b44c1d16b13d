// `explain` as its users run it.
#include <fmt/format.h>
#include <gtest/gtest.h>

#include <nlohmann/json.hpp>
#include <regex>

#include "isa/instruction.h"
#include "isa/text.h"
#include "live_support.h"
#include "samples.h"
#include "support.h"

namespace deeptrace::tests {
namespace {

using nlohmann::json;

TEST(Explain, TakesBytesApart) {
  const json bytes = explained({"bytes", "48", "f7", "7d", "f8"})["bytes"];
  EXPECT_EQ(bytes["text"], "idiv qword ptr [rbp-8]");
  EXPECT_EQ(bytes["meaning"],
            "signed: rdx:rax divided by the 64-bit value at [rbp-8]: quotient to rax, remainder to rdx");
  ASSERT_EQ(bytes["fields"].size(), 4U);
  EXPECT_EQ(bytes["fields"][3]["meaning"], "displacement -8");
  ASSERT_EQ(bytes["operands"].size(), 3U);
  EXPECT_EQ(bytes["operands"][2]["text"], "rdx");
  EXPECT_EQ(bytes["operands"][2]["implied"], true);
  EXPECT_EQ(bytes["operands"][2]["access"], "read and written");
  // A 32-bit write clears the upper half; an 8-bit one does not.
  EXPECT_EQ(explained({"bytes", "89c8"})["bytes"]["operands"][0]["consequence"], "the upper half of rax becomes 0");
  EXPECT_EQ(explained({"bytes", "88c8"})["bytes"]["operands"][0]["consequence"], "the rest of rax stays");
  EXPECT_EQ(explained({"bytes", "60", "--bits", "32"})["bytes"]["text"], "pusha");
}

/// Every byte of an instruction belongs to exactly one field.
TEST(Explain, FieldsCoverEveryByte) {
  std::string wrong;
  std::size_t checked = 0;
  for (const auto& [row, codes] : samples_of_all_rows(2)) {
    if (row % 23 != 0) continue;  // each is a run of the program
    std::string digits;
    for (const std::uint8_t byte : codes.front()) digits += fmt::format("{:02x}", byte);
    const json bytes = explained({"bytes", digits})["bytes"];
    unsigned next = 0;
    for (const json& field : bytes["fields"]) {
      if (field["at"] != next) wrong += digits + " ";
      next += static_cast<unsigned>(field["bytes"].get<std::string>().size() / 2);
    }
    if (next != codes.front().size()) wrong += digits + " ";
    ++checked;
  }
  EXPECT_EQ(wrong, "");
  EXPECT_GT(checked, 80U);
}

TEST(Explain, InstructionsHaveFormsAndNotes) {
  const json idiv = explained({"instruction", "idiv"})["instruction"];
  ASSERT_EQ(idiv["operations"].size(), 2U);
  EXPECT_EQ(idiv["operations"][1]["forms"][0]["encoding"], "F7 /7");
  EXPECT_NE(idiv["operations"][1]["note"].get<std::string>().find("high half in rdx"), std::string::npos);
  EXPECT_EQ(explained({"vfmadd231ps"})["instruction"]["operations"][0]["forms"][0]["feature"], "fma");
}

/// What is said of an instruction is about its mode and its operands.
TEST(Explain, NotesFitTheInstruction) {
  const auto note = [](const std::string& bytes, const std::string& bits) {
    const json found = explained({"bytes", bytes, "--bits", bits})["bytes"]["note"];
    return found.is_null() ? std::string() : found.get<std::string>();
  };
  EXPECT_NE(note("b805000000", "64").find("clears the upper half"), std::string::npos) << "mov eax, 5";
  EXPECT_EQ(note("b805000000", "32"), "a write of 8 or 16 bits leaves the rest of the register as it was");
  EXPECT_EQ(note("c745f805000000", "64"), "") << "mov dword ptr [rbp-8], 5";
  EXPECT_EQ(note("c9", "32"), "the same as mov esp, ebp and pop ebp");
  EXPECT_EQ(note("c9", "64"), "the same as mov rsp, rbp and pop rbp");
  EXPECT_EQ(note("50", "32").find("64"), std::string::npos) << "push eax";
  EXPECT_NE(note("f7f1", "32").find("its high half in edx (dx): "), std::string::npos) << note("f7f1", "32");
  EXPECT_NE(note("f7f1", "64").find("its high half in rdx (edx, dx): "), std::string::npos) << "div ecx";
  for (const char* const bytes : {"0f94c0", "0f45c1", "f7e1", "f7f9"})
    EXPECT_EQ(note(bytes, "64").find_first_of("{}"), std::string::npos) << note(bytes, "64");
}

TEST(Explain, FlagsTellTheirConditions) {
  const json flags = explained({"flags", "0x246"})["flags_word"];
  EXPECT_EQ(flags["conditions"], json({"no", "ae", "e", "be", "ns", "p", "ge", "le"}));
}

TEST(Explain, BareWordsHaveEveryMeaning) {
  const json both = explained({"90"});
  EXPECT_EQ(both["bytes"]["text"], "nop");
  EXPECT_EQ(both["flags_word"]["value"], "0x5a");
  EXPECT_EQ(explained({"r12"})["register"]["kept_by_callee"], true);
  EXPECT_EQ(explained({"xmm3"})["register"]["kept_by_callee"], false);
}

TEST(Explain, UnknownWordsSuggestNames) {
  const Outcome unknown = deeptrace({"explain", "idvi"});
  EXPECT_EQ(unknown.status, 2);
  EXPECT_NE(unknown.err.find("idiv"), std::string::npos);
  EXPECT_EQ(deeptrace({"explain", "bytes", "0f"}).status, 2);
  EXPECT_EQ(deeptrace({"explain", "bytes", "xyz"}).status, 2);
  EXPECT_EQ(deeptrace({"explain"}).status, 2);
}

TEST(Explain, PrefixesByTheirNames) {
  for (const auto& [name, encoding] : {std::pair("lock", "f0"), std::pair("rep", "f3"), std::pair("repz", "f3"),
                                       std::pair("repnz", "f2"), std::pair("evex", "62")}) {
    const Outcome outcome = run({DEEPTRACE_PROGRAM, "explain", name, "--format", "json"});
    ASSERT_EQ(outcome.status, 0) << outcome.err;
    EXPECT_EQ(nlohmann::json::parse(outcome.out)["prefix"]["encoding"], encoding);
  }
  EXPECT_NE(run({DEEPTRACE_PROGRAM, "explain", "prefix", "lock"}).out.find("a prefix: f0"), std::string::npos);
  EXPECT_EQ(run({DEEPTRACE_PROGRAM, "explain", "prefix", "mov"}).status, 2);
  // The assembler takes what is said to be allowed after a lock, and nothing else.
  const std::string sentence = nlohmann::json::parse(
      run({DEEPTRACE_PROGRAM, "explain", "lock", "--format", "json"}).out)["prefix"]["remarks"][0];
  const TempFolder folder;
  const auto assembled = [&](const std::string& text) {
    write_file(folder / "lock.s", text);
    return run({"as", "-o", folder / "lock.o", folder / "lock.s"}).status == 0;
  };
  for (const auto& [name, operands] :
       {std::pair("add", "%eax, (%rdi)"), std::pair("bts", "%eax, (%rdi)"), std::pair("cmpxchg16b", "(%rdi)"),
        std::pair("incl", "(%rdi)"), std::pair("xadd", "%eax, (%rdi)"), std::pair("mov", "%eax, (%rdi)"),
        std::pair("cmp", "%eax, (%rdi)"), std::pair("test", "%eax, (%rdi)"), std::pair("bt", "%eax, (%rdi)")}) {
    std::string word = name;
    if (word == "incl") word = "inc";
    const bool said = std::regex_search(sentence, std::regex("\\b" + word + "\\b"));
    EXPECT_EQ(said, assembled("lock " + std::string(name) + " " + operands + "\n")) << name;
  }
}

TEST(Sentences, SayZeroAndWhatMasksLeaveOut) {
  const auto of = [](std::vector<std::uint8_t> bytes) {
    return isa::sentence(isa::decode(bytes, isa::Mode::bits64), 0x1000);
  };
  EXPECT_EQ(of({0x31, 0xc0}), "eax becomes 0: the exclusive OR of eax with itself");
  EXPECT_EQ(of({0x48, 0x29, 0xc9}), "rcx becomes 0: rcx is subtracted from itself");
  EXPECT_EQ(of({0x66, 0x0f, 0xef, 0xc9}), "xmm1 becomes 0: the exclusive OR of xmm1 with itself");
  EXPECT_EQ(of({0xc5, 0xf9, 0xef, 0xc0}), "xmm0 becomes 0: the exclusive OR of xmm0 with itself");
  EXPECT_EQ(of({0xc5, 0xe9, 0xfa, 0xca}), "xmm1 becomes 0: xmm2 is subtracted from itself")
      << "vpsubd xmm1, xmm2, xmm2";
  EXPECT_EQ(of({0x31, 0xc8}), "eax becomes the bitwise exclusive OR of itself and ecx");
  EXPECT_EQ(of({0x19, 0xc0}).find("becomes 0"), std::string::npos) << "sbb eax, eax: the carry counts";
  EXPECT_EQ(of({0x0f, 0x5c, 0xc0}).find("becomes 0"), std::string::npos) << "subps: infinities";
  EXPECT_EQ(of({0xd8, 0xe0}).find("becomes 0"), std::string::npos) << "fsub st0, st0: infinities";
  EXPECT_EQ(of({0xc5, 0xe4, 0x46, 0xcb}).find("becomes 0"), std::string::npos) << "kxnorw k1, k3, k3";
  EXPECT_EQ(of({0xc5, 0xe4, 0x47, 0xcb}), "k1 becomes 0: the exclusive OR of k3 with itself") << "kxorw k1, k3, k3";
  EXPECT_EQ(of({0x39, 0xc0}).find("becomes 0"), std::string::npos) << "cmp eax, eax";
  EXPECT_EQ(of({0x62, 0xf1, 0x7c, 0x49, 0x58, 0xca}),
            "zmm0 plus zmm2 goes to zmm1, each 32-bit float; only where k1 has ones: the rest stays as it was");
  EXPECT_EQ(of({0x62, 0xf1, 0x7c, 0xc9, 0x58, 0xca}),
            "zmm0 plus zmm2 goes to zmm1, each 32-bit float; only where k1 has ones: the rest becomes 0");
  EXPECT_NE(of({0x62, 0xf1, 0x75, 0x4b, 0x76, 0xca}).find("; only where k3 has ones: the rest becomes 0"),
            std::string::npos)
      << "vpcmpeqd k1{k3}, zmm1, zmm2";
  EXPECT_EQ(of({0x62, 0xf1, 0x7c, 0x48, 0x58, 0xca}).find("only where"), std::string::npos) << "no mask";
  EXPECT_EQ(of({0x62, 0xf1, 0x7d, 0x49, 0xef, 0xc0}).find("becomes 0:"), std::string::npos) << "vpxord under a mask";
}

}  // namespace
}  // namespace deeptrace::tests
