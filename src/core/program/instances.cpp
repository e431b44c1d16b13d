#include "program/instances.h"

#include <algorithm>
#include <array>
#include <set>

#include "program/name_match.h"

namespace deeptrace::program {
namespace {

/// What lies after the last `::` that is outside of template arguments, without a signature: compilers give functions
/// that name.
std::string_view plain_name(std::string_view name) {
  std::size_t depth = 0, start = 0, end = name.size();
  for (std::size_t i = 0; i < name.size(); ++i) {
    if (name[i] == '<') ++depth;
    if (name[i] == '>' && depth > 0) --depth;
    if (depth == 0 && name[i] == '(') {
      end = i;
      break;
    }
    if (depth == 0 && name.substr(i).starts_with("::")) start = i + 2;
  }
  return name.substr(start, end - start);
}

std::string counted(std::size_t count, std::string_view one, std::string_view many) {
  return std::to_string(count) + " " + std::string(count == 1 ? one : many);
}

}  // namespace

std::string_view origin_of_clone(std::string_view symbol) {
  constexpr std::array<std::string_view, 5> kKinds = {".constprop", ".isra", ".part", ".lto_priv", ".llvm"};
  bool clone = false;
  for (;;) {
    const std::size_t dot = symbol.rfind('.');
    if (dot == std::string_view::npos || dot == 0) break;
    const std::string_view last = symbol.substr(dot);
    const bool number =
        last.size() > 1 && std::ranges::all_of(last.substr(1), [](char c) { return c >= '0' && c <= '9'; });
    const std::size_t kind_at = number ? symbol.rfind('.', dot - 1) : dot;
    if (kind_at == std::string_view::npos || kind_at == 0) break;
    const std::string_view kind = symbol.substr(kind_at, number ? dot - kind_at : std::string_view::npos);
    if (kind == ".cold") return {};
    if (std::ranges::find(kKinds, kind) == kKinds.end()) break;
    clone = true;
    symbol = symbol.substr(0, kind_at);
  }
  return clone ? symbol : std::string_view{};
}

std::string InstanceCounts::words() const {
  if (clones == 0 && inlined == 0 && searched) return {};
  std::string result;
  const auto add = [&](std::size_t count, std::string_view one, std::string_view many) {
    if (count == 0) return;
    result += (result.empty() ? "" : ", ") + counted(count, one, many);
  };
  add(functions, "function", "functions");
  add(clones, "clone", "clones");
  add(inlined, "inlined copy", "inlined copies");
  if (!searched) result += "; inlined copies were not looked for, there is too much debug information";
  return result;
}

std::vector<AddressRange> Instances::code() const {
  std::vector<AddressRange> result;
  for (const auto* list : {&functions, &clones}) {
    for (const Function* function : *list) result.push_back(function->range());
  }
  if (!result.empty()) return result;
  for (const debuginfo::InlinedCopy& copy : inlined)
    result.insert(result.end(), copy.ranges.begin(), copy.ranges.end());
  std::ranges::sort(result, {}, &AddressRange::from);
  return result;
}

namespace {

/// Which inlined functions are instances: those of the names that functions out of line have, or, where there are none,
/// of whatever the name is short for.
class InlinedMatch {
 public:
  InlinedMatch(const Program& program, std::string_view name, std::set<std::string> names)
      : info_(program.debug()), types_(info_), name_(name), match_(name), names_(std::move(names)) {}

  bool fits(const debuginfo::Entry& entry, bool exact) {
    const std::string_view plain = info_.name_of(entry);
    if (exact ? plain != plain_name(name_) : plain.empty()) return false;
    const std::string_view symbol = info_.linkage_name_of(entry);
    std::string shown;
    const auto show = [&]() -> std::string_view {
      return shown = symbol.empty() ? types_.qualified_name(entry) : demangled(std::string(symbol));
    };
    if (exact) return goes_by(symbol, show, name_);
    if (!symbol.empty() && symbol.find(match_.word()) == std::string_view::npos) return false;
    show();
    const auto how = match_.fits(shown);
    if (!how) return false;
    const std::string bare = bare_name(shown);
    if (!names_.empty()) return names_.contains(bare);
    (*how == NameMatch::How::tail ? tails_ : others_).insert(bare);
    return true;
  }
  /// Of a short name what it could be.
  [[nodiscard]] const std::set<std::string>& tails() const { return tails_; }
  [[nodiscard]] bool has_others() const { return !others_.empty(); }

 private:
  const debuginfo::DebugInfo& info_;
  debuginfo::Types types_;
  std::string_view name_;
  NameMatch match_;
  std::set<std::string> names_, tails_, others_;
};

void find_inlined(const Program& program, Instances& result, std::set<std::string> names) {
  const std::string name = result.name;
  const bool short_for_some = !names.empty();
  InlinedMatch match(program, name, std::move(names));
  const auto search = [&](bool exact) {
    return debuginfo::inlined_copies(program.debug(),
                                     [&](const debuginfo::Entry& entry) { return match.fits(entry, exact); });
  };
  result.inlined = search(true);
  const bool could_be_short =
      name.find_first_of(":.+") != 0 && (short_for_some || (result.functions.empty() && result.clones.empty()));
  if (result.inlined.empty() && could_be_short) {
    result.inlined = search(false);
    result.is_short = true;
  }
  if (match.tails().size() < 2 || match.has_others()) return;
  Program::Meant meant;
  meant.names.assign(match.tails().begin(), match.tails().end());
  result.ambiguous = meant.words();
  result.inlined.clear();
}

}  // namespace

Instances instances_of(const Program& program, std::string_view name, std::size_t most) {
  Instances result;
  result.name = name;
  if (name.empty()) return result;
  const Program::Meant meant = program.functions_meant(name);
  result.is_short = !meant.names.empty();
  if (meant.ambiguous()) {
    result.ambiguous = meant.words();
    return result;
  }
  for (const Function* function : meant.functions)
    (origin_of_clone(function->symbol()).empty() ? result.functions : result.clones).push_back(function);
  const std::string_view plain = plain_name(name);
  program.each_candidate(name, [&](const Function& function) {
    const std::string_view origin = origin_of_clone(function.symbol());
    if (origin.empty() || origin.find(plain) == std::string_view::npos) return;
    std::string shown;
    const auto show = [&]() -> std::string_view { return shown = demangled(std::string(origin)); };
    const bool known = std::ranges::find(result.clones, &function) != result.clones.end();
    if (!known && goes_by(origin, show, name)) result.clones.push_back(&function);
  });
  if (program.debug().empty() || most == 0) return result;
  result.searched = program.debug_elf().debug_bytes(".debug_info").view.size() <= most;
  if (!result.searched) return result;
  find_inlined(program, result, {meant.names.begin(), meant.names.end()});
  std::ranges::sort(result.inlined, {}, &debuginfo::InlinedCopy::address);
  return result;
}

std::map<std::string, std::size_t, std::less<>> inlined_counts(const Program& program) {
  std::map<std::string, std::size_t, std::less<>> result;
  const debuginfo::DebugInfo& info = program.debug();
  if (program.debug_elf().debug_bytes(".debug_info").view.size() > kMostToSearch) return result;
  for (const auto& copy : debuginfo::inlined_copies(info, [](const debuginfo::Entry&) { return true; })) {
    const auto origin = info.read(copy.origin);
    if (!origin) continue;
    const std::string_view symbol = info.linkage_name_of(*origin);
    ++result[std::string(symbol.empty() ? info.name_of(*origin) : symbol)];
  }
  return result;
}

}  // namespace deeptrace::program
