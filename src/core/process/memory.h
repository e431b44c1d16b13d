// The memory of another process: read and written whatever its protection, with stop bytes hidden from what is shown.
#pragma once

#include <sys/types.h>

#include <span>

#include "base/file_descriptor.h"
#include "process/stop_bytes.h"
#include "state/view.h"

namespace deeptrace::process {

class Memory {
 public:
  Memory() = default;
  explicit Memory(pid_t pid) { open(pid); }
  ~Memory() = default;
  Memory(const Memory&) = delete;
  Memory& operator=(const Memory&) = delete;

  /// Of a process that is traced, or of the same one after it executed another program. False when it cannot be.
  bool open(pid_t pid);
  void read(std::span<state::MemoryRequest> requests, state::Provenance provenance) const;
  std::size_t read(std::uint64_t address, std::span<std::uint8_t> into,
                   state::Provenance provenance = state::Provenance::program) const {
    state::MemoryRequest request{address, into, 0};
    read({&request, 1}, provenance);
    return request.got;
  }
  /// What a person or a stop byte writes. Under planted stop bytes the program's own bytes are changed.
  bool write(std::uint64_t address, std::span<const std::uint8_t> bytes);
  /// A write that the page's protection must allow, as the program's own would have to.
  bool write_as_program(std::uint64_t address, std::span<const std::uint8_t> bytes) const;

  /// Plants a stop byte; false when the memory is not there. Planting twice is the same as once.
  bool plant(std::uint64_t address);
  void remove(std::uint64_t address);
  void remove_all();
  /// Takes a stop byte away for a moment, and puts it back.
  void uncover(std::uint64_t address);
  void cover(std::uint64_t address);
  /// Plants again where the program has written over stop bytes.
  void plant_overwritten();
  [[nodiscard]] bool is_planted(std::uint64_t address) const { return stops_.contains(address); }
  [[nodiscard]] const StopBytes& stops() const { return stops_; }
  /// The process is a forked copy of one that these stop bytes were planted in, be it with some taken away for a
  /// moment.
  void inherit(const StopBytes& stops);
  /// The process has other memory now: what was planted is gone.
  void forget_stops() { stops_.clear(); }

 private:
  std::uint8_t learn_own_byte(std::uint64_t address);
  bool raw_write(std::uint64_t address, std::span<const std::uint8_t> bytes) const;

  pid_t pid_ = 0;
  FileDescriptor file_;  ///< /proc/PID/mem
  StopBytes stops_;
};

}  // namespace deeptrace::process
