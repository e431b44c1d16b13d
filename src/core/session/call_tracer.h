// The calls of one process, as they are seen from where it is watched: its threads, their stacks, and the functions
// that are under way on each.
//
// A function is under way from its first instruction until control comes to its return address with the stack pointer
// above its frame. Functions whose frames lie below the stack pointer without that were left another way. A thread may
// have several stacks (of signal handlers, of contexts that take turns); each has its own functions.
#pragma once

#include <array>
#include <chrono>
#include <cstdint>
#include <deque>
#include <map>
#include <memory>
#include <set>
#include <string>
#include <unordered_map>
#include <unordered_set>
#include <vector>

#include "control/control.h"
#include "look/convention_checks.h"
#include "session/call_sites.h"
#include "session/calls.h"

namespace deeptrace::session {

/// What the tracers of a run have in common.
struct CallsRun {
  const CallsRequest& request;
  CallsSink& sink;
  CallsSummary summary;
  std::chrono::steady_clock::time_point begun;
  bool enough = false;  ///< no more rows are wanted
  std::vector<std::unique_ptr<class CallTracer>> tracers;
};

class CallTracer final : public control::SiteWatcher {
 public:
  CallTracer(CallsRun& run, control::Control& control, std::uint64_t number);

  /// Of a name in the request that no function has, now or later.
  [[nodiscard]] std::optional<Error> wrong_name() const;
  /// All that is under way is over: nobody follows it any more.
  void give_up();

  bool arrived(pid_t thread, std::uint64_t address) override;
  void modules_changed() override;
  void replaced() override;
  void thread_ended(pid_t thread) override;
  [[nodiscard]] bool counts_instructions() const override { return run_.request.every_instruction; }
  void stepped(pid_t thread) override { ++thread_of(thread).instructions; }
  void ended() override;
  control::SiteWatcher* of_child(control::Control& child, pid_t forked_by) override;

 private:
  struct Frame {
    std::uint64_t cfa = 0;   ///< the stack pointer after the return
    std::uint64_t back = 0;  ///< where it returns to
    const Callee* callee = nullptr;
    std::int64_t level = -1;                    ///< of rows; -1: outside what is asked for
    std::unique_ptr<CallRow> row{};             ///< null: it is none
    std::uint64_t instructions = 0;             ///< that the thread had executed when it began
    std::unique_ptr<look::KeptRegisters> kept;  ///< as they were when it began; null: nobody checks it
  };
  struct Stack {
    std::uint64_t from = 0, to = 0;  ///< the memory that it lies in
    std::int64_t base = -1;          ///< level of what was under way elsewhere when its first function began
    std::uint64_t parent = 0;        ///< and its row
    std::vector<Frame> frames;
  };
  struct Thread {
    std::uint64_t number = 0;
    std::vector<Stack> stacks;
    std::size_t current = 0;
    std::uint64_t instructions = 0;  ///< executed, where they are counted
    bool through_pointer = false;    ///< the call instruction that was just seen is an indirect one
    std::uint64_t jump = 0;          ///< the jump to another function that was just seen
  };
  struct Site {
    CallOrigin origin;
    bool is_call = false;    ///< an instruction that calls ends there
    bool is_signal = false;  ///< it is the code that ends signal handlers
  };
  struct Leaving {
    isa::Instruction instruction;
    CallOrigin origin;
    std::optional<std::size_t>
        set;  ///< argument registers that the code before sets; asked for where nothing else tells
  };
  using Clock = std::chrono::steady_clock;

  Thread& thread_of(pid_t id);
  Stack& stack_of(Thread& thread, const state::StateView& view);
  void unwind(const Thread& thread, Stack& stack, const state::StateView& view, std::uint64_t address);
  void enter(Thread& thread, Stack& stack, const state::StateView& view, const Callee& callee);
  void leave_own(Thread& thread, Stack& stack, const state::StateView& view, Leaving& site);
  Frame& begin_leaving(Thread& thread, Stack& stack, const state::StateView& view, const Callee& called, CallRow::By by,
                       Leaving& site, std::uint64_t stacked);
  Frame& begin_call(Thread& thread, Stack& stack, const state::StateView& view, const Callee& callee, CallRow::By by,
                    const CallOrigin& from, std::uint64_t stacked, std::size_t most = ~std::size_t(0));
  void end_call(const Thread& thread, Frame& frame, CallRow::End end, const state::StateView* view);
  struct InlinedPlace {
    unsigned depth = 1;     ///< of inlined calls
    bool described = true;  ///< see InlinedSite
    const Callee* callee = nullptr;
    CallOrigin origin;
  };
  std::vector<look::Argument> inlined_arguments(const state::StateView& view, unsigned depth);
  void note_inlined(const Thread& thread, const Stack& stack, const state::StateView& view, InlinedPlace& place);
  [[nodiscard]] std::string object_of(const Callee& callee, const state::StateView& view, std::uint64_t stacked);
  void end_all(Thread& thread, CallRow::End end);
  void make_checks();
  void take(std::vector<look::Finding> found, CallRow& row);
  void check_call(Frame& frame, const state::StateView& view, std::uint64_t stacked);
  void check_return(Frame& frame, const state::StateView& view);
  [[nodiscard]] look::CheckedCall checked(const Frame& frame, std::uint64_t stacked) const;
  [[nodiscard]] bool is_root(const Callee& callee) const;

  /// `import`: the name by which the calling code knows it, where that may be another one than its own; else empty.
  const Callee& callee(std::uint64_t target, std::string_view import = {});
  const Site& site_of(std::uint64_t back, const state::StateView& view);
  Leaving* leaving_at(std::uint64_t address);
  void watch(const look::Module& module);
  [[nodiscard]] bool is_own_elsewhere(std::string_view symbol) const;
  void find_roots();
  [[nodiscard]] std::uint64_t word_at(const state::StateView& view, std::uint64_t address) const;
  [[nodiscard]] std::uint64_t now() const;

  CallsRun& run_;
  control::Control& control_;
  std::uint64_t number_;
  std::map<pid_t, Thread> threads_;
  std::uint64_t threads_seen_ = 0;
  std::unordered_set<std::uint64_t> entries_;            ///< first instructions of own functions
  std::unordered_map<std::uint64_t, Leaving> leavings_;  ///< calls that leave own code
  std::unordered_map<std::uint64_t, std::deque<InlinedPlace>> inlined_;
  std::unordered_map<std::uint64_t, const Callee*> callees_;
  std::unordered_map<std::uint64_t, std::unique_ptr<Site>> sites_;  ///< by return address
  std::set<std::uint64_t> handlers_;                                ///< of exceptions
  std::deque<Callee> all_callees_;
  std::unordered_map<const Callee*, CallOrigin> left_by_jump_;  ///< functions, where the jump is not known
  std::deque<std::unique_ptr<Site>> old_sites_;                 ///< rows under way may refer to them
  std::set<std::pair<std::string, std::uint64_t>> watched_;     ///< modules: path and bias
  std::unordered_set<std::string> own_symbols_;                 ///< of own functions of libraries
  std::optional<look::ConventionChecks> checks_;
  std::unordered_set<std::uint64_t> roots_;  ///< where the functions that are asked for begin
};

}  // namespace deeptrace::session
