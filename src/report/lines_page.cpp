#include "report/lines_page.h"

#include <fmt/format.h>

#include <cmath>
#include <filesystem>
#include <map>

#include "report/file_words.h"
#include "report/html.h"
#include "report/source_words.h"

namespace deeptrace::report {
namespace {

constexpr std::string_view kStyle = R"(
main { display: grid; grid-template-columns: minmax(0, 1fr) minmax(0, 1fr); height: calc(100vh - 47px); }
section { overflow: auto; padding: 0 0 40vh; } #source { order: 1; border-right: 1px solid var(--line); } #code { order: 2; }
h2 { position: sticky; top: 0; background: var(--panel); border-bottom: 1px solid var(--line); padding: 4px 14px; z-index: 1;
  display: flex; gap: 14px; justify-content: space-between; }
.r { display: flex; white-space: pre; padding-right: 14px; border-left: 3px solid transparent; scroll-margin: 40vh; }
.r[data-l] { cursor: pointer; }
#source .r[data-l] { background: rgb(var(--tint) / var(--w)); }
.r > .n { flex: none; width: 5.5em; text-align: right; padding-right: 1.2em; color: var(--faint); user-select: none; }
#code .r > .n { width: 8em; } .r > .b { flex: none; width: 15em; color: var(--faint); overflow: hidden; text-overflow: ellipsis; }
.r.on { background: var(--pick) !important; border-left-color: var(--amber); }
.r.kept { outline: 1px solid var(--amber); outline-offset: -1px; }
.scale { display: inline-block; width: 90px; height: 10px; border: 1px solid var(--line); vertical-align: middle;
  background: linear-gradient(to right, rgb(var(--tint) / .08), rgb(var(--tint) / .5)); }
)";

// Keys of lines are "file:line" by the page's own numbers. The picked line stands in the address, so that it can be
// sent to somebody.
constexpr std::string_view kScript = R"(
'use strict';
const rows = new Map();
for (const row of document.querySelectorAll('.r[data-l]')) {
  const key = row.dataset.l;
  if (!rows.has(key)) rows.set(key, []);
  rows.get(key).push(row);
}
let lit = null, kept = null;
const mark = (key, name, value) => { for (const row of rows.get(key) || []) row.classList.toggle(name, value); };
const light = key => { if (lit === key) return; if (lit && lit !== kept) mark(lit, 'on', false); lit = key; if (key) mark(key, 'on', true); };
const show = (key, from) => {
  const other = (rows.get(key) || []).filter(row => !from || row.closest('section') !== from.closest('section'));
  for (const pane of ['source', 'code']) {
    const row = other.find(row => row.closest('section').id === pane);
    if (row) row.scrollIntoView({ block: 'center' });
  }
};
const keep = (key, from) => {
  if (kept) { mark(kept, 'kept', false); mark(kept, 'on', false); }
  kept = key;
  if (!key) return;
  mark(key, 'kept', true); mark(key, 'on', true); show(key, from);
};
document.addEventListener('mouseover', event => { const row = event.target.closest('.r[data-l]'); light(row ? row.dataset.l : null); });
document.addEventListener('click', event => {
  const row = event.target.closest('.r[data-l]');
  if (!row || event.target.closest('a')) return;
  keep(row.dataset.l, row);
  const source = (rows.get(row.dataset.l) || []).find(one => one.id);
  if (source) history.replaceState(null, '', '#' + source.id);
});
const follow = () => {
  const target = document.getElementById(decodeURIComponent(location.hash.slice(1)));
  if (!target) return;
  if (target.dataset.l) keep(target.dataset.l, null); else target.scrollIntoView();
};
addEventListener('hashchange', follow);
follow();
const box = document.getElementById('search'), count = document.getElementById('count');
let found = [], at = -1;
const search = () => {
  const text = box.value.toLowerCase();
  found = text === '' ? [] : [...document.querySelectorAll('.r, h2')].filter(row => row.textContent.toLowerCase().includes(text));
  at = -1;
  count.textContent = text === '' ? '' : found.length + ' found';
};
box.addEventListener('input', search);
box.addEventListener('keydown', event => {
  if (event.key !== 'Enter' || found.length === 0) return;
  at = (at + (event.shiftKey ? found.length - 1 : 1)) % found.length;
  const row = found[at];
  row.scrollIntoView({ block: 'center' });
  count.textContent = (at + 1) + ' of ' + found.length;
  if (row.dataset.l) keep(row.dataset.l, row);
});
)";

class Page : public study::ListingSink {
 public:
  Page(Output& out, const program::Program& program, program::SourceText& sources)
      : out_(out), program_(program), sources_(sources) {}

  void begin(const study::ListedFile& file) override {
    const std::string name = std::filesystem::path(program_.elf().path()).filename().string();
    begin_page(out_, name + ": lines and instructions", kStyle);
    out_.add(fmt::format(
        "<header><h1>{}</h1><span class=faint>{}, {}, {} function{}</span>"
        "<input id=search type=search placeholder=\"search\" aria-label=\"search\"><span id=count class=faint></span>"
        "<span class=faint>fewer <span class=scale></span> more bytes for a line</span></header>\n<main><section "
        "id=code>\n",
        html(name), kind_words(program_.elf().kind()), machine_words(program_), file.functions,
        file.functions == 1 ? "" : "s"));
  }

  void begin_function(const study::ListedFunction& function) override {
    out_.add(fmt::format("<h2 id=\"fn-{}\"><a href=\"#fn-{}\">{}</a><span class=faint>{:#x}, {} bytes</span></h2>\n",
                         html(anchor(function.name)), html(anchor(function.name)), html(function.name),
                         function.address, function.size));
  }

  void instruction(const study::ListedInstruction& row) override {
    std::string key;
    if (row.line != 0) {
      const std::uint32_t file = number_of(row.file);
      key = fmt::format(" data-l=\"{}:{}\"", file, row.line);
      bytes_[{file, row.line}] += row.bytes.size();
    }
    std::string bytes;
    for (const std::uint8_t byte : row.bytes) bytes += fmt::format("{:02x} ", byte);
    out_.add(fmt::format(
        "<div class=r{}><span class=n>{:#x}</span><span class=b>{}</span><span>{}{}</span></div>\n", key, row.address,
        bytes, row.content == study::Content::string ? "\"" + html(row.text) + "\"" : html(row.text), reference(row)));
  }

  void end_function() override {}

  void end() override {
    out_.add("</section><section id=source>\n");
    std::uint64_t most = 1;
    for (const auto& [key, bytes] : bytes_) most = std::max(most, bytes);
    for (std::uint32_t file = 0; file < files_.size(); ++file) source(file, most);
    out_.add("</section></main>\n");
    end_page(out_, kScript);
  }

 private:
  /// Spaces would end a link's target.
  static std::string anchor(std::string_view name) {
    std::string result(name);
    for (char& c : result) {
      if (c == ' ') c = '_';
    }
    return result;
  }

  static std::string reference(const study::ListedInstruction& row) {
    if (!row.target_text.empty()) return "   <span class=ref>→ \"" + html(row.target_text) + "\"</span>";
    if (row.target_name.empty()) return {};
    return "   <span class=ref>→ " + html(row.target_name) + "</span>";
  }

  std::uint32_t number_of(std::string_view file) {
    const auto [place, added] = numbers_.try_emplace(std::string(file), static_cast<std::uint32_t>(files_.size()));
    if (added) files_.push_back(place->first);
    return place->second;
  }

  void source(std::uint32_t file, std::uint64_t most) {
    const std::string& path = files_[file];
    std::string note;
    if (!sources_.found(path)) {
      note = "not found: only the lines with instructions are shown";
    } else if (changed_since(path, program_.elf().path())) {
      note = "changed after the program was built: lines may have moved";
    }
    out_.add(fmt::format("<h2 id=\"f{}\"><a href=\"#f{}\">{}</a><span class=note>{}</span></h2>\n", file, file,
                         html(path), note));
    // Of the system's own headers only what was used is of interest.
    if (sources_.found(path) && !program::in_system_sources(path)) {
      for (std::uint32_t line = 1;; ++line) {
        const auto text = sources_.line(path, line);
        if (!text) break;
        source_line(file, line, *text, most);
      }
      return;
    }
    for (auto at = bytes_.lower_bound({file, 0}); at != bytes_.end() && at->first.first == file; ++at)
      source_line(file, at->first.second, sources_.line(path, at->first.second).value_or(""), most);
  }

  void source_line(std::uint32_t file, std::uint32_t line, std::string_view text, std::uint64_t most) {
    const auto found = bytes_.find({file, line});
    std::string key, title;
    if (found != bytes_.end()) {
      // The square root lets small lines be told apart beside a large one.
      const double share = std::sqrt(static_cast<double>(found->second) / static_cast<double>(most));
      key = fmt::format(" data-l=\"{}:{}\" style=\"--w:{:.2f}\" title=\"{} bytes of instructions\"", file, line,
                        0.08 + 0.42 * share, found->second);
    }
    std::string spaces;
    for (const char c : text) spaces += c == '\t' ? std::string("    ") : std::string(1, c);
    out_.add(fmt::format("<div class=r id=\"l{}-{}\"{}><a class=n href=\"#l{}-{}\">{}</a><span>{}</span></div>\n", file,
                         line, key, file, line, line, html(spaces)));
  }

  Output& out_;
  const program::Program& program_;
  program::SourceText& sources_;
  std::map<std::string, std::uint32_t> numbers_;
  std::vector<std::string> files_;
  std::map<std::pair<std::uint32_t, std::uint32_t>, std::uint64_t> bytes_;  ///< by file and line
};

}  // namespace

std::unique_ptr<study::ListingSink> lines_page(Output& out, const program::Program& program,
                                               program::SourceText& sources) {
  return std::make_unique<Page>(out, program, sources);
}

}  // namespace deeptrace::report
