#include "session/listing.h"

#include <algorithm>
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

/// A range to list and the function that it belongs to; several pieces when a range spans functions.
struct Piece {
  const Function* function;
  AddressRange range;
};

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
      if (function.own) pieces.push_back({&function, function.range()});
    }
  }
  return pieces;
}

class Lister {
 public:
  Lister(const Program& program, const ListingRequest& request, ListingSink& sink)
      : program_(program), request_(request), sink_(sink), scan_(program) {}

  void piece(const Piece& piece) {
    ListedFunction head;
    const binary::Elf& elf = program_.elf();
    const std::uint64_t start = piece.function != nullptr ? piece.function->address : piece.range.from;
    if (const binary::Section* section = elf.section_at(start)) head.section = section->name;
    head.address = elf.section_offset(start);
    head.size = piece.function != nullptr ? piece.function->size : piece.range.to - piece.range.from;
    if (piece.function != nullptr) {
      head.name = piece.function->name;
      head.origin = piece.function->origin;
      if (piece.function->source) {
        head.file = program_.source_path(*piece.function->source);
        head.line = piece.function->source->line;
      }
    } else {
      head.name = head.section;
      head.origin = Function::Origin::section;
    }
    sink_.begin_function(head);
    ++summary_.functions;
    instructions(piece.range, start);
    sink_.end_function();
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
      const isa::Instruction instruction = isa::decode(code.subspan(at), program_.mode());
      const std::size_t length = instruction ? instruction.length : 1;
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
    sink_.instruction(row);
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
      text = isa::text_of(instruction, row.address, request_.syntax);
      row.kind = isa::flow_of(instruction);
      refer(instruction, address, row);
    } else {
      text.add(".byte ");
      text.add_hex(bytes[0]);
      ++summary_.undecoded;
    }
    row.text = text.view();
    std::string meaning;
    if (request_.meaning && instruction) meaning = meaning_of(instruction, address, row.address);
    row.meaning = meaning;
    if (const auto line = program_.lines().at(address)) {
      row.file = program_.source_path(*line);
      row.line = line->line;
    }
    row.label = label_at(address);
    sink_.instruction(row);
    ++summary_.instructions;
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

  /// What a direct target or memory address refers to. In an object file the relocation says it; the number in the
  /// instruction means nothing yet.
  void refer(const isa::Instruction& instruction, std::uint64_t address, ListedInstruction& row) {
    if (auto relocated = program_.relocated_reference(address, instruction.length)) {
      reference_ = std::move(*relocated);
    } else {
      std::uint64_t target = 0;
      if (!isa::direct_target(instruction, address, target) && !isa::fixed_memory_address(instruction, address, target))
        return;
      reference_ = program_.reference(target);
      row.target = program_.elf().section_offset(target);
    }
    row.target_name = reference_.name;
    row.target_text = reference_.text;
  }

  const Program& program_;
  const ListingRequest& request_;
  ListingSink& sink_;
  ListingSummary summary_;
  program::CodeScan scan_;
  std::size_t next_label_ = 0;
  std::set<std::uint64_t> targets_;
  isa::Instruction setter_;  ///< what set the flags; none when that is not known
  std::uint64_t setter_address_ = 0;
  program::Reference reference_;
};

}  // namespace

std::string_view kind_name(isa::ControlFlow kind) {
  constexpr std::string_view kNames[] = {"next", "jump", "conditional", "call", "return", "trap", "system"};
  return kNames[static_cast<std::size_t>(kind)];
}

Result<Done> check(const Program& program, const ListingRequest& request) {
  Result<std::vector<Piece>> pieces = pieces_of(program, request);
  if (!pieces) return pieces.error();
  return Done{};
}

Result<ListingSummary> list(const Program& program, const ListingRequest& request, ListingSink& sink) {
  Result<std::vector<Piece>> pieces = pieces_of(program, request);
  if (!pieces) return pieces.error();
  sink.begin({&program, pieces->size(), program.functions().size()});
  Lister lister(program, request, sink);
  for (const Piece& piece : *pieces) lister.piece(piece);
  sink.end();
  return lister.summary();
}

}  // namespace deeptrace::session
