#include "session/syscalls.h"

#include <algorithm>
#include <chrono>
#include <iterator>
#include <map>
#include <memory>
#include <span>
#include <unordered_map>
#include <utility>

#include "control/call_surroundings.h"
#include "control/program_to_run.h"
#include "look/card.h"
#include "look/foresight.h"
#include "process/attention.h"
#include "session/kept_reads.h"

namespace deeptrace::session {
namespace {

using process::Event;
using process::Process;
using Answer = Process::Answer;
using Clock = std::chrono::steady_clock;

class Run {
 public:
  Run(SyscallsRequest request, SyscallsSink& sink)
      : request_(std::move(request)), sink_(sink), totals_(request_.totals.value_or(TotalsBy::call)) {}

  Result<SyscallsSummary> run() {
    if (auto error = request_.choice.check()) return *error;
    control::ControlOptions& options = request_.control;
    // Without its tracer a child that has the filter would fail, and so would a program that is let go.
    if (options.trace_children && options.attach == 0) options.launch.filter = request_.choice.filter();
    Result<control::Running> running = options.attach != 0 ? control::attach(options.attach, options.open)
                                                           : control::launch(options.launch, options.open);
    if (!running) return running.error();
    if (options.trace_children) running->process->trace_children();
    if (options.pause) running->process->at_pauses(options.pause);
    if (running->process->filtered()) changes_.reset();  // not all that change descriptors are seen
    add(std::move(running->process), std::move(running->program));
    sink_.begin({members_.front()->modules->main().path, options.attach != 0, options.launch.randomise,
                 options.trace_children, members_.front()->process->filtered(), !request_.choice.all(),
                 request_.totals});
    begun_ = Clock::now();
    follow();
    if (request_.totals) summary_.totals = totals_.all();
    sink_.end(summary_);
    return summary_;
  }

 private:
  /// Where calls are made: frames follow from the registers here and from the words that were read for them.
  struct Place {
    std::uint64_t number = 0;  ///< another one each time that it is made
    std::uint64_t stack_pointer = 0, frame_pointer = 0;
    KeptReads reads;
    std::string made_by;  ///< these are SyscallRow's
    bool raw = false;
    look::Where own;
    std::uint64_t after = 0;
  };
  /// An instruction by which a thread makes calls, with the last of them: the next one's row is made of what is the
  /// same in both.
  struct Site {
    SyscallRow row;
    const abi::CallShape* shape = nullptr;
    bool wanted = false;
    bool repeatable = false;  ///< all that is said of it, but for its result, can be known when it begins
    bool again = false;       ///< the call under way is what the one before it was
    std::uint64_t result = 0;
    // What the row follows from, beside what was asked.
    isa::Mode mode = isa::Mode::bits64;
    std::uint64_t stack_pointer = 0, frame_pointer = 0;
    KeptReads reads;
    std::uint64_t place = 0;    ///< Place::number
    std::uint64_t changes = 0;  ///< DescriptorChanges::count
    std::uint64_t maps = 0;     ///< Member::maps
  };
  struct Thread {
    std::uint64_t number = 0;                       ///< of the process, from 1
    std::unordered_map<std::uint64_t, Site> sites;  ///< by the instruction after the call
    Site* under_way = nullptr;
    Clock::time_point from;
  };
  struct Member {
    std::uint64_t number = 0;
    std::unique_ptr<Process> process;
    std::unique_ptr<look::Modules> modules;
    std::unique_ptr<control::DescriptorNames> descriptors;
    std::unique_ptr<look::CallDecoder> decoder;
    std::unique_ptr<look::CallFindings> findings;
    std::map<pid_t, Thread> threads;
    std::uint64_t most_threads = 0;         ///< that were counted
    std::map<std::uint64_t, Place> places;  ///< by the instruction after the call
    std::vector<look::Finding> at_fault;    ///< of the last signal that an instruction brought about
    bool over = false;
    std::uint64_t maps = 1;     ///< counts what changes its code
    bool maps_changed = false;  ///< since its modules were looked for
  };

  Member& add(std::unique_ptr<Process> process, std::optional<program::Program> program) {
    auto member = std::make_unique<Member>();
    member->number = members_.size() + 1;
    const pid_t pid = process->pid();
    member->descriptors = std::make_unique<control::DescriptorNames>(pid, changes_);
    member->decoder = std::make_unique<look::CallDecoder>(
        [names = member->descriptors.get()](std::uint64_t descriptor) { return names->of(descriptor); },
        request_.bytes);
    if (program)
      member->modules = std::make_unique<look::Modules>(*process, std::move(*program), request_.control.open);
    thread_of(*member, pid);
    member->findings =
        std::make_unique<look::CallFindings>(*process, control::surroundings_of(pid, *member->descriptors));
    member->process = std::move(process);
    members_.push_back(std::move(member));
    return *members_.back();
  }

  static Thread& thread_of(Member& member, pid_t id) {
    const auto [thread, added] = member.threads.try_emplace(id);
    if (added) thread->second.number = ++member.most_threads;
    return thread->second;
  }

  /// The processes run together until the last has ended.
  void follow() {
    const Process::Running how{.system_calls = true};
    while (true) {
      const auto living = std::ranges::find_if(members_, [](const auto& one) { return !one->over; });
      if (living == members_.end()) return;
      Member& current = **living;
      for (const auto& one : members_) {
        if (one.get() != &current && !one->over)
          one->process->beside(how, [this, member = one.get()](const Event& event) { return see(*member, event); });
      }
      const Event event = current.process->run(how, [&](const Event& e) { return see(current, e); });
      take_children(current);
      if (event.kind == Event::Kind::attention) return give_up(true);
      if (stopping_) return give_up(false);
    }
  }

  void take_children(Member& parent) {
    while (auto child = parent.process->take_child()) take_child(parent, std::move(child));
  }
  void take_child(Member& parent, std::unique_ptr<Process> child) {
    const bool fresh = child->is_fresh();
    Member& member = add(std::move(child), std::nullopt);
    if (fresh) {
      open_program(member);
    } else {
      member.modules = std::make_unique<look::Modules>(*parent.modules, *member.process);
    }
  }
  /// After an exec. What cannot be opened is followed without places.
  void open_program(Member& member) {
    member.places.clear();
    ++member.maps;
    auto program =
        control::program_to_run("/proc/" + std::to_string(member.process->pid()) + "/exe", request_.control.open);
    if (!program) {
      summary_.notes.push_back("the program of process " + std::to_string(member.number) +
                               " cannot be read, its calls have no places: " + program.error().message);
      member.modules.reset();
      return;
    }
    member.modules = std::make_unique<look::Modules>(*member.process, std::move(*program), request_.control.open);
  }

  Answer see(Member& member, const Event& event) {
    switch (event.kind) {
      case Event::Kind::call_entry: enter(member, event); break;
      case Event::Kind::call_exit: leave(member, event.thread, member.process->call_result(event.thread)); break;
      case Event::Kind::replaced:
        leave_by_exec(member, event.thread);
        member.threads.clear();
        member.most_threads = 0;
        thread_of(member, member.process->pid());
        open_program(member);
        break;
      case Event::Kind::child:
        take_children(member);
        return Answer::hold;  // the run is begun anew, with the child beside
      case Event::Kind::thread_ended: end_call(member, event.thread); break;
      case Event::Kind::signal:
        if (event.by_instruction && member.modules)
          member.at_fault = member.findings->at_end_by_signal(member.process->view(event.thread), *member.modules);
        break;
      case Event::Kind::exited:
      case Event::Kind::killed: end(member, event); break;
      default: break;
    }
    return stopping_ ? Answer::hold : Answer::go_on;
  }

  void enter(Member& member, const Event& event) {
    ReadRecorder view(member.process->view(event.thread));
    Thread& thread = thread_of(member, event.thread);
    Site& site = site_of(member, thread, view);
    thread.under_way = &site;
    SyscallRow& row = site.row;
    look::AskedCall asked = look::AskedCall::of(view, row.asked.table, static_cast<std::uint64_t>(event.number));
    const bool same = is_same(site, asked, view);
    const bool keep = same && site.repeatable && changes_->settled();
    if (keep) view.record_for(site.reads);
    site.again = keep && is_again(member, site, view);
    const std::uint64_t place = asked.number == row.asked.number ? site.place : 0, before = row.number;
    if (!same) {
      row.asked = std::move(asked);
      site.shape = row.asked.shape();
      site.wanted = request_.choice.all() || request_.choice.has(row.asked.name());
      site.repeatable = changes_ != nullptr && row.asked.inner == nullptr && site.shape != nullptr &&
                        site.shape->keeps_names && !site.shape->is_written_for();
    }
    if (changes_) changes_->begin(site.shape);
    if (site.wanted && !site.again) describe(member, thread, site, view, keep);
    row.place_like = place != 0 && place == site.place ? before : 0;
    row.ended = true;
    thread.from = Clock::now();
    row.start = nanoseconds(thread.from - begun_);
  }

  /// The instruction that is executed again and again need not be read again.
  static Site& site_of(const Member& member, Thread& thread, const state::StateView& view) {
    constexpr std::size_t kMost = 256;
    const std::uint64_t address = view.registers()[state::Reg::rip];
    auto found = thread.sites.find(address);
    if (found == thread.sites.end()) {
      if (thread.sites.size() == kMost) thread.sites.clear();
      found = thread.sites.try_emplace(address).first;
    }
    Site& site = found->second;
    if (site.maps != member.maps) {
      site.maps = member.maps;
      site.row.asked.table = look::table_of_call(view);
      site.row.number = 0;  // it is like no earlier one
      site.reads = {};
      site.place = 0;
    }
    return site;
  }

  /// What was asked is what was asked there before, with the same frame.
  static bool is_same(const Site& site, const look::AskedCall& asked, const state::StateView& view) {
    const state::RegisterSet& registers = view.registers();
    const look::AskedCall& before = site.row.asked;
    return asked.number == before.number && asked.arguments == before.arguments && asked.inner == nullptr &&
           before.inner == nullptr && site.stack_pointer == registers[state::Reg::rsp] &&
           site.frame_pointer == registers[state::Reg::rbp] && site.mode == view.mode();
  }
  /// And so is all that the row was made of.
  bool is_again(const Member& member, const Site& site, ReadRecorder& view) const {
    return site.wanted && !member.maps_changed && site.changes == changes_->count() && site.reads.hold_in(view);
  }

  /// `keep`: what the row follows from is kept for the next call.
  void describe(Member& member, const Thread& thread, Site& site, ReadRecorder& view, bool keep) {
    const state::RegisterSet& registers = view.registers();
    SyscallRow& row = site.row;
    row.process = member.number;
    row.thread = thread.number;
    row.other_abi = row.asked.table != abi::call_table(view.mode());
    row.number = 0;
    row.findings.clear();
    row.address = registers[state::Reg::rip] - process::kCallSize;
    if (!keep) {
      const look::CallDecoder::Ranges ranges = member.decoder->will_read(row.asked);
      for (const auto& range : std::span(ranges.all).first(ranges.count)) view.expect(range.address, range.size);
    }
    site.place = member.modules ? find_place(member, view, row, site.place) : 0;
    const bool same_descriptors = keep && site.changes == changes_->count();
    member.decoder->before(row.call, row.asked, view, same_descriptors);
    site.mode = view.mode();
    site.stack_pointer = registers[state::Reg::rsp];
    site.frame_pointer = registers[state::Reg::rbp];
    site.changes = changes_ != nullptr ? changes_->count() : 0;
    if (keep) {
      site.reads.renew(view);
    } else {
      site.reads = {};
    }
  }

  /// Where the call is made; returns Place::number. `before`: of what the row holds from the call before.
  std::uint64_t find_place(Member& member, ReadRecorder& view, SyscallRow& row, std::uint64_t before) {
    if (std::exchange(member.maps_changed, false)) {
      member.modules->refresh(*member.process);
      member.places.clear();
    }
    const state::RegisterSet& registers = view.registers();
    Place& known = member.places[registers[state::Reg::rip]];
    const bool holds = known.stack_pointer == registers[state::Reg::rsp] &&
                       known.frame_pointer == registers[state::Reg::rbp] && known.reads.hold_in(view);
    if (!holds) {
      known.reads = {};
      ReadRecorder recorder(static_cast<const state::StateView&>(view));
      recorder.record_for(known.reads);
      place(*member.modules, *member.process, recorder, row);
      known.reads.renew(recorder);
      known.number = ++places_made_;
      known.stack_pointer = registers[state::Reg::rsp];
      known.frame_pointer = registers[state::Reg::rbp];
      known.made_by = row.made_by;
      known.raw = row.raw;
      known.own = row.own;
      known.after = row.after;
    } else if (known.number != before) {
      row.made_by = known.made_by;
      row.raw = known.raw;
      row.own = known.own;
      row.after = known.after;
    }
    return known.number;
  }

  void place(look::Modules& modules, const Process& process, const state::StateView& view, SyscallRow& row) {
    const std::uint64_t address = view.registers()[state::Reg::rip];
    if (modules.at(address) == nullptr) modules.refresh(process);
    row.own = {};
    row.after = 0;
    row.made_by = modules.place_name(row.address);
    row.raw = modules.is_own_line(row.address);
    if (row.raw) {
      row.after = address;
      row.own = look::own_where_at(modules, row.address);
    } else if (const auto frame = look::own_frame(modules, view)) {
      row.own = look::own_where_at(modules, frame->inside());
      if (is_wrapper(modules.function_at(address), row.asked.name()) && is_caller(modules, view, *frame))
        row.after = frame->address();
      row.own.place = modules.return_name(frame->address());
    }
  }

  /// True of the library's function that does no more than make the call: "__open64" of openat. What it returns is what
  /// the call gave.
  static bool is_wrapper(const program::Function* function, std::string_view call) {
    if (function == nullptr) return false;
    const std::string whole = function->name.str();
    std::string_view name = whole;
    for (const std::string_view start : {"__GI_", "__libc_", "__", "_"}) {
      if (name.starts_with(start)) name.remove_prefix(start.size());
    }
    for (std::string_view* one : {&name, &call}) {
      for (const std::string_view end : {"_time64", "64", "at"}) {
        if (one->ends_with(end)) one->remove_suffix(end.size());
      }
    }
    return name == call;
  }
  static bool is_caller(look::Modules& modules, const state::StateView& view, const inspect::Frame& frame) {
    const std::vector<inspect::Frame> frames = look::frames_of(modules, view, 2);
    return frames.size() > 1 && frames[1].address() == frame.address();
  }

  /// Of another program, what the call returned is not to be seen. The other threads are gone; whichever called, the
  /// one that is left has the process's number.
  void leave_by_exec(Member& member, pid_t left) {
    const auto called = std::ranges::find_if(member.threads, [](const auto& one) {
      const Site* site = one.second.under_way;
      return site != nullptr && site->shape != nullptr && site->shape->name.starts_with("execve");
    });
    if (called != member.threads.end()) leave(member, called->first, 0, left);
    end_all_calls(member);
  }

  void leave(Member& member, pid_t thread, std::uint64_t result) { leave(member, thread, result, thread); }
  /// `seen` is looked at in its place.
  void leave(Member& member, pid_t id, std::uint64_t result, pid_t seen) {
    const Clock::time_point now = Clock::now();
    const auto thread = member.threads.find(id);
    if (thread == member.threads.end() || thread->second.under_way == nullptr) return;
    Site& site = *std::exchange(thread->second.under_way, nullptr);
    if (changes_) changes_->end(site.shape);
    const std::string_view name = site.shape != nullptr ? site.shape->name : std::string_view();
    if (name == "mmap" || name == "mmap2" || name == "munmap") {
      member.maps_changed = true;
      ++member.maps;
    }
    if (!site.wanted) return;
    SyscallRow& row = site.row;
    row.duration = nanoseconds(now - thread->second.from);
    const bool same = site.again && result == site.result && !row.call.failed && row.findings.empty();
    site.result = result;
    row.like = same ? row.number : 0;
    if (!same) member.decoder->after(row.call, row.asked, member.process->view(seen), result);
    check(member, row, member.process->view(seen), result);
    send(row);
  }

  void check(Member& member, SyscallRow& row, const state::StateView& view, std::uint64_t result) {
    if (!member.modules) return;
    // A row gets its number when it is sent; those that are left out have none.
    const bool sent = request_.all || !row.own.place.empty();
    const look::CallOver over{.number = sent ? summary_.rows + 1 : 0,
                              .shown = sent,
                              .asked = row.asked,
                              .decoded = &row.call,
                              .result = result,
                              .address = row.address,
                              .raw = row.raw,
                              .after = row.after,
                              .function = row.own.place,
                              .file = row.own.file,
                              .line = row.own.line,
                              .like = row.like,
                              .place_like = row.place_like};
    row.findings = member.findings->of(over, view, *member.modules);
    for (look::Finding& one : row.findings) one.call = over.number;
  }

  /// The thread is no more, and a call that it was in does not come back.
  void end_call(Member& member, pid_t id) {
    const auto thread = member.threads.find(id);
    if (thread == member.threads.end()) return;
    if (Site* site = std::exchange(thread->second.under_way, nullptr)) {
      if (changes_) changes_->end(site->shape);
      site->row.ended = false;
      site->row.like = 0;
      site->row.call.forget_result();
      site->row.duration = nanoseconds(Clock::now() - thread->second.from);
      if (site->wanted) send(site->row);
    }
    thread->second.sites.clear();
  }
  void end_all_calls(Member& member) {
    for (auto& [id, thread] : member.threads) end_call(member, id);
  }

  void end(Member& member, const Event& event) {
    end_all_calls(member);
    member.over = true;
    const bool exited = event.kind == Event::Kind::exited;
    // What was not traced may have closed what was opened.
    if (exited && request_.choice.all()) {
      for (look::Finding& one : member.findings->at_exit()) summary_.findings.push_back(std::move(one));
    }
    if (!exited) std::ranges::move(member.at_fault, std::back_inserter(summary_.findings));
    if (&member == members_.front().get())
      summary_.end = {exited ? RunEnd::How::exited : RunEnd::How::killed, event.number};
  }

  void send(SyscallRow& row) {
    if (stopping_) return;
    if (!request_.all && row.own.place.empty()) {
      ++summary_.left_out;
      return;
    }
    row.number = ++summary_.rows;
    const bool listed = !request_.totals && (!request_.limit || row.number <= *request_.limit);
    if (!listed) std::ranges::move(row.findings, std::back_inserter(summary_.findings));
    if (request_.totals) {
      totals_.add(row.asked, row.call, row.own, row.duration);
    } else if (!listed) {
      ++summary_.unlisted;
    } else {
      sink_.row(row);
    }
    stopping_ = request_.count && summary_.rows == *request_.count;
  }

  void give_up(bool asked) {
    const bool attached = members_.front()->process->attached();
    for (const auto& one : members_) {
      if (one->over) continue;
      if (attached) one->process->detach();
      one->over = true;
    }
    summary_.end.asked = asked;
    summary_.end.how = attached ? RunEnd::How::detached : asked ? RunEnd::How::interrupted : RunEnd::How::counted;
  }

  static std::uint64_t nanoseconds(Clock::duration duration) {
    return static_cast<std::uint64_t>(std::chrono::duration_cast<std::chrono::nanoseconds>(duration).count());
  }

  SyscallsRequest request_;
  SyscallsSink& sink_;
  std::vector<std::unique_ptr<Member>> members_;
  Clock::time_point begun_;
  SyscallsSummary summary_;
  SyscallTotals totals_;
  std::shared_ptr<control::DescriptorChanges> changes_ = std::make_shared<control::DescriptorChanges>();
  std::uint64_t places_made_ = 0;
  bool stopping_ = false;
};

}  // namespace

Result<SyscallsSummary> syscalls(SyscallsRequest request, SyscallsSink& sink) {
  return Run(std::move(request), sink).run();
}

}  // namespace deeptrace::session
