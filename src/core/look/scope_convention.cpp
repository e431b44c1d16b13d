// What the calling convention says: arguments before the frame is set up, results, the caller.
#include <algorithm>
#include <cstring>

#include "base/number.h"
#include "isa/effects.h"
#include "isa/text.h"
#include "isa/walk.h"
#include "look/scope.h"
#include "program/code_starts.h"
#include "state/parts.h"

namespace deeptrace::look {

using debuginfo::Encoding;
using debuginfo::LocalVariable;
using debuginfo::Type;
using inspect::Datum;
using inspect::TypeRef;
using state::Reg;

/// True when nothing between the function's first instruction and this one writes a register.
bool Scope::is_as_passed(isa::RegisterPart part) const {
  const program::Program& program = *module_->program;
  const program::Function* function = program.function_at(inside_);
  const Bytes code = program.elf().bytes_at(function->address);
  for (const isa::Placed& one : isa::instructions_of(code, view_.mode())) {
    if (function->address + one.at >= inside_) return true;
    const isa::Effects effects = isa::effects_of(one.instruction);
    for (unsigned i = 0; i < effects.register_count; ++i) {
      const isa::RegisterEffect& effect = effects.registers[i];
      const bool same = effect.part.file == part.file && effect.part.index == part.index;
      if (same && isa::writes(effect.access)) return false;
    }
  }
  return true;
}

std::optional<std::uint64_t> Scope::frame_comes_at() const {
  if (module_ == nullptr || frame_.how != inspect::Frame::How::innermost) return std::nullopt;
  const program::Function* function = module_->program->function_at(inside_);
  if (function == nullptr) return std::nullopt;
  const auto [known, added] = Modules::debug(*module_).prologues.try_emplace(function->address);
  if (added) known->second = program::prologue_of(*module_->program, *function);
  const bool before = inside_ >= function->address && inside_ < known->second.end;
  return before ? std::optional(known->second.end) : std::nullopt;
}

std::vector<const LocalVariable*> Scope::parameters() const {
  std::vector<const LocalVariable*> result;
  const debuginfo::FunctionLocals* locals = module_ != nullptr ? Modules::debug(*module_).locals.at(inside_) : nullptr;
  if (locals == nullptr) return result;
  for (const LocalVariable& variable : locals->scopes.front().variables) {
    if (variable.parameter) result.push_back(&variable);
  }
  return result;
}

Result<Datum> Scope::argument(std::uint64_t number) {
  if (number == 0) return Error{Fault::usage, "arguments are counted from 1"};
  const program::Function* function = module_ != nullptr ? module_->program->function_at(inside_) : nullptr;
  const bool entry =
      function != nullptr && function->address == inside_ && frame_.how == inspect::Frame::How::innermost;
  const std::vector<const LocalVariable*> named = parameters();
  if (entry) return passed(number);
  if (number <= named.size()) return local(*named[number - 1]);
  if (frame_comes_at()) return passed(number);
  return Error{Fault::usage, !named.empty()
                                 ? "the function has " + std::to_string(named.size()) + " parameters"
                                 : "arguments are known at the function's first instruction only: stop at function+0"};
}

Result<Datum> Scope::passed(std::uint64_t number) {
  const std::vector<const LocalVariable*> parameters = this->parameters();
  std::optional<TypeRef> type;
  ModuleDebug& debug = Modules::debug(*module_);
  std::uint64_t integers = 0, reals = 0;
  bool real = false;
  for (std::uint64_t i = 0; i < number; ++i) {
    real = false;
    if (i < parameters.size()) {
      const auto entry_of_type = module_->program->debug().read(parameters[i]->type);
      type = TypeRef{&debug.types, entry_of_type ? debug.types.of(*entry_of_type) : debuginfo::kVoid};
      const Type& plain = debug.types[debug.types.plain(type->id)];
      if (plain.is_aggregate() && view_.mode() == isa::Mode::bits64)
        return Error{
            Fault::usage,
            "a structure among the arguments is passed in parts; name the parameter after the function's prologue"};
      real = plain.kind == Type::Kind::base && plain.encoding == Encoding::floating && plain.size <= 8;
    } else {
      type.reset();
    }
    real ? ++reals : ++integers;
  }
  Datum datum;
  if (type) datum.type = *type;
  const arch::Machine& machine = arch::machine_of(view_.mode());
  const unsigned word = machine.word;
  const std::uint64_t size = type ? std::max<std::uint64_t>(1, debug.types.size(type->id)) : word;
  if (!type) datum.shape = inspect::Shape{inspect::Shape::Kind::pointer, word};
  // Those that have no register are on the stack (x86-64 psABI, 3.2.3; i386 psABI, 2.2.3: all of them).
  const std::uint64_t in_general = machine.arguments.size(), in_vectors = machine.vector_arguments;
  if (real ? reals <= in_vectors : integers <= in_general) {
    datum.place = Datum::Place::reg;
    datum.loaded = true;
    datum.part = real ? isa::RegisterPart{isa::RegisterFile::vector, static_cast<std::uint8_t>(reals - 1), 0, 128}
                      : isa::RegisterPart{isa::RegisterFile::general, machine.arguments[integers - 1], 0, 64};
    auto bytes = state::bytes_of(view_, datum.part);
    if (!bytes) return Error{Fault::usage, "its register is not known here"};
    if (!is_as_passed(datum.part))
      return Error{Fault::usage, "not there yet, and " + std::string(isa::name_of(datum.part)) +
                                     ", in which it was passed, holds something else now"};
    bytes->resize(size);
    datum.part.width = static_cast<std::uint16_t>(size * 8);
    datum.bytes = std::move(*bytes);
    return datum;
  }
  std::uint64_t slot = 0;
  if (in_general != 0) {
    slot = (integers > in_general ? integers - in_general : 0) + (reals > in_vectors ? reals - in_vectors : 0);
  } else {
    slot = number;
    for (std::uint64_t i = 0; i + 1 < number && i < parameters.size(); ++i) {
      const auto entry_of_type = module_->program->debug().read(parameters[i]->type);
      if (entry_of_type) slot += (debug.types.size(debug.types.of(*entry_of_type)) + 3) / 4 - 1;
    }
  }
  datum.place = Datum::Place::memory;
  // The return address lies just below the frame's end.
  datum.address = (frame_.cfa != 0 ? frame_.cfa - word : frame_.registers[Reg::rsp]) + slot * word;
  return datum;
}

std::optional<TypeRef> Scope::return_type(std::uint64_t function) {
  const Module* module = modules_.at(function);
  if (module == nullptr) return std::nullopt;
  ModuleDebug& debug = Modules::debug(*module);
  const auto* described = debug.scopes.function_at(function - module->bias);
  if (described == nullptr) return std::nullopt;
  const auto entry = module->program->debug().read({described->unit, described->entry});
  if (!entry) return std::nullopt;
  return TypeRef{&debug.types, debug.types.of(*entry)};
}

bool Scope::stands_at_return() const {
  if (frame_.how != inspect::Frame::How::innermost) return false;
  std::uint8_t bytes[isa::kLongestInstruction] = {};
  const std::size_t size = view_.read_memory(frame_.address(), bytes);
  const isa::Instruction instruction = isa::decode({bytes, size}, view_.mode());
  return instruction && isa::flow_of(instruction) == isa::ControlFlow::return_;
}

Result<Datum> Scope::result() {
  const unsigned word = arch::machine_of(view_.mode()).word;
  if (!returned_from_ && !stands_at_return())
    return Error{Fault::usage, "there is no result here: it exists where a function returns (`out`, `on return NAME`)"};
  const auto type = return_type(returned_from_.value_or(frame_.inside()));
  Datum datum;
  datum.place = Datum::Place::reg;
  datum.loaded = true;
  datum.part = {isa::RegisterFile::general, isa::kRax, 0, static_cast<std::uint16_t>(word * 8)};
  if (type) {
    const Type& plain = (*type->types)[type->types->plain(type->id)];
    const std::uint64_t size = type->types->size(type->id);
    if (plain.kind == Type::Kind::none) return Error{Fault::usage, "the function returns nothing"};
    datum.type = *type;
    const bool real = plain.kind == Type::Kind::base && plain.encoding == Encoding::floating;
    if (real && (word == 4 || size > 8)) {
      datum.part = {isa::RegisterFile::x87, 0, 0, 80};
      datum.type = {};
      datum.shape = inspect::Shape{inspect::Shape::Kind::floating, 10};
    } else if (real) {
      datum.part = {isa::RegisterFile::vector, 0, 0, static_cast<std::uint16_t>(size * 8)};
    } else if (plain.is_aggregate()) {
      if (size > 16 || word == 4) {
        // Returned in memory: rax holds its address (x86-64 psABI, 3.2.3).
        datum.place = Datum::Place::memory;
        datum.loaded = false;
        datum.address = frame_.registers[Reg::rax];
        return datum;
      }
      return Error{Fault::usage, "a structure of up to 16 bytes is returned in parts; look at rax, rdx, xmm0 and xmm1"};
    } else if (size > 0 && size <= word) {
      datum.part.width = static_cast<std::uint16_t>(size * 8);
    }
  }
  auto bytes = state::bytes_of(view_, datum.part);
  if (!bytes) return Error{Fault::usage, "its register is not known here"};
  datum.bytes = std::move(*bytes);
  if (!datum.type && !datum.shape) {
    datum.bits = word * 8;
    datum.signless = true;
  }
  return datum;
}

Result<Datum> Scope::caller() {
  const unsigned word = arch::machine_of(view_.mode()).word;
  const auto is_code = [this](std::uint64_t address) { return modules_.at(address) != nullptr; };
  const auto frame = inspect::caller_of(frame_, thread_, rules(), is_code);
  if (!frame) return Error{Fault::usage, "nobody called this function, or the way to the caller is lost"};
  Datum datum;
  datum.loaded = true;
  datum.shape = inspect::Shape{inspect::Shape::Kind::pointer, word};
  datum.bytes.resize(word);
  const std::uint64_t address = frame->address();
  std::memcpy(datum.bytes.data(), &address, word);
  return datum;
}

}  // namespace deeptrace::look
