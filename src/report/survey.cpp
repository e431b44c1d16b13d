#include "report/survey.h"

#include <fmt/format.h>

#include <algorithm>

#include "abi/signal_names.h"
#include "report/columns.h"
#include "report/convention_findings.h"
#include "report/file_words.h"
#include "report/names.h"

namespace deeptrace::report {
namespace {

using binary::Loading;
using study::ByteUse;
using study::Survey;
using study::SurveyedSection;

bool is_object(const Survey& survey) { return survey.program->elf().kind() == binary::Kind::relocatable; }

/// 12,345
std::string grouped(std::uint64_t value) {
  std::string digits = std::to_string(value);
  for (std::size_t at = digits.size(); at > 3; at -= 3) digits.insert(at - 3, ",");
  return digits;
}

std::string joined(const auto& words, std::string_view separator) {
  std::string result;
  for (const auto& word : words) {
    if (!result.empty()) result += separator;
    result += printable(std::string_view(word));
  }
  return result;
}

std::string entry_words(const Survey& s) {
  const std::uint64_t entry = s.program->elf().entry();
  if (entry == 0) return "none";
  return fmt::format("{:#x}{}", entry, s.entry_function.empty() ? "" : ", " + printable(s.entry_function));
}

std::string symbols_words(const Survey& s) {
  return fmt::format("{}{}", grouped(s.symbols), s.stripped ? ", stripped: only those for linking" : "");
}

std::string debug_words(const Survey& s) {
  if (s.debug_units == 0) return "none";
  std::vector<std::string> versions;
  for (const std::uint16_t version : s.debug_versions) versions.push_back(std::to_string(version));
  return fmt::format("DWARF {}, {} {}{}", joined(versions, " and "), grouped(s.debug_units),
                     s.debug_units == 1 ? "unit" : "units", s.program->lines().empty() ? ", without lines" : ", lines");
}

std::string_view relro_words(Loading::Relro relro) {
  constexpr std::string_view kWords[] = {"nothing (no RELRO)", "some of the linkage tables (partial RELRO)",
                                         "all linkage tables (full RELRO)"};
  return kWords[static_cast<std::size_t>(relro)];
}

std::string stack_words(const Survey& s) {
  if (!s.loading.says_stack) return "not said: the system decides";
  return s.loading.stack_executable ? "yes" : "no";
}

std::string_view yes(bool value) { return value ? "yes" : "no"; }

std::string signal_words(const study::SurveyedCore& core) {
  if (!core.signal) return "no signal is named";
  std::string text = abi::signal_name(core.signal->number);
  if (core.signal->fault_address_known) text += fmt::format("; it concerns address {:#x}", core.signal->fault_address);
  return text;
}

std::vector<std::pair<std::string_view, std::string>> core_facts(const Survey& s) {
  const study::SurveyedCore& core = *s.core;
  std::vector<std::pair<std::string_view, std::string>> result = {
      {"kind", fmt::format("{}, {}: {}", kind_words(s.program->elf().kind()), machine_words(*s.program),
                           core.signal ? "what a program left when it died" : "a program as it stood")},
      {"bytes", grouped(s.program->elf().file_size())},
      {"program", core.program.empty() ? "not said" : printable(core.program)},
      {"process", core.process == 0 ? "not said" : std::to_string(core.process)},
      {"ended by", signal_words(core)},
      {"threads", grouped(core.threads.size())},
  };
  for (const std::string& remark : core.remarks) result.emplace_back("note:", printable(remark));
  return result;
}

/// The lines of a survey: a name and a value for each.
std::vector<std::pair<std::string_view, std::string>> facts(const Survey& s) {
  const Loading& l = s.loading;
  if (s.core) return core_facts(s);
  std::vector<std::pair<std::string_view, std::string>> result = {
      {"kind", fmt::format("{}, {}", kind_words(s.program->elf().kind()), machine_words(*s.program))},
      {"bytes", grouped(s.program->elf().file_size())},
      {"entry", entry_words(s)},
      {"loader", l.interpreter.empty() ? "none" : printable(l.interpreter)},
      {"needs", l.needed.empty() ? "no library" : joined(l.needed, ", ")},
      {"functions", fmt::format("{}, {} own", grouped(s.functions), grouped(s.own_functions))},
      {"symbols", symbols_words(s)},
      {"debug information", debug_words(s)},
      {"compiled by", s.compilers.empty() ? "not said" : joined(s.compilers, "; ")},
      {"executable stack", stack_words(s)},
      {"stack protector",
       std::string(yes(s.stack_protection)) + (s.stack_protection ? "" : " (nothing in it calls the check)")},
      {"fortified library calls", std::string(yes(s.checked_calls))},
  };
  if (!is_object(s)) {
    const bool anywhere = s.program->elf().kind() != binary::Kind::executable;
    result.insert(result.begin() + 9, {{"loaded at", anywhere ? "any address" : "fixed addresses"},
                                       {"read-only after start", std::string(relro_words(l.relro))}});
  }
  result.emplace_back("branch targets marked (IBT)",
                      std::string(yes(l.branch_marks)) + (l.shadow_stack ? ", shadow stack too" : ""));
  for (const Loading::Versions& versions : l.versions)
    result.emplace_back("versions needed", printable(versions.library) + ": " + joined(versions.names, ", "));
  if (!l.soname.empty()) result.emplace_back("library name", printable(l.soname));
  if (!l.runpath.empty()) result.emplace_back("run path", printable(l.runpath));
  if (!l.build_id.empty()) result.emplace_back("build id", l.build_id);
  return result;
}

std::string access_letters(bool readable, bool writable, bool executable) {
  return std::string(readable ? "r" : "-") + (writable ? "w" : "-") + (executable ? "x" : "-");
}
std::string access_letters(std::uint64_t flags) {
  return access_letters((flags & binary::kAllocated) != 0, (flags & binary::kWritable) != 0,
                        (flags & binary::kExecutable) != 0);
}
std::string access_letters(const state::Mapping& mapping) {
  return access_letters(mapping.readable, mapping.writable, mapping.executable);
}

class Text {
 public:
  Text(Output& out, const Style& style) : out_(out), style_(style) {}

  void one(const Survey& s) {
    heading(printable(s.program->elf().path()));
    const auto all = facts(s);
    std::size_t widest = 0;
    for (const auto& [name, value] : all) widest = std::max(widest, name.size());
    for (const auto& [name, value] : all) line(fmt::format("  {:<{}}  {}", name, widest, value));
    bytes(s);
    if (s.core) {
      threads(*s.core);
      memory(*s.core);
      return;
    }
    sections(s);
    functions(s);
  }

  /// More files than columns have room for: a row each.
  void many(std::span<const Survey> files) {
    std::vector<std::vector<std::string>> rows = {{"file", "bytes", "code", "data", "symbols", "debug", "functions"}};
    using enum ByteUse;
    for (const Survey& s : files) {
      const auto use = [&s](ByteUse which) { return s.bytes[static_cast<std::size_t>(which)]; };
      rows.push_back({printable(s.program->elf().path()), grouped(s.program->elf().file_size()), grouped(use(code)),
                      grouped(use(data) + use(read_only_data)), grouped(use(symbols)), grouped(use(debug)),
                      grouped(s.functions)});
    }
    table(rows, true);
  }

  void several(std::span<const Survey> files) {
    std::vector<std::string> paths;
    for (const Survey& s : files) paths.push_back(printable(s.program->elf().path()));
    std::vector<std::vector<std::string>> rows = {{""}};
    rows[0].insert(rows[0].end(), paths.begin(), paths.end());
    add_facts(files, rows);
    table(rows, false);
    line("");
    rows = {{"where the bytes went"}};
    rows[0].insert(rows[0].end(), paths.begin(), paths.end());
    for (std::size_t use = 0; use < study::kByteUses; ++use) {
      std::vector<std::string> row = {"  " + std::string(study::name_of(static_cast<ByteUse>(use)))};
      for (const Survey& s : files) row.push_back(grouped(s.bytes[use]));
      if (std::ranges::any_of(files, [use](const Survey& s) { return s.bytes[use] != 0; })) rows.push_back(row);
    }
    table(rows, true);
    line("");
    rows = {{"sections, bytes loaded"}};
    rows[0].insert(rows[0].end(), paths.begin(), paths.end());
    for (const std::string_view name : section_names(files)) {
      std::vector<std::string> row = {"  " + printable(name)};
      for (const Survey& s : files) row.push_back(size_of(s, name));
      rows.push_back(row);
    }
    table(rows, true);
  }

 private:
  void line(std::string_view text) { add_line(out_, style_, text.substr(0, text.find_last_not_of(' ') + 1)); }
  void heading(std::string_view text) { line(look(style_, Role::heading, text)); }

  static void add_facts(std::span<const Survey> files, std::vector<std::vector<std::string>>& rows) {
    std::vector<std::string_view> names;
    for (const Survey& s : files) {
      for (const auto& [name, value] : facts(s)) {
        if (std::ranges::find(names, name) == names.end()) names.push_back(name);
      }
    }
    for (const std::string_view name : names) {
      std::vector<std::string> row = {"  " + std::string(name)};
      for (const Survey& s : files) {
        const auto all = facts(s);
        const auto found = std::ranges::find(all, name, [](const auto& fact) { return fact.first; });
        row.push_back(found == all.end() ? "-" : found->second);
      }
      rows.push_back(row);
    }
  }

  static std::vector<std::string_view> section_names(std::span<const Survey> files) {
    std::vector<std::string_view> names;
    for (const Survey& s : files) {
      for (const SurveyedSection& section : s.sections) {
        if (std::ranges::find(names, section.name) == names.end()) names.push_back(section.name);
      }
    }
    return names;
  }

  static std::string size_of(const Survey& s, std::string_view name) {
    std::uint64_t size = 0;
    bool any = false;
    for (const SurveyedSection& section : s.sections) {
      if (section.name != name) continue;
      size += section.size;
      any = true;
    }
    return any ? grouped(size) : "-";
  }

  /// Columns as wide as their widest cell; the first row is the heading.
  void table(const std::vector<std::vector<std::string>>& rows, bool numbers) {
    std::vector<std::size_t> widths(rows[0].size());
    for (const auto& row : rows) {
      for (std::size_t i = 0; i < row.size(); ++i) widths[i] = std::max(widths[i], row[i].size());
    }
    for (std::size_t i = 0; i < rows.size(); ++i) {
      std::string text;
      for (std::size_t k = 0; k < rows[i].size(); ++k) {
        const bool right = numbers && k > 0;
        text += right ? fmt::format("   {:>{}}", rows[i][k], widths[k])
                      : fmt::format("{}{:<{}}", k > 0 ? "   " : "", rows[i][k], widths[k]);
      }
      while (!text.empty() && text.back() == ' ') text.pop_back();
      line(i == 0 ? look(style_, Role::heading, text) : text);
    }
  }

  void bytes(const Survey& s) {
    line("");
    heading("where the bytes went");
    const std::uint64_t total = std::max<std::uint64_t>(s.program->elf().file_size(), 1);
    for (std::size_t use = 0; use < study::kByteUses; ++use) {
      if (s.bytes[use] == 0) continue;
      const double share = static_cast<double>(s.bytes[use]) / static_cast<double>(total);
      std::string bar;
      for (unsigned i = 0; i < static_cast<unsigned>(share * 40 + 0.5); ++i) bar += style_.utf8 ? "\u2588" : "#";
      line(fmt::format("  {:<15} {:>14}  {:>5.1f}%  {}", study::name_of(static_cast<ByteUse>(use)),
                       grouped(s.bytes[use]), 100 * share, look(style_, Role::faint, bar)));
    }
  }

  void sections(const Survey& s) {
    line("");
    heading(fmt::format("  {:<22} {:>14} {:>14}  {:<6}  {}", "section", is_object(s) ? "" : "address", "bytes",
                        "access", "role"));
    for (const SurveyedSection& section : s.sections) {
      line(fmt::format("  {:<22} {:>14} {:>14}  {:<6}  {}", printable(section.name),
                       section.address == 0 ? "" : fmt::format("{:#x}", section.address), grouped(section.size),
                       access_letters(section.flags), section.role));
    }
  }

  void threads(const study::SurveyedCore& core) {
    line("");
    heading("  thread      task  stands at");
    for (const study::SurveyedCore::Thread& thread : core.threads) {
      std::string text = fmt::format("  {:>6} {:>9}  {:#x}", thread.number, thread.id, thread.address);
      if (!thread.place.empty()) text += "  " + printable(thread.place);
      if (thread.id == core.signalled) text = look(style_, Role::broken, text + "   the signal was for it");
      line(text);
    }
  }

  void memory(const study::SurveyedCore& core) {
    line("");
    heading(fmt::format("  {:<33} {:>14} {:>14}  {:<6}  {}", "memory", "bytes", "saved", "access", "what"));
    for (const auto& [mapping, saved] : core.memory) {
      line(fmt::format("  {:<33} {:>14} {:>14}  {:<6}  {}", fmt::format("{:#x}..{:#x}", mapping.from, mapping.to),
                       grouped(mapping.to - mapping.from), grouped(saved), access_letters(mapping),
                       printable(mapping.path)));
    }
  }

  void functions(const Survey& s) {
    if (s.largest.empty()) return;
    line("");
    heading("  largest functions");
    for (const study::SurveyedFunction& function : s.largest)
      line(fmt::format("  {:>10}  {}", grouped(function.size), shown_heading(style_, function.name)));
    if (s.largest_units.size() < 2) return;
    line("");
    heading("  largest compile units, by bytes of code");
    for (const study::SurveyedFunction& unit : s.largest_units)
      line(fmt::format("  {:>10}  {}", grouped(unit.size), printable(unit.name)));
  }

  Output& out_;
  const Style& style_;
};

void core_json(JsonWriter& json, const study::SurveyedCore& core) {
  json.begin_object();
  json.key("program").string_or_null(core.program);
  json.key("process").number(static_cast<std::uint64_t>(core.process));
  json.key("signal");
  core.signal ? json.string(abi::signal_name(core.signal->number)) : json.null();
  json.key("fault_address");
  core.signal&& core.signal->fault_address_known ? json.hex(core.signal->fault_address) : json.null();
  json.key("threads").begin_array();
  for (const study::SurveyedCore::Thread& thread : core.threads) {
    json.begin_object();
    json.key("number").number(thread.number);
    json.key("task").number(static_cast<std::uint64_t>(thread.id));
    json.key("address").hex(thread.address);
    json.key("place").string_or_null(thread.place);
    json.key("signalled").boolean(thread.id == core.signalled);
    json.end();
  }
  json.end();
  json.key("memory").begin_array();
  for (const auto& [mapping, saved] : core.memory) {
    json.new_line();
    json.begin_object();
    json.key("from").hex(mapping.from);
    json.key("to").hex(mapping.to);
    json.key("saved").number(saved);
    json.key("access").string(access_letters(mapping));
    json.key("file").string_or_null(mapping.path);
    json.key("offset").number(mapping.offset);
    json.end();
  }
  json.end();
  json.key("notes").begin_array();
  for (const std::string& remark : core.remarks) json.string(remark);
  json.end();
  json.end();
}

constexpr Column<SurveyedSection> kSectionColumns[] = {
    {"name", [](const SurveyedSection& section) { return Cell::string(section.name); }, Forms::json},
    {"section", [](const SurveyedSection& section) { return Cell::string(section.name); }, Forms::csv},
    {"address", [](const SurveyedSection& section) { return Cell::address(section.address); }},
    {"size", [](const SurveyedSection& section) { return Cell::number(section.size); }},
    {"in_file", [](const SurveyedSection& section) { return Cell::number(section.in_file); }},
    {"flags", [](const SurveyedSection& section) { return Cell::string(access_letters(section.flags)); }},
    {"use", [](const SurveyedSection& section) { return Cell::string(study::name_of(section.use)); }, Forms::csv},
    {"role", [](const SurveyedSection& section) { return Cell::string(section.role); }},
};

void file_json(JsonWriter& json, const Survey& s) {
  const Loading& l = s.loading;
  const binary::Elf& elf = s.program->elf();
  json.begin_object();
  json.key("file").string(elf.path());
  json.key("format").string(elf.wide() ? "ELF64, little-endian" : "ELF32, little-endian");
  json.key("machine").string(machine_words(*s.program));
  json.key("kind").string(kind_words(elf.kind()));
  json.key("size").number(elf.file_size());
  json.key("entry");
  if (elf.entry() == 0) {
    json.null();
  } else {
    json.begin_object();
    json.key("address").hex(elf.entry());
    json.key("function").string_or_null(s.entry_function);
    json.end();
  }
  json.key("interpreter").string_or_null(l.interpreter);
  json.key("needed").begin_array();
  for (const std::string_view name : l.needed) json.string(name);
  json.end();
  json.key("versions_needed").begin_array();
  for (const Loading::Versions& versions : l.versions) {
    json.begin_object();
    json.key("library").string(versions.library);
    json.key("versions").begin_array();
    for (const std::string_view name : versions.names) json.string(name);
    json.end();
    json.end();
  }
  json.end();
  json.key("core");
  s.core ? core_json(json, *s.core) : (void)json.null();
  json.key("library_name").string_or_null(l.soname);
  json.key("build_id").string_or_null(l.build_id);
  json.key("stripped").boolean(s.stripped);
  json.key("symbols").number(s.symbols);
  json.key("function_count").number(s.functions);
  json.key("own_function_count").number(s.own_functions);
  json.key("debug").begin_object();
  json.key("dwarf");
  s.debug_versions.empty() ? json.null() : json.number(s.debug_versions.back());
  json.key("units").number(s.debug_units);
  json.key("lines").boolean(!s.program->lines().empty());
  json.key("compilers").begin_array();
  for (const std::string& compiler : s.compilers) json.string(compiler);
  json.end();
  json.end();
  constexpr std::string_view kRelro[] = {"none", "partial", "full"};
  json.key("hardening").begin_object();
  json.key("position_independent").boolean(elf.kind() != binary::Kind::executable && !is_object(s));
  json.key("relro").string(kRelro[static_cast<std::size_t>(l.relro)]);
  json.key("executable_stack");
  l.says_stack ? json.boolean(l.stack_executable) : json.null();
  json.key("stack_protection").boolean(s.stack_protection);
  json.key("checking_calls").boolean(s.checked_calls);
  json.key("branch_marks").boolean(l.branch_marks);
  json.key("shadow_stack").boolean(l.shadow_stack);
  json.end();
  json.key("bytes").begin_object();
  for (std::size_t use = 0; use < study::kByteUses; ++use) {
    std::string name(study::name_of(static_cast<ByteUse>(use)));
    std::ranges::replace(name, ' ', '_');
    std::ranges::replace(name, '-', '_');
    json.key(name).number(s.bytes[use]);
  }
  json.end();
  json.key("sections").begin_array();
  for (const SurveyedSection& section : s.sections) {
    json.new_line();
    json.begin_object();
    put_members<SurveyedSection>(json, kSectionColumns, section);
    json.end();
  }
  json.end();
  json.key("largest_functions").begin_array();
  for (const study::SurveyedFunction& function : s.largest) {
    json.begin_object();
    json.key("name").string(function.name);
    json.key("address").hex(function.address);
    json.key("size").number(function.size);
    json.end();
  }
  json.end();
  json.key("largest_units").begin_array();
  for (const study::SurveyedFunction& unit : s.largest_units) {
    json.begin_object();
    json.key("name").string(unit.name);
    json.key("size").number(unit.size);
    json.end();
  }
  json.end();
  if (s.checked) convention_findings_json(json, *s.checked);
  json.end();
}

}  // namespace

void survey_text(Output& out, const Style& style, std::span<const Survey> files) {
  Text text(out, style);
  constexpr std::size_t kMostColumns = 5;
  if (files.size() == 1) {
    text.one(files[0]);
  } else {
    files.size() <= kMostColumns ? text.several(files) : text.many(files);
  }
  for (const Survey& one : files) convention_findings_text(out, style, one, files.size() > 1);
}

void survey_json(Output& out, std::span<const Survey> files) {
  JsonWriter json(out);
  json.begin_object();
  json.key("deeptrace").number(1);
  json.key("command").string("survey");
  json.key("files").begin_array();
  for (const Survey& s : files) file_json(json, s);
  json.close_all();
}

void survey_csv(Output& out, std::span<const Survey> files) {
  CsvWriter csv(out);
  csv.cell("file");
  put_heads<SurveyedSection>(csv, kSectionColumns);
  csv.end_row();
  for (const Survey& s : files) {
    for (const SurveyedSection& section : s.sections) {
      csv.cell(s.program->elf().path());
      put_cells<SurveyedSection>(csv, kSectionColumns, section);
      csv.end_row();
    }
  }
}

}  // namespace deeptrace::report
