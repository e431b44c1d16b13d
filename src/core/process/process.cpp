#include "process/process.h"

#include <dirent.h>
#include <sys/ptrace.h>
#include <sys/user.h>
#include <sys/wait.h>
#include <unistd.h>

#include <algorithm>
#include <bit>
#include <cerrno>
#include <csignal>
#include <cstddef>
#include <cstring>

#include "process/attention.h"
#include "process/delay.h"
#include "process/kernel_registers.h"
#include "process/live_edit.h"
#include "process/maps.h"
#include "process/waiting.h"

namespace deeptrace::process {
namespace {

using state::kResumeFlag;
using state::Reg;

constexpr std::uint32_t bit(Reg reg) { return 1U << static_cast<unsigned>(reg); }

constexpr std::size_t kDebugStatus = offsetof(user, u_debugreg) + 8UL * 6;  // where PTRACE_PEEKUSER has DR6
constexpr long kOptions = PTRACE_O_TRACECLONE | PTRACE_O_TRACEFORK | PTRACE_O_TRACEVFORK | PTRACE_O_TRACEVFORKDONE |
                          PTRACE_O_TRACEEXEC | PTRACE_O_TRACEEXIT | PTRACE_O_TRACESYSGOOD;

std::vector<pid_t> tasks_of(pid_t pid) {
  std::vector<pid_t> result;
  DIR* folder = ::opendir(("/proc/" + std::to_string(pid) + "/task").c_str());
  if (folder == nullptr) return result;
  while (const dirent* entry = ::readdir(folder)) {
    if (const pid_t id = std::atoi(entry->d_name); id > 0) result.push_back(id);
  }
  ::closedir(folder);
  return result;
}

Error attach_error(pid_t pid, int error) {
  const std::string what = "process " + std::to_string(pid) + ": ";
  if (error == ESRCH) return {Fault::program, what + "there is no such process"};
  if (const auto tracer = status_field(pid, "TracerPid", 10); tracer != 0)
    return {Fault::program, what + "is already traced, by process " + std::to_string(tracer)};
  if (status_text(pid, "State").starts_with("Z"))
    return {Fault::program, what + "has ended and waits for its parent to take notice (a zombie)"};
  return {Fault::program,
          what +
              "may not be traced; it has to belong to the same user, and /proc/sys/kernel/yama/ptrace_scope has to "
              "be 0 (or run as root)"};
}

}  // namespace
// ---- threads and their registers ------------------------------------------------------------------------------------

Process::Thread* Process::find(pid_t id) const {
  for (const auto& thread : threads_) {
    if (thread->id == id) return thread.get();
  }
  return nullptr;
}

Process::Thread& Process::add(pid_t id) {
  threads_.push_back(std::make_unique<Thread>());
  Thread& thread = *threads_.back();
  thread.id = id;
  thread.view = std::make_unique<ThreadView>(*this, id);
  return thread;
}

void Process::remove(pid_t id) {
  if (const Thread* thread = find(id); thread != nullptr && thread->step) memory_.cover(thread->step->before[Reg::rip]);
  std::erase_if(threads_, [id](const auto& thread) { return thread->id == id; });
}

std::vector<pid_t> Process::threads() const {
  std::vector<pid_t> result;
  for (const auto& thread : threads_) {
    if (!thread->shares_memory && !thread->exiting) result.push_back(thread->id);
  }
  return result;
}

bool Process::stands(pid_t id) const {
  const Thread* thread = find(id);
  return thread != nullptr && !thread->running;
}

const ThreadView& Process::view(pid_t thread) const { return *find(thread)->view; }

std::uint64_t Process::call_result(pid_t id) const {
  const Thread& thread = *find(id);
  if (!thread.fetched) {
    errno = 0;
    const long result = ::ptrace(PTRACE_PEEKUSER, id, offsetof(user, regs.rax), nullptr);
    if (errno == 0) return static_cast<std::uint64_t>(result);
  }
  return fetch(thread)[Reg::rax];
}

const state::RegisterSet& Process::fetch(const Thread& thread) const {
  if (thread.fetched) return thread.registers;
  if (::ptrace(PTRACE_GETREGS, thread.id, nullptr, &thread.raw) == 0) take_raw(thread);
  return thread.registers;
}

void Process::take_raw(const Thread& thread) {
  thread.registers = from_kernel(thread.raw);
  thread.registers[Reg::rflags] &= ~kResumeFlag;  // the kernel sets it to go past a debug register of ours
  thread.fetched = true;
  if (!thread.at_call) return;
  thread.registers[Reg::rip] = *thread.at_call;
  thread.registers[Reg::rax] = thread.raw.orig_rax;
}

/// Changed registers are written when the thread goes on: mostly once for several changes.
void Process::store(Thread& thread) {
  to_kernel(thread.registers, thread.raw);
  thread.changed = true;
  if (!thread.at_call) return;
  // From another place no call is made (the kernel skips number -1).
  const bool stays = thread.registers[Reg::rip] == *thread.at_call;
  thread.raw.orig_rax = stays ? thread.registers[Reg::rax] : ~0ULL;
  if (!stays) {
    thread.at_call.reset();
    thread.answer.reset();
    return;
  }
  thread.raw.rax = thread.call_result;
  thread.raw.rip = *thread.at_call + kCallSize;
}

bool Process::flush(Thread& thread) {
  if (!std::exchange(thread.changed, false)) return true;
  return ::ptrace(PTRACE_SETREGS, thread.id, nullptr, &thread.raw) == 0;
}

std::span<const std::uint8_t> Process::code_at_hand(Thread& thread) {
  const std::uint64_t at = fetch(thread)[Reg::rip];
  if (thread.code_at != at) {
    thread.code_size = memory_.read(at, thread.code);
    thread.code_at = at;
  }
  return {thread.code, thread.code_size};
}

bool Process::set_registers(pid_t id, const state::RegisterSet& registers) {
  Thread* thread = find(id);
  if (thread == nullptr) return false;
  const std::uint64_t before = fetch(*thread)[Reg::rip];
  for (const Reg reg : {Reg::rcx, Reg::r11}) {
    if (registers[reg] != thread->registers[reg]) thread->lost &= ~bit(reg);
  }
  thread->registers = registers;
  // A system call that was broken off must not begin again from another place.
  if (registers[Reg::rip] != before) thread->raw.orig_rax = ~0ULL;
  store(*thread);
  const bool done = flush(*thread);
  thread->fetched = false;
  return done;
}

bool Process::set_extended(pid_t thread, const state::ExtendedSet& registers) {
  return process::set_extended(thread, registers);
}

isa::Mode ThreadView::mode() const { return state::mode_of(registers()); }
const state::RegisterSet& ThreadView::registers() const { return process_.fetch(*process_.find(thread_)); }
std::uint32_t ThreadView::known_registers() const { return ~process_.find(thread_)->lost; }
std::optional<state::ExtendedSet> ThreadView::extended() const { return extended_of(thread_); }
std::optional<state::ExtendedSet> ThreadView::legacy() const {
  state::ExtendedSet set;
  set.vector_count = mode() == isa::Mode::bits32 ? 8 : 16;
  return refresh_legacy(thread_, set) ? std::optional(set) : std::nullopt;
}
void ThreadView::read_memory(std::span<state::MemoryRequest> requests, state::Provenance provenance) const {
  process_.memory().read(requests, provenance);
}

std::optional<state::PendingSignal> Process::pending_signal(pid_t id) const {
  const Thread* thread = find(id);
  if (thread == nullptr || thread->signal == 0) return std::nullopt;
  if (thread->pending.number == thread->signal) return thread->pending;
  return state::PendingSignal{.number = thread->signal};  // one that we give it
}

std::unique_ptr<state::StateEdit> Process::edit(pid_t thread) {
  return has_thread(thread) ? std::make_unique<LiveEdit>(*this, thread) : nullptr;
}

std::optional<std::uint64_t> Process::system_call(pid_t id) const {
  const Thread* thread = find(id);
  if (thread == nullptr) return std::nullopt;
  fetch(*thread);
  const bool inside = (thread->in_call && !thread->at_call) || is_broken_off(*thread);
  if (static_cast<std::int64_t>(thread->raw.orig_rax) < 0 || !inside) return std::nullopt;
  return thread->raw.orig_rax;
}

void Process::deliver(pid_t id, int signal) {
  if (Thread* thread = find(id)) thread->signal = signal;
}
int Process::signal_of(pid_t id) const {
  const Thread* thread = find(id);
  return thread != nullptr ? thread->signal : 0;
}

bool Process::is_broken_off(const Thread& thread) const {
  fetch(thread);
  return static_cast<std::int64_t>(thread.raw.orig_rax) >= 0 &&
         state::broken_off(static_cast<std::int64_t>(thread.raw.rax));
}

void Process::stand_at_call(pid_t id) {
  Thread* thread = find(id);
  if (thread == nullptr || thread->at_call || !(thread->in_call || is_broken_off(*thread))) return;
  const std::uint64_t at = fetch(*thread)[Reg::rip] - kCallSize;
  std::uint8_t bytes[kCallSize] = {};
  if (memory_.read(at, bytes) != kCallSize) return;
  const isa::Instruction instruction = isa::decode(bytes, thread->view->mode());
  if (!instruction || isa::flow_of(instruction) != isa::ControlFlow::system) return;
  const bool gate = isa::brief_of(instruction.row).is_gate();
  thread->at_call = at;
  thread->lost = gate || thread->view->mode() == isa::Mode::bits32 ? 0 : bit(Reg::rcx) | bit(Reg::r11);
  if (is_restart({.number = thread->raw.orig_rax}, thread->view->mode())) thread->lost |= bit(Reg::rax);
  thread->call_result = thread->raw.rax;
  thread->reported = at;
  thread->fetched = false;
}

bool Process::answer_call(pid_t id, std::int64_t result) {
  Thread* thread = find(id);
  if (thread == nullptr || !thread->at_entry) return false;
  thread->answer = static_cast<std::uint64_t>(result);
  return true;
}

std::optional<std::uint64_t> Process::answer_of(pid_t id) const {
  const Thread* thread = find(id);
  return thread != nullptr ? thread->answer : std::nullopt;
}

void Process::reported(pid_t id) {
  if (Thread* thread = find(id)) thread->reported = fetch(*thread)[Reg::rip];
}

// ---- beginning and end ----------------------------------------------------------------------------------------------

Process::Process(pid_t pid, bool attached, std::shared_ptr<Family> family)
    : pid_(pid), attached_(attached), family_(std::move(family)) {
  family_->members.push_back(this);
}

Result<std::unique_ptr<Process>> Process::launch(const LaunchOptions& options) {
  const long filtered = options.filter ? PTRACE_O_TRACESECCOMP : 0;
  const Result<Launched> child = launch_seized(options, kOptions | PTRACE_O_EXITKILL | filtered);
  if (!child) return child.error();
  std::unique_ptr<Process> process(new Process(child->pid, false, std::make_shared<Family>()));
  process->family_->filtered = child->filtered;
  process->add(child->pid);
  if (!process->memory_.open(child->pid))
    return Error{Fault::program, options.program + ": its memory cannot be opened: " + std::strerror(errno)};
  return process;
}

Result<std::unique_ptr<Process>> Process::attach(pid_t pid) {
  if (pid <= 0 || ::kill(pid, 0) != 0) {
    if (pid <= 0 || errno == ESRCH) return attach_error(pid, ESRCH);
  }
  if (const auto group = status_field(pid, "Tgid", 10); group != static_cast<std::uint64_t>(pid))
    return Error{Fault::program, "process " + std::to_string(pid) + ": is a thread of process " +
                                     std::to_string(group) + "; attach to that"};
  std::unique_ptr<Process> process(new Process(pid, true, std::make_shared<Family>()));
  // Threads start others while they are seized: of a clone(2) that began before, no event tells. So they are looked for
  // again until all that are known stand still and no other has appeared.
  for (;;) {
    const Result<bool> more = process->seize_new_threads();
    if (!more) return more.error();
    if (!*more) break;
    process->hold_all();
    if (process->end_)
      return Error{Fault::program, "process " + std::to_string(pid) + ": ended while it was attached to"};
  }
  if (!process->memory_.open(pid)) return attach_error(pid, errno);
  return process;
}

/// Seizes the threads that are not traced yet; true when there were any. An error is that of the first thread.
Result<bool> Process::seize_new_threads() {
  if (Attention::asked() == Attention::Why::end)
    return Error{Fault::program, "process " + std::to_string(pid_) + ": let go before it was traced"};
  bool more = false;
  for (const pid_t id : tasks_of(pid_)) {
    if (find(id) != nullptr) continue;
    if (::ptrace(PTRACE_SEIZE, id, nullptr, kOptions) != 0) {
      if (id != pid_) continue;  // it has ended, or it is traced as the child of one that is
      gone_ = true;              // nothing to let go
      return attach_error(pid_, errno);
    }
    add(id).running = true;
    more = true;
    delay_at(Delay::seize);
  }
  return more;
}

Process::~Process() {
  attached_ ? detach() : kill();
  std::erase(family_->members, this);
}

void Process::kill() {
  if (gone_) return;
  ::kill(pid_, SIGKILL);
  for (const auto& thread : threads_) {
    if (thread->shares_memory) ::kill(thread->id, SIGKILL);
  }
  // What the others of the family report meanwhile is kept for them. A thread of this one that stops once more ends at
  // once when it goes on.
  while (!gone_) {
    (void)wait_any();
    for (const auto& thread : threads_) {
      if (!gone_ && !thread->running && !thread->exiting) resume(*thread, PTRACE_CONT);
    }
  }
}

void Process::detach() {
  if (gone_) return;
  // Children that run in this memory first: a thread waits for them.
  for (std::size_t i = 0; i < family_->members.size(); ++i) {
    Process& other = *family_->members[i];
    if (other.is_guest() && find(other.forked_by_) != nullptr) other.detach();
  }
  // A thread that waits for its vfork child can be let go only when that is done.
  const auto waits = [](const auto& thread) { return thread->in_vfork; };
  while (!gone_ && std::ranges::any_of(threads_, waits)) {
    // What others have to tell meanwhile is kept.
    if (const std::optional<Event> event = wait_any()) keep(*event);
  }
  for (const auto& child : children_) child->detach();
  children_.clear();
  for (std::size_t i = 0; i < threads_.size(); ++i) {
    if (threads_[i]->shares_memory) hold(*threads_[i]);
  }
  hold_all();
  if (gone_) return;
  for (auto& slot : slots_) slot.reset();
  memory_.remove_all();
  // A signal may end the program at once: whoever is let go with one comes last, so that nobody is left traced and
  // dead.
  std::stable_partition(threads_.begin(), threads_.end(), [](const auto& thread) { return thread->signal == 0; });
  for (auto& thread : threads_) {
    if (!thread->shares_memory) set_slots(*thread);
    flush(*thread);
    delay_at(Delay::detach);
    if (thread->exiting) continue;
    const bool let_go = ::ptrace(PTRACE_DETACH, thread->id, nullptr, static_cast<long>(thread->signal)) == 0;
    if (!let_go && thread->id != pid_) ::waitpid(thread->id, nullptr, __WALL);  // it has been ended meanwhile
  }
  threads_.clear();
  gone_ = true;
}

// ---- debug registers ------------------------------------------------------------------------------------------------

std::uint64_t Process::address_of(const DebugSlot& slot, const Thread& thread) const {
  return slot.of_thread ? state::thread_pointer(fetch(thread), thread.view->mode()) + slot.address : slot.address;
}

void Process::set_slots(Thread& thread) {
  const auto put = [&](unsigned number, std::uint64_t value) {
    return ::ptrace(PTRACE_POKEUSER, thread.id, offsetof(user, u_debugreg) + 8UL * number, value) == 0;
  };
  std::uint64_t control = 0;
  clear_status(thread);
  put(7, 0);
  for (unsigned i = 0; i < kDebugSlots; ++i) {
    if (!slots_[i]) continue;
    put(i, address_of(*slots_[i], thread));
    const std::uint64_t size = slots_[i]->size == 8 ? 2 : slots_[i]->size - 1;
    control |=
        std::uint64_t(1) << (2 * i) | static_cast<std::uint64_t>(slots_[i]->on) << (16 + 4 * i) | size << (18 + 4 * i);
  }
  if (control != 0) thread.slots_due = !put(7, control);
  if (control == 0) thread.slots_due = false;
}

bool Process::watch(unsigned slot, std::optional<DebugSlot> what) {
  slots_[slot] = what;
  bool done = true;
  for (auto& thread : threads_) {
    if (thread->shares_memory || thread->running) continue;
    set_slots(*thread);
    done &= !thread->slots_due;
  }
  if (!done) watch(slot, std::nullopt);
  return done;
}

/// The bit of the debug register in use when there is but one, else 0.
unsigned Process::only_slot() const {
  unsigned bits = 0;
  for (unsigned i = 0; i < kDebugSlots; ++i) bits |= slots_[i] ? 1U << i : 0;
  return std::has_single_bit(bits) ? bits : 0;
}

void Process::clear_status(Thread& thread) {
  if (std::exchange(thread.status_stale, false)) ::ptrace(PTRACE_POKEUSER, thread.id, kDebugStatus, 0UL);
}

/// Which debug registers brought a trap about, by the status register, which is cleared so that the next is known apart
/// from this one.
unsigned Process::triggered(Thread& thread, bool forget) {
  const auto status = static_cast<unsigned>(::ptrace(PTRACE_PEEKUSER, thread.id, kDebugStatus, nullptr));
  thread.status_stale |= forget;
  if (forget) clear_status(thread);
  unsigned slots = 0;
  for (unsigned i = 0; i < kDebugSlots; ++i) {
    if ((status >> i & 1) != 0 && slots_[i]) slots |= 1U << i;
  }
  return slots;
}

unsigned Process::unreported_slots(pid_t but) {
  hold_all();
  unsigned slots = 0;
  for (const auto& thread : threads_) {
    if (thread->id == but || thread->running || thread->shares_memory) continue;
    if (thread->kept) slots |= thread->kept->slots;
  }
  return slots;
}

unsigned Process::kernel_slots(pid_t id) {
  Thread* thread = find(id);
  return thread != nullptr ? triggered(*thread) : 0;
}

}  // namespace deeptrace::process
