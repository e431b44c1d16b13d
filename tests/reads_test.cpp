// The processor as the judge of what instructions read: everything that the table calls read matters to the result in
// some state. (That nothing else matters follows from processor_test.cpp, whose states differ everywhere.)
#include <fmt/format.h>
#include <gtest/gtest.h>

#include <map>
#include <regex>
#include <set>

#include "isa/effects.h"
#include "isa/text.h"
#include "laboratory.h"

namespace deeptrace::tests {
namespace {

/// Up to four bytes of one register or of memory, or one flag.
struct Place {
  enum class Kind : std::uint8_t { general, vector, mask, stack, memory, flag } kind;
  std::uint64_t at;  ///< register number (of the x87 stack the physical one, as mmx has it), address, or the flag's bit
  unsigned byte = 0;   ///< the first one in the register
  unsigned bits = 32;  ///< how many belong to it
  bool written = false;

  void flip(Machine& machine, unsigned bit) const {
    const auto mask = static_cast<std::uint8_t>(1U << (bit % 8));
    const unsigned offset = byte + bit / 8;
    switch (kind) {
      case Kind::general: machine.registers.values[at] ^= std::uint64_t(mask) << (8 * offset); break;
      case Kind::vector: machine.extended.vector(static_cast<unsigned>(at), offset) ^= mask; break;
      case Kind::mask: machine.extended.mask(static_cast<unsigned>(at), offset) ^= mask; break;
      case Kind::stack: machine.extended.x87((at - machine.extended.top()) % 8, offset) ^= mask; break;
      case Kind::memory: machine.data[at - kData + bit / 8] ^= mask; break;
      case Kind::flag: machine.registers[Reg::rflags] ^= at; break;
    }
  }
};

using Places = std::vector<std::pair<std::size_t, Place>>;  ///< with the operand that each belongs to

void add_units(Places& places, std::size_t operand, Place place, unsigned bits) {
  const std::uint64_t start = place.at;
  for (unsigned done = 0; done < bits; done += 32) {
    place.bits = std::min(32U, bits - done);
    if (place.kind == Place::Kind::memory) place.at = start + done / 8;
    places.emplace_back(operand, place);
    if (place.kind != Place::Kind::memory) place.byte += 4;
  }
}

/// All that the table calls read. String memory under a repeat prefix and gathered elements are left out.
Places read_places(const Instruction& instruction, const Machine& machine) {
  Places places;
  const isa::Operands operands = isa::operands_of(instruction);
  for (std::size_t i = 0; i < operands.count; ++i) {
    const isa::Operand& operand = operands[i];
    if (!isa::reads(operand.access)) continue;
    const bool written = isa::writes(operand.access);
    if (operand.kind == isa::Operand::Kind::memory && !operand.repeated && operand.elements == 1 &&
        !operand.recipe.has_vector_index()) {
      const std::uint64_t at =
          state::address_of(operand.memory(), machine.registers, kCode + instruction.length, operand.width);
      add_units(places, i, {Place::Kind::memory, at, 0, 32, written}, operand.width);
      // What stands there for esp is passed over (Intel SDM volume 2, POPA).
      if (isa::mnemonic_of(isa::row_of(instruction)) == "popa") places.erase(places.end() - 5);
    }
    if (operand.kind != isa::Operand::Kind::reg) continue;
    const isa::RegisterPart part = operand.reg;
    switch (part.file) {
      case isa::RegisterFile::general:
        if (part.index == isa::kRsp) break;  // it stays where it is in all states
        add_units(places, i,
                  {Place::Kind::general, static_cast<std::uint64_t>(reg_of(part)), part.offset / 8U, 32, written},
                  part.width);
        break;
      case isa::RegisterFile::vector:
        add_units(places, i, {Place::Kind::vector, part.index, part.offset / 8U, 32, written}, part.width);
        break;
      case isa::RegisterFile::mask:
        for (unsigned bit = 0; bit < part.width; bit += 8)
          places.emplace_back(i,
                              Place{Place::Kind::mask, part.index, bit / 8, std::min(8U, part.width - bit), written});
        break;
      case isa::RegisterFile::x87:
        add_units(places, i, {Place::Kind::stack, (machine.extended.top() + part.index) % 8U, 0, 32, written},
                  part.width);
        break;
      case isa::RegisterFile::mmx:
        add_units(places, i, {Place::Kind::stack, part.index, 0, 32, written}, part.width);
        break;
      default: break;
    }
  }
  const isa::FlagUse& use = isa::operation_of(isa::row_of(instruction)).flags;
  for (unsigned bit = 0; bit < 16; ++bit) {
    const std::uint64_t flag = std::uint64_t(1) << bit;
    if ((use.read & flag & kStatusFlags) != 0)
      places.emplace_back(16 + bit, Place{Place::Kind::flag, flag, 0, 1, (use.written & flag) != 0});
  }
  return places;
}

/// True when two runs ended differently. A place that is only read keeps its difference without anybody's doing: it is
/// made equal before.
bool differ(Machine one, Machine other, const Place& place, unsigned bit) {
  if (!place.written) place.flip(one, bit);
  if (one.registers != other.registers || one.data != other.data) return true;
  const bool wide = Extended::has_avx512();
  for (unsigned i = 0; i < (wide ? 32U : 16U); ++i) {
    for (unsigned k = 0; k < (wide ? 64U : 32U); ++k) {
      if (one.extended.vector(i, k) != other.extended.vector(i, k)) return true;
    }
  }
  for (unsigned i = 0; wide && i < 64; ++i) {
    if (one.extended.mask(i / 8, i % 8) != other.extended.mask(i / 8, i % 8)) return true;
  }
  return !std::equal(one.extended.area.begin(), one.extended.area.begin() + 160, other.extended.area.begin());
}

bool is_tried(const Instruction& instruction) {
  const isa::Row& row = isa::row_of(instruction);
  constexpr std::uint32_t kUntried =
      isa::kPrivileged | isa::kNondeterministic | isa::kUnknownExtent | isa::kX87State | isa::kVectorState;
  const auto uses = isa::uses_of(row);  // selectors have sixteen bits, whatever the text names
  if (!uses.empty() && isa::kind_of(uses[0]).file == isa::RegisterFile::segment) return false;
  // What the kernel carries out in the processor's place, and what only the kernel's tables decide.
  static const std::set<std::string_view> kLeftOut = {"popf", "popfw", "sldt", "str",  "sgdt",  "sidt",   "smsw",
                                                      "lar",  "lsl",   "verr", "verw", "xtest", "vmgexit"};
  return (row.traits & kUntried) == 0 && kLeftOut.count(isa::mnemonic_of(row)) == 0 &&
         isa::flow_of(instruction) != isa::ControlFlow::system && isa::flow_of(instruction) != isa::ControlFlow::trap;
}

/// What vector registers, masks and the data hold, so that comparisons, conversions, shifts and tests depend on every
/// bit in some state.
enum class Filling : std::uint8_t { any, floats, equal, small, extremes };
constexpr std::array kFillings = {Filling::any, Filling::equal, Filling::small, Filling::extremes, Filling::floats};

void fill(const Instruction& instruction, std::mt19937_64& random, Filling filling, Machine& machine) {
  if (filling == Filling::any) return;
  std::set<Reg> addressing = {Reg::rsp};
  for (const isa::Operand& operand : isa::operands_of(instruction)) {
    for (const isa::RegisterPart part : {operand.memory().base, operand.memory().index, operand.memory().bit_number})
      if (operand.kind == isa::Operand::Kind::memory && part) addressing.insert(reg_of(part));
  }
  // Floats in every width, of magnitudes at which their last bits are whole numbers too.
  const auto exponent = random() % 64 << 52;
  const auto number = [&] { return (random() & 0x000fffff3fffffff) | 0x4000000040000000 | exponent; };
  std::array<std::uint64_t, 8> pattern{};
  for (std::uint64_t& value : pattern) value = number();
  std::uint64_t extreme = 0;
  const auto word = [&](std::size_t k) -> std::uint64_t {
    switch (filling) {
      case Filling::equal: return pattern[k % 8];
      case Filling::small: return random() % 8;
      case Filling::extremes: return extreme;
      default: return number();
    }
  };
  const bool wide = Extended::has_avx512();
  for (unsigned i = 0; i < (wide ? 32U : 16U); ++i) {
    extreme = random() % 2 == 0 ? 0 : ~std::uint64_t(0);
    for (unsigned k = 0; k < (wide ? 8U : 4U); ++k) {
      const std::uint64_t value = word(k);
      for (unsigned byte = 0; byte < 8; ++byte)
        machine.extended.vector(i, 8 * k + byte) = static_cast<std::uint8_t>(value >> (8 * byte));
      if (wide && filling == Filling::extremes && i < 8)
        machine.extended.mask(i, k) = static_cast<std::uint8_t>(extreme);
    }
  }
  for (unsigned i = 0; i < 8; ++i) {
    // The extremes of the floating-point unit are 0 and whole powers of 2, of which every other bit makes another kind
    // of number or one that has to be rounded.
    constexpr std::uint32_t kFloats = isa::kX87 | isa::kX87Push | isa::kX87Pop;
    const bool whole = filling == Filling::extremes && (isa::row_of(instruction).traits & kFloats) != 0,
               none = random() % 2 == 0;
    const std::uint64_t value = !whole ? word(0) : none ? 0 : std::uint64_t(1) << 63;
    for (unsigned k = 0; k < 8; ++k) machine.extended.x87(i, k) = static_cast<std::uint8_t>(value >> (8 * k));
    if (!whole) continue;
    machine.extended.x87(i, 8) = none ? 0 : static_cast<std::uint8_t>(random() % 14);
    machine.extended.x87(i, 9) = none ? 0 : 0x40;
  }
  for (std::size_t i = 0; filling == Filling::extremes && i < 16; ++i) {
    if (addressing.count(static_cast<Reg>(i)) == 0)
      machine.registers.values[i] = in_mode(random() % 2 == 0 ? 0 : ~std::uint64_t(0), machine.mode);
  }
  extreme = random() % 2 == 0 ? 0 : ~std::uint64_t(0);
  for (std::size_t k = 0; k < kDataSize / 8; ++k) {
    const std::uint64_t value = word(k);
    std::memcpy(machine.data.data() + 8 * k, &value, 8);
  }
}

/// Reads that are no range: elements picked here and there, in each lane, or by their signs, and counts of which the
/// low bits count. The table gives the range that holds them all.
bool picks(std::string_view name) {
  static const std::regex kPicks(
      "v?p?unpck.*|v?mov.*dup|v?pmulu?dq|vpmov(u?s)?[qdw][dwb]|v?p?extr.*|v?insertps|v?p?maskmov.*|vp?(gather|scatter)."
      "*|"
      "v?p?movmsk.*|vpmov[bwdq]2m|v?aeskeygenassist|v?mpsadbw|v?ps[rl][lal]v?[wdq].*|v?cvtt?p[sd]2.*|vperm.*|"
      "vpmultishiftqb|v?p?blendv.*|vtestp.|v?pclmulqdq|v?shufp.|valign.|v?palignr|vfixupimm.*|vfpclass.*|vpro[lr].*|"
      "bnd.*|bextr|bt[rsc]?|s[ah][lr]x|c[wdq][dqo]e?|fi?comp?p?|bswap");
  return std::regex_match(name.begin(), name.end(), kPicks);
}

/// One row's places by operand and number within it: those that have mattered, and those that never did so far.
class RowCheck {
 public:
  RowCheck(Laboratory& laboratory, std::mt19937_64& random, isa::Mode mode)
      : laboratory_(laboratory), random_(random), mode_(mode) {}

  void run(const std::vector<Code>& codes) {
    for (Code code : codes) {
      const Instruction instruction = isa::decode(code, mode_);
      if (!is_tried(instruction)) return;
      const bool gathers =
          instruction.modrm_at != 0 && std::ranges::any_of(isa::operands_of(instruction), [](auto& o) {
            return o.kind == isa::Operand::Kind::memory && o.memory().index.file == isa::RegisterFile::vector;
          });
      for (std::size_t turn = 0; turn < 12 * kFillings.size() && (turn < 2 || !open_.empty()); ++turn) {
        Machine before;
        before.extended = laboratory_.initial();
        if (!prepare(instruction, random_, before)) break;
        if (!gathers) fill(instruction, random_, kFillings[turn % kFillings.size()], before);
        vary_immediate(instruction, code);
        if (!try_state(code, instruction, before)) break;
      }
    }
  }

  [[nodiscard]] bool ran() const { return ran_; }
  [[nodiscard]] std::string complaint() const {
    std::map<std::size_t, std::pair<std::string, std::string>> by_operand;
    for (const auto& [key, text] : open_) {
      by_operand[key.first].first += fmt::format(" {}", key.second);
      by_operand[key.first].second = text;
    }
    std::string result;
    for (const auto& [operand, what] : by_operand)
      result += fmt::format("{}: operand {}, units{} are called read, but never mattered\n", what.second, operand,
                            what.first);
    return result;
  }

 private:
  using Key = std::pair<std::size_t, unsigned>;

  /// Immediates pick, shift and mask: no single one shows all that is read. Half of them are small.
  void vary_immediate(const Instruction& instruction, Code& code) {
    if (isa::flow_of(instruction) != isa::ControlFlow::next) return;
    const std::size_t size = instruction.immediate_size[0] + instruction.immediate_size[1];
    const bool small = random_() % 2 == 0;
    for (std::size_t i = 0; i < size; ++i)
      code[instruction.immediate_at + i] = static_cast<std::uint8_t>(random_() % (small ? 8 : 256));
  }

  /// False when this processor does not have the instruction.
  bool try_state(const Code& code, const Instruction& instruction, const Machine& before) {
    Machine after;
    if (!laboratory_.execute(code, before, after)) return laboratory_.signal() != SIGILL;
    ran_ = true;
    std::map<std::size_t, unsigned> position;
    for (const auto& [operand, place] : read_places(instruction, before)) {
      const Key key(operand, position[operand]++);
      if (closed_.count(key) != 0) continue;
      const auto bit = static_cast<unsigned>(random_() % place.bits);
      Machine changed = before, ended;
      place.flip(changed, bit);
      if (!laboratory_.execute(code, changed, ended) || differ(ended, after, place, bit)) {
        closed_.insert(key);
        open_.erase(key);
      } else {
        open_[key] = isa::text_of(instruction, 0, isa::Syntax::intel).view();
      }
    }
    return true;
  }

  Laboratory& laboratory_;
  std::mt19937_64& random_;
  isa::Mode mode_;
  std::map<Key, std::string> open_;
  std::set<Key> closed_;
  bool ran_ = false;
};

/// Tries every row that this processor has; returns how many.
std::size_t check_all(isa::Mode mode, std::string& complaints) {
  Laboratory laboratory;
  std::mt19937_64 random(31);
  std::size_t rows = 0;
  for (const auto& [row, codes] : samples_of_all_rows(16, mode)) {
    RowCheck check(laboratory, random, mode);
    check.run(codes);
    rows += check.ran() ? 1 : 0;
    if (!picks(isa::mnemonic_of(isa::rows()[row]))) complaints += check.complaint();
  }
  return rows;
}

TEST(Processor, WhatIsCalledReadMatters) {
  std::string complaints;
  EXPECT_GT(check_all(isa::Mode::bits64, complaints), 300U);
  EXPECT_EQ(complaints, "");
}

TEST(Processor, WhatIsCalledReadMattersIn32Bits) {
  std::string complaints;
  EXPECT_GT(check_all(isa::Mode::bits32, complaints), 300U);
  EXPECT_EQ(complaints, "");
}

}  // namespace
}  // namespace deeptrace::tests
