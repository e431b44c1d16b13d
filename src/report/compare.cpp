#include "report/compare.h"

#include <fmt/format.h>

#include <algorithm>

#include "report/columns.h"
#include "report/csv.h"
#include "report/explain_frame.h"
#include "report/file_words.h"
#include "report/html.h"
#include "report/json.h"
#include "report/names.h"

namespace deeptrace::report {
namespace {

using study::ComparedFunction;
using study::ComparedInstruction;
using study::ComparedRow;
using study::CompareSummary;
using study::Difference;
using study::FunctionFacts;

/// What stands between the two sides.
std::string_view mark_of(Difference difference) {
  constexpr std::string_view kMarks[] = {"", "regs", "~", "only A", "only B", "moved"};
  return kMarks[static_cast<std::size_t>(difference)];
}

std::string saved_words(const FunctionFacts& facts, bool wide) {
  std::string result;
  for (const isa::General number : facts.frame.saved) {
    const isa::RegisterPart part{isa::RegisterFile::general, number, 0, static_cast<std::uint16_t>(wide ? 64 : 32)};
    result += (result.empty() ? "" : ", ") + std::string(isa::name_of(part));
  }
  return result.empty() ? "nothing" : result;
}

std::string frame_words(const FunctionFacts& facts) {
  const program::FrameShape& frame = facts.frame;
  const std::string more = frame.aligned > 16 ? fmt::format(" (up to {} more)", frame.aligned - 16) : "";
  return fmt::format(
      "{} bytes{}{}{}", frame.size, frame.aligned != 0 ? fmt::format(", aligned to {}{}", frame.aligned, more) : "",
      facts.frame.red_zone != 0 ? fmt::format(", {} more below it (red zone)", facts.frame.red_zone) : "",
      facts.frame.varies ? " and more, known only at run time" : "");
}

std::string calls_words(const FunctionFacts& facts) {
  std::string result;
  for (const std::string& call : facts.calls) result += (result.empty() ? "" : ", ") + printable(call);
  return result.empty() ? "nothing" : result;
}

struct Fact {
  std::string_view name;
  std::string a, b;
};

/// "-" where a file does not have the function.
std::vector<Fact> facts_of(const ComparedFunction& function, bool wide_a, bool wide_b) {
  const auto both = [&](std::string_view name, const auto& words) {
    return Fact{name, function.a ? words(*function.a, wide_a) : "-", function.b ? words(*function.b, wide_b) : "-"};
  };
  return {
      both("bytes", [](const FunctionFacts& f, bool) { return fmt::format("{}", f.size); }),
      both("instructions", [](const FunctionFacts& f, bool) { return fmt::format("{}", f.instructions); }),
      both("stack frame", [](const FunctionFacts& f, bool) { return frame_words(f); }),
      both("frame pointer",
           [](const FunctionFacts& f, bool wide) {
             return std::string(f.frame.frame_pointer ? (wide ? "rbp" : "ebp") : "none");
           }),
      both("saves", [](const FunctionFacts& f, bool wide) { return saved_words(f, wide); }),
      both("calls", [](const FunctionFacts& f, bool) { return calls_words(f); }),
  };
}

std::string counts_words(const ComparedFunction& function) {
  constexpr std::string_view kWords[] = {
      "the same", "in other registers or slots", "with other operands", "only in A", "only in B", "moved"};
  std::string result;
  for (std::size_t i = 0; i < std::size(kWords); ++i) {
    if (function.counts[i] != 0)
      result += fmt::format("{}{} {}", result.empty() ? "" : ", ", function.counts[i], kWords[i]);
  }
  return result;
}

std::size_t columns_of(std::string_view text) {
  return static_cast<std::size_t>(
      std::ranges::count_if(text, [](char c) { return (static_cast<unsigned char>(c) & 0xc0) != 0x80; }));
}

std::string padded(std::string text, std::size_t width) {
  const std::size_t columns = columns_of(text);
  if (columns < width) text.append(width - columns, ' ');
  return text;
}

/// The same, and not wider.
std::string fitted(const Style& style, std::string text, std::size_t width) {
  if (columns_of(text) <= width) return padded(std::move(text), width);
  const std::string_view mark = style.utf8 ? "\u2026" : "..";
  return padded(text.substr(0, bytes_within(text, width - columns_of(mark))) + std::string(mark), width);
}

/// "level_sum", "level_sum (in B level_sum.isra.0)".
std::string both_names(const Style& style, const ComparedFunction& function) {
  std::string result = shown_heading(style, function.name);
  if (!function.name_in_b.empty()) result += " (in B " + shown_heading(style, function.name_in_b) + ")";
  return result;
}

/// Of a function that one side has no code of its own of.
std::string copies_words(const ComparedFunction& function) {
  const std::size_t count = function.a ? function.inlined_b : function.inlined_a;
  if (count == 0) return {};
  return fmt::format("   {} has it inlined in {}", function.a ? "B" : "A",
                     count == 1 ? "1 place" : fmt::format("{} places", count));
}

class Text : public study::CompareSink {
 public:
  Text(Output& out, Style style, bool unfolded) : out_(out), style_(style), unfolded_(unfolded) {}

  void begin(const program::Program& a, const program::Program& b, bool whole_files) override {
    whole_ = whole_files;
    wide_a_ = a.elf().wide();
    wide_b_ = b.elf().wide();
    line(fmt::format("A  {}   {}, {}", look(style_, Role::heading, printable(a.elf().path())),
                     kind_words(a.elf().kind()), machine_words(a)));
    line(fmt::format("B  {}   {}, {}", look(style_, Role::heading, printable(b.elf().path())),
                     kind_words(b.elf().kind()), machine_words(b)));
  }

  void function(const ComparedFunction& function) override {
    if (whole_) {
      kept_.push_back(function);
      return;
    }
    line("");
    line(look(style_, Role::heading, both_names(style_, function)) + copies_words(function));
    const std::vector<Fact> facts = facts_of(function, wide_a_, wide_b_);
    std::size_t widest = 1;
    for (const Fact& fact : facts) widest = std::max(widest, columns_of(fact.a));
    widest = std::min(widest, widest_side());
    line(fmt::format("  {:<15}  {}  {}", "", padded("A", widest), "B"));
    for (const Fact& fact : facts) {
      std::string text = fmt::format("{} {:<15}  {}  {}", fact.a == fact.b ? " " : "~", fact.name,
                                     fitted(style_, fact.a, widest), fact.b);
      line(fact.a == fact.b ? text : look(style_, Role::changed, text));
    }
    line("");
    frames(function);
    line("  " + counts_words(function));
    rows(function);
  }

  void end(const CompareSummary& summary) override {
    line("");
    if (!whole_) return;
    table();
    line("");
    line(
        fmt::format("{} functions: {} the same, {} changed, {} only in A, {} only in B; {} bytes of code in A, {} in B",
                    summary.functions, summary.same, summary.changed, summary.only_a, summary.only_b, summary.bytes_a,
                    summary.bytes_b));
    if (summary.all) line("all functions are compared: one of the files has no code that is its developer's own");
    if (summary.by_content != 0)
      line(fmt::format("{} without a name on one side were brought together by what they do and where they stand",
                       summary.by_content));
    if (summary.unnamed_a + summary.unnamed_b != 0)
      line(
          look(style_, Role::attention,
               fmt::format("note: not compared, as nothing tells what belongs to them: {} without a name in A, {} in B",
                           summary.unnamed_a, summary.unnamed_b)));
  }

 private:
  void line(std::string_view text) { add_line(out_, style_, text); }

  /// The stack of both builds, where it was asked for.
  void frames(const ComparedFunction& function) {
    const auto drawn = [](const std::optional<FunctionFacts>& facts) {
      return facts && facts->explained ? frame_drawing(*facts->explained) : std::vector<std::string>();
    };
    const std::vector<std::string> a = drawn(function.a), b = drawn(function.b);
    if (a.empty() && b.empty()) return;
    std::size_t widest = 1;
    for (const std::string& one : a) widest = std::max(widest, columns_of(one));
    widest = std::min(widest, widest_side());
    line(look(style_, Role::faint, fmt::format("  {}  {}", padded("the stack in A, from above", widest), "in B")));
    for (std::size_t i = 0; i < std::max(a.size(), b.size()); ++i) {
      std::string text = "  " + fitted(style_, i < a.size() ? a[i] : "", widest) + "  " + (i < b.size() ? b[i] : "");
      while (text.ends_with(' ')) text.pop_back();
      line(i == 0 ? look(style_, Role::faint, text) : text);
    }
    line("");
  }

  /// Both sides have the same room; the mark between them takes 10 columns.
  [[nodiscard]] std::size_t widest_side() const {
    constexpr unsigned kWidest = 76, kNarrowest = 24, kBetween = 10;
    return style_.width == 0 ? kWidest
                             : std::clamp((std::max(style_.width, kBetween) - kBetween) / 2, kNarrowest, kWidest);
  }

  std::string side(const ComparedInstruction& one) const {
    if (!one.present) return {};
    std::string text = fmt::format("{:>5} {:>6}  {}", one.line != 0 ? fmt::format("{}", one.line) : "",
                                   "+" + hex(one.offset), one.text);
    if (!one.target.empty()) text += (style_.utf8 ? " → " : " -> ") + shown_name(style_, one.target);
    return text;
  }

  void rows(const ComparedFunction& function) {
    constexpr std::size_t kContext = 3;
    std::size_t widest = 12;
    for (const ComparedRow& row : function.rows) widest = std::max(widest, columns_of(side(row.a)));
    widest = std::min(widest, widest_side());
    line("");
    line(look(style_, Role::faint,
              fmt::format("{}  {:<6}  {}", padded(" line offset  A", widest), "", " line offset  B")));
    std::size_t i = 0;
    while (i < function.rows.size()) {
      std::size_t end = i;
      while (end < function.rows.size() && function.rows[end].difference == Difference::same) ++end;
      const std::size_t run = end - i;
      if (!unfolded_ && run > 2 * kContext + 2) {
        const std::size_t before = i == 0 ? 0 : kContext, after = end == function.rows.size() ? 0 : kContext;
        for (std::size_t k = i; k < i + before; ++k) row(function.rows[k], widest);
        line(look(style_, Role::faint,
                  fmt::format("        {} {} instructions that are the same", style_.utf8 ? "…" : "...",
                              run - before - after)));
        for (std::size_t k = end - after; k < end; ++k) row(function.rows[k], widest);
        i = end;
      } else if (run > 0) {
        for (; i < end; ++i) row(function.rows[i], widest);
      } else {
        row(function.rows[i++], widest);
      }
    }
  }

  void row(const ComparedRow& row, std::size_t widest) {
    std::string text =
        fmt::format("{}  {:<6}  {}", fitted(style_, side(row.a), widest), mark_of(row.difference), side(row.b));
    while (text.ends_with(' ')) text.pop_back();
    switch (row.difference) {
      case Difference::same: return line(text);
      case Difference::allocation: return line(look(style_, Role::faint, text));
      default: line(look(style_, Role::changed, text));
    }
  }

  /// Those that differ, the largest change in size first.
  void table() {
    const auto grown = [](const ComparedFunction& f) {
      return static_cast<std::int64_t>(f.b ? f.b->size : 0) - static_cast<std::int64_t>(f.a ? f.a->size : 0);
    };
    std::erase_if(kept_, [](const ComparedFunction& f) {
      return f.a && f.b && f.same && f.a->size == f.b->size && f.counts[1] == 0;
    });
    std::ranges::stable_sort(kept_, [&](const ComparedFunction& a, const ComparedFunction& b) {
      return std::abs(grown(a)) > std::abs(grown(b));
    });
    if (kept_.empty()) return line("no function differs");
    line(look(style_, Role::heading,
              fmt::format("  {:>8} {:>8} {:>8}   {:>7} {:>7}   {:<9} {}", "bytes A", "bytes B", "change", "frame A",
                          "frame B", "", "function")));
    for (const ComparedFunction& f : kept_) {
      const auto number = [](const std::optional<FunctionFacts>& facts, bool frame) {
        return facts ? fmt::format("{}", frame ? facts->frame.size : facts->size) : std::string("-");
      };
      const std::string_view state = !f.a               ? "added"
                                     : !f.b             ? "removed"
                                     : !f.same          ? "changed"
                                     : f.counts[1] != 0 ? "registers"
                                                        : "";
      line(fmt::format("  {:>8} {:>8} {:>+8}   {:>7} {:>7}   {:<9} {}", number(f.a, false), number(f.b, false),
                       grown(f), number(f.a, true), number(f.b, true), state, both_names(style_, f) + copies_words(f)));
    }
  }

  Output& out_;
  Style style_;
  bool unfolded_, whole_ = false, wide_a_ = true, wide_b_ = true;
  std::vector<ComparedFunction> kept_;
};

/// What is known of a function of one side; CSV has the three of the table of whole files.
constexpr Column<FunctionFacts> kFacts[] = {
    {"address", [](const FunctionFacts& facts) { return Cell::address(facts.address); }, Forms::json},
    {"size", [](const FunctionFacts& facts) { return Cell::number(facts.size); }},
    {"instructions", [](const FunctionFacts& facts) { return Cell::number(facts.instructions); }},
    {"frame", [](const FunctionFacts& facts) { return Cell::number(facts.frame.size); }},
    {"red_zone", [](const FunctionFacts& facts) { return Cell::number(facts.frame.red_zone); }, Forms::json},
    {"frame_varies", [](const FunctionFacts& facts) { return Cell::boolean(facts.frame.varies); }, Forms::json},
    {"frame_pointer", [](const FunctionFacts& facts) { return Cell::boolean(facts.frame.frame_pointer); }, Forms::json},
};

/// Of an instruction that one side does not have, all are empty.
constexpr Column<ComparedInstruction> kSide[] = {
    {"address", [](const ComparedInstruction& one) { return Cell::address(one.address); }, Forms::json},
    {"offset", [](const ComparedInstruction& one) { return one.present ? Cell::number(one.offset) : Cell::text(""); }},
    {"text", [](const ComparedInstruction& one) { return Cell::text(one.text); }},
    {"target", [](const ComparedInstruction& one) { return Cell::text(one.target); }, Forms::json},
    {"line", [](const ComparedInstruction& one) { return Cell::line(one.line); }},
};

/// The names of a side's columns in CSV: "offset_a".
template <class Row>
void put_side_heads(CsvWriter& csv, std::span<const Column<Row>> columns, std::string_view side) {
  for (const Column<Row>& column : columns) {
    if (column.forms != Forms::json) csv.cell(fmt::format("{}_{}", column.name, side));
  }
}

class Json : public study::CompareSink {
 public:
  explicit Json(Output& out) : json_(out) {}

  void begin(const program::Program& a, const program::Program& b, bool whole_files) override {
    whole_ = whole_files;
    wide_a_ = a.elf().wide();
    wide_b_ = b.elf().wide();
    json_.begin_object();
    json_.key("deeptrace").number(1);
    json_.key("command").string("compare");
    json_.key("a").string(a.elf().path());
    json_.key("b").string(b.elf().path());
    json_.key("functions").begin_array();
  }

  void function(const ComparedFunction& function) override {
    json_.new_line();
    json_.begin_object();
    json_.key("name").string(function.name);
    json_.key("a");
    facts(function.a, wide_a_);
    json_.key("b");
    facts(function.b, wide_b_);
    json_.key("same").boolean(function.same && function.a && function.b);
    json_.key("by_content").boolean(function.by_content);
    if (!function.name_in_b.empty()) json_.key("name_in_b").string(function.name_in_b);
    if (!function.a) json_.key("inlined_a").number(function.inlined_a);
    if (!function.b) json_.key("inlined_b").number(function.inlined_b);
    json_.key("counts").begin_object();
    for (std::size_t i = 0; i < std::size(function.counts); ++i)
      json_.key(study::name_of(static_cast<Difference>(i))).number(function.counts[i]);
    json_.end();
    if (!whole_) {
      json_.key("rows").begin_array();
      for (const ComparedRow& row : function.rows) {
        json_.new_line();
        json_.begin_object();
        json_.key("difference").string(study::name_of(row.difference));
        json_.key("a");
        side(row.a);
        json_.key("b");
        side(row.b);
        json_.end();
      }
      json_.end();
    }
    json_.end();
  }

  void end(const CompareSummary& summary) override {
    json_.end();
    json_.key("summary").begin_object();
    json_.key("functions").number(summary.functions);
    json_.key("same").number(summary.same);
    json_.key("changed").number(summary.changed);
    json_.key("only_a").number(summary.only_a);
    json_.key("only_b").number(summary.only_b);
    json_.key("by_content").number(summary.by_content);
    json_.key("unnamed_a").number(summary.unnamed_a);
    json_.key("unnamed_b").number(summary.unnamed_b);
    json_.key("all").boolean(summary.all);
    json_.close_all();
  }

 private:
  void facts(const std::optional<FunctionFacts>& facts, bool wide) {
    if (!facts) return json_.null();
    json_.begin_object();
    put_members<FunctionFacts>(json_, kFacts, *facts);
    if (facts->frame.aligned != 0) json_.key("frame_aligned").number(facts->frame.aligned);
    json_.key("saved").begin_array();
    for (const isa::General number : facts->frame.saved)
      json_.string(isa::name_of({isa::RegisterFile::general, number, 0, static_cast<std::uint16_t>(wide ? 64 : 32)}));
    json_.end();
    json_.key("calls").begin_array();
    for (const std::string& call : facts->calls) json_.string(call);
    json_.end();
    if (facts->explained) {
      json_.key("explained_frame");
      explain_frame_json(json_, *facts->explained);
    }
    json_.end();
  }

  void side(const ComparedInstruction& one) {
    if (!one.present) return json_.null();
    json_.begin_object();
    put_members<ComparedInstruction>(json_, kSide, one);
    json_.end();
  }

  JsonWriter json_;
  bool whole_ = false, wide_a_ = true, wide_b_ = true;
};

/// Functions in columns; where functions were asked for, a row an instruction.
class Csv : public study::CompareSink {
 public:
  explicit Csv(Output& out) : csv_(out) {}

  void begin(const program::Program& /*a*/, const program::Program& /*b*/, bool whole_files) override {
    whole_ = whole_files;
    if (whole_) {
      csv_.cell("function");
      for (const Column<FunctionFacts>& fact : kFacts) {
        for (const char* side : {"a", "b"})
          if (fact.forms != Forms::json) csv_.cell(fmt::format("{}_{}", fact.name, side));
      }
      csv_.cell("same");
    } else {
      csv_.cell("function").cell("difference");
      for (const std::string_view side : {"a", "b"}) put_side_heads<ComparedInstruction>(csv_, kSide, side);
    }
    csv_.end_row();
  }

  void function(const ComparedFunction& f) override {
    if (whole_) {
      csv_.cell(f.name);
      for (const Column<FunctionFacts>& fact : kFacts) {
        if (fact.forms == Forms::json) continue;
        for (const auto* side : {&f.a, &f.b}) *side ? fact.of(**side).write(csv_) : void(csv_.cell(""));
      }
      csv_.cell(f.same && f.a && f.b ? "yes" : "no");
      csv_.end_row();
      return;
    }
    for (const ComparedRow& row : f.rows) {
      csv_.cell(f.name).cell(study::name_of(row.difference));
      for (const ComparedInstruction* one : {&row.a, &row.b}) put_cells<ComparedInstruction>(csv_, kSide, *one);
      csv_.end_row();
    }
  }

  void end(const CompareSummary& /*summary*/) override {}

 private:
  CsvWriter csv_;
  bool whole_ = false;
};

constexpr std::string_view kStyle = R"(
main { padding: 10px 14px 40px; } h2 { margin: 22px 0 6px; font-size: 14px; }
table { border-collapse: collapse; } td, th { text-align: left; padding: 1px 12px 1px 4px; vertical-align: top; white-space: pre; }
.rows { width: 100%; table-layout: fixed; } .rows td { overflow: hidden; text-overflow: ellipsis; }
.rows td.n { width: 4em; color: var(--faint); text-align: right; } .rows td.o { width: 5.5em; color: var(--faint); text-align: right; }
.rows td.m { width: 5.5em; text-align: center; color: var(--faint); }
tr.changed, tr.only_a, tr.only_b, tr.moved { background: rgb(var(--tint) / .16); } tr.allocation { color: var(--faint); }
tr.changed td.m, tr.only_a td.m, tr.only_b td.m, tr.moved td.m { color: var(--teal); font-weight: bold; }
tr.differs td { color: var(--teal); } tr:hover { background: var(--pick); }
)";
constexpr std::string_view kScript = R"(
'use strict';
const only = document.getElementById('only');
only.addEventListener('change', () => {
  for (const row of document.querySelectorAll('tr.same, tr.allocation')) row.hidden = only.checked;
});
)";

class Page : public study::CompareSink {
 public:
  explicit Page(Output& out) : out_(out) {}

  void begin(const program::Program& a, const program::Program& b, bool whole_files) override {
    whole_ = whole_files;
    wide_a_ = a.elf().wide();
    wide_b_ = b.elf().wide();
    begin_page(out_, "compare", kStyle);
    out_.add(fmt::format("<header><h1>compare</h1><span>A <b>{}</b></span><span>B <b>{}</b></span>",
                         html(a.elf().path()), html(b.elf().path())));
    if (!whole_) out_.add("<label><input type=checkbox id=only> only what differs</label>");
    out_.add("</header><main>\n");
    if (whole_) out_.add("<table><tr><th>function<th>bytes A<th>bytes B<th>frame A<th>frame B<th></tr>\n");
  }

  void function(const ComparedFunction& f) override {
    if (whole_) {
      const auto number = [](const std::optional<FunctionFacts>& facts, bool frame) {
        return facts ? fmt::format("{}", frame ? facts->frame.size : facts->size) : std::string("-");
      };
      const std::string_view state = !f.a               ? "added"
                                     : !f.b             ? "removed"
                                     : !f.same          ? "changed"
                                     : f.counts[1] != 0 ? "registers"
                                                        : "same";
      out_.add(fmt::format("<tr class=\"{}\"><td>{}<td>{}<td>{}<td>{}<td>{}<td>{}</tr>\n",
                           state == "same" ? "" : "differs", html(f.name), number(f.a, false), number(f.b, false),
                           number(f.a, true), number(f.b, true), state));
      return;
    }
    out_.add(fmt::format("<h2>{}</h2><table><tr><th><th>A<th>B</tr>\n", html(f.name)));
    for (const Fact& fact : facts_of(f, wide_a_, wide_b_))
      out_.add(fmt::format("<tr class=\"{}\"><td>{}<td>{}<td>{}</tr>\n", fact.a == fact.b ? "" : "differs", fact.name,
                           html(fact.a), html(fact.b)));
    out_.add(fmt::format("</table><p class=faint>{}</p><table class=rows>\n", counts_words(f)));
    for (const ComparedRow& row : f.rows) {
      out_.add(fmt::format("<tr class={}>", study::name_of(row.difference)));
      side(row.a);
      out_.add(fmt::format("<td class=m>{}</td>", mark_of(row.difference)));
      side(row.b);
      out_.add("</tr>\n");
    }
    out_.add("</table>\n");
  }

  void end(const CompareSummary& /*summary*/) override {
    out_.add(whole_ ? "</table></main>\n" : "</main>\n");
    end_page(out_, whole_ ? std::string_view() : kScript);
  }

 private:
  void side(const ComparedInstruction& one) {
    if (!one.present) {
      out_.add("<td class=n><td class=o><td>");
      return;
    }
    out_.add(fmt::format("<td class=n>{}<td class=o>+{}<td>{}", one.line != 0 ? fmt::format("{}", one.line) : "",
                         hex(one.offset), html(one.text)));
    if (!one.target.empty()) out_.add(fmt::format(" <span class=ref>→ {}</span>", html(one.target)));
  }

  Output& out_;
  bool whole_ = false, wide_a_ = true, wide_b_ = true;
};

}  // namespace

std::unique_ptr<study::CompareSink> compare_text(Output& out, Style style, bool unfolded) {
  return std::make_unique<Text>(out, style, unfolded);
}
std::unique_ptr<study::CompareSink> compare_json(Output& out) { return std::make_unique<Json>(out); }
std::unique_ptr<study::CompareSink> compare_csv(Output& out) { return std::make_unique<Csv>(out); }
std::unique_ptr<study::CompareSink> compare_page(Output& out) { return std::make_unique<Page>(out); }

}  // namespace deeptrace::report
