// A program under ptrace(2) with all its threads: launched or attached to, run and stepped, with stop bytes and the
// debug registers of the processor.
//
// When a call returns, every thread stands still. While the program runs, each event is shown to a visitor, which says
// whether all threads are to be held for it; events of other threads that came meanwhile are kept for the next run, so
// that nothing is lost and nothing counts twice.
//
// A forked child gets its code back as it was and is let go, or is traced as a Process of its own (trace_children). A
// child that shares memory (vfork, posix_spawn) is taken over stop bytes until it has its own program; a traced one has
// stop points of its own in the memory of both. Processes that
// are traced together form a family: while one runs, the others run beside it. What the tool itself does to the program
// does not show: stop bytes in memory that is read, the trap flag in what `pushf` and `syscall` leave, system calls
// that our stopping interrupted.
#pragma once

#include <sys/ptrace.h>
#include <sys/types.h>
#include <sys/user.h>

#include <cstdint>
#include <functional>
#include <map>
#include <memory>
#include <optional>
#include <set>
#include <span>
#include <string>
#include <vector>

#include "base/result.h"
#include "process/attention.h"
#include "process/launch.h"
#include "process/maps.h"
#include "process/memory.h"
#include "process/patience.h"
#include "process/quiet_stops.h"
#include "state/target.h"
#include "state/touched.h"
#include "state/view.h"

namespace deeptrace::process {

struct Event {
  enum class Kind : std::uint8_t {
    stepped,         ///< one instruction was executed
    about_to_step,   ///< of `Running::stepping`: the thread will execute the instruction where it stands
    stop_byte,       ///< the thread stands at a stop byte, before the program's own instruction there
    debug_register,  ///< the processor saw an access or came to an address: see `slots`
    signal,          ///< a signal is about to be delivered
    call_entry,      ///< a system call begins
    call_exit,       ///< a system call has returned
    replaced,        ///< the process has executed another program
    thread_ended,    ///< one thread is gone while others go on
    exited,          ///< the whole program ended by itself
    killed,          ///< the whole program was ended by a signal
    child,           ///< a child process is traced from now on: see take_child()
    elsewhere,       ///< the run has ended because a process beside this one was held
    attention,       ///< we were asked for attention (Ctrl-C)
    waits,           ///< all threads sleep, this one until there is input: see end_at_input()
  };
  Kind kind = Kind::stepped;
  pid_t thread = 0;
  int number = 0;  ///< signal, killed: the signal's number; exited: the status; call_*: the call's number
  std::uint64_t fault_address = 0;  ///< signal: the address it concerns, for faults
  bool fault_address_known = true;  ///< false: the kernel did not say it (a general protection fault)
  bool by_instruction = false;      ///< signal: the instruction at hand brought it about (a fault or trap)
  unsigned slots = 0;               ///< bits by debug register; also of a step that brought it about

  [[nodiscard]] bool program_is_gone() const { return kind == Kind::exited || kind == Kind::killed; }
};

/// What a debug register watches (Intel SDM volume 3, 17.2.4).
struct DebugSlot {
  enum class On : std::uint8_t { execution = 0, write = 1, access = 3 };
  std::uint64_t address = 0;  ///< aligned to the size
  unsigned size = 1;          ///< bytes: 1, 2, 4 or 8
  On on = On::write;
  bool of_thread = false;  ///< the address is counted from each thread's own thread pointer
};
inline constexpr unsigned kDebugSlots = 4;
inline constexpr std::uint64_t kCallSize = 2;  ///< bytes of syscall, sysenter and int 0x80

class Process;

/// A thread that stands still.
class ThreadView final : public state::StateView {
 public:
  ThreadView(const Process& process, pid_t thread) : process_(process), thread_(thread) {}
  [[nodiscard]] pid_t thread() const { return thread_; }
  [[nodiscard]] isa::Mode mode() const override;
  [[nodiscard]] const state::RegisterSet& registers() const override;
  [[nodiscard]] std::uint32_t known_registers() const override;
  [[nodiscard]] std::string_view why_unknown() const override { return "the processor overwrites it at a system call"; }
  [[nodiscard]] std::optional<state::ExtendedSet> extended() const override;
  [[nodiscard]] std::optional<state::ExtendedSet> legacy() const override;
  void read_memory(std::span<state::MemoryRequest> requests, state::Provenance provenance) const override;
  using state::StateView::read_memory;

 private:
  const Process& process_;
  pid_t thread_;
};

class Process final : public state::Target {
 public:
  /// Starts the program; it stands at its very first instruction (of the dynamic linker, if it has one). It ends when
  /// this object or the tracing process does. Errors: Fault::program.
  static Result<std::unique_ptr<Process>> launch(const LaunchOptions& options);
  /// Takes over a running process with all its threads; they stand still. Errors (Fault::program) say what would
  /// permit it.
  static Result<std::unique_ptr<Process>> attach(pid_t pid);
  /// Ends a launched program, lets an attached one go.
  ~Process() override;
  Process(const Process&) = delete;
  Process& operator=(const Process&) = delete;

  [[nodiscard]] pid_t pid() const { return pid_; }
  [[nodiscard]] bool attached() const { return attached_; }
  [[nodiscard]] bool gone() const { return gone_; }
  /// Threads of the program, in the order they were seen.
  [[nodiscard]] std::vector<pid_t> threads() const override;
  [[nodiscard]] bool has_thread(pid_t thread) const { return find(thread) != nullptr; }
  /// False for a thread that runs, inside a system call (see Running::calls_go_on).
  [[nodiscard]] bool stands(pid_t thread) const;
  /// The state of a thread that stands still. The reference holds until the thread ends.
  [[nodiscard]] const ThreadView& view(pid_t thread) const override;
  /// What a system call gave, of a thread at its exit. Quicker than all registers, where those have not been read.
  [[nodiscard]] std::uint64_t call_result(pid_t thread) const;
  [[nodiscard]] std::vector<state::Mapping> mappings() const override { return mappings_of(pid_); }
  [[nodiscard]] std::optional<std::uint64_t> auxiliary(state::Auxiliary type) const override {
    return auxiliary_value(pid_, type);
  }
  [[nodiscard]] std::optional<state::PendingSignal> pending_signal(pid_t thread) const override;
  [[nodiscard]] std::unique_ptr<state::StateEdit> edit(pid_t thread) override;

  /// Executes one instruction of a thread while all others are held. A signal that waits for the thread is delivered
  /// first, so that the step ends at the handler's first instruction.
  Event step(pid_t thread);
  /// The same for an instruction that is known to be no trap, to store no flags and to call no kernel: where the thread
  /// is the only one and nothing else is to be looked after, it costs a resumption, a wait and a look at the registers.
  Event step_plain(pid_t thread);
  /// In place of such a step, where the instruction's meaning is certain and touches registers only: the registers
  /// are `after` from now on. The kernel hears of it when the thread goes on. False where the thread has to be stepped.
  bool pass_plain(const state::RegisterSet& after);
  /// True when the program has one thread.
  [[nodiscard]] bool alone() const { return threads_.size() == 1; }
  /// Threads that the program started since it is traced.
  [[nodiscard]] std::size_t threads_started() const { return threads_started_; }

  struct Running {
    pid_t only = 0;             ///< this thread alone runs; 0: all do
    bool system_calls = false;  ///< events at entry and exit of system calls (of those that the filter chooses)
    bool stepping = false;      ///< instruction by instruction, one thread after the other; implies system_calls
    /// With `stepping`: when the run ends, threads inside system calls are not held. They come to a stand when those
    /// return, so that none executes an instruction before the next run.
    bool calls_go_on = false;
  };
  enum class Answer : std::uint8_t { hold, go_on };
  /// What it is shown may not be kept. A child that it does not take at Kind::child is let go.
  using Visit = std::function<Answer(const Event&)>;
  /// Runs until the visitor holds, or the program is gone (which the visitor is shown too, whatever it answers), or
  /// attention is asked for. A thread that stands at a stop byte whose event was reported goes over it first.
  Event run(const Running& how, const Visit& visit);

  /// From now on a run, and a step of a system call, end when all threads that run have slept for a while and one of
  /// them waits for standard input (Event::Kind::waits).
  void end_at_input() { ends_at_input_ = true; }
  /// From now on `pause` is called about every 40 milliseconds in which events of this process and its family are
  /// waited for (where there is an Attention).
  void at_pauses(std::function<void()> pause);

  /// True when it was launched with a filter, and the kernel took it: events of system calls are those of chosen calls.
  [[nodiscard]] bool filtered() const { return family_->filtered; }

  /// Children to come are traced too, and theirs; otherwise they are let go.
  void trace_children() { children_traced_ = true; }
  /// A child that stands at its beginning: after the fork with a copy of this process's memory, stop bytes and debug
  /// registers included; or before the first instruction of a program of its own (`is_fresh`). Null when there is none.
  std::unique_ptr<Process> take_child();
  [[nodiscard]] bool is_fresh() const { return fresh_; }
  /// True while it runs in the memory of another that is traced, as the child of a vfork does before its exec.
  [[nodiscard]] bool is_guest() const { return guest_; }
  /// True when other processes are traced together with this one.
  [[nodiscard]] bool has_family() const { return family_->members.size() > 1; }
  /// Of a forked child: the thread that forked it.
  [[nodiscard]] pid_t forked_by() const { return forked_by_; }
  /// Runs whenever another process of the family runs with all its threads; `visit` is shown what happens.
  void beside(const Running& how, Visit visit);

  /// The signal that a thread will be given when it goes on; 0 takes one back.
  void deliver(pid_t thread, int signal);
  [[nodiscard]] int signal_of(pid_t thread) const;
  /// The stop byte at the thread's place has been reported: it goes over it when it runs on.
  void reported(pid_t thread);
  /// Shows a thread whose system call is about to begin (call_entry), or was broken off and will begin again, at the
  /// instruction that makes it, with the number in rax as the program put it there, until it goes on. What is set there
  /// holds: another number makes another call.
  /// On its way into the kernel the processor has overwritten rcx and r11 (Intel SDM volume 2, SYSCALL): they are
  /// unknown.
  void stand_at_call(pid_t thread);
  /// The call at whose entry the thread stands is not made when it goes on, and gives `result` (an error is negative).
  /// False for a thread that stands elsewhere, or whose call is under way.
  bool answer_call(pid_t thread, std::int64_t result);
  /// What such a call will give.
  [[nodiscard]] std::optional<std::uint64_t> answer_of(pid_t thread) const;

  [[nodiscard]] Memory& memory() { return memory_; }
  [[nodiscard]] const Memory& memory() const { return memory_; }
  bool set_registers(pid_t thread, const state::RegisterSet& registers);
  bool set_extended(pid_t thread, const state::ExtendedSet& registers);

  /// Sets a debug register in all threads, those to come included; nothing clears it. False when the kernel refuses.
  bool watch(unsigned slot, std::optional<DebugSlot> what);
  [[nodiscard]] const std::optional<DebugSlot>& watched(unsigned slot) const { return slots_[slot]; }
  /// From a visitor: the debug registers that saw an access by a thread other than the given one which has not been
  /// reported yet. Holds the other threads for it.
  unsigned unreported_slots(pid_t but);
  /// From a visitor: brings all threads to a stand; they go on with the run.
  void hold_others() { hold_all(); }
  /// The debug registers that saw an access by the kernel on a thread's behalf; forgets them.
  unsigned kernel_slots(pid_t thread);

  /// Lets the program go on by itself, as if it had never been traced.
  void detach();
  /// Ends the program at once and waits for its end.
  void kill();

  /// Number of the system call that a thread stands in or after; nothing when it is in none.
  [[nodiscard]] std::optional<std::uint64_t> system_call(pid_t thread) const override;
  /// Names of system calls that attaching or holding broke off and whose timeout had to start anew.
  [[nodiscard]] const std::vector<std::uint64_t>& restarted_calls() const { return restarted_; }

 private:
  friend class ThreadView;
  struct Thread {
    pid_t id = 0;
    bool shares_memory = false;  ///< not of the program: a vfork child before its exec, where children are not traced
    bool running = false;
    bool in_vfork = false;  ///< waits for its child, and cannot be held
    bool exiting = false;
    bool group_stopped = false;
    bool in_call = false;           ///< between entry and exit of a system call, as far as it was watched
    bool calls_watched = false;     ///< every entry and exit since the last one was reported: the next is the other one
    std::uint64_t call_number = 0;  ///< of the call that it is in, or made last
    bool at_entry = false;          ///< it stands at the call's entry: the call has not been made
    std::optional<std::uint64_t> answer;  ///< what the call gives that it stands at, in place of being made
    /// Shown at the instruction of the call that it is about to make, or makes (stand_at_call): where that is.
    std::optional<std::uint64_t> at_call;
    std::uint64_t call_result = 0;  ///< what the kernel keeps in its result register meanwhile
    std::uint32_t lost = 0;         ///< bits by Reg: what the processor has overwritten on the way into the kernel
    bool slots_due = false;
    bool status_stale = false;              ///< the debug status holds what was reported
    int request = PTRACE_CONT;              ///< how it is resumed, or was last: PTRACE_CONT until it is set otherwise
    int signal = 0;                         ///< to be delivered
    state::PendingSignal pending;           ///< what the kernel reported of it
    std::optional<std::uint64_t> reported;  ///< the stop byte here is not news
    std::optional<Event> kept;              ///< came while all were being held
    /// A single step, from before it to the event that ends it.
    struct Step {
      state::RegisterSet before;
      isa::Instruction instruction;
      bool handled = false;       ///< a signal with a handler is delivered in its place
      bool was_reported = false;  ///< it began at a stop byte that was reported
    };
    std::optional<Step> step;
    bool changed = false;                       ///< registers are to be written before it goes on
    std::uint64_t code_at = ~std::uint64_t(0);  ///< the place of `code`
    std::size_t code_size = 0;
    std::uint8_t code[isa::kLongestInstruction] = {};  ///< what stands where it stands
    mutable bool fetched = false;
    mutable user_regs_struct raw{};
    mutable state::RegisterSet registers;
    std::unique_ptr<ThreadView> view;
  };

  struct Family {
    std::vector<Process*> members;
    QuietStops quiet;
    Patience patience;
    bool filtered = false;                ///< a filter of the kernel's stops the calls that are wanted
    std::map<pid_t, int> early;           ///< stops of children that came before the event that announces them
    std::function<void()> pause;          ///< see at_pauses; empty: nobody asked
    std::optional<Attention::Beat> beat;  ///< for `pause`
  };

  Process(pid_t pid, bool attached, std::shared_ptr<Family> family);
  std::optional<Event> waiting_for_input();
  [[nodiscard]] pid_t reader_among_sleepers();
  Result<bool> seize_new_threads();
  Thread& add(pid_t id);
  void remove(pid_t id);
  [[nodiscard]] Thread* find(pid_t id) const;
  const state::RegisterSet& fetch(const Thread& thread) const;
  static void take_raw(const Thread& thread);
  static void store(Thread& thread);
  static bool flush(Thread& thread);
  std::span<const std::uint8_t> code_at_hand(Thread& thread);

  std::optional<Event> wait_any();
  pid_t next_status(int& status);
  std::optional<Event> take(pid_t id, int status);
  std::optional<Event> event_of(Thread& thread, int status);
  void take_call(Thread& thread);
  std::optional<Event> take_end(Thread& thread, int status);
  std::optional<Event> take_ptrace_event(Thread& thread, int status);
  std::optional<Event> take_trap(Thread& thread);
  Event take_signal(Thread& thread, int signal);
  void adopt(pid_t child, Thread& parent);
  bool bear(pid_t child, const Thread& parent, bool shares);
  void bear_fresh(pid_t child);
  void serve_sharing(Thread& thread, int status);
  unsigned triggered(Thread& thread, bool forget = true);
  [[nodiscard]] unsigned only_slot() const;
  void clear_status(Thread& thread);
  bool returns_to_told(Thread& thread);
  void pass_slot(Thread& thread, std::uint64_t at);

  enum class Turn : std::uint8_t { nothing, shown, held };
  [[nodiscard]] bool may_run(const Thread& thread) const;
  std::optional<Event> at_hand();
  std::optional<Event> kept_event();
  Turn others_at_hand();
  void keep(const Event& event);
  Answer show(const Event& event, const Visit& visit);
  void hold_family();
  void resume(Thread& thread, int request);
  void begin_step(Thread& thread);
  void end_step(Thread& thread, const Event& event);
  [[nodiscard]] bool steps_under_way() const;
  std::optional<Event> step_in_turn();
  std::optional<Event> go_over(Thread& thread);
  [[nodiscard]] bool is_ordinary(const Thread& thread) const;
  bool carry_out(Thread& thread);
  [[nodiscard]] bool meets_slot(const Thread& thread, const state::Touched& touched) const;
  [[nodiscard]] std::uint64_t address_of(const DebugSlot& slot, const Thread& thread) const;
  Event wait_step(Thread& thread, int request);
  Event await_step(pid_t id, int request);
  void hold_all();
  void hold(Thread& thread);
  void undo_interruption(Thread& thread);
  bool trap_waits(Thread& thread);
  /// In a system call that was broken off and begins again when the thread goes on.
  [[nodiscard]] bool is_broken_off(const Thread& thread) const;
  void hide_trap_flag(Thread& thread, const state::RegisterSet& before, const isa::Instruction& instruction);
  void set_slots(Thread& thread);
  [[nodiscard]] bool worth_reporting(const Thread& thread, const Event& event) const;

  pid_t pid_;
  bool attached_;
  bool gone_ = false;
  bool children_traced_ = false;
  bool fresh_ = false, guest_ = false;
  pid_t forked_by_ = 0;
  std::shared_ptr<Family> family_;
  std::vector<std::unique_ptr<Process>> children_;  ///< nobody has taken yet
  Running how_;
  Visit beside_;              ///< shown what happens while another of the family runs
  bool end_shown_ = false;    ///< to it
  std::vector<Event> loose_;  ///< to be shown, of threads that are gone
  pid_t announced_ = 0;       ///< the thread whose next step was shown
  pid_t last_stepped_ = 0;
  std::size_t threads_started_ = 0;
  Memory memory_;
  std::vector<std::unique_ptr<Thread>> threads_;
  bool ends_at_input_ = false;
  pid_t sleeping_reader_ = 0;  ///< as it was at the last look
  std::set<pid_t> readers_;    ///< threads whose wait for input was interrupted
  std::optional<DebugSlot> slots_[kDebugSlots];
  std::vector<std::uint64_t> restarted_;
  std::optional<Event> end_;
  /// A handler was entered where a thread stood at a stop byte that was reported: it will come back to it.
  struct Owed {
    pid_t thread;
    std::uint64_t address, stack;
  };
  std::vector<Owed> owed_;
};

}  // namespace deeptrace::process
