#include "study/explain_frame.h"

#include <algorithm>
#include <map>
#include <span>

#include "abi/described_function.h"
#include "base/number.h"
#include "debuginfo/location.h"
#include "program/flow_blocks.h"
#include "program/references.h"
#include "study/one_function.h"

namespace deeptrace::study {
namespace {

using isa::ControlFlow;
using isa::Operand;
using program::FramePlace;
using program::Function;
using program::Program;
using Role = FrameStep::Role;
using Slot = FrameSlot::Kind;

bool is_general(const Operand& operand) {
  return operand.kind == Operand::Kind::reg && operand.reg.file == isa::RegisterFile::general;
}

/// Of `lea`: the address and not what lies there.
bool is_address(const Operand& operand) {
  return operand.kind == Operand::Kind::memory && !isa::reads(operand.access) && !isa::writes(operand.access);
}

/// "ebp-0x10"
std::string address_text(const isa::MemoryRecipe& recipe) {
  std::string text(isa::name_of(recipe.base));
  const std::int64_t moved = recipe.displacement;
  if (moved == 0) return text;
  return text + (moved < 0 ? "-" : "+") + hex_text(static_cast<std::uint64_t>(moved < 0 ? -moved : moved));
}

bool builds(Role role) { return role < Role::checks_protector || role == Role::keeps_argument; }

/// What location expressions may ask of a frame that is built: where it lies, and no more.
class Built final : public debuginfo::LocationContext {
 public:
  Built(const arch::Machine& machine, std::uint64_t stack, std::optional<std::uint64_t> frame)
      : machine_(machine), stack_(stack), frame_(frame) {}

  /// What the caller's stack pointer is taken to be before the call.
  static constexpr std::uint64_t kCallers = 0x70000000;

  void use(const debuginfo::ExpressionPlace& place, Bytes frame_base) {
    place_ = place;
    frame_base_ = frame_base;
  }
  std::optional<std::uint64_t> reg(unsigned number) override {
    if (number == machine_.dwarf_number(machine_.stack_pointer)) return stack_;
    return number == machine_.dwarf_number(machine_.frame_pointer) ? frame_ : std::nullopt;
  }
  bool read(std::uint64_t /*address*/, std::span<std::uint8_t> /*into*/) override { return false; }
  std::optional<std::uint64_t> frame_base() override {
    return frame_base_.empty() ? std::nullopt : debuginfo::evaluate_number(frame_base_, place_, *this);
  }
  std::optional<std::uint64_t> cfa() override { return kCallers; }

 private:
  const arch::Machine& machine_;
  std::uint64_t stack_;
  std::optional<std::uint64_t> frame_;
  debuginfo::ExpressionPlace place_;
  Bytes frame_base_;
};

class Explainer {
 public:
  Explainer(const Program& program, const Function& function, isa::Syntax syntax)
      : program_(program),
        function_(function),
        syntax_(syntax),
        machine_(arch::machine_of(program.mode())),
        scan_(program),
        word_(machine_.word) {}

  ExplainedFrame run() {
    result_.function = function_.name.str();
    result_.address = shown(function_.address);
    result_.mode = program_.mode();
    if (const auto line = program_.lines().at(function_.address); line && line->line != 0) {
      result_.file = program_.source_path(*line);
      result_.line = line->line;
    }
    result_.shape = program::frame_of(program_, scan_, function_);
    places_ = program::frame_places(program_, scan_, function_);
    find_arguments();
    find_steps();
    find_exits();
    find_depth();
    find_slots();
    return std::move(result_);
  }

 private:
  // ---- the instructions ----

  [[nodiscard]] std::uint64_t shown(std::uint64_t address) const {
    return program_.elf().kind() == binary::Kind::relocatable ? program_.elf().section_offset(address) : address;
  }
  [[nodiscard]] std::string register_name(unsigned number) const {
    return std::string(isa::name_of(arch::RegisterPart{arch::RegisterFile::general, static_cast<std::uint8_t>(number),
                                                       0, static_cast<std::uint16_t>(word_ * 8)}));
  }

  /// The names of parameters by the registers that they travel in.
  void find_arguments() {
    described_ = abi::described_function(program_, types_, scopes_, locals_, function_.address);
    if (!described_ || !described_->complete) return;
    layout_ = abi::layout_of(*described_, program_.mode(), types_);
    for (std::size_t i = 0; i < layout_.arguments.size(); ++i) {
      for (const abi::Piece& piece : layout_.arguments[i].pieces) {
        if (piece.part) passed_[{piece.part.file, piece.part.index}] = described_->parameters[i].name;
      }
    }
  }

  struct Found {
    Role role;
    std::string subject = {};
    std::uint64_t bytes = 0;
    std::uint64_t in_all = 0;
  };

  void find_steps() {
    for (std::size_t i = 0; i < places_.size(); ++i) {
      const FramePlace& place = places_[i];
      const isa::Operands operands = isa::operands_of(place.instruction);
      if (const auto found = found_at(i, operands)) {
        steps_[place.address] = step(place, *found);
        if (builds(found->role)) result_.building.push_back(steps_[place.address]);
      }
      note_written(place.instruction);
    }
  }

  FrameStep step(const FramePlace& place, Found found) const {
    FrameStep result;
    result.address = shown(place.address);
    if (const auto line = program_.lines().at(place.address)) result.line = line->line;
    result.text = isa::text_of(place.instruction, result.address, syntax_).view();
    result.role = found.role;
    result.subject = std::move(found.subject);
    result.bytes = found.bytes;
    result.in_all = found.in_all;
    if (place.stack_after && *place.stack_after >= word_)
      result.taken = static_cast<std::uint64_t>(*place.stack_after - word_);
    return result;
  }

  std::optional<Found> found_at(std::size_t i, const isa::Operands& operands) {
    const FramePlace& place = places_[i];
    const isa::Meaning meaning = isa::operation_of(place.instruction).meaning;
    if (const auto exit = exit_at(place)) return exit;
    if (isa::flow_of(place.instruction) != ControlFlow::next || operands.shown == 0)
      return meaning == isa::meaning::leave ? std::optional(Found{Role::leaves}) : std::nullopt;
    if (const auto protector = protector_at(meaning, operands)) return protector;
    if (meaning == isa::meaning::enter) {
      if (place.stack) saved_[*place.stack + word_] = machine_.frame_pointer;
      return Found{Role::enters, register_name(machine_.frame_pointer), static_cast<std::uint64_t>(operands[0].value)};
    }
    if (meaning == isa::meaning::push) return push_at(place, operands);
    if (meaning == isa::meaning::pop) return pop_at(place, operands);
    if (isa::is_register(operands[0], machine_.stack_pointer) && isa::writes(operands[0].access))
      return stack_change(i, operands);
    if (is_general(operands[0]) && operands.shown == 2 && is_address(operands[1])) return address_at(i, operands);
    if (meaning == isa::meaning::copy && operands.shown == 2) return copy_at(place, operands);
    if (operands.shown == 2 && isa::writes(operands[0].access) && !isa::reads(operands[0].access) &&
        operands[1].kind == Operand::Kind::reg && operands[1].reg.file == isa::RegisterFile::vector)
      return copy_at(place, operands);
    return touch_at(operands);
  }

  std::optional<Found> exit_at(const FramePlace& place) {
    const ControlFlow flow = isa::flow_of(place.instruction);
    if (flow == ControlFlow::return_) return Found{Role::returns, {}, place.instruction.immediate};
    if (flow != ControlFlow::jump || place.stack != word_) return std::nullopt;
    if (const auto target = program::target_of(program_, place.address, place.instruction)) {
      if (function_.range().holds(*target)) return std::nullopt;
      const auto name = program_.nearest_name(*target);
      return Found{Role::jumps_on, name ? name->name : std::string()};
    }
    if (const auto name = program_.relocated_reference(place.address, place.instruction.length))
      return Found{Role::jumps_on, name->name};
    const auto tables = scan_.tables_of(function_);
    const bool table =
        std::ranges::any_of(tables, [&](const program::JumpTable& one) { return one.jump == place.address; });
    return table ? std::nullopt : std::optional(Found{Role::jumps_on});
  }

  [[nodiscard]] bool is_protector(const Operand& operand) const {
    if (operand.kind != Operand::Kind::memory) return false;
    const isa::MemoryRecipe recipe = operand.memory();
    return recipe.segment.index == machine_.thread_segment && recipe.is_absolute() &&
           recipe.displacement == machine_.protector;
  }

  std::optional<Found> protector_at(isa::Meaning meaning, const isa::Operands& operands) {
    if (operands.shown != 2) return std::nullopt;
    const Operand& to = operands[0];
    const Operand& from = operands[1];
    if (is_protector(from) && meaning == isa::meaning::copy && is_general(to)) {
      protector_ = to.reg.index;
      return std::nullopt;  // what follows says whether it is put or checked
    }
    if (is_protector(from)) return Found{Role::checks_protector};
    if (!protector_) return std::nullopt;
    const auto number = static_cast<isa::General>(*protector_);
    if (meaning == isa::meaning::copy && to.kind == Operand::Kind::memory && isa::is_register(from, number)) {
      protector_.reset();
      return Found{Role::puts_protector};
    }
    const bool compares = meaning == isa::meaning::cmp || meaning == isa::meaning::sub;
    if (!compares || (!isa::is_register(to, number) && !isa::is_register(from, number))) return std::nullopt;
    protector_.reset();
    return Found{Role::checks_protector};
  }

  [[nodiscard]] bool is_callers(const FramePlace& place, unsigned number) const {
    return machine_.keeps(number) && number != machine_.stack_pointer && (place.changed >> number & 1) == 0;
  }

  std::optional<Found> push_at(const FramePlace& place, const isa::Operands& operands) {
    const Operand& pushed = operands[0];
    if (is_general(pushed) && is_callers(place, pushed.reg.index)) {
      if (place.stack_after) saved_[*place.stack_after] = pushed.reg.index;
      return Found{Role::saves, register_name(pushed.reg.index)};
    }
    if (noted_ && isa::is_register(pushed, static_cast<isa::General>(*noted_))) {
      if (place.stack_after) kept_note_ = place.stack_after;
      return Found{Role::saves, register_name(*noted_)};
    }
    if (noted_ && pushed.kind == Operand::Kind::memory && pushed.recipe.has_base(static_cast<isa::General>(*noted_))) {
      if (place.stack_after) copied_return_ = place.stack_after;
      return Found{Role::copies_return};
    }
    if (is_general(pushed) && place.stack_after && comes_back(*place.stack_after, pushed.reg.index)) {
      saved_[*place.stack_after] = pushed.reg.index;
      return Found{Role::saves, register_name(pushed.reg.index)};
    }
    // What was never written is pushed for its room alone.
    const bool room =
        isa::is_register(pushed, machine_.result) && (written_ >> machine_.result & 1) == 0 && !place.called;
    return room ? std::optional(Found{Role::reserves, {}, word_}) : std::nullopt;
  }

  /// True where a register that functions need not keep is taken from its place again.
  [[nodiscard]] bool comes_back(std::int64_t slot, std::uint8_t number) const {
    return std::ranges::any_of(places_, [&](const FramePlace& place) {
      if (place.stack != slot || isa::operation_of(place.instruction).meaning != isa::meaning::pop) return false;
      return isa::is_register(isa::operands_of(place.instruction)[0], static_cast<isa::General>(number));
    });
  }

  std::optional<Found> pop_at(const FramePlace& place, const isa::Operands& operands) const {
    const Operand& popped = operands[0];
    if (!is_general(popped) || !place.stack) return std::nullopt;
    const auto slot = saved_.find(*place.stack);
    if (slot != saved_.end() && slot->second == popped.reg.index)
      return Found{Role::restores, register_name(popped.reg.index)};
    if (noted_ && *noted_ == popped.reg.index) return Found{Role::restores, register_name(*noted_)};
    return Found{Role::releases, {}, word_};
  }

  /// An instruction that writes the stack pointer.
  std::optional<Found> stack_change(std::size_t i, const isa::Operands& operands) {
    const FramePlace& place = places_[i];
    if (isa::operation_of(place.instruction).meaning == isa::meaning::bit_and &&
        operands[1].kind == Operand::Kind::immediate)
      return Found{Role::aligns, {}, ~static_cast<std::uint64_t>(operands[1].value) + 1};
    if (operands.shown == 2 && is_general(operands[1]) &&
        isa::operation_of(place.instruction).meaning == isa::meaning::copy)
      return Found{Role::sets_stack, register_name(operands[1].reg.index)};
    const bool address = operands.shown == 2 && is_address(operands[1]);
    if (address && !operands[1].recipe.has_base(machine_.stack_pointer))
      return Found{Role::sets_stack, address_text(operands[1].memory())};
    if (!place.stack || !place.stack_after)
      return place.stack ? std::optional(Found{Role::reserves_unknown}) : std::nullopt;
    const std::int64_t taken = *place.stack_after - *place.stack;
    if (taken < 0) return Found{Role::releases, {}, static_cast<std::uint64_t>(-taken)};
    if (taken == 0 || place.called || room_for_arguments(i)) return std::nullopt;
    return Found{Role::reserves, {}, static_cast<std::uint64_t>(taken), taken_in_loop(i)};
  }

  /// What a loop around an instruction takes until it ends; 0: none is there.
  [[nodiscard]] std::uint64_t taken_in_loop(std::size_t i) const {
    for (std::size_t k = i + 1; k + 1 < places_.size() && k < i + 8; ++k) {
      std::uint64_t target = 0;
      const isa::Instruction& instruction = places_[k].instruction;
      if (isa::flow_of(instruction) != ControlFlow::conditional) continue;
      const bool back = isa::direct_target(instruction, places_[k].address, target) && target <= places_[i].address;
      if (!back || !places_[k + 1].stack || *places_[k + 1].stack <= *places_[i].stack) return 0;
      return static_cast<std::uint64_t>(*places_[k + 1].stack - *places_[i].stack);
    }
    return 0;
  }

  /// Room before arguments are pushed, so that the stack is aligned at the call, and given back after it.
  [[nodiscard]] bool room_for_arguments(std::size_t i) const {
    const std::int64_t taken = *places_[i].stack_after - *places_[i].stack;
    std::int64_t pushed = 0;
    bool called = false;
    for (++i; i < places_.size() && places_[i].stack && places_[i].stack_after; ++i) {
      const ControlFlow flow = isa::flow_of(places_[i].instruction);
      if (flow == ControlFlow::call && !called) {
        called = true;
        continue;
      }
      if (flow != ControlFlow::next) return false;
      const std::int64_t change = *places_[i].stack_after - *places_[i].stack;
      if (called && change != 0) return pushed != 0 && -change == taken + pushed && !is_at_end(i + 1);
      pushed += change;
    }
    return false;
  }

  /// True where the function takes down its frame and returns.
  [[nodiscard]] bool is_at_end(std::size_t i) const {
    for (; i < places_.size(); ++i) {
      const ControlFlow flow = isa::flow_of(places_[i].instruction);
      if (flow == ControlFlow::return_) return true;
      if (flow != ControlFlow::next) return false;
    }
    return false;
  }

  /// Where a memory operand lies, counted down from where the stack pointer will be after the return.
  std::optional<std::int64_t> below(const FramePlace& place, const Operand& operand) const {
    if (operand.kind != Operand::Kind::memory) return std::nullopt;
    const isa::MemoryRecipe recipe = operand.memory();
    if (recipe.index || recipe.base.file != isa::RegisterFile::general) return std::nullopt;
    const bool by_stack = recipe.base.index == machine_.stack_pointer;
    if (!by_stack && recipe.base.index != machine_.frame_pointer) return std::nullopt;
    const auto from = by_stack ? place.stack : place.frame;
    return from ? std::optional(*from - recipe.displacement) : std::nullopt;
  }

  std::optional<Found> copy_at(const FramePlace& place, const isa::Operands& operands) {
    const Operand& to = operands[0];
    const Operand& from = operands[1];
    if (isa::is_register(to, machine_.frame_pointer) && isa::is_register(from, machine_.stack_pointer))
      return marks_frame(place.stack) ? std::optional(Found{Role::sets_frame_pointer}) : std::nullopt;
    if (const auto slot = below(place, from); slot && is_general(to)) {
      const auto saved = saved_.find(*slot);
      if (saved != saved_.end() && saved->second == to.reg.index && from.width == word_ * 8)
        return Found{Role::restores, register_name(to.reg.index)};
      if (noted_ && *noted_ == to.reg.index && slot == kept_note_)
        return Found{Role::restores, register_name(to.reg.index)};
    }
    const auto slot = below(place, to);
    if (!slot || from.kind != Operand::Kind::reg || *slot <= word_) return std::nullopt;
    if (is_general(from) && from.width == word_ * 8 && is_callers(place, from.reg.index)) {
      saved_[*slot] = from.reg.index;
      return Found{Role::saves, register_name(from.reg.index)};
    }
    return argument_kept(place, from);
  }

  std::optional<Found> argument_kept(const FramePlace& place, const Operand& from) const {
    if (place.called) return std::nullopt;
    const bool general = is_general(from);
    const bool is_argument =
        general ? std::ranges::find(machine_.arguments, from.reg.index) != machine_.arguments.end() &&
                      (written_ >> from.reg.index & 1) == 0
                : from.reg.file == isa::RegisterFile::vector && from.reg.index < machine_.vector_arguments &&
                      (vectors_written_ >> from.reg.index & 1) == 0;
    if (!is_argument) return std::nullopt;
    std::string subject(isa::name_of(from.reg));
    const auto name = passed_.find({from.reg.file, from.reg.index});
    if (name != passed_.end() && !name->second.empty()) subject += " (" + name->second + ")";
    return Found{Role::keeps_argument, std::move(subject)};
  }

  /// `lea reg, [rsp+8]` before the stack pointer is rounded down, or `lea rbp, [rsp+0x80]`.
  std::optional<Found> address_at(std::size_t i, const isa::Operands& operands) {
    const isa::MemoryRecipe recipe = operands[1].memory();
    const bool by_stack =
        recipe.base.file == isa::RegisterFile::general && recipe.base.index == machine_.stack_pointer && !recipe.index;
    if (!by_stack || !places_[i].stack) return std::nullopt;
    if (isa::is_register(operands[0], machine_.frame_pointer)) {
      const bool marks = marks_frame(*places_[i].stack - recipe.displacement);
      return marks ? std::optional(Found{Role::sets_frame_pointer}) : std::nullopt;
    }
    for (std::size_t k = i + 1; k < places_.size() && k <= i + 2; ++k) {
      if (isa::operation_of(places_[k].instruction).meaning != isa::meaning::bit_and) continue;
      if (!isa::is_register(isa::operands_of(places_[k].instruction)[0], machine_.stack_pointer)) continue;
      noted_ = operands[0].reg.index;
      return Found{Role::notes_stack, register_name(*noted_)};
    }
    return std::nullopt;
  }
  /// As in program/frame.h: where it was saved, or the return address.
  [[nodiscard]] bool marks_frame(std::optional<std::int64_t> below) const {
    if (!below) return false;
    for (const auto& [slot, number] : saved_) {
      if (number == machine_.frame_pointer) return slot == *below;
    }
    return *below == word_;
  }

  /// `or qword [rsp], 0`, and other forms that leave the page's bytes as they are or write 0 to them.
  std::optional<Found> touch_at(const isa::Operands& operands) const {
    const Operand& to = operands[0];
    const bool top = to.kind == Operand::Kind::memory && to.recipe.has_base(machine_.stack_pointer) &&
                     to.recipe.index == 0 && isa::writes(to.access) && isa::reads(to.access);
    const bool zero = operands.shown == 2 && operands[1].kind == Operand::Kind::immediate && operands[1].value == 0;
    return top && zero ? std::optional(Found{Role::touches}) : std::nullopt;
  }

  void note_written(const isa::Instruction& instruction) {
    const isa::Effects effects = isa::effects_of(instruction);
    for (std::size_t i = 0; i < effects.register_count; ++i) {
      const isa::RegisterEffect& one = effects.registers[i];
      if (!isa::writes(one.access)) continue;
      if (one.part.file == isa::RegisterFile::general) written_ |= 1U << one.part.index;
      if (one.part.file == isa::RegisterFile::vector && one.part.index < 32) vectors_written_ |= 1U << one.part.index;
    }
    if (isa::flow_of(instruction) == ControlFlow::call) protector_.reset();
  }

  // ---- ways out ----

  void find_exits() {
    const AddressRange range = function_.range();
    const program::FlowBlocks blocks(program_, scan_, {&range, 1});
    for (const program::FlowBlocks::Block& block : blocks.blocks()) {
      const auto last = block.end == block.first ? steps_.end() : steps_.find(blocks.code()[block.end - 1].address);
      if (last == steps_.end()) continue;
      if (last->second.role != Role::returns && last->second.role != Role::jumps_on) continue;
      FrameExit exit{steps_of(blocks, block), {}};
      const bool bare = exit.steps.size() == 1;
      result_.only_on_some_ways |= bare && is_built_late(blocks);
      add(std::move(exit));
    }
  }

  /// The last steps of a block that take the frame down, from its last call on; and the check of the protector before.
  std::vector<FrameStep> steps_of(const program::FlowBlocks& blocks, const program::FlowBlocks::Block& block) const {
    std::vector<FrameStep> found;
    std::uint32_t at = block.end;
    while (at > block.first) {
      const program::FlowBlocks::Code& code = blocks.code()[--at];
      if (!code.instruction || isa::flow_of(code.instruction) == ControlFlow::call) break;
      const auto step = steps_.find(code.address);
      if (step != steps_.end() && !builds(step->second.role)) found.push_back(step->second);
    }
    if (at == block.first) {
      for (const std::uint32_t from : block.from) {
        const program::FlowBlocks::Block& before = blocks.blocks()[from];
        for (std::uint32_t i = before.end; i-- > before.first && i + 4 >= before.end;) {
          const auto step = steps_.find(blocks.code()[i].address);
          if (step == steps_.end() || step->second.role != Role::checks_protector) continue;
          found.push_back(step->second);
          std::ranges::reverse(found);
          return found;
        }
      }
    }
    std::ranges::reverse(found);
    return found;
  }

  void add(FrameExit exit) {
    const auto alike = [&](const FrameExit& other) {
      return std::ranges::equal(other.steps, exit.steps, [](const FrameStep& a, const FrameStep& b) {
        return a.role == b.role && a.subject == b.subject && a.bytes == b.bytes && a.taken == b.taken;
      });
    };
    const auto same = std::ranges::find_if(result_.exits, alike);
    if (same != result_.exits.end()) {
      same->similar.push_back(exit.steps.back().address);
    } else {
      result_.exits.push_back(std::move(exit));
    }
  }

  /// True where a condition is asked before registers are saved or room is taken.
  [[nodiscard]] bool is_built_late(const program::FlowBlocks& blocks) const {
    if (blocks.blocks().empty()) return false;
    const std::uint64_t end = blocks.code()[blocks.blocks()[0].end - 1].address;
    return std::ranges::any_of(steps_, [&](const auto& one) {
      const Role role = one.second.role;
      return one.first > end && (role == Role::saves || role == Role::reserves);
    });
  }

  // ---- the stack while the body runs ----

  void find_depth() {
    for (const FrameStep& step : result_.building) result_.built = std::max(result_.built, step.taken.value_or(0));
    for (const FramePlace& place : places_) {
      const bool set = (place.changed >> machine_.frame_pointer & 1) != 0 && result_.shape.frame_pointer;
      if (set && marks_frame(place.frame)) {
        result_.mark = -*place.frame;
        return;
      }
    }
  }

  void find_slots() {
    const auto word = static_cast<std::int64_t>(word_);
    put(-word, word_, Slot::return_address, "");
    for (const auto& [below, number] : saved_) put(-below, word_, Slot::saved, register_name(number));
    if (kept_note_) put(-*kept_note_, word_, Slot::saved, register_name(*noted_));
    if (copied_return_) put(-*copied_return_, word_, Slot::return_address, "copied");
    for (const FramePlace& place : places_) {
      const auto step = steps_.find(place.address);
      if (step == steps_.end() || step->second.role != Role::puts_protector) continue;
      if (const auto slot = below(place, isa::operands_of(place.instruction)[0]))
        put(-*slot, word_, Slot::protector, "");
    }
    add_arguments();
    add_variables();
    std::ranges::stable_sort(result_.slots, std::greater<>(), &FrameSlot::offset);
    fill_gaps();
  }

  void put(std::int64_t offset, std::uint64_t size, Slot kind, std::string name) {
    const auto same = std::ranges::find_if(result_.slots, [&](const FrameSlot& one) {
      return one.offset == offset && one.size == size && one.kind == kind;
    });
    if (same == result_.slots.end()) {
      result_.slots.push_back({offset, size, kind, std::move(name)});
    } else if (same->name != name && (", " + same->name + ", ").find(", " + name + ", ") == std::string::npos) {
      same->name += ", " + name;  // at other times
    }
  }

  void add_arguments() {
    for (std::size_t i = 0; i < layout_.arguments.size(); ++i) {
      for (const abi::Piece& piece : layout_.arguments[i].pieces) {
        const auto& parameter = described_->parameters[i];
        if (!piece.part)
          put(static_cast<std::int64_t>(piece.stack), piece.size, Slot::argument,
              types_.declaration(parameter.type, parameter.name));
      }
    }
    if (layout_.hidden_result && machine_.arguments.empty())
      put(0, word_, Slot::argument, "address of memory for the result");
  }

  void add_variables() {
    const debuginfo::FunctionLocals* locals = locals_.at(function_.address);
    const debuginfo::DescribedFunction* described = scopes_.function_at(function_.address);
    if (locals == nullptr || described == nullptr) return;
    const std::uint64_t stack = Built::kCallers - word_ - result_.built;
    const auto frame =
        result_.mark ? std::optional(Built::kCallers + static_cast<std::uint64_t>(*result_.mark)) : std::nullopt;
    Built built(machine_, stack, frame);
    const debuginfo::ExpressionPlace place{&program_.debug(), described->unit, 0, word_,
                                           machine_.dwarf_number(machine_.stack_pointer)};
    built.use(place, locals->frame_base);
    for (const debuginfo::LocalScope& scope : locals->scopes) {
      for (const debuginfo::LocalVariable& one : scope.variables) add_variable(one, scope, place, built);
    }
  }

  void add_variable(const debuginfo::LocalVariable& variable, const debuginfo::LocalScope& scope,
                    const debuginfo::ExpressionPlace& place, Built& built) {
    const auto entry = program_.debug().read(variable.entry);
    const auto typed = program_.debug().read(variable.type);
    if (!entry || !typed) return;
    const debuginfo::TypeId type = types_.of(*typed);
    for (const debuginfo::LocationPart& part : program_.debug().locations(*entry, debuginfo::At::location)) {
      for (const debuginfo::Piece& piece : debuginfo::evaluate(part.expression, place, built).pieces) {
        if (piece.kind != debuginfo::Piece::Kind::memory || piece.bits != 0) continue;
        const auto offset = static_cast<std::int64_t>(piece.address - Built::kCallers);
        const auto lowest = -static_cast<std::int64_t>(word_ + result_.built + machine_.red_zone);
        if (offset >= 0 || offset < lowest) continue;
        std::string name = types_.declaration(type, variable.name);
        if (!scope.inlined.empty()) name += " of " + scope.inlined;
        put(offset, std::max<std::uint64_t>(1, types_.size(type)), Slot::variable, std::move(name));
      }
    }
  }

  /// What lies between: used, though nothing says for what, or not used.
  void fill_gaps() {
    const auto uses = program::stack_uses(program_, scan_, function_);
    std::vector<FrameSlot> all;
    std::int64_t above = -static_cast<std::int64_t>(word_);
    const std::int64_t lowest = -static_cast<std::int64_t>(word_ + result_.built);
    for (const FrameSlot& slot : result_.slots) {
      const std::int64_t end = slot.offset + static_cast<std::int64_t>(slot.size);
      if (slot.offset < 0 && end < above) add_gap(all, std::max(end, lowest), above, uses);
      all.push_back(slot);
      above = std::min(above, slot.offset);
    }
    if (above > lowest) add_gap(all, lowest, above, uses);
    result_.slots = std::move(all);
  }

  static void add_gap(std::vector<FrameSlot>& slots, std::int64_t from, std::int64_t to,
                      const std::optional<std::vector<program::StackUse>>& uses) {
    if (from >= to) return;
    const auto touches = [&](const program::StackUse& one) {
      const auto start = -static_cast<std::int64_t>(one.below_cfa);
      return start < to && start + static_cast<std::int64_t>(std::max<std::uint64_t>(one.size, 1)) > from;
    };
    const bool used = !uses || std::ranges::any_of(*uses, touches);
    slots.push_back({from, static_cast<std::uint64_t>(to - from), used ? Slot::unnamed : Slot::unused, ""});
  }

  const Program& program_;
  const Function& function_;
  isa::Syntax syntax_;
  const arch::Machine& machine_;
  program::CodeScan scan_;
  std::uint8_t word_;
  debuginfo::Types types_{program_.debug()};
  debuginfo::Scopes scopes_{program_.debug()};
  debuginfo::Locals locals_{program_.debug(), scopes_};
  std::optional<abi::DescribedFunction> described_;
  abi::CallLayout layout_;
  std::map<std::pair<arch::RegisterFile, std::uint8_t>, std::string> passed_;  ///< names of parameters
  std::vector<FramePlace> places_;
  std::map<std::uint64_t, FrameStep> steps_;    ///< by address in the file
  std::map<std::int64_t, std::uint8_t> saved_;  ///< registers by where they lie, bytes below
  std::optional<std::uint8_t> protector_;       ///< the register that holds its value
  std::optional<std::uint8_t> noted_;           ///< the register that keeps where the arguments begin
  std::optional<std::int64_t> kept_note_, copied_return_;
  std::uint32_t written_ = 0, vectors_written_ = 0;  ///< registers, by number, by the instructions so far
  ExplainedFrame result_;
};

}  // namespace

ExplainedFrame explain_frame(const Program& program, const Function& function, isa::Syntax syntax) {
  return Explainer(program, function, syntax).run();
}

Result<ExplainedFrame> explain_frame(const std::string& file, std::string_view name, isa::Syntax syntax) {
  const Result<Program> program = Program::open(file, {});
  if (!program) return program.error();
  const auto function = one_function(*program, name);
  return function ? Result<ExplainedFrame>(explain_frame(*program, **function, syntax)) : function.error();
}

std::string_view name_of(Role role) {
  static constexpr std::string_view kNames[] = {
      "saves",    "sets_frame_pointer", "reserves",      "enters",         "reserves_unknown", "aligns",
      "touches",  "notes_stack",        "copies_return", "puts_protector", "checks_protector", "keeps_argument",
      "restores", "sets_stack",         "releases",      "leaves",         "returns",          "jumps_on"};
  return kNames[static_cast<std::size_t>(role)];
}

std::string_view name_of(Slot kind) {
  static constexpr std::string_view kNames[] = {"argument", "return_address", "saved", "protector",
                                                "variable", "unnamed",        "unused"};
  return kNames[static_cast<std::size_t>(kind)];
}

}  // namespace deeptrace::study
