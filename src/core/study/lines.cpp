#include "study/lines.h"

#include <algorithm>
#include <map>
#include <set>

#include "base/number.h"
#include "base/similar_names.h"
#include "program/instances.h"
#include "program/line_entries.h"
#include "program/location.h"
#include "study/listing.h"

namespace deeptrace::study {
namespace {

using program::Program;

/// Keeps the instructions of a range.
class Collector : public ListingSink {
 public:
  explicit Collector(std::vector<LineInstruction>& into) : into_(into) {}
  void begin(const ListedFile& /*file*/) override {}
  void begin_function(const ListedFunction& /*function*/) override {}
  void instruction(const ListedInstruction& row) override {
    into_.push_back({row.address, std::string(row.text), std::string(row.target_name)});
  }
  void end_function() override {}
  void end() override {}

 private:
  std::vector<LineInstruction>& into_;
};

class Work {
 public:
  Work(const Program& program, const LinesRequest& request, bool all)
      : program_(program), request_(request), all_(all), inlining_(program) {}

  Result<std::size_t> run(LinesSink& sink) {
    const std::string& path = program_.elf().path();
    if (program_.lines().empty()) return Error{Fault::input, path + ": has no line tables; compile it with -g"};
    if (auto error = choose_files()) return *error;
    collect();
    add_empty_lines();
    add_places();
    sink.begin(program_, entries_.size());
    std::size_t found = 0;
    ListingRequest listing;
    listing.syntax = request_.syntax;
    const ListingPlan plan{&program_, listing, {}};
    PieceLister lister(plan);
    for (auto& [key, entry] : entries_) {
      for (LineRange& range : entry.ranges) {
        if (request_.from == 0) break;
        Collector collector(range.code);
        lister.list({program_.function_at(range.start), {range.start, range.start + range.range.size()}}, collector);
      }
      if (request_.from != 0) add_entered(entry);
      found += entry.ranges.empty() ? 0 : 1;
      sink.line(entry);
    }
    sink.end();
    return found;
  }

 private:
  std::optional<Error> choose_files() {
    const auto& files = program_.lines().files();
    wanted_.assign(files.size(), false);
    if (request_.source.empty()) {
      for (std::size_t i = 0; i < files.size(); ++i) wanted_[i] = all_ || program_.is_own_source(files[i]);
      return std::nullopt;
    }
    const std::vector<std::uint32_t> found = program::source_files_named(program_, request_.source);
    for (const std::uint32_t file : found) wanted_[file] = true;
    if (!found.empty()) return std::nullopt;
    const program::Instances instances = program::instances_of(program_, request_.source);
    if (!instances.ambiguous.empty()) return Error{Fault::usage, request_.source + ": " + instances.ambiguous};
    if (request_.from == 0 && !instances.empty()) {
      for (const auto* list : {&instances.functions, &instances.clones}) {
        for (const program::Function* function : *list) code_.push_back(function->range());
      }
      for (const debuginfo::InlinedCopy& copy : instances.inlined)
        code_.insert(code_.end(), copy.ranges.begin(), copy.ranges.end());
      wanted_.assign(files.size(), true);
      return std::nullopt;
    }
    std::set<std::string> names;
    for (const std::string& file : files) names.insert(file.substr(file.rfind('/') + 1));
    std::string message = request_.source + ": no source file or function of that name in " + program_.elf().path();
    message += similar_words(similar_names(names, request_.source));
    return Error{Fault::usage, message};
  }

  [[nodiscard]] bool in_code(std::uint64_t address) const {
    return code_.empty() || std::ranges::any_of(code_, [=](const AddressRange& range) { return range.holds(address); });
  }
  [[nodiscard]] bool in_request(std::uint32_t line) const {
    return request_.from == 0 || (line >= request_.from && line <= request_.to);
  }

  void collect() {
    program_.lines().each_run([this](std::span<const debuginfo::LineRow> rows) { collect(rows); });
  }

  void collect(std::span<const debuginfo::LineRow> rows) {
    for (std::size_t i = 0; i + 1 < rows.size(); ++i) {
      const debuginfo::LineRow& row = rows[i];
      if (row.ends || row.line == 0) continue;
      if (row.file >= wanted_.size() || !wanted_[row.file]) continue;  // a damaged table names no file
      if (!in_code(row.address)) continue;
      if (rows[i + 1].address == row.address) {
        if (request_.from != 0 && in_request(row.line)) passed_[{row.file, row.line}].insert(row.address);
        continue;
      }
      lines_with_code_[row.file].insert(row.line);
      if (!in_request(row.line)) continue;
      LineEntry& entry = entries_[{program_.lines().files()[row.file], row.line}];
      entry.file = program_.lines().files()[row.file];
      entry.line = row.line;
      // A compiler marks the statement and goes on in its midst at the same address.
      debuginfo::LineRow start = row;
      for (std::size_t k = i; k-- > 0 && rows[k].address == row.address;) {
        if (rows[k].ends || rows[k].line != row.line || rows[k].file != row.file) continue;
        start.statement |= rows[k].statement;
        start.prologue_end |= rows[k].prologue_end;
      }
      add(entry, {row.address, rows[i + 1].address}, start);
    }
  }

  /// Ranges that touch are one, as long as they stand in the same inlined calls.
  void add(LineEntry& entry, AddressRange range, const debuginfo::LineRow& row) {
    const program::Function* function = program_.function_at(range.from);
    const std::size_t instructions = count(range);
    entry.instructions += instructions;
    entry.bytes += range.size();
    std::vector<program::Inlined> inlined = inlining_.at(range.from);
    const std::uint64_t from = program_.elf().section_offset(range.from);
    if (!entry.ranges.empty()) {
      LineRange& last = entry.ranges.back();
      const bool same = last.start + last.range.size() == range.from && last.inlined == inlined &&
                        function != nullptr && last.function == function->name;
      if (same) {
        last.range.to += range.size();
        last.instructions += instructions;
        return;
      }
    }
    LineRange added;
    added.range = {from, from + range.size()};
    added.start = range.from;
    if (const binary::Section* section = program_.elf().section_at(range.from)) added.section = section->name;
    if (function != nullptr) added.function = function->name;
    added.instructions = instructions;
    added.statement = row.statement;
    added.prologue_end = row.prologue_end;
    added.inlined = std::move(inlined);
    entry.ranges.push_back(std::move(added));
  }

  [[nodiscard]] std::size_t count(AddressRange range) const {
    const Bytes code = program_.elf().bytes_at(range.from);
    const std::uint64_t size = std::min<std::uint64_t>(range.size(), code.size());
    std::size_t result = 0;
    for (std::uint64_t at = 0; at < size; ++result)
      at += std::max<unsigned>(isa::decode(code.subspan(at, size - at), program_.mode()).length, 1);
    return result;
  }

  /// Lines that were asked for and have no instructions.
  void add_empty_lines() {
    if (request_.from == 0) return;
    constexpr std::uint32_t kMost = 100000;
    const std::uint32_t to = std::min(request_.to, request_.from + kMost);
    for (std::size_t file = 0; file < wanted_.size(); ++file) {
      if (!wanted_[file]) continue;
      const std::set<std::uint32_t>& known = lines_with_code_[static_cast<std::uint32_t>(file)];
      const std::string_view path = program_.lines().files()[file];
      for (std::uint32_t line = request_.from; line <= to; ++line) {
        LineEntry& entry = entries_[{path, line}];
        if (!entry.ranges.empty()) continue;
        entry.file = path;
        entry.line = line;
        const auto next = known.lower_bound(line);
        if (next != known.end()) {
          entry.nearest = *next;
        } else if (!known.empty()) {
          entry.nearest = *known.rbegin();
        }
      }
    }
    // The same path may stand in several tables, some of them without lines.
    std::erase_if(entries_, [&](const auto& item) {
      const auto& entry = item.second;
      return entry.ranges.empty() && entry.nearest == 0 && has_code_elsewhere(entry.line);
    });
  }

  /// Where lines without instructions begin.
  void add_places() {
    for (const auto& [key, addresses] : passed_) {
      const auto entry = entries_.find({program_.lines().files()[key.first], key.second});
      if (entry == entries_.end() || !entry->second.ranges.empty()) continue;
      for (const std::uint64_t address : addresses) {
        const program::Function* function = program_.function_at(address);
        const auto line = program_.lines().at(address);
        entry->second.places.push_back({program_.elf().section_offset(address),
                                        function != nullptr ? function->name.str() : std::string_view{},
                                        line ? line->line : 0});
      }
    }
  }

  void add_entered(LineEntry& entry) {
    for (const LineRange& range : entry.ranges) {
      for (const program::LineEntry& one : line_entries_.around(range.start)) {
        const bool here = one.line.line == entry.line && program_.source_path(one.line) == entry.file;
        if (here) entry.entered.push_back(program_.elf().section_offset(one.address));
      }
    }
    std::ranges::sort(entry.entered);
    entry.entered.erase(std::unique(entry.entered.begin(), entry.entered.end()), entry.entered.end());
  }

  [[nodiscard]] bool has_code_elsewhere(std::uint32_t line) const {
    return std::ranges::any_of(entries_, [line](const auto& item) {
      return item.second.line == line && (!item.second.ranges.empty() || item.second.nearest != 0);
    });
  }

  const Program& program_;
  const LinesRequest& request_;
  bool all_;
  program::Inlining inlining_;
  program::CodeScan scan_{program_};
  program::LineEntries line_entries_{program_, inlining_.scopes(), scan_};
  std::vector<bool> wanted_;        ///< by number of the file
  std::vector<AddressRange> code_;  ///< of the function that was asked for; empty: any
  std::map<std::uint32_t, std::set<std::uint32_t>> lines_with_code_;
  std::map<std::pair<std::string_view, std::uint32_t>, LineEntry> entries_;
  /// By file and line: where rows begin that others follow at the same address.
  std::map<std::pair<std::uint32_t, std::uint32_t>, std::set<std::uint64_t>> passed_;
};

}  // namespace

Result<LinesRequest> LinesRequest::parse(std::string_view text) {
  LinesRequest request;
  request.source = text;
  const std::size_t colon = text.rfind(':');
  if (colon == std::string_view::npos || colon + 1 == text.size()) return request;
  const std::string_view numbers = text.substr(colon + 1);
  const std::size_t dots = numbers.find("..");
  const auto from = number_in(numbers.substr(0, dots));
  const auto to = dots == std::string_view::npos ? from : number_in(numbers.substr(dots + 2));
  if (!from || !to) return request;
  constexpr std::uint64_t kMost = 0xffffffff;
  if (*from == 0 || *from > *to || *to > kMost || colon == 0)
    return Error{Fault::usage, std::string(text) + ": lines are written as tidelog.c:12 or tidelog.c:12..20"};
  request.source = text.substr(0, colon);
  request.from = static_cast<std::uint32_t>(*from);
  request.to = static_cast<std::uint32_t>(*to);
  return request;
}

Result<std::size_t> list_lines(const Program& program, const LinesRequest& request, bool all, LinesSink& sink) {
  return Work(program, request, all).run(sink);
}

Result<std::vector<AddressOrigin>> origins_of(const Program& program, program::Inlining& inlining,
                                              std::string_view location) {
  Result<std::vector<std::uint64_t>> addresses = program::addresses_of(program, location);
  if (!addresses) return addresses.error();
  std::vector<AddressOrigin> result;
  for (const std::uint64_t address : *addresses) {
    AddressOrigin origin;
    origin.address = program.elf().section_offset(address);
    origin.instruction = origin.address;
    if (const program::Function* function = program.function_at(address)) {
      origin.function = function->name;
      origin.offset = address - function->address;
      // Where the instruction begins that the address lies in.
      const Bytes code = program.elf().bytes_at(function->address);
      std::uint64_t at = 0, start = 0;
      while (at <= origin.offset && at < code.size()) {
        start = at;
        at += std::max<unsigned>(isa::decode(code.subspan(at), program.mode()).length, 1);
      }
      origin.starts_instruction = start == origin.offset;
      origin.instruction = program.elf().section_offset(function->address + start);
    }
    const auto line = program.lines().at(address);
    if (line) {
      origin.file = program.source_path(*line);
      origin.line = line->line;
    }
    for (const debuginfo::LineRow& row : program.lines().rows_at(address)) {
      const debuginfo::SourceLine begins{row.file, row.line};
      origin.prologue_end |= row.prologue_end;
      if (begins == line) {
        origin.statement |= row.statement;
      } else if (row.line != 0 && std::ranges::find(origin.passed, begins) == origin.passed.end()) {
        origin.passed.push_back(begins);
      }
    }
    origin.inlined = inlining.at(address);
    result.push_back(std::move(origin));
  }
  return result;
}

}  // namespace deeptrace::study
