#include "look/convention_checks.h"

#include <algorithm>
#include <bit>

#include "base/number.h"
#include "isa/text.h"
#include "state/parts.h"

namespace deeptrace::look {
namespace {

using debuginfo::Encoding;
using debuginfo::Type;
using state::Reg;

constexpr std::uint64_t kAlignment = 16;  // bytes, of the stack at calls, in both ABIs as Linux has them
constexpr std::uint64_t kDirectionFlag = 0x400;
constexpr std::uint64_t kSmall = 4096;  // numbers below are no addresses

arch::RegisterPart part_of(unsigned number, unsigned bits) {
  return {arch::RegisterFile::general, static_cast<std::uint8_t>(number), 0, static_cast<std::uint16_t>(bits)};
}

std::string name_of(unsigned number, unsigned bits) { return std::string(isa::name_of(part_of(number, bits))); }

Finding of_kind(std::string_view kind, bool note) {
  Finding finding;
  finding.kind = kind;
  finding.note = note;
  return finding;
}

std::string joined(std::initializer_list<std::string_view> parts) {
  std::string text;
  for (const std::string_view one : parts) text += one;
  return text;
}

std::string both(std::uint64_t value, unsigned bits) {
  const std::uint64_t cut = bits >= 64 ? value : value & ((std::uint64_t(1) << bits) - 1);
  return hex_text(cut) + " / " + std::to_string(signed_of(value, bits));
}

}  // namespace

KeptRegisters kept_registers(const state::StateView& view) {
  KeptRegisters result{};
  const arch::Machine& machine = arch::machine_of(view.mode());
  for (unsigned number = 0; number < machine.general_registers(); ++number) {
    if (machine.keeps(number)) result[number] = state::value_of(view.registers(), part_of(number, machine.word * 8));
  }
  return result;
}

std::string ConventionChecks::at_line(std::uint64_t address) { return modules_.located_name(address); }

const std::optional<program::RegisterRead>& ConventionChecks::reader(std::uint64_t back, isa::General number,
                                                                     bool through_calls) {
  const auto [place, added] = readers_.try_emplace({back, number});
  if (!added) return place->second;
  const Module* module = modules_.at(back);
  if (module == nullptr) return place->second;
  place->second = program::next_read(*module->program, back - module->bias, number, through_calls);
  if (place->second) place->second->address += module->bias;
  return place->second;
}

void ConventionChecks::add(std::vector<Finding>& found, const CheckedCall& call, Finding finding, std::uint64_t at) {
  if (!given_.emplace(finding.kind + finding.text.substr(0, finding.text.find(' ')), call.address, call.call).second)
    return;
  finding.address = at;
  finding.function = modules_.place_name(at);
  const auto [file, line] = modules_.line_of(at);
  finding.file = file;
  finding.line = line;
  found.push_back(std::move(finding));
}

/// What is found in a module's file, as an address of the process.
template <class Find>
std::optional<std::uint64_t> ConventionChecks::in_process(std::uint64_t address, const Find& find) {
  const Module* module = modules_.at(address);
  if (module == nullptr) return std::nullopt;
  const std::optional<std::uint64_t> found = find(*module->program, address - module->bias);
  return found ? std::optional(*found + module->bias) : std::nullopt;
}

/// False where that is not known.
bool ConventionChecks::is_hand_written(std::uint64_t address) {
  const Module* module = modules_.at(address);
  if (module == nullptr) return false;
  const program::Program& program = *module->program;
  return program.debug().units_at(address - module->bias).empty() ||
         program::is_assembly(program, address - module->bias);
}

// ---- when a call begins ---------------------------------------------------------------------------------------------

std::vector<Finding> ConventionChecks::at_call(const state::StateView& view, const CheckedCall& call,
                                               const std::vector<Argument>& passed) {
  std::vector<Finding> found;
  alignment(view, call, found);
  variadic(view, call, passed, found);
  order(view, call, passed, found);
  return found;
}

void ConventionChecks::alignment(const state::StateView& view, const CheckedCall& call, std::vector<Finding>& found) {
  const std::uint64_t off = call.arguments % kAlignment;
  if (off == 0) return;
  const auto relies = call.own ? in_process(call.address, program::aligned_access) : std::nullopt;
  // Hand-written 32-bit programs hardly ever keep it, and hardly ever need it.
  if (view.mode() == isa::Mode::bits32 && !relies) return;
  // A compiler that knows both leaves it out where nothing needs it.
  if (call.own && !relies && !is_hand_written(call.call)) return;
  Finding finding = of_kind("stack_misaligned", !relies);
  const std::string pointer = view.mode() == isa::Mode::bits32 ? "esp" : "rsp";
  finding.text =
      joined({pointer, " is ", hex_text(call.arguments), " where ", call.function, " is called: ", std::to_string(off),
              " bytes past a multiple of 16, which the convention asks for"});
  if (relies)
    finding.evidence.push_back(
        joined({call.function, " relies on it: ", at_line(*relies), " faults where its address is no multiple of 16"}));
  if (!relies && !call.own)
    finding.evidence.push_back("library functions may move 16 aligned bytes at once, and fault then");
  add(found, call, std::move(finding), call.call != 0 ? call.call : call.address);
}

/// al says how many vector registers a call with a variable number of arguments uses (x86-64 psABI, 3.5.7).
void ConventionChecks::variadic(const state::StateView& view, const CheckedCall& call,
                                const std::vector<Argument>& passed, std::vector<Finding>& found) {
  const Signature& signature = *call.signature;
  if (view.mode() == isa::Mode::bits32 || signature.prototype == nullptr || !signature.prototype->variadic) return;
  unsigned vectors = 0;
  for (const Argument& one : passed) vectors += one.part && one.part->file == isa::RegisterFile::vector ? 1 : 0;
  const std::uint64_t said = view.registers()[Reg::rax] & 0xff;
  constexpr std::uint64_t kMost = 8;
  if (said >= vectors && said <= kMost) return;
  Finding finding = of_kind("variadic_count", said >= vectors);
  finding.text = joined(
      {"al is ", std::to_string(said), " where ", call.function,
       " is called, which takes a variable number of arguments: ",
       said < vectors ? joined({std::to_string(vectors), " in vector registers are passed, and al has to say so"})
                      : std::string("al says how many vector registers are used, at most 8")});
  add(found, call, std::move(finding), call.call != 0 ? call.call : call.address);
}

namespace {

/// All bits of what an argument travels in, whatever its type takes of them; nothing where that is no whole number.
std::optional<std::uint64_t> whole_argument(const state::StateView& view, const Argument& argument) {
  const unsigned word = arch::machine_of(view.mode()).word;
  if (!argument.part) return argument.stack && argument.bytes <= word ? view.word_at(argument.place) : std::nullopt;
  if (argument.part->file != arch::RegisterFile::general) return std::nullopt;
  return state::value_of(view.registers(), part_of(argument.part->index, word * 8));
}

bool is_typed(const Argument& argument, std::initializer_list<inspect::Value::Kind> kinds) {
  return !argument.type.empty() && argument.value && std::ranges::find(kinds, argument.value->kind) != kinds.end();
}

/// "argument 2 (level, long, in rsi) is 0x402010"
std::string argument_words(const std::vector<Argument>& all, std::size_t index, std::uint64_t value) {
  const Argument& one = all[index];
  std::string text = "argument " + std::to_string(index + 1) + " (";
  if (!one.name.empty()) text += one.name + ", ";
  return text + one.type + ", in " + one.where + ") is " + (value < kSmall ? std::to_string(value) : hex_text(value));
}

}  // namespace

/// A small number where the called function takes an address, and an address of memory where it takes a number.
void ConventionChecks::order(const state::StateView& view, const CheckedCall& call, const std::vector<Argument>& passed,
                             std::vector<Finding>& found) {
  using Kind = inspect::Value::Kind;
  constexpr std::uint64_t kLowest = 65536;  // nothing is mapped below (vm.mmap_min_addr)
  const auto find = [&](std::initializer_list<Kind> kinds, const auto& fits) {
    for (std::size_t i = 0; i < passed.size(); ++i) {
      const auto value = is_typed(passed[i], kinds) ? whole_argument(view, passed[i]) : std::nullopt;
      if (value && fits(*value)) return std::pair(i, *value);
    }
    return std::pair(passed.size(), std::uint64_t(0));
  };
  const auto [pointer, number] =
      find({Kind::pointer}, [](std::uint64_t value) { return value != 0 && value < kSmall; });
  if (pointer == passed.size()) return;
  const auto [other, address] = find({Kind::integer, Kind::character, Kind::enumeration}, [&](std::uint64_t value) {
    std::uint8_t byte = 0;
    return value >= kLowest && view.read_memory(value, {&byte, 1}) == 1;
  });
  if (other == passed.size()) return;
  Finding finding = of_kind("exchanged_arguments", call.call == 0 || !is_hand_written(call.call));
  finding.text = joined({"arguments ", std::to_string(std::min(pointer, other) + 1), " and ",
                         std::to_string(std::max(pointer, other) + 1), " of ", call.function, " look exchanged"});
  finding.evidence.push_back(argument_words(passed, pointer, number) + ": no address");
  finding.evidence.push_back(argument_words(passed, other, address) + ": an address of memory");
  add(found, call, std::move(finding), call.call != 0 ? call.call : call.address);
}

// ---- when it has returned -------------------------------------------------------------------------------------------

std::vector<Finding> ConventionChecks::at_return(const state::StateView& view, const CheckedCall& call,
                                                 const std::optional<KeptRegisters>& before, std::uint64_t expected) {
  std::vector<Finding> found;
  if (before) kept(view, call, *before, found);
  stack(view, call, expected, found);
  direction(view, call, found);
  floating(view, call, found);
  width(view, call, found);
  return found;
}

void ConventionChecks::kept(const state::StateView& view, const CheckedCall& call, const KeptRegisters& before,
                            std::vector<Finding>& found) {
  const arch::Machine& machine = arch::machine_of(view.mode());
  const unsigned bits = machine.word * 8;
  const std::uint64_t back = view.registers()[Reg::rip];
  for (unsigned number = 0; number < machine.general_registers(); ++number) {
    if (!machine.keeps(number) || number == machine.stack_pointer) continue;
    const std::uint64_t now = state::value_of(view.registers(), part_of(number, bits));
    if (now == before[number]) continue;
    const std::string name = name_of(number, bits);
    const auto relies = reader(back, static_cast<isa::General>(number), true);
    Finding finding = of_kind("kept_register_changed", !relies);
    finding.text = joined({name, " is not given back by ", call.function, ": it was ", both(before[number], bits),
                           ", and is ", both(now, bits), " after the return"});
    const auto writer = in_process(call.address, [&](const program::Program& program, std::uint64_t address) {
      return program::first_write(program, address, static_cast<isa::General>(number));
    });
    finding.evidence.push_back(writer ? joined({"written at ", at_line(*writer)})
                                      : "a function that it calls does not give it back");
    if (relies) finding.evidence.push_back(joined({"the caller reads it at ", at_line(relies->address)}));
    if (!relies) finding.evidence.push_back("the caller does not read it before it writes it");
    add(found, call, std::move(finding), writer.value_or(call.address));
  }
}

void ConventionChecks::stack(const state::StateView& view, const CheckedCall& call, std::uint64_t expected,
                             std::vector<Finding>& found) {
  const std::uint64_t now = view.registers()[Reg::rsp];
  const bool narrow = view.mode() == isa::Mode::bits32;
  const Signature& signature = *call.signature;
  const std::uint64_t released = now - expected;
  // The address of a result in memory is taken off by the function (i386 psABI, 2.2.3).
  const std::uint64_t lawful = narrow && signature.known && signature.layout.hidden_result ? 4 : 0;
  if (released == lawful || (narrow && !signature.known)) return;
  Finding finding = of_kind("stack_not_restored", narrow);
  finding.text = joined({narrow ? "esp" : "rsp", " is ", hex_text(now), " after the return of ", call.function, ", ",
                         std::to_string(released), " bytes above where it was before the call"});
  finding.evidence.emplace_back(
      narrow ? "the function takes its arguments off the stack; by the convention the caller does"
             : "by the convention the caller takes arguments off the stack");
  add(found, call, std::move(finding), call.address);
}

void ConventionChecks::direction(const state::StateView& view, const CheckedCall& call, std::vector<Finding>& found) {
  if ((view.registers()[Reg::rflags] & kDirectionFlag) == 0) return;
  Finding finding = of_kind("direction_flag_set", false);
  finding.text = joined({"df is set when ", call.function, " returns: string instructions go downwards from now on"});
  finding.evidence.emplace_back("the convention has it clear at calls and returns, and library functions rely on that");
  add(found, call, std::move(finding), call.address);
}

const std::optional<std::uint64_t>& ConventionChecks::floating_writer(std::uint64_t function) {
  const auto [place, added] = floating_.try_emplace(function);
  if (added && is_hand_written(function)) place->second = in_process(function, program::floating_write);
  return place->second;
}

/// Its stack is empty at calls and returns but for a result; mmx registers are those of that stack.
void ConventionChecks::floating(const state::StateView& view, const CheckedCall& call, std::vector<Finding>& found) {
  if (!call.own) return;
  const auto& writer = floating_writer(call.address);
  const auto set = writer ? view.legacy() : std::nullopt;
  if (!set) return;
  const Signature& signature = *call.signature;
  int lawful = 1;
  if (signature.known) {
    lawful = static_cast<int>(std::ranges::count_if(signature.layout.result.pieces, [](const abi::Piece& piece) {
      return piece.part.file == arch::RegisterFile::x87;
    }));
  }
  const int used = std::popcount(set->x87_used);
  if (used <= lawful) return;
  constexpr int kRegisters = 8;
  const bool mmx = used == kRegisters;
  Finding finding = of_kind(mmx ? "mmx_state_left" : "x87_stack_left", mmx);
  finding.text =
      joined({call.function, " returns with ", std::to_string(used), " of 8 registers of the floating-point ",
              "unit in use, where ", lawful == 0 ? "none" : "one at most", " may be"});
  finding.evidence.push_back(joined({"written at ", at_line(*writer)}));
  finding.evidence.emplace_back(mmx ? "after mmx instructions `emms` makes them free again"
                                    : "what is left there takes room from whoever computes next: eight fill it");
  add(found, call, std::move(finding), *writer);
}

/// A result of fewer bits than its caller reads: what is above them may be anything.
void ConventionChecks::width(const state::StateView& view, const CheckedCall& call, std::vector<Finding>& found) {
  const Signature& signature = *call.signature;
  if (!signature.known || signature.layout.result.pieces.size() != 1) return;
  const abi::Piece& piece = signature.layout.result.pieces.front();
  const Type& type = (*signature.types)[signature.types->plain(signature.result)];
  const bool number = type.kind == Type::Kind::base || type.kind == Type::Kind::enumeration;
  if (!number || piece.part.file != arch::RegisterFile::general || signature.layout.result.by_address) return;
  const auto bits = static_cast<unsigned>(piece.size * 8);
  const unsigned most = arch::machine_of(view.mode()).word * 8;
  if (bits >= most) return;
  const auto& read = reader(view.registers()[Reg::rip], static_cast<isa::General>(piece.part.index), false);
  if (!read || read->bits <= bits || read->moved) return;
  const std::uint64_t whole = state::value_of(view.registers(), part_of(piece.part.index, read->bits));
  const std::uint64_t mask = (std::uint64_t(1) << bits) - 1;
  const bool is_signed = type.encoding == Encoding::signed_integer || type.encoding == Encoding::signed_char;
  const bool negative = is_signed && (whole >> (bits - 1) & 1) != 0;
  const std::uint64_t over = read->bits >= 64 ? ~std::uint64_t(0) : (std::uint64_t(1) << read->bits) - 1;
  const std::uint64_t meant = (negative ? (whole & mask) | ~mask : whole & mask) & over;
  if (whole == meant) return;  // what is read is right
  Finding finding = of_kind("result_read_too_wide", false);
  finding.text = joined({name_of(piece.part.index, read->bits), " is read as the result of ", call.function,
                         ", which gives ", std::to_string(bits), " bits (", signature.types->name(signature.result),
                         "): ", both(whole, read->bits), " in place of ", both(whole & mask, bits)});
  finding.evidence.push_back(joined({"read at ", at_line(read->address), "; what is above ",
                                     name_of(piece.part.index, bits), " is not part of the result"}));
  add(found, call, std::move(finding), read->address);
}

}  // namespace deeptrace::look
