#include "study/data.h"

#include <algorithm>
#include <map>
#include <set>

#include "base/number.h"
#include "base/similar_names.h"
#include "debuginfo/variables.h"
#include "program/code_scan.h"

namespace deeptrace::study {
namespace {

using debuginfo::StaticVariable;
using program::AddressRange;
using program::Program;

constexpr std::size_t kMostElements = 65536;

/// A variable before its value is read.
struct Known {
  std::string name;
  std::string_view symbol;
  std::uint64_t address = 0;
  std::uint64_t size = 0;
  debuginfo::TypeId type = debuginfo::kVoid;
  bool typed = false;
  const program::DataSymbol* untyped = nullptr;  ///< where only a symbol is known
  bool in_thread = false;
  bool own = false;
  std::string_view file;
  std::uint32_t line = 0;
};

std::string_view file_of(const Program& program, const StaticVariable& variable) {
  if (variable.unit == nullptr || !variable.unit->line_table || !variable.file) return {};
  const auto file = program.lines().file_of(*variable.unit->line_table, *variable.file);
  return file ? std::string_view(program.lines().files()[*file]) : std::string_view{};
}

/// What every C program is linked with beside its own variables.
bool is_scaffolding_variable(std::string_view name) {
  constexpr std::string_view kNames[] = {"__dso_handle",
                                         "_IO_stdin_used",
                                         "__TMC_END__",
                                         "__data_start",
                                         "data_start",
                                         "__bss_start",
                                         "_edata",
                                         "_end",
                                         "_DYNAMIC",
                                         "_GLOBAL_OFFSET_TABLE_",
                                         "__GNU_EH_FRAME_HDR",
                                         "__FRAME_END__",
                                         "__frame_dummy_init_array_entry",
                                         "__do_global_dtors_aux_fini_array_entry",
                                         "__abi_tag",
                                         "completed.0",
                                         "_fp_hw"};
  return std::ranges::find(kNames, name) != std::end(kNames) || name.starts_with("_ZTI") || name.starts_with("_ZTS") ||
         name.starts_with("__init_array_") || name.starts_with("__fini_array_") ||
         name.starts_with("__preinit_array_") || name.starts_with("__rela_iplt") || name.starts_with("DW.ref.");
}

class Variables {
 public:
  Variables(const Program& program, debuginfo::Types& types) : program_(program), types_(types) {
    add_typed();
    add_symbols();
    add_among_code();
    std::ranges::stable_sort(known_, {}, &Known::address);
  }

  [[nodiscard]] const std::vector<Known>& all() const { return known_; }
  /// The variable that a second name stands for, or null.
  [[nodiscard]] const Known* alias(std::string_view name) const {
    const auto found = aliases_.find(name);
    if (found == aliases_.end()) return nullptr;
    const auto known = std::ranges::lower_bound(known_, found->second, {}, &Known::address);
    return known != known_.end() && known->address == found->second ? &*known : nullptr;
  }

 private:
  void add_typed() {
    const AddressRange threads = program::thread_storage(program_);
    const bool object = program_.elf().kind() == binary::Kind::relocatable;
    for (const StaticVariable& variable : debuginfo::static_variables(program_.debug(), types_)) {
      Known known;
      known.name = variable.name;
      known.symbol = variable.linkage_name;
      known.in_thread = variable.in_thread;
      // An offset in the block; split debug information has the address itself in places.
      const bool offset = variable.in_thread && !object && variable.address < threads.size();
      known.address = variable.address + (offset ? threads.from : 0);
      known.size = types_.size(variable.type);
      known.type = variable.type;
      known.typed = true;
      known.file = file_of(program_, variable);
      known.line = variable.line;
      known.own = known.file.empty() || program_.is_own_source(known.file);
      if (known.name.empty() || !places_.insert({known.address, known.name}).second) continue;
      typed_at_.insert(known.address);
      known_.push_back(std::move(known));
    }
  }

  /// Those that debug information does not know. Several symbols of one place are one variable of several names.
  void add_symbols() {
    const bool described = !typed_at_.empty();
    const auto& symbols = program_.data_symbols();
    // The best name of a place comes last.
    for (auto at = symbols.rbegin(); at != symbols.rend(); ++at) {
      const program::DataSymbol& symbol = *at;
      if (typed_at_.contains(symbol.address) || !symbols_at_.insert(symbol.address).second) {
        aliases_.emplace(symbol.symbol, symbol.address);
        continue;
      }
      const std::string_view section = program_.elf().sections()[symbol.section].name;
      // With debug information the developer's own variables are in it; assembly has none.
      const bool untyped = symbol.inferred && !symbol.symbol.starts_with("_");
      add(symbol,
          !is_scaffolding_variable(symbol.symbol) && (!described || untyped) && !section.starts_with(".eh_frame"));
    }
  }

  /// Labels of data that an assembly program keeps among its code.
  void add_among_code() {
    for (const program::DataSymbol& symbol : program_.data_among_code()) {
      const program::Function* function = program_.function_at(symbol.address);
      if (symbols_at_.insert(symbol.address).second) add(symbol, function != nullptr && program_.is_own(*function));
    }
  }

  void add(const program::DataSymbol& symbol, bool own) {
    Known known;
    known.address = symbol.address;
    known.symbol = symbol.symbol;
    known.name = program::demangled(symbol.symbol);
    known.in_thread = symbol.in_thread;
    known.size = symbol.size;
    known.untyped = &symbol;
    known.own = own;
    known_.push_back(std::move(known));
  }

  const Program& program_;
  debuginfo::Types& types_;
  std::vector<Known> known_;
  std::set<std::pair<std::uint64_t, std::string>> places_;
  std::map<std::string_view, std::uint64_t> aliases_;
  std::set<std::uint64_t> typed_at_, symbols_at_;
};

class Listing {
 public:
  Listing(const Program& program, const DataRequest& request)
      : program_(program),
        request_(request),
        types_(program.debug()),
        variables_(program, types_),
        pointers_(pointers_of(program)) {}

  Result<std::size_t> run(DataSink& sink) {
    std::vector<DataRow> rows;
    if (request_.names.empty()) {
      for (const Known& known : variables_.all()) {
        if (known.own || request_.all) rows.push_back(row_of(known));
      }
    }
    // Where linkers mark the end of everything there is no variable.
    std::erase_if(rows, [](const DataRow& row) { return row.size == 0 && row.section.empty(); });
    for (const std::string& name : request_.names) {
      if (auto error = add_named(name, rows)) return *error;
    }
    const bool types = std::ranges::any_of(variables_.all(), &Known::typed);
    sink.begin({&program_, rows.size(), variables_.all().size(), types});
    for (const DataRow& row : rows) sink.variable(row);
    sink.end();
    return rows.size();
  }

 private:
  DataRow row_of(const Known& known, std::string_view path = {}) {
    DataRow row;
    row.name = known.name;
    row.address = known.address;
    row.size = known.size;
    row.file = known.file;
    row.line = known.line;
    row.in_thread = known.in_thread;
    if (known.typed) row.type = types_.name(known.type);
    settle(row, known.typed ? std::optional(known.type) : std::nullopt, path.empty() ? request_.shape : std::nullopt,
           known.untyped);
    return row;
  }

  /// Section and value.
  void settle(DataRow& row, std::optional<debuginfo::TypeId> type, std::optional<inspect::Shape> asked,
              const program::DataSymbol* untyped = nullptr) {
    const std::uint64_t address = row.address;
    const binary::Section* section = section_of(row);
    if (section != nullptr) {
      row.section = section->name;
      row.writable = (section->flags & binary::kWritable) != 0;
    }
    std::vector<std::uint8_t> zeros;
    Bytes bytes;
    if (section != nullptr) {
      const std::uint64_t room = section->address + section->size - address;
      if (section->type == binary::kNoBits) {
        // Begins as zero.
        constexpr std::uint64_t kMost = std::uint64_t(1) << 24;
        zeros.resize(std::min({row.size, room, kMost}));
        bytes = zeros;
      } else {
        const Bytes all = program_.elf().bytes_of(*section);
        const Bytes held = all.subspan(std::min<std::uint64_t>(address - section->address, all.size()));
        bytes = held.first(std::min<std::uint64_t>(row.size, held.size()));
      }
    }
    inspect::ValueLimits limits{kMostElements, 16};
    limits.word = program_.elf().machine().word;
    if (asked || (!type && section != nullptr)) {
      const program::ElementWidth width =
          asked || untyped == nullptr ? program::ElementWidth{} : program_.element_width(*untyped);
      const bool said = untyped != nullptr && untyped->element != 0;
      const inspect::Shape shape = asked ? *asked : inspect::untyped_shape(bytes, width.bytes, said);
      row.value = inspect::value_of(shape, bytes, address, pointers_, limits);
      row.value.from_code = width.from_code && row.value.kind == inspect::Value::Kind::array;
    } else if (type) {
      row.value = inspect::value_of(types_, *type, bytes, address, pointers_, limits);
    }
    row.address = program_.elf().section_offset(address);
  }

  const binary::Section* section_of(const DataRow& row) const {
    for (const binary::Section& section : program_.elf().sections()) {
      const bool thread = (section.flags & binary::kThreadStorage) != 0;
      // A .tbss takes no room: what follows it begins at the same address.
      if (section.holds(row.address) && thread == row.in_thread) return &section;
    }
    return nullptr;
  }

  std::optional<Error> add_named(const std::string& wanted, std::vector<DataRow>& rows) {
    const std::size_t before = rows.size();
    // Names of C++ hold dots and brackets only after the base name.
    for (std::size_t cut = wanted.size(); cut != std::string::npos && cut != 0;
         cut = wanted.find_last_of(".[", cut - 1)) {
      const std::string_view base = std::string_view(wanted).substr(0, cut),
                             path = std::string_view(wanted).substr(cut);
      for (const Known& known : variables_.all()) {
        const std::string_view name = known.name;
        const bool last_part = name.size() > base.size() && name.ends_with(base) &&
                               name.substr(0, name.size() - base.size()).ends_with("::");
        if (name != base && known.symbol != base && !last_part) continue;
        if (auto error = add_part(wanted, known, path, rows)) return error;
      }
      if (const Known* known = variables_.alias(base); known != nullptr && rows.size() == before) {
        if (auto error = add_part(wanted, *known, path, rows)) return error;
      }
      if (rows.size() != before) return std::nullopt;
    }
    if (const auto address = number_in(wanted)) return add_address(wanted, *address, rows);
    std::set<std::string> names;
    for (const Known& known : variables_.all()) names.insert(known.name);
    std::string message = wanted + ": no such variable in " + program_.elf().path();
    message += similar_words(similar_names(names, wanted));
    return Error{Fault::usage, message};
  }

  std::optional<Error> add_part(const std::string& wanted, const Known& known, std::string_view path,
                                std::vector<DataRow>& rows) {
    DataRow row = row_of(known, path);
    if (!path.empty() && !narrow(row, path)) {
      return Error{Fault::usage, wanted + ": " + known.name + (row.type.empty() ? "" : ", a " + row.type + ",") +
                                     " has no part " + std::string(path)};
    }
    rows.push_back(std::move(row));
    return std::nullopt;
  }

  /// Makes a row of the part of its value that the path names.
  bool narrow(DataRow& row, std::string_view path) {
    const inspect::Value* part = inspect::part_of(row.value, path);
    if (part == nullptr) return false;
    inspect::Value found = *part;
    row.name += path;
    row.size = found.size;
    row.type = found.type;
    row.address = found.address;
    if (request_.shape && !found.bit_field) {
      settle(row, std::nullopt, request_.shape);
    } else {
      row.address = program_.elf().section_offset(found.address);
      row.value = std::move(found);
    }
    return true;
  }

  std::optional<Error> add_address(const std::string& wanted, std::uint64_t address, std::vector<DataRow>& rows) {
    for (const Known& known : variables_.all()) {
      if (address < known.address || address - known.address >= std::max<std::uint64_t>(known.size, 1)) continue;
      if (address == known.address && !request_.shape) {
        rows.push_back(row_of(known));
        return std::nullopt;
      }
    }
    DataRow row;
    row.name = program_.reference(address).name;
    row.address = address;
    const binary::Section* section = program_.elf().section_at(address);
    if (section == nullptr)
      return Error{Fault::usage, wanted + ": no section of " + program_.elf().path() + " holds that address"};
    if (row.name.empty()) row.name = wanted;
    row.in_thread = (section->flags & binary::kThreadStorage) != 0;
    constexpr std::uint64_t kShown = 64;
    const bool one = request_.shape && request_.shape->kind != inspect::Shape::Kind::string &&
                     request_.shape->kind != inspect::Shape::Kind::bytes;
    row.size = std::min<std::uint64_t>(one ? request_.shape->size : kShown, section->address + section->size - address);
    settle(row, std::nullopt, request_.shape);
    rows.push_back(std::move(row));
    return std::nullopt;
  }

  const Program& program_;
  const DataRequest& request_;
  debuginfo::Types types_;
  Variables variables_;
  inspect::PointerReader pointers_;
};

}  // namespace

inspect::PointerReader pointers_of(const Program& program) {
  return [&program](std::uint64_t place, std::uint64_t value, bool /*characters*/) {
    inspect::Pointed pointed;
    pointed.value = value;
    const binary::Relocation* relocation = program.relocation_in(place, 1);
    if (relocation != nullptr) {
      const auto addend = static_cast<std::uint64_t>(relocation->addend);
      if (!relocation->symbol.empty() && !relocation->defined) {
        pointed.known = false;
        pointed.is_address = true;
        pointed.name = program::demangled(relocation->symbol);
        return pointed;
      }
      pointed.value = relocation->symbol.empty() ? addend : relocation->symbol_value + addend;
    }
    pointed.is_address = relocation != nullptr;
    if (pointed.value == 0) return pointed;
    program::Reference reference = program.reference(pointed.value);
    // A number may happen to lie in the file: it is taken for an address where something that has a name begins.
    pointed.is_address |= !reference.name.empty() && reference.name.find("+0x") == std::string::npos;
    pointed.name = std::move(reference.name);
    pointed.text = std::move(reference.text);
    if (program.elf().kind() == binary::Kind::relocatable) pointed.value = program.elf().section_offset(pointed.value);
    return pointed;
  };
}

Result<std::size_t> list_data(const Program& program, const DataRequest& request, DataSink& sink) {
  return Listing(program, request).run(sink);
}

}  // namespace deeptrace::study
