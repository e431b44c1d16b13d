#include "report/tour_page.h"

#include <fmt/format.h>

#include <algorithm>

#include "report/html.h"

namespace deeptrace::report {
namespace {

constexpr std::string_view kStyle = R"(
main { max-width: 110ch; margin: 0 auto; padding: 10px 14px; } p { color: var(--faint); }
h2 { margin: 28px 0 6px; } section { border-top: 1px solid var(--line); padding: 8px 0 10px; }
code { display: block; background: var(--panel); padding: 4px 8px; margin: 4px 0; overflow-wrap: anywhere; }
section a { margin-right: 16px; text-decoration: underline; } img { max-width: 100%; max-height: 260px; display: block; margin-top: 6px; }
)";

/// What a file is for, by its ending.
std::string_view link_words(std::string_view file) {
  if (file.ends_with(".html")) return "page";
  if (file.ends_with(".txt")) return "text";
  if (file.ends_with(".json")) return "JSON";
  if (file.ends_with(".csv")) return "table (CSV)";
  if (file.ends_with(".svg")) return "figure (SVG)";
  return file.ends_with(".png") ? "figure (PNG)" : file;
}

}  // namespace

void tour_page(Output& out, const std::vector<TourStation>& stations) {
  begin_page(out, "Deep Trace: the tour", kStyle);
  out.add(
      "<main><h1>Deep Trace: the tour</h1><p>The demo programs of the Grayling Sound tide station, taken through the "
      "whole "
      "job in the order in which people work. Each station says what it shows, and the command as it is typed; its "
      "results "
      "are beside it as files.</p>\n");
  std::string task;
  for (const TourStation& one : stations) {
    if (one.task != task) out.add(fmt::format("<h2>{}</h2>\n", html(one.task)));
    task = one.task;
    out.add(fmt::format("<section><b>{}</b><code>{}</code>", html(one.shows), html(one.words)));
    for (const std::string& file : one.files)
      out.add(fmt::format("<a href=\"{0}/{1}\">{2}</a>", html(one.folder), html(file), html(link_words(file))));
    const auto figure = std::ranges::find_if(one.files, [](const auto& file) { return file.ends_with(".svg"); });
    if (figure != one.files.end())
      out.add(fmt::format("<img loading=lazy alt=\"\" src=\"{}/{}\">", html(one.folder), html(*figure)));
    out.add("</section>\n");
  }
  out.add("</main>\n");
  end_page(out, {});
}

}  // namespace deeptrace::report
