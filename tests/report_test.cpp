// Output, escaping and numbers: what a hostile name or string can do to a terminal or a document is nothing.
#include <fcntl.h>
#include <gtest/gtest.h>
#include <unistd.h>

#include <nlohmann/json.hpp>
#include <random>
#include <sstream>

#include "program/source_text.h"
#include "report/card.h"
#include "report/csv.h"
#include "report/json.h"
#include "report/names.h"
#include "report/output.h"
#include "support.h"

namespace deeptrace::tests {
namespace {

using report::Output;

/// What `write` sends to an Output.
template <typename Write>
std::string written(Write write) {
  const TempFolder folder;
  const int file = ::open((folder / "file").c_str(), O_RDWR | O_CREAT, 0600);
  {
    Output out(file);
    write(out);
  }
  ::close(file);
  return read_file(folder / "file");
}

TEST(Escaping, LeavesNoControlCharacterAndNoBrokenCharacter) {
  EXPECT_EQ(report::escaped("plain \"quoted\" \\ text"), "plain \\\"quoted\\\" \\\\ text");
  EXPECT_EQ(report::printable("plain \"quoted\""), "plain \"quoted\"");
  EXPECT_EQ(report::escaped("\x1b[31mred\n\t\r\x7f"), "\\x1b[31mred\\n\\t\\x0d\\x7f");
  EXPECT_EQ(report::escaped("Gr\u00e4yling \u2192 \U0001f30a"), "Gr\u00e4yling \u2192 \U0001f30a");
  EXPECT_EQ(report::escaped("\xc2\x9b"
                            "31m"),
            "\\xc2\\x9b31m");  // a control character of eight bits in UTF-8
  EXPECT_EQ(report::escaped("\xff\xc3"), "\\xff\\xc3");
  EXPECT_EQ(report::escaped("\xed\xa0\x80"), "\\xed\\xa0\\x80");  // half a surrogate pair
  EXPECT_EQ(report::escaped("\xc0\xaf"), "\\xc0\\xaf");           // an overlong slash
}

TEST(Json, RandomBytesGiveAValidDocument) {
  std::mt19937 random(5);
  for (int round = 0; round < 300; ++round) {
    std::string name;
    for (auto i = random() % 40; i > 0; --i) name += static_cast<char>(random());
    const std::string text = written([&](Output& out) {
      report::JsonWriter json(out);
      json.begin_object();
      json.key("name").string(name);
      json.key("list").begin_array();
      json.string_or_null("");
      json.close_all();
    });
    ASSERT_TRUE(nlohmann::json::accept(text)) << text;
    EXPECT_TRUE(nlohmann::json::parse(text)["list"][0].is_null());
  }
}

TEST(Json, StringsAndNumbersComeBackAsTheyWere) {
  const std::string name = "a\"b\\c\n\t\x01 \u2192";
  const auto parsed = nlohmann::json::parse(written([&](Output& out) {
    report::JsonWriter json(out);
    json.begin_object();
    json.key("s").string(name);
    json.key("n").number(18446744073709551615U);
    json.key("h").hex(0);
    json.key("k").hex(0x89abcdef01234567);
    const std::uint8_t bytes[] = {0, 0x7f, 0xff};
    json.key("b").bytes(bytes, 3);
    json.key("t").boolean(true);
    json.end();
  }));
  EXPECT_EQ(parsed, nlohmann::json({{"s", name},
                                    {"n", 18446744073709551615U},
                                    {"h", "0x0"},
                                    {"k", "0x89abcdef01234567"},
                                    {"b", "007fff"},
                                    {"t", true}}));
}

TEST(Csv, QuotesWhatNeedsIt) {
  EXPECT_EQ(written([](Output& out) {
              report::CsvWriter csv(out);
              csv.cell("plain").cell("a,b").cell("say \"so\"").cell("two\nlines").cell("");
              csv.end_row();
            }),
            "plain,\"a,b\",\"say \"\"so\"\"\",\"two\nlines\",\r\n");
}

TEST(Output, WritesEverythingInOrderAndRemembersAFailure) {
  std::string expected;
  const std::string text = written([&](Output& out) {
    for (int i = 0; i < 60000; ++i) {
      out.add(std::to_string(i));
      out.add(',');
      expected += std::to_string(i) + ",";
    }
    const std::string large(300000, 'x');
    out.add(large);
    expected += large;
  });
  EXPECT_TRUE(text == expected);
  Output broken(::open("/dev/full", O_WRONLY));
  broken.add("lost");
  broken.flush();
  EXPECT_EQ(broken.error(), ENOSPC);
}

TEST(Output, AFullDiskIsToldWithAStatus) {
  const Outcome outcome =
      run({"/bin/sh", "-c", std::string(DEEPTRACE_PROGRAM) + " listing " + demo("tidelog") + " > /dev/full"});
  EXPECT_EQ(outcome.status, 3);
  EXPECT_NE(outcome.err.find("cannot be written"), std::string::npos) << outcome.err;
}

TEST(Lines, AreCutAtTheWidthInCharacters) {
  const auto cut = [](unsigned width, bool colour, const std::string& text) {
    return written([&](Output& out) { report::add_line(out, {colour, true, width}, text); });
  };
  EXPECT_EQ(cut(0, false, "as long as it is"), "as long as it is\n");
  EXPECT_EQ(cut(4, false, "abcdef"), "abcd\n");
  EXPECT_EQ(cut(3, false, "\u2192\u2192\u2192\u2192"), "\u2192\u2192\u2192\n");
  EXPECT_EQ(cut(2, true, "\x1b[1mabc\x1b[0m"), "\x1b[1mab\x1b[0m\n");
}

/// Nothing is lost on terminals with little room: random lines of words and groups come back, in order.
TEST(Lines, OnNarrowTerminalsGoOnBelow) {
  const auto line = [](unsigned width, std::string_view text) {
    return written([&](Output& out) {
      report::add_line(out, {.colour = false, .utf8 = true, .width = width, .wraps = true}, text);
    });
  };
  EXPECT_EQ(line(40, "  ~ rax      now 0x555555558080 \u2192 log   was 0x7fffffffe448"),
            "  ~ rax      now 0x555555558080 \u2192 log\n        was 0x7fffffffe448\n");
  EXPECT_EQ(line(40, std::string(40, 'x')), std::string(40, 'x') + "\n");
  EXPECT_EQ(line(79, std::string(100, 'x')), std::string(79, 'x') + "\n        " + std::string(21, 'x') + "\n");
  std::mt19937 random(7);
  for (int turn = 0; turn < 2000; ++turn) {
    std::string text;
    for (auto words = random() % 30; words > 0; --words)
      text +=
          std::string(1 + random() % 30, static_cast<char>('a' + random() % 26)) + std::string(1 + random() % 5, ' ');
    const auto width = static_cast<unsigned>(24 + random() % 56);
    const std::string shown = line(width, text);
    std::istringstream lines(shown);
    for (std::string one; std::getline(lines, one);) EXPECT_LE(report::columns_of(one), width) << text;
    const auto letters = [](std::string all) {
      std::erase_if(all, [](char c) { return c == ' ' || c == '\n'; });
      return all;
    };
    EXPECT_EQ(letters(shown), letters(text));
  }
}

TEST(Readings, AreHexadecimalAndSignedDecimalOfTheWidth) {
  const report::Style ascii{};
  EXPECT_EQ(report::both_readings(ascii, 0x17, 4), "0x17 / 23");
  EXPECT_EQ(report::both_readings(ascii, 0xffffffff, 4), "0xffffffff / -1");
  EXPECT_EQ(report::both_readings(ascii, 0xffffffff, 8), "0xffffffff / 4294967295");
  EXPECT_EQ(report::both_readings(ascii, 0x80, 1), "0x80 / -128");
  EXPECT_EQ(report::both_readings(ascii, 1ULL << 63, 8), "0x8000000000000000 / -9223372036854775808");
}

/// A card that is made up, as lines: nothing of it asks a process.
TEST(Cards, AreLinesOfWhatTheyHold) {
  look::Card card;
  card.stopped.why = look::Stopped::Why::halt;
  card.stopped.notes = {"libtide.so was loaded"};
  look::CardHit hit;
  hit.halt = 3;
  hit.hit = 2;
  hit.rule = "on write log.count";
  hit.what = "log.count";
  hit.writer = 0x401136;
  hit.writer_place = "log_read+0x36";
  card.hits = {hit};
  card.place = "level_sum+0x12";
  card.file = "/tide/levels.c";
  card.line = 34;
  card.thread = 2;
  card.threads = 3;
  look::CodeLine line;
  line.address = 0x401140;
  line.text = "call 0x401200";
  line.target = "level_at";
  line.place = "level_sum+0x12";
  line.next = true;
  line.halts = "h1 h3";
  card.code = {line};
  card.changes.registers = {{state::Reg::rax, 0x12, 0x17}};
  card.changes.flags_before = 0x202;
  card.changes.flags_after = 0x246;
  card.next.sentence = "calls level_at";
  card.next.verdict = "will fault: no memory is there";
  program::SourceText sources;
  const report::Style style;
  std::string said;
  for (const std::string& text : report::card_lines(style, card, sources, {})) said += text + "\n";
  EXPECT_EQ(said,
            "note: libtide.so was loaded\n"
            "h3 on write log.count, hit 2   by log_read+0x36 (0x401136)\n"
            "level_sum+0x12   levels.c:34   thread 2 of 3\n"
            " next  0x401140  level_sum+0x12               call 0x401200  -> level_at   h1 h3\n"
            "  ~ rax                      now 0x17 / 23   was 0x12 / 18\n"
            "  ~ flags                    now ZF PF   was none\n"
            "  next calls level_at\n"
            "       wrong: will fault: no memory is there\n");
  card.mode = isa::Mode::bits32;
  card.ended = false;
  EXPECT_NE(report::change_lines(style, card.changes, card)[0].find("eax"), std::string::npos);
  card.ended = true;
  EXPECT_EQ(report::card_lines(style, card, sources, {}).size(), 2U) << "the reason alone";
}

/// What nobody chose goes, and long lists are dots; operators are no lists. In full on request.
TEST(Names, OfCxxAreShortened) {
  struct Case {
    const char *full, *shown;
  };
  report::Style style;
  for (const Case& one : {
           Case{"main", "main"},
           {"tide::report(int)+0x12", "tide::report(int)+0x12"},
           {"tide::report(std::__cxx11::basic_string<char, std::char_traits<char>, std::allocator<char> >)",
            "tide::report(std::string)"},
           {"tide::mean(std::vector<tide::Reading, std::allocator<tide::Reading> > const&, unsigned long)+0x4",
            "tide::mean(...)+0x4"},
           {"std::map<int, int, std::less<int>, std::allocator<std::pair<int const, int> > >::find(int const&)",
            "std::map<int, int>::find(int const&)"},
           {"tide::Log<tide::Station, tide::Clock, 17>::add(long)", "tide::Log<...>::add(long)"},
           {"tide::operator<(tide::Level, tide::Level)", "tide::operator<(tide::Level, tide::Level)"},
           {"(anonymous namespace)::level_sum(int)", "(anonymous namespace)::level_sum(int)"},
           {"tide::held<tide::Level (*)(tide::Log const&)>(int)", "tide::held<...>(int)"},
           {"broken<(", "broken<("},
       })
    EXPECT_EQ(report::shown_name(style, one.full), one.shown);
  EXPECT_EQ(report::shown_type(style, "std::vector<std::thread, std::allocator<std::thread> >"),
            "std::vector<std::thread>");
  EXPECT_EQ(report::shown_type(style,
                               "const std::map<std::__cxx11::basic_string<char, std::char_traits<char>, "
                               "std::allocator<char> >, tide::FloatGauge *> &"),
            "const std::map<std::string, tide::FloatGauge *> &");
  style.full_paths = true;
  EXPECT_EQ(report::shown_name(style, "tide::Log<tide::Station, tide::Clock, 17>::add(long)"),
            "tide::Log<tide::Station, tide::Clock, 17>::add(long)");
}

TEST(Paths, AreShownFromWhereOneStands) {
  report::Style style;
  style.folder = "/srv/tide";
  EXPECT_EQ(report::shown_path(style, "/srv/tide/log/levels.c"), "log/levels.c");
  EXPECT_EQ(report::shown_path(style, "/srv/tidelog/levels.c"), "tidelog/levels.c");
  EXPECT_EQ(report::shown_path(style, "/usr/include/c++/12/vector"), "12/vector");
  EXPECT_EQ(report::shown_path(style, "/levels.c"), "/levels.c");
  EXPECT_EQ(report::shown_path(style, "../levels.c"), "../levels.c");
  style.full_paths = true;
  EXPECT_EQ(report::shown_path(style, "/srv/tide/log/levels.c"), "/srv/tide/log/levels.c");
}

TEST(Saved, FilesFollowTheUmask) {
  const TempFolder folder;
  const std::string program = std::string(DEEPTRACE_PROGRAM) + " survey " + DEEPTRACE_PROGRAM + " --save ";
  for (const auto& [mask, mode] : {std::pair("022", 0644U), std::pair("027", 0640U), std::pair("077", 0600U)}) {
    const std::string saved = folder / mask;
    ASSERT_EQ(run({"/bin/sh", "-c", std::string("umask ") + mask + "; " + program + saved + " > /dev/null"}).status, 0);
    const auto permissions = std::filesystem::status(saved + "/survey.json").permissions();
    EXPECT_EQ(static_cast<unsigned>(permissions), mode) << mask;
  }
}

}  // namespace
}  // namespace deeptrace::tests
