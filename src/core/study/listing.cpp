#include "study/listing.h"

#include <algorithm>
#include <array>
#include <set>

#include "base/digits.h"
#include "base/number.h"
#include "isa/comparison.h"
#include "isa/operand.h"
#include "isa/texts.h"
#include "isa/walk.h"
#include "program/code_scan.h"
#include "program/constants.h"
#include "program/instances.h"
#include "program/location.h"

namespace deeptrace::study {
namespace {

using program::AddressRange;
using program::Function;
using program::Program;

using Piece = ListingPiece;

/// Cuts a range at the functions in it. What lies between functions is padding and left out, unless the range names
/// bytes that no function holds.
void add_pieces(const Program& program, AddressRange range, std::vector<Piece>& pieces) {
  const auto& functions = program.functions();
  auto next = functions.after(range.from);
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

std::vector<ListedInstances> instances_among(const Program& program, const std::vector<std::string>& where) {
  constexpr std::size_t kMostDebugBytes = std::size_t(16) << 20;  // a quarter of a second
  constexpr std::size_t kMostPlaces = 12;
  std::vector<ListedInstances> result;
  for (const std::string& name : where) {
    // Addresses, sections, lines and places in functions are no names.
    const std::size_t colon = name.rfind(':');
    const bool in_file = colon != std::string::npos && colon != 0 && name[colon - 1] != ':';
    if (number_in(name) || name.starts_with('.') || in_file || name.find("..") != std::string::npos) continue;
    const program::Instances found = program::instances_of(program, name, kMostDebugBytes);
    ListedInstances listed{name, found.counts(), {}};
    if (found.empty() || (found.clones.empty() && found.inlined.empty())) continue;
    for (const debuginfo::InlinedCopy& copy : found.inlined) {
      if (listed.inlined_in.size() < kMostPlaces) listed.inlined_in.push_back(program.place_name(copy.address()));
    }
    result.push_back(std::move(listed));
  }
  return result;
}

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
      : program_(program),
        request_(request),
        scan_(program),
        texts_(request.syntax),
        references_(program),
        inlining_(program) {}

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
    has_details_ = request_.meaning || has_lines_ || any_inlined_;
    prepare_local_names();
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
      const auto known = scan_.instructions_from(stretch.range.from);
      if (stretch.kind != program::Stretch::Kind::code) {
        data_of(bytes, stretch.range.from, start, stretch.kind);
      } else if (known.empty() || request_.data_as_code) {
        instructions_of(bytes, stretch.range.from, start);
      } else {
        instructions_of(bytes, known, stretch.range.from, start);
      }
    }
  }

  /// How many instructions ahead the pattern of a text is fetched from memory.
  static constexpr std::size_t kAhead = 3;

  /// Those that are known, as far as the bytes go.
  void instructions_of(Bytes code, std::span<const isa::Instruction> known, std::uint64_t from, std::uint64_t start) {
    std::size_t at = 0;
    for (std::size_t i = 0; i < known.size(); ++i) {
      const isa::Instruction& instruction = known[i];
      if (at + instruction.length > code.size()) break;
      if (i + kAhead < known.size()) texts_.prepare(known[i + kAhead]);
      row(instruction, from + at, start, code.subspan(at, instruction.length));
      at += instruction.length;
    }
    if (at < code.size()) instructions_of(code.subspan(at), from + at, start);
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
    const bool is_text = kind == program::Stretch::Kind::string;
    for (std::uint64_t at = 0; at < bytes.size();) {
      std::uint64_t size = 1;
      for (; at + size < bytes.size() && size < (is_text ? kLongestText : kBytesPerRow); ++size) {
        if (program_.label_at(from + at + size) != nullptr) break;
        const bool ended = bytes[at + size - 1] == 0 && bytes[at + size] != 0;
        if (is_text && (ended || bytes[at + size - 1] == '\n')) break;
      }
      data_row(bytes.subspan(at, size), from + at, start, is_text ? Content::string : Content::bytes);
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
    ListedInstruction& row = row_;
    row.address = shown(address);
    row.offset = address - start;
    row.bytes = bytes;
    row.content = instruction ? Content::instruction : Content::unknown;
    row.kind = isa::ControlFlow::next;
    row.target = std::nullopt;
    row.target_name = {};
    row.target_text = {};
    row.target_value = {};
    isa::Text text;
    if (instruction) {
      row.kind = isa::flow_of(instruction);
      refer(instruction, address, row);
      row.text = texts_.text_of(instruction, row.address);
    } else {
      text.add(".byte ");
      text.add_hex(bytes[0]);
      row.text = text.view();
      ++summary_.undecoded;
    }
    row.label = label_at(address);
    const bool through_table = row.kind == isa::ControlFlow::jump && !row.target && function_ != nullptr;
    if (has_details_ || through_table) {
      with_details(row, instruction, address, through_table);
    } else {
      sink_->instruction(row);
    }
    ++summary_.instructions;
  }

  /// The same with what only some files, requests and instructions have.
  void with_details(ListedInstruction row, const isa::Instruction& instruction, std::uint64_t address,
                    bool through_table) {
    std::string meaning;
    if (request_.meaning && instruction) meaning = meaning_of(instruction, address, row.address);
    row.meaning = meaning;
    if (const auto line = has_lines_ ? program_.lines().at(address) : std::nullopt) {
      row.file = program_.source_path(*line);
      row.line = line->line;
    }
    std::vector<program::Inlined> inlined;
    if (any_inlined_) inlined = inlining_.at(address);
    row.inlined = inlined;
    if (through_table) row.cases = cases_of(address);
    sink_->instruction(row);
  }

  /// Where a jump goes through its table, in the order of the first entries; nothing when none was found. Holds until
  /// the next call.
  std::span<const SwitchCase> cases_of(std::uint64_t jump) {
    const std::optional<program::JumpTable> table = scan_.table_of(*function_, jump);
    if (!table) return {};
    entries_.clear();
    for (const std::uint64_t target : program::targets_of(program_, *table))
      entries_.emplace_back(target, entries_.size());
    std::ranges::sort(entries_);
    groups_.clear();
    for (std::size_t i = 0; i < entries_.size(); ++i) {
      if (i == 0 || entries_[i].first != entries_[i - 1].first) groups_.emplace_back(entries_[i].second, i);
    }
    std::ranges::sort(groups_);
    if (cases_.size() < groups_.size()) cases_.resize(groups_.size());
    for (std::size_t i = 0; i < groups_.size(); ++i) {
      SwitchCase& one = cases_[i];
      std::size_t at = groups_[i].second;
      const std::uint64_t target = entries_[at].first;
      one.target = shown(target);
      one.name = name_at(target);
      one.entries.clear();
      for (; at < entries_.size() && entries_[at].first == target; ++at) one.entries.push_back(entries_[at].second);
    }
    return std::span(cases_).first(groups_.size());
  }

  /// Where jumps of the piece arrive: there the flags may come from elsewhere.
  void find_targets(Bytes code, std::uint64_t from) {
    targets_.clear();
    for (const auto& [at, instruction] : isa::instructions_of(code, program_.mode())) {
      std::uint64_t target = 0;
      if (instruction && isa::direct_target(instruction, from + at, target)) targets_.insert(target);
    }
  }

  /// The sentence; a condition is worded by the compare or test before it, where nothing can come in between.
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

  /// What a direct target or memory address refers to. In an object file the relocation says
  /// it; the number in the instruction means nothing yet.
  void refer(const isa::Instruction& instruction, std::uint64_t address, ListedInstruction& row) {
    std::uint64_t target = 0;
    const bool direct = isa::direct_target(instruction, address, target);
    if (auto relocated = object_ ? program_.relocated_reference(address, instruction.length) : std::nullopt) {
      relocated_ = std::move(*relocated);
      row.target_name = relocated_.name;
      row.target_text = relocated_.text;
    } else if (direct && is_inside(target)) {
      row.target = shown(target);
      row.target_name = name_at(target);
    } else if (direct || (is_place(instruction) && isa::fixed_memory_address(instruction, address, target))) {
      const program::Reference& reference = references_.at(target);
      row.target = shown(target);
      row.target_name = reference.name;
      row.target_text = reference.text;
      if (direct) return;
      constant_ = program::floating_constant(program_, instruction, address);
      if (constant_.empty()) return;
      row.target_value = constant_;
      row.target_text = {};  // such bytes may read as a string
    } else if (is_thread_access(instruction)) {
      relocated_ = {program_.thread_variable(instruction.displacement), {}};
      row.target_name = relocated_.name;
    }
  }

  /// In an object file an absolute address without a relocation is a number: nothing says which section it is of.
  [[nodiscard]] bool is_place(const isa::Instruction& instruction) const {
    return program_.elf().kind() != binary::Kind::relocatable || instruction.is_ip_relative();
  }

  /// Most branches stay in their function: what program_.reference says of addresses in it is put together here, where
  /// nothing but the function's name and a distance can be in it.
  void prepare_local_names() {
    local_ = {};
    if (function_ == nullptr || function_->origin == Function::Origin::plt || function_->size == 0) return;
    const AddressRange range = function_->range();
    if (program_.function_at(range.to - 1) != function_) return;  // another one begins inside
    const auto& labels = program_.labels();
    const auto label = std::ranges::upper_bound(labels, range.from, {}, &program::Label::address);
    if (label != labels.end() && label->address < range.to) return;
    local_ = range;
    local_name_ = function_->name.str() + "+";
    local_prefix_ = local_name_.size();
    local_name_.resize(local_prefix_ + 2 + 16);
  }

  /// True where a name is the function's with a distance after it.
  [[nodiscard]] bool is_inside(std::uint64_t address) const { return local_.holds(address) && address != local_.from; }

  /// The name of an address; holds until the next call.
  std::string_view name_at(std::uint64_t address) {
    if (!is_inside(address)) return references_.at(address).name;
    char* to = local_name_.data() + local_prefix_;
    put_hex(to, address - local_.from);
    return {local_name_.data(), static_cast<std::size_t>(to - local_name_.data())};
  }

  /// fs (gs in 32-bit programs) points to the thread's own block.
  [[nodiscard]] bool is_thread_access(const isa::Instruction& instruction) const {
    const int segment = arch::machine_of(program_.mode()).thread_segment;
    if (instruction.segment_override() != segment || instruction.displacement_size != 4) return false;
    const isa::Operands operands = isa::operands_of(instruction);
    return std::ranges::any_of(operands, [](const isa::Operand& operand) {
      return operand.kind == isa::Operand::Kind::memory && operand.recipe.is_absolute();
    });
  }

  [[nodiscard]] std::uint64_t shown(std::uint64_t address) const {
    return object_ ? program_.elf().section_offset(address) : address;
  }

  const Program& program_;
  const ListingRequest& request_;
  bool object_ = program_.elf().kind() == binary::Kind::relocatable;
  const Function* function_ = nullptr;  ///< of the piece at hand; may be null
  bool has_details_ = false;            ///< rows of it say more than their instruction
  bool any_inlined_ = false;            ///< it holds inlined calls
  ListedInstruction row_;               ///< the last one, without what only with_details gives
  ListingSink* sink_ = nullptr;         ///< of the piece at hand
  ListingSummary summary_;
  bool has_lines_ = !program_.lines().empty();
  program::CodeScan scan_;
  std::size_t next_label_ = 0;
  std::set<std::uint64_t> targets_;
  isa::Instruction setter_;  ///< what set the flags; none when that is not known
  std::uint64_t setter_address_ = 0;
  isa::Texts texts_;
  ReferenceCache references_;
  program::Reference relocated_;
  std::string constant_;
  AddressRange local_;      ///< addresses that belong to the function at hand and go by its name; may be empty
  std::string local_name_;  ///< "main+", and room for a distance
  std::size_t local_prefix_ = 0;
  program::Inlining inlining_;
  std::vector<std::pair<std::uint64_t, std::uint64_t>> entries_, groups_;  ///< room for cases_of
  std::vector<SwitchCase> cases_;                                          ///< likewise
};

std::string_view kind_name(isa::ControlFlow kind) {
  constexpr std::string_view kNames[] = {"next", "jump", "conditional", "call", "return", "trap", "system"};
  return kNames[static_cast<std::size_t>(kind)];
}

ListedFile ListingPlan::file() const {
  std::size_t count = pieces.size();
  if (!request.where.empty()) {
    std::set<const Function*> functions;  // inlined copies are several pieces of one
    for (const Piece& piece : pieces) functions.insert(piece.function);
    count = functions.size();
  }
  return {program, count, program->functions().size(), instances};
}

Result<ListingPlan> plan_listing(const Program& program, const ListingRequest& request) {
  Result<std::vector<Piece>> pieces = pieces_of(program, request);
  if (!pieces) return pieces.error();
  return ListingPlan{&program, request, std::move(*pieces), instances_among(program, request.where)};
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

}  // namespace deeptrace::study
