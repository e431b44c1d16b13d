#include "isa/text.h"

#include <algorithm>
#include <array>
#include <cctype>
#include <cstddef>
#include <cstring>
#include <utility>

#include "base/digits.h"
#include "isa/texts.h"

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
    case 256: return "ymmword ptr ";
    case 512: return "zmmword ptr ";
    default: return {};
  }
}

std::string_view rounding_name(const Instruction& instruction, const Row& row) {
  constexpr std::string_view kModes[] = {"{rn-sae}", "{rd-sae}", "{ru-sae}", "{rz-sae}"};
  return row.rounding == Rounding::mode ? kModes[(instruction.vector >> kVectorLengthShift) & 3] : "{sae}";
}

/// Segments are shown only where they have an effect: fs and gs, and all in 32-bit mode.
bool segment_has_effect(const Instruction& instruction, const MemoryRecipe& recipe) {
  return recipe.segment.index >= kFs || instruction.mode() == Mode::bits32;
}

/// True for the index "none" of a SIB byte that a plain address would not have: `[rax+riz*1]`.
bool has_empty_index(const Instruction& instruction, const MemoryRecipe& recipe) {
  if (recipe.index || instruction.modrm_at == 0 || instruction.address_size == 2) return false;
  if ((instruction.modrm & 7) != 4) return false;
  if (instruction.sib >> 6 != 0) return true;
  const bool needed = (instruction.sib & 7) == 4 || (!recipe.base && instruction.mode() == Mode::bits64);
  return !needed;
}

/// Room for any number with its signs.
constexpr std::size_t kNumberRoom = 32;

inline void put_signed_hex(char*& to, std::int64_t value) {
  if (value < 0) *to++ = '-';
  put_hex(to, value < 0 ? ~static_cast<std::uint64_t>(value) + 1 : static_cast<std::uint64_t>(value));
}

/// Immediates of full width that read as a small negative number are shown so; bytes stay unsigned unless the
/// processor extends their sign.
inline void put_immediate(char*& to, std::int64_t value, unsigned width, bool sign_extended) {
  constexpr std::int64_t kSmallest = -0x8000;
  if (sign_extended) return put_signed_hex(to, value);
  if (width == 32 || width == 64) {
    const unsigned shift = 64 - width;
    const std::int64_t number = static_cast<std::int64_t>(static_cast<std::uint64_t>(value) << shift) >> shift;
    if (number < 0 && number >= kSmallest) return put_signed_hex(to, number);
  }
  put_hex(to, static_cast<std::uint64_t>(value));
}

inline void put_offset(char*& to, std::int64_t value, TextNumber::Form form) {
  using Form = TextNumber::Form;
  if (value == 0 && (form == Form::offset || form == Form::bare_offset)) return;
  if (value >= 0 && (form == Form::offset || form == Form::full_offset)) *to++ = '+';
  put_signed_hex(to, value);
}

inline void put_address(char*& to, std::uint64_t value, unsigned address_size) {
  put_hex(to, address_size == 8 ? value : value & (address_size == 2 ? 0xffff : 0xffffffff));
}

/// The numbers of a pattern in the making.
struct Numbers {
  struct One {
    TextNumber::Form form;
    std::size_t at;
    unsigned operand;  ///< its place among the operands
  };
  std::array<One, 8> items;
  std::size_t count = 0;
};

/// Writes one instruction in one of the syntaxes.
class Writer {
 public:
  /// With `numbers` given, the text has none: where they stand is noted there.
  Writer(Text& text, const Instruction& instruction, std::uint64_t address, Syntax syntax, const Names& names,
         Numbers* numbers = nullptr)
      : text_(text),
        in_(instruction),
        row_(row_of(instruction)),
        address_(address),
        att_(syntax == Syntax::att),
        names_(names),
        numbers_(numbers) {}

  /// Mnemonic and operands.
  void write() {
    if (row_.shown == 0) {
      text_.add(att_ ? att_mnemonic_of(row_) : mnemonic_of(row_));
      return;
    }
    write(operands_of(in_));
  }

  /// The same with the operands worked out before.
  void write(const Operands& operands) {
    add_mnemonic(operands);
    const unsigned first = (row_.traits & kSecond) != 0 ? 1 : 0;
    const bool reversed = att_ && !keeps_order(operands);
    bool separate = false;
    for (unsigned i = first; i < operands.shown; ++i) {
      text_.add(separate ? ", " : " ");
      separate = true;
      const unsigned place = reversed ? operands.shown - 1 - (i - first) : i;
      add_with_rounding(operands, place, reversed);
    }
  }

  void add(const Operand& operand) {
    switch (operand.kind) {
      case Operand::Kind::reg: add_register(operand.reg); break;
      case Operand::Kind::memory: add_memory(operand); break;
      case Operand::Kind::immediate:
        if (att_) text_.add('$');
        if (!names_.immediate.empty() && !operand.hidden) {
          text_.add(names_.immediate);
        } else {
          add_number(TextNumber::Form::immediate,
                     [&](char*& to) { put_immediate(to, operand.value, operand.width, operand.sign_extended); });
        }
        break;
      case Operand::Kind::far:
        if (att_) text_.add('$');
        text_.add_hex(operand.selector);
        text_.add(att_ ? ", $" : ":");
        text_.add_hex(static_cast<std::uint64_t>(operand.value));
        break;
      case Operand::Kind::target: add_target(); break;
      case Operand::Kind::none: break;
    }
  }

 private:
  /// Writes a number, or notes that it stands here.
  template <class Put>
  void add_number(TextNumber::Form form, Put put) {
    if (numbers_ != nullptr && !is_constant()) {
      if (numbers_->count < numbers_->items.size())
        numbers_->items[numbers_->count] = {form, text_.view().size(), place_};
      ++numbers_->count;
      return;
    }
    char number[kNumberRoom];
    char* end = number;
    put(end);
    text_.add({number, static_cast<std::size_t>(end - number)});
  }

  /// The 1 that some opcodes imply.
  [[nodiscard]] bool is_constant() const { return kind_of(uses_of(row_)[place_]).source == Source::one; }

  /// Two immediates stand in the same order in both syntaxes, and so do the operands of `bound`.
  [[nodiscard]] bool keeps_order(const Operands& operands) const {
    if (operands.shown != 2) return false;
    const bool immediates =
        operands[0].kind == Operand::Kind::immediate && operands[1].kind == Operand::Kind::immediate;
    return immediates || (row_.hints & kHintKeepsOrder) != 0;
  }

  /// The rounding mode stands past the last operand that is not an immediate; mask and zeroing at the destination.
  void add_with_rounding(const Operands& operands, unsigned place, bool reversed) {
    unsigned last = operands.shown - 1U;
    while (last > 0 && operands[last].kind == Operand::Kind::immediate) --last;
    const bool rounding = in_.has_rounding() && place == last && row_.rounding != Rounding::ignored;
    const bool after_source = operands[place].reg.file == RegisterFile::general;
    if (rounding && reversed && !after_source) {
      text_.add(rounding_name(in_, row_));
      text_.add(", ");
    }
    if (att_ && operation_is_indirect(operands[place])) text_.add('*');
    place_ = place;
    add(operands[place]);
    if (place == 0 && (in_.prefixes & kPrefixEvex) != 0) add_mask();
    if (rounding && (!reversed || after_source)) {
      text_.add(", ");
      text_.add(rounding_name(in_, row_));
    }
  }

  void add_mask() {
    if ((in_.evex & kEvexMask) == 0) return;
    text_.add(att_ ? "{%k" : "{k");
    text_.add(static_cast<char>('0' + (in_.evex & kEvexMask)));
    text_.add('}');
    if ((in_.evex & kEvexZero) != 0) text_.add("{z}");
  }

  [[nodiscard]] bool operation_is_indirect(const Operand& operand) const {
    if (operand.kind != Operand::Kind::reg && operand.kind != Operand::Kind::memory) return false;
    const ControlFlow flow = operation_of(row_).flow;
    return flow == ControlFlow::jump || flow == ControlFlow::call;
  }

  void add_register(RegisterPart part) {
    if (att_) text_.add('%');
    text_.add(name_of(part));
  }

  void add_target() {
    if (!names_.target.empty()) {
      text_.add(names_.target);
      return;
    }
    add_number(TextNumber::Form::target, [&](char*& to) {
      std::uint64_t target = 0;
      direct_target(in_, address_, target);
      put_hex(to, target);
    });
  }

  void add_mnemonic(const Operands& operands) {
    if (!att_) {
      text_.add(mnemonic_of(row_));
      return;
    }
    text_.add(att_mnemonic_of(row_));
    constexpr unsigned kAny =
        kHintSuffix | kHintBothSuffixes | kHintLengthSuffix | kHintFloatSuffix | kHintIntegerSuffix;
    if ((row_.hints & kAny) == 0) return;
    for (unsigned i = 0; i < operands.shown; ++i) {
      const Operand& operand = operands[i];
      if ((row_.hints & kHintBothSuffixes) != 0 && i == 1) {
        add_suffix(operand.width);
        add_suffix(operands[0].width);
      }
      if (operand.kind != Operand::Kind::memory) continue;
      if ((row_.hints & kHintSuffix) != 0) add_suffix(operand.width);
      if ((row_.hints & kHintFloatSuffix) != 0) text_.add(operand.width == 32 ? 's' : operand.width == 64 ? 'l' : 't');
      if ((row_.hints & kHintIntegerSuffix) != 0)
        text_.add(operand.width == 16 ? "s" : operand.width == 32 ? "l" : "ll");
      if ((row_.hints & kHintLengthSuffix) != 0) add_length_suffix(operand.width * operand.broadcast);
    }
  }

  void add_suffix(unsigned bits) {
    if (bits != 0) text_.add(bits == 8 ? 'b' : bits == 16 ? 'w' : bits == 32 ? 'l' : 'q');
  }
  /// Where half the length goes to a register, 512 bits are known by its name.
  void add_length_suffix(unsigned bits) {
    if (bits == 512 && kind_of(uses_of(row_)[0]).width == Width::vector_half) return;
    text_.add(bits <= 128 ? 'x' : bits == 256 ? 'y' : 'z');
  }

  void add_memory(const Operand& operand) {
    const MemoryRecipe recipe = operand.memory();
    if (!att_ && (row_.traits & kNoSize) == 0 && !operand.unknown_size) text_.add(size_name(operand.width));
    const bool prefix =
        recipe.segment_forced && recipe.segment.index != recipe.default_segment() && segment_has_effect(in_, recipe);
    const bool empty_index = has_empty_index(in_, recipe);
    const bool bare = recipe.is_absolute() && !empty_index;
    if (prefix || (bare && !att_)) {
      add_register(prefix ? recipe.segment : RegisterPart{RegisterFile::segment, kDs, 0, 16});
      text_.add(':');
    }
    if (att_) {
      add_att_address(recipe, bare, empty_index);
    } else {
      add_intel_address(recipe, bare, empty_index);
    }
    if (operand.broadcast > 1) {
      text_.add("{1to");
      text_.add(operand.broadcast >= 10 ? std::string_view(operand.broadcast == 16 ? "16" : "32")
                                        : std::string_view(&"0123456789"[operand.broadcast], 1));
      text_.add('}');
    }
  }

  void add_absolute(const MemoryRecipe& recipe) {
    if (!names_.displacement.empty()) {
      text_.add(names_.displacement);
    } else {
      add_number(TextNumber::Form::address, [&](char*& to) {
        put_address(to, static_cast<std::uint64_t>(recipe.displacement), recipe.address_size);
      });
    }
  }

  void add_offset(const MemoryRecipe& recipe, TextNumber::Form form) {
    add_number(form, [&](char*& to) { put_offset(to, recipe.displacement, form); });
  }

  [[nodiscard]] std::string_view empty_index_name() const {
    return in_.address_size == 8 ? std::string_view("riz") : std::string_view("eiz");
  }

  void add_intel_address(const MemoryRecipe& recipe, bool bare, bool empty_index) {
    if (bare) return add_absolute(recipe);
    text_.add('[');
    if (recipe.base) text_.add(name_of(recipe.base));
    if (recipe.index || empty_index) {
      if (recipe.base) text_.add('+');
      text_.add(empty_index ? empty_index_name() : name_of(recipe.index));
      if (recipe.address_size != 2) {
        text_.add('*');
        text_.add(static_cast<char>('0' + (empty_index ? 1 << (in_.sib >> 6) : recipe.scale)));
      }
    }
    if (!names_.displacement.empty()) {
      text_.add('+');
      text_.add(names_.displacement);
    } else {
      add_offset(recipe, recipe.is_ip_relative() ? TextNumber::Form::full_offset : TextNumber::Form::offset);
    }
    text_.add(']');
  }

  void add_att_address(const MemoryRecipe& recipe, bool bare, bool empty_index) {
    if (bare) return add_absolute(recipe);
    if (!names_.displacement.empty()) {
      text_.add(names_.displacement);
    } else {
      add_offset(recipe, recipe.is_ip_relative() ? TextNumber::Form::full_bare_offset : TextNumber::Form::bare_offset);
    }
    text_.add('(');
    if (recipe.base) add_register(recipe.base);
    if (recipe.index || empty_index) {
      text_.add(',');
      if (empty_index) {
        text_.add('%');
        text_.add(empty_index_name());
      } else {
        add_register(recipe.index);
      }
      if (recipe.address_size != 2) {
        text_.add(',');
        text_.add(static_cast<char>('0' + (empty_index ? 1 << (in_.sib >> 6) : recipe.scale)));
      }
    }
    text_.add(')');
  }

  Text& text_;
  const Instruction& in_;
  const Row& row_;
  std::uint64_t address_;
  bool att_;
  const Names& names_;
  Numbers* numbers_;
  unsigned place_ = 0;  ///< among the operands, of the one that is written
};

/// Prefixes that mean something and that no operand shows, as words before the mnemonic.
void add_prefix_words(Text& text, const Instruction& instruction) {
  const Row& row = row_of(instruction);
  const std::uint16_t prefixes = instruction.prefixes;
  const bool near = (row.traits & kNear) != 0;
  if ((prefixes & kPrefixLock) != 0) text.add("lock ");
  if (instruction.modrm_at != 0 && near && instruction.segment_override() == kDs) text.add("notrack ");
  const bool string = (row.traits & (kRep | kRepz)) != 0;
  if (string && instruction.segment_override() >= 0) {
    text.add(name_of({RegisterFile::segment, static_cast<std::uint8_t>(instruction.segment_override()), 0, 16}));
    text.add(' ');
  }
  if ((prefixes & kPrefixMandatory) != 0) return;
  if ((prefixes & kPrefixRepne) != 0 && (near || string)) text.add(string ? "repne " : "bnd ");
  if ((prefixes & kPrefixRep) != 0 && string) text.add((row.traits & kRepz) != 0 ? "repe " : "rep ");
  if ((prefixes & kPrefixRep) != 0 && near && operation_of(row).flow == ControlFlow::return_) text.add("rep ");
}

}  // namespace

void Text::add_digits(std::uint64_t value) {
  char digits[16];
  add({digits, put_digits(digits, value)});
}

void Text::add_hex(std::uint64_t value) {
  char number[kNumberRoom];
  char* end = number;
  put_hex(end, value);
  add({number, static_cast<std::size_t>(end - number)});
}

void Text::add_signed_hex(std::int64_t value) {
  if (value < 0) add('-');
  add_hex(value < 0 ? ~static_cast<std::uint64_t>(value) + 1 : static_cast<std::uint64_t>(value));
}

void add_operand(Text& text, const Instruction& instruction, const Operand& operand, std::uint64_t address,
                 Syntax syntax, const Names& names) {
  Writer(text, instruction, address, syntax, names).add(operand);
}

void add_bare_text(Text& text, const Instruction& instruction, std::uint64_t address, Syntax syntax,
                   const Names& names) {
  Writer(text, instruction, address, syntax, names).write();
}

Text text_of(const Instruction& instruction, std::uint64_t address, Syntax syntax, const Names& names) {
  Text text;
  add_prefix_words(text, instruction);
  Writer(text, instruction, address, syntax, names).write();
  return text;
}

namespace {

/// Where the number of each operand lies among the immediates. False where one is no number of its own.
bool find_fields(const Instruction& in, const Operands& operands, std::array<TextNumber, 12>& fields) {
  const auto uses = uses_of(row_of(in));
  unsigned field = 0;
  for (unsigned i = 0; i < operands.shown; ++i) {
    switch (kind_of(uses[i]).source) {
      case Source::is4:
      case Source::immediate_low4:
      case Source::far: return false;
      case Source::immediate:
      case Source::immediate_signed:
      case Source::absolute:
        fields[i].shift = static_cast<std::uint8_t>(field == 0 ? 0 : in.immediate_size[0] * 8U);
        fields[i].bytes = in.immediate_size[field++];
        fields[i].width = static_cast<std::uint8_t>(operands[i].width);
        fields[i].sign_extended = operands[i].sign_extended;
        break;
      default: break;
    }
  }
  return true;
}

std::uint64_t field_of(const Instruction& in, const TextNumber& number) {
  const unsigned unused = 64 - number.bytes * 8U;
  const std::uint64_t top = in.immediate >> number.shift << unused;
  return number.sign_extended ? static_cast<std::uint64_t>(static_cast<std::int64_t>(top) >> unused) : top >> unused;
}

inline void put_number(char*& to, const TextNumber& number, const Instruction& in, std::uint64_t address) {
  using Form = TextNumber::Form;
  switch (number.form) {
    case Form::target: {
      std::uint64_t target = 0;
      direct_target(in, address, target);
      return put_hex(to, target);
    }
    case Form::address: {
      const auto displacement = static_cast<std::uint64_t>(std::int64_t(in.displacement));
      return put_address(to, number.bytes != 0 ? field_of(in, number) : displacement, in.address_size);
    }
    case Form::immediate:
      return put_immediate(to, static_cast<std::int64_t>(field_of(in, number)), number.width, number.sign_extended);
    default: return put_offset(to, in.displacement, number.form);
  }
}

/// ModRM as far as a pattern depends on it: the size of a displacement does not matter, nor whether there is one, but
/// where its absence may mean another address (Intel SDM volume 2, tables 2-1 to 2-3).
constexpr std::array<std::uint8_t, 256> kModRmOfPattern = [] {
  std::array<std::uint8_t, 256> result{};
  for (unsigned modrm = 0; modrm < 256; ++modrm) {
    const unsigned mod = modrm >> 6, rm = modrm & 7;
    const bool any_size = mod == 2 || (mod == 0 && rm != 4 && rm != 5 && rm != 6);
    result[modrm] = static_cast<std::uint8_t>(any_size ? 0x40 | (modrm & 0x3f) : modrm);
  }
  return result;
}();

}  // namespace

bool pattern_of(const Instruction& instruction, Syntax syntax, TextPattern& pattern) {
  std::array<TextNumber, 12> fields;
  const Operands operands = operands_of(instruction);
  if (!find_fields(instruction, operands, fields)) return false;
  Text text;
  Numbers numbers;
  const Names no_names;
  add_prefix_words(text, instruction);
  Writer(text, instruction, 0, syntax, no_names, &numbers).write(operands);
  const std::size_t size = text.view().size();
  const bool long_tail = numbers.count != 0 && size - numbers.items[0].at > kLongestTail;
  if (size > kLongestPattern || long_tail || numbers.count > pattern.numbers.size()) return false;
  std::ranges::copy(text.view(), pattern.text.begin());
  pattern.size = static_cast<std::uint8_t>(size);
  pattern.count = static_cast<std::uint8_t>(numbers.count);
  for (std::size_t i = 0; i < numbers.count; ++i) {
    pattern.numbers[i] = fields[numbers.items[i].operand];
    pattern.numbers[i].form = numbers.items[i].form;
    pattern.numbers[i].at = static_cast<std::uint8_t>(numbers.items[i].at);
  }
  return true;
}

Texts::Key Texts::key_of(const Instruction& in) {
  static_assert(offsetof(Instruction, opcode) == 24 && offsetof(Instruction, modrm) == 25 &&
                offsetof(Instruction, row) == 12);
  const auto* bytes = reinterpret_cast<const unsigned char*>(&in);
  std::uint64_t registers = 0;
  Key key;
  std::memcpy(&key.row, bytes + offsetof(Instruction, row), sizeof key.row);  // and the prefixes
  std::memcpy(&registers, bytes + offsetof(Instruction, opcode), sizeof registers);
  key.registers = (registers & ~std::uint64_t(0xff00)) | std::uint64_t(kModRmOfPattern[in.modrm]) << 8;
  const std::uint64_t hash = (key.registers ^ key.row * 0x9e3779b97f4a7c15) * 0xc2b2ae3d27d4eb4f;
  key.place = (hash >> (65 - kBits)) * 2;
  return key;
}

void Texts::prepare(const Instruction& instruction) const {
  const Entry* const pair = &entries_[key_of(instruction).place];
  __builtin_prefetch(pair);
  __builtin_prefetch(pair + 1);
}

const Texts::Entry& Texts::entry_of(const Instruction& in) {
  const Key key = key_of(in);
  Entry* const pair = &entries_[key.place];
  for (Entry* entry : {pair, pair + 1}) {
    if (entry->registers == key.registers && entry->row == key.row) return *entry;
  }
  // The place that was written last stays.
  Entry& entry = pair[last_written_ ^= 1];
  entry.registers = key.registers;
  entry.row = key.row;
  entry.usable = pattern_of(in, syntax_, entry.pattern);
  return entry;
}

std::string_view Texts::text_of(const Instruction& instruction, std::uint64_t address) {
  const Entry& entry = entry_of(instruction);
  if (!entry.usable) {
    text_ = isa::text_of(instruction, address, syntax_);
    return text_.view();
  }
  // Whole pieces are copied, what stands too much is written over.
  const TextPattern& pattern = entry.pattern;
  char* to = line_.data();
  std::memcpy(to, pattern.text.data(), kLongestPattern);
  std::size_t from = 0;
  for (std::size_t i = 0; i < pattern.count; ++i) {
    to += pattern.numbers[i].at - from;
    from = pattern.numbers[i].at;
    put_number(to, pattern.numbers[i], instruction, address);
    std::memcpy(to, pattern.text.data() + from, kLongestTail);
  }
  to += pattern.size - from;
  return {line_.data(), static_cast<std::size_t>(to - line_.data())};
}

namespace {

/// The words of the table speak of 64-bit registers; 32-bit code has their lower halves.
void name_narrow_registers(std::string& text) {
  constexpr std::string_view kWide[] = {"rax", "rbx", "rcx", "rdx", "rsi", "rdi", "rbp", "rsp", "rip", "rflags"};
  const auto is_letter = [&](std::size_t at) {
    return at < text.size() && std::isalnum(static_cast<unsigned char>(text[at])) != 0;
  };
  for (const std::string_view name : kWide) {
    for (std::size_t at = text.find(name); at != std::string::npos; at = text.find(name, at + 1)) {
      if (!is_letter(at + name.size()) && (at == 0 || !is_letter(at - 1))) text[at] = 'e';
    }
  }
}

}  // namespace

namespace {

/// The mask register of an instruction with EVEX; 0 for none (which k0 stands for).
unsigned mask_of(const Instruction& instruction) {
  return (instruction.prefixes & kPrefixEvex) != 0 ? instruction.evex & kEvexMask : 0U;
}

/// "eax becomes 0: the exclusive OR of eax with itself", whatever the register holds. Empty for anything else.
std::string zeroing(const Operation& operation, const Operands& operands) {
  const std::string_view sentence = operation.sentence;
  if (operands.shown < 2 || operands.shown > 3) return {};
  const Operand& a = operands[operands.shown - 2U];
  const Operand& b = operands[operands.shown - 1U];
  const bool same = a.kind == Operand::Kind::reg && b.kind == Operand::Kind::reg && a.reg == b.reg;
  const auto says = [sentence](std::string_view words) { return sentence.find(words) != std::string_view::npos; };
  if (!same || says("float") || operation.flags.read != 0 || !writes(operands[0].access)) return {};
  const std::string becomes = std::string(name_of(operands[0].reg)) + " becomes 0: ", source(name_of(a.reg));
  if (says("bitwise exclusive OR")) return becomes + "the exclusive OR of " + source + " with itself";
  const bool integers = a.reg.file == RegisterFile::general || says("each ");
  const bool difference = integers && (says("is subtracted from") || says(" minus "));
  return difference ? becomes + source + " is subtracted from itself" : std::string();
}

/// What a mask register has to say of the elements of what is written.
std::string mask_words(const Instruction& instruction, const Operands& operands, std::string_view sentence) {
  const unsigned mask = mask_of(instruction);
  const std::string name = "k" + std::to_string(mask);
  const bool said = sentence.find("mask") != std::string_view::npos || sentence.find(name) != std::string_view::npos;
  if (mask == 0 || said || operands.shown == 0) return {};
  const bool into_mask = operands[0].kind == Operand::Kind::reg && operands[0].reg.file == RegisterFile::mask;
  const bool zeroes = into_mask || (instruction.evex & kEvexZero) != 0;
  return "; only where " + name + " has ones: the rest " + (zeroes ? "becomes 0" : "stays as it was");
}

}  // namespace

std::string sentence(const Instruction& instruction, std::uint64_t address) {
  const Operands operands = operands_of(instruction);
  if (std::string zero = zeroing(operation_of(instruction), operands); !zero.empty() && mask_of(instruction) == 0)
    return zero;
  std::string result = filled(operation_of(instruction).sentence, [&](char key) {
    if (key == 'v') return std::to_string(instruction.operand_size * 8);
    const auto index = static_cast<unsigned>(key - '0');
    if (index >= operands.count) return std::string();
    Operand operand = operands[index];
    const std::string size = operand.kind == Operand::Kind::memory && operand.width != 0
                                 ? "the " + std::to_string(operand.width) + "-bit value at "
                                 : "";
    if (!size.empty()) operand.width = 0;
    Text piece;
    add_operand(piece, instruction, operand, address, Syntax::intel);
    return size + std::string(piece.view());
  });
  result += mask_words(instruction, operands, result);
  if (is_repeated(instruction)) result += "; repeated, rcx times at most";
  if (instruction.mode() == Mode::bits32) name_narrow_registers(result);
  return result;
}

namespace {

/// The parts of a note for which `holds` says so of each of their words.
template <class Holds>
std::string parts_of(std::string_view note, Holds holds) {
  std::string result;
  while (!note.empty()) {
    const std::size_t open = std::min(note.find('{'), note.size());
    result += note.substr(0, open);
    note.remove_prefix(open);
    if (note.empty()) break;
    const std::size_t colon = note.find(':'), close = note.find('}');
    const std::string_view words = note.substr(1, colon - 1);
    const std::size_t blank = std::min(words.find(' '), words.size());
    const std::string_view second = words.substr(std::min(blank + 1, words.size()));
    if (holds(words.substr(0, blank)) && (second.empty() || holds(second)))
      result += note.substr(colon + 1, close - colon - 1);
    note.remove_prefix(close + 1);
  }
  return result;
}

}  // namespace

std::string note_of(const Instruction& instruction) {
  const Operands operands = operands_of(instruction);
  const bool wide = instruction.mode() == Mode::bits64;
  const bool into_register = operands.shown != 0 && operands[0].kind == Operand::Kind::reg;
  return parts_of(operation_of(instruction).note,
                  [&](std::string_view word) { return word == "reg" ? into_register : (word == "64") == wide; });
}

std::string general_note(const Operation& operation) {
  return parts_of(operation.note, [](std::string_view word) { return word != "32"; });
}

std::string general_sentence(const Row& row) {
  constexpr std::string_view kOrder[] = {"the first operand", "the second operand", "the third operand",
                                         "the fourth operand", "the fifth operand"};
  const auto uses = uses_of(row);
  return filled(operation_of(row).sentence, [&](char key) -> std::string {
    const auto index = static_cast<unsigned>(key - '0');
    if (key == 'v') return "operand-size";
    if (index < row.shown) return std::string(row.shown == 1 ? "the operand" : kOrder[std::min(index, 4U)]);
    if (index >= uses.size()) return {};
    const OperandKind& kind = kind_of(uses[index]);
    if (kind.source != Source::fixed) return "memory";
    const std::string_view name = name_of(implied_register(kind));
    return std::string(name.empty() ? "a register" : name);
  });
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
