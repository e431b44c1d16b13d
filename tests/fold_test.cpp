#include "report/fold.h"

#include <gtest/gtest.h>

namespace deeptrace::tests {
namespace {

using report::FoldEntry;
using report::Folder;

/// Folds a string of letters, each an entry, and writes the result as "ab(cd)x3e".
std::string folded(const std::string& letters) {
  std::string result;
  const std::function<void(const FoldEntry&)> write = [&](const FoldEntry& entry) {
    if (entry.turns == 0) {
      result += entry.lines[0];
      return;
    }
    result += "(";
    for (const FoldEntry& inner : entry.first) write(inner);
    result += ")x" + std::to_string(entry.turns);
  };
  Folder folder(write);
  for (const char letter : letters) {
    FoldEntry entry;
    entry.key = static_cast<std::uint64_t>(letter);
    entry.lines = {std::string(1, letter)};
    entry.values = {{"v", std::to_string(result.size()), "", true}};
    folder.add(std::move(entry));
  }
  folder.finish();
  return result;
}

TEST(Folder, FoldsNeighbouringRepetitionsFromTheInsideOut) {
  EXPECT_EQ(folded("abcdef"), "abcdef");
  EXPECT_EQ(folded("abcbcbcd"), "a(bc)x3d");
  EXPECT_EQ(folded("aaaa"), "(a)x4");
  EXPECT_EQ(folded("abbbcabbbbc"), "(a(b)x3c)x2");
  EXPECT_EQ(folded("xababyababy"), "x((ab)x2y)x2");
}

TEST(Folder, KeepsFirstLastAndWhatVaried) {
  std::vector<FoldEntry> out;
  Folder folder([&](const FoldEntry& entry) { out.push_back(entry); });
  for (int turn = 0; turn < 9; ++turn) {
    FoldEntry entry;
    entry.key = 5;
    entry.number = static_cast<std::uint64_t>(turn + 1);
    entry.values = {{"rax", std::to_string(turn * turn), "", true},
                    {"rbx", "7", "", true},
                    {"memory", "7", std::to_string(turn), true}};
    if (turn == 2) entry.values.push_back({"rcx", "1", "", true});
    folder.add(std::move(entry));
  }
  folder.finish();
  ASSERT_EQ(out.size(), 1U);
  EXPECT_EQ(out[0].turns, 9U);
  EXPECT_EQ(out[0].first.front().number, 1U);
  EXPECT_EQ(out[0].last.front().number, 9U);
  ASSERT_EQ(out[0].variations.size(), 4U);
  EXPECT_TRUE(out[0].variations[0].varied);
  EXPECT_EQ(out[0].variations[0].samples[2]->value, "4");
  EXPECT_EQ(out[0].variations[0].last->value, "64");
  EXPECT_FALSE(out[0].variations[1].varied);
  EXPECT_TRUE(out[0].variations[2].moved);
  // What one turn alone has stands in that turn's column.
  ASSERT_EQ(out[0].variations[3].samples.size(), 3U);
  EXPECT_FALSE(out[0].variations[3].samples[1]);
  EXPECT_EQ(out[0].variations[3].samples[2]->value, "1");
  EXPECT_TRUE(out[0].variations[3].varied);
}

TEST(Folder, ForgetsNothingInALongRunWithoutLoops) {
  std::size_t seen = 0;
  Folder folder([&](const FoldEntry& entry) { seen += entry.turns == 0 ? 1 : 0; });
  for (std::uint64_t i = 0; i < 20000; ++i) {
    FoldEntry entry;
    entry.key = i;
    folder.add(std::move(entry));
  }
  folder.finish();
  EXPECT_EQ(seen, 20000U);
}

}  // namespace
}  // namespace deeptrace::tests
