// What the kernel does for a stepped thread: system calls and signals.
#include <cstring>

#include "isa/operand.h"
#include "look/fault.h"
#include "process/maps.h"
#include "session/stepper.h"

namespace deeptrace::session {

using isa::ControlFlow;
using state::Delta;
using state::Reg;
using state::RegisterSet;

void Stepper::system_step(Code& code) {
  flush();
  const RegisterSet before = followed_.registers();
  const abi::SystemCall* call = call_of(code, before);
  const bool snapshot_needed = call == nullptr || !call->outputs_known;
  std::optional<process::Snapshot> snapshot;
  if (snapshot_needed) snapshot = process::Snapshot::take(followed_.process());
  look::KernelWrites planned;
  if (!snapshot_needed) planned = look::KernelWrites::before(*call, followed_.view(), kMostFollowed);
  Recorded& recorded = rows_.open(StepRow::Kind::instruction);
  put_place(recorded.row, code);
  look::KernelCall asked = calls_.begin(followed_.view());
  uncover_arguments(before);
  const Stop stop = followed_.step(std::exchange(walk_->deliver, 0), false, true);
  cover_reads();
  if (nothing_left(stop) && stop.kind != Stop::Kind::killed) {
    recorded.delta.flags_before = recorded.delta.flags_after = before[Reg::rflags];
    rows_.close(recorded);
  }
  if (nothing_left(stop)) return without_step(stop);
  keep_call(recorded, std::move(asked));
  settle(recorded, code, before, stop);
  kernel_row(code, call, planned, snapshot, followed_.registers()[Reg::rax]);
  look_for_written_code();
}

void Stepper::keep_call(Recorded& recorded, look::KernelCall asked) {
  calls_.end(asked, followed_.view(), modules_);
  if (!asked.over || !asked.call.known) return;
  recorded.call = std::move(asked);
  recorded.row.call = &*recorded.call;
}

void Stepper::kernel_row(const Code& code, const abi::SystemCall* call, const look::KernelWrites& planned,
                         const std::optional<process::Snapshot>& snapshot, std::uint64_t result) {
  Recorded& recorded = rows_.open(StepRow::Kind::kernel);
  recorded.row.address -= code.length;
  Delta& delta = recorded.delta;
  if (snapshot) {
    snapshot->add_changes(followed_.process(), delta);
    recorded.row.memory_followed = snapshot->complete();
  } else {
    planned.add_changes(followed_.view(), result, delta);
  }
  delta.flags_before = delta.flags_after = followed_.registers()[Reg::rflags];
  if (delta.memory.empty() && recorded.row.memory_followed) return;
  recorded.text = "the kernel wrote memory" + (call != nullptr ? " in " + std::string(call->name) : std::string());
  put_place(recorded.row, code);
  recorded.row.text = recorded.text;
  recorded.row.flow = ControlFlow::next;
  rows_.close(recorded);
}

void Stepper::note_death(int signal) {
  const auto pending = followed_.process().pending_signal(followed_.thread());
  if (!pending || pending->number != signal) return;
  summary_.findings = look::fault_findings(followed_.process(), modules_, followed_.thread());
}

void Stepper::deliver(int signal) {
  if (!process::catches_signal(followed_.process().pid(), signal)) {
    note_death(signal);
    walk_->deliver = signal;
    return;
  }
  flush();
  const process::Snapshot snapshot = process::Snapshot::take(followed_.process());
  const RegisterSet before = followed_.registers();
  Recorded& recorded = rows_.open(StepRow::Kind::signal);
  recorded.row.signal = signal;
  const Stop stop = followed_.step(signal);
  if (stop.kind == Stop::Kind::signal) walk_->deliver = stop.number;
  if (nothing_left(stop)) return without_step(stop);
  const RegisterSet& after = followed_.registers();
  recorded.delta.compare(before, after);
  snapshot.add_changes(followed_.process(), recorded.delta);
  recorded.row.memory_followed = snapshot.complete();
  compare_wide(recorded);
  recorded.text = abi::signal_name(signal) + " arrived: the kernel called " + modules_.place_name(after[Reg::rip]);
  if (modules_.is_own(before[Reg::rip])) put_place(recorded.row, code_at(before[Reg::rip]));
  recorded.row.text = recorded.text;
  recorded.row.target_name = {};
  recorded.row.target_text = {};
  recorded.row.flow = ControlFlow::next;
  rows_.close(recorded);
  walk_->frames.push_back(after[Reg::rsp]);
}

void Stepper::signal_return(unsigned length) {
  const RegisterSet before = followed_.registers();
  Recorded& recorded = rows_.open(StepRow::Kind::signal_return);
  for (unsigned i = 0; i < length; ++i) {
    const Stop stop = followed_.step();
    if (stop.kind == Stop::Kind::stepped) continue;
    if (nothing_left(stop)) return without_step(stop);
    if (stop.kind == Stop::Kind::signal) walk_->deliver = stop.number;
  }
  recorded.delta.compare(before, followed_.registers());
  compare_wide(recorded);
  recorded.text = "the handler is done: the kernel went back to " + modules_.place_name(rip());
  recorded.row.text = recorded.text;
  rows_.close(recorded);
  std::erase_if(walk_->frames,
                [&](std::uint64_t slot) { return slot < before[Reg::rsp] && slot + word() >= before[Reg::rsp]; });
}

}  // namespace deeptrace::session
