#include "isa/forms.h"

#include <algorithm>
#include <bit>
#include <cstring>

#if defined(__x86_64__)
#include <tmmintrin.h>
#endif

namespace deeptrace::isa {
namespace {

static_assert(std::endian::native == std::endian::little && sizeof(RegisterEffect) == 8);

// The numbers of an instruction, a byte each: ModRM.reg, VEX.vvvv, ModRM.rm or the SIB base, the SIB index, and the
// register in the opcode with the scale, less 1, in the four bits above. The bits between them are the shape of the
// address.
enum NumberAt : std::uint8_t { kRegAt = 0, kVectorAt = 3, kBaseAt = 5, kIndexAt = 6, kOpcodeAt = 7, kNoNumber = 0x80 };
constexpr std::uint64_t at(NumberAt where, std::uint64_t value) { return value << (8 * where); }
constexpr std::uint64_t kShapeBits = 0xf1'0000'0000, kScale = std::uint64_t(1) << 60;

/// What of the fields from Instruction::modrm to Instruction::opcode makes a form, by Sharing. Of most rows REX.W, the
/// vector length and register bank, sizes and masks; of some also whether REX is there, REX.B and whether registers are
/// 4 to 7; or all. The shape's bits are free in these fields.
constexpr std::uint64_t kKept[] = {0x00ff'ffff'e008'0000, 0x04ff'ffff'e049'0024, ~std::uint64_t(0), ~std::uint64_t(0)};
/// Those that are numbers as they stand.
constexpr std::uint64_t kPlainNumbers = at(kVectorAt, kVectorRegister) | at(kOpcodeAt, 7);

/// Shapes of an address. Base registers that go with the stack segment, or that mean another thing, have their own: to
/// those with a SIB byte up to 7 is added.
enum Shape : std::uint8_t { kRegister, kRegisterX, kBase, kFrame, kNext, kSib = 8, kSibBare = 16 };
constexpr std::uint64_t shape_bits(std::uint64_t shape) { return (shape & 15) << 36 | (shape >> 4) << 32; }

/// By ModRM, and REX.X and REX.B above it.
constexpr auto kModrmNumbers = [] {
  std::array<std::uint64_t, 1024> table{};
  for (std::uint64_t i = 0; i < table.size(); ++i) {
    const std::uint64_t mod = i >> 6 & 3, rm = i & 7, b = i >> 8 & 1;
    Shape shape = kBase;
    if (mod == 3) shape = (i & 0x200) != 0 ? kRegisterX : kRegister;
    if (mod < 3 && rm == 5) shape = mod == 0 ? kNext : b == 0 ? kFrame : kBase;
    if (mod < 3 && rm == 4) shape = mod == 0 ? kSibBare : kSib;
    const std::uint64_t low = mod < 3 && rm == 4 ? 0 : rm;
    table[i] = at(kRegAt, i >> 3 & 7) | at(kBaseAt, low | b << 3) | shape_bits(shape);
  }
  return table;
}();

/// By SIB and the shape that ModRM gives, which it refines, with REX.X and REX.B above. Nothing but REX.X for SIB byte
/// 0, which stands where there is none.
constexpr auto kSibNumbers = [] {
  std::array<std::uint64_t, 1024> table{};
  for (std::uint64_t i = 0; i < table.size(); ++i) {
    const std::uint64_t base = i & 7, b = i >> 8 & 1, index = (i >> 3 & 7) | (i >> 9 & 1) << 3;
    const std::uint64_t kind = base == 4 && b == 0 ? 1 : base == 5 ? 2 + b : 0;
    table[i] = at(kBaseAt, base) | at(kIndexAt, index) | (kind | (index == 4 ? 4U : 0U)) << 36 |
               kScale * ((std::uint64_t(1) << (i >> 6 & 3)) - 1);
  }
  return table;
}();

struct alignas(16) Piece : std::array<std::uint8_t, 16> {};
/// Control bytes of a shuffle: which byte of the source comes here, or 0x80 for 0.
constexpr std::uint8_t kZero = 0x80;

/// What the second half of an operand has added, as a shuffle of the values of an instruction: its immediate, then five
/// bytes of the displacement, then the last three numbers.
constexpr std::uint8_t kDisplacementIn = 8, kBaseIn = 13, kIndexIn = 14, kScaleIn = 15;
enum Value : std::uint8_t { kNothing, kImmediate, kAddress };
constexpr std::uint8_t kBasePart = 1, kIndexPart = 2;  ///< above kAddress
constexpr auto kValues = [] {
  std::array<Piece, kAddress + 4> table{};
  for (Piece& piece : table) piece.fill(kZero);
  for (std::uint8_t i = 0; i < 8; ++i) table[kImmediate][8U + i] = i;
  for (std::size_t kind = 0; kind < 4; ++kind) {
    Piece& piece = table[kAddress + kind];
    if ((kind & kBasePart) != 0) piece[offsetof(PackedRecipe, base)] = kBaseIn;
    if ((kind & kIndexPart) != 0) piece[offsetof(PackedRecipe, index)] = kIndexIn;
    if ((kind & kIndexPart) != 0) piece[5] = kScaleIn;
    for (std::uint8_t i = 0; i < 8; ++i) piece[8U + i] = kDisplacementIn + std::min<std::uint8_t>(i, 4);
  }
  return table;
}();
static_assert(offsetof(Operand, recipe) == 16 && offsetof(Operand, value) == 24);

/// How an immediate becomes a value: its bits, that which is extended, and whether it counts from the next instruction.
struct Extension {
  std::uint64_t field = 0, sign = 0, from_next = 0;
};
/// By bytes, with 16 added where the sign is extended and 32 where it counts from the next instruction.
constexpr auto kExtensions = [] {
  std::array<Extension, 64> table{};
  for (std::size_t i = 0; i < table.size(); ++i) {
    const std::size_t bits = 8 * std::min<std::size_t>(i & 15, 8);
    table[i].field = bits == 64 ? ~std::uint64_t(0) : (std::uint64_t(1) << bits) - 1;
    if ((i & 16) != 0 && bits != 0) table[i].sign = std::uint64_t(1) << (bits - 1);
    if ((i & 32) != 0) table[i].from_next = ~std::uint64_t(0);
  }
  return table;
}();

std::uint64_t fields_of(const Instruction& instruction) {
  static_assert(offsetof(Instruction, modrm) == 24 && offsetof(Instruction, opcode) == 31);
  std::uint64_t fields = 0;
  std::memcpy(&fields, &instruction.modrm, sizeof fields);
  return fields;
}

/// The values of an instruction, see kValues.
struct Values {
  std::uint64_t immediate, others;
};

inline Values values_of(const Instruction& instruction, std::uint64_t numbers, std::uint8_t kind) {
  const Extension& extension = kExtensions[kind];
  const std::uint64_t field = (instruction.immediate & extension.field) ^ extension.sign;
  const auto displacement = static_cast<std::uint64_t>(std::int64_t(instruction.displacement));
  constexpr std::uint64_t kLast = ~std::uint64_t(0) << (8 * kBaseAt);
  return {field - extension.sign + (instruction.length & extension.from_next),
          (displacement & ~kLast) | (numbers & kLast)};
}

/// Which of the numbers an operand's register is.
std::uint8_t number_at(const OperandKind& kind, const Instruction& instruction) {
  switch (kind.source) {
    case Source::reg: return kRegAt;
    case Source::rm: return instruction.modrm >= 0xc0 ? kBaseAt : kNoNumber;
    case Source::vvvv: return kVectorAt;
    case Source::opcode: return kOpcodeAt;
    default: return kNoNumber;
  }
}

/// What the address or value of an operand has added. Bases that a shape has to itself are part of the form.
std::uint8_t value_at(const OperandKind& kind, const Operand& operand, Sharing sharing) {
  switch (kind.source) {
    case Source::immediate:
    case Source::immediate_signed:
    case Source::relative:
    case Source::absolute: return kImmediate;
    case Source::gather:
    case Source::rm: break;
    default: return kNothing;
  }
  if (operand.kind != Operand::Kind::memory) return kNothing;
  if (sharing == Sharing::values) return kAddress;
  const PackedRecipe& recipe = operand.recipe;
  const bool fixed = recipe.base == 0 || recipe.base == PackedRecipe::kInstructionPointer || recipe.has_base(kRsp) ||
                     recipe.has_base(kRbp);
  return static_cast<std::uint8_t>(kAddress + (fixed ? 0 : kBasePart) + (recipe.index != 0 ? kIndexPart : 0));
}

constexpr std::uint8_t kTooMany = 0xff;
constexpr std::size_t kIndexOffset = offsetof(RegisterPart, index),
                      kOperandIndex = offsetof(Operand, reg) + kIndexOffset;

/// As the processor's instruction of that kind does it.
Piece shuffled(const Piece& source, const Piece& control) {
  Piece result{};
  for (std::size_t i = 0; i < result.size(); ++i)
    result[i] = (control[i] & kZero) != 0 ? std::uint8_t(0) : source[control[i] & 15U];
  return result;
}

std::uint8_t number_of(std::uint64_t numbers, std::uint8_t where) {
  return where == kNoNumber ? std::uint8_t(0) : static_cast<std::uint8_t>(numbers >> (8 * where));
}

/// Adds to the second half of an operand what it has, or takes it off.
void add_value(Operand& operand, const Values& values, std::uint8_t kind, bool take_off) {
  auto bytes = std::bit_cast<std::array<std::uint8_t, sizeof(Operand)>>(operand);
  const Piece piece = shuffled(std::bit_cast<Piece>(values), kValues[kind]);
  for (std::size_t i = 0; i < piece.size(); ++i) {
    std::uint8_t& byte = bytes[offsetof(Operand, recipe) + i];
    byte = static_cast<std::uint8_t>(take_off ? byte - piece[i] : byte + piece[i]);
  }
  operand = std::bit_cast<Operand>(bytes);
}

}  // namespace

inline Forms::Key Forms::key_of(const Instruction& instruction) {
  const std::uint64_t fields = fields_of(instruction);
  const std::size_t rex = (instruction.rex & 3U) << 8;
  Key key;
  key.numbers = (fields & kPlainNumbers) + kModrmNumbers[rex | instruction.modrm] + kSibNumbers[rex | instruction.sib] +
                at(kRegAt, (instruction.rex & kRexR) * 2U);
  const auto sharing = static_cast<std::size_t>(brief_of(instruction.row).sharing());
  key.shape = (fields & kKept[sharing]) + (key.numbers & kShapeBits);
  static_assert(offsetof(Instruction, prefixes) == offsetof(Instruction, row) + 2);
  std::memcpy(&key.row, &instruction.row, sizeof key.row);
  return key;
}

inline Forms::Form& Forms::form_of(const Key& key) {
  const std::uint64_t mixed = (key.shape + key.row * 0x9e3779b97f4a7c15) * 0xd6e8feb86659fd93;
  return forms_[2 * (mixed >> (65 - kBits))];
}

Forms::Form Forms::made_of(const Instruction& instruction, const Key& key, const Operands& operands,
                           const Effects& effects) {
  const Sharing sharing = brief_of(instruction.row).sharing();
  Form form;
  form.shape = key.shape;
  form.row = key.row;
  form.count = kTooMany;
  if (operands.count > Operands::kUsual || effects.register_count > Effects::kUsual) return form;
  form.shown = operands.shown;
  form.count = operands.count;
  form.number_at.fill(kNoNumber);
  form.immediate = instruction.immediate_size[0];
  std::ranges::copy(operands.usual(), form.operands.begin());
  std::memcpy(form.effects.data(), &effects, kEffectsSize);

  // The registers of the effects are told by what becomes of numbers that no register has.
  constexpr std::uint8_t kMark = 0x80;
  Operands marked = operands;
  const auto uses = uses_of(row_of(instruction));
  for (std::size_t i = 0; i < std::min<std::size_t>(uses.size(), operands.count); ++i) {
    const OperandKind& kind = kind_of(uses[i]);
    Operand& operand = form.operands[i];
    form.values[i] = value_at(kind, operand, sharing);
    if (form.values[i] == kImmediate)
      form.immediate |= (operand.sign_extended ? 16U : 0U) | (operand.kind == Operand::Kind::target ? 48U : 0U);
    add_value(operand, values_of(instruction, key.numbers, form.immediate), form.values[i], true);
    PackedRecipe& recipe = marked.items[i].recipe;
    const unsigned parts = form.values[i] > kAddress ? form.values[i] - kAddress : 0;
    if ((parts & kBasePart) != 0) recipe.base = (kMark | kBaseAt) + 1;
    if ((parts & kIndexPart) != 0) recipe.index = (kMark | kIndexAt) + 1;
    if (operand.kind != Operand::Kind::reg || sharing == Sharing::values) continue;
    const std::uint8_t number = number_at(kind, instruction);
    form.number_at[i] = number;
    operand.reg.index = static_cast<std::uint8_t>(operand.reg.index - number_of(key.numbers, number));
    if (number != kNoNumber) marked.items[i].reg.index = kMark | number;
  }
  const Effects found = effects_of(instruction, marked);
  for (std::size_t i = 0; i < found.register_count; ++i) {
    const std::uint8_t mark = found.registers[i].part.index;
    if ((mark & kMark) == 0) continue;
    const std::uint8_t number = mark & ~kMark;
    form.number_at[Operands::kUsual + i] = number;
    std::byte& index = form.effects[offsetof(Effects, registers) + i * sizeof(RegisterEffect) + kIndexOffset];
    index = std::byte(static_cast<std::uint8_t>(std::uint8_t(index) - number_of(key.numbers, number)));
  }
  return form;
}

/// Two forms share a pair of places; that used last stands in the place of both that is looked at first.
void Forms::look_further(const Instruction& instruction, Operands& operands, Effects& effects) {
  const Key key = key_of(instruction);
  Form& form = form_of(key);
  if (!fits(form, key)) {
    std::swap(form, *(&form + 1));
    if (fits(form, key) && form.count != kTooMany) return look(instruction, operands, effects);
  }
  operands = operands_of(instruction);
  effects = effects_of(instruction, operands);
  const bool shared = brief_of(instruction.row).sharing() != Sharing::nothing && instruction.address_size != 2;
  if (!fits(form, key) && shared) form = made_of(instruction, key, operands, effects);
}

void Forms::look_by_byte(const Instruction& instruction, Operands& operands, Effects& effects) {
  const Key key = key_of(instruction);
  const Form& form = form_of(key);
  if (!fits(form, key) || form.count == kTooMany) return look_further(instruction, operands, effects);
  const Values values = values_of(instruction, key.numbers, form.immediate);
  std::ranges::copy(form.operands, operands.items.begin());
  for (std::size_t i = 0; i < Operands::kUsual; ++i) {
    operands.items[i].reg.index += number_of(key.numbers, form.number_at[i]);
    add_value(operands.items[i], values, form.values[i], false);
  }
  std::memcpy(static_cast<void*>(&effects), form.effects.data(), kEffectsSize);
  for (std::size_t i = 0; i < Effects::kUsual; ++i)
    effects.registers[i].part.index += number_of(key.numbers, form.number_at[Operands::kUsual + i]);
  operands.shown = form.shown;
  operands.count = form.count;
}

#if defined(__x86_64__)

Forms::Forms(Way way) : shuffles_(way == Way::best && __builtin_cpu_supports("ssse3") != 0) {}

/// Sixteen bytes at a time. One shuffle picks the number of each register; others put it where the register stands.
[[gnu::target("ssse3")]] void Forms::look_by_shuffle(const Instruction& instruction, Operands& operands,
                                                     Effects& effects) {
  static_assert(Operands::kUsual == 3 && Effects::kUsual == 4 && kOperandIndex == 9 && kIndexOffset == 1);
  static_assert(offsetof(Effects, registers) == 16 && offsetof(Form, effects) % 16 == 0);
  const Key key = key_of(instruction);
  const Form& form = form_of(key);
  if (!fits(form, key) || form.count == kTooMany) [[unlikely]]
    return look_further(instruction, operands, effects);
  const Values values = values_of(instruction, key.numbers, form.immediate);
  const auto load = [](const void* from) { return _mm_load_si128(static_cast<const __m128i*>(from)); };
  const auto store = [](void* to, __m128i value) { _mm_storeu_si128(static_cast<__m128i*>(to), value); };
  const __m128i picked = _mm_shuffle_epi8(_mm_cvtsi64_si128(static_cast<long long>(key.numbers)),
                                          _mm_loadl_epi64(reinterpret_cast<const __m128i*>(form.number_at.data())));
  const __m128i second =
      _mm_set_epi64x(static_cast<long long>(values.others), static_cast<long long>(values.immediate));
  auto* to = reinterpret_cast<std::byte*>(&operands);
  const auto* from = reinterpret_cast<const std::byte*>(&form.operands);
#pragma GCC unroll 3
  for (std::size_t i = 0; i < 3; ++i) {
    constexpr char kNone = -1;
    const __m128i spread = _mm_setr_epi8(kNone, kNone, kNone, kNone, kNone, kNone, kNone, kNone, kNone,
                                         static_cast<char>(i), kNone, kNone, kNone, kNone, kNone, kNone);
    store(to + 32 * i, _mm_add_epi8(load(from + 32 * i), _mm_shuffle_epi8(picked, spread)));
    store(to + 32 * i + 16,
          _mm_add_epi8(load(from + 32 * i + 16), _mm_shuffle_epi8(second, load(kValues[form.values[i]].data()))));
  }
  to = reinterpret_cast<std::byte*>(&effects);
  store(to, load(form.effects.data()));
#pragma GCC unroll 2
  for (std::size_t i = 0; i < 2; ++i) {
    constexpr char kNone = -1;
    const auto first = static_cast<char>(3 + 2 * i), next = static_cast<char>(4 + 2 * i);
    const __m128i spread = _mm_setr_epi8(kNone, first, kNone, kNone, kNone, kNone, kNone, kNone, kNone, next, kNone,
                                         kNone, kNone, kNone, kNone, kNone);
    store(to + 16 + 16 * i, _mm_add_epi8(load(form.effects.data() + 16 + 16 * i), _mm_shuffle_epi8(picked, spread)));
  }
  operands.shown = form.shown;
  operands.count = form.count;
}

#else

Forms::Forms(Way) : shuffles_(false) {}
void Forms::look_by_shuffle(const Instruction& instruction, Operands& operands, Effects& effects) {
  look_by_byte(instruction, operands, effects);
}

#endif

}  // namespace deeptrace::isa
