#include <fmt/format.h>
#include <graphviz/gvc.h>

#include <algorithm>
#include <array>
#include <vector>

#include "report/figures.h"
#include "report/source_words.h"

namespace deeptrace::report {
namespace {

using program::FlowBlock;
using program::FlowEdge;
using program::FlowGraph;

constexpr double kFont = 12, kLineHeight = 16, kPad = 8, kPointsPerInch = 72;
constexpr std::size_t kMostLines = 4;

struct Label {
  std::vector<std::string> source;  ///< lines with their numbers
  std::string facts;
};

Label label_of(const FlowBlock& block, const std::string& file, program::SourceText& sources) {
  Label label;
  constexpr std::size_t kLongest = 44;
  for (std::size_t i = 0; i < block.lines.size() && i < kMostLines; ++i) {
    const auto text = sources.line(file, block.lines[i]);
    std::string words = text ? printable_source(*text) : std::string();
    words.erase(0, std::min(words.find_first_not_of(' '), words.size()));
    if (words.size() > kLongest) {
      std::size_t cut = kLongest;
      while (cut > 0 && (static_cast<unsigned char>(words[cut]) & 0xc0) == 0x80) --cut;
      words = words.substr(0, cut) + "…";
    }
    label.source.push_back(fmt::format("{:>4}  {}", block.lines[i], words));
  }
  if (block.lines.size() > kMostLines) label.source.push_back(fmt::format("      … to line {}", block.lines.back()));
  label.facts =
      fmt::format("{:#x}  {} instruction{}", block.address, block.instructions, block.instructions == 1 ? "" : "s");
  if (block.blocks > 1) label.facts += fmt::format(" in {} blocks", block.blocks);
  if (label.source.empty()) std::swap(label.source.emplace_back(), label.facts);
  return label;
}

/// Positions that Graphviz's library finds, in points from the lower left corner.
class Layout {
 public:
  Layout(const FlowGraph& graph, const std::vector<std::array<double, 2>>& sizes, bool sideways) {
    context_ = gvContext();
    graphviz_ = agopen(const_cast<char*>("flow"), Agdirected, nullptr);
    set(graphviz_, AGRAPH, "rankdir", sideways ? "LR" : "TB");
    set(graphviz_, AGRAPH, "nodesep", "0.25");
    set(graphviz_, AGRAPH, "ranksep", "0.35");
    for (std::size_t i = 0; i < graph.blocks.size(); ++i) {
      nodes_.push_back(agnode(graphviz_, const_cast<char*>(std::to_string(i).c_str()), 1));
      put(nodes_.back(), "shape", "box");
      put(nodes_.back(), "fixedsize", "true");
      put(nodes_.back(), "label", "");
      put(nodes_.back(), "width", fmt::format("{:.3f}", sizes[i][0] / kPointsPerInch));
      put(nodes_.back(), "height", fmt::format("{:.3f}", sizes[i][1] / kPointsPerInch));
    }
    for (std::size_t i = 0; i < graph.blocks.size(); ++i) {
      for (const FlowEdge& edge : graph.blocks[i].edges)
        edges_.push_back(
            agedge(graphviz_, nodes_[i], nodes_[edge.to], const_cast<char*>(std::to_string(edges_.size()).c_str()), 1));
    }
    good_ = gvLayout(context_, graphviz_, "dot") == 0;
  }
  ~Layout() {
    gvFreeLayout(context_, graphviz_);
    agclose(graphviz_);
    gvFreeContext(context_);
  }
  Layout(const Layout&) = delete;
  Layout& operator=(const Layout&) = delete;

  [[nodiscard]] bool good() const { return good_; }
  [[nodiscard]] double width() const { return GD_bb(graphviz_).UR.x; }
  [[nodiscard]] double height() const { return GD_bb(graphviz_).UR.y; }
  [[nodiscard]] std::array<double, 2> node(std::size_t i) const {
    return {ND_coord(nodes_[i]).x, height() - ND_coord(nodes_[i]).y};
  }
  /// The points of an edge's curve, and where its arrow ends.
  [[nodiscard]] std::vector<double> edge(std::size_t i, std::array<double, 2>& tip) const {
    std::vector<double> points;
    const splines* lines = ED_spl(edges_[i]);
    if (lines == nullptr || lines->size == 0) return points;
    const bezier& curve = lines->list[0];
    for (std::size_t k = 0; k < static_cast<std::size_t>(curve.size); ++k) {
      points.push_back(curve.list[k].x);
      points.push_back(height() - curve.list[k].y);
    }
    tip = {points[points.size() - 2], points.back()};
    if (curve.eflag != 0) tip = {curve.ep.x, height() - curve.ep.y};
    return points;
  }

 private:
  static void set(Agraph_t* graph, int kind, const char* name, const char* value) {
    agattr(graph, kind, const_cast<char*>(name), const_cast<char*>(value));
  }
  static void put(void* object, const char* name, const std::string& value) {
    agsafeset(object, const_cast<char*>(name), const_cast<char*>(value.c_str()), const_cast<char*>(""));
  }

  GVC_t* context_ = nullptr;
  Agraph_t* graphviz_ = nullptr;
  std::vector<Agnode_t*> nodes_;
  std::vector<Agedge_t*> edges_;
  bool good_ = false;
};

constexpr double kWidth = 1280, kHeight = 800, kMargin = 24, kTop = 56;

Colour fill_of(const FlowBlock& block) {
  if (block.loop_depth == 0) return {1, 1, 1, 1};
  const double depth = std::min(0.12 + 0.10 * block.loop_depth, 0.5);
  return {1 - depth * 0.96, 1 - depth * 0.50, 1 - depth * 0.54, 1};
}

}  // namespace

bool flow_figure(const std::string& path, Canvas::Form form, const FlowGraph& graph, const std::string& file,
                 program::SourceText& sources) {
  std::vector<Label> labels;
  std::vector<std::array<double, 2>> sizes;
  {
    Canvas measure("/dev/null", Canvas::Form::svg, 10, 10);
    for (const FlowBlock& block : graph.blocks) {
      labels.push_back(label_of(block, file, sources));
      double width = measure.width_of(labels.back().facts, kFont - 2);
      for (const std::string& line : labels.back().source) width = std::max(width, measure.width_of(line, kFont));
      const std::size_t rows = labels.back().source.size() + (labels.back().facts.empty() ? 0 : 1);
      sizes.push_back({width + 2 * kPad, kLineHeight * static_cast<double>(rows) + kPad});
    }
  }
  // Upright or sideways, whichever can be shown larger.
  const auto factor_of = [](const Layout& layout) {
    return std::min({(kWidth - 2 * kMargin) / std::max(layout.width(), 1.0),
                     (kHeight - kTop - kMargin) / std::max(layout.height(), 1.0), 1.2});
  };
  auto layout = std::make_unique<Layout>(graph, sizes, false);
  if (auto other = std::make_unique<Layout>(graph, sizes, true);
      other->good() && (!layout->good() || factor_of(*other) > 1.15 * factor_of(*layout)))
    layout = std::move(other);
  if (!layout->good()) return false;
  const double factor = factor_of(*layout);
  // What would be too small to read makes the picture larger instead.
  constexpr double kSmallest = 0.62;
  const double grown = std::max(1.0, kSmallest / factor);
  Canvas canvas(path, form, kWidth * grown, kHeight * grown);
  canvas.text(kMargin, 16, printable(graph.function), 16, colours::kInk, true, kWidth * grown - 2 * kMargin);
  std::string facts = fmt::format("{} blocks, {} loop{}", graph.all_blocks, graph.loops, graph.loops == 1 ? "" : "s");
  if (graph.blocks.size() < graph.all_blocks) facts += fmt::format("; put together to {} here", graph.blocks.size());
  if (!graph.complete) facts += "; the targets of an indirect jump are unknown";
  facts += "   teal: in a loop, the deeper the darker   amber: leads back   dashed: where a condition does not hold";
  canvas.text(kMargin, 38, facts, 11, colours::kFaint, false, kWidth * grown - 2 * kMargin);
  const double scale = factor * grown;
  const double left = std::max(kMargin, (kWidth * grown - layout->width() * scale) / 2);
  canvas.scale(scale, left, kTop);
  std::size_t number = 0;
  for (const FlowBlock& block : graph.blocks) {
    for (const FlowEdge& edge : block.edges) {
      std::array<double, 2> tip{};
      const std::vector<double> points = layout->edge(number++, tip);
      if (points.size() < 8) continue;
      const Colour colour = edge.back                            ? colours::kAmber
                            : edge.kind == FlowEdge::Kind::table ? colours::kMagenta
                                                                 : colours::kFaint;
      canvas.curve(points.data(), (points.size() / 2 - 1) / 3, colour, edge.back ? 2 : 1.2,
                   edge.kind == FlowEdge::Kind::not_taken);
      canvas.arrow_head(tip[0], tip[1], points[points.size() - 2], points.back(), colour, 9);
    }
  }
  for (std::size_t i = 0; i < graph.blocks.size(); ++i) {
    const FlowBlock& block = graph.blocks[i];
    const auto [x, y] = layout->node(i);
    const double from = x - sizes[i][0] / 2, top = y - sizes[i][1] / 2;
    const Colour line = block.entry || block.leaves ? colours::kInk : colours::kLine;
    canvas.box(from, top, sizes[i][0], sizes[i][1], fill_of(block), line, block.entry ? 2.5 : 1.2);
    double at = top + kPad / 2;
    for (const std::string& text : labels[i].source) {
      canvas.text(from + kPad, at, text, kFont, colours::kInk);
      at += kLineHeight;
    }
    canvas.text(from + kPad, at, labels[i].facts, kFont - 2, colours::kFaint);
  }
  return canvas.finish();
}

}  // namespace deeptrace::report
