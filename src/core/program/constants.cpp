#include "program/constants.h"

#include <array>
#include <charconv>
#include <cstring>

#include "isa/operand.h"
#include "isa/table.h"
#include "isa/text.h"

namespace deeptrace::program {
namespace {

/// Bits of each floating-point number that an operand of `width` bits holds, as the sentence of the operation has it; 0
/// where it holds none.
unsigned float_bits(const isa::Instruction& instruction, unsigned width) {
  // The floating-point unit reads what is not called an integer.
  const isa::Row& row = isa::row_of(instruction);
  const bool unit = (row.traits & (isa::kX87 | isa::kX87Push | isa::kX87Pop)) != 0;
  const std::string_view sentence = isa::operation_of(row).sentence;
  if (sentence.find("integer") != std::string_view::npos) return 0;
  if (unit) return width == 32 || width == 64 ? width : 0;
  struct Words {
    std::string_view text;
    unsigned bits;
  };
  constexpr std::array<Words, 3> kWords = {Words{"32-bit float", 32}, Words{"64-bit float", 64},
                                           Words{"80-bit float", 80}};
  unsigned first = 0;
  std::size_t at = std::string_view::npos;
  for (const Words& words : kWords) {
    const std::size_t found = sentence.find(words.text);
    if (found == std::string_view::npos) continue;
    if (words.bits == width) return width;
    if (found < at) {
      at = found;
      first = words.bits;
    }
  }
  return first != 0 && width > first && width % first == 0 ? first : 0;
}

template <typename T>
std::string decimal(const std::uint8_t* bytes) {
  T number{};
  std::memcpy(&number, bytes, sizeof number);
  char text[64];
  return {text, std::to_chars(text, text + sizeof text, number).ptr};
}

}  // namespace

std::string floating_constant(const Program& program, const isa::Instruction& instruction, std::uint64_t address) {
  std::uint64_t place = 0;
  if (!isa::fixed_memory_address(instruction, address, place)) return {};
  const binary::Section* section = program.elf().section_at(place);
  if (section == nullptr || (section->flags & binary::kWritable) != 0) return {};
  const isa::Operands operands = isa::operands_of(instruction);
  for (std::size_t i = 0; i < operands.count; ++i) {
    const isa::Operand& operand = operands[i];
    if (operand.kind != isa::Operand::Kind::memory || operand.hidden || operand.width % 8 != 0) continue;
    const unsigned bits = float_bits(instruction, operand.width);
    const Bytes bytes = program.elf().bytes_at(place);
    if (bits != 32 && bits != 64) return {};
    if (bytes.size() < operand.width / 8U) return {};
    std::string result;
    const unsigned count = operand.width / bits;
    for (unsigned k = 0; k < count; ++k) {
      const std::uint8_t* one = bytes.data() + k * (bits / 8);
      result += (k == 0 ? "" : ", ") + (bits == 32 ? decimal<float>(one) : decimal<double>(one));
    }
    return count == 1 ? result : "[" + result + "]";
  }
  return {};
}

std::string constant_words(std::string_view name, std::string_view constant) {
  if (constant.empty()) return std::string(name);
  const bool own = !name.empty() && !name.starts_with('.');
  return own ? std::string(name) + " = " + std::string(constant) : std::string(constant);
}

}  // namespace deeptrace::program
