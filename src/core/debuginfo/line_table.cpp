#include "debuginfo/line_table.h"

#include <algorithm>
#include <map>
#include <unordered_map>

namespace deeptrace::debuginfo {
namespace {

/// Standard and extended opcodes, content types (DWARF 5, 7.22).
enum Standard : std::uint8_t {
  kExtended = 0,
  kCopy,
  kAdvancePc,
  kAdvanceLine,
  kSetFile,
  kSetColumn,
  kNegateStatement,
  kSetBasicBlock,
  kConstAddPc,
  kFixedAdvancePc,
  kSetPrologueEnd,
  kSetEpilogueBegin,
  kSetIsa,
};
enum ExtendedOpcode : std::uint8_t { kEndSequence = 1, kSetAddress = 2, kDefineFile = 3 };
enum ContentType : std::uint64_t { kPath = 1, kDirectoryIndex = 2 };

constexpr std::size_t kMostFiles = 1U << 20;

std::string join(const std::string& directory, std::string_view name) {
  if (directory.empty() || (!name.empty() && name.front() == '/')) return std::string(name);
  return directory + (directory.back() == '/' ? "" : "/") + std::string(name);
}

struct Header {
  std::uint16_t version = 0;
  bool wide = false;  ///< 64-bit DWARF
  std::uint8_t address_size = 8;
  std::uint8_t minimum_length = 1;
  bool default_statement = true;
  std::int8_t line_base = 0;
  std::uint8_t line_range = 1;
  std::uint8_t opcode_base = 1;
  std::vector<std::uint8_t> operand_counts;
  std::vector<std::string> directories;
  std::vector<std::uint32_t> files;  ///< by the table's own number, as indices into LineTable::files()
};

}  // namespace

/// Reads the units of .debug_line one after the other.
class LineReader {
 public:
  LineReader(const binary::Elf& elf, const DebugInfo& info)
      : relocatable_(elf.kind() == binary::Kind::relocatable),
        lines_(elf.debug_bytes(".debug_line")),
        strings_(elf.debug_bytes(".debug_str")),
        line_strings_(elf.debug_bytes(".debug_line_str")) {
    for (const auto& unit : info.units()) {
      if (unit->line_table && unit->skeleton < 0) directories_.emplace(*unit->line_table, std::string(unit->directory));
    }
  }

  [[nodiscard]] std::size_t size() const { return lines_.view.size(); }

  /// Reads all tables into one list of rows.
  void run(const LineTable& into, std::vector<LineRow>& rows) {
    for (std::size_t at = 0; at < lines_.view.size();) {
      const std::size_t next = one(into, at, &rows);
      if (next == 0) break;
      at = next;
    }
    sort(rows);
  }

  /// Reads the table at an offset, its names only where `rows` is null. Gives the offset after it; 0 where there is
  /// none.
  std::size_t one(const LineTable& into, std::size_t at, std::vector<LineRow>* rows) {
    out_ = &into;
    rows_ = rows;
    ByteReader reader(lines_.view, at);
    std::uint64_t length = reader.u32();
    const bool wide = length == 0xffffffff;
    if (wide) length = reader.u64();
    const std::size_t body = reader.position();
    if (!reader.good() || length > lines_.view.size() - body) {
      damaged(at);
      return 0;
    }
    unit(at, lines_.view.subspan(body, length), wide);
    return body + length;
  }

  /// An end and a start at the same address: the start counts. Otherwise the order of the program is kept.
  static void sort(std::vector<LineRow>& rows) {
    std::stable_sort(rows.begin(), rows.end(), [](const LineRow& a, const LineRow& b) {
      return a.address != b.address ? a.address < b.address : a.ends && !b.ends;
    });
  }

 private:
  void damaged(std::size_t offset) {
    if (out_->note_.empty())
      out_->note_ = "the line table at offset " + std::to_string(offset) + " of .debug_line is damaged";
  }

  void unit(std::size_t offset, Bytes body, bool wide) {
    ByteReader reader(body);
    Header header;
    header.wide = wide;
    header.version = reader.u16();
    if (header.version < 2 || header.version > 5) return damaged(offset);
    if (header.version >= 5) {
      header.address_size = reader.u8();
      reader.skip(1);
    }
    const std::uint64_t header_length = wide ? reader.u64() : reader.u32();
    const std::uint64_t program_at = reader.position() + header_length;
    header.minimum_length = reader.u8();
    if (header.version >= 4) reader.skip(1);
    header.default_statement = reader.u8() != 0;
    header.line_base = static_cast<std::int8_t>(reader.u8());
    header.line_range = reader.u8();
    header.opcode_base = reader.u8();
    if (!reader.good() || header.line_range == 0 || header.opcode_base == 0) return damaged(offset);
    for (unsigned i = 1; i < header.opcode_base; ++i) header.operand_counts.push_back(reader.u8());
    const bool named = header.version >= 5 ? names5(reader, header) : names4(reader, header, offset);
    if (!named || program_at > body.size()) return damaged(offset);
    if (rows_ != nullptr && !program(header, body.subspan(program_at))) damaged(offset);
    out_->tables_.emplace(offset, std::move(header.files));
  }

  std::uint32_t file_number(std::string path) {
    const auto [place, added] = known_.try_emplace(std::move(path), static_cast<std::uint32_t>(out_->files_.size()));
    if (added) out_->files_.push_back(place->first);
    return place->second;
  }

  /// DWARF 2 to 4: zero-terminated lists; directory 0 is the compilation directory, files count from 1.
  bool names4(ByteReader& reader, Header& header, std::size_t offset) {
    const auto directory = directories_.find(offset);
    header.directories.push_back(directory == directories_.end() ? std::string{} : directory->second);
    for (std::string_view name = reader.string(); !name.empty(); name = reader.string()) {
      header.directories.push_back(join(header.directories[0], name));
    }
    header.files.push_back(0);
    for (std::string_view name = reader.string(); !name.empty(); name = reader.string()) {
      const std::uint64_t index = reader.uleb();
      (void)reader.uleb();
      (void)reader.uleb();
      add_file(header, name, index);
    }
    if (header.files.size() > 1) header.files[0] = header.files[1];
    return reader.good();
  }

  void add_file(Header& header, std::string_view name, std::uint64_t directory) {
    const std::string base = directory < header.directories.size() ? header.directories[directory] : std::string{};
    header.files.push_back(file_number(join(base, name)));
  }

  /// DWARF 5: entry formats, then entries (6.2.4); both lists count from 0.
  bool names5(ByteReader& reader, Header& header) {
    const FormContext context{header.version, header.wide, header.address_size, strings_.view, line_strings_.view, {}};
    for (int list = 0; list < 2; ++list) {
      std::vector<std::pair<std::uint64_t, std::uint64_t>> format;
      for (unsigned i = reader.u8(); i > 0; --i) {
        const std::uint64_t type = reader.uleb();
        format.emplace_back(type, reader.uleb());
      }
      const std::uint64_t count = reader.uleb();
      if (!reader.good() || count > kMostFiles || (format.empty() && count != 0)) return false;
      for (std::uint64_t i = 0; i < count && reader.good(); ++i) {
        std::string_view name;
        std::uint64_t directory = 0;
        for (const auto& [type, form] : format) {
          const FormValue value = read_form(reader, form, context);
          if (!value.known()) return false;
          if (type == kPath) name = value.text;
          if (type == kDirectoryIndex) directory = value.number;
        }
        if (list == 0) {
          header.directories.push_back(i == 0 ? std::string(name) : join(header.directories[0], name));
        } else {
          add_file(header, name, directory);
        }
      }
    }
    return reader.good();
  }

  /// Runs one line number program (6.2.5). Runs of rows that a linker discarded (they start at 0) are left out.
  bool program(const Header& header, Bytes code) {
    ByteReader reader(code);
    LineRow row;
    std::uint64_t file = 1;
    const auto reset = [&] {
      row = LineRow{};
      row.line = 1;
      row.statement = header.default_statement;
      file = 1;
    };
    reset();
    std::size_t first = rows_->size();
    const auto emit = [&] {
      row.file = file < header.files.size() ? header.files[file] : 0;
      if (header.files.empty()) row.line = 0;
      const bool same_place = rows_->size() > first && rows_->back().address == row.address;
      row.view = same_place ? static_cast<std::uint16_t>(rows_->back().view + 1) : 0;
      rows_->push_back(row);
      row.prologue_end = false;
    };
    const auto advance = [&](std::uint64_t operations) { row.address += operations * header.minimum_length; };
    while (!reader.at_end()) {
      const std::uint8_t opcode = reader.u8();
      if (opcode >= header.opcode_base) {
        const unsigned adjusted = opcode - header.opcode_base;
        advance(adjusted / header.line_range);
        row.line += static_cast<std::uint32_t>(header.line_base + static_cast<int>(adjusted % header.line_range));
        emit();
        continue;
      }
      switch (opcode) {
        case kExtended: {
          const std::uint64_t size = reader.uleb();
          ByteReader operand(reader.bytes(size));
          if (!reader.good() || size == 0) return false;
          const std::uint8_t extended = operand.u8();
          if (extended == kSetAddress) row.address = operand.unsigned_of(std::min<std::uint64_t>(size - 1, 8));
          if (extended == kEndSequence) {
            row.ends = true;
            emit();
            keep_or_drop(first);
            first = rows_->size();
            reset();
          }
          break;
        }
        case kCopy: emit(); break;
        case kAdvancePc: advance(reader.uleb()); break;
        case kAdvanceLine: row.line += static_cast<std::uint32_t>(reader.sleb()); break;
        case kSetFile: file = reader.uleb(); break;
        case kSetColumn: {
          const std::uint64_t column = reader.uleb();
          row.column = column <= 0xffff ? static_cast<std::uint16_t>(column) : 0;
          break;
        }
        case kNegateStatement: row.statement = !row.statement; break;
        case kConstAddPc: advance((255U - header.opcode_base) / header.line_range); break;
        case kFixedAdvancePc: row.address += reader.u16(); break;
        case kSetPrologueEnd: row.prologue_end = true; break;
        case kSetBasicBlock:
        case kSetEpilogueBegin: break;
        default:
          for (unsigned i = header.operand_counts[opcode - 1U]; i > 0; --i) (void)reader.uleb();
      }
      if (!reader.good()) return false;
    }
    rows_->resize(first);  // rows of a run that was never ended
    return true;
  }

  /// Drops sequences of discarded code, and rows at their own sequence's end: they name no instruction.
  void keep_or_drop(std::size_t first) {
    const LineRow end = rows_->back();
    while (rows_->size() > first + 1 && (*rows_)[rows_->size() - 2].address == end.address) {
      rows_->pop_back();
      rows_->back() = end;
    }
    constexpr std::uint64_t kDiscarded = ~std::uint64_t(1);  // linkers write 0, -1 or -2 for discarded code
    const std::uint64_t start = (*rows_)[first].address;
    if ((start == 0 && !relocatable_) || start >= kDiscarded) rows_->resize(first);
  }

  const LineTable* out_ = nullptr;
  std::vector<LineRow>* rows_ = nullptr;
  bool relocatable_;
  binary::SectionBytes lines_, strings_, line_strings_;
  std::unordered_map<std::uint64_t, std::string> directories_;
  std::unordered_map<std::string, std::uint32_t> known_;
};

LineTable::LineTable() = default;
LineTable::LineTable(LineTable&&) noexcept = default;
LineTable& LineTable::operator=(LineTable&&) noexcept = default;
LineTable::~LineTable() = default;

LineTable LineTable::read(const binary::Elf& elf, const DebugInfo& info, std::size_t large) {
  LineTable table;
  table.reader_ = std::make_unique<LineReader>(elf, info);
  std::map<std::uint64_t, std::vector<AddressRange>> tables;
  bool by_unit = table.reader_->size() >= large && elf.kind() != binary::Kind::relocatable;
  for (const auto& unit : info.units()) {
    if (!unit->line_table || unit->skeleton >= 0) continue;
    const bool code = unit->type == UnitType::compile || unit->type == UnitType::skeleton;
    auto& ranges = tables[*unit->line_table];
    ranges.insert(ranges.end(), unit->ranges.begin(), unit->ranges.end());
    // A unit that does not say where its code lies could have any; one without code has no ranges either.
    by_unit &= !code || !unit->ranges.empty() || unit->says_ranges;
  }
  if (!by_unit || tables.empty()) {
    table.reader_->run(table, table.rows_);
    table.reader_.reset();
    return table;
  }
  for (const auto& [offset, ranges] : tables) {
    for (const AddressRange& range : ranges) table.by_address_.push_back({range, table.parts_.size()});
    table.parts_.push_back({offset, false, {}});
  }
  std::ranges::sort(table.by_address_, {}, [](const Held& held) { return held.range.from; });
  table.all_files_ = false;
  return table;
}

bool LineTable::empty() const { return rows_.empty() && parts_.empty(); }

const std::vector<std::string>& LineTable::files() const {
  if (!all_files_) {
    all_files_ = true;
    for (const Part& part : parts_) {
      if (!tables_.contains(part.offset)) reader_->one(*this, part.offset, nullptr);
    }
  }
  return files_;
}

const std::string& LineTable::file(std::uint32_t number) const {
  static const std::string kNone;
  return number < files_.size() ? files_[number] : kNone;
}

void LineTable::load(Part& part) const {
  constexpr std::size_t kMostRows = std::size_t(1) << 21;
  if (part.loaded) return;
  if (loaded_rows_ > kMostRows) {
    for (Part& other : parts_) {
      other.loaded = false;
      std::vector<LineRow>().swap(other.rows);
    }
    loaded_rows_ = 0;
  }
  reader_->one(*this, part.offset, &part.rows);
  LineReader::sort(part.rows);
  part.loaded = true;
  loaded_rows_ += part.rows.size();
}

void LineTable::each_run(const std::function<void(std::span<const LineRow>)>& visit) const {
  if (!is_lazy()) return visit(rows_);
  for (Part& part : parts_) {
    const bool was_loaded = part.loaded;
    load(part);
    visit(part.rows);
    if (was_loaded) continue;
    loaded_rows_ -= part.rows.size();
    part.loaded = false;
    std::vector<LineRow>().swap(part.rows);
  }
}

const std::vector<LineRow>& LineTable::rows_for(std::uint64_t address) const {
  static const std::vector<LineRow> kNone;
  if (!is_lazy()) return rows_;
  auto after = std::ranges::upper_bound(by_address_, address, {}, [](const Held& held) { return held.range.from; });
  if (after == by_address_.begin() || !(after - 1)->range.holds(address)) return kNone;
  Part& part = parts_[(after - 1)->part];
  load(part);
  return part.rows;
}

const LineRow* LineTable::row_at(std::uint64_t address) const {
  const std::vector<LineRow>& rows = rows_for(address);
  auto after = std::upper_bound(rows.begin(), rows.end(), address,
                                [](std::uint64_t a, const LineRow& row) { return a < row.address; });
  if (after == rows.begin()) return nullptr;
  const LineRow& row = *(after - 1);
  return row.ends ? nullptr : &row;
}

std::optional<SourceLine> LineTable::first_in(AddressRange range) const {
  const std::vector<LineRow>& rows = rows_for(range.from);
  if (row_at(range.from) == nullptr) return std::nullopt;
  auto row = std::upper_bound(rows.begin(), rows.end(), range.from,
                              [](std::uint64_t a, const LineRow& r) { return a < r.address; });
  for (--row; row != rows.end() && row->address < range.to; ++row) {
    if (!row->ends && row->line != 0) return SourceLine{row->file, row->line};
  }
  return std::nullopt;
}

std::optional<std::uint32_t> LineTable::file_of(std::uint64_t table, std::uint64_t number) const {
  if (is_lazy() && !tables_.contains(table)) reader_->one(*this, table, nullptr);
  const auto found = tables_.find(table);
  if (found == tables_.end() || number >= found->second.size()) return std::nullopt;
  const std::uint32_t file = found->second[number];
  return file < files_.size() ? std::optional(file) : std::nullopt;
}

std::optional<SourceLine> LineTable::line_of(const Unit& unit, std::optional<std::uint64_t> file,
                                             std::uint32_t line) const {
  if (!unit.line_table || !file || line == 0) return std::nullopt;
  const auto number = file_of(*unit.line_table, *file);
  return number ? std::optional(SourceLine{*number, line}) : std::nullopt;
}

std::optional<SourceLine> LineTable::at(std::uint64_t address) const {
  const LineRow* row = row_at(address);
  if (row == nullptr || row->line == 0) return std::nullopt;
  return SourceLine{row->file, row->line};
}

std::span<const LineRow> LineTable::rows_at(std::uint64_t address) const {
  const std::vector<LineRow>& rows = rows_for(address);
  auto first = std::ranges::lower_bound(rows, address, {}, &LineRow::address);
  while (first != rows.end() && first->address == address && first->ends) ++first;  // ends come first
  auto last = first;
  while (last != rows.end() && last->address == address) ++last;
  return {first, last};
}

std::span<const LineRow> LineTable::rows_in(AddressRange range) const {
  const std::vector<LineRow>& rows = rows_for(range.from);
  const auto first = std::ranges::lower_bound(rows, range.from, {}, &LineRow::address);
  return {first, std::lower_bound(first, rows.end(), range.to,
                                  [](const LineRow& row, std::uint64_t end) { return row.address < end; })};
}

bool LineTable::starts_row(std::uint64_t address) const {
  const LineRow* row = row_at(address);
  return row != nullptr && row->address == address;
}

bool LineTable::starts_statement(std::uint64_t address) const {
  const LineRow* row = row_at(address);
  return row != nullptr && row->address == address && row->statement;
}

bool LineTable::covers(std::uint64_t address) const { return row_at(address) != nullptr; }

}  // namespace deeptrace::debuginfo
