#include "session/listing.h"

#include <algorithm>
#include <array>
#include <cstring>
#include <set>

#include "isa/comparison.h"
#include "isa/operand.h"
#include "isa/text.h"
#include "program/code_scan.h"
#include "program/location.h"

namespace deeptrace::session {
namespace {

using program::AddressRange;
using program::Function;
using program::Program;

using Piece = ListingPiece;

/// Cuts a range at the functions in it. What lies between functions is padding and left out, unless the range names
/// bytes that no function holds.
void add_pieces(const Program& program, AddressRange range, std::vector<Piece>& pieces) {
  const auto& functions = program.functions();
  auto next = std::upper_bound(functions.begin(), functions.end(), range.from,
                               [](std::uint64_t a, const Function& f) { return a < f.address; });
  if (next != functions.begin() && (next - 1)->range().holds(range.from)) --next;
  bool any = false;
  for (; next != functions.end() && next->address < range.to; ++next) {
    const AddressRange part{std::max(range.from, next->address), std::min(range.to, next->address + next->size)};
    if (part.from >= part.to) continue;
    pieces.push_back({&*next, part});
    any = true;
  }
  if (!any) pieces.push_back({nullptr, range});
}

Result<std::vector<Piece>> pieces_of(const Program& program, const ListingRequest& request) {
  std::vector<Piece> pieces;
  for (const std::string& where : request.where) {
    Result<std::vector<AddressRange>> ranges = program::ranges_of(program, where);
    if (!ranges) return ranges.error();
    for (const AddressRange& range : *ranges) add_pieces(program, range, pieces);
  }
  if (request.where.empty()) {
    for (const Function& function : program.functions()) {
      if (program.is_own(function)) pieces.push_back({&function, function.range()});
    }
  }
  return pieces;
}

/// Texts of instructions that are no direct branches: they are the same wherever the instruction stands, and code says
/// the same over and over.
class TextCache {
 public:
  std::string_view text_of(const isa::Instruction& instruction, isa::Syntax syntax) {
    std::array<std::uint64_t, 4> words;
    std::memcpy(words.data(), &instruction, sizeof words);
    const std::uint64_t hash =
        (words[0] ^ words[1] * 0x9e3779b97f4a7c15 ^ words[3] * 0xc2b2ae3d27d4eb4f) * 0x165667b19e3779f9;
    Entry& entry = entries_[hash >> (64 - kBits)];
    if (entry.words != words) {
      const isa::Text text = isa::text_of(instruction, 0, syntax);
      entry.words = words;
      entry.size = static_cast<std::uint8_t>(std::min(text.view().size(), sizeof entry.text));
      if (text.view().size() > sizeof entry.text) {
        long_text_ = text;
        entry.words = {};
        return long_text_.view();
      }
      std::memcpy(entry.text, text.view().data(), entry.size);
    }
    return {entry.text, entry.size};
  }

 private:
  static constexpr unsigned kBits = 11;
  struct Entry {
    std::array<std::uint64_t, 4> words{};
    std::uint8_t size = 0;
    char text[63];
  };
  std::vector<Entry> entries_ = std::vector<Entry>(std::size_t(1) << kBits);
  isa::Text long_text_;
};

/// What addresses refer to, for those that were asked for lately.
class ReferenceCache {
 public:
  explicit ReferenceCache(const Program& program) : program_(program) {}

  const program::Reference& at(std::uint64_t address) {
    Entry& entry = entries_[(address * 0x9e3779b97f4a7c15) >> (64 - kBits)];
    if (!entry.known || entry.address != address) entry = {address, true, program_.reference(address)};
    return entry.reference;
  }

 private:
  static constexpr unsigned kBits = 12;
  struct Entry {
    std::uint64_t address = 0;
    bool known = false;
    program::Reference reference;
  };
  const Program& program_;
  std::vector<Entry> entries_ = std::vector<Entry>(std::size_t(1) << kBits);
};

}  // namespace

class PieceLister::Work {
 public:
  Work(const Program& program, const ListingRequest& request)
      : program_(program), request_(request), scan_(program), references_(program), inlining_(program) {}

  void piece(const Piece& piece, ListingSink& sink) {
    sink_ = &sink;
    ListedFunction head;
    const binary::Elf& elf = program_.elf();
    const std::uint64_t start = piece.function != nullptr ? piece.function->address : piece.range.from;
    if (const binary::Section* section = elf.section_at(start)) head.section = section->name;
    head.address = elf.section_offset(start);
    head.size = piece.function != nullptr ? piece.function->size : piece.range.to - piece.range.from;
    if (piece.function != nullptr) {
      head.name = piece.function->name;
      head.origin = piece.function->origin;
      if (const auto source = program_.source_of(*piece.function)) {
        head.file = program_.source_path(*source);
        head.line = source->line;
      }
    } else {
      head.name = head.section;
      head.origin = Function::Origin::section;
    }
    function_ = piece.function;
    const debuginfo::DescribedFunction* described =
        program_.debug().empty() ? nullptr : inlining_.scopes().function_at(start);
    any_inlined_ = described != nullptr && !described->inlined.empty();
    sink_->begin_function(head);
    ++summary_.functions;
    instructions(piece.range, start);
    sink_->end_function();
  }

  [[nodiscard]] const ListingSummary& summary() const { return summary_; }

 private:
  void instructions(AddressRange range, std::uint64_t start) {
    const Bytes code = program_.elf().bytes_at(range.from);
    range.to = std::min<std::uint64_t>(range.to, range.from + code.size());
    setter_ = {};
    if (request_.meaning) find_targets(code.first(range.to - range.from), range.from);
    const program::Stretch whole{range, program::Stretch::Kind::code};
    const auto stretches = request_.data_as_code ? std::span(&whole, 1) : scan_.split(range);
    for (const program::Stretch& stretch : stretches) {
      const Bytes bytes = code.subspan(stretch.range.from - range.from, stretch.range.to - stretch.range.from);
      if (stretch.kind == program::Stretch::Kind::code) {
        instructions_of(bytes, stretch.range.from, start);
      } else {
        data_of(bytes, stretch.range.from, start, stretch.kind);
      }
    }
  }

  void instructions_of(Bytes code, std::uint64_t from, std::uint64_t start) {
    for (std::uint64_t at = 0; at < code.size();) {
      isa::Instruction instruction;
      const std::size_t length = std::max(isa::decode(code.subspan(at), program_.mode(), instruction), 1U);
      row(instruction, from + at, start, code.subspan(at, length));
      at += length;
    }
  }

  /// Strings have a row each, other data a row for eight bytes; labels begin rows.
  void data_of(Bytes bytes, std::uint64_t from, std::uint64_t start, program::Stretch::Kind kind) {
    constexpr std::size_t kBytesPerRow = 8, kLongestText = 64;
    const bool is_text = kind == program::Stretch::Kind::text;
    for (std::uint64_t at = 0; at < bytes.size();) {
      std::uint64_t size = 1;
      for (; at + size < bytes.size() && size < (is_text ? kLongestText : kBytesPerRow); ++size) {
        if (program_.label_at(from + at + size) != nullptr) break;
        const bool ended = bytes[at + size - 1] == 0 && bytes[at + size] != 0;
        if (is_text && (ended || bytes[at + size - 1] == '\n')) break;
      }
      data_row(bytes.subspan(at, size), from + at, start, is_text ? Content::text : Content::bytes);
      at += size;
    }
    setter_ = {};
  }

  void data_row(Bytes bytes, std::uint64_t address, std::uint64_t start, Content content) {
    std::string text(reinterpret_cast<const char*>(bytes.data()), bytes.size());
    if (content == Content::bytes)
      std::ranges::replace_if(
          text, [](char c) { return c < 0x20 || c == 0x7f; }, '.');
    ListedInstruction row;
    row.address = program_.elf().section_offset(address);
    row.offset = address - start;
    row.bytes = bytes;
    row.content = content;
    row.text = text;
    row.label = label_at(address);
    sink_->instruction(row);
    summary_.data += bytes.size();
  }

  void row(const isa::Instruction& instruction, std::uint64_t address, std::uint64_t start, Bytes bytes) {
    ListedInstruction row;
    row.address = program_.elf().section_offset(address);
    row.offset = address - start;
    row.bytes = bytes;
    row.content = instruction ? Content::instruction : Content::unknown;
    isa::Text text;
    if (instruction) {
      row.kind = isa::flow_of(instruction);
      const bool direct = refer(instruction, address, row);
      // What is counted from the next instruction hardly ever comes again.
      const bool passing = direct || instruction.modrm_at == 0 ? direct : (instruction.modrm & 0xc7) == 5;
      if (passing) text = isa::text_of(instruction, row.address, request_.syntax);
      row.text = passing ? text.view() : texts_.text_of(instruction, request_.syntax);
    } else {
      text.add(".byte ");
      text.add_hex(bytes[0]);
      row.text = text.view();
      ++summary_.undecoded;
    }
    std::string meaning;
    if (request_.meaning && instruction) meaning = meaning_of(instruction, address, row.address);
    row.meaning = meaning;
    if (const auto line = has_lines_ ? program_.lines().at(address) : std::nullopt) {
      row.file = program_.source_path(*line);
      row.line = line->line;
    }
    row.label = label_at(address);
    std::vector<program::Inlined> inlined;
    if (any_inlined_) inlined = inlining_.at(address);
    row.inlined = inlined;
    std::vector<SwitchCase> cases;
    if (row.kind == isa::ControlFlow::jump && !row.target && function_ != nullptr) cases = cases_of(address);
    row.cases = cases;
    sink_->instruction(row);
    ++summary_.instructions;
  }

  /// Where a jump goes through its table; nothing when none was found.
  std::vector<SwitchCase> cases_of(std::uint64_t jump) {
    std::vector<SwitchCase> result;
    // The scan that tells code from data is in use.
    if (!table_scan_) table_scan_.emplace(program_);
    for (const program::JumpTable& table : table_scan_->tables_of(*function_)) {
      if (table.jump != jump) continue;
      for (std::uint64_t i = 0; i < table.entries; ++i) {
        const auto target = program::target_of(program_, table, i);
        if (!target) break;
        const std::uint64_t shown = program_.elf().section_offset(*target);
        auto known = std::ranges::find(result, shown, &SwitchCase::target);
        if (known == result.end()) known = result.insert(result.end(), {{}, shown, program_.reference(*target).name});
        known->entries.push_back(i);
      }
    }
    return result;
  }

  /// Where jumps of the piece arrive: there the flags may come from elsewhere.
  void find_targets(Bytes code, std::uint64_t from) {
    targets_.clear();
    for (std::uint64_t at = 0; at < code.size();) {
      const isa::Instruction instruction = isa::decode(code.subspan(at), program_.mode());
      std::uint64_t target = 0;
      if (instruction && isa::direct_target(instruction, from + at, target)) targets_.insert(target);
      at += instruction ? instruction.length : 1;
    }
  }

  /// The sentence; a condition is told by the compare or test before it, where nothing can come in between.
  std::string meaning_of(const isa::Instruction& instruction, std::uint64_t address, std::uint64_t shown_address) {
    if (targets_.count(address) != 0 || program_.label_at(address) != nullptr) setter_ = {};
    std::string meaning = setter_ ? isa::sentence_after(instruction, shown_address, setter_, setter_address_)
                                  : isa::sentence(instruction, shown_address);
    const isa::ControlFlow flow = isa::flow_of(instruction);
    if (isa::sets_condition_flags(instruction)) {
      setter_ = instruction;
      setter_address_ = shown_address;
    } else if (flow != isa::ControlFlow::next && flow != isa::ControlFlow::conditional) {
      setter_ = {};
    }
    return meaning;
  }

  /// The symbol that stands at an address. Addresses mostly ascend, so the place of the last one is kept.
  std::string_view label_at(std::uint64_t address) {
    const auto& labels = program_.labels();
    const auto below = [](const program::Label& l, std::uint64_t a) { return l.address < a; };
    if (next_label_ > 0 && labels[next_label_ - 1].address >= address) next_label_ = 0;
    if (next_label_ < labels.size() && labels[next_label_].address < address)
      next_label_ = static_cast<std::size_t>(
          std::lower_bound(labels.begin() + static_cast<std::ptrdiff_t>(next_label_), labels.end(), address, below) -
          labels.begin());
    if (next_label_ == labels.size() || labels[next_label_].address != address) return {};
    return labels[next_label_].name;
  }

  /// What a direct target or memory address refers to; true for direct branches. In an object file the relocation says
  /// it; the number in the instruction means nothing yet.
  bool refer(const isa::Instruction& instruction, std::uint64_t address, ListedInstruction& row) {
    std::uint64_t target = 0;
    const bool direct = isa::direct_target(instruction, address, target);
    const bool object = program_.elf().kind() == binary::Kind::relocatable;
    if (auto relocated = object ? program_.relocated_reference(address, instruction.length) : std::nullopt) {
      relocated_ = std::move(*relocated);
      row.target_name = relocated_.name;
      row.target_text = relocated_.text;
    } else if (direct || isa::fixed_memory_address(instruction, address, target)) {
      const program::Reference& reference = references_.at(target);
      row.target = program_.elf().section_offset(target);
      row.target_name = reference.name;
      row.target_text = reference.text;
    } else if (is_thread_access(instruction)) {
      relocated_ = {program_.thread_variable(instruction.displacement), {}};
      row.target_name = relocated_.name;
    }
    return direct;
  }

  /// fs (gs in 32-bit programs) points to the thread's own block.
  [[nodiscard]] bool is_thread_access(const isa::Instruction& instruction) const {
    const int segment = program_.elf().wide() ? isa::kFs : isa::kGs;
    if (instruction.segment_override() != segment || instruction.displacement_size != 4) return false;
    const isa::Operands operands = isa::operands_of(instruction);
    return std::ranges::any_of(operands, [](const isa::Operand& operand) {
      return operand.kind == isa::Operand::Kind::memory && operand.memory.is_absolute();
    });
  }

  const Program& program_;
  const ListingRequest& request_;
  const Function* function_ = nullptr;  ///< of the piece at hand; may be null
  bool any_inlined_ = false;            ///< it holds inlined calls
  ListingSink* sink_ = nullptr;         ///< of the piece at hand
  ListingSummary summary_;
  bool has_lines_ = !program_.lines().empty();
  program::CodeScan scan_;
  std::size_t next_label_ = 0;
  std::set<std::uint64_t> targets_;
  isa::Instruction setter_;  ///< what set the flags; none when that is not known
  std::uint64_t setter_address_ = 0;
  TextCache texts_;
  ReferenceCache references_;
  program::Reference relocated_;
  program::Inlining inlining_;
  std::optional<program::CodeScan> table_scan_;  ///< for jump tables
};

std::string_view kind_name(isa::ControlFlow kind) {
  constexpr std::string_view kNames[] = {"next", "jump", "conditional", "call", "return", "trap", "system"};
  return kNames[static_cast<std::size_t>(kind)];
}

Result<ListingPlan> plan_listing(const Program& program, const ListingRequest& request) {
  Result<std::vector<Piece>> pieces = pieces_of(program, request);
  if (!pieces) return pieces.error();
  return ListingPlan{&program, request, std::move(*pieces)};
}

PieceLister::PieceLister(const ListingPlan& plan) : work_(std::make_unique<Work>(*plan.program, plan.request)) {}
PieceLister::~PieceLister() = default;
void PieceLister::list(const ListingPiece& piece, ListingSink& sink) { work_->piece(piece, sink); }
const ListingSummary& PieceLister::summary() const { return work_->summary(); }

ListingSummary list(const ListingPlan& plan, ListingSink& sink) {
  PieceLister lister(plan);
  sink.begin(plan.file());
  for (const ListingPiece& piece : plan.pieces) lister.list(piece, sink);
  sink.end();
  return lister.summary();
}

}  // namespace deeptrace::session
