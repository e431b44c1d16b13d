// What changed between two moments, and how it is put: made-up states, by the manuals.
#include "report/changes.h"

#include <gtest/gtest.h>

#include <cstring>
#include <memory>
#include <nlohmann/json.hpp>

#include "base/file_descriptor.h"
#include "report/columns.h"
#include "report/tee.h"
#include "state/delta.h"
#include "state/extended_area.h"
#include "support.h"

namespace deeptrace::tests {
namespace {

using isa::RegisterFile;
using state::Delta;
using state::ExtendedSet;
using state::Reg;
using state::RegisterSet;

const report::Style kPlain{false, true, 0};

/// "st(0) 3 was st(1), empty": every change as its words.
std::vector<std::string> words_of(const Delta& delta) {
  std::vector<std::string> result;
  for (const report::ChangeWords& one : report::wide_words(kPlain, delta))
    result.push_back(one.what + ": " + one.now + " <- " + one.was);
  return result;
}

void put_number(ExtendedSet& set, unsigned i, long double value) {
  std::memcpy(set.x87[i].data(), &value, 10);
  set.x87_used |= static_cast<std::uint8_t>(1U << i);
}
void set_top(ExtendedSet& set, unsigned top) {
  set.x87_status = static_cast<std::uint16_t>((set.x87_status & ~0x3800U) | top << 11);
}

TEST(Deltas, OfRegistersLeaveOutWhatStays) {
  RegisterSet before, after;
  before[Reg::rax] = 5;
  after[Reg::rax] = 6;
  before[Reg::rip] = 0x401000;
  after[Reg::rip] = 0x401004;
  before[Reg::rflags] = 0x246;
  after[Reg::rflags] = 0x202;
  Delta delta;
  delta.compare(before, after);
  ASSERT_EQ(delta.registers.size(), 1U);
  EXPECT_EQ(delta.registers[0].reg, Reg::rax);
  EXPECT_EQ(delta.registers[0].before, 5U);
  EXPECT_EQ(delta.registers[0].after, 6U);
  EXPECT_EQ(report::register_words(kPlain, delta, isa::Mode::bits64, {})[0].now, "0x6 \u00b7 6");
  EXPECT_EQ(report::register_words(kPlain, delta, isa::Mode::bits32, {})[0].what, "eax");
  const report::ChangeWords flags = report::flag_words(delta);
  EXPECT_EQ(flags.now, "none");
  EXPECT_EQ(flags.was, "ZF PF");
  delta.clear();
  EXPECT_TRUE(delta.registers.empty());
  EXPECT_TRUE(report::flag_words(delta).what.empty());
}

TEST(Deltas, OfVectorsAreAsWideAsWhatChanged) {
  struct Case {
    unsigned byte;
    std::uint16_t width;
    const char* name;
  };
  for (const Case& one : {Case{0, 128, "xmm7"},
                          {15, 128, "xmm7"},
                          {16, 256, "ymm7"},
                          {31, 256, "ymm7"},
                          {32, 512, "zmm7"},
                          {63, 512, "zmm7"}}) {
    ExtendedSet before, after;
    after.vectors[7][one.byte] = 0xe5;
    Delta delta;
    delta.compare(before, after);
    ASSERT_EQ(delta.wide.size(), 1U);
    EXPECT_EQ(delta.wide[0].part.width, one.width);
    EXPECT_EQ(name_of(delta.wide[0]), one.name);
    EXPECT_EQ(delta.wide[0].after[one.byte], 0xe5);
  }
}

/// Long values stand below each other, so that they can be compared by eye and fit a terminal.
TEST(Deltas, OfLongValuesTakeTwoLines) {
  ExtendedSet before, after;
  after.vectors[0].fill(0x5a);
  before.vectors[1][0] = 1;
  Delta delta;
  delta.compare(before, after);
  const auto words = report::wide_words(kPlain, delta);
  const auto lines = report::now_and_was(kPlain, words[0]);
  ASSERT_EQ(lines.size(), 2U);
  EXPECT_TRUE(lines[0].starts_with("now 5a 5a"));
  EXPECT_TRUE(lines[1].starts_with("was 00 00"));
  EXPECT_EQ(lines[0].size(), lines[1].size());
  ASSERT_EQ(report::now_and_was(kPlain, words[1]).size(), 1U);
  EXPECT_EQ(report::now_and_was(kPlain, {"rax", "5", "5", {}}), std::vector<std::string>{"still 5"});
}

/// An instruction that writes 256 bits names ymm even where the upper half stays; one that writes less names no less
/// than what changed (VEX forms clear what lies above).
TEST(Deltas, NameVectorsAsTheyWereWritten) {
  ExtendedSet before, after;
  after.vectors[3][0] = 1;
  after.vectors[4][40] = 1;
  Delta delta;
  delta.compare(before, after);
  const isa::RegisterPart written[] = {{RegisterFile::vector, 3, 0, 256}, {RegisterFile::vector, 4, 0, 128}};
  delta.name_as(written);
  EXPECT_EQ(name_of(delta.wide[0]), "ymm3");
  EXPECT_EQ(name_of(delta.wide[1]), "zmm4");
}

/// Registers of the floating-point unit keep their place when its stack grows; their names do not (Intel SDM volume 1,
/// 8.1.2).
TEST(Deltas, OfTheFloatingPointUnitFollowItsStack) {
  ExtendedSet empty, one, two;
  set_top(empty, 0);
  set_top(one, 7);
  put_number(one, 0, 3);
  set_top(two, 6);
  put_number(two, 0, 0.5L);
  put_number(two, 1, 3);
  const auto change = [](const ExtendedSet& from, const ExtendedSet& to) {
    Delta delta;
    delta.compare(from, to);
    return words_of(delta);
  };
  using Words = std::vector<std::string>;
  EXPECT_EQ(change(empty, one), (Words{"st(0): 3 <- empty", "fsw: 0x3800 <- 0"}));
  EXPECT_EQ(change(one, two), (Words{"st(0): 0.5 <- empty", "fsw: 0x3000 <- 0x3800"}));
  EXPECT_EQ(change(two, one), (Words{"st(7), was st(0): empty <- 0.5", "fsw: 0x3800 <- 0x3000"}));
  ExtendedSet exchanged = two;
  std::swap(exchanged.x87[0], exchanged.x87[1]);
  EXPECT_EQ(change(two, exchanged), (Words{"st(0): 3 <- 0.5", "st(1): 0.5 <- 3"}));
  // faddp: the sum where st(1) was, which is the top then.
  ExtendedSet sum;
  set_top(sum, 7);
  put_number(sum, 0, 3.5L);
  EXPECT_EQ(change(two, sum),
            (Words{"st(0), was st(1): 3.5 <- 3", "st(7), was st(0): empty <- 0.5", "fsw: 0x3800 <- 0x3000"}));
  EXPECT_TRUE(change(two, two).empty());
}

/// mmx instructions mark all registers of the unit as used: that is one line, and the register has its own name.
TEST(Deltas, OfMmxInstructionsSayThemselves) {
  ExtendedSet before, after;
  after.x87_used = 0xff;
  after.x87[2] = {9, 0, 0, 0, 0, 0, 0, 0, 0xff, 0xff};
  Delta delta;
  delta.compare(before, after);
  EXPECT_EQ(delta.wide.size(), 8U);
  const isa::RegisterPart written[] = {{RegisterFile::mmx, 2, 0, 64}};
  delta.name_as(written);
  EXPECT_EQ(words_of(delta), (std::vector<std::string>{"mm2: 0x9 \u00b7 9 <- 0x0 \u00b7 0",
                                                       "st(0) st(1) st(3) st(4) st(5) st(6) st(7): in use <- empty"}));
}

TEST(Deltas, OfMasksAndControlWords) {
  ExtendedSet before, after;
  before.masks[5] = 0x5a;
  after.mxcsr = 0x1f80;
  after.x87_control = 0x37f;
  Delta delta;
  delta.compare(before, after);
  EXPECT_EQ(words_of(delta),
            (std::vector<std::string>{"k5: 0x0 \u00b7 0 <- 0x5a \u00b7 90", "fcw: 0x37f <- 0", "mxcsr: 0x1f80 <- 0"}));
}

TEST(Deltas, OfMemoryKeepBothSides) {
  Delta delta;
  delta.add_memory(0x7000, 4);
  delta.add_memory(0x8000, 3);
  const std::uint32_t now = 0xfffffffb;
  std::memcpy(delta.after(delta.memory[0]), &now, 4);
  std::memcpy(delta.after(delta.memory[1]), "abc", 3);
  delta.memory[1].before_known = false;
  const report::ChangeWords word = report::words_of(kPlain, delta, delta.memory[0], {}, isa::Mode::bits64, {});
  EXPECT_EQ(word.what, "[0x7000] 4 bytes");
  EXPECT_EQ(word.where, "[0x7000]");
  EXPECT_EQ(word.now, "0xfffffffb \u00b7 -5");
  EXPECT_EQ(word.was, "0x0 \u00b7 0");
  const report::ChangeWords bytes = report::words_of(kPlain, delta, delta.memory[1], {}, isa::Mode::bits64, {});
  EXPECT_EQ(bytes.now, "61 62 63");
  EXPECT_EQ(bytes.was, "unknown");
}

/// What an instruction wrote is shown at its width, changed or not; what it wrote beside that as a whole.
TEST(Deltas, NameRegistersAtTheWidthThatWasWritten) {
  struct Case {
    std::vector<std::uint8_t> code;
    std::uint64_t before, after;  // rax
    std::vector<std::string> words;
  };
  const Case cases[] = {
      {{0xb0, 0x01}, 0x1234506, 0x1234501, {"al now 0x1 \u00b7 1   was 0x6 \u00b7 6"}},  // mov al, 1
      {{0xb4, 0xff}, 0x0006, 0xff06, {"ah now 0xff \u00b7 -1   was 0x0 \u00b7 0"}},      // mov ah, 255
      {{0x66, 0xb8, 0xfa, 0xff}, 7, 0xfffa, {"ax now 0xfffa \u00b7 -6   was 0x7 \u00b7 7"}},
      {{0x31, 0xc0}, 0, 0, {"eax still 0x0 \u00b7 0"}},  // xor eax, eax
      {{0xb8, 0xfa, 0xff, 0xff, 0xff}, 2, 0xfffffffa, {"eax now 0xfffffffa \u00b7 -6   was 0x2 \u00b7 2"}},
      {{0xb8, 1, 0, 0, 0}, 0x7fff00000002, 1, {"eax now 0x1 \u00b7 1   was 0x2 \u00b7 2   (rax was 0x7fff00000002)"}},
      {{0x48, 0xff, 0xc0}, 1, 2, {"rax now 0x2 \u00b7 2   was 0x1 \u00b7 1"}},  // inc rax
  };
  for (const Case& one : cases) {
    RegisterSet before, after;
    before[Reg::rax] = one.before;
    after[Reg::rax] = one.after;
    Delta delta;
    delta.compare(before, after);
    delta.add_written(state::written_registers(isa::decode(one.code, isa::Mode::bits64)), before, after);
    std::vector<std::string> words;
    for (const report::ChangeWords& each : report::register_words(kPlain, delta, isa::Mode::bits64, {}))
      words.push_back(each.what + " " + report::now_and_was(kPlain, each)[0]);
    EXPECT_EQ(words, one.words);
  }
  // The stack pointer of a push is not what it writes; both halves of a product are.
  EXPECT_TRUE(state::written_registers(isa::decode(std::vector<std::uint8_t>{0x50}, isa::Mode::bits64)).empty());
  EXPECT_EQ(state::written_registers(isa::decode(std::vector<std::uint8_t>{0xf7, 0xe1}, isa::Mode::bits64)).size(), 2U);
}

/// An address has what lies there and no decimal; what was is an address alone; the stack pointer is where the stack
/// is.
TEST(Deltas, AddressesAreNoNumbers) {
  const report::Names names = [](std::uint64_t value) {
    look::AddressName name;
    if (value == 0x401000) name.name = "level_sum";
    if (value == 0x402000) name.text = "am\\ber";
    if (value >= 0x7fff0000 && value < 0x80000000) name.region = "stack, rsp+8";
    return name;
  };
  EXPECT_EQ(report::reading_of(kPlain, 0x401000, 8, names), "0x401000 \u2192 level_sum");
  EXPECT_EQ(report::reading_of(kPlain, 0x402000, 8, names), "0x402000 \u2192 \"am\\\\ber\"");
  EXPECT_EQ(report::reading_of(kPlain, 0x7fff0000, 8, names), "0x7fff0000  stack, rsp+8");
  EXPECT_EQ(report::reading_of(kPlain, 12, 8, names), "0xc \u00b7 12");
  EXPECT_EQ(report::old_reading_of(kPlain, 0x401000, 8, names), "0x401000");
  EXPECT_EQ(report::old_reading_of(kPlain, 12, 8, names), "0xc \u00b7 12");
  RegisterSet before, after;
  before[Reg::rsp] = 0x7fff0010;
  after[Reg::rsp] = 0x7fff0008;
  Delta delta;
  delta.compare(before, after);
  EXPECT_EQ(report::register_words(kPlain, delta, isa::Mode::bits64, names)[0].now, "0x7fff0008");
  delta.add_memory(0x402000, 8);
  const std::uint64_t value = 0x401000;
  std::memcpy(delta.after(delta.memory[0]), &value, 8);
  const report::ChangeWords words = report::words_of(kPlain, delta, delta.memory[0], "where", isa::Mode::bits64, names);
  EXPECT_EQ(words.what, "[0x402000] where");
  EXPECT_EQ(words.now, "0x401000 \u2192 level_sum");
  EXPECT_EQ(words.was, "0x0 \u00b7 0");
}

/// The legacy part takes what it has and leaves upper halves, masks and the registers from 16 up.
TEST(ExtendedAreas, TheLegacyPartLeavesTheRest) {
  ExtendedSet set;
  set.vectors[1].fill(0x77);
  set.vectors[20].fill(0x88);
  set.masks[1] = 9;
  std::array<std::uint8_t, state::kLegacyArea> area{};
  area[0] = 0x7f;                            // control word
  area[3] = 6 << 3;                          // top 6 in the status word
  area[4] = 1 << 6;                          // the register that is st(0) is in use
  area[24] = 0x80;                           // mxcsr
  std::memset(area.data() + 32, 0x11, 10);   // st(0)
  std::memset(area.data() + 176, 0x22, 16);  // xmm1
  state::take_legacy(area, set);
  EXPECT_EQ(set.x87_control, 0x7f);
  EXPECT_EQ(set.x87_used, 1);
  EXPECT_EQ(set.mxcsr, 0x80U);
  EXPECT_EQ(set.x87[0][9], 0x11);
  EXPECT_EQ(set.vectors[1][15], 0x22);
  EXPECT_EQ(set.vectors[1][16], 0x77);
  EXPECT_EQ(set.vectors[20][0], 0x88);
  EXPECT_EQ(set.masks[1], 9U);
}

// ---- forms ----------------------------------------------------------------------------------------------------------

TEST(Characters, HaveTheWidthOfTheTerminals) {
  std::setlocale(LC_CTYPE, "C.UTF-8");
  struct Case {
    const char* text;
    std::size_t bytes;
    unsigned columns;
  };
  for (const Case& one : {Case{"a", 1, 1},
                          {"\u00e9", 2, 1},
                          {"\u6f6e", 3, 2},
                          {"\u0301", 2, 0},
                          {"\U0001f30a", 4, 2},
                          {"\xff", 1, 1},
                          {"\xe6\xbd", 1, 1}}) {
    const report::Character character = report::character_at(one.text, 0);
    EXPECT_EQ(character.bytes, one.bytes) << one.text;
    EXPECT_EQ(character.columns, one.columns) << one.text;
  }
  EXPECT_EQ(report::columns_of("a\u6f6eb"), 4U);
  // A wide character that would stand half outside is left out; colours take no room.
  report::Output out;
  report::Style style{true, true, 4};
  report::add_line(out, style, "\x1b[1mab\u6f6e\u6f6e\x1b[0m");
  EXPECT_EQ(out.text(), "\x1b[1mab\u6f6e\x1b[0m\n");
  out.clear();
  style.width = 5;
  report::add_line(out, style, "ab\u6f6e\u6f6e");
  EXPECT_EQ(out.text(), "ab\u6f6e\x1b[0m\n");
}

struct Tide {
  std::string name;
  std::uint64_t address = 0;
  std::uint32_t line = 0;
  bool high = false;
};
constexpr report::Column<Tide> kTides[] = {
    {"name", [](const Tide& tide) { return report::Cell::text(tide.name); }},
    {"address", [](const Tide& tide) { return report::Cell::address(tide.address); }},
    {"line", [](const Tide& tide) { return report::Cell::line(tide.line); }},
    {"high", [](const Tide& tide) { return report::Cell::boolean(tide.high); }, report::Forms::json},
    {"lines", [](const Tide& tide) { return report::Cell::number(tide.line); }, report::Forms::csv},
};

TEST(Columns, AreTheSameInJsonAndCsv) {
  const Tide tides[] = {{"a,\"b\"", 0x401136, 12, true}, {}};
  report::Output json_out, csv_out;
  report::JsonWriter json(json_out);
  report::CsvWriter csv(csv_out);
  report::put_heads<Tide>(csv, kTides);
  csv.end_row();
  json.begin_array();
  for (const Tide& tide : tides) {
    json.begin_object();
    report::put_members<Tide>(json, kTides, tide);
    json.end();
    report::put_cells<Tide>(csv, kTides, tide);
    csv.end_row();
  }
  json.end();
  const auto rows = nlohmann::json::parse(json_out.text());
  EXPECT_EQ(rows[0], nlohmann::json({{"name", "a,\"b\""}, {"address", "0x401136"}, {"line", 12}, {"high", true}}));
  EXPECT_EQ(rows[1], nlohmann::json({{"name", nullptr}, {"address", "0x0"}, {"line", nullptr}, {"high", false}}));
  EXPECT_EQ(csv_out.text(), "name,address,line,lines\r\n\"a,\"\"b\"\"\",0x401136,12,12\r\n,0x0,,0\r\n");
}

TEST(Json, KeysAreEscapedByTheWriter) {
  report::Output out;
  report::JsonWriter json(out);
  json.begin_object();
  json.key("a\"b\\c\n\x01").number(1);
  json.key("plain").number(2);
  json.end();
  EXPECT_EQ(nlohmann::json::parse(out.text()), nlohmann::json({{"a\"b\\c\n\x01", 1}, {"plain", 2}}));
}

/// Every sink is given every call, in its order.
TEST(Tee, HandsOnWhatComes) {
  struct Notes final : study::UsesSink {
    explicit Notes(std::string& text) : text_(text) {}
    void begin(const study::UsesHead& /*head*/) override { text_ += "begin "; }
    void use(const study::Use& row) override { text_ += std::to_string(row.address) + " "; }
    void end(const study::UsesSummary& summary) override { text_ += "end " + std::to_string(summary.uses); }
    std::string& text_;
  };
  std::string first, second;
  report::Sinks<study::UsesSink> sinks;
  sinks.push_back(std::make_unique<Notes>(first));
  sinks.push_back(std::make_unique<Notes>(second));
  const auto tee = report::tee(std::move(sinks));
  tee->begin({});
  study::Use use;
  for (const std::uint64_t address : {7, 8}) {
    use.address = address;
    tee->use(use);
  }
  study::UsesSummary summary;
  summary.uses = 2;
  tee->end(summary);
  EXPECT_EQ(first, "begin 7 8 end 2");
  EXPECT_EQ(second, first);
}

TEST(FileDescriptors, AreClosedOnceByTheirLastOwner) {
  Pipe pipe = Pipe::make();
  ASSERT_TRUE(pipe.reading);
  const int number = pipe.writing.get();
  const auto open = [&] { return ::fcntl(number, F_GETFD) >= 0; };
  {
    FileDescriptor moved = std::move(pipe.writing);
    EXPECT_FALSE(pipe.writing);  // NOLINT: what a move leaves is the point
    EXPECT_EQ(moved.get(), number);
    EXPECT_TRUE(open());
    EXPECT_NE(::fcntl(number, F_GETFD) & FD_CLOEXEC, 0);
    moved = FileDescriptor();
    EXPECT_FALSE(open());
  }
  EXPECT_FALSE(FileDescriptor(-1));
}

/// A format on standard output and the same in a file come from one look at the program, and are alike.
TEST(Formats, AskedForTwiceAreAlike) {
  struct Case {
    std::vector<std::string> words;
    const char* name;
  };
  for (const Case& one : {Case{{"uses", demo("tidelog"), "station_number"}, "uses"},
                          {{"data", demo("tidelog")}, "data"},
                          {{"lines", demo("tidelog"), "levels.c"}, "lines"},
                          {{"compare", demo("tidelog"), demo("tidelog-O2"), "level_sum"}, "compare"},
                          {{"listing", demo("tidelog"), "level_sum"}, "listing"}}) {
    const TempFolder folder;
    std::vector<std::string> words = one.words;
    words.insert(words.end(), {"--format", "json", "--save", folder / "kept", "--save-formats", "json,csv"});
    const Outcome outcome = deeptrace(words);
    EXPECT_LE(outcome.status, 1) << outcome.err;
    EXPECT_EQ(outcome.out, read_file(folder / ("kept/" + std::string(one.name) + ".json"))) << one.name;
    EXPECT_TRUE(nlohmann::json::accept(outcome.out)) << one.name;
    EXPECT_GT(read_file(folder / ("kept/" + std::string(one.name) + ".csv")).size(), 50U);
  }
}

}  // namespace
}  // namespace deeptrace::tests
