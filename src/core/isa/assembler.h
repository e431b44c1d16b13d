// Instructions as source that GNU as turns back into the same bytes.
//
// Text alone does not say which of several encodings was used. Where the assembler would choose another one, a hint
// stands before the mnemonic (`{disp32}`, `{load}`, `{vex3}`), a prefix is written as a word of its own, or an
// immediate is written as a symbol whose value is set at the end of the source, so that the assembler must reserve the
// wide field. What no text gives is written as bytes. The assembler is called with kAssemblerOptions.
#pragma once

#include <array>
#include <cstdint>
#include <span>
#include <string_view>

#include "isa/instruction.h"
#include "isa/text.h"

namespace deeptrace::isa {

/// How an instruction had to be written.
enum class Form : std::uint8_t {
  plain,        ///< its text, with hints where needed
  padding,      ///< padding: fillers of many prefixes, calls that the thread-local storage ABI pads
  late_symbol,  ///< with an immediate that is a symbol set later
  apart,        ///< some of its prefixes on lines of their own
  bytes,        ///< as bytes
};

struct AssemblerText {
  Text text;  ///< one or more lines, without the last line's end
  Form form = Form::plain;
  /// late_symbol: the value; its symbol is named by late_symbol_name.
  std::int8_t late_value = 0;
};

/// `bytes` are those of the instruction. `address` is where its text's numbers count from.
AssemblerText assembler_text(const Instruction& instruction, std::span<const std::uint8_t> bytes, std::uint64_t address,
                             Syntax syntax, const Names& names);

/// What GNU as must be called with, besides `--64` or `--32`: no other encodings than asked for, the index register
/// that stands for none, and near branches read as Intel's processors do (see vendor_difference).
inline constexpr std::array<std::string_view, 3> kAssemblerOptions = {"-O0", "-mindex-reg", "-mintel64"};

/// "late_5", "late_minus_5".
void add_late_symbol_name(Text& text, std::int8_t value);

/// The bytes as a line of data, comma-separated.
void add_bytes(Text& text, std::span<const std::uint8_t> bytes);

/// The bytes as a line of characters, with octal escapes.
void add_characters(Text& text, std::span<const std::uint8_t> bytes);

}  // namespace deeptrace::isa
