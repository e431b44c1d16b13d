// An open file descriptor, closed by its owner.
#pragma once

#include <fcntl.h>
#include <unistd.h>

#include <array>
#include <utility>

namespace deeptrace {

class FileDescriptor {
 public:
  FileDescriptor() = default;
  /// Takes over a descriptor; a negative number, as a failed open(2) gives it, is none.
  explicit FileDescriptor(int number) : number_(number) {}
  ~FileDescriptor() { close(); }
  FileDescriptor(FileDescriptor&& other) noexcept : number_(std::exchange(other.number_, -1)) {}
  FileDescriptor& operator=(FileDescriptor&& other) noexcept {
    if (this != &other) {
      close();
      number_ = std::exchange(other.number_, -1);
    }
    return *this;
  }

  explicit operator bool() const { return number_ >= 0; }
  /// The number, for system calls; -1: none.
  [[nodiscard]] int get() const { return number_; }
  void close() {
    if (number_ >= 0) ::close(number_);
    number_ = -1;
  }

 private:
  int number_ = -1;
};

/// pipe(2): both ends are closed on exec. Both are none when there is no pipe to be had.
struct Pipe {
  FileDescriptor reading, writing;

  static Pipe make() {
    std::array<int, 2> ends = {-1, -1};
    if (::pipe2(ends.data(), O_CLOEXEC) != 0) return {};
    return {FileDescriptor(ends[0]), FileDescriptor(ends[1])};
  }
};

}  // namespace deeptrace
