#include "look/value_trail.h"

#include <algorithm>

#include "abi/passing.h"
#include "isa/text.h"
#include "look/address_name.h"
#include "look/scope.h"
#include "state/touched.h"

namespace deeptrace::look {
namespace {

constexpr std::size_t kMostSteps = 8;  // calls that are gone back

class Follower {
 public:
  Follower(Modules& modules, const state::StateView& thread, const std::vector<inspect::Frame>& frames)
      : modules_(modules), thread_(thread), frames_(frames) {}

  ValueTrail of_register(isa::RegisterPart part) {
    const auto state = CallState::before_instruction(modules_, thread_, frames_.front());
    if (!state) return {};
    value_ = state->value(part);
    width_ = part.width;
    const CallState::Origin origin = state->origin(part.index);
    if (origin.address != 0) {
      trail_.from_call = origin.by_call;
      const std::string name = step(std::string(isa::name_of(part)) + " was set", *state, origin, 0);
      if (!name.empty()) passed(name, 0);
    } else if (state->from_entry()) {
      passed_in(part, origin, 0);
    }
    return std::move(trail_);
  }

  ValueTrail of_variable(const std::string& name) {
    passed(name, 0);
    return std::move(trail_);
  }

 private:
  [[nodiscard]] isa::Instruction instruction_at(std::uint64_t address) const {
    std::uint8_t bytes[isa::kLongestInstruction] = {};
    const std::size_t size = thread_.read_memory(address, bytes);
    return isa::decode({bytes, size}, thread_.mode());
  }

  /// One step, in words; gives the variable that was read, if it was one.
  std::string step(const std::string& what, const CallState& state, const CallState::Origin& origin,
                   std::size_t frame) {
    const isa::Instruction instruction = instruction_at(origin.address);
    if (!instruction) return {};
    if (origin.by_call) {
      std::uint64_t target = 0;
      const bool direct = isa::direct_target(instruction, origin.address, target);
      trail_.words.push_back(what + " by the call at " + modules_.located_name(origin.address) + ": it is what " +
                             (direct ? modules_.called_name(target) : "the function") + " returned");
      return {};
    }
    const isa::Text text = isa::text_of(instruction, origin.address, isa::Syntax::intel);
    std::string words = what + " at " + modules_.located_name(origin.address) + ": " + std::string(text.view());
    const std::string name = read_by(instruction, origin.address, state, frame);
    if (!name.empty()) words += ", which is " + name;
    trail_.words.push_back(std::move(words));
    return name;
  }

  /// The variable that an instruction on the way read.
  std::string read_by(const isa::Instruction& instruction, std::uint64_t address, const CallState& state,
                      std::size_t frame) {
    const std::uint64_t next = address + instruction.length;
    for (const isa::Operand& operand : isa::operands_of(instruction)) {
      if (operand.kind != isa::Operand::Kind::memory || !isa::reads(operand.access) || operand.width == 0) continue;
      const isa::MemoryRecipe recipe = operand.memory();
      for (const isa::RegisterPart& part : {recipe.base, recipe.index}) {
        // A register that was written since does not tell any more.
        if (part.file != isa::RegisterFile::general) continue;
        if (!state.value(part) || state.origin(part.index).address >= address) return {};
      }
      const std::uint64_t place = state::address_of(recipe, state.registers(), next, operand.width);
      trail_.read_from = place;
      std::string name = memory_name(modules_, place, operand.width / 8U);
      if (name.empty()) name = Scope(modules_, thread_, frames_[frame]).name_of_memory(place, operand.width / 8U);
      return name;
    }
    return {};
  }

  /// A variable that is a parameter of the frame's function: what its caller passed.
  void passed(const std::string& name, std::size_t frame) {
    if (frame + 1 >= frames_.size() || frame >= kMostSteps || frames_[frame].signal) return;
    Scope scope(modules_, thread_, frames_[frame]);
    std::size_t number = 0;
    bool found = false;
    for (const Scope::Listed& one : scope.locals()) {
      if (!one.parameter || one.depth != 0) continue;
      found = one.name == name;
      if (found) break;
      ++number;
    }
    if (!found) return;
    const auto state = CallState::before_call(modules_, thread_, frames_[frame + 1]);
    if (!state || isa::flow_of(state->instruction()) != isa::ControlFlow::call) return;
    const abi::CallLayout layout = scope.layout_of_arguments(number + 1);
    const abi::Passed& passed = layout.arguments[number];
    if (passed.pieces.size() != 1) return;
    const isa::RegisterPart part = passed.pieces.front().part;
    const std::string what = name + " was passed";
    if (part.file != isa::RegisterFile::general) {
      trail_.words.push_back(what + " at " + modules_.located_name(state->address()));
      return;
    }
    // A parameter that was given another value since does not lead back.
    const auto was = state->value({isa::RegisterFile::general, part.index, 0, width_});
    if (value_ && was && *was != *value_) return;
    const CallState::Origin origin = state->origin(part.index);
    if (origin.address == 0) {
      trail_.words.push_back(what + " at " + modules_.located_name(state->address()));
      if (state->from_entry()) passed_in(part, origin, frame + 1);
      return;
    }
    const std::string next = step(what + " in " + std::string(isa::name_of(part)) + ", set", *state, origin, frame + 1);
    if (!next.empty()) this->passed(next, frame + 1);
  }

  /// A register that is still as the frame's function got it.
  void passed_in(isa::RegisterPart part, const CallState::Origin& origin, std::size_t frame) {
    const auto& arguments = arch::machine_of(thread_.mode()).arguments;
    const auto found = std::ranges::find(arguments, origin.entry);
    if (found == arguments.end()) return;
    const std::size_t number = static_cast<std::size_t>(found - arguments.begin());
    trail_.words.push_back(std::string(isa::name_of(part)) + " is argument " + std::to_string(number + 1) + " of " +
                           function_name(frame));
    Scope scope(modules_, thread_, frames_[frame]);
    std::size_t index = 0;
    for (const Scope::Listed& one : scope.locals()) {
      if (!one.parameter || one.depth != 0) continue;
      const abi::CallLayout layout = scope.layout_of_arguments(index + 1);
      const auto& pieces = layout.arguments[index].pieces;
      ++index;
      if (pieces.size() != 1 || pieces.front().part.file != isa::RegisterFile::general ||
          pieces.front().part.index != origin.entry)
        continue;
      return passed(one.name, frame);
    }
  }

  std::string function_name(std::size_t frame) {
    const program::Function* function = modules_.function_at(frames_[frame].inside());
    return function != nullptr ? function->name.str() : modules_.place_name(frames_[frame].inside());
  }

  Modules& modules_;
  const state::StateView& thread_;
  const std::vector<inspect::Frame>& frames_;
  ValueTrail trail_;
  std::optional<std::uint64_t> value_;  ///< that is followed, where it is a register's
  std::uint16_t width_ = 64;            ///< bits of it
};

}  // namespace

ValueTrail trail_of(Modules& modules, const state::StateView& thread, const std::vector<inspect::Frame>& frames,
                    isa::RegisterPart part) {
  return Follower(modules, thread, frames).of_register(part);
}

ValueTrail trail_of(Modules& modules, const state::StateView& thread, const std::vector<inspect::Frame>& frames,
                    const std::string& name) {
  return Follower(modules, thread, frames).of_variable(name);
}

}  // namespace deeptrace::look
