#include "study/unwind_directives.h"

#include <algorithm>

#include "arch/dwarf_registers.h"
#include "base/number.h"
#include "debuginfo/constants.h"
#include "isa/register.h"

namespace deeptrace::study {
namespace {

using debuginfo::FrameOp;

class Writer {
 public:
  Writer(const debuginfo::UnwindEntry& entry, isa::Mode mode) : entry_(entry), mode_(mode), at_(entry.range.from) {}

  std::optional<UnwindDirectives> run() {
    result_.to = entry_.range.to;
    lines();
    if (entry_.signal_frame) add("signal_frame");
    // What the assembler begins with: the CFA is the stack pointer and a word, where the return address lies.
    const arch::Machine& machine = arch::machine_of(mode_);
    const auto stack = static_cast<std::uint8_t>(machine.dwarf_number(machine.stack_pointer));
    const auto back = static_cast<std::uint8_t>(entry_.return_register);
    const std::vector<std::uint8_t> usual = {0x0c, stack, static_cast<std::uint8_t>(machine.word),
                                             static_cast<std::uint8_t>(0x80 | back), 1};
    Bytes initial = entry_.initial;
    while (!initial.empty() && initial.back() == 0) initial = initial.first(initial.size() - 1);
    const bool same = std::ranges::equal(initial, usual) && back == machine.dwarf_return_address &&
                      entry_.data_alignment == -static_cast<std::int64_t>(machine.word);
    if (!same) {
      result_.simple = true;
      if (back != machine.dwarf_return_address) add("return_column " + std::to_string(back));
      if (!go_over(entry_.initial)) return std::nullopt;
    }
    at_ = entry_.range.from;
    if (!go_over(entry_.program)) return std::nullopt;
    return result_;
  }

 private:
  std::vector<std::string>& lines() { return result_.at[at_]; }
  void add(const std::string& directive) { lines().push_back("\t.cfi_" + directive); }
  [[nodiscard]] std::string reg(std::uint64_t number) const {
    const auto part = number < 256 ? arch::dwarf_register(static_cast<unsigned>(number), mode_) : std::nullopt;
    return part && part->file == isa::RegisterFile::general ? "%" + std::string(isa::name_of(*part))
                                                            : std::to_string(number);
  }
  [[nodiscard]] std::string factored(std::int64_t offset) const {
    return std::to_string(static_cast<std::int64_t>(static_cast<std::uint64_t>(offset) *
                                                    static_cast<std::uint64_t>(entry_.data_alignment)));
  }
  std::string factored_unsigned(ByteReader& reader) { return factored(static_cast<std::int64_t>(reader.uleb())); }
  void advance(std::uint64_t units) { at_ += units * entry_.code_alignment; }

  bool go_over(Bytes program) {
    ByteReader reader(program);
    while (!reader.at_end()) {
      const std::size_t start = reader.position();
      const std::uint8_t byte = reader.u8();
      const auto high = static_cast<FrameOp>(byte & 0xc0);
      const unsigned low = byte & 0x3f;
      bool known = true;
      switch (high) {
        case FrameOp::advance: advance(low); break;
        case FrameOp::offset: add("offset " + reg(low) + ", " + factored_unsigned(reader)); break;
        case FrameOp::restore: add("restore " + reg(low)); break;
        default: known = long_form(static_cast<FrameOp>(low), reader, program, start);
      }
      // Nothing is said of what lies beyond the function.
      if (!known || !reader.good() || at_ > entry_.range.to) return false;
    }
    return true;
  }

  /// As it stands in the table: expressions, and what has no directive.
  void escape(Bytes bytes) {
    std::string text = "escape ";
    for (std::size_t i = 0; i < bytes.size(); ++i) text += (i == 0 ? "" : ",") + hex_text(bytes[i]);
    add(text);
  }

  bool long_form(FrameOp op, ByteReader& reader, Bytes program, std::size_t start) {
    const auto with_register = [&](const char* name, auto value) {
      const std::string number = reg(reader.uleb());
      add(std::string(name) + number + ", " + value());
      return true;
    };
    const auto unsigned_offset = [&] { return factored_unsigned(reader); };
    const auto signed_offset = [&] { return factored(reader.sleb()); };
    const auto plain_offset = [&] { return std::to_string(reader.uleb()); };
    switch (op) {
      case FrameOp::nothing: return true;
      case FrameOp::advance1: advance(reader.u8()); return true;
      case FrameOp::advance2: advance(reader.u16()); return true;
      case FrameOp::advance4: advance(reader.u32()); return true;
      case FrameOp::offset_extended: return with_register("offset ", unsigned_offset);
      case FrameOp::offset_extended_signed: return with_register("offset ", signed_offset);
      case FrameOp::value_offset: return with_register("val_offset ", unsigned_offset);
      case FrameOp::value_offset_signed: return with_register("val_offset ", signed_offset);
      case FrameOp::define_cfa: return with_register("def_cfa ", plain_offset);
      case FrameOp::define_cfa_signed: return with_register("def_cfa ", signed_offset);
      case FrameOp::in_register: return with_register("register ", [&] { return reg(reader.uleb()); });
      case FrameOp::restore_extended: add("restore " + reg(reader.uleb())); return true;
      case FrameOp::undefined: add("undefined " + reg(reader.uleb())); return true;
      case FrameOp::same_value: add("same_value " + reg(reader.uleb())); return true;
      case FrameOp::remember_state: add("remember_state"); return true;
      case FrameOp::restore_state: add("restore_state"); return true;
      case FrameOp::define_cfa_register: add("def_cfa_register " + reg(reader.uleb())); return true;
      case FrameOp::define_cfa_offset: add("def_cfa_offset " + plain_offset()); return true;
      case FrameOp::define_cfa_offset_signed: add("def_cfa_offset " + signed_offset()); return true;
      case FrameOp::define_cfa_expression: reader.skip(reader.uleb()); break;
      case FrameOp::expression:
      case FrameOp::value_expression:
        (void)reader.uleb();
        reader.skip(reader.uleb());
        break;
      case FrameOp::gnu_arguments_size: (void)reader.uleb(); break;
      case FrameOp::gnu_negative_offset_extended:
        (void)reader.uleb();
        (void)reader.uleb();
        break;
      default: return false;
    }
    if (reader.good()) escape(program.subspan(start, reader.position() - start));
    return true;
  }

  const debuginfo::UnwindEntry& entry_;
  isa::Mode mode_;
  std::uint64_t at_;
  UnwindDirectives result_;
};

}  // namespace

std::optional<UnwindDirectives> unwind_directives(const debuginfo::UnwindEntry& entry, isa::Mode mode) {
  return Writer(entry, mode).run();
}

}  // namespace deeptrace::study
