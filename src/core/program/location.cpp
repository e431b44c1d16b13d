#include "program/location.h"

#include <algorithm>
#include <charconv>
#include <optional>
#include <set>

#include "base/number.h"
#include "base/similar_names.h"
#include "isa/instruction.h"
#include "program/instances.h"

namespace deeptrace::program {
namespace {

Error unknown(const Program& program, std::string_view location, const std::string& what) {
  return {Fault::usage, std::string(location) + ": " + what + similar_words(similar_names(program, location))};
}

/// A source path ends with what the user wrote, at a directory boundary.
bool path_matches(std::string_view path, std::string_view wanted) {
  if (!path.ends_with(wanted)) return false;
  return path.size() == wanted.size() || wanted.front() == '/' || path[path.size() - wanted.size() - 1] == '/';
}

/// The runs of addresses that belong to a line of one of the files.
std::vector<AddressRange> ranges_of_line(const Program& program, const std::vector<std::uint32_t>& files,
                                         std::uint32_t line) {
  std::vector<AddressRange> result;
  program.lines().each_run([&](std::span<const debuginfo::LineRow> rows) {
    for (std::size_t i = 0; i + 1 < rows.size(); ++i) {
      const debuginfo::LineRow& row = rows[i];
      if (row.ends || row.line != line || std::find(files.begin(), files.end(), row.file) == files.end()) continue;
      if (rows[i + 1].address == row.address) continue;
      if (!result.empty() && result.back().to == row.address) {
        result.back().to = rows[i + 1].address;
      } else {
        result.push_back({row.address, rows[i + 1].address});
      }
    }
  });
  return result;
}

/// The nearest line at or after `line` that has instructions; 0 when there is none.
std::uint32_t next_line_with_code(const Program& program, const std::vector<std::uint32_t>& files, std::uint32_t line) {
  std::uint32_t best = 0;
  program.lines().each_run([&](std::span<const debuginfo::LineRow> rows) {
    for (const debuginfo::LineRow& row : rows) {
      if (row.ends || row.line < line || std::find(files.begin(), files.end(), row.file) == files.end()) continue;
      if (best == 0 || row.line < best) best = row.line;
    }
  });
  return best;
}

Result<std::vector<AddressRange>> line_location(const Program& program, std::string_view location,
                                                std::string_view file, std::uint64_t line) {
  const std::vector<std::uint32_t> files = source_files_named(program, file);
  if (files.empty()) {
    return Error{Fault::usage, std::string(location) + ": no source file of that name in " + program.elf().path() +
                                   (program.lines().empty() ? "; the file has no line tables (compile with -g)" : "")};
  }
  const auto wanted = static_cast<std::uint32_t>(std::min<std::uint64_t>(line, 0xffffffff));
  std::vector<AddressRange> ranges = ranges_of_line(program, files, wanted);
  if (!ranges.empty()) return ranges;
  const std::uint32_t next = next_line_with_code(program, files, wanted);
  std::string message = std::string(location) + ": that line has no instructions";
  if (next != 0) message += "; the next one that has is " + std::to_string(next);
  return Error{Fault::usage, message};
}

std::vector<AddressRange> whole(const std::vector<const Function*>& functions) {
  std::vector<AddressRange> result;
  for (const Function* function : functions) result.push_back(function->range());
  return result;
}

Result<std::vector<AddressRange>> from_address(const Program& program, std::string_view location,
                                               std::uint64_t address) {
  if (const Function* function = program.function_at(address))
    return std::vector<AddressRange>{{address, function->address + function->size}};
  const binary::Section* section = program.elf().section_at(address);
  if (section == nullptr || !section->is_code()) {
    return Error{Fault::usage, std::string(location) + ": no code at that address in " + program.elf().path()};
  }
  return std::vector<AddressRange>{{address, section->address + section->size}};
}

Result<std::vector<AddressRange>> file_location(const Program& program, std::string_view location, std::size_t colon) {
  const std::string_view file = location.substr(0, colon);
  const std::string_view rest = location.substr(colon + 1);
  if (const auto line = number_in(rest)) return line_location(program, location, file, *line);
  const Program::Meant meant = program.functions_meant(rest);
  if (meant.ambiguous()) return Error{Fault::usage, std::string(rest) + ": " + meant.words()};
  std::vector<const Function*> found = meant.functions;
  std::erase_if(found, [&](const Function* f) {
    const auto source = program.source_of(*f);
    return !source || !path_matches(program.source_path(*source), file);
  });
  if (const auto label = found.empty() ? program.label_named(rest) : std::nullopt) {
    const auto line = program.lines().at(*label);
    if (line && path_matches(program.source_path(*line), file)) return from_address(program, location, *label);
  }
  if (found.empty()) return unknown(program, rest, "no function of that name in " + std::string(file));
  return whole(found);
}

/// As ranges_of, but for functions that are only inlined.
Result<std::vector<AddressRange>> out_of_line(const Program& program, std::string_view location) {
  if (const auto dots = location.find(".."); dots != std::string_view::npos && dots != 0) {
    const auto from = number_in(location.substr(0, dots));
    const auto to = number_in(location.substr(dots + 2));
    if (!from || !to || *from >= *to)
      return Error{Fault::usage, std::string(location) + ": a range is written as 0x401136..0x401180"};
    return std::vector<AddressRange>{{*from, *to}};
  }
  // Code without a symbol is a function named after its section; the name means the whole section.
  const std::vector<const Function*> found = program.functions_named(location);
  const bool named = !found.empty() && found.front()->origin != Function::Origin::section;
  if (const binary::Section* section = program.elf().section_named(location); section != nullptr && !named) {
    if (!section->is_code()) return Error{Fault::usage, std::string(location) + ": that section holds no code"};
    return std::vector<AddressRange>{{section->address, section->address + section->size}};
  }
  if (!found.empty()) return instances_of(program, location, 0).code();
  if (const auto address = number_in(location)) return from_address(program, location, *address);
  if (const auto label = program.label_named(location)) return from_address(program, location, *label);
  const std::size_t colon = location.rfind(':');
  if (colon != std::string_view::npos && colon != 0 && location[colon - 1] != ':')
    return file_location(program, location, colon);
  const Instances instances = instances_of(program, location, 0);
  if (!instances.ambiguous.empty()) return Error{Fault::usage, std::string(location) + ": " + instances.ambiguous};
  if (!instances.empty()) return instances.code();
  if (const std::size_t plus = location.rfind('+'); plus != std::string_view::npos && plus != 0) {
    const auto offset = number_in(location.substr(plus + 1));
    const Program::Meant meant_base = program.functions_meant(location.substr(0, plus));
    if (meant_base.ambiguous())
      return Error{Fault::usage, std::string(location.substr(0, plus)) + ": " + meant_base.words()};
    const std::vector<const Function*>& base = meant_base.functions;
    const auto label = base.empty() ? program.label_named(location.substr(0, plus)) : std::nullopt;
    if (offset && label) {
      const Function* around = program.function_at(*label);
      if (around == nullptr || !around->range().holds(*label + *offset))
        return Error{Fault::usage, std::string(location) + ": lies past the end of the code after that label"};
      return from_address(program, location, *label + *offset);
    }
    if (offset && !base.empty()) {
      if (*offset >= base.front()->size) {
        return Error{Fault::usage, std::string(location) + ": lies past the function's end; it is " +
                                       std::to_string(base.front()->size) + " bytes long"};
      }
      return std::vector<AddressRange>{{base.front()->address + *offset, base.front()->address + base.front()->size}};
    }
    return unknown(program, location.substr(0, plus), "no such function in " + program.elf().path());
  }
  return unknown(program, location, "no such function, label, section or address in " + program.elf().path());
}

}  // namespace

Result<std::vector<AddressRange>> ranges_of(const Program& program, std::string_view location) {
  Result<std::vector<AddressRange>> ranges = out_of_line(program, location);
  if (ranges) return ranges;
  const Instances instances = instances_of(program, location);
  if (!instances.ambiguous.empty()) return Error{Fault::usage, std::string(location) + ": " + instances.ambiguous};
  return instances.empty() ? ranges : Result<std::vector<AddressRange>>(instances.code());
}

std::vector<std::uint32_t> source_files_named(const Program& program, std::string_view wanted) {
  std::vector<std::uint32_t> result;
  const auto& files = program.lines().files();
  for (std::size_t i = 0; i < files.size(); ++i) {
    if (!wanted.empty() && path_matches(files[i], wanted)) result.push_back(static_cast<std::uint32_t>(i));
  }
  return result;
}

Result<std::vector<std::uint64_t>> addresses_of(const Program& program, std::string_view location) {
  Result<std::vector<AddressRange>> ranges = out_of_line(program, location);
  if (!ranges) return ranges.error();
  std::vector<std::uint64_t> result;
  const Function* last = nullptr;
  for (const AddressRange& range : *ranges) {
    // A line split into several runs of one function counts once, at the first.
    const Function* function = program.function_at(range.from);
    if (function != nullptr && function == last) continue;
    last = function;
    result.push_back(range.from);
  }
  return result;
}

std::vector<std::string> similar_names(const Program& program, std::string_view name) {
  std::set<std::string> names;
  for (const Function& function : program.functions()) {
    if (function.origin == Function::Origin::symbol)
      names.insert(function.name.str().substr(0, function.name.str().find('(')));
  }
  for (const Label& label : program.labels()) names.insert(std::string(label.name));
  return deeptrace::similar_names(names, name);
}

}  // namespace deeptrace::program
