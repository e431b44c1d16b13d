#include "look/fault.h"

#include <algorithm>
#include <csignal>

#include "abi/signal_names.h"
#include "abi/system_calls.h"
#include "base/number.h"
#include "isa/text.h"
#include "look/call_arguments.h"
#include "look/call_before.h"
#include "look/exception.h"
#include "look/fault_abort.h"
#include "look/fault_address.h"
#include "look/fault_stack.h"
#include "look/foresight.h"
#include "look/heap.h"
#include "look/tail_call.h"
#include "look/value_trail.h"
#include "state/touched.h"

namespace deeptrace::look {
namespace {

using isa::ControlFlow;
using state::Reg;

struct CodeWords {
  int signal, code;
  const char* words;
};
/// si_code of faults (sigaction(2)).
constexpr CodeWords kCodes[] = {
    {SIGSEGV, SEGV_MAPERR, "nothing is mapped there"},
    {SIGSEGV, SEGV_ACCERR, "the memory there does not allow it"},
    {SIGSEGV, SI_KERNEL, "a general protection fault: the processor names no address"},
    {SIGBUS, BUS_ADRALN, "the address is not aligned"},
    {SIGBUS, BUS_ADRERR, "the memory is not there"},
    {SIGBUS, BUS_OBJERR, "the memory there failed"},
    {SIGFPE, FPE_INTDIV, "a division of integers"},
    {SIGFPE, FPE_INTOVF, "an integer is too large for its place"},
    {SIGFPE, FPE_FLTDIV, "a floating-point division by zero"},
    {SIGFPE, FPE_FLTOVF, "a floating-point number is too large"},
    {SIGFPE, FPE_FLTUND, "a floating-point number is too small"},
    {SIGFPE, FPE_FLTRES, "a floating-point result is not exact"},
    {SIGFPE, FPE_FLTINV, "a floating-point operation without a result"},
    {SIGILL, ILL_ILLOPN, "an instruction that is not allowed"},
    {SIGILL, ILL_ILLOPC, "bytes that are no instruction"},
    {SIGTRAP, SI_KERNEL, "a trap instruction"},
};

class Examiner {
 public:
  Examiner(const state::Target& target, Modules& modules, state::ThreadId thread, const state::PendingSignal& signal)
      : target_(target), modules_(modules), view_(target.view(thread)), space_(target, modules, view_) {
    report_.signal = signal;
    report_.address = view_.registers()[Reg::rip] - (is_after_trap() ? 1 : 0);
    std::uint8_t bytes[isa::kLongestInstruction] = {};
    const std::size_t size = view_.read_memory(report_.address, bytes);
    instruction_ = isa::decode({bytes, size}, view_.mode());
    if (instruction_) report_.instruction = isa::text_of(instruction_, report_.address, isa::Syntax::intel).view();
    report_.mode = view_.mode();
    bytes_.assign(bytes, bytes + size);
    const auto known = std::ranges::find_if(
        kCodes, [&](const CodeWords& one) { return one.signal == signal.number && one.code == signal.code; });
    if (known != std::end(kCodes)) report_.code = known->words;
  }

  FaultReport run() {
    report_.place = modules_.place_name(report_.address);
    const auto [file, line] = modules_.line_of(report_.address);
    report_.file = file;
    report_.line = line;
    find_frames();
    find_own();
    const bool by_instruction = report_.signal.is_fault();
    switch (report_.signal.number) {
      case SIGSEGV:
      case SIGBUS: by_instruction ? memory() : sent(); break;
      case SIGFPE: by_instruction ? division() : sent(); break;
      case SIGILL: by_instruction ? invalid() : sent(); break;
      case SIGTRAP:
        report_.signal.code > 0 ? add("trap_instruction",
                                      "the program has a trap instruction (int3) of its own here: "
                                      "compilers put it where a check has failed")
                                : sent();
        break;
      case SIGABRT:
        for (Finding& one : explain_abort(target_, modules_, view_, frames_, report_)) add_at_own(std::move(one));
        break;
      case SIGSYS: system_call(); break;
      default: sent(); break;
    }
    return std::move(report_);
  }

 private:
  /// A trap instruction is reported when it has run.
  [[nodiscard]] bool is_after_trap() const {
    std::uint8_t byte = 0;
    return report_.signal.number == SIGTRAP && report_.signal.code == SI_KERNEL &&
           view_.read_memory(view_.registers()[Reg::rip] - 1, {&byte, 1}) == 1 && byte == arch::kStopByte;
  }

  void add(std::string kind, std::string text, std::vector<std::string> evidence = {}) {
    add({std::move(kind), std::move(text), std::move(evidence), {}, {}, 0, 0});
  }
  void add(Finding finding) {
    if (finding.address == 0) {
      finding.address = report_.address;
      finding.function = report_.place;
      finding.file = report_.file;
      finding.line = report_.line;
    }
    report_.findings.push_back(std::move(finding));
  }

  // ---- frames ----

  void find_frames() {
    constexpr std::size_t kShown = 64;
    frames_ = frames_of(modules_, view_, kMostFaultFrames, &report_.lost);
    frames_.front().registers[Reg::rip] = report_.address;
    report_.all_frames = frames_.size();
    std::vector<inspect::Frame> shown = frames_;
    if (shown.size() > kShown) {
      report_.left_out = shown.size() - kShown;
      shown.erase(shown.begin() + kShown / 2, shown.end() - kShown / 2);
    }
    report_.frames = frame_rows(modules_, view_, shown);
    for (std::size_t i = 0; i < report_.frames.size(); ++i) {
      FrameRow& row = report_.frames[i];
      if (row.own) report_.last_own = i;
      if (report_.left_out == 0 || row.frame < kShown / 2) continue;
      if (report_.after_gap == 0) report_.after_gap = i;
      row.number += report_.left_out;
    }
  }

  void find_own() {
    for (std::size_t i = 0; i < report_.frames.size(); ++i) {
      const FrameRow& row = report_.frames[i];
      if (!row.own) continue;
      FaultReport::Own own;
      own.frame = i;
      own.function = row.inlined.empty() ? row.place : row.inlined;
      own.file = row.file;
      own.line = row.line;
      const auto frame = std::ranges::find(frames_, row.address, &inspect::Frame::address);
      if (frame != frames_.end() && frame->at_call) own.call = call_made(modules_, view_, *frame);
      if (frame != frames_.end() && frame != frames_.begin()) own_by_tail_call(own, *(frame - 1), *frame);
      report_.own = std::move(own);
      return;
    }
  }

  /// Own code that left its frame by a jump is the innermost, though only its caller's frame is there.
  void own_by_tail_call(FaultReport::Own& own, const inspect::Frame& frame, const inspect::Frame& caller) {
    const auto tail = tail_call(modules_, view_, frame, caller);
    if (!tail || !tail->jump) return;
    const auto state = CallState::before_tail_call(modules_, view_, frame, caller, *tail->jump);
    if (!state) return;
    const auto [file, line] = modules_.line_of(*tail->jump);
    own.function = modules_.place_name(*tail->jump);
    own.file = file;
    own.line = line;
    own.call = call_made(modules_, view_, caller, *state);
  }

  // ---- memory ----

  void memory() {
    if (is_jump_away()) {
      went_away();
      return check_call();
    }
    if (!instruction_) return add("no_instruction", "no instruction can be read where the program stands");
    if (auto overflow = explain_overflow(view_, modules_, space_, frames_, report_.signal))
      return add(std::move(*overflow));
    if (!find_operand()) return no_operand();
    if (is_misaligned()) return misaligned();
    explain_operand();
    check_call();
  }

  /// The address that the program wanted to go on at, and not one that it read or wrote.
  [[nodiscard]] bool is_jump_away() const {
    if (report_.signal.fault_address_known)
      return report_.signal.fault_address == report_.address && !space_.allows(report_.address, AccessKind::execute);
    // The processor finds out before it goes to an address that is none at all.
    return instruction_ && goes_to_no_address();
  }

  [[nodiscard]] bool goes_to_no_address() const {
    const auto target = target_of_flow();
    return target && !space_.is_canonical(*target);
  }

  /// Where an indirect jump, a call or a return leads.
  [[nodiscard]] std::optional<std::uint64_t> target_of_flow() const {
    const ControlFlow flow = isa::flow_of(instruction_);
    const bool leaves = flow == ControlFlow::return_ || flow == ControlFlow::call || flow == ControlFlow::jump;
    return leaves ? flow_target(instruction_, view_) : std::nullopt;
  }

  void went_away() {
    const bool before = !report_.signal.fault_address_known;  // the instruction that leads away was not left
    const std::uint64_t target = before ? *target_of_flow() : report_.address;
    const unsigned word = arch::machine_of(view_.mode()).word;
    const std::uint64_t stack = view_.registers()[Reg::rsp];
    const AddressFault fault = space_.fault_of(target, AccessKind::execute, target);
    const std::string what = fault.looks.empty() ? "" : ", " + fault.looks;
    std::vector<std::string> evidence = {address_text(target) + ": " + fault.lies};
    // A call leaves the address after it on the stack; a return leaves its own below the stack.
    const std::uint64_t top = before ? 0 : view_.word_at(stack).value_or(0);
    const bool called = before ? isa::flow_of(instruction_) == ControlFlow::call : top != 0 && calls_here(top, target);
    const auto below = view_.word_at(stack - word);
    // After a jump at a function's end the stack pointer is at its return address, after a return above it.
    const bool jumped = !before && !called && top != 0 && call_before(modules_, top).has_value();
    const bool returned =
        before ? isa::flow_of(instruction_) == ControlFlow::return_ : !called && !jumped && below == target;
    std::string kind = fault.kind == "not_executable" ? "data_executed" : "broken_jump";
    if (called) {
      const std::string place = before ? report_.place : modules_.return_name(top);
      evidence.push_back("the call stands at " + place + (before ? "" : call_words(top)));
      return add(kind == "data_executed" ? kind
                 : target == 0           ? "null_call"
                                         : "broken_call",
                 "a function was called by a pointer that leads to no code: it is " + address_text(target) + what,
                 evidence);
    }
    if (returned) {
      evidence.push_back(
          "the return address on the stack was overwritten, such as by an array that was written past its end");
      if (frames_.size() > 1)
        evidence.push_back("the next frame that can be made out is " + modules_.return_name(frames_[1].address()));
      return add(kind == "data_executed" ? kind : "broken_return",
                 "a function returned to " + address_text(target) + what + ": no code is there", evidence);
    }
    add(kind, "the program went on at " + address_text(target) + what + ": no code is there", evidence);
  }

  /// True when the call right before an address leads to another: nothing has run since.
  [[nodiscard]] bool calls_here(std::uint64_t back, std::uint64_t wanted) const {
    const auto call = call_before(modules_, back);
    if (!call) return false;
    inspect::Frame before;
    before.registers = view_.registers();
    before.registers[Reg::rip] = call->address;
    before.registers[Reg::rsp] += arch::machine_of(view_.mode()).word;
    return flow_target(call->instruction, inspect::FrameView(view_, before)) == wanted;
  }

  std::string call_words(std::uint64_t back) {
    const auto call = call_before(modules_, back);
    if (!call) return {};
    const isa::Text text = isa::text_of(call->instruction, call->address, isa::Syntax::intel);
    return ": " + std::string(text.view());
  }

  /// The operand that came to the address that faulted.
  bool find_operand() {
    const isa::Operands operands = isa::operands_of(instruction_);
    const std::uint64_t next = report_.address + instruction_.length;
    const bool aligned = (isa::row_of(instruction_).traits & isa::kAligned) != 0;
    for (unsigned i = 0; i < operands.count; ++i) {
      const isa::Operand& operand = operands[i];
      if (operand.kind != isa::Operand::Kind::memory || operand.width == 0 || operand.recipe.has_vector_index())
        continue;
      if (!isa::reads(operand.access) && !isa::writes(operand.access)) continue;
      const isa::MemoryRecipe recipe = operand.memory();
      const std::uint64_t address = state::address_of(recipe, view_.registers(), next, operand.width);
      const std::uint64_t size = operand.width / 8U;
      bool is = false;
      if (report_.signal.fault_address_known) {
        is = report_.signal.fault_address >= address && report_.signal.fault_address - address < size;
      } else {
        is = !space_.is_canonical(address) || (aligned && address % size != 0);
      }
      if (!is) continue;
      FaultReport::Operand& found = report_.operand.emplace();
      isa::Text text;
      isa::add_operand(text, instruction_, operand, report_.address, isa::Syntax::intel);
      found.text = i < operands.shown ? std::string(text.view()) : "[" + address_text(address) + "]";
      found.access = isa::writes(operand.access) ? "writes" : "reads";
      found.address = address;
      found.size = size;
      for (const isa::RegisterPart& part : {recipe.base, recipe.index}) {
        if (part.file != isa::RegisterFile::general) continue;
        const std::uint64_t value = state::value_of(view_.registers(), part);
        found.registers.push_back({std::string(isa::name_of(part)), value,
                                   address_name(modules_, view_, value, view_.registers()[Reg::rsp])});
      }
      recipe_ = recipe;
      return true;
    }
    return false;
  }

  void no_operand() {
    if (!report_.signal.fault_address_known)
      return add("not_allowed", "the processor does not let programs execute `" + report_.instruction +
                                    "` here: it is for the kernel, or names something that does not exist");
    const AddressFault fault =
        space_.fault_of(report_.signal.fault_address, AccessKind::read, report_.signal.fault_address);
    add(fault.kind.empty() ? "memory" : fault.kind,
        "`" + report_.instruction + "` came to " + address_text(report_.signal.fault_address) + ": " + fault.lies);
    check_call();
  }

  [[nodiscard]] bool is_misaligned() const {
    return (isa::row_of(instruction_).traits & isa::kAligned) != 0 && !report_.signal.fault_address_known &&
           report_.operand->address % report_.operand->size != 0 && space_.is_canonical(report_.operand->address);
  }

  void misaligned() {
    const FaultReport::Operand& operand = *report_.operand;
    std::vector<std::string> evidence;
    for (const auto& part : operand.registers) evidence.push_back(part.name + " is " + address_text(part.value));
    // At a call the stack pointer is a multiple of 16 (x86-64 psABI, 3.2.2); the outermost frame that is not says
    // where.
    const bool by_stack = std::ranges::any_of(operand.registers, [](const auto& one) {
      return one.name == "rsp" || one.name == "rbp" || one.name == "esp" || one.name == "ebp";
    });
    for (std::size_t i = frames_.size(); by_stack && i-- > 0;) {
      if (frames_[i].cfa == 0 || frames_[i].cfa % 16 == 0 || i + 1 >= frames_.size()) continue;
      const std::uint64_t back = frames_[i + 1].address();
      evidence.push_back("the stack pointer was no multiple of 16 since " + modules_.located_name(back, true) +
                         " called the function: it was " + address_text(frames_[i].cfa));
      break;
    }
    add("misaligned",
        "`" + report_.instruction + "` needs an address that is a multiple of " + std::to_string(operand.size) + "; " +
            address_text(operand.address) + " is " + std::to_string(operand.address % operand.size) + " more than one",
        evidence);
  }

  [[nodiscard]] static AccessKind access_of(const FaultReport::Operand& operand) {
    return operand.access == "writes" ? AccessKind::write : AccessKind::read;
  }

  /// The register that spoilt the address: an index beside a base that is an address, else the base.
  [[nodiscard]] isa::RegisterPart culprit() const {
    const bool has_base = recipe_.base.file == isa::RegisterFile::general;
    const bool has_index = recipe_.index.file == isa::RegisterFile::general;
    if (!has_index) return has_base ? recipe_.base : isa::RegisterPart{};
    if (!has_base) return recipe_.index;
    const bool base_is_address = space_.mapping_at(state::value_of(view_.registers(), recipe_.base)) != nullptr;
    const bool index_is_address = space_.mapping_at(state::value_of(view_.registers(), recipe_.index)) != nullptr;
    return base_is_address || !index_is_address ? (base_is_address ? recipe_.index : recipe_.base) : recipe_.base;
  }

  /// True for a register that says how far from an address: beside another that holds one, or beside a fixed one.
  [[nodiscard]] bool is_index(isa::RegisterPart part) const {
    const isa::RegisterPart other = part == recipe_.index ? recipe_.base : recipe_.index;
    if (other.file == isa::RegisterFile::general && !(other == part))
      return space_.mapping_at(state::value_of(view_.registers(), other)) != nullptr;
    return space_.mapping_at(static_cast<std::uint64_t>(recipe_.displacement)) != nullptr;
  }

  /// "rcx is -3, times 4, bytes from marks": what a register adds to an address.
  std::string index_words(isa::RegisterPart part) {
    const std::uint64_t value = state::value_of(view_.registers(), part);
    std::string text = std::string(isa::name_of(part)) + " is " + std::to_string(signed_of(value, part.width));
    if (part == recipe_.index && recipe_.scale > 1) text += ", times " + std::to_string(recipe_.scale);
    const isa::RegisterPart other = part == recipe_.index ? recipe_.base : recipe_.index;
    const bool fixed = other.file != isa::RegisterFile::general || other == part;
    const std::uint64_t from =
        fixed ? static_cast<std::uint64_t>(recipe_.displacement) : state::value_of(view_.registers(), other);
    const AddressName name = address_name(modules_, view_, from, view_.registers()[Reg::rsp]);
    return text + " bytes from " + (!name.name.empty() ? name.name : address_text(from));
  }

  void explain_operand() {
    const FaultReport::Operand& operand = *report_.operand;
    const isa::RegisterPart part = culprit();
    const std::uint64_t faulted = report_.signal.fault_address_known ? report_.signal.fault_address : operand.address;
    const bool by_index = part && is_index(part);
    const std::uint64_t pointer = part && !by_index ? state::value_of(view_.registers(), part) : operand.address;
    AddressFault fault = space_.fault_of(faulted, access_of(operand), pointer);
    if (report_.signal.number == SIGBUS && report_.signal.code == BUS_ADRERR) {
      fault.kind = "past_file";
      fault.lies = "the page lies past the end of the file that is mapped there";
      fault.looks.clear();
    }
    std::vector<std::string> evidence = {address_text(faulted) + ": " + fault.lies};
    std::string text = "`" + report_.instruction + "` " + operand.access + " " + std::to_string(operand.size) +
                       (operand.size == 1 ? " byte" : " bytes") + " at " + address_text(operand.address);
    if (by_index) {
      text += ": " + index_words(part);
      if (fault.kind != "read_only" && fault.kind != "past_file" && fault.kind != "guard_page")
        fault.kind = "index_out_of_range";
    } else if (part) {
      text += ": " + std::string(isa::name_of(part)) + " is " + space_.pointer_words(pointer, fault);
    }
    if (part) report_.bad = FaultReport::Bad{report_.address, part, 0, 0};
    if (part) add_source(part, evidence, fault.kind);
    if (fault.kind == "used_after_free") text += ", which was read from memory that had been given back";
    add(fault.kind.empty() ? "memory" : fault.kind, text, std::move(evidence));
  }

  /// Where a register got its value.
  void add_source(isa::RegisterPart part, std::vector<std::string>& evidence, std::string& kind) {
    const ValueTrail trail = trail_of(modules_, view_, frames_, part);
    evidence.insert(evidence.end(), trail.words.begin(), trail.words.end());
    if (trail.from_call && kind == "null_pointer") kind = "unchecked_result";
    const std::uint64_t value = state::value_of(view_.registers(), part);
    std::optional<std::uint64_t> place = trail.read_from;
    HeapPlace heap = place ? heap_place(target_, view_, *place) : HeapPlace{};
    // A pointer without sense that stands in freed memory was read there; any number may stand there by chance.
    const bool senseless = kind == "not_mapped" || kind == "not_canonical" || kind == "past_end";
    if (heap.state != HeapPlace::State::freed && senseless) {
      place = freed_word(target_, view_, value);
      if (place) heap = heap_place(target_, view_, *place);
    }
    if (!place || heap.state != HeapPlace::State::freed || kind == "index_out_of_range") return;
    kind = "used_after_free";
    evidence.push_back("it stands at " + address_text(*place) + ", in " + std::to_string(heap.size) + " bytes at " +
                       address_text(heap.start) + " that were given back: the allocator's records have them as free");
  }

  /// Whether the own code's call passed something that the function could not use.
  void check_call() {
    if (!report_.own || !report_.own->call) return;
    const CallMade& call = *report_.own->call;
    const FrameRow& row = report_.frames[report_.own->frame];
    for (std::size_t i = 0; i < call.arguments.size(); ++i) {
      const Argument& argument = call.arguments[i];
      if (!argument.value || argument.value->kind != inspect::Value::Kind::pointer) continue;
      std::string problem = problem_of(argument);
      if (problem.empty()) continue;
      const std::string function = call.function.empty() ? "the function" : call.function;
      Finding finding;
      finding.kind = "bad_argument";
      finding.text = function_of(report_.own->function) + " calls " + function + ": argument " + std::to_string(i + 1) +
                     " (" + argument.where + (argument.name.empty() ? "" : ", " + argument.name) + ") is " + problem;
      finding.function = report_.own->function;
      finding.file = report_.own->file;
      finding.line = report_.own->line;
      finding.address = row.address;
      report_.findings.insert(report_.findings.begin(), std::move(finding));
      report_.bad = FaultReport::Bad{call.address, argument.part, argument.place, argument.bytes};
      return;
    }
  }

  /// A place without what comes after the function's name.
  static std::string function_of(const std::string& place) {
    const std::size_t plus = place.rfind("+0x");
    return plus != std::string::npos ? place.substr(0, plus) : place;
  }

  [[nodiscard]] std::string problem_of(const Argument& argument) const {
    using Use = abi::Prototype::Use;
    const std::uint64_t value = argument.value->number;
    const bool writes = argument.use == Use::writes || argument.use == Use::both;
    const bool used = argument.use != Use::none && argument.use != Use::place && argument.use != Use::gives_back;
    const AccessKind access = writes                      ? AccessKind::write
                              : argument.use == Use::call ? AccessKind::execute
                                                          : AccessKind::read;
    const char* does = writes                      ? "the function writes through it"
                       : argument.use == Use::call ? "the function calls it"
                                                   : "the function reads there";
    if (argument.extent && *argument.extent == 0) return {};
    const AddressFault fault = space_.fault_of(value, access, value);
    if (!fault.kind.empty()) {
      // Of an argument whose use is not known, only what the fault came to tells that it was used.
      constexpr std::uint64_t kNear = 0x1000;
      const bool same = report_.signal.fault_address_known && report_.signal.fault_address - value < kNear;
      if (!used && !same) return {};
      const std::string what =
          fault.looks.empty() ? address_text(value) + ": " + fault.lies : space_.pointer_words(value, fault);
      return what + (used ? ", and " + std::string(does) : std::string());
    }
    if (!used || !argument.extent || !report_.signal.fault_address_known) return {};
    const std::uint64_t reached = report_.signal.fault_address - value;
    if (reached >= *argument.extent) return {};
    return address_text(value) + ", with " + std::to_string(*argument.extent) + " bytes to be " +
           (writes ? "written" : "read") + ": after " + std::to_string(reached) + " bytes nothing more could be " +
           (writes ? "written" : "read");
  }

  // ---- others ----

  void division() {
    const Foresight next = foresee(modules_, view_);
    std::vector<std::string> evidence;
    for (const Foresight::Operand& one : next.operands) {
      if (!one.value) continue;
      evidence.push_back(one.text + (one.name.empty() ? "" : ", " + one.name + ",") + " is " +
                         std::to_string(signed_of(*one.value, one.bits)));
    }
    constexpr std::string_view kWill = "will fault: ";
    std::string words = next.verdict.starts_with(kWill) ? next.verdict.substr(kWill.size()) : report_.code;
    const bool zero = words.find("by zero") != std::string::npos && report_.signal.code == FPE_INTDIV;
    const bool real = report_.signal.code != FPE_INTDIV && report_.signal.code != FPE_INTOVF;
    if (zero && instruction_) {
      std::string kind;
      const isa::Operand divisor = isa::operands_of(instruction_)[0];
      if (divisor.kind == isa::Operand::Kind::reg) {
        report_.bad = FaultReport::Bad{report_.address, divisor.reg, 0, 0};
        add_source(divisor.reg, evidence, kind);
      } else {
        const std::uint64_t after = report_.address + instruction_.length;
        report_.bad = FaultReport::Bad{report_.address,
                                       {},
                                       state::address_of(divisor.memory(), view_.registers(), after, divisor.width),
                                       divisor.width / 8U};
      }
      for (const Foresight::Operand& one : next.operands) {
        if (!one.address || one.name.empty()) continue;
        const ValueTrail trail = trail_of(modules_, view_, frames_, one.name);
        evidence.insert(evidence.end(), trail.words.begin(), trail.words.end());
      }
    }
    add(zero   ? "division_by_zero"
        : real ? "floating_point"
               : "division_overflow",
        "`" + report_.instruction + "`: " + words, std::move(evidence));
  }

  /// The first of those where the program stands.
  [[nodiscard]] std::string bytes_text() const {
    constexpr std::size_t kShown = 8;
    std::string text;
    for (std::size_t i = 0; i < std::min(bytes_.size(), kShown); ++i) {
      if (i != 0) text += ' ';
      text += "0123456789abcdef"[bytes_[i] >> 4];
      text += "0123456789abcdef"[bytes_[i] & 15];
    }
    return text;
  }

  void invalid() {
    if (!instruction_)
      return add("no_instruction",
                 "the bytes " + bytes_text() +
                     " are no instruction: the program went to data, or into the middle of an instruction");
    if (isa::operation_of(instruction_).meaning == isa::meaning::invalid)
      return add("never_reached",
                 "`" + report_.instruction +
                     "` is always invalid: compilers put it where control must "
                     "not come, such as after a check that failed or at the end of a function without a return");
    add("not_this_processor", "this processor cannot execute `" + report_.instruction + "`; it needs " +
                                  std::string(isa::feature_of(isa::row_of(instruction_))));
  }

  void system_call() {
    const std::uint64_t number = view_.registers()[Reg::rax];
    add_at_own({"refused_system_call",
                "a filter refused the system call " + abi::call_name(number, table_of_call(view_)),
                {"the number is " + std::to_string(number)},
                {},
                {},
                0,
                0});
  }

  /// What was not brought about by the instruction at hand belongs to the developer's own line.
  void add_at_own(Finding finding) {
    if (report_.own && finding.address == 0) {
      finding.address = report_.frames[report_.own->frame].address;
      finding.function = report_.own->function;
      finding.file = report_.own->file;
      finding.line = report_.own->line;
    }
    add(std::move(finding));
  }

  void sent() {
    add_at_own({"sent",
                abi::signal_name(report_.signal.number) +
                    " was sent, by the program itself or by another; no instruction brought it about",
                {},
                {},
                {},
                0,
                0});
  }

  const state::Target& target_;
  Modules& modules_;
  const state::StateView& view_;
  AddressSpace space_;
  isa::Instruction instruction_;
  std::vector<std::uint8_t> bytes_;  ///< where it stands
  isa::MemoryRecipe recipe_;         ///< of the operand that came to the address
  std::vector<inspect::Frame> frames_;
  FaultReport report_;
};

}  // namespace

std::vector<Finding> fault_findings(const state::Target& target, Modules& modules, state::ThreadId thread) {
  const auto signal = target.pending_signal(thread);
  if (!signal) return {};
  const bool by_program = signal->is_fault() || signal->number == SIGABRT || signal->number == SIGSYS;
  return by_program ? explain_fault(target, modules, thread, *signal).findings : std::vector<Finding>();
}

FaultReport explain_fault(const state::Target& target, Modules& modules, state::ThreadId thread,
                          const state::PendingSignal& signal) {
  return Examiner(target, modules, thread, signal).run();
}

}  // namespace deeptrace::look
