#include "session/steps.h"

#include <algorithm>
#include <array>
#include <climits>
#include <csignal>
#include <cstdlib>
#include <cstring>
#include <map>
#include <memory>
#include <unordered_map>
#include <vector>

#include "abi/signal_names.h"
#include "abi/system_calls.h"
#include "control/followed_thread.h"
#include "control/program_to_run.h"
#include "isa/effects.h"
#include "isa/operand.h"
#include "isa/text.h"
#include "look/loader.h"
#include "look/modules.h"
#include "look/scope.h"
#include "process/attention.h"
#include "process/kernel_registers.h"
#include "process/maps.h"
#include "process/same_processor.h"
#include "process/snapshot.h"
#include "session/shadow.h"
#include "state/touched.h"

namespace deeptrace::session {
namespace {

using isa::ControlFlow;
using Stop = control::FollowedStop;
using state::Delta;
using state::kTrapFlag;
using state::Reg;
using state::RegisterSet;

constexpr std::uint64_t kMostFollowed = std::uint64_t(64) << 20;  // bytes of one instruction's memory

/// Memory that an instruction writes or reads, as a recipe.
struct Access {
  isa::MemoryRecipe recipe;
  std::uint16_t width = 0;  ///< bits
};

/// What is known of an instruction once, for all the times that it runs.
struct Code {
  isa::Instruction instruction;
  isa::Mode mode = isa::Mode::bits64;
  std::uint8_t length = 1;  ///< bytes, of both for a pair
  std::string text;
  std::string text_into_other_mode;  ///< for far transfers that led to code of the other width
  std::string function;
  std::uint64_t function_start = 0;
  std::string_view file;
  std::uint32_t line = 0;
  std::string target_name;
  std::string target_text;
  ControlFlow flow = ControlFlow::next;
  bool writes_memory = false;
  bool touches_vector = false;
  bool beyond_compared = false;  ///< changes registers that are not compared: wide vectors, masks, the x87 unit
  bool repeated = false;
  bool flag_image = false;
  bool plain = false;  ///< nothing about it needs more than registers and memory compared
  std::vector<Access> writes, reads;
  std::unique_ptr<Code> shadowed;  ///< the next instruction, which runs before a step can stop
};

/// Registers are compared to xmm15 and mxcsr; what else an instruction changes is said not to be shown.
bool changes_beyond_compared(const isa::Effects& effects) {
  if (effects.touches_x87) return true;
  for (unsigned i = 0; i < effects.register_count; ++i) {
    const isa::RegisterEffect& effect = effects.registers[i];
    if (!isa::writes(effect.access)) continue;
    using isa::RegisterFile;
    const RegisterFile file = effect.part.file;
    if (file == RegisterFile::mask || file == RegisterFile::tile || file == RegisterFile::bound) return true;
    if (file == RegisterFile::vector && (effect.part.width > 128 || effect.part.index >= 16)) return true;
  }
  return false;
}

/// A memory change that waits to be read back.
struct Written {
  Delta* delta = nullptr;
  state::MemoryChange* change = nullptr;
  std::size_t piece = 0;  ///< of the batched read
  std::size_t at = 0;     ///< place in the bytes that were read
};

/// A row with the storage that it points into.
struct Recorded {
  StepRow row;
  Delta delta;
  const Code* code = nullptr;  ///< set while the row still has to be made of the registers below
  RegisterSet before, after;
  bool memory_waits = false;  ///< what its instruction left in memory has not been read yet
};

constexpr std::uint64_t kUnknown = ~std::uint64_t(0);

/// A stretch outside own code that is under way.
struct Away {
  RegisterSet before;
  std::string function;  ///< that it began in
};

/// A system call that is under way beside other threads.
struct Calling {
  RegisterSet before;
  const abi::SystemCall* call = nullptr;
  Delta planned;
};

/// A thread's way through own code.
struct Walk {
  pid_t thread = 0;
  state::VectorSet vectors;              ///< as they were after its last row
  std::vector<std::uint64_t> frames;     ///< stack addresses of the return addresses of calls under way
  std::uint64_t start_stack = kUnknown;  ///< the stack pointer where its rows began, if that was in own code
  int deliver = 0;                       ///< signal that goes along with the next motion
  bool done = false;                     ///< it has no more rows
  std::optional<Away> away;
  std::optional<Calling> calling;
};

class Stepper {
 public:
  Stepper(control::FollowedThread& followed, look::Modules& modules, const StepsRequest& request, StepsSink& sink)
      : followed_(followed), modules_(modules), request_(request), sink_(sink) {
    walks_.push_back(std::make_unique<Walk>());
    walk_ = walks_.back().get();
  }

  StepsSummary run(std::vector<std::uint64_t> to) {
    to_ = std::move(to);
    const std::uint64_t start = rip();
    // In code that is not own (where an attached program mostly stands) no function is under way that could return.
    if (modules_.is_own(start)) walk_->start_stack = followed_.registers()[Reg::rsp];
    walk_->vectors = process::vectors_of(followed_.thread());
    const std::string place = modules_.place_name(start);
    walk_->thread = followed_.thread();
    const bool randomised = process::is_randomised(followed_.process().pid());
    sink_.begin(
        {modules_.main().path, followed_.mode(), randomised, request_.all_threads, followed_.thread(), start, place});
    if (request_.all_threads) plant_entries();
    while (!finished_) {
      const bool own = modules_.is_own(rip());
      if (request_.all_threads && !(own && has_program_for_itself())) {
        next_of_all();
      } else if (is_target(rip()) && summary_.instructions != 0) {
        finish(StepsEnd::to);
      } else if (own) {
        if (walk_->start_stack == kUnknown) walk_->start_stack = followed_.registers()[Reg::rsp];
        request_.count&& summary_.instructions >= *request_.count ? finish(StepsEnd::count) : own_step();
        if (request_.all_threads) follow_away();
      } else {
        full_speed();
      }
    }
    flush();
    run_to_end();
    summary_.other_threads = followed_.other_threads_seen();
    sink_.end(summary_);
    return summary_;
  }

 private:
  [[nodiscard]] process::Memory& memory() { return followed_.process().memory(); }
  [[nodiscard]] const process::Memory& memory() const { return std::as_const(followed_).process().memory(); }
  [[nodiscard]] std::uint64_t rip() const { return followed_.registers()[Reg::rip]; }
  [[nodiscard]] bool is_target(std::uint64_t address) const {
    return std::find(to_.begin(), to_.end(), address) != to_.end();
  }

  void finish(StepsEnd why) {
    summary_.ended = why;
    finished_ = true;
  }

  /// The followed thread has no more rows; stepping ends with the last one.
  void finish_walk(StepsEnd why) {
    walk_->done = true;
    if (std::ranges::all_of(walks_, &Walk::done)) finish(why);
  }

  /// Stepping has ended, by choice: stop bytes go, and the program runs on to its end, an attached one alone.
  void run_to_end() {
    if (gone_) return;
    if (followed_.process().attached()) {
      followed_.process().deliver(followed_.thread(), walk_->deliver);
      followed_.process().detach();
      summary_.exit = {RunEnd::How::detached, 0};
      return;
    }
    memory().remove_all();
    int signal = walk_->deliver;
    for (;;) {
      const Stop stop = followed_.run(signal);
      if (stop.program_is_gone()) return ended(stop);
      signal = stop.kind == Stop::Kind::signal ? stop.number : 0;
    }
  }

  void ended(const Stop& stop) {
    gone_ = true;
    const RunEnd::How how = stop.kind == Stop::Kind::exited   ? RunEnd::How::exited
                            : stop.kind == Stop::Kind::let_go ? RunEnd::How::detached
                                                              : RunEnd::How::killed;
    summary_.exit = {how, stop.number};
    if (interrupted()) summary_.ended = StepsEnd::interrupt;
  }

  [[nodiscard]] static bool interrupted() { return process::Attention::asked() != process::Attention::Why::none; }

  /// There is no thread that an instruction could be told of.
  [[nodiscard]] static bool nothing_left(const Stop& stop) {
    return stop.program_is_gone() || stop.kind == Stop::Kind::ended || stop.kind == Stop::Kind::replaced;
  }

  // ---- what is known of the code ----------------------------------------------------------------------------------

  Code& code_at(std::uint64_t address) {
    const auto [place, added] = code_.try_emplace(address);
    Code& code = place->second;
    if (!added && code.mode == followed_.mode()) return code;
    code = {};
    code.mode = followed_.mode();
    describe(code, address);
    return code;
  }

  void describe(Code& code, std::uint64_t address) {
    std::uint8_t bytes[isa::kLongestInstruction] = {};
    const std::size_t size = memory().read(address, bytes);
    code.instruction = isa::decode({bytes, size}, code.mode);
    const look::Module* module = modules_.at(address);
    const std::uint64_t inside = address - module->bias;
    if (const program::Function* function = module->program->function_at(inside)) {
      code.function = function->name;
      code.function_start = function->address + module->bias;
    }
    if (const auto line = module->program->lines().at(inside)) {
      code.file = module->program->source_path(*line);
      code.line = line->line;
    }
    if (!code.instruction) {
      isa::Text text;
      text.add(".byte ");
      text.add_hex(bytes[0]);
      code.text = text.view();
      code.touches_vector = true;
      return;
    }
    describe_instruction(code, address, *module);
  }

  void describe_instruction(Code& code, std::uint64_t address, const look::Module& module) {
    const isa::Instruction& instruction = code.instruction;
    code.length = instruction.length;
    code.text = isa::text_of(instruction, address, isa::Syntax::intel).view();
    code.flow = isa::flow_of(instruction);
    const isa::Effects effects = isa::effects_of(instruction);
    code.writes_memory = effects.writes_memory || effects.unknown_memory;
    code.touches_vector = effects.touches_vector;
    code.repeated = isa::is_repeated(instruction);
    code.flag_image = (isa::row_of(instruction).traits & isa::kFlagImage) != 0;
    code.beyond_compared = changes_beyond_compared(effects);
    bool exact = !effects.unknown_memory;
    for (const isa::Operand& operand : isa::operands_of(instruction)) {
      if (operand.kind != isa::Operand::Kind::memory) continue;
      if (isa::reads(operand.access)) code.reads.push_back({operand.memory(), operand.width});
      if (!isa::writes(operand.access)) continue;
      if (operand.width != 0) code.writes.push_back({operand.memory(), operand.width});
      exact &= !operand.unknown_size && !operand.recipe.has_vector_index();
    }
    code.plain = exact && !code.touches_vector && !code.repeated && !code.flag_image &&
                 code.flow != ControlFlow::trap && code.flow != ControlFlow::system;
    code.text_into_other_mode =
        code.text + (code.mode == isa::Mode::bits64 ? "; 32-bit code follows" : "; 64-bit code follows");
    std::uint64_t target = 0;
    if (isa::direct_target(instruction, address, target) || isa::fixed_memory_address(instruction, address, target)) {
      program::Reference reference = module.program->reference(target - module.bias);
      code.target_name = std::move(reference.name);
      code.target_text = std::move(reference.text);
    }
    if ((isa::row_of(instruction).traits & isa::kShadow) == 0) return;
    code.shadowed = std::make_unique<Code>();
    code.shadowed->mode = code.mode;
    describe(*code.shadowed, address + instruction.length);
    code.text += "; " + code.shadowed->text;
    code.length = static_cast<std::uint8_t>(code.length + code.shadowed->length);
    code.flow = code.shadowed->flow;
    code.touches_vector |= code.shadowed->touches_vector;
    code.plain = false;
  }

  // ---- rows -------------------------------------------------------------------------------------------------------

  /// Room for the next row; those before it may still wait for their memory.
  Recorded& open_slot() {
    if (waiting_ + 1 == kQueue) settle_waiting();
    Recorded& recorded = rows_[waiting_];
    recorded.delta.clear();
    recorded.code = nullptr;
    return recorded;
  }

  Recorded& open_row(StepRow::Kind kind) {
    Recorded& recorded = open_slot();
    start_row(recorded, kind);
    return recorded;
  }

  void start_row(Recorded& recorded, StepRow::Kind kind) {
    recorded.row = StepRow{};
    recorded.row.kind = kind;
    recorded.row.thread = followed_.thread();
    recorded.row.address = rip();
    recorded.row.delta = &recorded.delta;
    recorded.row.mode = followed_.mode();
  }

  void place(StepRow& row, const Code& code) {
    row.function = code.function;
    row.offset = row.address - code.function_start;
    row.file = code.file;
    row.line = code.line;
    row.text = code.text;
    row.target_name = code.target_name;
    row.target_text = code.target_text;
    row.flow = code.flow;
    row.mode = code.mode;
    row.registers_followed = !code.beyond_compared;
  }

  /// Queues a finished row. Only rows of single instructions may wait; the text of others does not live as long.
  void close_row(Recorded& recorded) {
    ++summary_.rows;
    if (recorded.row.kind == StepRow::Kind::instruction) ++summary_.instructions;
    recorded.memory_waits = recorded.row.kind == StepRow::Kind::instruction && !recorded.delta.memory.empty();
    ++waiting_;
    if (recorded.row.kind != StepRow::Kind::instruction || !followed_.alone()) settle_waiting();
  }

  /// Reads, in one call to the kernel, what the instructions of the waiting rows left in memory. No two of them wrote
  /// to the same place (see prepare), so what is there now is what each one left. Places close to each other are read
  /// as one, since the kernel's work is by piece.
  void read_back() {
    constexpr std::uint64_t kClose = 512;
    written_.clear();
    for (; unread_ < waiting_; ++unread_) {
      Recorded& recorded = rows_[unread_];
      if (!recorded.memory_waits) continue;
      for (state::MemoryChange& change : recorded.delta.memory) written_.push_back({&recorded.delta, &change});
    }
    if (written_.empty()) return;
    std::sort(written_.begin(), written_.end(),
              [](const Written& a, const Written& b) { return a.change->address < b.change->address; });
    requests_.clear();
    std::size_t size = 0;
    for (Written& written : written_) {
      const std::uint64_t address = written.change->address;
      const bool joins = !requests_.empty() && address - requests_.back().address - requests_.back().got < kClose;
      if (!joins) requests_.push_back({address, {}, 0});
      // Until the read, `got` holds the size of the piece, which ends with this place.
      size -= requests_.back().got;
      written.at = size + (address - requests_.back().address);
      requests_.back().got = address - requests_.back().address + written.change->size;
      size += requests_.back().got;
      written.piece = requests_.size() - 1;
    }
    if (read_.size() < size) read_.resize(size);
    std::size_t at = 0;
    for (state::MemoryRequest& request : requests_) {
      request.into = {read_.data() + at, request.got};
      at += std::exchange(request.got, 0);
    }
    memory().read(requests_, state::Provenance::program);
    for (const Written& written : written_) {
      state::MemoryChange& change = *written.change;
      const state::MemoryRequest& piece = requests_[written.piece];
      change.after_known = change.address - piece.address + change.size <= piece.got;
      if (!change.after_known) continue;
      std::memcpy(written.delta->after(change), read_.data() + written.at, change.size);
      shadow_.write(change.address, {read_.data() + written.at, change.size});
    }
  }

  /// Sends the waiting rows, in order.
  void settle_waiting() {
    read_back();
    for (std::size_t i = 0; i < waiting_; ++i) {
      if (rows_[i].code != nullptr) finish_plain(rows_[i]);
      rows_[i].row.number = ++sent_;
      sink_.row(rows_[i].row);
    }
    waiting_ = unread_ = 0;
  }

  /// Makes the row of a plain instruction from the registers around it. This is left to the end because a step's
  /// switches between processes leave our caches cold; a batch of rows warms them once.
  void finish_plain(Recorded& recorded) {
    StepRow& row = recorded.row;
    row = StepRow{};
    row.thread = followed_.thread();
    row.address = recorded.before[Reg::rip];
    row.delta = &recorded.delta;
    place(row, *recorded.code);
    recorded.delta.compare(recorded.before, recorded.after);
    if (row.flow == ControlFlow::conditional)
      row.taken = recorded.after[Reg::rip] != row.address + recorded.code->length;
    name_mode(row, *recorded.code, recorded.after);
  }

  /// A far transfer to a code segment of the other width says so.
  static void name_mode(StepRow& row, const Code& code, const RegisterSet& after) {
    if (state::mode_of(after) != code.mode) row.text = code.text_into_other_mode;
  }

  /// True when a place that is about to be written has not been read back yet.
  [[nodiscard]] bool overlaps_unread(const Delta& delta) const {
    for (const state::MemoryChange& change : delta.memory) {
      for (std::size_t i = unread_; i < waiting_; ++i) {
        for (const state::MemoryChange& other : rows_[i].delta.memory) {
          if (change.address < other.address + other.size && other.address < change.address + change.size) return true;
        }
      }
    }
    return false;
  }

  /// Finds what stands where the instruction of the open row is about to write.
  void prepare(Delta& delta) {
    if (delta.memory.empty()) return;
    if (overlaps_unread(delta)) read_back();
    for (state::MemoryChange& change : delta.memory) {
      const std::span<std::uint8_t> before(delta.before(change), change.size);
      if (followed_.alone() && shadow_.read(change.address, before)) continue;
      change.before_known = memory().read(change.address, before) == change.size;
    }
  }

  /// Before anything but a step: sends all rows, and forgets what is known of memory, since somebody else is about to
  /// write it.
  void flush() {
    processor_.apart();
    settle_waiting();
    shadow_.forget();
  }

  // ---- one instruction of own code --------------------------------------------------------------------------------

  /// Another end of a turn than an instruction: nothing was executed.
  void without_step(const Stop& stop) {
    switch (stop.kind) {
      case Stop::Kind::signal: return deliver(stop.number);
      case Stop::Kind::ended: return finish_walk(StepsEnd::thread_end);
      case Stop::Kind::replaced: return finish(StepsEnd::replaced);
      case Stop::Kind::exited:
      case Stop::Kind::killed:
      case Stop::Kind::let_go:
        // Gone in the middle: by a signal that was waiting, or killed from outside.
        ended(stop);
        return finish(interrupted() ? StepsEnd::interrupt : StepsEnd::program_end);
      default: break;
    }
  }

  void own_step() {
    if (const Stop stop = followed_.others_turn(); stop.kind != Stop::Kind::stepped) return without_step(stop);
    if (followed_.loader_came()) on_loader();
    Code& code = code_at(rip());
    code.flow == ControlFlow::system ? system_step(code) : step_here(code);
  }

  void step_here(Code& code) {
    if (followed_.alone()) processor_.together();
    Recorded& recorded = open_slot();
    bool followed = static_cast<bool>(code.instruction);
    const RegisterSet before = followed_.registers();
    if (code.plain) {
      for (const Access& write : code.writes) add_write(recorded, code, write, before);
    } else {
      followed &= add_writes(recorded, code);
    }
    prepare(recorded.delta);
    uncover_reads(code, before);
    if (code.plain && walk_->deliver == 0) {
      const Stop stop = followed_.step(0, true);
      cover_reads();
      if (stop.kind == Stop::Kind::stepped && followed_.alone() && !code_changed_)
        return queue_plain(recorded, code, before);
      start_row(recorded, StepRow::Kind::instruction);
      recorded.row.address = before[Reg::rip];
      place(recorded.row, code);
      return settle(recorded, code, before, stop);
    }
    start_row(recorded, StepRow::Kind::instruction);
    place(recorded.row, code);
    recorded.row.memory_followed = followed;
    const Stop stop = code.repeated ? step_repeated(before[Reg::rip] + code.length)
                                    : followed_.step(std::exchange(walk_->deliver, 0));
    cover_reads();
    settle(recorded, code, before, stop);
  }

  /// Stop bytes that the instruction is about to read give way to the program's own.
  void uncover_reads(const Code& code, const RegisterSet& registers) {
    if (memory().stops().empty()) return;
    if (code.plain) {
      for (const Access& read : code.reads)
        uncover(state::address_of(read.recipe, registers, registers[Reg::rip] + code.length, read.width),
                read.width / 8U);
      return;
    }
    if (!code.instruction) return;
    RegisterSet at = registers;
    at[Reg::rip] += code.shadowed ? code.instruction.length : 0;
    const Code& reader = code.shadowed ? *code.shadowed : code;
    for (const state::TouchedRange& range : state::touched_by(reader.instruction, at)) {
      if (isa::reads(range.access)) uncover(range.address, range.size);
    }
  }

  void uncover(std::uint64_t address, std::uint64_t size) {
    const std::map<std::uint64_t, std::uint8_t>& all = memory().stops().all();
    if (address > all.rbegin()->first || address + size <= all.begin()->first) return;
    for (auto stop = all.lower_bound(address); stop != all.end() && stop->first - address < size; ++stop) {
      memory().uncover(stop->first);
      uncovered_.push_back(stop->first);
    }
  }

  void cover_reads() {
    for (const std::uint64_t address : uncovered_) {
      if (!gone_) memory().cover(address);
    }
    uncovered_.clear();
  }

  /// Room for one range of a plain instruction.
  void add_write(Recorded& recorded, const Code& code, const Access& write, const RegisterSet& registers) {
    const std::uint64_t next = registers[Reg::rip] + code.length;
    const std::uint64_t address = state::address_of(write.recipe, registers, next, write.width);
    recorded.delta.add_memory(address, write.width / 8U);
    if (modules_.is_own(address)) code_changed_ = true;
  }

  void queue_plain(Recorded& recorded, const Code& code, const RegisterSet& before) {
    recorded.code = &code;
    recorded.before = before;
    recorded.after = followed_.registers();
    recorded.memory_waits = !recorded.delta.memory.empty();
    ++summary_.rows;
    ++summary_.instructions;
    ++waiting_;
    if (code.flow == ControlFlow::call || code.flow == ControlFlow::return_)
      follow_frames(code.flow, before, recorded.after);
  }

  /// Room for every range that the instruction is about to write; false when that is too much to follow.
  bool add_writes(Recorded& recorded, const Code& code) {
    const Code& writer = code.shadowed ? *code.shadowed : code;
    if (!writer.writes_memory) return true;
    bool followed = true;
    RegisterSet registers = followed_.registers();
    registers[Reg::rip] += code.shadowed ? code.instruction.length : 0;
    const state::Touched touched = state::touched_by(writer.instruction, registers);
    followed = touched.complete;
    for (const state::TouchedRange& range : touched) {
      if (!isa::writes(range.access)) continue;
      if (range.size > kMostFollowed) {
        followed = false;
      } else {
        recorded.delta.add_memory(range.address, range.size);
      }
      if (modules_.is_own(range.address)) code_changed_ = true;
    }
    return followed;
  }

  /// All repetitions at once: a stop byte behind the instruction instead of a step for each.
  Stop step_repeated(std::uint64_t next) {
    const std::uint64_t at = rip();
    Stop stop = followed_.step(std::exchange(walk_->deliver, 0));
    if (stop.kind != Stop::Kind::stepped || rip() != at) return stop;
    const bool here = memory().is_planted(at);
    const bool behind = memory().is_planted(next);
    if (here) memory().remove(at);
    if (!memory().plant(next)) return stop;
    stop = followed_.run_alone();
    if (!stop.program_is_gone()) {
      if (!behind) memory().remove(next);
      if (here) memory().plant(at);
    }
    if (stop.kind == Stop::Kind::stop_byte) stop.kind = Stop::Kind::stepped;
    return stop;
  }

  /// Completes the row from the state after the step, and goes on from there.
  void settle(Recorded& recorded, const Code& code, const RegisterSet& before, const Stop& stop) {
    StepRow& row = recorded.row;
    if (nothing_left(stop)) return without_step(stop);
    const RegisterSet& after = followed_.registers();
    const bool moved = after[Reg::rip] != before[Reg::rip];
    const bool interrupted = stop.kind == Stop::Kind::signal && !moved;
    if (interrupted && !stop.by_instruction && after == before) return deliver(stop.number);
    row.completed = !interrupted;
    if (interrupted && stop.by_instruction) {
      row.signal = stop.number;
      row.fault_address = stop.fault_address;
      if (!stop.fault_address_known) row.fault_address = operand_address(code, before);
      if (!code.repeated) recorded.delta.memory.clear();
    }
    recorded.delta.compare(before, after);
    if (code.repeated) trim_repetitions(recorded, code, before, after);
    if (code.touches_vector) compare_vectors(recorded);
    if (code.flow == ControlFlow::conditional) row.taken = after[Reg::rip] != before[Reg::rip] + code.length;
    name_mode(row, code, after);
    const bool completed = row.completed;
    const bool ordinary =
        completed && row.memory_followed && !code.repeated && !code.flag_image && static_cast<bool>(code.instruction);
    const ControlFlow flow = code.flow;
    close_row(recorded);
    if (!ordinary || code_changed_) {
      settle_waiting();
      shadow_.forget();
    }
    if (std::exchange(code_changed_, false)) code_.clear();
    if (completed) follow_frames(flow, before, after);
    if (stop.kind == Stop::Kind::signal && !finished_) deliver(stop.number);
  }

  /// The address of the memory operand; the kernel does not know it for addresses that no program can have and for
  /// operands that are not aligned.
  static std::uint64_t operand_address(const Code& code, const RegisterSet& before) {
    const state::Touched touched = state::touched_by(code.instruction, before);
    return touched.count != 0 ? touched.begin()->address : 0;
  }

  void trim_repetitions(Recorded& recorded, const Code& code, const RegisterSet& before, const RegisterSet& after) {
    const unsigned bits = code.instruction.address_size * 8U;
    const isa::RegisterPart counter{isa::RegisterFile::general, isa::kRcx, 0, static_cast<std::uint16_t>(bits)};
    const std::uint64_t whole = value_of(before, counter);
    const std::uint64_t done = whole - value_of(after, counter);
    recorded.row.repetitions = done;
    if (done == whole || whole == 0) return;
    for (state::MemoryChange& change : recorded.delta.memory) {
      // Fewer repetitions than planned: the bytes behind them were not written. The halves of the storage move along.
      const std::uint64_t size = change.size / whole * done;
      const bool downwards = (before[Reg::rflags] & 0x400) != 0;
      const std::uint64_t skip = downwards ? change.size - size : 0;
      std::uint8_t* bytes = recorded.delta.bytes.data() + change.at;
      std::memmove(bytes, bytes + skip, size);
      change.address += skip;
      change.size = size;
    }
    std::erase_if(recorded.delta.memory, [](const state::MemoryChange& change) { return change.size == 0; });
  }

  void compare_vectors(Recorded& recorded) {
    const state::VectorSet now = process::vectors_of(followed_.thread());
    recorded.delta.compare(walk_->vectors, now);
    walk_->vectors = now;
  }

  /// Keeps account of the return addresses that calls left on the stack, to know the starting function's return.
  void follow_frames(ControlFlow flow, const RegisterSet& before, const RegisterSet& after) {
    if (flow == ControlFlow::call) {
      walk_->frames.push_back(after[Reg::rsp]);
    } else if (flow == ControlFlow::return_) {
      const std::uint64_t slot = before[Reg::rsp];
      const auto found = std::find(walk_->frames.rbegin(), walk_->frames.rend(), slot);
      if (found != walk_->frames.rend()) {
        walk_->frames.erase(found.base() - 1, walk_->frames.end());
      } else if (slot >= walk_->start_stack) {
        finish_walk(StepsEnd::returned);
      }
    }
  }

  // ---- system calls -----------------------------------------------------------------------------------------------

  /// The call that an instruction asks the kernel for: `int 0x80` has the numbers of 32-bit programs in every mode.
  static const abi::SystemCall* call_of(const Code& code, const RegisterSet& registers) {
    constexpr std::int64_t kKernelGate = 0x80;
    if ((isa::row_of(code.instruction).traits & isa::kGate) == 0)
      return abi::system_call(registers[Reg::rax], abi::call_table(code.mode));
    const bool kernel = isa::operands_of(code.instruction)[0].value == kKernelGate;
    return kernel ? abi::system_call(registers[Reg::rax] & 0xffffffff, abi::CallTable::i386) : nullptr;
  }

  void system_step(Code& code) {
    flush();
    const RegisterSet before = followed_.registers();
    const abi::SystemCall* call = call_of(code, before);
    const bool snapshot_needed = call == nullptr || !call->outputs_known;
    std::optional<process::Snapshot> snapshot;
    if (snapshot_needed) snapshot = process::Snapshot::take(followed_.process());
    Delta planned;
    if (!snapshot_needed) plan_outputs(*call, before, planned);
    Recorded& recorded = open_row(StepRow::Kind::instruction);
    place(recorded.row, code);
    const Stop stop = followed_.step(std::exchange(walk_->deliver, 0), false, true);
    if (nothing_left(stop) && stop.kind != Stop::Kind::killed) {
      recorded.delta.flags_before = recorded.delta.flags_after = before[Reg::rflags];
      close_row(recorded);
    }
    if (nothing_left(stop)) return without_step(stop);
    settle(recorded, code, before, stop);
    kernel_row(code, call, planned, snapshot, followed_.registers()[Reg::rax]);
  }

  /// What the call may write, by the table, with the bytes that are there now.
  void plan_outputs(const abi::SystemCall& call, const RegisterSet& registers, Delta& planned) {
    for (unsigned i = 0; i < call.output_count; ++i) {
      const abi::KernelOutput& output = call.outputs[i];
      const std::uint64_t address = abi::argument(registers, output.argument, followed_.mode());
      // A call that returns how much it wrote takes the room in the argument behind the address.
      const std::uint64_t size =
          output.size != 0 ? output.size : abi::argument(registers, output.argument + 1U, followed_.mode());
      if (address == 0 || size == 0 || size > kMostFollowed) continue;
      state::MemoryChange& change = planned.add_memory(address, size);
      const std::size_t got = memory().read(address, {planned.before(change), size});
      change.before_known = got == size;
    }
  }

  void kernel_row(const Code& code, const abi::SystemCall* call, const Delta& planned,
                  const std::optional<process::Snapshot>& snapshot, std::uint64_t result) {
    const auto value =
        code.mode == isa::Mode::bits32 ? static_cast<std::int32_t>(result) : static_cast<std::int64_t>(result);
    const bool failed = value < 0 && value > -4096;
    Recorded& recorded = open_row(StepRow::Kind::kernel);
    recorded.row.address -= code.length;
    Delta& delta = recorded.delta;
    if (snapshot) {
      snapshot->add_changes(followed_.process(), delta);
      recorded.row.memory_followed = snapshot->complete();
    } else if (!failed) {
      for (std::size_t i = 0; i < planned.memory.size(); ++i)
        add_output(planned, planned.memory[i], call->outputs[i].size == 0 ? std::optional(result) : std::nullopt,
                   delta);
    }
    delta.flags_before = delta.flags_after = followed_.registers()[Reg::rflags];
    if (delta.memory.empty() && recorded.row.memory_followed) return;
    text_ = "the kernel wrote memory" + (call != nullptr ? " in " + std::string(call->name) : std::string());
    place(recorded.row, code);
    recorded.row.text = text_;
    recorded.row.flow = ControlFlow::next;
    close_row(recorded);
  }

  /// One output: as much as the call says it wrote, or a fixed size when anything in it changed.
  void add_output(const Delta& planned, const state::MemoryChange& plan, std::optional<std::uint64_t> result,
                  Delta& delta) {
    const std::uint64_t size = std::min(plan.size, result.value_or(plan.size));
    std::vector<std::uint8_t> now(size);
    if (size == 0 || memory().read(plan.address, now) != size) return;
    if (!result && std::memcmp(now.data(), planned.before(plan), size) == 0) return;
    state::MemoryChange& change = delta.add_memory(plan.address, size);
    change.before_known = plan.before_known;
    std::memcpy(delta.before(change), planned.before(plan), size);
    std::memcpy(delta.after(change), now.data(), size);
  }

  // ---- signals ----------------------------------------------------------------------------------------------------

  /// A signal is about to reach the thread. With a handler it is taken there, which is a row; otherwise it goes along
  /// with the next motion.
  void deliver(int signal) {
    if (!process::catches_signal(followed_.process().pid(), signal)) {
      walk_->deliver = signal;
      return;
    }
    flush();
    const process::Snapshot snapshot = process::Snapshot::take(followed_.process());
    const RegisterSet before = followed_.registers();
    Recorded& recorded = open_row(StepRow::Kind::signal);
    recorded.row.signal = signal;
    const Stop stop = followed_.step(signal);
    if (stop.kind == Stop::Kind::signal) walk_->deliver = stop.number;
    if (nothing_left(stop)) return without_step(stop);
    const RegisterSet& after = followed_.registers();
    recorded.delta.compare(before, after);
    snapshot.add_changes(followed_.process(), recorded.delta);
    recorded.row.memory_followed = snapshot.complete();
    compare_vectors(recorded);
    text_ = abi::signal_name(signal) + " arrived: the kernel called " + modules_.place_name(after[Reg::rip]);
    if (modules_.is_own(before[Reg::rip])) place(recorded.row, code_at(before[Reg::rip]));
    recorded.row.text = text_;
    recorded.row.target_name = {};
    recorded.row.target_text = {};
    recorded.row.flow = ControlFlow::next;
    close_row(recorded);
    walk_->frames.push_back(after[Reg::rsp]);
  }

  /// How many instructions take a thread from where a handler returns to back to where the signal came: the number of
  /// sigreturn or rt_sigreturn goes to the accumulator, then the kernel is called (sigreturn(2)); old frames of 32-bit
  /// programs have a word taken off first. 0: it stands at no such code.
  [[nodiscard]] unsigned signal_return_length() const {
    constexpr unsigned kMost = 3;
    std::uint8_t bytes[kMost * isa::kLongestInstruction] = {};
    Bytes code(bytes, memory().read(rip(), bytes));
    bool numbered = false;
    for (unsigned i = 1; i <= kMost; ++i) {
      const isa::Instruction instruction = isa::decode(code, followed_.mode());
      if (!instruction) return 0;
      code = code.subspan(instruction.length);
      if (isa::flow_of(instruction) == ControlFlow::system) return numbered ? i : 0;
      const isa::Operands operands = isa::operands_of(instruction);
      const isa::RegisterPart to = operands[0].reg;
      if (to.file != isa::RegisterFile::general || to.index != isa::kRax) return 0;
      const auto* call =
          operands.count == 2 && operands[1].kind == isa::Operand::Kind::immediate
              ? abi::system_call(static_cast<std::uint64_t>(operands[1].value), abi::call_table(followed_.mode()))
              : nullptr;
      numbered = call != nullptr && (call->name == "rt_sigreturn" || call->name == "sigreturn");
    }
    return 0;
  }

  /// Steps through it; the kernel restores all registers.
  void signal_return(unsigned length) {
    const RegisterSet before = followed_.registers();
    Recorded& recorded = open_row(StepRow::Kind::signal_return);
    for (unsigned i = 0; i < length; ++i) {
      const Stop stop = followed_.step();
      if (stop.kind == Stop::Kind::stepped) continue;
      if (nothing_left(stop)) return without_step(stop);
      if (stop.kind == Stop::Kind::signal) walk_->deliver = stop.number;
    }
    recorded.delta.compare(before, followed_.registers());
    compare_vectors(recorded);
    text_ = "the handler is done: the kernel went back to " + modules_.place_name(rip());
    recorded.row.text = text_;
    close_row(recorded);
    std::erase_if(walk_->frames,
                  [&](std::uint64_t slot) { return slot < before[Reg::rsp] && slot + word() >= before[Reg::rsp]; });
  }

  // ---- all threads ------------------------------------------------------------------------------------------------

  /// The next row of whichever thread comes to it. While any of them stands in own code they take turns, an instruction
  /// each; when none does they run at full speed until one comes back.
  void next_of_all() {
    flush();
    if (followed_.loader_came()) on_loader();
    const auto wanted = [this](const process::Event& event) { return has_row(event); };
    const bool calling = std::ranges::any_of(walks_, [](const auto& walk) { return walk->calling.has_value(); });
    const Stop stop = anybody_steps() ? followed_.next_in_turn(wanted) : followed_.run_all(calling, wanted);
    if (stop.program_is_gone() || stop.kind == Stop::Kind::replaced) return without_step(stop);
    if (stop.kind == Stop::Kind::loaded) return on_loader();
    walk_ = &walk_of(followed_.thread());
    if (walk_->done) return;
    if (stop.kind == Stop::Kind::ended) return end_of_thread(stop);
    if (walk_->calling) return end_of_call();
    if (walk_->away && modules_.is_own(rip())) return come_back();
    if (stop.kind == Stop::Kind::signal) return deliver(stop.number);
    if (is_target(rip()) && summary_.instructions != 0) return finish(StepsEnd::to);
    if (request_.count && summary_.instructions >= *request_.count) return finish(StepsEnd::count);
    if (walk_->start_stack == kUnknown) walk_->start_stack = followed_.registers()[Reg::rsp];
    Code& code = code_at(rip());
    if (code.flow == ControlFlow::system) return begin_call(code);
    step_here(code);
    follow_away();
  }

  /// True for the only thread, when it stands: it is stepped without turns.
  [[nodiscard]] bool has_program_for_itself() const {
    return followed_.alone() && std::as_const(followed_).process().stands(followed_.thread()) && !walk_->done &&
           !walk_->calling;
  }

  /// A thread's walk; null where it has had no row.
  [[nodiscard]] Walk* known_walk(pid_t thread) const {
    const auto known = std::ranges::find(walks_, thread, [](const auto& walk) { return walk->thread; });
    return known != walks_.end() ? known->get() : nullptr;
  }

  Walk& walk_of(pid_t thread) {
    if (Walk* known = known_walk(thread)) return *known;
    walks_.push_back(std::make_unique<Walk>());
    walks_.back()->thread = thread;
    if (followed_.process().has_thread(thread)) walks_.back()->vectors = process::vectors_of(thread);
    return *walks_.back();
  }

  /// True when a thread stands in own code; not one that waits in a system call.
  bool anybody_steps() {
    return std::ranges::any_of(followed_.process().threads(), [this](pid_t thread) {
      const Walk* walk = known_walk(thread);
      return (walk == nullptr || (!walk->done && !walk->calling)) && followed_.process().stands(thread) &&
             modules_.is_own(followed_.process().view(thread).registers()[Reg::rip]);
    });
  }

  /// Whether a thread's turn, its arrival from full speed, or the end of its system call is a row's.
  bool has_row(const process::Event& event) {
    using Kind = process::Event::Kind;
    const Walk* walk = known_walk(event.thread);
    if (walk != nullptr && walk->done) return false;
    if (event.kind == Kind::thread_ended) return walk != nullptr;
    const bool calling = walk != nullptr && walk->calling;
    if (event.kind == Kind::call_exit) {
      // One that was broken off begins again.
      const RegisterSet& now = followed_.process().view(event.thread).registers();
      return calling && !state::broken_off(static_cast<std::int64_t>(now[Reg::rax]));
    }
    if (event.kind == Kind::stop_byte) return true;
    const bool own = modules_.is_own(followed_.process().view(event.thread).registers()[Reg::rip]);
    return (event.kind == Kind::about_to_step || event.kind == Kind::signal) && own && !calling;
  }

  void end_of_thread(const Stop& stop) {
    if (!walk_->away) return finish_walk(StepsEnd::thread_end);
    Recorded& recorded = open_row(StepRow::Kind::full_speed);
    const std::string name = walk_->away->function;
    recorded.row.thread = walk_->thread;
    recorded.row.function = name;
    recorded.row.memory_followed = false;
    full_speed_without_return(recorded, name, stop);
  }

  /// Where the thread has left own code, what it does there is one row, when it comes back. The end of a handler leads
  /// back at once, to where nothing stands that would hold it.
  void follow_away() {
    if (finished_ || walk_->done || modules_.is_own(rip())) return;
    if (const unsigned length = signal_return_length(); length != 0) signal_return(length);
    if (finished_ || walk_->done || modules_.is_own(rip())) return;
    walk_->away = Away{followed_.registers(), modules_.place_name(rip())};
    if (const std::uint64_t back = return_address(); back != 0) memory().plant(back);
  }

  void come_back() {
    const Away away = *std::exchange(walk_->away, std::nullopt);
    Recorded& recorded = open_row(StepRow::Kind::full_speed);
    recorded.row.address = away.before[Reg::rip];
    recorded.row.function = away.function;
    recorded.row.memory_followed = false;
    recorded.delta.compare(away.before, followed_.registers());
    compare_vectors(recorded);
    text_ = full_speed_text(away.function, {.kind = Stop::Kind::stop_byte});
    recorded.row.text = text_;
    close_row(recorded);
    arrive({.kind = Stop::Kind::stop_byte});
  }

  /// Other threads go on while the kernel works for this one, so that their writes cannot be told from the kernel's by
  /// comparing all memory.
  void begin_call(const Code& code) {
    walk_->calling.emplace();
    walk_->calling->before = followed_.registers();
    walk_->calling->call = call_of(code, followed_.registers());
    const abi::SystemCall* call = walk_->calling->call;
    if (call != nullptr && call->outputs_known) plan_outputs(*call, followed_.registers(), walk_->calling->planned);
    followed_.process().deliver(followed_.thread(), std::exchange(walk_->deliver, 0));
  }

  void end_of_call() {
    const Calling calling = std::move(*std::exchange(walk_->calling, std::nullopt));
    const Code& code = code_at(calling.before[Reg::rip]);
    Recorded& recorded = open_row(StepRow::Kind::instruction);
    recorded.row.address = calling.before[Reg::rip];
    place(recorded.row, code);
    const bool known = calling.call != nullptr && calling.call->outputs_known;
    recorded.row.memory_followed = known;
    recorded.delta.compare(calling.before, followed_.registers());
    close_row(recorded);
    if (known) kernel_row(code, calling.call, calling.planned, std::nullopt, followed_.registers()[Reg::rax]);
    follow_away();
  }

  // ---- code that is not own ---------------------------------------------------------------------------------------

  /// Bytes of a slot of the stack.
  [[nodiscard]] std::size_t word() const { return arch::machine_of(followed_.mode()).word; }
  /// The slot's value; nothing where it cannot be read.
  [[nodiscard]] std::optional<std::uint64_t> slot_at(std::uint64_t address) const {
    std::uint8_t bytes[8] = {};
    if (memory().read(address, {bytes, word()}) != word()) return std::nullopt;
    return state::number_of(bytes, sizeof bytes);
  }

  void plant_entries() {
    if (planted_) return;
    planted_ = true;
    loader_ = look::loader_of(modules_.main(), followed_.view());
    if (loader_ && memory().plant(loader_->function)) followed_.watch_loader(loader_->function);
    plant_own();
    for (const std::uint64_t address : to_) memory().plant(address);
    // Own functions that wait for code that stepping began in.
    if (walk_->start_stack != kUnknown) return;
    for (const inspect::Frame& frame : look::frames_of(modules_, followed_.view())) {
      if (modules_.is_own(frame.address())) memory().plant(frame.address());
    }
  }

  void plant_own() {
    look::Modules::OwnEntries entries = modules_.own_entries();
    for (const std::uint64_t address : entries.all) memory().plant(address);
    handlers_ = std::move(entries.handlers);
  }

  /// Libraries come and go while the program runs.
  void on_loader() {
    if (!loader_ || !look::is_consistent(*loader_, followed_.view())) return;
    const look::Modules::Changes changes = modules_.refresh(followed_.process());
    if (changes.loaded.empty() && changes.unloaded.empty()) return;
    if (!changes.unloaded.empty()) forget_unmapped();
    code_.clear();
    plant_own();
  }

  /// Stop bytes that went with their library.
  void forget_unmapped() {
    std::vector<std::uint64_t> gone;
    for (const auto& [address, own] : memory().stops().all()) {
      if (modules_.at(address) == nullptr) gone.push_back(address);
    }
    for (const std::uint64_t address : gone) memory().remove(address);
  }

  /// Lets foreign code run until control comes back into own code, wherever that is: behind the call, at the entry of
  /// a function that is called back, at a landing pad, behind a setjmp.
  void full_speed() {
    flush();
    if (const unsigned length = signal_return_length(); length != 0) return signal_return(length);
    plant_entries();
    const RegisterSet before = followed_.registers();
    const std::string name = modules_.place_name(rip());
    if (const std::uint64_t back = return_address(); back != 0) memory().plant(back);
    Recorded& recorded = open_row(StepRow::Kind::full_speed);
    recorded.row.function = name;
    recorded.row.memory_followed = false;
    Stop stop = followed_.run(std::exchange(walk_->deliver, 0));
    for (;;) {
      if (stop.kind == Stop::Kind::loaded) {
        on_loader();
        stop = followed_.run();
      } else if (stop.kind == Stop::Kind::signal && !process::catches_signal(followed_.process().pid(), stop.number)) {
        stop = followed_.run(stop.number);
      } else {
        break;
      }
    }
    if (nothing_left(stop)) return full_speed_without_return(recorded, name, stop);
    const RegisterSet& after = followed_.registers();
    recorded.delta.compare(before, after);
    compare_vectors(recorded);
    text_ = full_speed_text(name, stop);
    recorded.row.text = text_;
    close_row(recorded);
    arrive(stop);
  }

  /// Where the code that was just entered by a call or jump will return to, if that is own code; 0 otherwise.
  [[nodiscard]] std::uint64_t return_address() const {
    if (walk_->frames.empty() || walk_->frames.back() != followed_.registers()[Reg::rsp]) return 0;
    const std::optional<std::uint64_t> address = slot_at(followed_.registers()[Reg::rsp]);
    return address && modules_.is_own(*address) ? *address : 0;
  }

  /// How control came back from code at full speed.
  enum class Arrival { returned, called, handler, elsewhere };

  /// The slot of a call under way that the stack pointer has just left; functions of 32-bit code may take arguments off
  /// with it. 0: none.
  [[nodiscard]] std::uint64_t returned_slot() const {
    const std::uint64_t stack = followed_.registers()[Reg::rsp];
    constexpr std::uint64_t kMostArguments = 64;  // bytes
    const std::uint64_t most = followed_.mode() == isa::Mode::bits32 ? kMostArguments : 0;
    for (auto slot = walk_->frames.rbegin(); slot != walk_->frames.rend(); ++slot) {
      if (*slot + word() <= stack && stack <= *slot + word() + most) return *slot;
    }
    return 0;
  }

  /// A return comes to the address that a call left in its slot, with the stack just above that slot.
  /// A handler can stand right behind the call that threw, so it is asked for first.
  Arrival arrival() {
    if (std::binary_search(handlers_.begin(), handlers_.end(), rip())) return Arrival::handler;
    const std::uint64_t slot = returned_slot();
    if (slot != 0 && slot_at(slot) == rip()) return Arrival::returned;
    const look::Module* module = modules_.at(rip());
    const program::Function* function =
        module != nullptr ? module->program->function_at(rip() - module->bias) : nullptr;
    return function != nullptr && function->address + module->bias == rip() ? Arrival::called : Arrival::elsewhere;
  }

  std::string full_speed_text(const std::string& name, const Stop& stop) {
    if (stop.kind == Stop::Kind::signal) return name + " ran until " + abi::signal_name(stop.number) + " came";
    switch (arrival()) {
      case Arrival::returned: return name + " ran and returned";
      case Arrival::called: return name + " ran until it called " + modules_.place_name(rip());
      case Arrival::handler:
        return name + " ran until an exception came to the handler at " + modules_.place_name(rip());
      case Arrival::elsewhere: break;
    }
    return name + " ran until control came to " + modules_.place_name(rip());
  }

  /// Settles the account of frames: a return takes its frame and all inner ones off, a call back adds one, a jump to
  /// an outer frame takes all inner ones off.
  void arrive(const Stop& stop) {
    if (stop.kind == Stop::Kind::signal) return deliver(stop.number);
    const std::uint64_t stack = followed_.registers()[Reg::rsp];
    switch (arrival()) {
      case Arrival::returned:
        walk_->frames.erase(std::find(walk_->frames.begin(), walk_->frames.end(), returned_slot()),
                            walk_->frames.end());
        break;
      case Arrival::called: walk_->frames.push_back(stack); break;
      case Arrival::handler:
      case Arrival::elsewhere:
        std::erase_if(walk_->frames, [&](std::uint64_t slot) { return slot < stack; });
        // Out of the starting function without a return: by longjmp or an exception.
        if (stack > walk_->start_stack && walk_->frames.empty()) finish_walk(StepsEnd::returned);
        break;
    }
  }

  void full_speed_without_return(Recorded& recorded, const std::string& name, const Stop& stop) {
    if (stop.program_is_gone()) ended(stop);
    if (summary_.ended == StepsEnd::interrupt && gone_) return finish(StepsEnd::interrupt);
    recorded.delta.flags_before = recorded.delta.flags_after = followed_.registers()[Reg::rflags];
    text_ = name + (stop.kind == Stop::Kind::replaced ? " ran and replaced the program by another"
                    : stop.kind == Stop::Kind::ended  ? " ran until the thread ended"
                                                      : " ran until the program ended");
    recorded.row.text = text_;
    recorded.row.completed = false;
    close_row(recorded);
    if (stop.kind == Stop::Kind::ended) return finish_walk(StepsEnd::thread_end);
    finish(stop.kind == Stop::Kind::replaced ? StepsEnd::replaced : StepsEnd::program_end);
  }

  control::FollowedThread& followed_;
  look::Modules& modules_;
  std::vector<std::unique_ptr<Walk>> walks_;  ///< of the threads that have rows
  Walk* walk_;                                ///< that of the followed thread
  const StepsRequest& request_;
  StepsSink& sink_;
  StepsSummary summary_;
  std::vector<std::uint64_t> to_;
  std::unordered_map<std::uint64_t, Code> code_;
  static constexpr std::size_t kQueue = 256;
  std::array<Recorded, kQueue> rows_;  ///< waiting rows in order, then the open one
  std::size_t waiting_ = 0;
  std::size_t unread_ = 0;  ///< the first of them whose memory has not been read back
  std::uint64_t sent_ = 0;  ///< rows given to the sink
  Shadow shadow_{followed_.process()};
  process::SameProcessor processor_{followed_.thread()};
  std::vector<Written> written_;
  std::vector<state::MemoryRequest> requests_;
  std::vector<std::uint8_t> read_;
  std::vector<std::uint64_t> uncovered_;  ///< stop bytes that are away for the instruction at hand
  std::optional<look::Loader> loader_;
  std::vector<std::uint64_t> handlers_;  ///< landing pads in own code, sorted
  std::string text_;                     ///< of the special row at hand
  bool planted_ = false;
  bool code_changed_ = false;
  bool finished_ = false;
  bool gone_ = false;
};

Error ended_early(const std::string& from, const Stop& stop) {
  const std::string how = stop.kind == Stop::Kind::exited ? "ended with status " + std::to_string(stop.number)
                                                          : "was ended by " + abi::signal_name(stop.number);
  return {Fault::program, "the program " + how + " before it came to " + from};
}

/// Runs to one of the addresses; nothing when it got there.
std::optional<Error> run_to(control::FollowedThread& followed, const std::vector<std::uint64_t>& addresses,
                            const std::string& name) {
  if (std::find(addresses.begin(), addresses.end(), followed.registers()[Reg::rip]) != addresses.end())
    return std::nullopt;
  process::Memory& memory = followed.process().memory();
  for (const std::uint64_t address : addresses) {
    if (!memory.plant(address)) return Error{Fault::usage, name + ": no memory at that address in the running program"};
  }
  int signal = 0;
  for (;;) {
    const Stop stop = followed.run(signal);
    if (stop.program_is_gone()) return ended_early(name, stop);
    if (stop.kind == Stop::Kind::replaced)
      return Error{Fault::program, "the program replaced itself by another before it came to " + name};
    if (stop.kind == Stop::Kind::stop_byte) break;
    signal = stop.kind == Stop::Kind::signal ? stop.number : 0;
  }
  memory.remove_all();
  return std::nullopt;
}

}  // namespace

std::string_view name_of(StepsEnd end) {
  constexpr std::string_view kNames[] = {"return", "to", "count", "end", "exec", "thread", "interrupt"};
  return kNames[static_cast<std::size_t>(end)];
}

namespace {

/// A program that stands where its libraries are mapped and nothing of its own has run, or where it was attached to.
struct Started {
  std::unique_ptr<control::FollowedThread> followed;
  std::optional<program::Program> program;
};

Result<Started> attached(const StepsRequest& request) {
  Result<std::unique_ptr<process::Process>> process = process::Process::attach(request.attach);
  if (!process) return process.error();
  Started started{std::make_unique<control::FollowedThread>(std::move(*process)), std::nullopt};
  Result<program::Program> program = control::program_to_run(process::executable_of(request.attach), request.open);
  if (!program) return program.error();
  started.program.emplace(std::move(*program));
  return started;
}

Result<Started> launched(const StepsRequest& request) {
  const Result<std::string> path = process::find_program(request.launch.program);
  if (!path) return path.error();
  Result<program::Program> program = control::program_to_run(*path, request.open);
  if (!program) return program.error();
  Result<std::unique_ptr<process::Process>> process = process::Process::launch(request.launch);
  if (!process) return process.error();
  Started started{std::make_unique<control::FollowedThread>(std::move(*process)), std::nullopt};
  started.program.emplace(std::move(*program));
  const std::uint64_t entry = started.followed->process().auxiliary(state::Auxiliary::entry).value_or(0);
  if (auto error = run_to(*started.followed, {entry}, "its entry")) return *error;
  return started;
}

/// To where stepping begins, with the thread that it follows.
std::optional<Error> go_to_start(const StepsRequest& request, control::FollowedThread& followed,
                                 look::Modules& modules) {
  const std::uint64_t number = request.thread;
  const auto no_thread = [&] {
    return Error{Fault::usage, "--thread " + std::to_string(number) + ": there is no such thread"};
  };
  if (request.attach != 0 && request.from.empty())
    return number == 0 || followed.follow(number) ? std::nullopt : std::optional(no_thread());
  const bool has_main = !modules.main().program->functions_named("main").empty();
  const std::string name = !request.from.empty() ? request.from : has_main ? "main" : "its entry";
  std::vector<std::uint64_t> from = {followed.registers()[Reg::rip]};
  if (!request.from.empty() || has_main) {
    Result<std::vector<std::uint64_t>> found = modules.resolve(name);
    if (!found) return found.error();
    from = std::move(*found);
  }
  followed.follow_first_of(number);
  if (auto error = run_to(followed, from, name)) return error;
  followed.follow_this();
  return std::nullopt;
}

}  // namespace

Result<StepsSummary> steps(const StepsRequest& request, StepsSink& sink) {
  Result<Started> started = request.attach != 0 ? attached(request) : launched(request);
  if (!started) return started.error();
  control::FollowedThread& followed = *started->followed;
  look::Modules modules(followed.process(), std::move(*started->program), request.open);
  std::vector<std::uint64_t> to;
  if (!request.to.empty()) {
    Result<std::vector<std::uint64_t>> found = modules.resolve(request.to);
    if (!found) return found.error();
    to = std::move(*found);
  }
  if (auto error = go_to_start(request, followed, modules)) return *error;
  return Stepper(followed, modules, request, sink).run(std::move(to));
}

}  // namespace deeptrace::session
