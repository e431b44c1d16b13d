// What the calling convention says: arguments before the frame is set up, results, the caller.
#include <algorithm>
#include <cstring>

#include "abi/described_function.h"
#include "base/number.h"
#include "isa/effects.h"
#include "isa/text.h"
#include "isa/walk.h"
#include "look/passed_value.h"
#include "look/scope.h"
#include "look/signature.h"
#include "program/code_starts.h"
#include "state/delta.h"
#include "state/parts.h"

namespace deeptrace::look {

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

/// Some compilers leave out parameters that have no place of their own. What comes after them is not known then.
bool Scope::knows_parameters() const {
  const program::Function* function = module_->program->function_at(inside_);
  const auto named = function != nullptr ? abi::parameters_in(function->name.str()) : std::nullopt;
  const std::vector<const LocalVariable*> parameters = this->parameters();
  const auto made = std::ranges::count(parameters, std::string("this"), &LocalVariable::name);
  return !named || parameters.empty() || parameters.size() == *named + static_cast<std::size_t>(made);
}

Result<Datum> Scope::passed(std::uint64_t number) {
  if (!knows_parameters()) return Error{Fault::usage, std::string(kPartlyDescribed)};
  const abi::CallLayout travels = layout_of_arguments(number);
  if (!travels.known) return Error{Fault::usage, std::string(abi::kConventionUnknown)};
  std::optional<TypeRef> type;
  const std::vector<const LocalVariable*> parameters = this->parameters();
  if (number <= parameters.size()) type = type_of_local(*parameters[number - 1]);
  const abi::Passed& passed = travels.arguments[number - 1];
  for (const abi::Piece& piece : passed.pieces) {
    if (piece.part && !is_as_passed(piece.part))
      return Error{Fault::usage, "not there yet, and " + std::string(isa::name_of(piece.part)) +
                                     ", in which it was passed, holds something else now"};
  }
  // The return address lies just below the frame's end.
  const unsigned word = arch::machine_of(view_.mode()).word;
  const std::uint64_t arguments = frame_.cfa != 0 ? frame_.cfa : frame_.registers[Reg::rsp] + word;
  return passed_value(view_, passed, type, arguments);
}

namespace {

/// What describes the function that an address lies in.
std::optional<debuginfo::Entry> entry_at(Modules& modules, std::uint64_t address) {
  const Module* module = modules.at(address);
  if (module == nullptr) return std::nullopt;
  const auto* described = Modules::debug(*module).scopes.function_at(address - module->bias);
  if (described == nullptr) return std::nullopt;
  return module->program->debug().read({described->unit, described->entry});
}

abi::Compiler compiler_at(Modules& modules, std::uint64_t address) {
  const auto entry = entry_at(modules, address);
  return entry ? abi::compiler_of(*entry) : abi::Compiler{};
}

}  // namespace

abi::CallLayout Scope::layout_of_arguments(std::uint64_t arguments) {
  std::vector<debuginfo::TypeId> types;
  for (const LocalVariable* parameter : parameters()) {
    const auto type = type_of_local(*parameter);
    types.push_back(type ? type->id : debuginfo::kVoid);
  }
  types.resize(std::max<std::size_t>(types.size(), arguments), debuginfo::kVoid);
  const std::uint64_t function = frame_.inside();
  const auto result = return_type(function);
  return abi::layout_of_call(view_.mode(), compiler_at(modules_, function), Modules::debug(*module_).types, types,
                             result ? result->id : debuginfo::kVoid);
}

std::optional<TypeRef> Scope::return_type(std::uint64_t function) {
  const auto entry = entry_at(modules_, function);
  if (!entry) return std::nullopt;
  debuginfo::Types& types = Modules::debug(*modules_.at(function)).types;
  return TypeRef{&types, types.of(*entry)};
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
  if (call_returned_) {
    const arch::RegisterPart whole{isa::RegisterFile::general, isa::kRax, 0, static_cast<std::uint16_t>(word * 8)};
    Result<Datum> datum = passed_value(view_, {{{whole, 0, 0, word}}}, std::nullopt, 0);
    if (datum) datum->shape = inspect::Shape{inspect::Shape::Kind::signed_integer, word};
    return datum;
  }
  if (!returned_from_ && !stands_at_return())
    return Error{Fault::usage, "there is no result here: it exists where a function returns (`out`, `on return NAME`)"};
  const std::uint64_t function = returned_from_.value_or(frame_.inside());
  const auto type = return_type(function);
  if (!type) {
    abi::Passed whole{{{{isa::RegisterFile::general, isa::kRax, 0, static_cast<std::uint16_t>(word * 8)}, 0, 0, word}}};
    Result<Datum> datum = passed_value(view_, whole, std::nullopt, 0);
    if (datum) {
      datum->shape.reset();
      datum->bits = word * 8;
      datum->signless = true;
    }
    return datum;
  }
  if ((*type->types)[type->types->plain(type->id)].kind == Type::Kind::none)
    return Error{Fault::usage, "the function returns nothing"};
  const abi::CallLayout layout =
      abi::layout_of_call(view_.mode(), compiler_at(modules_, function), *type->types, {}, type->id);
  if (!layout.known) return Error{Fault::usage, std::string(abi::kConventionUnknown)};
  if (layout.result.pieces.empty()) return Error{Fault::usage, "the result has no bytes"};
  Result<Datum> datum = passed_value(view_, layout.result, type, 0);
  const abi::Piece& first = layout.result.pieces.front();
  constexpr unsigned kReal = 10;  // bytes of a register of the floating-point unit
  if (!datum || first.part.file != isa::RegisterFile::x87 || first.size >= kReal) return datum;
  datum->bytes = state::bytes_of(view_, first.part).value_or(std::vector<std::uint8_t>(kReal));
  datum->type = {};
  datum->shape = inspect::Shape{inspect::Shape::Kind::floating, kReal};
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
