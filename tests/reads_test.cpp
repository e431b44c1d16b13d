// The processor as the judge of what instructions read and write: what the table calls read matters to the result in
// some state, and nothing else does; what it calls written changes in some state. (That nothing else changes is in
// processor_test.cpp.)
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
class Place {
 public:
  enum class Kind : std::uint8_t { general, vector, mask, stack, memory, flag } kind;
  std::uint64_t at;  ///< register number (of the x87 stack the physical one, as mmx has it), address, or the flag's bit
  unsigned byte = 0;   ///< the first one in the register
  unsigned bits = 32;  ///< how many belong to it
  bool written = false;

  void flip(Machine& machine, unsigned bit) const {
    if (kind == Kind::flag) {
      machine.registers[Reg::rflags] ^= at;
    } else {
      byte_of(machine, bit / 8) ^= static_cast<std::uint8_t>(1U << (bit % 8));
    }
  }

  [[nodiscard]] bool changed(Machine& from, Machine& to) const {
    if (kind == Kind::flag) return ((from.registers[Reg::rflags] ^ to.registers[Reg::rflags]) & at) != 0;
    for (unsigned k = 0; k < (bits + 7) / 8; ++k) {
      if (byte_of(from, k) != byte_of(to, k)) return true;
    }
    return false;
  }

 private:
  /// Its bytes, from the lowest.
  [[nodiscard]] std::uint8_t& byte_of(Machine& machine, unsigned k) const {
    const auto number = static_cast<unsigned>(at);
    switch (kind) {
      case Kind::vector: return machine.extended.vector(number, byte + k);
      case Kind::mask: return machine.extended.mask(number, byte + k);
      case Kind::stack: return machine.extended.x87((number - machine.extended.top()) % 8, byte + k);
      case Kind::memory: return machine.data[at - kData + k];
      default: return reinterpret_cast<std::uint8_t*>(&machine.registers.values[at])[byte + k];
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

/// The registers of strings and of frames: they move, but stay in the lower four gigabytes, where the data lies.
bool points(const isa::Operand& operand) {
  const std::uint8_t index = operand.reg.index;
  return operand.hidden && (index == isa::kRsi || index == isa::kRdi || index == isa::kRbp);
}

using Wanted = bool (*)(isa::Access);

/// A register that another operand of the wanted access is too, or that takes part in an address: which of them it was
/// is not seen. (The opcode's own registers are always the same.)
bool stands_twice(const isa::Operands& operands, const isa::Operand& operand, Wanted wanted) {
  if (operand.kind != isa::Operand::Kind::reg) return false;
  const auto same = [&](const isa::RegisterPart& part) {
    return part.file == operand.reg.file && part.index == operand.reg.index;
  };
  return std::ranges::any_of(operands, [&](const isa::Operand& other) {
    if (&other == &operand || (other.hidden && operand.hidden)) return false;
    if (other.kind == isa::Operand::Kind::reg) return wanted(other.access) && same(other.reg);
    return other.kind == isa::Operand::Kind::memory && (same(other.memory().base) || same(other.memory().index));
  });
}

/// A register operand, which is number `i`; `top` is the physical register that the instruction calls st(0).
void add_register(Places& places, std::size_t i, const isa::Operand& operand, unsigned top, Wanted wanted) {
  const isa::RegisterPart part = operand.reg;
  Place place{Place::Kind::general, part.index, part.offset / 8U, 32, isa::writes(operand.access)};
  switch (part.file) {
    case isa::RegisterFile::general:
      if (part.index == isa::kRsp) return;  // it stays where it is in all states
      place.at = static_cast<std::uint64_t>(reg_of(part));
      return add_units(places, i, place, wanted == isa::writes && points(operand) ? 32U : part.width);
    case isa::RegisterFile::vector: place.kind = Place::Kind::vector; break;
    case isa::RegisterFile::mmx: place.kind = Place::Kind::stack; break;
    case isa::RegisterFile::x87:
      place.kind = Place::Kind::stack;
      place.at = (top + part.index) % 8U;
      break;
    case isa::RegisterFile::mask:  // byte by byte
      place.kind = Place::Kind::mask;
      for (unsigned bit = 0; bit < part.width; bit += 8) {
        place.byte = bit / 8;
        place.bits = std::min(8U, part.width - bit);
        places.emplace_back(i, place);
      }
      return;
    default: return;
  }
  add_units(places, i, place, part.width);
}

/// Memory, where its address is known. String memory under a repeat prefix and separate elements are left out.
void add_memory(Places& places, std::size_t i, const isa::Operand& operand, const Machine& machine,
                const Instruction& instruction) {
  if (operand.repeated || operand.elements != 1 || operand.recipe.has_vector_index()) return;
  const std::uint64_t at =
      state::address_of(operand.memory(), machine.registers, kCode + instruction.length, operand.width);
  add_units(places, i, {Place::Kind::memory, at, 0, 32, isa::writes(operand.access)}, operand.width);
  // What stands there for esp is passed over (Intel SDM volume 2, POPA).
  if (isa::mnemonic_of(isa::row_of(instruction)) == "popa") places.erase(places.end() - 5);
}

/// Flags, each as an operand of its own. The direction stays as it is in all states.
void add_flags(Places& places, const Instruction& instruction, Wanted wanted) {
  const isa::FlagUse& use = isa::operation_of(instruction).flags;
  const std::uint64_t flags =
      (wanted == isa::reads ? use.read : use.written | use.cleared | use.set) & kStatusFlags & ~kDirection;
  for (unsigned bit = 0; bit < 16; ++bit) {
    const std::uint64_t flag = std::uint64_t(1) << bit;
    if ((flags & flag) != 0)
      places.emplace_back(16 + bit, Place{Place::Kind::flag, flag, 0, 1, (use.written & flag) != 0});
  }
}

/// All that the table calls read, or written.
Places places_of(const Instruction& instruction, const Machine& machine, Wanted wanted) {
  Places places;
  // What is pushed is the new top.
  const bool pushes = wanted == isa::writes && (isa::row_of(instruction).traits & isa::kX87Push) != 0;
  const unsigned top = machine.extended.top() - (pushes ? 1U : 0U);
  const isa::Operands operands = isa::operands_of(instruction);
  for (std::size_t i = 0; i < operands.count; ++i) {
    const isa::Operand& operand = operands[i];
    if (!wanted(operand.access) || stands_twice(operands, operand, wanted)) continue;
    if (operand.kind == isa::Operand::Kind::memory) add_memory(places, i, operand, machine, instruction);
    if (operand.kind == isa::Operand::Kind::reg) add_register(places, i, operand, top, wanted);
  }
  add_flags(places, instruction, wanted);
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

/// What saves the state of the floating-point unit or the vector registers reads them, but has no operands for them.
bool saves_state(const Instruction& instruction) {
  const std::string_view name = isa::mnemonic_of(isa::row_of(instruction));
  return name.starts_with("fxsave") || name == "fnstenv";
}

bool is_tried(const Instruction& instruction) {
  const isa::Row& row = isa::row_of(instruction);
  constexpr std::uint32_t kUntried =
      isa::kPrivileged | isa::kNondeterministic | isa::kUnknownExtent | isa::kX87State | isa::kVectorState;
  const auto uses = isa::uses_of(row);  // selectors have sixteen bits, whatever the text names
  if (!uses.empty() && isa::kind_of(uses[0]).file == isa::RegisterFile::segment) return false;
  // What the kernel carries out in the processor's place, what only the kernel's tables decide, and what goes to the
  // processor's trace, where no program sees it.
  static const std::set<std::string_view> kLeftOut = {"popf", "popfw", "sldt", "str",  "sgdt",  "sidt",    "smsw",
                                                      "lar",  "lsl",   "verr", "verw", "xtest", "vmgexit", "ptwrite"};
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
  if (isa::is_repeated(instruction)) addressing.insert(Reg::rcx);
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

bool gathers(const Instruction& instruction) {
  return std::ranges::any_of(isa::operands_of(instruction), [](const isa::Operand& operand) {
    return operand.kind == isa::Operand::Kind::memory && operand.recipe.has_vector_index();
  });
}

/// Immediates pick, shift and mask: no single one shows all that is read. Half of them are small.
void vary_immediate(const Instruction& instruction, std::mt19937_64& random, Code& code) {
  if (isa::flow_of(instruction) != isa::ControlFlow::next) return;
  const std::size_t size = instruction.immediate_size[0] + instruction.immediate_size[1];
  const bool small = random() % 2 == 0;
  for (std::size_t i = 0; i < size; ++i)
    code[instruction.immediate_at + i] = static_cast<std::uint8_t>(random() % (small ? 8 : 256));
}

/// Reads that are no range: elements picked here and there, in each lane, or by their signs, and counts of which the
/// low bits count. The table gives the range that holds them all.
bool picks(const isa::Row& row) {
  const std::string_view name = isa::mnemonic_of(row);
  static const std::regex kPicks(
      "v?p?unpck.*|v?mov.*dup|v?pmulu?dq|vpmov(u?s)?[qdw][dwb]|v?p?extr.*|v?insertps|v?p?maskmov.*|vp?(gather|scatter)."
      "*|"
      "v?p?movmsk.*|vpmov[bwdq]2m|v?aeskeygenassist|v?mpsadbw|v?ps[rl][lal]v?[wdq].*|v?cvtt?p[sd]2.*|vperm.*|"
      "vpmultishiftqb|v?p?blendv.*|vtestp.|v?pclmulqdq|v?shufp.|valign.|v?palignr|vfixupimm.*|vfpclass.*|vpro[lr].*|"
      "bnd.*|bextr|bzhi|bt[rsc]?|s[ah][lr]x|c[wdq][dqo]e?|fi?comp?p?|bswap|vpsh[lr]dv[wdq]");
  // Of memory they read all 128 bits; those of a register that count are in rows of their own.
  static const std::regex kPartOfMemory("sha(1|256)msg[12]");
  return std::regex_match(name.begin(), name.end(), kPicks) ||
         (row.memory == 1 && std::regex_match(name.begin(), name.end(), kPartOfMemory));
}

/// Writes of which parts are what was there before, or which only make sense where it is switched on: scalar products
/// and unpacking leave elements where they were, fxsave parts of its area; the sign is all that fchs and fabs change.
/// Bounds and shadow stacks are off here.
bool keeps(std::string_view name) {
  static const std::regex kKeeps("vfn?m(add|sub)(132|213|231)s[sdh]|p?unpckl.*|fxsave.*|fchs|fabs|cdqe|bndmov|rdssp.");
  return std::regex_match(name.begin(), name.end(), kKeeps);
}

/// One row's places by operand and number within it: those that have done what they are looked at for, and those that
/// never did so far. Of places that are called read that is that they matter, of those called written that they change.
class RowCheck {
 public:
  RowCheck(Laboratory& laboratory, std::mt19937_64& random, isa::Mode mode, Wanted wanted)
      : laboratory_(laboratory), random_(random), mode_(mode), wanted_(wanted) {}

  /// `judged` false: only whether this processor has the row.
  void run(const std::vector<Code>& codes, bool judged) {
    for (Code code : codes) {
      const Instruction instruction = isa::decode(code, mode_);
      if (!is_tried(instruction)) return;
      if (!judged && ran_) return;
      for (std::size_t turn = 0; turn < 40 * kFillings.size() && (turn < 2 || (judged && !open_.empty())); ++turn) {
        Machine before;
        before.extended = laboratory_.initial();
        if (!prepare(instruction, random_, before)) break;
        if (!gathers(instruction)) fill(instruction, random_, kFillings[turn % kFillings.size()], before);
        vary_immediate(instruction, random_, code);
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
      result += fmt::format("{}: operand {}, units{} are called {}\n", what.second, operand, what.first,
                            wanted_ == isa::reads ? "read, but never mattered" : "written, but never changed");
    return result;
  }

 private:
  using Key = std::pair<std::size_t, unsigned>;

  /// False when this processor does not have the instruction.
  bool try_state(const Code& code, const Instruction& instruction, Machine& before) {
    Machine after;
    if (!laboratory_.execute(code, before, after)) return laboratory_.signal() != SIGILL;
    ran_ = true;
    std::map<std::size_t, unsigned> position;
    for (const auto& [operand, place] : places_of(instruction, before, wanted_)) {
      const Key key(operand, position[operand]++);
      if (closed_.count(key) != 0) continue;
      if (wanted_ == isa::reads ? matters(code, before, after, place) : place.changed(before, after)) {
        closed_.insert(key);
        open_.erase(key);
      } else {
        open_[key] = named(instruction);
      }
    }
    return true;
  }

  bool matters(const Code& code, const Machine& before, const Machine& after, const Place& place) {
    const auto bit = static_cast<unsigned>(random_() % place.bits);
    Machine changed = before, ended;
    place.flip(changed, bit);
    return !laboratory_.execute(code, changed, ended) || differ(ended, after, place, bit);
  }

  Laboratory& laboratory_;
  std::mt19937_64& random_;
  isa::Mode mode_;
  Wanted wanted_;
  std::map<Key, std::string> open_;
  std::set<Key> closed_;
  bool ran_ = false;
};

/// Tries every row that this processor has; returns them.
std::set<std::uint16_t> check_all(isa::Mode mode, Wanted wanted, std::string& complaints) {
  Laboratory laboratory;
  std::mt19937_64 random(31);
  std::set<std::uint16_t> rows, judged;
  // Fewer when all rows are wrong (corrupt_effects.py): such tests take long.
  const char* const fewer = std::getenv("DEEPTRACE_ROW_SAMPLES");
  for (const auto& [row, codes] : samples_of_all_rows(fewer != nullptr ? std::strtoul(fewer, nullptr, 10) : 16, mode)) {
    RowCheck check(laboratory, random, mode, wanted);
    const isa::Row& entry = isa::rows()[row];
    const bool is_judged = wanted == isa::reads ? !picks(entry) : !keeps(isa::mnemonic_of(entry));
    check.run(codes, is_judged);
    if (!check.ran()) continue;
    rows.insert(row);
    if (!is_judged) continue;
    judged.insert(row);
    complaints += check.complaint();
  }
  record(judged);
  return rows;
}

TEST(Processor, WhatIsCalledReadMatters) {
  std::string complaints;
  EXPECT_GT(check_all(isa::Mode::bits64, isa::reads, complaints).size(), 300U);
  EXPECT_EQ(complaints, "");
}

TEST(Processor, WhatIsCalledReadMattersIn32Bits) {
  std::string complaints;
  EXPECT_GT(check_all(isa::Mode::bits32, isa::reads, complaints).size(), 300U);
  EXPECT_EQ(complaints, "");
}

TEST(Processor, WhatIsCalledWrittenChanges) {
  std::string complaints;
  EXPECT_GT(check_all(isa::Mode::bits64, isa::writes, complaints).size(), 300U);
  EXPECT_EQ(complaints, "");
}

TEST(Processor, WhatIsCalledWrittenChangesIn32Bits) {
  std::string complaints;
  EXPECT_GT(check_all(isa::Mode::bits32, isa::writes, complaints).size(), 300U);
  EXPECT_EQ(complaints, "");
}

/// All of a state that instructions change, byte by byte: registers, flags, the floating-point stack by physical
/// register, vector registers, masks, mxcsr, memory. Each byte with the bits of it that are looked at.
std::vector<std::uint8_t> bytes_of(Machine machine, std::uint64_t undefined_flags) {
  std::vector<std::uint8_t> bytes(17 * 8);
  machine.registers[Reg::rflags] &= (kStatusFlags | kDirection) & ~undefined_flags;
  std::memcpy(bytes.data(), machine.registers.values.data(), 17 * 8);  // to rip
  // The flags a byte each: each of them is a place of its own.
  for (unsigned bit = 0; bit < 16; ++bit)
    bytes.push_back(static_cast<std::uint8_t>(machine.registers[Reg::rflags] >> bit & 1));
  Extended& extended = machine.extended;
  bytes.insert(bytes.end(), extended.area.begin(), extended.area.begin() + 6);
  bytes.insert(bytes.end(), extended.area.begin() + 24, extended.area.begin() + 28);
  for (unsigned i = 0; i < 8; ++i) {
    for (unsigned k = 0; k < 10; ++k) bytes.push_back(extended.x87((i - extended.top()) % 8, k));
  }
  const bool wide = Extended::has_avx512();
  for (unsigned i = 0; i < (wide ? 32U : 16U); ++i) {
    for (unsigned k = 0; k < (wide ? 64U : 32U); ++k) bytes.push_back(extended.vector(i, k));
  }
  for (unsigned i = 0; wide && i < 64; ++i) bytes.push_back(extended.mask(i / 8, i % 8));
  for (unsigned i = 0; extended.has_tiles && i < 8; ++i)
    bytes.insert(bytes.end(), &extended.tile(i, 0), &extended.tile(i, 0) + 1024);
  bytes.insert(bytes.end(), machine.data.begin(), machine.data.end());
  return bytes;
}

/// Copies a register, or part of it, from one state to another.
void copy(isa::RegisterPart part, Machine& from, Machine& to) {
  const unsigned first = part.offset / 8U, end = (part.offset + part.width + 7U) / 8U;
  const unsigned physical = part.index + (part.file == isa::RegisterFile::x87 ? from.extended.top() : 0);
  switch (part.file) {
    case isa::RegisterFile::general: {
      const std::uint64_t mask = (part.width >= 64 ? 0 : std::uint64_t(1) << part.width) - 1;
      std::uint64_t& value = to.registers[reg_of(part)];
      value ^= (value ^ from.registers[reg_of(part)]) & mask << part.offset;
      break;
    }
    case isa::RegisterFile::vector:
      for (unsigned k = first; k < end; ++k) to.extended.vector(part.index, k) = from.extended.vector(part.index, k);
      break;
    case isa::RegisterFile::mask:
      for (unsigned k = first; k < end; ++k) to.extended.mask(part.index, k) = from.extended.mask(part.index, k);
      break;
    case isa::RegisterFile::tile:
      std::memcpy(&to.extended.tile(part.index, 0), &from.extended.tile(part.index, 0), 1024);
      break;
    case isa::RegisterFile::x87:
    case isa::RegisterFile::mmx:
      for (unsigned k = first; k < end; ++k)
        to.extended.x87((physical - to.extended.top()) % 8, k) =
            from.extended.x87((physical - from.extended.top()) % 8, k);
      break;
    default: break;  // the same in all states
  }
}

/// Makes all equal in both states that the table calls read, or that may stay as it was.
void copy_what_is_read(const Instruction& instruction, Machine& from, Machine& to) {
  const auto matters = [](isa::Access access) { return isa::reads(access) || isa::only_perhaps(access); };
  const isa::Effects effects = isa::effects_of(instruction);
  for (unsigned i = 0; i < effects.register_count; ++i) {
    if (matters(effects.registers[i].access)) copy(effects.registers[i].part, from, to);
  }
  // The tiles' shapes are no register of the table: they are the same in all states.
  if (from.extended.has_tiles) std::memcpy(&to.extended.tile_shapes(0), &from.extended.tile_shapes(0), 64);
  const std::uint64_t flags = effects.flags.read | kDirection;
  std::uint64_t& value = to.registers[Reg::rflags];
  value ^= (value ^ from.registers[Reg::rflags]) & flags;
  const state::Touched touched = state::touched_by(instruction, from.registers);
  if (!touched.complete) to.data = from.data;
  for (const state::TouchedRange& range : touched) {
    if (!matters(range.access) || range.address < kData || range.address + range.size > kData + kDataSize) continue;
    std::memcpy(to.data.data() + (range.address - kData), from.data.data() + (range.address - kData), range.size);
  }
}

/// Whether two runs from states that agree in what is read end alike: what either of them changed is the same in both.
bool end_alike(const std::vector<std::uint8_t>& one_before, const std::vector<std::uint8_t>& one,
               const std::vector<std::uint8_t>& other_before, const std::vector<std::uint8_t>& other) {
  for (std::size_t i = 0; i < one.size(); ++i) {
    if ((one[i] != one_before[i] || other[i] != other_before[i]) && one[i] != other[i]) return false;
  }
  return true;
}

/// Tries every row that this processor has in pairs of states; returns them.
std::set<std::uint16_t> check_nothing_else_matters(isa::Mode mode) {
  Laboratory laboratory;
  std::mt19937_64 random(37);
  std::set<std::uint16_t> rows;
  for (const auto& [row, codes] : samples_of_all_rows(8, mode)) {
    for (Code code : codes) {
      for (const Filling filling : kFillings) {
        vary_immediate(isa::decode(code, mode), random, code);
        const Instruction instruction = isa::decode(code, mode);  // immediates name registers too
        if (!is_tried(instruction) || saves_state(instruction)) break;
        const std::uint64_t undefined = isa::operation_of(instruction).flags.undefined;
        Machine one, other, one_after, other_after;
        one.extended = other.extended = laboratory.initial();
        if (!prepare(instruction, random, one) || !prepare(instruction, random, other)) break;
        if (!gathers(instruction)) fill(instruction, random, filling, one);
        copy_what_is_read(instruction, one, other);
        const bool runs = laboratory.execute(code, one, one_after);
        const bool other_runs = laboratory.execute(code, other, other_after);
        EXPECT_EQ(runs, other_runs) << named(instruction);
        if (!runs || !other_runs) continue;
        rows.insert(row);
        if (end_alike(bytes_of(one, undefined), bytes_of(one_after, undefined), bytes_of(other, undefined),
                      bytes_of(other_after, undefined)))
          continue;
        ADD_FAILURE() << named(instruction) << " depends on more than what is called read";
        break;
      }
    }
  }
  record(rows);
  return rows;
}

TEST(Processor, NothingElseMatters) { EXPECT_GT(check_nothing_else_matters(isa::Mode::bits64).size(), 300U); }

TEST(Processor, NothingElseMattersIn32Bits) { EXPECT_GT(check_nothing_else_matters(isa::Mode::bits32).size(), 300U); }

}  // namespace
}  // namespace deeptrace::tests
