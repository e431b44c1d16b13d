#include "program/frame.h"

#include <algorithm>
#include <bit>
#include <unordered_set>
#include <utility>

#include "isa/walk.h"
#include "program/references.h"
#include "state/known.h"

namespace deeptrace::program {
namespace {

using isa::ControlFlow;
using state::Known;

/// Where the caller's stack pointer is taken to be before the call: a place that no file uses, aligned as both ABIs
/// want it there (3.2.2 of the 64-bit one, 2.2.2 of the 32-bit one).
constexpr std::uint64_t kCallersStack = 0x70000000;
constexpr std::uint64_t kGuaranteed = 16;

bool is_callers(std::uint8_t number, isa::Mode mode) {
  const arch::Machine& machine = arch::machine_of(mode);
  return machine.keeps(number) && number != machine.stack_pointer;
}

class Walk {
 public:
  Walk(const Program& program, CodeScan& scan, const Function& function)
      : program_(program),
        scan_(scan),
        function_(function),
        mode_(program.mode()),
        entry_stack_(kCallersStack - arch::machine_of(mode_).word) {}

  /// The frame before the instruction at an address.
  std::optional<FramePoint> point(std::uint64_t address) {
    wanted_ = address;
    (void)run();
    return point_;
  }

  std::vector<FramePlace> places() {
    (void)run();
    std::ranges::sort(places_, {}, &FramePlace::address);
    return std::move(places_);
  }

  std::optional<std::vector<StackUse>> uses() {
    const FrameShape shape = run();
    return shape.varies || shape.aligned != 0 ? std::nullopt : std::optional(std::move(uses_));
  }

  FrameShape run() {
    Known entry(mode_, program_.elf().kind() != binary::Kind::relocatable);
    entry.set(isa::kRsp, entry_stack_);
    open_.push_back({function_.address, entry, 0});
    while (!open_.empty()) {
      Place place = std::move(open_.back());
      open_.pop_back();
      follow(std::move(place));
    }
    return std::move(shape_);
  }

 private:
  struct Place {
    std::uint64_t address;
    Known known;
    std::uint32_t changed;  ///< registers that no longer hold what the caller had in them, bits by number
    std::vector<FramePoint::Saved> saved = {};
    bool aligned = false;                            ///< the stack pointer was rounded down
    std::optional<std::uint64_t> frame_before = {};  ///< the frame pointer as it was then
    bool called = false;
    std::optional<isa::General> compared = {};  ///< the instruction before compared it with the stack pointer
  };

  [[nodiscard]] bool holds(std::uint64_t address) const { return function_.range().holds(address); }

  void follow(Place place) {
    const Bytes code = program_.elf().bytes_at(function_.address);
    while (holds(place.address) && seen_.insert(place.address).second) {
      const std::uint64_t at = place.address - function_.address;
      if (at >= code.size()) return;
      const isa::Instruction instruction = isa::decode(code.subspan(at), mode_);
      if (!instruction) return;
      if (place.address == wanted_) note_point(place);
      note_place(instruction, place);
      look_at(instruction, place);
      places_.back().stack_after = to_cfa(place, isa::kRsp);
      const ControlFlow flow = isa::flow_of(instruction);
      std::uint64_t target = 0;
      const bool direct = isa::direct_target(instruction, place.address, target);
      const std::uint64_t next = place.address + instruction.length;
      if ((flow == ControlFlow::jump || flow == ControlFlow::conditional) && direct && holds(target))
        open_.push_back(moved_to(target, place));
      if (flow == ControlFlow::jump && !direct) add_table(place);
      note_comparison(instruction, direct && target < place.address, place);
      if (flow == ControlFlow::jump || flow == ControlFlow::return_ || flow == ControlFlow::trap) return;
      // What stands after such a call belongs to another way.
      if (flow == ControlFlow::call && scan_.is_final_call(instruction, place.address)) return;
      place.address = next;
    }
  }

  static Place moved_to(std::uint64_t address, const Place& place) {
    Place result = place;
    result.address = address;
    return result;
  }

  void add_table(const Place& place) {
    for (const JumpTable& table : scan_.tables_of(function_)) {
      if (table.jump != place.address) continue;
      for (std::uint64_t i = 0; i < table.entries; ++i) {
        const auto target = target_of(program_, table, i);
        if (target && holds(*target)) open_.push_back(moved_to(*target, place));
      }
    }
  }

  /// Bytes from a register that points into the stack up to the caller's stack pointer.
  static std::optional<std::int64_t> to_cfa(const Place& place, isa::General number) {
    const auto value = place.known.value({isa::RegisterFile::general, number, 0, 64});
    if (!value || *value < kCallersStack / 2 || *value > kCallersStack / 2 * 3) return std::nullopt;
    return static_cast<std::int64_t>(kCallersStack - *value);
  }

  void note_place(const isa::Instruction& instruction, const Place& place) {
    places_.push_back({place.address,
                       instruction,
                       to_cfa(place, isa::kRsp),
                       {},
                       to_cfa(place, isa::kRbp),
                       place.changed,
                       place.aligned,
                       place.called});
  }

  /// Where much is taken, a loop takes it page by page, until the stack pointer equals a register: past the jump back
  /// it does.
  void note_comparison(const isa::Instruction& instruction, bool back, Place& place) {
    const std::optional<isa::General> compared = std::exchange(place.compared, std::nullopt);
    place.called |= isa::flow_of(instruction) == ControlFlow::call && !finds_place(instruction, place.address);
    if (isa::flow_of(instruction) == ControlFlow::conditional && compared) {
      const auto value = place.known.value({isa::RegisterFile::general, *compared, 0, 64});
      if (value && back) place.known.set(isa::kRsp, *value);
      return;
    }
    const isa::Operands operands = isa::operands_of(instruction);
    const bool compares = isa::operation_of(instruction).meaning == isa::meaning::cmp;
    if (!compares || operands.shown != 2) return;
    for (unsigned i = 0; i < 2; ++i) {
      const isa::Operand& one = operands[i];
      const isa::Operand& other = operands[1 - i];
      if (isa::is_register(one, isa::kRsp) && other.kind == isa::Operand::Kind::reg)
        place.compared = static_cast<isa::General>(other.reg.index);
    }
  }

  /// A call of the next instruction, or of the helper of 32-bit code: by which it learns where it lies.
  [[nodiscard]] bool finds_place(const isa::Instruction& call, std::uint64_t address) const {
    const auto target = target_of(program_, address, call);
    return target && (*target == address + call.length || register_of_thunk(program_, *target) >= 0);
  }

  void note_point(const Place& place) {
    FramePoint point;
    point.saved = place.saved;
    const auto stack = place.known.value({isa::RegisterFile::general, isa::kRsp, 0, 64});
    const auto frame = place.known.value({isa::RegisterFile::general, isa::kRbp, 0, 64});
    const bool by_frame = frame && *frame < kCallersStack && kCallersStack - *frame < kCallersStack / 2;
    // What was taken to round the stack pointer down is not known for sure; a frame pointer from before is.
    const bool sure = place.aligned && place.frame_before && by_frame && frame == place.frame_before;
    if (stack && !sure) {
      point.to_cfa = static_cast<std::int64_t>(kCallersStack - *stack);
    } else if (by_frame) {
      point.by_stack = false;
      point.to_cfa = static_cast<std::int64_t>(kCallersStack - *frame);
    } else {
      return;
    }
    point_ = std::move(point);
  }

  void look_at(const isa::Instruction& instruction, Place& place) {
    note_saved(instruction, place);
    note_red_zone(instruction, place);
    note_uses(instruction, place);
    const auto before = place.known.value({isa::RegisterFile::general, isa::kRsp, 0, 64});
    place.known.step(instruction, place.address);
    const std::uint64_t taken = taken_by_call(program_, instruction, place.address);
    if (taken != 0 && before) place.known.set(isa::kRsp, *before + taken);
    place.changed |= place.known.written();
    if (before) note_alignment(instruction, *before, place);
    const auto stack = place.known.value({isa::RegisterFile::general, isa::kRsp, 0, 64});
    if (!stack || *stack < kCallersStack / 2) {
      const bool next = isa::flow_of(instruction) == ControlFlow::next;
      shape_.varies |= next && !(is_set_anew(instruction) && ends_here(place.address + instruction.length));
      // From here on the depth is unknown; the frame pointer leads back.
      return;
    }
    // A call of its own next instruction pushes for a moment only.
    if (*stack < entry_stack_ && isa::flow_of(instruction) != ControlFlow::call)
      shape_.size = std::max(shape_.size, entry_stack_ - *stack);
    if ((place.known.written() >> isa::kRbp & 1) != 0) shape_.frame_pointer |= marks_frame(place);
  }

  /// True where rbp (ebp) points to where it was saved, or, unsaved, to the return address. Other addresses of the
  /// stack in it are those of variables.
  [[nodiscard]] bool marks_frame(const Place& place) const {
    const auto frame = to_cfa(place, isa::kRbp);
    if (!frame) return false;
    const auto saved = std::ranges::find(place.saved, isa::kRbp, &FramePoint::Saved::number);
    return *frame == (saved != place.saved.end() ? saved->below_cfa : arch::machine_of(mode_).word);
  }

  /// `and rsp, -32`: at least what the guaranteed alignment makes of it is taken.
  void note_alignment(const isa::Instruction& instruction, std::uint64_t before, Place& place) {
    if (isa::operation_of(instruction).meaning != isa::meaning::bit_and) return;
    const isa::Operands operands = isa::operands_of(instruction);
    const bool stack = operands.shown == 2 && isa::is_register(operands[0], isa::kRsp);
    if (!stack || operands[1].kind != isa::Operand::Kind::immediate || operands[1].value >= 0) return;
    const std::uint64_t alignment = ~static_cast<std::uint64_t>(operands[1].value) + 1;
    if (!std::has_single_bit(alignment)) return;
    shape_.aligned = std::max(shape_.aligned, alignment);
    place.aligned = true;
    place.frame_before = place.known.value({isa::RegisterFile::general, isa::kRbp, 0, 64});
    place.known.set(isa::kRsp, before & ~(std::min(alignment, kGuaranteed) - 1));
  }

  /// The stack pointer gets a value that has nothing to do with what it was.
  static bool is_set_anew(const isa::Instruction& instruction) {
    const isa::Operands operands = isa::operands_of(instruction);
    return operands.shown != 0 && operands[0].kind == isa::Operand::Kind::reg && !isa::reads(operands[0].access);
  }

  /// True where only registers are restored before the function returns: the stack pointer was given back what it had.
  [[nodiscard]] bool ends_here(std::uint64_t address) const {
    const Bytes code = program_.elf().bytes_at(function_.address);
    for (std::uint64_t at = address - function_.address; at < code.size() && holds(function_.address + at);) {
      const isa::Instruction instruction = isa::decode(code.subspan(at), mode_);
      if (!instruction) return false;
      if (isa::flow_of(instruction) == ControlFlow::return_) return true;
      const isa::Meaning meaning = isa::operation_of(instruction).meaning;
      if (meaning != isa::meaning::pop && meaning != isa::meaning::leave) return false;
      at += instruction.length;
    }
    return false;
  }

  /// Accesses below the stack pointer that push nothing.
  void note_red_zone(const isa::Instruction& instruction, const Place& place) {
    if (mode_ == isa::Mode::bits32 || instruction.displacement_size == 0) return;
    const auto stack = place.known.value({isa::RegisterFile::general, isa::kRsp, 0, 64});
    if (!stack) return;
    for (const isa::Operand& operand : isa::operands_of(instruction)) {
      if (operand.kind != isa::Operand::Kind::memory || operand.stack_slot || operand.width == 0) continue;
      const auto address = place.known.address_of(operand.memory(), place.address + instruction.length, false);
      constexpr std::uint64_t kMost = 128;
      if (address && *address < *stack && *stack - *address <= kMost)
        shape_.red_zone = std::max(shape_.red_zone, *stack - *address);
    }
  }

  void note_uses(const isa::Instruction& instruction, const Place& place) {
    const std::uint64_t word = arch::machine_of(mode_).word, next = place.address + instruction.length;
    const auto stack = place.known.value({isa::RegisterFile::general, isa::kRsp, 0, 64});
    for (const isa::Operand& operand : isa::operands_of(instruction)) {
      if (operand.kind != isa::Operand::Kind::memory) continue;
      if (operand.stack_slot) {
        if (stack && isa::writes(operand.access)) add_use(*stack - word, word, false);
        continue;
      }
      const auto exact = place.known.address_of(operand.memory(), next, false);
      const auto start = exact ? exact : place.known.address_of(operand.memory(), next, true);
      const bool taken = !isa::reads(operand.access) && !isa::writes(operand.access);
      if (start) add_use(*start, operand.width / 8, taken || !exact);
    }
    // An address in a register may go anywhere from there.
    const isa::Meaning meaning = isa::operation_of(instruction).meaning;
    if (meaning == isa::meaning::copy && stack) {
      for (const isa::Operand& operand : isa::operands_of(instruction)) {
        const bool moved = isa::is_register(operand, isa::kRsp) && isa::reads(operand.access);
        if (moved && !sets_frame_pointer(instruction)) add_use(*stack, 0, true);
      }
    }
  }
  static bool sets_frame_pointer(const isa::Instruction& instruction) {
    const isa::Operands operands = isa::operands_of(instruction);
    return operands.shown != 0 && isa::is_register(operands[0], isa::kRbp);
  }
  void add_use(std::uint64_t address, std::uint64_t size, bool open) {
    constexpr std::uint64_t kMost = std::uint64_t(1) << 20;
    if (address < kCallersStack && kCallersStack - address < kMost)
      uses_.push_back({kCallersStack - address, size, open});
  }

  /// A register of the caller's that still holds what it had goes to the stack.
  void note_saved(const isa::Instruction& instruction, Place& place) {
    const isa::Meaning meaning = isa::operation_of(instruction).meaning;
    if (meaning == isa::meaning::enter) {
      const auto stack = to_cfa(place, isa::kRsp);
      if (stack) place.saved.push_back({isa::kRbp, *stack + arch::machine_of(mode_).word});
      if (std::ranges::find(shape_.saved, isa::kRbp) == shape_.saved.end()) shape_.saved.push_back(isa::kRbp);
      return;
    }
    const bool push = meaning == isa::meaning::push;
    if (!push && meaning != isa::meaning::copy) return;
    const isa::Operands operands = isa::operands_of(instruction);
    if (operands.shown == 0) return;
    const isa::Operand& source = operands[push ? 0 : operands.shown - 1U];
    if (source.kind != isa::Operand::Kind::reg || source.reg.file != isa::RegisterFile::general) return;
    if (!push) {
      const isa::Operand& into = operands[0];
      const bool stack = into.kind == isa::Operand::Kind::memory && into.recipe.has_base(isa::kRsp) &&
                         source.width == 8 * arch::machine_of(mode_).word;
      if (!stack) return;
    }
    const std::uint8_t number = source.reg.index;
    if (!is_callers(number, mode_) || (place.changed >> number & 1) != 0) return;
    const auto saved = static_cast<isa::General>(number);
    const auto stack = place.known.value({isa::RegisterFile::general, isa::kRsp, 0, 64});
    const std::uint64_t slot = arch::machine_of(mode_).word;
    const std::int64_t into = push ? 0 : operands[0].value + static_cast<std::int64_t>(slot);
    if (stack)
      place.saved.push_back(
          {saved, static_cast<std::int64_t>(entry_stack_ - *stack) + 2 * static_cast<std::int64_t>(slot) - into});
    if (std::ranges::find(shape_.saved, saved) == shape_.saved.end()) shape_.saved.push_back(saved);
  }

  const Program& program_;
  CodeScan& scan_;
  const Function& function_;
  isa::Mode mode_;
  std::uint64_t entry_stack_;  ///< where the return address lies
  FrameShape shape_;
  std::optional<std::uint64_t> wanted_;
  std::optional<FramePoint> point_;
  std::vector<StackUse> uses_;
  std::vector<FramePlace> places_;
  std::vector<Place> open_;
  std::unordered_set<std::uint64_t> seen_;
};

}  // namespace

std::uint64_t taken_by_call(const Program& program, const isa::Instruction& call, std::uint64_t address) {
  if (program.mode() == isa::Mode::bits64 || isa::flow_of(call) != ControlFlow::call) return 0;
  const auto target = target_of(program, address, call);
  const Function* function = target ? program.function_at(*target) : nullptr;
  if (function == nullptr || function->address != *target || function->origin == Function::Origin::plt) return 0;
  const Bytes code = program.elf().bytes_at(*target);
  constexpr std::size_t kMost = 4096;  // bytes that are looked over
  const std::size_t size = std::min({code.size(), static_cast<std::size_t>(function->size), kMost});
  for (const isa::Placed& one : isa::instructions_of(code.first(size), program.mode())) {
    if (one.instruction && isa::flow_of(one.instruction) == ControlFlow::return_) return one.instruction.immediate;
  }
  return 0;
}

std::vector<FramePlace> frame_places(const Program& program, CodeScan& scan, const Function& function) {
  return Walk(program, scan, function).places();
}

FrameShape frame_of(const Program& program, CodeScan& scan, const Function& function) {
  return Walk(program, scan, function).run();
}

std::optional<std::vector<StackUse>> stack_uses(const Program& program, CodeScan& scan, const Function& function) {
  return Walk(program, scan, function).uses();
}

std::optional<FramePoint> frame_at(const Program& program, CodeScan& scan, const Function& function,
                                   std::uint64_t address) {
  return Walk(program, scan, function).point(address);
}

}  // namespace deeptrace::program
