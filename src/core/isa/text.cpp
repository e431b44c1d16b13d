#include "isa/text.h"

#include <algorithm>
#include <array>
#include <cstring>
#include <utility>

namespace deeptrace::isa {
namespace {

std::string_view size_name(unsigned bits) {
  switch (bits) {
    case 8: return "byte ptr ";
    case 16: return "word ptr ";
    case 32: return "dword ptr ";
    case 48: return "fword ptr ";
    case 64: return "qword ptr ";
    case 80: return "tbyte ptr ";
    case 128: return "xmmword ptr ";
    default: return {};
  }
}

/// Segments that a memory operand uses without a prefix are not written.
bool segment_is_shown(const Instruction& instruction, const MemoryRecipe& recipe) {
  if (recipe.segment_forced) return true;
  return recipe.is_absolute() && instruction.mode() == Mode::bits32;
}

void add_memory(Text& text, const Instruction& instruction, const Operand& operand) {
  const MemoryRecipe& recipe = operand.memory;
  text.add(size_name(operand.width));
  if (segment_is_shown(instruction, recipe) || recipe.is_absolute()) {
    text.add(name_of(recipe.segment));
    text.add(':');
  }
  if (recipe.is_absolute()) {
    text.add_hex(recipe.address_size == 8 ? static_cast<std::uint64_t>(recipe.displacement)
                                          : static_cast<std::uint64_t>(recipe.displacement) & 0xffffffff);
    return;
  }
  text.add('[');
  if (recipe.base) text.add(name_of(recipe.base));
  if (recipe.index) {
    if (recipe.base) text.add('+');
    text.add(name_of(recipe.index));
    text.add('*');
    text.add(static_cast<char>('0' + recipe.scale));
  }
  if (recipe.displacement > 0 || recipe.is_ip_relative()) text.add(recipe.displacement < 0 ? "" : "+");
  if (recipe.displacement != 0 || recipe.is_ip_relative()) text.add_signed_hex(recipe.displacement);
  text.add(']');
}

/// Immediates of full width that read as a small negative number are shown so; bytes stay unsigned unless the
/// processor extends their sign.
void add_immediate(Text& text, const Operand& operand) {
  constexpr std::int64_t kSmallest = -0x8000;
  if (operand.sign_extended) {
    text.add_signed_hex(operand.value);
    return;
  }
  if (operand.width == 16 || operand.width == 32 || operand.width == 64) {
    const unsigned shift = 64 - operand.width;
    const std::int64_t value = static_cast<std::int64_t>(static_cast<std::uint64_t>(operand.value) << shift) >> shift;
    if (value < 0 && value >= kSmallest && operand.width != 16) {
      text.add_signed_hex(value);
      return;
    }
  }
  text.add_hex(static_cast<std::uint64_t>(operand.value));
}

/// Prefixes that are written as words before the mnemonic. Repeat prefixes that mean nothing are left out.
void add_prefix_words(Text& text, const Instruction& instruction) {
  const Row& row = row_of(instruction);
  const std::uint16_t prefixes = instruction.prefixes;
  const ControlFlow flow = operation_of(row).flow;
  const bool branches = (row.traits & kNear) != 0;
  if ((prefixes & kPrefixLock) != 0) text.add("lock ");
  const bool indirect = instruction.modrm_at != 0 && (row.traits & kNear) != 0;
  if (indirect && instruction.segment_override() == kDs) text.add("notrack ");
  if ((prefixes & kPrefixMandatory) != 0 && (prefixes & (kPrefixRep | kPrefixRepne)) != 0) return;
  const bool string = (row.traits & (kRep | kRepz)) != 0;
  if ((prefixes & kPrefixRepne) != 0 && (branches || string)) text.add(string ? "repne " : "bnd ");
  if ((prefixes & kPrefixRep) != 0 && string) text.add((row.traits & kRepz) != 0 ? "repe " : "rep ");
  if ((prefixes & kPrefixRep) != 0 && branches && flow == ControlFlow::return_) text.add("rep ");
}

void add_far(Text& text, const Operand& operand) {
  text.add_hex(operand.selector);
  text.add(':');
  text.add_hex(static_cast<std::uint64_t>(operand.value));
}

}  // namespace

void Text::add(std::string_view text) {
  const std::size_t size = std::min(text.size(), sizeof(buffer_) - size_);
  if (size == 0) return;
  std::memcpy(buffer_ + size_, text.data(), size);
  size_ += size;
}

void Text::add_hex(std::uint64_t value) {
  char digits[16];
  std::size_t count = 0;
  const bool prefix = value > 9;
  do {
    digits[15 - count++] = "0123456789abcdef"[value & 15];
    value >>= 4;
  } while (value != 0);
  if (prefix) add("0x");
  add({digits + 16 - count, count});
}

void Text::add_signed_hex(std::int64_t value) {
  if (value < 0) add('-');
  add_hex(value < 0 ? ~static_cast<std::uint64_t>(value) + 1 : static_cast<std::uint64_t>(value));
}

void add_intel_operand(Text& text, const Instruction& instruction, const Operand& operand, std::uint64_t address) {
  switch (operand.kind) {
    case Operand::Kind::reg: text.add(name_of(operand.reg)); break;
    case Operand::Kind::memory: add_memory(text, instruction, operand); break;
    case Operand::Kind::immediate: add_immediate(text, operand); break;
    case Operand::Kind::far: add_far(text, operand); break;
    case Operand::Kind::target: {
      std::uint64_t target = 0;
      direct_target(instruction, address, target);
      text.add_hex(target);
      break;
    }
    case Operand::Kind::none: break;
  }
}

Text intel_text(const Instruction& instruction, std::uint64_t address) {
  Text text;
  const Row& row = row_of(instruction);
  add_prefix_words(text, instruction);
  text.add(mnemonic_of(row));
  if (row.shown == 0) return text;
  const Operands operands = operands_of(instruction);
  for (unsigned i = 0; i < operands.shown; ++i) {
    text.add(i == 0 ? " " : ", ");
    add_intel_operand(text, instruction, operands[i], address);
  }
  return text;
}

std::string sentence(const Instruction& instruction, std::uint64_t address) {
  const Operands operands = operands_of(instruction);
  const std::string_view pattern = operation_of(row_of(instruction)).sentence;
  std::string result;
  for (std::size_t i = 0; i < pattern.size(); ++i) {
    if (pattern[i] != '{' || i + 2 >= pattern.size() || pattern[i + 2] != '}') {
      result += pattern[i];
      continue;
    }
    const char key = pattern[i + 1];
    i += 2;
    Text piece;
    if (key == 'v') {
      result += std::to_string(instruction.operand_size * 8);
    } else if (const auto index = static_cast<unsigned>(key - '0'); index < operands.count) {
      const Operand& operand = operands[index];
      if (operand.kind == Operand::Kind::memory && operand.width != 0) {
        Operand bare = operand;
        bare.width = 0;
        add_intel_operand(piece, instruction, bare, address);
        result += "the " + std::to_string(operand.width) + "-bit value at ";
      } else {
        add_intel_operand(piece, instruction, operand, address);
      }
      result += piece.view();
    }
  }
  if (is_repeated(instruction)) result += "; repeated, rcx times at most";
  return result;
}

std::string flag_names(std::uint64_t flags) {
  constexpr std::array<std::pair<unsigned, std::string_view>, 9> kNames = {
      {{11, "OF"}, {10, "DF"}, {9, "IF"}, {8, "TF"}, {7, "SF"}, {6, "ZF"}, {4, "AF"}, {2, "PF"}, {0, "CF"}}};
  std::string result;
  for (const auto& [bit, name] : kNames) {
    if (((flags >> bit) & 1) == 0) continue;
    if (!result.empty()) result += ' ';
    result += name;
  }
  return result;
}

}  // namespace deeptrace::isa
