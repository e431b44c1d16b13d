#include "session/step_rows.h"

#include <algorithm>
#include <cstring>
#include <utility>

namespace deeptrace::session {

using isa::ControlFlow;
using state::Delta;
using state::Reg;
using state::RegisterSet;

Recorded& StepRows::open() {
  if (waiting_ + 1 == kQueue) settle();
  Recorded& recorded = rows_[waiting_];
  recorded.delta.clear();
  recorded.code = nullptr;
  recorded.stack.clear();
  recorded.call.reset();
  recorded.compared.reset();
  return recorded;
}

Recorded& StepRows::open(StepRow::Kind kind) {
  Recorded& recorded = open();
  start(recorded, kind);
  return recorded;
}

void StepRows::start(Recorded& recorded, StepRow::Kind kind) {
  recorded.row = StepRow{};
  recorded.row.kind = kind;
  recorded.row.thread = followed_.thread();
  recorded.row.thread_number = followed_.number_of(followed_.thread());
  recorded.row.address = followed_.registers()[Reg::rip];
  recorded.row.delta = &recorded.delta;
  recorded.row.mode = followed_.mode();
}

void put_place(StepRow& row, const Code& code) {
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

void StepRows::keep_compared(Recorded& recorded, std::uint64_t address, std::size_t size) {
  std::uint8_t bytes[8] = {};
  const std::span<std::uint8_t> into(bytes, size);
  // The process knows, the shadow may not: what waiting rows wrote has not been read back.
  state::MemoryRequest request{address, into, 0};
  followed_.process().memory().read({&request, 1}, state::Provenance::program);
  if (request.got == size) recorded.compared = state::number_of(bytes, size);
}

void StepRows::close(Recorded& recorded) {
  recorded.note = std::exchange(note_, {});
  recorded.row.note = recorded.note;
  ++count_;
  if (recorded.row.kind == StepRow::Kind::instruction) ++instructions_;
  recorded.memory_waits = recorded.row.kind == StepRow::Kind::instruction && !recorded.delta.memory.empty();
  ++waiting_;
  // Beside other threads memory has to be read before the turn passes.
  if (recorded.row.kind != StepRow::Kind::instruction || !followed_.alone()) settle();
}

void StepRows::close_plain(Recorded& recorded, const Code& code, const RegisterSet& before) {
  recorded.code = &code;
  recorded.before = before;
  recorded.after = followed_.registers();
  recorded.memory_waits = !recorded.delta.memory.empty();
  ++count_;
  ++instructions_;
  ++waiting_;
}

/// Places close to each other are read as one, since the kernel's work is by piece.
void StepRows::request_pieces() {
  constexpr std::uint64_t kClose = 512;
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
}

/// Reads, in one call to the kernel, what the instructions of the waiting rows left in memory. No two of them wrote to
/// the same place (see prepare), so what is there now is what each one left.
void StepRows::read_back() {
  written_.clear();
  for (; unread_ < waiting_; ++unread_) {
    Recorded& recorded = rows_[unread_];
    if (!recorded.memory_waits) continue;
    for (state::MemoryChange& change : recorded.delta.memory) written_.push_back({&recorded.delta, &change});
  }
  if (written_.empty()) return;
  request_pieces();
  followed_.process().memory().read(requests_, state::Provenance::program);
  for (const Written& written : written_) {
    state::MemoryChange& change = *written.change;
    const state::MemoryRequest& piece = requests_[written.piece];
    change.after_known = change.address - piece.address + change.size <= piece.got;
    if (!change.after_known) continue;
    std::memcpy(written.delta->after(change), read_.data() + written.at, change.size);
    shadow_.write(change.address, {read_.data() + written.at, change.size});
  }
}

void StepRows::settle() {
  read_back();
  for (std::size_t i = 0; i < waiting_; ++i) {
    if (rows_[i].code != nullptr) finish_plain(rows_[i]);
    rows_[i].row.number = ++sent_;
    sink_.row(rows_[i].row);
  }
  waiting_ = unread_ = 0;
}

/// Makes the row of a plain instruction from the registers around it.
void StepRows::finish_plain(Recorded& recorded) {
  StepRow& row = recorded.row;
  row = StepRow{};
  row.thread = followed_.thread();
  row.thread_number = followed_.number_of(followed_.thread());
  row.address = recorded.before[Reg::rip];
  row.delta = &recorded.delta;
  row.before = &recorded.before;
  row.after = &recorded.after;
  row.compared = recorded.compared;
  if (!recorded.stack.empty()) row.stack = &recorded.stack;
  put_place(row, *recorded.code);
  recorded.delta.compare(recorded.before, recorded.after);
  if (sink_.for_people()) recorded.delta.add_written(recorded.code->general_written, recorded.before, recorded.after);
  if (row.flow == ControlFlow::conditional) row.taken = recorded.after[Reg::rip] != row.address + recorded.code->length;
  name_mode(row, *recorded.code, recorded.after);
}

void name_mode(StepRow& row, const Code& code, const RegisterSet& after) {
  if (state::mode_of(after) != code.mode) row.text = code.text_into_other_mode;
}

/// True when a place that is about to be written has not been read back yet.
bool StepRows::overlaps_unread(const Delta& delta) const {
  for (const state::MemoryChange& change : delta.memory) {
    for (std::size_t i = unread_; i < waiting_; ++i) {
      for (const state::MemoryChange& other : rows_[i].delta.memory) {
        if (change.address < other.address + other.size && other.address < change.address + change.size) return true;
      }
    }
  }
  return false;
}

void StepRows::prepare(Delta& delta) {
  if (delta.memory.empty()) return;
  if (overlaps_unread(delta)) read_back();
  for (state::MemoryChange& change : delta.memory) {
    const std::span<std::uint8_t> before(delta.before(change), change.size);
    if (followed_.alone() && shadow_.read(change.address, before)) continue;
    change.before_known = followed_.process().memory().read(change.address, before) == change.size;
  }
}

}  // namespace deeptrace::session
