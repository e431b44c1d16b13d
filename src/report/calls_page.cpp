// The page of `calls`: a tree a thread, whose branches fold; the search field opens the way to what has all its words.
#include <fmt/format.h>

#include <map>

#include "base/path.h"
#include "report/call_words.h"
#include "report/calls.h"
#include "report/html.h"
#include "report/names.h"
#include "report/syscall_words.h"

namespace deeptrace::report {
namespace {

using session::CallRow;

constexpr std::string_view kStyle = R"(
main { padding: 4px 14px; } h2 { font-size: 1em; margin: 12px 0 4px; }
details, .leaf { padding-left: 2ch; border-left: 1px solid var(--line); } main > details, main > .leaf { border: 0; padding: 0; }
summary { cursor: pointer; } .leaf { list-style: none; } summary:hover, .leaf:hover { background: var(--panel); }
.at { color: var(--faint); float: right; margin-left: 2ch; } .t, .other > .f, .other > summary > .f { color: var(--faint); }
.end { padding-left: 4ch; } .a { overflow-wrap: anywhere; } .out { display: none; }
.wrong { color: var(--magenta); padding-left: 4ch; } .note { padding-left: 4ch; } .why { padding-left: 8ch; }
footer { padding: 10px 14px; color: var(--faint); }
)";

// What came back stands at the end of a branch, and in its head as well, where it is seen when the branch is folded.
constexpr std::string_view kScript = R"(
'use strict';
const calls = [...document.querySelectorAll('[data-n]')], field = document.getElementById('search');
const count = document.getElementById('count'), bad = document.getElementById('bad');
for (const one of document.querySelectorAll('details')) {
  const end = one.querySelector(':scope > .end');
  if (end) one.querySelector('summary .back').textContent = ' ' + end.dataset.back;
}
const own = call => (call.matches('details') ? call.querySelector('summary') : call).textContent.toLowerCase();
const sift = () => {
  const words = field.value.toLowerCase().split(/\s+/).filter(word => word), all = !words.length && !bad.checked;
  let found = 0;
  for (const call of calls) call.classList.toggle('out', !all);
  for (const call of calls) {
    if (!(words.every(word => own(call).includes(word)) && (!bad.checked || call.dataset.bad))) continue;
    found++;
    for (let at = call; at && at.dataset; at = at.parentElement) { at.classList.remove('out'); if (!all && at !== call) at.open = true; }
  }
  count.textContent = all ? `${calls.length} calls` : `${found} of ${calls.length} calls`;
};
field.addEventListener('input', sift); bad.addEventListener('change', sift);
document.getElementById('fold').addEventListener('click', () => {
  const all = [...document.querySelectorAll('main > details details')], open = all.some(one => one.open);
  for (const one of all) one.open = !open;
});
document.addEventListener('keydown', event => { if (event.key === '/' && event.target !== field) { event.preventDefault(); field.focus(); } });
sift();
)";

class Page final : public session::CallsSink {
 public:
  explicit Page(Output& out) : out_(out) {}

  void begin(const session::CallsStart& start) override {
    const std::string name(base_name(start.program));
    begin_page(out_, name + ": calls", kStyle);
    out_.add(fmt::format(
        "<header><h1>{}</h1><span class=faint>calls</span><input id=search type=search placeholder=\"search\" "
        "aria-label=\"search\"><label><input id=bad type=checkbox> findings</label><button id=fold>fold, "
        "unfold</button>"
        "<span id=count class=faint></span></header>\n<main>\n",
        html(name)));
  }

  void entered(const CallRow& row) override {
    if (row.number > kMost) return;
    Thread& thread = threads_[{row.process, row.thread}];
    open_last(thread);
    thread.last = row.number;
    thread.head = head_of(row);
    thread.own = row.callee->own;
  }

  void over(const CallRow& row) override {
    if (row.number > kMost) return;
    Thread& thread = threads_[{row.process, row.thread}];
    std::string findings;
    for (const look::Finding& one : row.findings) findings += finding(one);
    const std::string back = html("→ " + call_end_words(style_, row));
    const std::string time = fmt::format(" <span class=t>{}</span>", call_cost_words(row));
    const std::string bad = row.findings.empty() ? "" : " data-bad=1";
    if (thread.last == row.number) {
      thread.text += fmt::format("<div class=\"leaf{}\" data-n={}{}>{} <span class=back>{}</span>{}{}</div>\n",
                                 thread.own ? "" : " other", row.number, bad, thread.head, back, time, findings);
    } else {
      thread.text +=
          fmt::format("<div class=end data-back=\"{}\">{}{}</div>{}</details>\n", back, back, time, findings);
    }
    thread.last = 0;
  }

  void end(const session::CallsSummary& summary) override {
    for (const auto& [who, thread] : threads_) {
      if (threads_.size() > 1)
        out_.add(fmt::format("<h2>{}thread {}</h2>\n",
                             threads_.rbegin()->first.first > 1 ? fmt::format("process {}, ", who.first) : "",
                             who.second));
      out_.add(thread.text);
    }
    out_.add("</main>\n<footer>");
    if (summary.rows > kMost) out_.add(fmt::format("the first {} of ", kMost));
    out_.add(fmt::format("{} call{}; times include the cost of tracing</footer>\n", summary.rows,
                         summary.rows == 1 ? "" : "s"));
    end_page(out_, kScript);
    out_.flush();
  }

 private:
  static constexpr std::uint64_t kMost = 20000;  ///< calls that a browser takes in good time

  struct Thread {
    std::string text;
    std::uint64_t last = 0;  ///< the call that began last, and has made none; 0: there is none
    std::string head;
    bool own = false;
  };

  static void open_last(Thread& thread) {
    if (thread.last == 0) return;
    thread.text += fmt::format("<details open data-n={}{}><summary>{}<span class=back></span></summary>\n", thread.last,
                               thread.own ? "" : " class=other", thread.head);
    thread.last = 0;
  }

  std::string head_of(const CallRow& row) const {
    std::string arguments;
    for (const std::string& one : call_argument_words(style_, row)) arguments += (arguments.empty() ? "" : ", ") + one;
    if (row.callee->inferred && !arguments.empty()) arguments = "takes (by its code) " + arguments;
    const std::string how = row.by == CallRow::By::indirect ? " (through a pointer)"
                            : row.by == CallRow::By::jump   ? " (by a jump)"
                                                            : "";
    return fmt::format("<span class=at title=\"{}\">{}</span><span class=f>{}</span>{} <span class=a>{}</span>",
                       html(row.from->where.place), html(call_from_words(style_, row)),
                       html(shown_name(style_, row.callee->function)), how, html(arguments));
  }

  static std::string finding(const look::Finding& one) {
    std::string text = fmt::format("<div class={0}>{0}: {1}</div>", one.note ? "note" : "wrong", html(one.text));
    for (const std::string& evidence : one.evidence) text += fmt::format("<div class=why>{}</div>", html(evidence));
    return text;
  }

  Output& out_;
  Style style_{.utf8 = true};
  std::map<std::pair<std::uint64_t, std::uint64_t>, Thread> threads_;  ///< by process and thread
};

}  // namespace

std::unique_ptr<session::CallsSink> calls_page(Output& out) { return std::make_unique<Page>(out); }

}  // namespace deeptrace::report
