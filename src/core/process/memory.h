// The memory of another process: read and written whatever its protection, with stop bytes hidden from what is shown.
#pragma once

#include <sys/types.h>

#include <map>
#include <memory>
#include <set>
#include <span>

#include "base/file_descriptor.h"
#include "process/stop_bytes.h"
#include "state/view.h"

namespace deeptrace::process {

class Memory {
 public:
  Memory() = default;
  explicit Memory(pid_t pid) { open(pid); }
  ~Memory() { forget_stops(); }
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
  /// Takes all stop bytes out of the memory, for a process that is let go: those of others that have it too.
  void remove_all();
  /// Takes a stop byte away for a moment, and puts it back.
  void uncover(std::uint64_t address);
  void cover(std::uint64_t address);
  /// Plants again where the program has written over stop bytes.
  void plant_overwritten();
  /// By this process or one that has the same memory.
  [[nodiscard]] bool is_planted(std::uint64_t address) const { return planted_->bytes.contains(address); }
  [[nodiscard]] const StopBytes& stops() const { return planted_->bytes; }
  /// The process is a forked copy of one that these stop bytes were planted in, be it with some taken away for a
  /// moment.
  void inherit(const StopBytes& stops);
  /// The process runs in the memory of another (vfork) and has planted what that one has: each byte stays until both
  /// have removed it.
  void share(const Memory& other);
  [[nodiscard]] bool is_shared_with(const Memory& other) const { return planted_ == other.planted_; }
  /// The process has other memory now, or none: what was planted is gone. Where another process has the memory still,
  /// what only this one had planted is removed.
  void forget_stops();

 private:
  std::uint8_t learn_own_byte(std::uint64_t address);
  bool raw_write(std::uint64_t address, std::span<const std::uint8_t> bytes) const;

  /// What stands in a memory.
  struct Planted {
    StopBytes bytes;
    std::map<std::uint64_t, unsigned> users;  ///< by address: processes that planted it
  };

  pid_t pid_ = 0;
  FileDescriptor file_;  ///< /proc/PID/mem, which stays that of the memory it was opened for
  std::shared_ptr<Planted> planted_ = std::make_shared<Planted>();
  std::set<std::uint64_t> own_;  ///< addresses that this process planted
};

}  // namespace deeptrace::process
