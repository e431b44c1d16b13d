#include "report/html.h"

namespace deeptrace::report {
namespace {

constexpr std::string_view kShared = R"(
:root { color-scheme: light dark; --paper: #fbfaf7; --ink: #1d2430; --faint: #5d6878; --line: #d9d6cd; --panel: #f1efe8;
  --teal: #08665f; --amber: #9a5b00; --magenta: #a3146f; --tint: 10 125 116; --pick: #ffe9b8; }
@media (prefers-color-scheme: dark) { :root { --paper: #12161d; --ink: #dbe1ea; --faint: #93a0b3; --line: #2b3340;
  --panel: #1a2029; --teal: #4cc9bd; --amber: #f0b04a; --magenta: #ef7cc0; --tint: 76 201 189; --pick: #4a3b12; } }
* { box-sizing: border-box; }
body { margin: 0; background: var(--paper); color: var(--ink); font: 13px/1.45 "DejaVu Sans Mono", ui-monospace, monospace; }
h1 { font-size: 15px; margin: 0; } h2 { font-size: 13px; margin: 0; }
a { color: inherit; text-decoration: none; } a:hover { text-decoration: underline; }
header { display: flex; flex-wrap: wrap; gap: 6px 20px; align-items: center; padding: 8px 14px; background: var(--panel);
  border-bottom: 1px solid var(--line); position: sticky; top: 0; z-index: 2; }
.faint { color: var(--faint); } .note { color: var(--amber); } .ref { color: var(--teal); }
input { font: inherit; color: inherit; background: var(--paper); border: 1px solid var(--line); border-radius: 4px; padding: 3px 8px; }
)";

}  // namespace

std::string html(std::string_view raw) {
  std::string result;
  for (const char c : printable(raw)) {
    switch (c) {
      case '&': result += "&amp;"; break;
      case '<': result += "&lt;"; break;
      case '>': result += "&gt;"; break;
      case '"': result += "&quot;"; break;
      case '\'': result += "&#39;"; break;
      default: result += c;
    }
  }
  return result;
}

void begin_page(Output& out, std::string_view title, std::string_view style) {
  out.add("<!doctype html>\n<html lang=\"en\"><head><meta charset=\"utf-8\"><title>");
  out.add(html(title));
  out.add("</title>\n<meta name=\"viewport\" content=\"width=device-width\"><style>");
  out.add(kShared);
  out.add(style);
  out.add("</style></head><body>\n");
}

void end_page(Output& out, std::string_view script) {
  if (!script.empty()) {
    out.add("<script>");
    out.add(script);
    out.add("</script>\n");
  }
  out.add("</body></html>\n");
}

}  // namespace deeptrace::report
