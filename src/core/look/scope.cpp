#include "look/scope.h"

#include <algorithm>
#include <cstring>
#include <numeric>

#include "arch/dwarf_registers.h"
#include "base/number.h"
#include "base/similar_names.h"
#include "inspect/type_check.h"
#include "isa/text.h"
#include "look/address_name.h"
#include "look/call_arguments.h"
#include "look/call_before.h"
#include "look/call_site_value.h"
#include "look/tail_call.h"
#include "look/thread_block.h"
#include "program/location.h"
#include "state/parts.h"

namespace deeptrace::look {
namespace {

using debuginfo::Encoding;
using debuginfo::LocalVariable;
using debuginfo::Type;
using debuginfo::TypeId;
using inspect::Datum;
using inspect::TypeRef;
using state::Reg;

}  // namespace

/// What location expressions ask about this frame.
class Scope::Context final : public debuginfo::LocationContext {
 public:
  Context(Scope& scope, const Module& module, Bytes frame_base, const debuginfo::Unit* unit)
      : scope_(scope), module_(module), frame_base_(frame_base), unit_(unit) {}

  std::optional<std::uint64_t> reg(unsigned number) override {
    if (const auto part = arch::dwarf_register(number, scope_.view_.mode())) asked_.push_back(*part);
    const auto reg = state::reg_of_dwarf(number, scope_.view_.mode());
    if (!reg) return other_register(number);
    if ((scope_.frame_.known >> static_cast<unsigned>(*reg) & 1) == 0) return std::nullopt;
    return scope_.frame_.registers[*reg];
  }
  bool read(std::uint64_t address, std::span<std::uint8_t> into) override {
    return scope_.view_.read_memory(address, into) == into.size();
  }
  std::optional<std::uint64_t> frame_base() override {
    if (frame_base_.empty() || !frame_pointer_is_set() || ++depth_ > 4) return std::nullopt;
    if (const auto stack = stack_after_prologue()) {
      --depth_;
      return stack;
    }
    const debuginfo::ExpressionPlace place{&module_.program->debug(), unit_, module_.bias, pointer_size()};
    const auto value = debuginfo::evaluate_number(frame_base_, place, *this);
    --depth_;
    return value;
  }
  std::optional<std::uint64_t> cfa() override {
    return scope_.frame_.cfa != 0 ? std::optional(scope_.frame_.cfa) : std::nullopt;
  }
  std::optional<std::uint64_t> thread_address(std::uint64_t offset) override {
    return scope_.thread_address(module_, offset);
  }
  std::optional<std::uint64_t> at_entry(Bytes expression) override {
    if (doubts_ != nullptr) doubt_ = doubts_->about_entry_value(expression, *part_);
    if (doubt_) return std::nullopt;
    return passed([&](const auto& one) { return std::ranges::equal(one.location, expression); });
  }
  std::optional<std::uint64_t> parameter(std::uint64_t entry) override {
    asked_other_ = true;
    return passed([&](const auto& one) { return one.entry == entry; });
  }

  /// Asks before a value at the function's entry is given to this part of a variable's locations.
  void doubt(const ValueDoubts& doubts, const debuginfo::LocationPart& part) {
    doubts_ = &doubts;
    part_ = &part;
  }
  [[nodiscard]] const std::optional<Error>& doubt() const { return doubt_; }
  /// The registers that were asked for.
  [[nodiscard]] const std::vector<arch::RegisterPart>& asked() const { return asked_; }
  /// How the expression gave its result.
  [[nodiscard]] Described::How how(Bytes expression, const debuginfo::Evaluated& evaluated) const {
    using How = Described::How;
    using Kind = debuginfo::Piece::Kind;
    const bool made =
        std::ranges::any_of(evaluated.pieces, [](const auto& piece) { return piece.kind == Kind::value; });
    if (!made || debuginfo::register_content(expression)) return How::place;
    if (asked_caller_ && !asked_other_) return How::passed;
    return asked_.empty() && !asked_other_ ? How::number : How::computed;
  }
  [[nodiscard]] unsigned pointer_size() const { return arch::machine_of(scope_.view_.mode()).word; }

 private:
  /// What the calling function's debug information says that it passed.
  std::optional<std::uint64_t> passed(const std::function<bool(const debuginfo::CallSite::Parameter&)>& is_it) {
    asked_caller_ = true;
    Modules& modules = scope_.modules_;
    const auto frame = scope_.calling_frame();
    const Module* module = frame ? modules.at(frame->inside()) : nullptr;
    if (module == nullptr) return std::nullopt;
    ModuleDebug& debug = Modules::debug(*module);
    const std::uint64_t back = frame->address() - module->bias;
    const debuginfo::FunctionLocals* locals = debug.locals.at(back - 1);
    const debuginfo::DescribedFunction* function = debug.scopes.function_at(back - 1);
    if (locals == nullptr || function == nullptr) return std::nullopt;
    Scope caller(modules, scope_.thread_, *frame);
    caller.calls_away_ = scope_.calls_away_ + 1;
    for (const debuginfo::CallSite& call : locals->calls) {
      if (call.return_address != back) continue;
      for (const debuginfo::CallSite::Parameter& one : call.parameters) {
        if (!is_it(one)) continue;
        if (!is_called_by(*frame) || !is_what_is_passed(*module->program, *function->unit, call, one))
          return std::nullopt;
        Context context(caller, *module, locals->frame_base, function->unit);
        const debuginfo::ExpressionPlace place{&module->program->debug(), function->unit, module->bias, pointer_size()};
        return debuginfo::evaluate_number(one.value, place, context);
      }
    }
    return std::nullopt;
  }
  /// False where another function may have been called, that went on to this one by a jump.
  [[nodiscard]] bool is_called_by(const inspect::Frame& caller) const {
    Modules& modules = scope_.modules_;
    const auto call = call_before(modules, caller.address());
    std::uint64_t target = 0;
    if (!call) return false;
    if (!isa::direct_target(call->instruction, call->address, target)) {
      const auto state = CallState::before_call(modules, scope_.thread_, caller);
      target = state ? call_target(*state).value_or(0) : 0;
    }
    const program::Function* called = modules.function_at(target);
    const program::Function* here = modules.function_at(scope_.frame_.inside());
    if (called == nullptr || here == nullptr) return false;
    return is_same_or_part(*here, *called);
  }

  /// The low eight bytes of a vector register, which typed operations read floating-point numbers from.
  [[nodiscard]] std::optional<std::uint64_t> other_register(unsigned number) const {
    const auto part = arch::dwarf_register(number, scope_.view_.mode());
    const auto raw =
        part && part->file == isa::RegisterFile::vector ? state::bytes_of(scope_.view_, *part) : std::nullopt;
    if (!raw || raw->size() < 8) return std::nullopt;
    std::uint64_t value = 0;
    std::memcpy(&value, raw->data(), sizeof value);
    return value;
  }
  /// Where the frame's base is the stack pointer, clang counts from what that is after the prologue, also where
  /// arguments have been pushed since.
  [[nodiscard]] std::optional<std::uint64_t> stack_after_prologue() {
    const unsigned stack = arch::machine_of(scope_.view_.mode()).dwarf_number(isa::kRsp);
    const program::Function* function = module_.program->function_at(scope_.inside_);
    if (debuginfo::register_alone(frame_base_) != stack || function == nullptr || scope_.frame_.cfa == 0)
      return std::nullopt;
    const auto [known, added] = Modules::debug(module_).prologues.try_emplace(function->address);
    if (added) known->second = program::prologue_of(*module_.program, *function);
    const program::Prologue& prologue = known->second;
    if (prologue.by != program::Prologue::By::debug_information || scope_.inside_ < prologue.end) return std::nullopt;
    const auto placed = scope_.modules_.frame_rule(prologue.end + module_.bias);
    if (!placed || !placed->from_table || placed->rule.cfa_register != stack || !placed->rule.cfa_expression.empty())
      return std::nullopt;
    return scope_.frame_.cfa - static_cast<std::uint64_t>(placed->rule.cfa_offset);
  }
  /// Where the frame's base is its frame pointer, that is only so between prologue and epilogue: while unwind tables
  /// count from it.
  [[nodiscard]] bool frame_pointer_is_set() const {
    const arch::Machine& machine = arch::machine_of(scope_.view_.mode());
    const unsigned pointer = machine.dwarf_number(machine.frame_pointer);
    if (debuginfo::register_alone(frame_base_) != pointer || scope_.frame_.how != inspect::Frame::How::innermost)
      return true;
    const auto placed = scope_.modules_.frame_rule(scope_.frame_.address());
    return !placed || !placed->from_table || placed->rule.cfa_register == pointer;
  }

  Scope& scope_;
  const Module& module_;
  Bytes frame_base_;
  const debuginfo::Unit* unit_;
  const debuginfo::LocationPart* part_ = nullptr;
  const ValueDoubts* doubts_ = nullptr;
  std::optional<Error> doubt_;
  std::vector<arch::RegisterPart> asked_;
  bool asked_caller_ = false;
  bool asked_other_ = false;  ///< for a parameter that has no place
  int depth_ = 0;
};

Scope::Scope(Modules& modules, const state::StateView& thread, inspect::Frame frame)
    : modules_(modules), thread_(thread), frame_(frame), view_(thread_, frame_) {
  module_ = modules_.at(frame_.inside());
  if (module_ != nullptr) inside_ = frame_.inside() - module_->bias;
}

Scope::Scope(Modules& modules, const state::StateView& thread)
    : Scope(modules, thread, inspect::innermost_frame(thread, [&modules](std::uint64_t address) {
              return modules.frame_rule(address);
            })) {}

inspect::RuleFinder Scope::rules() {
  return [this](std::uint64_t address) { return modules_.frame_rule(address); };
}

std::optional<inspect::Frame> Scope::calling_frame() {
  constexpr unsigned kMost = 8;  // in a recursion each argument may be said by the one before
  if (without_callers_ || calls_away_ >= kMost) return std::nullopt;
  const auto is_code = [&](std::uint64_t address) { return modules_.at(address) != nullptr; };
  auto frame = inspect::caller_of(frame_, thread_, rules(), is_code);
  return frame && frame->at_call ? std::move(frame) : std::nullopt;
}

// ---- variables ------------------------------------------------------------------------------------------------------

std::vector<const debuginfo::LocalScope*> Scope::scopes_around() const {
  if (module_ == nullptr) return {};
  std::vector<const debuginfo::LocalScope*> result = Modules::debug(*module_).locals.around(inside_);
  const auto inlined = [](const debuginfo::LocalScope* scope) { return !scope->inlined.empty(); };
  auto deep = static_cast<std::size_t>(std::ranges::count_if(result, inlined));
  while (depth_ && deep > *depth_) {
    // The call, with its blocks.
    const auto call = std::ranges::find_if(result, inlined);
    result.erase(result.begin(), call + 1);
    --deep;
  }
  return result;
}

std::vector<const debuginfo::LocalScope*> Scope::scopes_here() const {
  std::vector<const debuginfo::LocalScope*> result = scopes_around();
  const auto call = std::ranges::find_if(result, [](const auto* scope) { return !scope->inlined.empty(); });
  if (call != result.end()) result.erase(call + 1, result.end());
  return result;
}

const LocalVariable* Scope::local_named(std::string_view name) {
  const LocalVariable* nearest = nullptr;
  const auto here = module_ != nullptr ? module_->program->lines().at(inside_) : std::nullopt;
  const bool inlined =
      module_ != nullptr && depth_ && Modules::debug(*module_).scopes.inlined_at(inside_).size() > *depth_;
  // Above its declaration a name means the variable of a block around, whatever way control came there.
  const auto is_below = [&](const LocalVariable& one) {
    const debuginfo::Declaration& declared = one.declared;
    if (one.parameter || !here || here->line == 0 || inlined || declared.unit == nullptr) return false;
    const auto line = module_->program->lines().line_of(*declared.unit, declared.file, declared.line);
    return line && line->file == here->file && here->line < line->line;
  };
  for (const debuginfo::LocalScope* scope : scopes_here()) {
    for (const LocalVariable& variable : scope->variables) {
      if (variable.name != name) continue;
      // Before its declaration the name means the variable of a block around.
      if (nearest != nullptr && !is_ahead(*nearest) && !is_below(*nearest)) return hidden_by(name, nearest);
      nearest = &variable;
    }
  }
  return hidden_by(name, nearest);
}

/// What a name means where a block that a copy leaves out may hold control, and may hide what is `found` for it: a
/// variable of that block, else what was found.
const LocalVariable* Scope::hidden_by(std::string_view name, const LocalVariable* found) const {
  const auto here = module_ != nullptr ? module_->program->lines().at(inside_) : std::nullopt;
  const auto may_hide = [&](const LocalVariable& one) {
    return one.name == name && here && one.declared.line < here->line &&
           (found == nullptr || one.declared.line > found->declared.line);
  };
  for (const debuginfo::LocalScope* scope : scopes_here()) {
    const auto hiding = std::ranges::find_if(scope->left_out, may_hide);
    if (hiding != scope->left_out.end()) return &*hiding;
  }
  return found;
}

bool Scope::is_local(std::string_view name) {
  const LocalVariable* variable = local_named(name);
  if (variable == nullptr) return false;
  const auto entry = module_->program->debug().read(variable->entry);
  if (!entry) return true;
  const auto parts = module_->program->debug().locations(*entry, debuginfo::At::location);
  // A static variable of a function has a fixed address.
  return parts.size() != 1 || !parts[0].always ||
         !debuginfo::fixed_place(module_->program->debug(), *variable->entry.unit, parts[0].expression);
}

/// Where the nearest of a variable's ranges begins: "line 31", or its address where it has no line.
std::string Scope::nearest_life(const std::vector<debuginfo::LocationPart>& parts) const {
  const auto distance = [&](const debuginfo::LocationPart& one) {
    return one.range.from > inside_ ? one.range.from - inside_ : inside_ - (one.range.to - 1);
  };
  const debuginfo::LocationPart& nearest = *std::ranges::min_element(parts, {}, distance);
  const auto line = module_->program->lines().at(nearest.range.from);
  if (line && line->line != 0) return "line " + std::to_string(line->line);
  return hex_text(nearest.range.from + module_->bias);
}

ValueDoubts Scope::doubts() const {
  return {modules_, *module_, inside_, scopes_around(), frame_.how != inspect::Frame::How::innermost};
}

/// Unoptimised code describes one place for a variable's whole life, which it has only when the frame is set up.
std::optional<Result<Datum>> Scope::before_frame(const LocalVariable& variable,
                                                 const std::vector<debuginfo::LocationPart>& parts) {
  const auto end = in_their_places_ ? std::nullopt : frame_comes_at();
  if (!end || parts.size() != 1 || !parts[0].always ||
      debuginfo::fixed_place(module_->program->debug(), *variable.entry.unit, parts[0].expression))
    return std::nullopt;
  const std::vector<const LocalVariable*> named = parameters();
  const auto found = std::ranges::find(named, &variable);
  if (found != named.end()) {
    Result<Datum> datum = passed(static_cast<std::uint64_t>(found - named.begin()) + 1);
    if (datum) return datum;
  }
  return Error{Fault::usage,
               "not there yet: the function has set up its frame at " + modules_.place_name(*end + module_->bias)};
}

Result<Datum> Scope::local(const LocalVariable& variable) {
  Result<Described> found = described(variable);
  const auto doubt = found ? by_text(variable, *found) : std::nullopt;
  if (found && !doubt) return found->datum;
  if (comparing_ != 0) {
    const bool unsure = found && !doubt->contradicts;
    unsure_ = unsure_ || unsure;
    if (unsure) return found->datum;
    if (const auto value = only_value(variable)) return *value;
  }
  return found ? doubt->error : found.error();
}

Result<Scope::Described> Scope::described(const LocalVariable& variable) {
  const debuginfo::DebugInfo& info = module_->program->debug();
  ModuleDebug& debug = Modules::debug(*module_);
  const auto entry = info.read(variable.entry);
  const auto typed = info.read(variable.type);
  if (!entry || !typed) return Error{Fault::usage, "its debug information is damaged"};
  if (variable.in_left_out_block)
    return Error{Fault::usage, "one of that name is declared on line " + std::to_string(variable.declared.line) +
                                   ", in a block that the compiler gives no extent"};
  const TypeRef type{&debug.types, debug.types.of(*typed)};
  std::vector<debuginfo::LocationPart> parts = info.locations(*entry, debuginfo::At::location);
  if (auto early = before_frame(variable, parts)) {
    if (!*early) return early->error();
    const auto doubt = doubts().about_argument(variable);
    return doubt ? Result<Described>(*doubt) : Described{**early};
  }
  if (parts.empty()) {
    const debuginfo::FormValue* constant = entry->find(debuginfo::At::const_value);
    if (constant == nullptr) {
      const auto origin = info.with_attribute(*entry, debuginfo::At::const_value);
      if (!origin) return Error{Fault::usage, "the compiler removed it"};
      constant = origin->find(debuginfo::At::const_value);
      if (constant == nullptr) return Error{Fault::usage, "the compiler removed it"};
    }
    if (const auto doubt = doubts().about_constant(variable)) return *doubt;
    Datum datum;
    datum.type = type;
    datum.loaded = true;
    if (!constant->bytes.empty()) {
      datum.bytes.assign(constant->bytes.begin(), constant->bytes.end());
    } else {
      datum.bytes.resize(std::max<std::uint64_t>(1, debug.types.size(type.id)));
      std::memcpy(datum.bytes.data(), &constant->number, std::min<std::size_t>(8, datum.bytes.size()));
    }
    return Described{std::move(datum), Described::How::number};
  }
  // Some compilers describe places that no instruction has.
  std::erase_if(parts, [](const auto& one) { return !one.always && one.range.from >= one.range.to; });
  if (parts.empty()) return Error{Fault::usage, "the compiler removed it"};
  const auto part =
      std::ranges::find_if(parts, [this](const auto& one) { return one.always || one.range.holds(inside_); });
  if (part == parts.end()) {
    return Error{Fault::usage, "no value here; lives on " + nearest_life(parts)};
  }
  const ValueDoubts doubts = this->doubts();
  if (const auto doubt = doubts.about_part(*part)) return *doubt;
  const debuginfo::FunctionLocals* function = debug.locals.at(inside_);
  Context context(*this, *module_, function != nullptr ? function->frame_base : Bytes{}, variable.entry.unit);
  const debuginfo::ExpressionPlace where{&info, variable.entry.unit, module_->bias, context.pointer_size(),
                                         arch::machine_of(view_.mode()).dwarf_number(isa::kRsp)};
  context.doubt(doubts, *part);
  const debuginfo::Evaluated evaluated = debuginfo::evaluate(part->expression, where, context);
  if (context.doubt()) return *context.doubt();
  const ValueDoubts::Value value{variable, parts, *part, debug.types.size(type.id)};
  if (const auto doubt = doubts.about_value(value, evaluated, context.asked())) return *doubt;
  Result<Datum> placed = place(evaluated, type);
  if (!placed) return placed.error();
  Described result{std::move(*placed), context.how(part->expression, evaluated)};
  if (!part->always || !is_ahead(variable)) return result;
  const Type& plain = debug.types[debug.types.plain(type.id)];
  result.datum.declared_ahead = variable.declared.line;
  if (plain.kind != Type::Kind::reference && plain.kind != Type::Kind::rvalue_reference) return result;
  return Error{Fault::usage, inspect::not_set_words(variable.declared.line)};
}

/// True when control has not come to the declaration yet, in code that is not optimised.
bool Scope::is_ahead(const LocalVariable& variable) {
  const debuginfo::Declaration& declared = variable.declared;
  if (in_their_places_ || variable.parameter || declared.unit == nullptr) return false;
  const auto line = module_->program->lines().line_of(*declared.unit, declared.file, declared.line);
  const debuginfo::LocalScope* scope = debuginfo::scope_of(variable, scopes_here());
  if (!line || scope == nullptr) return false;
  return Modules::debug(*module_).declarations.is_ahead(*line, scope->ranges, inside_);
}

/// Numbers are not made of addresses on the stack.
bool Scope::may_be_address(const TypeRef& type) {
  const Type& plain = (*type.types)[type.types->plain(type.id)];
  return plain.kind != Type::Kind::base && plain.kind != Type::Kind::enumeration;
}

/// A variable from the pieces that its location gives.
Result<Datum> Scope::place(const debuginfo::Evaluated& evaluated, TypeRef type) {
  using Kind = debuginfo::Piece::Kind;
  if (!evaluated.unknown.empty()) return Error{Fault::usage, evaluated.unknown};
  const isa::Mode mode = view_.mode();
  Datum datum;
  datum.type = type;
  const std::uint64_t size = type.types->size(type.id);
  const auto is_whole = [&](const debuginfo::Piece& piece) { return piece.bits == 0 || piece.bits >= size * 8; };
  if (evaluated.pieces.size() == 1 && evaluated.pieces[0].kind == Kind::memory && is_whole(evaluated.pieces[0])) {
    datum.place = Datum::Place::memory;
    datum.address = mode == isa::Mode::bits32 ? evaluated.pieces[0].address & 0xffffffff : evaluated.pieces[0].address;
    return datum;
  }
  datum.loaded = true;
  if (evaluated.pieces.size() == 1 && evaluated.pieces[0].kind == Kind::pointer)
    return pointer_to(evaluated.pieces[0], type);
  for (const debuginfo::Piece& piece : evaluated.pieces) {
    const std::uint64_t from = datum.bytes.size();
    const std::uint64_t bytes = piece.bits != 0 ? piece.bits / 8 : size - std::min<std::uint64_t>(size, from);
    if (piece.bits % 8 != 0 || piece.bit_offset % 8 != 0) return Error{Fault::usage, "it is kept in single bits"};
    std::vector<std::uint8_t> value;
    switch (piece.kind) {
      case Kind::pointer:
      case Kind::nowhere: datum.gaps.push_back({from, from + bytes}); break;
      case Kind::memory:
        value.resize(bytes);
        if (view_.read_memory(piece.address + piece.bit_offset / 8, value) != bytes)
          return Error{Fault::usage,
                       "memory at " + hex_text(piece.address) + " " + std::string(view_.why_unreadable(piece.address))};
        break;
      case Kind::reg: {
        const auto part = arch::dwarf_register(piece.number, mode);
        auto raw = part ? state::bytes_of(view_, *part) : std::nullopt;
        if (!raw) return Error{Fault::usage, "it lies in a register that nobody kept for this frame"};
        value.assign(
            raw->begin() + static_cast<std::ptrdiff_t>(std::min<std::size_t>(piece.bit_offset / 8, raw->size())),
            raw->end());
        if (evaluated.pieces.size() == 1 && frame_.how == inspect::Frame::How::innermost) {
          datum.place = Datum::Place::reg;
          datum.part = *part;
          datum.part.width = static_cast<std::uint16_t>(std::min<std::uint64_t>(part->width, size * 8));
        }
        break;
      }
      case Kind::value:
        if (piece.is_doubtful(bytes))
          return Error{Fault::usage,
                       "the compiler's expression for it does not say how wide a number is that it shifts"};
        if (piece.of_frame_address && !may_be_address(type))
          return Error{Fault::usage,
                       "the compiler's expression for it takes an address on the stack for the value there"};
        value = piece.bytes;
        break;
    }
    if (value.size() < bytes && (piece.kind == Kind::value || piece.kind == Kind::reg))
      datum.gaps.push_back({from + value.size(), from + bytes});
    value.resize(bytes);
    datum.bytes.insert(datum.bytes.end(), value.begin(), value.end());
  }
  if (datum.bytes.size() < size) datum.gaps.push_back({datum.bytes.size(), size});
  datum.bytes.resize(size);
  const auto gone = [](std::uint64_t sum, const inspect::Gap& gap) { return sum + gap.to - gap.from; };
  if (std::accumulate(datum.gaps.begin(), datum.gaps.end(), std::uint64_t(0), gone) >= size && size != 0)
    return Error{Fault::usage, "no value here"};
  return datum;
}

/// A pointer without a value of its own, whose variable has one.
Result<Datum> Scope::pointer_to(const debuginfo::Piece& piece, TypeRef type) {
  const debuginfo::DebugInfo& info = module_->program->debug();
  const auto is_it = [&](const LocalVariable& one) {
    if (one.entry.offset == piece.entry) return true;
    const auto entry = info.read(one.entry);
    return entry && info.reference(*entry, debuginfo::At::abstract_origin).offset == piece.entry;
  };
  const Error gone{Fault::usage, "the compiler removed it; it would point to something that has no address"};
  constexpr unsigned kDeepest = 8;
  if (pointers_under_way_ == kDeepest) return gone;
  Datum datum;
  datum.type = type;
  datum.loaded = true;
  for (const debuginfo::LocalScope* scope : scopes_around()) {
    const auto found = std::ranges::find_if(scope->variables, is_it);
    if (found == scope->variables.end()) continue;
    ++pointers_under_way_;
    Result<Datum> whole = local(*found);
    --pointers_under_way_;
    if (!whole) break;
    auto part = std::make_shared<Datum>(*whole);
    const TypeId target = (*type.types)[type.types->plain(type.id)].target;
    const std::uint64_t size = type.types->size(target);
    part->type = {type.types, target};
    part->label = found->name;
    if (whole->place == Datum::Place::memory) {
      part->address += piece.address;
    } else {
      if (whole->pointee || size == 0 || piece.address > whole->bytes.size() ||
          whole->bytes.size() - piece.address < size)
        break;
      part->place = Datum::Place::none;
      part->gaps.clear();
      inspect::take_part(*part, *whole, piece.address, size);
    }
    datum.pointee = std::move(part);
    return datum;
  }
  return gone;
}

std::optional<Result<Datum>> Scope::static_named(std::string_view name) {
  const debuginfo::Unit* here = nullptr;
  if (module_ != nullptr) {
    if (const auto* function = Modules::debug(*module_).scopes.function_at(inside_)) here = function->unit;
  }
  const auto in = [&](const Module& module) -> std::optional<Result<Datum>> {
    ModuleDebug& debug = Modules::debug(module);
    if (!debug.statics) debug.statics = debuginfo::static_variables(module.program->debug(), debug.types);
    const auto [known, added] = debug.statics_by_name.try_emplace({std::string(name), here}, nullptr);
    int best_rank = 0;
    for (const debuginfo::StaticVariable& variable : *debug.statics) {
      if (!added) break;
      if (!debuginfo::ends_with_name(variable.name, name)) continue;
      const int rank = (variable.name == name ? 2 : 1) + (variable.unit == here ? 4 : 0);
      if (rank > best_rank) known->second = &variable;
      best_rank = std::max(rank, best_rank);
    }
    if (added && known->second == nullptr && name.find('.') != std::string_view::npos) {
      // By its symbol's name: compilers number the variables of functions ("log.0").
      const program::DataSymbol* symbol = module.program->data_named(name);
      const auto same = [&](const debuginfo::StaticVariable& one) {
        return symbol != nullptr && one.in_thread == symbol->in_thread && one.address == symbol->address;
      };
      const auto found = std::ranges::find_if(*debug.statics, same);
      if (found != debug.statics->end()) known->second = &*found;
    }
    const debuginfo::StaticVariable* best = known->second;
    if (best == nullptr) return std::nullopt;
    Datum datum;
    datum.type = {&debug.types, best->type};
    datum.place = Datum::Place::memory;
    datum.is_symbol = true;
    if (best->in_thread) {
      const auto address = thread_address(module, best->address);
      if (!address)
        return Error{Fault::usage, std::string(name) + ": this thread has no copy of it yet, or none is found"};
      datum.address = *address;
    } else {
      datum.address = best->address + module.bias;
      const program::DataSymbol* symbol = module.program->data_at(best->address);
      if (symbol != nullptr && symbol->address == best->address && debug.types.flexible_part(best->type))
        datum.room = symbol->size;
    }
    return datum;
  };
  if (module_ != nullptr) {
    if (auto found = in(*module_)) return found;
  }
  for (const auto& module : modules_.all()) {
    if (!module->program || module.get() == module_ || (module->system && module->program->debug().empty())) continue;
    if (auto found = in(*module)) return found;
  }
  return std::nullopt;
}

/// A data symbol without debug information: read as inspect::untyped_shape says.
std::optional<Datum> Scope::object_named(std::string_view name) {
  const auto in = [&](const Module& module) -> std::optional<Datum> {
    const program::DataSymbol* found = module.program->data_named(name);
    if (found == nullptr) return std::nullopt;
    Datum datum;
    datum.place = Datum::Place::memory;
    datum.is_symbol = true;
    if (found->in_thread) {
      const auto address = thread_address(module, found->address - program::thread_storage(*module.program).from);
      if (!address) return std::nullopt;
      datum.address = *address;
    } else {
      datum.address = found->address + module.bias;
    }
    constexpr std::uint64_t kMost = std::uint64_t(1) << 26;
    std::vector<std::uint8_t> bytes(std::clamp<std::uint64_t>(found->size, 1, kMost));
    bytes.resize(std::max<std::size_t>(1, view_.read_memory(datum.address, bytes)));
    const program::ElementWidth width = module.program->element_width(*found);
    datum.shape = inspect::untyped_shape(bytes, width.bytes, found->element != 0);
    datum.count = bytes.size() / datum.shape->size;
    datum.many = datum.count > 1 || datum.shape->kind == inspect::Shape::Kind::string;
    datum.from_code = datum.many && width.from_code && datum.shape->kind == inspect::Shape::Kind::integer;
    return datum;
  };
  if (module_ != nullptr) {
    if (auto found = in(*module_)) return found;
  }
  for (const auto& module : modules_.all()) {
    if (!module->program || module.get() == module_) continue;
    if (auto found = in(*module)) return found;
  }
  return std::nullopt;
}

std::optional<Result<Datum>> Scope::constant_named(std::string_view name) {
  constexpr std::uint64_t kMostDebug = std::uint64_t(64) << 20;  // bytes of debug information that are gone through
  std::vector<const debuginfo::NamedConstant*> found;
  debuginfo::Types* types = nullptr;
  for (const auto& module : modules_.all()) {
    if (!module->program || module->system || (types != nullptr && module.get() != module_)) continue;
    const binary::Section* info = module->program->debug_elf().section_named(".debug_info");
    if (info == nullptr || info->size > kMostDebug) continue;
    ModuleDebug& debug = Modules::debug(*module);
    const auto [known, added] = debug.constants.try_emplace(std::string(name));
    if (added) known->second = debuginfo::constants_named(module->program->debug(), debug.types, name);
    if (known->second.empty()) continue;
    found.clear();
    for (const debuginfo::NamedConstant& one : known->second) found.push_back(&one);
    types = &debug.types;
  }
  if (found.empty()) return std::nullopt;
  // What is written in full is meant; else the one that the function here lies nearest to.
  const std::string here = module_ != nullptr ? modules_.place_name(frame_.inside()) : std::string();
  const auto nearness = [&](const debuginfo::NamedConstant* one) {
    if (one->name == name) return std::size_t(1) << 32;
    const std::string_view around = std::string_view(one->name).substr(0, one->name.size() - name.size());
    return here.starts_with(around) ? around.size() : 0;
  };
  const auto best = std::ranges::max_element(found, {}, nearness);
  const std::size_t most = nearness(*best);
  if (std::ranges::count(found, most, nearness) > 1) {
    std::string names;
    for (const auto* one : found) names += (names.empty() ? "" : ", ") + one->name;
    return Error{Fault::usage, "could be each of " + names};
  }
  Datum datum;
  datum.type = {types, (*best)->type};
  datum.loaded = true;
  datum.bytes = (*best)->bytes;
  return datum;
}

std::optional<Datum> Scope::function_named(std::string_view name) {
  for (const auto& module : modules_.all()) {
    if (!module->program) continue;
    const auto found = module->program->functions_named(name);
    if (found.empty()) continue;
    Datum datum;
    const std::uint64_t address = found[0]->address + module->bias;
    datum.shape = inspect::Shape{inspect::Shape::Kind::pointer, arch::machine_of(view_.mode()).word};
    datum.loaded = true;
    datum.bytes.resize(datum.shape->size);
    std::memcpy(datum.bytes.data(), &address, datum.bytes.size());
    datum.label = name;
    return datum;
  }
  return std::nullopt;
}

/// In a member function the object's members go by their names alone.
std::optional<Datum> Scope::member_of_this(std::string_view name) {
  if (local_named("this") == nullptr) return std::nullopt;
  const Result<inspect::Expression> expression = inspect::Expression::parse("this->" + std::string(name));
  if (!expression) return std::nullopt;
  Result<Datum> datum = expression->evaluate(*this);
  return datum ? std::optional(*datum) : std::nullopt;
}

bool Scope::has_variable(std::string_view name) {
  if (local_named(name) != nullptr || names_call_argument(name)) return true;
  const auto known = modules_.variable_names.find(name);
  if (known != modules_.variable_names.end()) return known->second;
  return modules_.variable_names[std::string(name)] = static_named(name) || object_named(name);
}

Result<Datum> Scope::variable(std::string_view name) {
  if (assumed_ && assumed_->first == name) return assumed_->second;
  if (auto found = call_argument(asked_, name)) return *found;
  if (const LocalVariable* found = local_named(name)) return local(*found);
  if (auto found = member_of_this(name)) return *found;
  if (auto found = static_named(name)) return *found;
  if (!modules_.no_symbols.contains(name)) {
    if (auto found = function_named(name)) return *found;
    if (auto found = object_named(name)) return *found;
    modules_.no_symbols.emplace(name);
  }
  if (auto found = constant_named(name)) return *found;
  if (auto found = call_argument(asked_here(), name)) return *found;
  return unknown_name(name);
}

std::optional<TypeRef> Scope::type_of_local(const LocalVariable& variable) {
  const auto typed = module_->program->debug().read(variable.type);
  ModuleDebug& debug = Modules::debug(*module_);
  return typed ? std::optional(TypeRef{&debug.types, debug.types.of(*typed)}) : std::nullopt;
}

std::optional<TypeRef> Scope::class_of_this() {
  const LocalVariable* object = local_named("this");
  const auto pointer = object != nullptr ? type_of_local(*object) : std::nullopt;
  if (!pointer) return std::nullopt;
  const Type& plain = (*pointer->types)[pointer->types->plain(pointer->id)];
  return plain.kind == Type::Kind::pointer ? std::optional(TypeRef{pointer->types, plain.target}) : std::nullopt;
}

std::optional<TypeRef> Scope::type_of_variable(std::string_view name) {
  if (const LocalVariable* variable = local_named(name)) return type_of_local(*variable);
  if (const auto object = class_of_this()) {
    const auto member = inspect::member_type(*object->types, object->id, name);
    if (member && member->bits != 0) return std::nullopt;
    if (member) return TypeRef{object->types, member->type};
    if (inspect::may_be_more(*object->types, object->id)) return std::nullopt;
  }
  const auto found = static_named(name);
  return found && *found && (*found)->type ? std::optional((*found)->type) : std::nullopt;
}

std::optional<Error> Scope::wrong_in(const inspect::Expression& expression, bool is_condition) {
  const auto object = class_of_this();
  const auto is_member = [&](std::string_view name) {
    if (local_named("this") == nullptr) return false;
    return !object || inspect::may_be_more(*object->types, object->id) ||
           inspect::member_type(*object->types, object->id, name);
  };
  for (const std::string& name : expression.names()) {
    unsigned bits = 0;
    const bool is_register =
        state::part_named(name, view_.mode()) || state::flag_bit(name) || state::is_flags_register(name, bits);
    if (is_register || local_named(name) != nullptr || is_member(name)) continue;
    if (static_named(name) || function_named(name) || object_named(name) || constant_named(name)) continue;
    if (call_argument(asked_here(), name)) continue;
    return Error{Fault::usage, name + ": " + unknown_name(name).message};
  }
  return expression.type_error([this](std::string_view name) { return type_of_variable(name); }, is_condition);
}

Error Scope::unknown_name(std::string_view name) {
  std::set<std::string> names;
  for (const debuginfo::LocalScope* scope : scopes_here()) {
    for (const LocalVariable& variable : scope->variables) names.insert(variable.name);
  }
  for (const auto& module : modules_.all()) {
    if (!module->program || module->system) continue;
    ModuleDebug& debug = Modules::debug(*module);
    if (!debug.statics) debug.statics = debuginfo::static_variables(module->program->debug(), debug.types);
    for (const debuginfo::StaticVariable& variable : *debug.statics) names.insert(variable.name);
    for (const program::DataSymbol& symbol : module->program->data_symbols()) names.insert(std::string(symbol.symbol));
  }
  return {Fault::usage,
          "no register, variable or function of that name here" + similar_words(similar_names(names, name))};
}

std::vector<Scope::Listed> Scope::locals() {
  std::vector<Listed> result;
  auto scopes = scopes_around();
  std::ranges::reverse(scopes);
  unsigned depth = 0;
  for (const debuginfo::LocalScope* scope : scopes) {
    if (!scope->inlined.empty()) ++depth;
    for (const bool parameters : {true, false}) {
      for (const LocalVariable& variable : scope->variables) {
        if (variable.parameter == parameters)
          result.push_back({variable.name, parameters, depth, false, local(variable)});
      }
    }
  }
  for (Listed& one : result) one.here = one.depth == depth;
  add_captured(result, depth);
  return result;
}

/// Some compilers describe what a lambda has captured as members of its object alone.
void Scope::add_captured(std::vector<Listed>& all, unsigned depth) {
  const auto object = class_of_this();
  if (!object) return;
  const Type type = (*object->types)[object->types->plain(object->id)];
  if (!type.name.empty() || !type.callable) return;
  for (const debuginfo::Member& member : type.members) {
    const bool known = std::ranges::any_of(all, [&](const Listed& one) { return one.here && one.name == member.name; });
    if (member.base || member.name.empty() || known) continue;
    if (auto datum = member_of_this(member.name)) all.push_back({member.name, false, depth, true, std::move(*datum)});
  }
}

std::string Scope::name_of_memory(std::uint64_t address, std::uint64_t size) {
  const auto part_of = [&](const TypeRef& type, std::uint64_t from) -> std::optional<std::string> {
    const std::uint64_t last = address + std::max<std::uint64_t>(size, 1);
    if (address < from || last > from + type.types->size(type.id)) return std::nullopt;
    return type.types->part_name(type.id, address - from, size);
  };
  const std::vector<Listed> all = locals();
  for (const Listed& one : all) {
    if (!one.datum || one.datum->place != Datum::Place::memory || !one.datum->type) continue;
    if (const auto part = part_of(one.datum->type, one.datum->address)) return one.name + *part;
  }
  for (const Listed& one : all) {
    if (!one.datum || !one.datum->type) continue;
    debuginfo::Types& types = *one.datum->type.types;
    const Type& pointer = types[types.plain(one.datum->type.id)];
    if (pointer.kind != Type::Kind::pointer || !types[types.plain(pointer.target)].is_aggregate()) continue;
    Datum datum = *one.datum;
    const auto to = inspect::number_of(datum, *this);
    const auto part = to ? part_of({&types, pointer.target}, *to) : std::nullopt;
    if (part && part->starts_with('.')) return one.name + "->" + part->substr(1);
  }
  return {};
}

/// A thread's own variable: in the main program at a fixed distance below the thread pointer (ELF Handling For
/// Thread-Local Storage, variant II); in a library where the loader's table for the thread says.
std::optional<std::uint64_t> Scope::thread_address(const Module& module, std::uint64_t offset) const {
  const auto block = thread_block(module, modules_.main(), thread_);
  return block ? std::optional(*block + offset) : std::nullopt;
}

// ---- types ----------------------------------------------------------------------------------------------------------

std::optional<TypeRef> Scope::type_named(std::string_view name) {
  const std::string described = debuginfo::as_described(name);
  const auto in = [&](const Module& module) -> std::optional<TypeRef> {
    ModuleDebug& debug = Modules::debug(module);
    const auto [place, added] = debug.type_names.try_emplace(described);
    if (added) {
      const std::vector<debuginfo::TypeId>* found = &debug.types.named(described);
      if (found->empty() && described == "_Bool") found = &debug.types.named("bool");
      if (!found->empty()) place->second = found->front();
    }
    if (!place->second) return std::nullopt;
    return TypeRef{&debug.types, *place->second};
  };
  if (module_ != nullptr) {
    if (auto found = in(*module_)) return found;
  }
  for (const auto& module : modules_.all()) {
    if (!module->program || module.get() == module_) continue;
    if (auto found = in(*module)) return found;
  }
  // C's own types are known without debug information (System V ABI: their sizes).
  const unsigned word = arch::machine_of(view_.mode()).word;
  struct Basic {
    std::string_view name;
    std::uint64_t size;
    Encoding encoding;
  };
  const Basic basics[] = {{"char", 1, Encoding::signed_char},
                          {"signed char", 1, Encoding::signed_char},
                          {"unsigned char", 1, Encoding::unsigned_char},
                          {"short int", 2, Encoding::signed_integer},
                          {"short unsigned int", 2, Encoding::unsigned_integer},
                          {"int", 4, Encoding::signed_integer},
                          {"unsigned int", 4, Encoding::unsigned_integer},
                          {"long int", word, Encoding::signed_integer},
                          {"long unsigned int", word, Encoding::unsigned_integer},
                          {"long long int", 8, Encoding::signed_integer},
                          {"long long unsigned int", 8, Encoding::unsigned_integer},
                          {"float", 4, Encoding::floating},
                          {"double", 8, Encoding::floating},
                          {"_Bool", 1, Encoding::boolean}};
  for (const Basic& basic : basics) {
    if (basic.name != described) continue;
    ModuleDebug& debug = Modules::debug(modules_.main());
    const debuginfo::TypeId id = debug.types.base_type(std::string(described), basic.size, basic.encoding);
    debug.type_names[described] = id;
    return TypeRef{&debug.types, id};
  }
  return std::nullopt;
}

inspect::PointerReader Scope::pointers() {
  return [this](std::uint64_t /*place*/, std::uint64_t value, bool characters) {
    inspect::Pointed pointed;
    pointed.value = value;
    if (value == 0) return pointed;
    AddressName known = address_name(modules_, view_, value, view_.registers()[Reg::rsp]);
    pointed.is_address = known.known();
    pointed.name = std::move(known.name);
    pointed.text = std::move(known.text);
    pointed.region = std::move(known.region);
    if (!characters || !pointed.text.empty()) return pointed;
    constexpr std::size_t kMost = 80;
    std::uint8_t bytes[kMost];
    const std::size_t got = view_.read_memory(value, bytes);
    const auto end = std::find(bytes, bytes + got, std::uint8_t(0));
    pointed.text.assign(reinterpret_cast<const char*>(bytes), static_cast<std::size_t>(end - bytes));
    return pointed;
  };
}

/// True when the word on the stack's top is the address after a call, or nothing can be read where the thread stands.
static bool was_called(Modules& modules, const state::StateView& thread) {
  std::uint8_t byte = 0;
  const state::RegisterSet& registers = thread.registers();
  const bool readable = thread.read_memory(registers[Reg::rip], {&byte, 1}) == 1;
  if (!readable) return modules.at(registers[Reg::rip]) == nullptr;
  const auto back = thread.word_at(registers[Reg::rsp]);
  return back && call_before(modules, *back);
}

std::vector<inspect::Frame> frames_of(Modules& modules, const state::StateView& thread, std::size_t most,
                                      std::string* lost) {
  return frames_until(
      modules, thread, most, [](const inspect::Frame&) { return false; }, lost);
}

std::vector<inspect::Frame> frames_until(Modules& modules, const state::StateView& thread, std::size_t most,
                                         const std::function<bool(const inspect::Frame&)>& is_last, std::string* lost) {
  const std::uint64_t start = thread.registers()[Reg::rip];
  const inspect::RuleFinder rules = [&](std::uint64_t address) -> std::optional<inspect::PlacedRule> {
    if (address != start || modules.function_at(address) != nullptr || !was_called(modules, thread))
      return modules.frame_rule(address);
    // A call of an address that holds no code: all that it did is to leave its return address.
    const arch::Machine& machine = arch::machine_of(thread.mode());
    inspect::PlacedRule placed;
    placed.from_table = false;
    placed.rule.cfa_register = machine.dwarf_number(machine.stack_pointer);
    placed.rule.cfa_offset = machine.word;
    return placed;
  };
  // The address after a call that never returns may belong to no function.
  const auto is_code = [&](std::uint64_t address) {
    return modules.function_at(address) != nullptr || modules.function_at(address - 1) != nullptr;
  };
  std::vector<inspect::Frame> result = {inspect::innermost_frame(thread, rules)};
  while (result.size() < most && !is_last(result.back())) {
    std::string why;
    auto caller = inspect::caller_of(result.back(), thread, rules, is_code, &why);
    if (!caller && !why.empty()) {
      // The table may be wrong: what the code does to the stack is asked then.
      const auto by_code = [&](std::uint64_t address) { return modules.frame_rule_by_code(address); };
      caller = inspect::caller_of(result.back(), thread, by_code, is_code);
      if (caller && result.back().how == inspect::Frame::How::innermost)
        result.back() = inspect::innermost_frame(thread, by_code);
    }
    if (!caller) {
      if (lost != nullptr) *lost = why;
      break;
    }
    result.push_back(*caller);
  }
  return result;
}

}  // namespace deeptrace::look
