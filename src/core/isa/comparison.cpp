#include "isa/comparison.h"

#include <algorithm>
#include <array>

#include "isa/operand.h"
#include "isa/text.h"

namespace deeptrace::isa {
namespace {

/// Words for the sixteen conditions; {0} and {1} are the operands, {x} what was tested.
using Words = std::array<std::string_view, 16>;

constexpr Words kCompared = {"{0} minus {1} overflowed, signed",
                             "{0} minus {1} did not overflow, signed",
                             "{0} was below {1}, unsigned",
                             "{0} was above or equal to {1}, unsigned",
                             "{0} was equal to {1}",
                             "{0} was not equal to {1}",
                             "{0} was below or equal to {1}, unsigned",
                             "{0} was above {1}, unsigned",
                             "{0} minus {1} was negative",
                             "{0} minus {1} was not negative",
                             "the low byte of {0} minus {1} had an even number of 1 bits",
                             "the low byte of {0} minus {1} had an odd number of 1 bits",
                             "{0} was less than {1}, signed",
                             "{0} was greater than or equal to {1}, signed",
                             "{0} was less than or equal to {1}, signed",
                             "{0} was greater than {1}, signed"};
constexpr std::string_view kNever = "never: the test leaves that flag 0",
                           kAlways = "always: the test leaves that flag 0";
constexpr Words kTested = {kNever,
                           kAlways,
                           kNever,
                           kAlways,
                           "{x} was 0",
                           "{x} was not 0",
                           "{x} was 0",
                           "{x} was not 0",
                           "{x} was negative, signed",
                           "{x} was not negative, signed",
                           "the low byte of {x} had an even number of 1 bits",
                           "the low byte of {x} had an odd number of 1 bits",
                           "{x} was negative, signed",
                           "{x} was not negative, signed",
                           "{x} was 0 or negative, signed",
                           "{x} was greater than 0, signed"};
constexpr Words kFloats = {"",
                           "",
                           "{0} was below {1}, or one was not a number",
                           "{0} was above or equal to {1}",
                           "{0} was equal to {1}, or one was not a number",
                           "{0} was not equal to {1}",
                           "{0} was below or equal to {1}, or one was not a number",
                           "{0} was above {1}",
                           "",
                           "",
                           "{0} or {1} was not a number",
                           "{0} and {1} were numbers",
                           "",
                           "",
                           "",
                           ""};
constexpr Words kResult = {"",
                           "",
                           "",
                           "",
                           "the result in {0} was 0",
                           "the result in {0} was not 0",
                           "",
                           "",
                           "the result in {0} was negative",
                           "the result in {0} was not negative",
                           "",
                           "",
                           "",
                           "",
                           "",
                           ""};

const Words* words_for(const Instruction& setter) {
  constexpr std::array<std::string_view, 8> kFloatCompares = {"comiss",  "comisd",  "ucomiss",  "ucomisd",
                                                              "vcomiss", "vcomisd", "vucomiss", "vucomisd"};
  const std::string_view name = operation_of(setter).name;
  if (name == "cmp") return &kCompared;
  if (name == "test") return &kTested;
  if (std::ranges::find(kFloatCompares, name) != kFloatCompares.end()) return &kFloats;
  // Arithmetic: zero and sign of the result, where it goes to an operand.
  const auto uses = uses_of(row_of(setter));
  const FlagUse& flags = operation_of(setter).flags;
  const bool both = (flags.written & 0xc0) == 0xc0;
  // A shift by cl leaves the flags as they were when cl is 0.
  for (const OperandUse use : uses) {
    const OperandKind& kind = kind_of(use);
    if (kind.source == Source::fixed && kind.file == RegisterFile::general && kind.index == kRcx) return nullptr;
  }
  return both && !uses.empty() && row_of(setter).shown != 0 && writes(uses[0].access) ? &kResult : nullptr;
}

std::string operand_words(const Instruction& setter, const Operand& operand, std::uint64_t address) {
  Operand bare = operand;
  if (bare.kind == Operand::Kind::memory) bare.width = 0;
  Text text;
  add_operand(text, setter, bare, address, Syntax::intel);
  return std::string(text.view());
}

}  // namespace

std::optional<unsigned> condition_of(const Instruction& instruction) {
  const std::int8_t code = operation_of(instruction).condition;
  return code < 0 ? std::nullopt : std::optional<unsigned>(static_cast<unsigned>(code));
}

bool sets_condition_flags(const Instruction& instruction) {
  constexpr unsigned kAsked = 0x8c5;  // OF SF ZF PF CF
  const FlagUse& flags = operation_of(instruction).flags;
  return ((flags.written | flags.undefined | flags.cleared | flags.set) & kAsked) != 0;
}

std::string comparison_words(unsigned code, const Instruction& setter, std::uint64_t setter_address) {
  const Words* words = words_for(setter);
  if (words == nullptr) return {};
  const Operands operands = operands_of(setter);
  const std::string first = operand_words(setter, operands[0], setter_address);
  const std::string second = operands.shown > 1 ? operand_words(setter, operands[1], setter_address) : std::string();
  return filled((*words)[code & 15], [&](char key) {
    if (key == 'x') return first == second ? first : first + " AND " + second;
    return key == '0' ? first : second;
  });
}

namespace {

/// "was" becomes "is": values are looked at where names were remembered.
std::string in_present(std::string text) {
  constexpr std::pair<std::string_view, std::string_view> kTenses[] = {
      {" was ", " is "}, {" were ", " are "}, {" had ", " has "}, {" did ", " does "}, {"overflowed", "overflows"}};
  for (const auto& [past, present] : kTenses) {
    const std::size_t at = text.find(past);
    if (at != std::string::npos) text.replace(at, past.size(), present);
  }
  return text;
}

std::string decimal(std::uint64_t value, unsigned bits, bool is_unsigned) {
  const unsigned unused = bits == 0 || bits >= 64 ? 0 : 64 - bits;
  const std::uint64_t raised = value << unused;
  return is_unsigned ? std::to_string(raised >> unused) : std::to_string(static_cast<std::int64_t>(raised) >> unused);
}

}  // namespace

std::string decision_words(unsigned code, bool holds, const Instruction& setter, const Compared& values) {
  const Words* words = words_for(setter);
  if (words == nullptr || words == &kFloats) return {};
  // Neighbouring conditions are opposites (Intel SDM volume 2, appendix B.1.4.7).
  const std::string_view pattern = (*words)[holds ? code & 15 : (code & 15) ^ 1];
  const bool is_unsigned = pattern.ends_with(", unsigned");
  const unsigned bits = operands_of(setter)[0].width;
  const std::string text = filled(pattern, [&](char key) {
    if (words == &kResult) return decimal(values.result, bits, is_unsigned);
    if (key == 'x') return decimal(values.first & values.second, bits, is_unsigned);
    return decimal(key == '0' ? values.first : values.second, bits, is_unsigned);
  });
  if (words != &kResult) return in_present(text);
  const std::size_t in = text.find(" in ");  // "the result in 3 was 0"
  return in == std::string::npos ? text : in_present("the result " + text.substr(in + 4));
}

std::string sentence_after(const Instruction& instruction, std::uint64_t address, const Instruction& setter,
                           std::uint64_t setter_address) {
  std::string result = sentence(instruction, address);
  const auto code = condition_of(instruction);
  if (!code) return result;
  const std::string words = comparison_words(*code, setter, setter_address);
  const std::string_view general = conditions()[*code].words;
  const std::size_t at = result.find(general);
  if (words.empty() || at == std::string::npos) return result;
  const std::string_view flags = general.substr(std::min(general.rfind(" ("), general.size()));
  return result.replace(at, general.size(), words + std::string(flags));
}

}  // namespace deeptrace::isa
