// Follows a program for `steps`: steps own code, runs everything else at full speed, and makes rows of both. See
// docs/architecture.md, "How steps follows a program".
#pragma once

#include <cstdint>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "control/call_surroundings.h"
#include "control/followed_thread.h"
#include "look/kernel_writes.h"
#include "look/loader.h"
#include "look/modules.h"
#include "process/attention.h"
#include "process/same_processor.h"
#include "process/snapshot.h"
#include "session/step_code.h"
#include "session/step_names.h"
#include "session/step_rows.h"
#include "session/steps.h"

namespace deeptrace::session {

inline constexpr std::uint64_t kUnknown = ~std::uint64_t(0);

/// A stretch outside own code that is under way.
struct Away {
  state::RegisterSet before;
  std::string function;  ///< that it began in
};

/// A system call that is under way beside other threads.
struct Calling {
  state::RegisterSet before;
  const abi::SystemCall* call = nullptr;
  look::KernelWrites planned;
  look::KernelCall asked;
};

/// A thread's way through own code.
struct Walk {
  pid_t thread = 0;
  state::ExtendedSet wide;               ///< as it was after its last row
  std::vector<std::uint64_t> frames;     ///< stack addresses of the return addresses of calls under way
  std::uint64_t start_stack = kUnknown;  ///< the stack pointer where its rows began, if that was in own code
  int deliver = 0;                       ///< signal that goes along with the next motion
  bool done = false;                     ///< it has no more rows
  std::optional<Away> away;
  std::optional<Calling> calling;
};

class Stepper {
 public:
  Stepper(control::FollowedThread& followed, look::Modules& modules, const StepsRequest& request, StepsSink& sink);
  /// Steps from where the thread stands, until one of the addresses, or another end; then the program runs on.
  StepsSummary run(std::vector<std::uint64_t> to);

 private:
  using Stop = control::FollowedStop;
  using ControlFlow = isa::ControlFlow;
  using Delta = state::Delta;
  using Reg = state::Reg;
  using RegisterSet = state::RegisterSet;

  [[nodiscard]] process::Memory& memory() { return followed_.process().memory(); }
  [[nodiscard]] const process::Memory& memory() const { return std::as_const(followed_).process().memory(); }
  [[nodiscard]] std::uint64_t rip() const { return followed_.registers()[Reg::rip]; }
  void know_callers();
  [[nodiscard]] bool is_target(std::uint64_t address) const;
  [[nodiscard]] Code& code_at(std::uint64_t address) { return code_.at(address, followed_.mode()); }
  void finish(StepsEnd why);
  /// The followed thread has no more rows; stepping ends with the last one.
  void finish_walk(StepsEnd why);
  /// Before anything but a step: sends all rows, and forgets what is known of memory, since somebody else is about to
  /// write it.
  void flush();
  /// Stepping has ended, by choice: stop bytes go, and the program runs on to its end, an attached one alone.
  void run_to_end();
  void ended(const Stop& stop);
  [[nodiscard]] static bool interrupted() { return process::Attention::asked() != process::Attention::Why::none; }
  /// There is no thread that an instruction could be reported of.
  [[nodiscard]] static bool nothing_left(const Stop& stop);

  // One instruction of own code.
  /// Another end of a turn than an instruction: nothing was executed.
  void without_step(const Stop& stop);
  void own_step();
  /// Threads that take turns may wait for each other without an end.
  void note_waiting();
  void step_here(Code& code);
  /// Carries an instruction out by its meaning in place of a step: one that touches registers only, and that the
  /// processor was seen to execute in this stretch with the very outcome that its meaning has. After kMostCarriedOut of
  /// them the thread is stepped, so that signals come to it.
  bool carry_out(const Code& code, const RegisterSet& before);
  /// Compares what the processor has just done with the meaning.
  void prove(Code& code, const RegisterSet& before);
  /// Stop bytes that the instruction is about to read give way to the program's own.
  void uncover_reads(const Code& code, const RegisterSet& registers);
  void uncover(std::uint64_t address, std::uint64_t size);
  void uncover_arguments(const RegisterSet& registers);
  void cover_reads();
  void look_for_written_code();
  /// Room for one range of a plain instruction.
  void add_write(Recorded& recorded, const Code& code, const Access& write, const RegisterSet& registers);
  void queue_plain(Recorded& recorded, const Code& code, const RegisterSet& before);
  /// Keeps what is on the stack now, where the instruction moved or wrote it and rows are to have it.
  void keep_stack(Recorded& recorded, const RegisterSet& before);
  /// Room for every range that the instruction is about to write; false when that is too much to follow.
  bool add_writes(Recorded& recorded, const Code& code);
  /// All repetitions at once: a stop byte after the instruction instead of a step for each.
  Stop step_repeated(std::uint64_t next);
  /// Completes the row from the state after the step, and goes on from there.
  void settle(Recorded& recorded, const Code& code, const RegisterSet& before, const Stop& stop);
  void trim_repetitions(Recorded& recorded, const Code& code, const RegisterSet& before, const RegisterSet& after);
  /// Adds what changed of the registers beyond the integer core since the last row.
  void compare_wide(Recorded& recorded, Code::Wide which = Code::Wide::any);
  /// Keeps account of the return addresses that calls left on the stack, to know the starting function's return.
  void follow_frames(ControlFlow flow, const RegisterSet& before, const RegisterSet& after);

  // System calls.
  void system_step(Code& code);
  void keep_call(Recorded& recorded, look::KernelCall asked);
  void kernel_row(const Code& code, const abi::SystemCall* call, const look::KernelWrites& planned,
                  const std::optional<process::Snapshot>& snapshot, std::uint64_t result);

  // Signals.
  /// A signal is about to reach the thread. With a handler it is taken there, which is a row; otherwise it goes along
  /// with the next motion.
  void deliver(int signal);
  /// Steps through the code that a handler returns to; the kernel restores all registers.
  void signal_return(unsigned length);

  // All threads.
  /// The next row of whichever thread comes to it. While any of them stands in own code they take turns, an instruction
  /// each; when none does they run at full speed until one comes back.
  void next_of_all();
  /// True for the only thread, when it stands: it is stepped without turns.
  [[nodiscard]] bool has_program_for_itself() const;
  /// A thread's walk; null where it has had no row.
  [[nodiscard]] Walk* known_walk(pid_t thread) const;
  Walk& walk_of(pid_t thread);
  /// True when a thread stands in own code; not one that waits in a system call.
  bool anybody_steps();
  /// Whether a thread's turn, its arrival from full speed, or the end of its system call is a row's.
  bool has_row(const process::Event& event);
  void end_of_thread(const Stop& stop);
  /// Where the thread has left own code, what it does there is one row, when it comes back. The end of a handler leads
  /// back at once, to where nothing stands that would hold it.
  void follow_away();
  void come_back();
  /// Other threads go on while the kernel works for this one, so that their writes cannot be known apart from the
  /// kernel's by comparing all memory.
  void begin_call(const Code& code);
  void end_of_call();

  // Code that is not own.
  /// Bytes of a slot of the stack.
  [[nodiscard]] std::size_t word() const { return arch::machine_of(followed_.mode()).word; }
  /// The slot's value; nothing where it cannot be read.
  [[nodiscard]] std::optional<std::uint64_t> slot_at(std::uint64_t address) const;
  void plant_entries();
  void plant_own();
  /// Libraries come and go while the program runs.
  void on_loader();
  /// Stop bytes that went with their library.
  void forget_unmapped();
  /// Lets foreign code run until control comes back into own code, wherever that is: after the call, at the entry of
  /// a function that is called back, at a landing pad, after a setjmp.
  void full_speed();
  /// The function that was just called is given an address in own code, where stop bytes may stand.
  enum class Reads {
    nothing,
    code,     ///< it reads what it is given and calls nothing back: it can run without stop bytes
    unknown,  ///< it may read code, or call it
  };
  [[nodiscard]] Reads reads_own_code(std::string_view name) const;
  [[nodiscard]] std::uint64_t argument(unsigned number) const;
  /// Said once: it is seldom so, and then often.
  void note_reads(const std::string& name);
  /// Runs a function that reads own code: nothing is planted, and a debug register waits where it returns.
  Stop run_reader(std::uint64_t back);
  /// Runs until something is to be seen to: signals that nobody handles, and loaded libraries, are on the way.
  Stop run_on();
  /// Where the code that was just entered will return to, if that is own code; 0 otherwise. What the kernel enters
  /// (`sysenter` returns into the vdso) may first take off the stack what was saved for it.
  [[nodiscard]] std::uint64_t return_address() const;
  /// How control came back from code at full speed.
  enum class Arrival { returned, called, handler, elsewhere };
  /// The slot of a call under way that the stack pointer has just left; functions of 32-bit code may take arguments off
  /// with it. 0: none.
  [[nodiscard]] std::uint64_t returned_slot() const;
  /// A return comes to the address that a call left in its slot, with the stack just above that slot.
  /// A handler can stand right after the call that threw, so it is asked for first.
  Arrival arrival();
  std::string full_speed_text(const std::string& name, const Stop& stop);
  /// Settles the account of frames: a return takes its frame and all inner ones off, a call back adds one, a jump to
  /// an outer frame takes all inner ones off.
  void arrive(const Stop& stop);
  void full_speed_without_return(Recorded& recorded, const std::string& name, const Stop& stop);

  control::FollowedThread& followed_;
  look::Modules& modules_;
  control::DescriptorNames descriptors_;
  look::KernelCalls calls_;
  const StepsRequest& request_;
  StepsSink& sink_;
  std::vector<std::unique_ptr<Walk>> walks_;  ///< of the threads that have rows
  Walk* walk_;                                ///< that of the followed thread
  CodeBook code_;
  StepNames names_;
  StepRows rows_;
  /// Before a signal that nobody catches is delivered.
  void note_death(int signal);

  StepsSummary summary_;
  std::vector<std::uint64_t> to_;
  process::SameProcessor processor_;
  std::vector<std::uint64_t> uncovered_;  ///< stop bytes that are away for the instruction at hand
  std::optional<look::Loader> loader_;
  std::vector<std::uint64_t> handlers_;  ///< landing pads in own code, sorted
  static constexpr unsigned kMostCarriedOut = 64;
  unsigned carried_out_ = 0;   ///< in a row
  std::uint64_t stretch_ = 1;  ///< grows when something else than steps happens: code may be another afterwards
  bool planted_ = false;
  bool reads_noted_ = false;
  bool code_changed_ = false;
  bool finished_ = false;
  bool gone_ = false;
};

}  // namespace deeptrace::session
