// Figures by their numbers: what is drawn stands where the values say, and is as large as they are.
#include <gtest/gtest.h>

#include <algorithm>
#include <cmath>
#include <nlohmann/json.hpp>
#include <regex>

#include "support.h"

namespace deeptrace::tests {
namespace {

using nlohmann::json;

/// The points of a path of straight lines.
struct Path {
  std::string style;
  std::vector<std::pair<double, double>> points;
  [[nodiscard]] double width() const { return points[1].first - points[0].first; }
};

/// The paths of a drawing whose style has a text; letters have none of their own.
std::vector<Path> paths_of(const std::string& svg, const std::string& style) {
  std::vector<Path> result;
  static const std::regex kPath("<path style=\"([^\"]*)\" d=\"M ([-0-9. LMZ]*)\"");
  static const std::regex kPoint("([-0-9.]+) ([-0-9.]+)");
  for (std::sregex_iterator at(svg.begin(), svg.end(), kPath), end; at != end; ++at) {
    Path path{(*at)[1], {}};
    if (path.style.find(style) == std::string::npos || path.style.find("stroke:rgb") == std::string::npos) continue;
    const std::string points = (*at)[2];
    for (std::sregex_iterator point(points.begin(), points.end(), kPoint); point != end; ++point)
      path.points.emplace_back(std::stod((*point)[1]), std::stod((*point)[2]));
    result.push_back(std::move(path));
  }
  return result;
}

struct Drawn {
  std::string svg;
  json numbers;
};

Drawn drawn(const std::string& command, std::vector<std::string> words) {
  const TempFolder folder;
  const std::string into = folder / "figure";
  words.insert(words.begin(), {command, "--format", "none", "--save", into, "--save-formats", "svg,json"});
  EXPECT_EQ(deeptrace(words).status, 0) << command;
  return {read_file(into + "/" + command + ".svg"),
          json::parse(read_file(into + "/" + command + ".json"), nullptr, false)};
}

/// Every section has a box on the bar of the file whose width is its share of the bytes.
TEST(Figures, OfAFileShowEachSectionsShare) {
  const auto [svg, numbers] = drawn("survey", {demo("tidelog")});
  const std::vector<Path> boxes = paths_of(svg, "fill:rgb");
  ASSERT_GT(boxes.size(), 20U);
  const auto bar = std::ranges::max_element(boxes, {}, &Path::width);
  const double top = bar->points[0].second, whole = bar->width();
  const json& file = numbers["files"][0];
  std::size_t found = 0;
  for (const json& section : file["sections"]) {
    const double size = section["size"], share = size / file["size"].get<double>() * whole;
    if (section["name"] == ".bss" || size == 0 || share < 0.5) continue;
    const bool drawn = std::ranges::any_of(
        boxes, [&](const Path& box) { return box.points[0].second == top && std::abs(box.width() - share) < 0.02; });
    EXPECT_TRUE(drawn) << section["name"] << ": " << share;
    ++found;
  }
  EXPECT_GT(found, 15U);
}

/// The line keeps a value until the next hit; heights are in proportion to the values.
TEST(Figures, OfHitsAreInProportion) {
  const auto [svg, numbers] =
      drawn("hits", {"--at", "levels.c:34", "--keep", "log->readings[i].level", demo("tidelog"), demo("readings.txt")});
  std::vector<double> heights;
  for (const Path& line : paths_of(svg, "stroke-width:1.5")) {
    ASSERT_EQ(line.points.size(), 2U);
    if (line.points[0].second == line.points[1].second) heights.push_back(line.points[0].second);
  }
  std::vector<double> values;
  for (const json& row : numbers["hits"])
    values.push_back(std::stod(row["kept"]["log->readings[i].level"]["signed"].get<std::string>()));
  ASSERT_EQ(values.size(), 12U);
  ASSERT_GE(heights.size() + 1, values.size());
  const double scale = (heights[1] - heights[0]) / (values[1] - values[0]);
  EXPECT_LT(scale, 0) << "larger values stand higher";
  for (std::size_t i = 0; i < heights.size() && i < values.size(); ++i)
    EXPECT_NEAR(heights[i], heights[0] + (values[i] - values[0]) * scale, 0.05) << i;
}

/// A loop of four blocks: the entry, the body, the condition and the end, with the ways between them.
TEST(Figures, OfControlFlowHaveABoxForEachBlock) {
  const TempFolder folder;
  const std::string into = folder / "figure";
  ASSERT_EQ(
      deeptrace({"listing", demo("tidelog"), "level_sum", "--format", "none", "--save", into, "--save-formats", "svg"})
          .status,
      0);
  const std::string svg = read_file(into + "/listing.svg");
  std::size_t boxes = 0;
  for (const Path& path : paths_of(svg, "fill:rgb")) boxes += path.points.size() >= 4 && path.width() > 50 ? 1 : 0;
  EXPECT_EQ(boxes, 4U);
}

}  // namespace
}  // namespace deeptrace::tests
