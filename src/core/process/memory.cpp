#include "process/memory.h"

#include <fcntl.h>
#include <sys/uio.h>
#include <unistd.h>

#include <algorithm>
#include <array>
#include <string>

#include "process/delay.h"

namespace deeptrace::process {

bool Memory::open(pid_t pid) {
  pid_ = pid;
  file_ = FileDescriptor(::open(("/proc/" + std::to_string(pid) + "/mem").c_str(), O_RDWR | O_CLOEXEC));
  return static_cast<bool>(file_);
}

void Memory::read(std::span<state::MemoryRequest> requests, state::Provenance provenance) const {
  constexpr std::size_t kBatch = 16, kSmall = 1024;
  std::size_t first = 0;
  if (requests.size() == 1 && requests[0].into.size() <= kSmall) {  // the quicker way for a few bytes
    const ssize_t got =
        ::pread(file_.get(), requests[0].into.data(), requests[0].into.size(), static_cast<off_t>(requests[0].address));
    requests[0].got = static_cast<std::size_t>(std::max<ssize_t>(got, 0));
    first = 1;
  }
  while (first < requests.size()) {
    std::array<iovec, kBatch> local, remote;
    const std::size_t count = std::min(kBatch, requests.size() - first);
    for (std::size_t i = 0; i < count; ++i) {
      const state::MemoryRequest& request = requests[first + i];
      local[i] = {request.into.data(), request.into.size()};
      remote[i] = {reinterpret_cast<void*>(request.address), request.into.size()};
    }
    const ssize_t read = ::process_vm_readv(pid_, local.data(), count, remote.data(), count, 0);
    auto left = static_cast<std::size_t>(std::max<ssize_t>(read, 0));
    std::size_t done = 0;
    for (; done < count; ++done) {
      state::MemoryRequest& request = requests[first + done];
      request.got = std::min(left, request.into.size());
      left -= request.got;
      if (request.got < request.into.size()) break;
    }
    if (done < count) {
      // The rest of this piece through /proc/PID/mem, which also reads pages that the program may not.
      state::MemoryRequest& request = requests[first + done];
      const ssize_t more = ::pread(file_.get(), request.into.data() + request.got, request.into.size() - request.got,
                                   static_cast<off_t>(request.address + request.got));
      if (more > 0) request.got += static_cast<std::size_t>(more);
      ++done;
    }
    first += done;
  }
  if (provenance == state::Provenance::program && !planted_->bytes.empty()) {
    for (const state::MemoryRequest& request : requests)
      planted_->bytes.hide(request.address, request.into.first(request.got));
  }
}

bool Memory::raw_write(std::uint64_t address, std::span<const std::uint8_t> bytes) const {
  return ::pwrite(file_.get(), bytes.data(), bytes.size(), static_cast<off_t>(address)) ==
         static_cast<ssize_t>(bytes.size());
}

bool Memory::write(std::uint64_t address, std::span<const std::uint8_t> bytes) {
  if (!planted_->bytes.overlap(address, bytes.size())) return raw_write(address, bytes);
  for (std::size_t i = 0; i < bytes.size(); ++i) {
    if (planted_->bytes.contains(address + i)) {
      planted_->bytes.remove(address + i);
      planted_->bytes.add(address + i, bytes[i]);
    } else if (!raw_write(address + i, bytes.subspan(i, 1))) {
      return false;
    }
  }
  return true;
}

bool Memory::write_as_program(std::uint64_t address, std::span<const std::uint8_t> bytes) const {
  iovec local{const_cast<std::uint8_t*>(bytes.data()), bytes.size()};
  iovec remote{reinterpret_cast<void*>(address), bytes.size()};
  return ::process_vm_writev(pid_, &local, 1, &remote, 1, 0) == static_cast<ssize_t>(bytes.size());
}

bool Memory::plant(std::uint64_t address) {
  if (own_.contains(address)) return true;
  if (!is_planted(address)) {
    std::uint8_t own = 0;
    if (read(address, {&own, 1}) != 1 || !raw_write(address, {&StopBytes::kTrap, 1})) return false;
    planted_->bytes.add(address, own);
    delay_at(Delay::plant);
  }
  own_.insert(address);
  ++planted_->users[address];
  return true;
}

/// What stands at a stop byte's place now. The program may have written over it; that is its own byte then.
std::uint8_t Memory::learn_own_byte(std::uint64_t address) {
  std::uint8_t now = StopBytes::kTrap;
  read(address, {&now, 1}, state::Provenance::as_in_memory);
  if (now != StopBytes::kTrap) planted_->bytes.set_own_byte(address, now);
  return now;
}

void Memory::uncover(std::uint64_t address) {
  if (!planted_->bytes.contains(address)) return;
  if (learn_own_byte(address) == StopBytes::kTrap) {
    const std::uint8_t own = planted_->bytes.own_byte(address);
    raw_write(address, {&own, 1});
  }
  delay_at(Delay::uncover);
}

void Memory::cover(std::uint64_t address) {
  if (planted_->bytes.contains(address)) {
    learn_own_byte(address);
    raw_write(address, {&StopBytes::kTrap, 1});
  }
  delay_at(Delay::cover);
}

void Memory::plant_overwritten() {
  for (const auto& [address, own] : planted_->bytes.all()) {
    if (learn_own_byte(address) != StopBytes::kTrap) raw_write(address, {&StopBytes::kTrap, 1});
  }
}

void Memory::remove(std::uint64_t address) {
  if (own_.erase(address) == 0) return;
  const auto users = planted_->users.find(address);
  if (--users->second != 0) return;
  planted_->users.erase(users);
  uncover(address);
  planted_->bytes.remove(address);
}

void Memory::inherit(const StopBytes& stops) {
  forget_stops();
  planted_->bytes = stops;
  for (const auto& [address, own] : stops.all()) {
    own_.insert(address);
    planted_->users[address] = 1;
    raw_write(address, {&StopBytes::kTrap, 1});
  }
}

void Memory::share(const Memory& other) {
  forget_stops();
  planted_ = other.planted_;
  own_ = other.own_;
  for (const std::uint64_t address : own_) ++planted_->users[address];
}

void Memory::forget_stops() {
  if (planted_.use_count() > 1) {
    const std::set<std::uint64_t> own = own_;
    for (const std::uint64_t address : own) remove(address);
  }
  planted_ = std::make_shared<Planted>();
  own_.clear();
}

void Memory::remove_all() {
  for (const auto& [address, own] : planted_->bytes.all()) {
    if (learn_own_byte(address) == StopBytes::kTrap) raw_write(address, {&own, 1});
  }
  if (planted_.use_count() > 1) return forget_stops();
  *planted_ = {};
  own_.clear();
}

}  // namespace deeptrace::process
