// A program under control: stop points, motions, and what came of each.
//
//   auto control = Control::start(options);
//   control->add(*parse_halt_rule("at levels.c:31 when level > 5"));
//   while (!control->ended()) { const auto stopped = control->go({Motion::Kind::resume}); … }
//
// See docs/architecture.md, "How a program is controlled".
#pragma once

#include <cstdint>
#include <functional>
#include <map>
#include <memory>
#include <optional>
#include <set>
#include <span>
#include <string>
#include <string_view>
#include <unordered_set>
#include <vector>

#include "base/result.h"
#include "control/halt_rule.h"
#include "control/site_watcher.h"
#include "inspect/expression.h"
#include "look/kernel_writes.h"
#include "look/loader.h"
#include "look/places.h"
#include "look/scope.h"
#include "look/subject.h"
#include "process/process.h"

namespace deeptrace::control {

enum class StopWith : std::uint8_t { automatic, byte, hardware };

struct ControlOptions {
  process::LaunchOptions launch;
  pid_t attach = 0;  ///< in place of launching
  program::OpenOptions open;
  StopWith stop_with = StopWith::automatic;
  bool hold_at_crash = true;      ///< a signal that will end the program holds it first
  bool follow_vectors = true;     ///< keeps vector registers as they were before a motion, for cards
  bool trace_children = false;    ///< see ProcessTree; otherwise they are let go
  bool before_libraries = false;  ///< a launched program is held before the constructors of its libraries run
  bool end_at_input = false;      ///< a motion ends when the program waits for its standard input
  std::function<void()> pause{};  ///< see Process::at_pauses
};

struct Motion {
  enum class Kind : std::uint8_t { into, over, line, line_into, out, to, past_loop, resume };
  Kind kind = Kind::resume;
  std::string where;        ///< of `to`
  std::uint64_t count = 1;  ///< how many times; of into, over, line and line_into
};

using look::HaltHit;
using look::Stopped;

struct HaltInfo {
  unsigned number = 0;
  HaltRule rule;
  std::uint64_t hits = 0;
  std::vector<std::uint64_t> addresses;  ///< where it stands; of data: what it watches
  std::uint64_t size = 0;                ///< of data: bytes
  std::uint64_t came = 0;                ///< how often its condition was false there
  std::uint64_t entered = 0;             ///< of returns: how often the function was called
  std::string how;  ///< "stop byte", "debug registers 0 and 1", "by stepping", "waits for libtide.so"
};

class Control final : public look::Subject {
 public:
  /// Launches or attaches. A launched program stands at its entry, or in the dynamic linker when that is done (see
  /// ControlOptions): its libraries are mapped, nothing of its own has run. Errors: as those of Process, and an
  /// unusable program file.
  static Result<std::unique_ptr<Control>> start(ControlOptions options);
  ~Control() override;

  /// Receives child processes that are traced, before anything of them has run. A forked one has all stop points, with
  /// their hits at 0; one that has executed a program of its own has those that are not on data.
  using ChildTaker = std::function<void(std::unique_ptr<Control>)>;
  void on_child(ChildTaker taker) { on_child_ = std::move(taker); }

  [[nodiscard]] bool attached() const { return process_->attached(); }
  [[nodiscard]] process::Process& process() { return *process_; }

  // ---- looking ----

  [[nodiscard]] state::Target& target() override { return *process_; }
  [[nodiscard]] look::Modules& modules() override { return *modules_; }
  [[nodiscard]] bool ended() const override { return process_->gone(); }
  [[nodiscard]] const look::Moved& moved() override;
  [[nodiscard]] look::StopNames stop_names() const override;
  [[nodiscard]] std::vector<look::CardHit> hits_of(const Stopped& stopped) override;

  // ---- stop points ----

  /// Returns its number. Errors: unknown locations and names, an address inside an instruction, an expression that is
  /// no memory.
  Result<unsigned> add(const HaltRule& rule);
  /// False when there is none of that number.
  bool remove(unsigned number);
  /// What is said of an expression that cannot be right at any place of these stop points, by names and types
  /// (look::Scope::wrong_in); nothing where it can at one of them, or there are none.
  std::optional<Error> wrong_at(const inspect::Expression& expression, std::span<const unsigned> halts,
                                bool is_condition);
  [[nodiscard]] std::vector<HaltInfo> halts() const;
  [[nodiscard]] const HaltRule* rule_of(unsigned number) const;
  /// Bytes of what a data stop watches, read by its type.
  inspect::Value watched_value(unsigned number, const std::vector<std::uint8_t>& bytes);

  // ---- watching ----

  /// `watcher` must outlive the program's runs; null ends it.
  void report_sites_to(SiteWatcher* watcher) { watcher_ = watcher; }
  /// Watches a place; twice is the same as once. False when nothing can be planted there.
  bool watch_site(std::uint64_t address);

  // ---- motion ----

  /// Moves the current thread, or lets the program go on. A motion that ended because the program waits for input is
  /// taken up again when it is asked for again. Errors: the motion cannot be begun.
  Result<Stopped> go(const Motion& motion);
  /// To be called before another process moves: this one runs beside it.
  void run_beside();
  /// To be called when that one has come to rest: what came of it here.
  const Stopped& settle();
  /// Other threads during single instructions: nothing: held for those, running otherwise.
  void others(std::optional<bool> run) { others_run_ = run; }
  /// Lets an attached or launched program go on alone.
  void detach();

 private:
  struct Kernel;
  struct Site;
  struct Halt;
  struct Goal;
  struct Line;
  struct Unfinished;
  struct Returning {
    unsigned halt;
    pid_t thread;
    std::uint64_t address, cfa, function;
  };

  explicit Control(ControlOptions options);
  std::optional<Error> begin();
  std::optional<Error> run_to_beginning(const std::string& path);
  static Result<std::unique_ptr<Control>> of_child(const Control& parent, std::unique_ptr<process::Process> child);
  void copy_halts(const Control& parent);
  void take_children();

  // sites and debug registers
  bool use(std::uint64_t address, bool internal = false);
  void release(std::uint64_t address);
  [[nodiscard]] std::optional<unsigned> unused_slot() const;
  std::optional<unsigned> free_slot();
  [[nodiscard]] unsigned free_slots() const;
  void guard(const Halt& halt);
  void guard_event(unsigned slots, Stopped& stopped);
  void find_loader();
  void on_loader(Stopped& stopped);
  void resolve_waiting();

  // stop points
  std::optional<Error> place_or_wait(Halt& halt);
  std::optional<Error> watch_copies(Halt& halt);
  [[nodiscard]] bool may_come_later(const HaltRule& rule) const;
  std::optional<Error> place_halt(Halt& halt);
  std::optional<Error> wrong_at(const inspect::Expression& expression, const Halt& halt, bool is_condition);
  Result<look::StopPlaces> fixed_places(std::string_view names);
  Result<look::StopPlaces> return_places(look::StopPlaces found, const std::string& where);
  std::optional<Error> place_data(Halt& halt);
  void unplace(Halt& halt);
  /// `returned`: the function that has returned. `call`: the system call that the event is about; empty: none.
  bool counts(Halt& halt, pid_t thread, Stopped& stopped, std::optional<std::uint64_t> returned = std::nullopt,
              std::string_view call = {});
  void hit(Halt& halt, pid_t thread, Stopped& stopped, HaltHit details = {});
  void finish_once();
  [[nodiscard]] bool watches_data() const;
  [[nodiscard]] bool watches_calls() const;
  [[nodiscard]] bool needs_stepping() const;

  // events
  process::Process::Answer visit(const process::Event& event);
  process::Process::Answer judge(const process::Event& event);
  void arrive(pid_t thread, Stopped& stopped);
  void about_to_step(pid_t thread);
  void after_step(pid_t thread, unsigned slots, Stopped& stopped);
  void data_event(pid_t thread, unsigned slots, Stopped& stopped);
  void data_after_call(pid_t thread, std::uint64_t number, Stopped& stopped);
  void signal_event(const process::Event& event, Stopped& stopped);
  void call_event(const process::Event& event, Stopped& stopped);
  std::optional<Error> replaced();
  std::uint64_t writer_before(pid_t thread, const Halt& halt);
  /// The instruction in front of another, and that one.
  struct Neighbours {
    std::uint64_t before = 0;  ///< 0: none ends there
    isa::Instruction instruction, here;
  };
  const Neighbours& neighbours(std::uint64_t address);
  void take_end(const process::Event& event, Stopped& stopped);

  // motions
  [[nodiscard]] process::Process::Running running() const;
  Stopped run(const std::shared_ptr<Goal>& goal);
  void then(const std::function<void()>& rest);
  void wait_for_input(const process::Event& event);
  void run_to_stop();
  Stopped step_one(bool enter_calls);
  Stopped one_step();
  Stopped through_call(std::uint64_t next);
  Stopped line(bool enter_calls);
  Stopped line_on(const std::shared_ptr<Line>& line);
  void go_on_with(const std::shared_ptr<Line>& line);
  void step_in_line(const std::shared_ptr<Line>& line);
  void run_to_own(const std::shared_ptr<Line>& line, std::uint64_t address);
  bool is_line_left(const std::shared_ptr<Line>& line);
  bool is_unfinished(const Motion& motion);
  std::optional<Error> move(const Motion& motion);
  Result<Stopped> out();
  Result<Stopped> to(const std::string& where);
  Result<Stopped> past_loop();
  void note_writes(const isa::Instruction& instruction);
  [[nodiscard]] bool is_noted(std::uint64_t address, std::uint64_t size) const;
  look::KernelWrites writes_of_call();
  void keep_call(look::KernelCall call);
  void note_kernel_writes(const look::KernelWrites& kernel);
  void keep_to_living_thread();
  void begin_motion();
  void note_reached();
  isa::Instruction instruction_at(std::uint64_t address);
  const std::vector<std::uint64_t>& reentries();

  ControlOptions options_;
  std::unique_ptr<process::Process> process_;
  std::unique_ptr<look::Modules> modules_;
  std::unique_ptr<Kernel> kernel_;  ///< since the first system call that was stepped
  std::map<std::uint64_t, Site> sites_;
  /// A debug register that is free watches a stop byte of the user's for reads by the program itself.
  struct Guard {
    std::uint64_t address = 0;
    unsigned halt = 0;
    bool reported = false;
  };
  std::map<unsigned, Guard> guards_;     ///< by debug register
  bool visiting_ = false;                ///< threads may be running
  std::vector<std::uint64_t> deserted_;  ///< sites to be taken away when they stand still
  std::vector<std::unique_ptr<Halt>> halts_;
  unsigned next_number_ = 1;
  std::vector<Returning> returning_;
  std::optional<look::Loader> loader_;
  std::uint64_t entry_site_ = 0;  ///< of a program that replaced another
  bool handler_entered_ = false;  ///< the last step delivered a signal to a handler
  std::optional<bool> others_run_;
  /// What the step that was announced will write to data that is watched by stepping.
  struct Announced {
    std::uint64_t address = 0;
    std::vector<unsigned> halts;
    bool handler = false;  ///< a signal's handler is entered instead
  };
  Announced announced_;
  Goal* goal_ = nullptr;
  std::function<void()> rest_;              ///< of the motion under way, when waiting for input has ended it
  std::unique_ptr<Unfinished> unfinished_;  ///< that motion, until another is asked for
  std::vector<std::uint64_t> goal_sites_;   ///< that the motion under way uses
  ChildTaker on_child_;
  SiteWatcher* watcher_ = nullptr;
  std::unordered_set<std::uint64_t> watched_sites_;
  Stopped stopped_;
  std::map<std::uint64_t, Neighbours> neighbours_;  ///< where they were asked for
  std::vector<std::uint64_t> reentries_;
  bool reentries_known_ = false;

  /// The frame that the last motion of a thread came to, for as long as the thread stands there.
  struct Reached {
    pid_t thread = 0;
    std::uint64_t rip = 0;
    look::Level level;
  };
  std::optional<Reached> reached_;

  bool lineless_said_ = false;  ///< that no source line is known where `line` is asked for
  bool written_read_ = false;
};

/// True when a signal's default is to do nothing, or the program ignores or handles it.
bool is_harmless(pid_t pid, int signal);

}  // namespace deeptrace::control
