#include "study/assembly.h"

#include <algorithm>
#include <array>

#include "isa/assembler.h"
#include "isa/walk.h"
#include "program/code_scan.h"
#include "program/location.h"

namespace deeptrace::study {
namespace {

using program::AddressRange;
using program::Program;

/// The places of a range at which instructions start, and those that are referred to: one bit a byte.
class Marks {
 public:
  explicit Marks(std::uint64_t size) : bits_((size + 63) / 64) {}
  void set(std::uint64_t at) { bits_[at / 64] |= std::uint64_t(1) << (at % 64); }
  [[nodiscard]] bool at(std::uint64_t at) const { return ((bits_[at / 64] >> (at % 64)) & 1) != 0; }

 private:
  std::vector<std::uint64_t> bits_;
};

/// Writes one range.
class RangeWriter {
 public:
  RangeWriter(const Program& program, isa::Syntax syntax, AddressRange range, std::size_t number, AssemblySink& sink,
              std::vector<program::Stretch> stretches, AssemblySummary& summary, std::array<bool, 256>& late)
      : program_(program),
        syntax_(syntax),
        start_(range.from),
        code_(program.elf().bytes_at(range.from)),
        number_(number),
        sink_(sink),
        summary_(summary),
        late_(late),
        starts_(range.to - range.from),
        targets_(range.to - range.from),
        stretches_(std::move(stretches)) {
    code_ = code_.first(std::min<std::size_t>(code_.size(), range.to - range.from));
  }

  void run() {
    mark();
    isa::Text base;
    add_base_name(base);
    base.add(':');
    sink_.line(base.view());
    for (const program::Stretch& stretch : stretches_) {
      const std::uint64_t end = std::min<std::uint64_t>(stretch.range.to - start_, code_.size());
      for (std::uint64_t at = stretch.range.from - start_; at < end;)
        at += stretch.kind == program::Stretch::Kind::code ? instruction(at, end) : data(at, end, stretch.kind);
    }
  }

 private:
  [[nodiscard]] isa::Instruction decode(std::uint64_t at, std::uint64_t end) const {
    return isa::decode(code_.subspan(at, end - at), program_.mode());
  }

  /// Direct targets and RIP-relative addresses: what moves with the code.
  static bool moving_reference(const isa::Instruction& instruction, std::uint64_t address, std::uint64_t& target) {
    if (isa::direct_target(instruction, address, target)) return true;
    return instruction.is_ip_relative() && isa::fixed_memory_address(instruction, address, target);
  }

  void mark() {
    for (const program::Stretch& stretch : stretches_) {
      if (stretch.kind == program::Stretch::Kind::code) {
        mark_code(stretch.range.from - start_, std::min<std::uint64_t>(stretch.range.to - start_, code_.size()));
      } else {
        for (std::uint64_t at = stretch.range.from; at < stretch.range.to; ++at) starts_.set(at - start_);
      }
    }
  }

  void mark_code(std::uint64_t at, std::uint64_t end) {
    for (const isa::Placed& one : isa::instructions_of(code_.subspan(at, end - at), program_.mode())) {
      starts_.set(at + one.at);
      std::uint64_t target = 0;
      if (one.instruction && moving_reference(one.instruction, start_ + at + one.at, target) &&
          target - start_ < code_.size())
        targets_.set(target - start_);
    }
  }

  /// ".L0", ".L1": the first label of each range.
  void add_base_name(isa::Text& text) const {
    text.add(".L");
    text.add(std::to_string(number_));
  }

  /// ".L0_3c": the place 0x3c bytes after it.
  void add_label_name(isa::Text& text, std::uint64_t at) const {
    add_base_name(text);
    text.add('_');
    text.add_digits(at);
  }

  /// A label where an instruction starts, else a number from the range's first label on.
  [[nodiscard]] isa::Text name_of(std::uint64_t target) const {
    isa::Text name;
    const std::uint64_t at = target - start_;
    if (at < code_.size() && starts_.at(at)) {
      add_label_name(name, at);
      return name;
    }
    add_base_name(name);
    const auto distance = static_cast<std::int64_t>(at);
    if (distance >= 0) name.add('+');
    name.add_signed_hex(distance);
    return name;
  }

  /// Writes what stands at an offset, up to `end`; returns its length in bytes.
  std::uint64_t instruction(std::uint64_t at, std::uint64_t end) {
    head(at);
    const isa::Instruction decoded = decode(at, end);
    if (!decoded) {
      isa::Text bytes;
      bytes.add('\t');
      isa::add_bytes(bytes, code_.subspan(at, 1));
      sink_.line(bytes.view());
      ++summary_.undecoded;
      return 1;
    }
    isa::Names names;
    isa::Text name;
    std::uint64_t target = 0;
    if (moving_reference(decoded, start_ + at, target)) {
      name = name_of(target);
      (isa::direct_target(decoded, start_ + at, target) ? names.target : names.displacement) = name.view();
    }
    const isa::AssemblerText text =
        isa::assembler_text(decoded, code_.subspan(at, decoded.length), start_ + at, syntax_, names);
    count(text);
    isa::Text line;
    line.add('\t');
    line.add(text.text.view());
    sink_.line(line.view());
    return decoded.length;
  }

  /// The function's name as a remark, and the label where one is needed.
  void head(std::uint64_t at) {
    const program::Function* function = program_.function_at(start_ + at);
    if (function != nullptr && function->address == start_ + at) sink_.line("# " + function->name.str());
    if (!targets_.at(at)) return;
    isa::Text label;
    add_label_name(label, at);
    label.add(':');
    sink_.line(label.view());
  }

  /// Writes data up to the next label or `end`; returns its length in bytes.
  std::uint64_t data(std::uint64_t at, std::uint64_t end, program::Stretch::Kind kind) {
    head(at);
    const bool is_text = kind == program::Stretch::Kind::string;
    std::uint64_t size = 1;
    while (at + size < end && size < (is_text ? 48 : 8) && !targets_.at(at + size) &&
           !(is_text && code_[at + size - 1] == 0)) {
      ++size;
    }
    isa::Text line;
    line.add('\t');
    (is_text ? isa::add_characters : isa::add_bytes)(line, code_.subspan(at, size));
    sink_.line(line.view());
    summary_.data += size;
    return size;
  }

  void count(const isa::AssemblerText& text) {
    ++summary_.instructions;
    switch (text.form) {
      case isa::Form::plain: break;
      case isa::Form::padding: ++summary_.padding; break;
      case isa::Form::late_symbol:
        ++summary_.late_symbols;
        late_[static_cast<std::uint8_t>(text.late_value)] = true;
        break;
      case isa::Form::apart: ++summary_.prefixes_apart; break;
      case isa::Form::bytes: ++summary_.as_bytes; break;
    }
  }

  const Program& program_;
  isa::Syntax syntax_;
  std::uint64_t start_;
  Bytes code_;
  std::size_t number_;
  AssemblySink& sink_;
  AssemblySummary& summary_;
  std::array<bool, 256>& late_;
  Marks starts_;
  Marks targets_;
  std::vector<program::Stretch> stretches_;
};

void late_symbols(const std::array<bool, 256>& late, AssemblySink& sink) {
  for (std::size_t i = 0; i < late.size(); ++i) {
    if (!late[i]) continue;
    const auto value = static_cast<std::int8_t>(i);
    isa::Text line;
    line.add(".set ");
    isa::add_late_symbol_name(line, value);
    line.add(", ");
    line.add_signed_hex(value);
    sink.line(line.view());
  }
}

Result<std::vector<AddressRange>> ranges_of(const Program& program, const AssemblyRequest& request) {
  std::vector<AddressRange> ranges;
  for (const std::string& where : request.where) {
    Result<std::vector<AddressRange>> found = program::ranges_of(program, where);
    if (!found) return found.error();
    ranges.insert(ranges.end(), found->begin(), found->end());
  }
  if (request.where.empty()) {
    for (const program::Function& function : program.functions()) {
      if (program.is_own(function)) ranges.push_back(function.range());
    }
  }
  return ranges;
}

}  // namespace

Result<AssemblySummary> write_assembly(const Program& program, const AssemblyRequest& request, AssemblySink& sink) {
  const Result<std::vector<AddressRange>> ranges = ranges_of(program, request);
  if (!ranges) return ranges.error();
  std::string options = program.elf().wide() ? "--64" : "--32";
  for (const std::string_view option : isa::kAssemblerOptions) options += " " + std::string(option);
  sink.line("# " + program.elf().path());
  sink.line("# as " + options);
  sink.line(request.syntax == isa::Syntax::intel ? ".intel_syntax noprefix" : ".att_syntax");
  sink.line(".text");
  AssemblySummary summary;
  std::array<bool, 256> late{};
  program::CodeScan scan(program);
  for (std::size_t i = 0; i < ranges->size(); ++i) {
    const AddressRange range = (*ranges)[i];
    std::vector<program::Stretch> stretches = {{range, program::Stretch::Kind::code}};
    if (!request.data_as_code) {
      const auto split = scan.split(range);
      stretches.assign(split.begin(), split.end());
    }
    RangeWriter(program, request.syntax, range, i, sink, std::move(stretches), summary, late).run();
  }
  late_symbols(late, sink);
  sink.line("# " + std::to_string(summary.instructions) + " instructions: " + std::to_string(summary.padding) +
            " padding, " + std::to_string(summary.late_symbols) + " with a late symbol, " +
            std::to_string(summary.prefixes_apart) + " with prefixes apart, " + std::to_string(summary.as_bytes) +
            " as bytes; " + std::to_string(summary.undecoded) + " bytes that are no instruction, " +
            std::to_string(summary.data) + " bytes of data");
  return summary;
}

}  // namespace deeptrace::study
