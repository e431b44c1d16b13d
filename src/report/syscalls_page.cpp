// The page of `syscalls`: a row a call; the search field keeps those that have all its words, "errors" those that
// failed or have a finding.
#include <fmt/format.h>

#include "base/path.h"
#include "report/html.h"
#include "report/syscall_words.h"
#include "report/syscalls.h"

namespace deeptrace::report {
namespace {

using session::SyscallRow;

constexpr std::string_view kStyle = R"(
table { border-collapse: collapse; width: 100%; } td, th { text-align: left; vertical-align: top; padding: 2px 10px; }
th { color: var(--faint); font-weight: normal; border-bottom: 1px solid var(--line); }
td.n, td.t { text-align: right; white-space: nowrap; color: var(--faint); } td.a { overflow-wrap: anywhere; }
tr:hover { background: var(--panel); } tr.bad td { color: var(--amber); } tr.out { display: none; }
.wrong { color: var(--magenta); } .why { color: var(--ink); padding-left: 4ch; } tr.own td { border: 0; }
footer { padding: 10px 14px; color: var(--faint); }
)";

// Rows are hidden, not removed, so that the numbers of the others stay.
constexpr std::string_view kScript = R"(
'use strict';
const rows = [...document.querySelectorAll('tbody tr')], field = document.getElementById('search');
const bad = document.getElementById('bad'), count = document.getElementById('count');
const sift = () => {
  const words = field.value.toLowerCase().split(/\s+/).filter(word => word);
  let shown = 0;
  for (const row of rows) {
    const text = row.textContent.toLowerCase();
    const keep = words.every(word => text.includes(word)) && (!bad.checked || row.dataset.bad);
    row.classList.toggle('out', !keep);
    if (keep) shown++;
  }
  count.textContent = shown === rows.length ? `${shown} calls` : `${shown} of ${rows.length} calls`;
};
field.addEventListener('input', sift); bad.addEventListener('change', sift);
document.addEventListener('keydown', event => { if (event.key === '/' && event.target !== field) { event.preventDefault(); field.focus(); } });
sift();
)";

class Page final : public session::SyscallsSink {
 public:
  explicit Page(Output& out) : out_(out) {}

  void begin(const session::SyscallsStart& start) override {
    const std::string name(base_name(start.program));
    begin_page(out_, name + ": system calls", kStyle);
    out_.add(fmt::format(
        "<header><h1>{}</h1><span class=faint>system calls</span><input id=search type=search placeholder=\"search\" "
        "aria-label=\"search\"><label><input id=bad type=checkbox> errors and findings</label><span id=count "
        "class=faint></span></header>\n<table><thead><tr><th><th>own line<th>call<th>arguments<th>result<th>time<th>"
        "thread</tr></thead><tbody>\n",
        html(name)));
  }

  void row(const SyscallRow& row) override {
    const bool bad = row.call.failed || !row.findings.empty();
    std::string arguments;
    for (const std::string& one : argument_words(style_, row.call))
      arguments += (arguments.empty() ? "" : ", ") + html(one);
    if (!row.call.known) arguments = "unknown";
    std::string below;
    if (row.call.failed) below += fmt::format("<div class=note>{}</div>", html(row.call.meaning));
    for (const look::Finding& one : row.findings) below += finding(one);
    out_.add(fmt::format(
        "<tr{}><td class=n>{}<td title=\"{}\">{}<td>{}<td class=a>{}{}<td>{}<td class=t>{}<td "
        "class=t>{}</tr>\n",
        bad ? " class=bad data-bad=1" : "", row.number, html(row.own.place), html(own_words(style_, row)),
        html(row.call.name), arguments, below, html(result_words(style_, row)), duration_words(row.duration),
        row.process > 1 ? fmt::format("{}, process {}", row.thread, row.process) : std::to_string(row.thread)));
  }

  void end(const session::SyscallsSummary& summary) override {
    out_.add("</tbody></table>\n<footer>");
    for (const look::Finding& one : summary.findings) out_.add(finding(one));
    out_.add(fmt::format("{} call{}; {} that no own code led to; times include the cost of tracing</footer>\n",
                         summary.rows, summary.rows == 1 ? "" : "s", summary.left_out));
    end_page(out_, kScript);
    out_.flush();
  }

 private:
  static std::string finding(const look::Finding& one) {
    std::string text = fmt::format("<div class={}>{}: {}</div>", one.note ? "note" : "wrong",
                                   one.note ? "note" : "wrong", html(one.text));
    for (const std::string& evidence : one.evidence) text += fmt::format("<div class=why>{}</div>", html(evidence));
    return text;
  }

  Output& out_;
  Style style_{.utf8 = true};
};

}  // namespace

std::unique_ptr<session::SyscallsSink> syscalls_page(Output& out) { return std::make_unique<Page>(out); }

}  // namespace deeptrace::report
