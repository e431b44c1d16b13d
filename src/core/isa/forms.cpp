#include "isa/forms.h"

#include <algorithm>
#include <bit>
#include <cstring>

#if defined(__x86_64__)
#include <immintrin.h>
#endif

namespace deeptrace::isa {
namespace {

static_assert(std::endian::native == std::endian::little && sizeof(RegisterEffect) == 8);

// The numbers of an instruction, a byte each: the register in the opcode with the scale, less 1, in the four bits
// above; ModRM.rm or the SIB base; the SIB index; VEX.vvvv; and ModRM.reg. Above them, in bits that the fields of an
// instruction leave free, stands the shape of its address; it is the same for all of a form, so the numbers may share
// bytes with it.
enum NumberAt : std::uint8_t { kOpcodeAt, kBaseAt, kIndexAt, kVectorAt, kRegAt, kNumbers, kNoNumber = 0x80 };
constexpr std::uint64_t at(NumberAt where, std::uint64_t value) { return value << (8 * where); }
constexpr std::uint64_t kScale = std::uint64_t(1) << (8 * kOpcodeAt + 4);

/// The shape has five bits. REX.B and REX.X, which mostly extend a number, can say more: of each it is noted in two
/// bits whether it is there and whether it would; the higher one is 1 when both were added.
constexpr std::uint64_t shape_bits(std::uint64_t shape) {
  return (shape & 7) << 36 | (shape & 8) << 37 | (shape & 16) << 43;
}
constexpr std::uint64_t kMeansB = std::uint64_t(1) << 43, kMeansX = std::uint64_t(1) << 45;
constexpr std::uint64_t kShapeBits = shape_bits(31) | 2 * kMeansB | 2 * kMeansX;

/// What of the fields from Instruction::opcode to Instruction::rex makes a form, by the row's Brief. Of most rows
/// REX.W, the vector length and register bank, sizes and masks; of some also whether REX is there, REX.B and whether
/// registers are 4 to 7; or all.
constexpr auto kKept = [] {
  std::array<std::uint64_t, 256> table{};
  for (std::size_t brief = 0; brief < table.size(); ++brief) {
    switch (Brief{static_cast<std::uint8_t>(brief)}.sharing()) {
      case Sharing::numbers: table[brief] = 0x08ff'ffff'e000'0000; break;
      case Sharing::halves: table[brief] = 0x49ff'ffff'e000'2404; break;
      case Sharing::values:
      case Sharing::nothing: table[brief] = ~std::uint64_t(0); break;
    }
  }
  return table;
}();
/// Those that are numbers as they stand.
constexpr std::uint64_t kPlainNumbers = at(kVectorAt, kVectorRegister) | at(kOpcodeAt, 7);

/// Shapes of an address. Base registers that go with the stack segment, or that mean another thing, have their own: to
/// those with a SIB byte up to 7 is added.
enum Shape : std::uint8_t { kDirect, kBase, kFrame, kNext, kSib = 8, kSibBare = 16 };

constexpr auto kModrmNumbers = [] {
  std::array<std::uint64_t, 256> table{};
  for (std::uint64_t modrm = 0; modrm < table.size(); ++modrm) {
    const std::uint64_t mod = modrm >> 6, rm = modrm & 7;
    Shape shape = kBase;
    if (mod == 3) shape = kDirect;
    if (mod < 3 && rm == 5) shape = mod == 0 ? kNext : kFrame;
    if (mod < 3 && rm == 4) shape = mod == 0 ? kSibBare : kSib;
    table[modrm] = at(kRegAt, modrm >> 3 & 7) | at(kBaseAt, mod < 3 && rm == 4 ? 0 : rm) | shape_bits(shape) |
                   (shape == kFrame ? kMeansB : 0) | (shape == kDirect ? kMeansX : 0);
  }
  return table;
}();

/// Nothing for SIB byte 0, which stands where there is none.
constexpr auto kSibNumbers = [] {
  std::array<std::uint64_t, 256> table{};
  for (std::uint64_t sib = 0; sib < table.size(); ++sib) {
    const std::uint64_t base = sib & 7, index = sib >> 3 & 7, kind = base == 4 ? 1 : base == 5 ? 2 : 0;
    table[sib] = at(kBaseAt, base) | at(kIndexAt, index) | kScale * ((std::uint64_t(1) << (sib >> 6)) - 1) |
                 shape_bits(kind + (index == 4 ? 4 : 0)) | (kind != 0 ? kMeansB : 0) | (index == 4 ? kMeansX : 0);
  }
  return table;
}();

/// By REX.R, X and B.
constexpr auto kRexNumbers = [] {
  std::array<std::uint64_t, 8> table{};
  for (std::uint64_t rex = 0; rex < table.size(); ++rex) {
    const std::uint64_t r = rex >> 2, x = rex >> 1 & 1, b = rex & 1;
    table[rex] = at(kRegAt, r * 8) | at(kIndexAt, x * 8) | at(kBaseAt, b * 8) | x * kMeansX | b * kMeansB;
  }
  return table;
}();

/// What is added to an operand comes by a shuffle from 32 bytes: to its first half from the numbers of its instruction,
/// to its second half from the immediate, then five bytes of the displacement, and the first three numbers. The control
/// bytes say which byte of the half of the source comes here, or kZero for 0.
struct alignas(32) Control {
  std::array<std::uint8_t, 32> bytes{};
};
constexpr std::uint8_t kZero = 0x80;
constexpr std::uint8_t kNumbersIn = 5;  ///< after the displacement's bytes
constexpr std::size_t kRegisterIndex = offsetof(Operand, reg) + offsetof(RegisterPart, index);
constexpr std::size_t kRecipe = offsetof(Operand, recipe), kValue = offsetof(Operand, value), kScaleAt = kRecipe + 5;
static_assert(kRecipe == 16 && kValue == 24);

/// What an operand has added, by their place in kControls; a register one of the numbers.
enum Added : std::uint8_t { kNothing, kImmediate, kAddress, kRegister = kAddress + 4 };
constexpr std::uint8_t register_at(NumberAt number) { return static_cast<std::uint8_t>(unsigned(kRegister) + number); }
constexpr std::uint8_t kBasePart = 1, kIndexPart = 2;  ///< of kAddress

constexpr auto kControls = [] {
  std::array<Control, std::size_t(kRegister) + kNumbers> table{};
  for (Control& control : table) control.bytes.fill(kZero);
  for (std::uint8_t i = 0; i < 8; ++i) table[kImmediate].bytes[kValue + i] = i;
  for (std::size_t parts = 0; parts < 4; ++parts) {
    auto& bytes = table[kAddress + parts].bytes;
    if ((parts & kBasePart) != 0) bytes[kRecipe + offsetof(PackedRecipe, base)] = 8 + kNumbersIn + kBaseAt;
    if ((parts & kIndexPart) != 0) bytes[kRecipe + offsetof(PackedRecipe, index)] = 8 + kNumbersIn + kIndexAt;
    if ((parts & kIndexPart) != 0) bytes[kScaleAt] = 8 + kNumbersIn + kOpcodeAt;
    for (std::uint8_t i = 0; i < 8; ++i) bytes[kValue + i] = 8 + std::min<std::uint8_t>(i, kNumbersIn - 1);
  }
  for (std::uint8_t number = 0; number < kNumbers; ++number) table[kRegister + number].bytes[kRegisterIndex] = number;
  return table;
}();

/// How an immediate becomes a value: the low six bits say how many bits it is shifted up and down again, with its sign;
/// negative where it counts from the next instruction.
std::int16_t extension_of(const Instruction& instruction, const Operand& operand) {
  const bool target = operand.kind == Operand::Kind::target;
  const int unused = operand.sign_extended || target ? 64 - 8 * instruction.immediate_size[0] : 0;
  return static_cast<std::int16_t>(unused | (target ? -64 : 0));
}

inline std::uint64_t value_of(const Instruction& instruction, std::int64_t extension) {
  const auto shifted = static_cast<std::int64_t>(instruction.immediate << (extension & 63)) >> (extension & 63);
  return static_cast<std::uint64_t>(shifted) + (instruction.length & static_cast<std::uint64_t>(extension >> 15));
}

std::uint64_t fields_of(const Instruction& instruction) {
  static_assert(offsetof(Instruction, opcode) == 24 && offsetof(Instruction, rex) == 31);
  std::uint64_t fields = 0;
  std::memcpy(&fields, &instruction.opcode, sizeof fields);
  return fields;
}

/// The source of the shuffles of an instruction.
struct ShuffleSource {
  std::uint64_t numbers, unused, immediate, others;
};

inline ShuffleSource source_of(const Instruction& instruction, std::uint64_t numbers, std::int64_t extension) {
  const auto displacement = static_cast<std::uint64_t>(std::int64_t(instruction.displacement));
  constexpr unsigned kBits = 8 * kNumbersIn;
  return {numbers, 0, value_of(instruction, extension),
          (displacement & ((std::uint64_t(1) << kBits) - 1)) | numbers << kBits};
}

/// What an operand has added. Bases that a shape has to itself are part of the form.
std::uint8_t added_to(const Operand& operand, const OperandKind& kind, Sharing sharing) {
  const bool numbers = sharing != Sharing::values, reg = operand.kind == Operand::Kind::reg;
  const auto number = [&](NumberAt where) { return numbers ? register_at(where) : std::uint8_t(kNothing); };
  switch (kind.source) {
    case Source::immediate:
    case Source::immediate_signed:
    case Source::relative:
    case Source::absolute: return kImmediate;
    case Source::reg: return reg ? number(kRegAt) : std::uint8_t(kNothing);
    case Source::vvvv: return number(kVectorAt);
    case Source::opcode: return number(kOpcodeAt);
    case Source::gather: return kAddress;
    case Source::rm: break;
    default: return kNothing;
  }
  if (reg) return number(kBaseAt);
  if (!numbers) return kAddress;
  const PackedRecipe& recipe = operand.recipe;
  const bool fixed = recipe.base == 0 || recipe.base == PackedRecipe::kInstructionPointer || recipe.has_base(kRsp) ||
                     recipe.has_base(kRbp);
  return static_cast<std::uint8_t>(kAddress + (fixed ? 0 : kBasePart) + (recipe.index != 0 ? kIndexPart : 0));
}

/// In Form::row, which has no such prefix.
constexpr std::uint32_t kUnusable = std::uint32_t(1) << 31;

std::uint8_t number_of(std::uint64_t numbers, std::uint8_t where) {
  return where == kNoNumber ? std::uint8_t(0) : static_cast<std::uint8_t>(numbers >> (8 * where));
}

/// Adds to an operand what its instruction has, as a shuffle and an addition of bytes do it, or takes it off.
Operand changed(const Operand& operand, const ShuffleSource& source, const Control& control, bool take_off) {
  auto bytes = std::bit_cast<std::array<std::uint8_t, sizeof(Operand)>>(operand);
  const auto from = std::bit_cast<std::array<std::uint8_t, sizeof(ShuffleSource)>>(source);
  for (std::size_t i = 0; i < bytes.size(); ++i) {
    if ((control.bytes[i] & kZero) != 0) continue;
    const std::uint8_t added = from[(i & 16) + control.bytes[i]];
    bytes[i] = static_cast<std::uint8_t>(take_off ? bytes[i] - added : bytes[i] + added);
  }
  return std::bit_cast<Operand>(bytes);
}

}  // namespace

/// What is read is read once: loads are what this waits for.
inline Forms::Key Forms::key_of(const Instruction& instruction) {
  const std::uint64_t fields = fields_of(instruction);
  static_assert(offsetof(Instruction, prefixes) == offsetof(Instruction, row) + 2);
  Key key;
  std::memcpy(&key.row, &instruction.row, sizeof key.row);
  key.numbers = (fields & kPlainNumbers) + kModrmNumbers[fields >> 8 & 0xff] + kSibNumbers[instruction.sib] +
                kRexNumbers[fields >> 56 & 7];
  const Brief brief = brief_of(static_cast<std::uint16_t>(key.row));
  key.shape = (fields & kKept[brief.bits]) + (key.numbers & kShapeBits);
  return key;
}

inline Forms::Form& Forms::form_of(const Key& key) {
  constexpr std::uint64_t kMixer = 0x9e3779b97f4a7c15;
  return forms_[2 * (((key.shape + key.row * kMixer) * kMixer) >> (65 - kBits))];
}

Forms::Form Forms::made_of(const Instruction& instruction, const Key& key, const Usage& usage) {
  const auto& [operands, effects] = usage;
  Form form;
  form.shape = key.shape;
  form.row = key.row;
  if (operands.count > Operands::kUsual || effects.register_count > Effects::kUsual) {
    form.row |= kUnusable;
    return form;
  }
  form.shown = operands.shown;
  form.count = operands.count;
  form.number_at.fill(kNoNumber);
  std::ranges::copy(operands.usual(), form.operands.begin());
  std::ranges::copy(effects.usual(), form.registers.begin());
  std::memcpy(form.head.data(), &effects, kHead);

  // The registers of the effects are known by what becomes of numbers that no register has.
  constexpr std::uint8_t kMark = 0x80;
  Operands marked = operands;
  const auto uses = uses_of(row_of(instruction));
  const Sharing sharing = brief_of(instruction.row).sharing();
  for (std::size_t i = 0; i < std::min<std::size_t>(uses.size(), operands.count); ++i) {
    Operand& operand = form.operands[i];
    const std::uint8_t added = added_to(operand, kind_of(uses[i]), sharing);
    form.controls[i] = static_cast<std::uint16_t>(added * sizeof(Control));
    if (added == kImmediate) form.extension = extension_of(instruction, operand);
    operand = changed(operand, source_of(instruction, key.numbers, form.extension), kControls[added], true);
    if (added >= kRegister) marked.items[i].reg.index = kMark | (added - kRegister);
    const unsigned parts = added >= kAddress && added < kRegister ? added - kAddress : 0;
    if ((parts & kBasePart) != 0) marked.items[i].recipe.base = (kMark | kBaseAt) + 1;
    if ((parts & kIndexPart) != 0) marked.items[i].recipe.index = (kMark | kIndexAt) + 1;
  }
  const Effects found = effects_of(instruction, marked);
  for (std::size_t i = 0; i < found.register_count; ++i) {
    const std::uint8_t mark = found.registers[i].part.index;
    if ((mark & kMark) == 0) continue;
    form.number_at[i] = mark & ~kMark;
    std::uint8_t& index = form.registers[i].part.index;
    index = static_cast<std::uint8_t>(index - number_of(key.numbers, form.number_at[i]));
  }
  return form;
}

/// Two forms share a pair of places; that used last stands in the place of both that is looked at first.
void Forms::look_further(const Instruction& instruction, Usage& into) {
  const Key key = key_of(instruction);
  Form& form = form_of(key);
  const auto is_unusable = [&] { return form.shape == key.shape && form.row == (key.row | kUnusable); };
  if (!is_unusable()) {
    std::swap(form, *(&form + 1));
    if (fits(form, key)) return look({&instruction, 1}, {&into, 1});
  }
  into.operands = operands_of(instruction);
  into.effects = effects_of(instruction, into.operands);
  const bool shared = brief_of(instruction.row).sharing() != Sharing::nothing && instruction.address_size != 2;
  if (shared && !is_unusable()) form = made_of(instruction, key, into);
}

void Forms::look_by_byte(const Instruction& instruction, Usage& into) {
  const Key key = key_of(instruction);
  const Form& form = form_of(key);
  if (!fits(form, key)) return look_further(instruction, into);
  const ShuffleSource source = source_of(instruction, key.numbers, form.extension);
  for (std::size_t i = 0; i < Operands::kUsual; ++i) {
    const Control& control = kControls[form.controls[i] / sizeof(Control)];
    into.operands.items[i] = changed(form.operands[i], source, control, false);
  }
  into.operands.shown = form.shown;
  into.operands.count = form.count;
  std::memcpy(static_cast<void*>(&into.effects), form.head.data(), kHead);
  for (std::size_t i = 0; i < Effects::kUsual; ++i) {
    into.effects.registers[i] = form.registers[i];
    into.effects.registers[i].part.index += number_of(key.numbers, form.number_at[i]);
  }
}

#if defined(__x86_64__)

Forms::Forms(Way way)
    : shuffles_(way == Way::best && __builtin_cpu_supports("avx2") != 0 && __builtin_cpu_supports("bmi2") != 0) {}

namespace {

[[gnu::target("avx2,bmi2")]] inline __m256i load(const void* from) {
  return _mm256_load_si256(static_cast<const __m256i*>(from));
}
[[gnu::target("avx2,bmi2")]] inline void store(void* to, __m256i value) {
  _mm256_storeu_si256(static_cast<__m256i*>(to), value);
}

}  // namespace

/// The same 32 bytes at a time.
[[gnu::target("avx2,bmi2")]] void Forms::look_by_shuffle(std::span<const Instruction> run, std::span<Usage> into) {
  static_assert(offsetof(Operands, shown) + 1 == offsetof(Operands, count));
  static_assert(offsetof(Form, shown) + 1 == offsetof(Form, count) && kHead == 16);
  static_assert(sizeof(RegisterEffect) * Effects::kUsual == 32 && offsetof(RegisterPart, index) == 1);
  constexpr char kNo = -1;
  const __m256i spread =
      _mm256_setr_epi8(kNo, 0, kNo, kNo, kNo, kNo, kNo, kNo, kNo, 1, kNo, kNo, kNo, kNo, kNo, kNo,  //
                       kNo, 2, kNo, kNo, kNo, kNo, kNo, kNo, kNo, 3, kNo, kNo, kNo, kNo, kNo, kNo);
  const auto* controls = reinterpret_cast<const std::byte*>(kControls.data());
  Usage* to = into.data();
  for (const Instruction& instruction : run) {
    Usage& usage = *to++;
    const Key key = key_of(instruction);
    const Form& form = form_of(key);
    if (!fits(form, key)) [[unlikely]] {
      look_further(instruction, usage);
      continue;
    }
    const ShuffleSource source = source_of(instruction, key.numbers, form.extension);
    const __m128i numbers = _mm_cvtsi64_si128(static_cast<long long>(source.numbers));
    const __m128i values =
        _mm_set_epi64x(static_cast<long long>(source.others), static_cast<long long>(source.immediate));
    const __m256i both = _mm256_set_m128i(values, numbers);
#pragma GCC unroll 3
    for (std::size_t i = 0; i < 3; ++i) {
      const __m256i added = _mm256_shuffle_epi8(both, load(controls + form.controls[i]));
      store(&usage.operands.items[i], _mm256_add_epi8(load(&form.operands[i]), added));
    }
    std::memcpy(&usage.operands.shown, &form.shown, 2);
    std::memcpy(static_cast<void*>(&usage.effects), form.head.data(), kHead);
    const __m128i picked =
        _mm_shuffle_epi8(numbers, _mm_loadl_epi64(reinterpret_cast<const __m128i*>(form.number_at.data())));
    const __m256i added = _mm256_shuffle_epi8(_mm256_broadcastq_epi64(picked), spread);
    store(&usage.effects.registers, _mm256_add_epi8(load(&form.registers), added));
  }
}

#else

Forms::Forms(Way) : shuffles_(false) {}
void Forms::look_by_shuffle(std::span<const Instruction> run, std::span<Usage> into) {
  for (std::size_t i = 0; i < run.size(); ++i) look_by_byte(run[i], into[i]);
}

#endif

}  // namespace deeptrace::isa
