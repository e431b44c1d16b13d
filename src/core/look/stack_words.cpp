#include "look/stack_words.h"

#include <algorithm>
#include <map>

#include "base/path.h"
#include "look/call_arguments.h"
#include "program/frame.h"

namespace deeptrace::look {
namespace {

using state::Reg;
using Kind = StackWord::Kind;

struct Meaning {
  Kind kind = Kind::unknown;
  std::string text;
};

class Reader {
 public:
  Reader(Modules& modules, const state::StateView& view, const std::vector<inspect::Frame>& frames)
      : modules_(modules), view_(view), frames_(frames), word_(arch::machine_of(view.mode()).word) {}

  std::vector<StackWord> run(std::size_t most, const state::Delta* changed) {
    const std::uint64_t top = view_.registers()[Reg::rsp];
    limit_ = top + most * word_;
    for (std::size_t i = 0; i < frames_.size() && frames_[i].registers[Reg::rsp] < limit_; ++i) {
      add_call(i);
      add_kept(i);
      add_variables(i);
    }
    std::vector<StackWord> result;
    const std::uint64_t lowest = meanings_.empty() ? top : std::min(top, meanings_.begin()->first);
    for (std::uint64_t at = lowest; at < limit_; at += word_) {
      StackWord word = read(at);
      if (!word.known) break;
      word.top = at == top;
      word.below = at < top;
      word.changed = changed != nullptr && wrote(*changed, at);
      result.push_back(std::move(word));
    }
    return result;
  }

 private:
  void put(std::uint64_t address, Kind kind, std::string text) {
    Meaning& meaning = meanings_[address];
    if (meaning.kind == Kind::unknown) meaning.kind = kind;
    if (!meaning.text.empty()) meaning.text += ", ";
    meaning.text += text;
  }

  [[nodiscard]] std::string function_of(std::size_t frame) {
    if (frame >= frames_.size()) return {};
    const program::Function* function = modules_.function_at(frames_[frame].inside());
    if (function == nullptr) return {};
    if (function->origin == program::Function::Origin::symbol) return function->name.str();
    return base_name(modules_.at(frames_[frame].inside())->path);
  }

  /// The return address of a frame, and what its caller passed on the stack.
  void add_call(std::size_t i) {
    const inspect::Frame& frame = frames_[i];
    if (i + 1 >= frames_.size()) return;
    const std::uint64_t end = frame.cfa != 0 ? frame.cfa : frames_[i + 1].registers[Reg::rsp];
    const inspect::Frame& caller = frames_[i + 1];
    if (!frame.signal)
      put(end - word_, Kind::return_address,
          "return address: " + modules_.located_name(caller.address(), caller.at_call));
    if (!caller.at_call || end >= limit_) return;
    const auto call = call_made(modules_, view_, caller);
    if (!call || !call->typed) return;
    for (std::size_t number = 0; number < call->arguments.size(); ++number) {
      const Argument& argument = call->arguments[number];
      if (!argument.stack) continue;
      put(end + *argument.stack, Kind::outgoing,
          "argument " + std::to_string(number + 1) + (argument.name.empty() ? "" : " (" + argument.name + ")") +
              " of " + call->function);
    }
  }

  void add_kept(std::size_t i) {
    const inspect::Frame& frame = frames_[i];
    const auto placed = frame.cfa != 0 ? modules_.frame_rule(frame.inside()) : std::nullopt;
    if (!placed) return;
    const std::string caller = function_of(i + 1);
    for (unsigned number = 0; number < debuginfo::FrameRule::kRegisters; ++number) {
      const auto reg = state::reg_of_dwarf(number, view_.mode());
      const auto place = inspect::kept_at(frame, view_, *placed, number);
      if (!place || !reg || *reg == Reg::rip || meanings_.contains(*place)) continue;
      put(*place, Kind::kept,
          std::string(state::name_of(*reg, view_.mode())) + " of " + (caller.empty() ? "the caller" : caller));
    }
  }

  void add_variables(std::size_t i) {
    const inspect::Frame& frame = frames_[i];
    constexpr std::uint64_t kRedZone = 128;  // bytes (x86-64 psABI, 3.2.2)
    const std::uint64_t lowest = frame.registers[Reg::rsp] - (i == 0 ? kRedZone : 0);
    Scope scope(modules_, view_, frame);
    for (const Scope::Listed& listed : scope.locals()) {
      if (!listed.datum || listed.datum->place != inspect::Datum::Place::memory) continue;
      const std::uint64_t size = std::max<std::uint64_t>(1, inspect::size_of(*listed.datum, scope));
      const std::uint64_t address = listed.datum->address;
      if (address < lowest || address >= limit_) continue;
      const bool passed = listed.parameter && frame.cfa != 0 && address >= frame.cfa;
      for (std::uint64_t at = address / word_ * word_; at < address + size && at < limit_; at += word_) {
        if (passed && meanings_.contains(at) && meanings_[at].kind == Kind::outgoing) {
          meanings_[at].kind = Kind::argument;  // the caller's call says the same
          continue;
        }
        std::string text = listed.name;
        if (at > address) {
          text += "+" + std::to_string(at - address);
        } else if (size < word_) {
          text += " (" + std::to_string(size) + " bytes" +
                  (address != at ? " at +" + std::to_string(address - at) : std::string()) + ")";
        }
        put(at, passed ? Kind::argument : Kind::variable, std::move(text));
      }
    }
  }

  StackWord read(std::uint64_t at) {
    StackWord word;
    word.address = at;
    const auto value = view_.word_at(at);
    word.known = value.has_value();
    if (!value) return word;
    word.value = *value;
    word.frame = frame_at(at);
    word.function = function_of(word.frame);
    if (const auto meaning = meanings_.find(at); meaning != meanings_.end()) {
      word.kind = meaning->second.kind;
      word.meaning = meaning->second.text;
    } else if (word.value != 0 && word.value == protector()) {
      word.kind = Kind::protector;
      word.meaning = "stack protector";
    } else if (is_padding(at, word.frame)) {
      word.kind = Kind::padding;
      word.meaning = "padding: nothing uses it";
    }
    if (word.kind != Kind::return_address && word.kind != Kind::protector)
      word.points_to = address_name(modules_, view_, word.value, view_.registers()[Reg::rsp]);
    return word;
  }

  /// True where no instruction of the frame's function uses a word, nor has the address of something that may reach to
  /// it.
  [[nodiscard]] bool is_padding(std::uint64_t at, std::size_t index) {
    if (index >= frames_.size() || at < frames_[index].registers[Reg::rsp]) return false;
    const std::uint64_t cfa = end_of(index), below = cfa - at;
    const auto& uses = uses_of(index);
    if (!uses || uses->empty()) return false;
    const program::StackUse* last_open = nullptr;
    for (const program::StackUse& one : *uses) {
      if (one.below_cfa + word_ > below && one.below_cfa < below + one.size) return false;
      if (one.open && one.below_cfa >= below && (last_open == nullptr || one.below_cfa < last_open->below_cfa))
        last_open = &one;
    }
    if (last_open == nullptr) return true;
    // What a described variable begins ends with it.
    const auto meaning = meanings_.find((cfa - last_open->below_cfa) / word_ * word_);
    return meaning != meanings_.end() && meaning->second.kind == Kind::variable;
  }
  const std::optional<std::vector<program::StackUse>>& uses_of(std::size_t index) {
    const auto [place, added] = uses_.try_emplace(index);
    const std::uint64_t inside = frames_[index].inside();
    const Module* module = added ? modules_.at(inside) : nullptr;
    const program::Function* function = module != nullptr ? modules_.function_at(inside) : nullptr;
    if (function != nullptr) place->second = program::stack_uses(*module->program, Modules::scan(*module), *function);
    return place->second;
  }

  /// Frames lie from their stack pointer to where their return address ends.
  [[nodiscard]] std::size_t frame_at(std::uint64_t address) const {
    for (std::size_t i = 0; i < frames_.size(); ++i) {
      if (address < end_of(i)) return i;
    }
    return frames_.size();
  }
  [[nodiscard]] std::uint64_t end_of(std::size_t frame) const {
    if (frames_[frame].cfa != 0) return frames_[frame].cfa;
    return frame + 1 < frames_.size() ? frames_[frame + 1].registers[Reg::rsp] : 0;
  }

  /// The value that compilers put above the variables of a function, of this thread; 0: none is known.
  std::uint64_t protector() {
    if (protector_) return *protector_;
    const std::uint64_t pointer = state::thread_pointer(view_.registers(), view_.mode());
    protector_ = pointer != 0 ? view_.word_at(pointer + arch::machine_of(view_.mode()).protector).value_or(0) : 0;
    return *protector_;
  }

  [[nodiscard]] bool wrote(const state::Delta& delta, std::uint64_t at) const {
    return std::ranges::any_of(delta.memory, [&](const state::MemoryChange& one) {
      return one.address < at + word_ && one.address + one.size > at;
    });
  }

  Modules& modules_;
  const state::StateView& view_;
  const std::vector<inspect::Frame>& frames_;
  unsigned word_;
  std::uint64_t limit_ = 0;
  std::map<std::uint64_t, Meaning> meanings_;
  std::map<std::size_t, std::optional<std::vector<program::StackUse>>> uses_;  ///< of frames
  std::optional<std::uint64_t> protector_;
};

}  // namespace

std::vector<StackWord> stack_words(Modules& modules, const state::StateView& view,
                                   const std::vector<inspect::Frame>& frames, std::size_t most,
                                   const state::Delta* changed) {
  return Reader(modules, view, frames).run(most, changed);
}

std::vector<StackWord> innermost_words(Modules& modules, const state::StateView& view, std::size_t most,
                                       const state::Delta* changed) {
  const std::vector<inspect::Frame> frames = frames_of(modules, view, 3);
  std::vector<StackWord> words = Reader(modules, view, frames).run(most, changed);
  const auto beyond = std::ranges::find_if(words, [](const StackWord& one) {
    return one.frame > 0 && one.kind != Kind::argument && one.kind != Kind::outgoing;
  });
  words.erase(beyond, words.end());
  return words;
}

}  // namespace deeptrace::look
