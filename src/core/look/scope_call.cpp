// Names of the arguments of a system call, where a thread asks for one; and of the constants that they are made of.
#include <algorithm>
#include <set>

#include "abi/call_shapes.h"
#include "abi/constants.h"
#include "isa/effects.h"
#include "isa/register.h"
#include "look/scope.h"
#include "state/parts.h"

namespace deeptrace::look {

using abi::ArgumentShape;
using inspect::Datum;

namespace {

/// Of an argument that is a number in its register: how wide it is, and whether it has a sign.
inspect::Shape shape_of(const ArgumentShape& argument, unsigned word) {
  using Kind = ArgumentShape::Kind;
  using Shape = inspect::Shape;
  if (argument.is_pointer()) return {Shape::Kind::pointer, word};
  switch (argument.kind) {
    case Kind::signed_int:
    case Kind::pid:
    case Kind::descriptor:
    case Kind::directory:
    case Kind::signal: return {Shape::Kind::signed_integer, 4};
    case Kind::unsigned_int:
    case Kind::uid:
    case Kind::gid:
    case Kind::mode:
    case Kind::flags:
    case Kind::one: return {Shape::Kind::unsigned_integer, 4};
    case Kind::signed_long:
    case Kind::offset: return {Shape::Kind::signed_integer, word};
    default: return {Shape::Kind::unsigned_integer, word};
  }
}

Datum number_datum(std::int64_t value) {
  Datum datum;
  datum.loaded = true;
  datum.bits = 64;
  datum.is_signed = true;
  datum.bytes.resize(sizeof value);
  for (std::size_t i = 0; i < sizeof value; ++i) datum.bytes[i] = static_cast<std::uint8_t>(value >> 8 * i);
  return datum;
}

/// That some call has an argument of that name. Most names are none, and then no instruction need be read.
bool is_argument_name(std::string_view name) {
  static const std::set<std::string_view> kNames = [] {
    std::set<std::string_view> names;
    for (const auto table : {abi::CallTable::x86_64, abi::CallTable::i386}) {
      for (const abi::SystemCall& call : abi::system_calls(table)) {
        const abi::CallShape* shape = abi::call_shape(call.name, table);
        if (shape == nullptr) continue;
        for (const ArgumentShape& one : shape->arguments) names.insert(one.name);
      }
    }
    return names;
  }();
  return kNames.contains(name);
}

}  // namespace

bool Scope::names_call_argument(std::string_view name) const {
  return is_argument_name(name) && call_argument(asked_ ? asked_ : asked_here(), name);
}

/// By the instruction where it stands.
std::optional<Scope::Asked> Scope::asked_here() const {
  if (frame_.how != inspect::Frame::How::innermost) return std::nullopt;
  std::uint8_t bytes[isa::kLongestInstruction] = {};
  const std::size_t size = view_.read_memory(frame_.registers[state::Reg::rip], bytes);
  const isa::Instruction instruction = isa::decode({bytes, size}, view_.mode());
  if (!instruction || isa::flow_of(instruction) != isa::ControlFlow::system) return std::nullopt;
  const bool gate = (isa::row_of(instruction).traits & isa::kGate) != 0;
  const abi::CallTable table = gate ? abi::CallTable::i386 : abi::call_table(view_.mode());
  const std::uint64_t number = frame_.registers[state::Reg::rax];
  const abi::SystemCall* call = abi::system_call(table == abi::CallTable::i386 ? number & 0xffffffff : number, table);
  return call != nullptr ? std::optional(Asked{std::string(call->name), table}) : std::nullopt;
}

std::optional<Datum> Scope::call_argument(const std::optional<Asked>& asked, std::string_view name) const {
  const abi::CallShape* shape = asked ? abi::call_shape(asked->name, asked->table) : nullptr;
  if (shape == nullptr) return std::nullopt;
  const auto found = std::ranges::find(shape->arguments, name, &ArgumentShape::name);
  if (found == shape->arguments.end()) {
    const abi::Constant* constant = abi::constant(name);
    return constant != nullptr ? std::optional(number_datum(constant->value)) : std::nullopt;
  }
  const bool wide = asked->table == abi::CallTable::x86_64;
  const auto& order = arch::machine_of(wide ? isa::Mode::bits64 : isa::Mode::bits32).call_arguments;
  const auto index = static_cast<std::size_t>(found - shape->arguments.begin());
  if (index >= order.size()) return std::nullopt;
  Datum datum;
  datum.place = Datum::Place::reg;
  datum.shape = shape_of(*found, wide ? 8 : 4);
  datum.part = {isa::RegisterFile::general, static_cast<isa::General>(order[index]), 0,
                static_cast<std::uint16_t>(datum.shape->size * 8)};
  auto bytes = state::bytes_of(view_, datum.part);
  if (!bytes) return std::nullopt;
  datum.bytes = std::move(*bytes);
  datum.loaded = true;
  return datum;
}

}  // namespace deeptrace::look
