#include "base/mapped_file.h"

#include <fcntl.h>
#include <sys/mman.h>
#include <sys/stat.h>
#include <unistd.h>

#include <array>
#include <atomic>
#include <cerrno>
#include <csignal>
#include <cstring>
#include <utility>

#include "base/file_descriptor.h"

namespace deeptrace {
namespace {

/// A mapping as a signal handler can look at it: objects of static storage, no locks. Those beyond the last place are
/// not guarded.
struct Guarded {
  std::atomic<const std::uint8_t*> start{nullptr};
  std::atomic<std::size_t> size{0};  ///< bytes; 0: the place is free
  std::atomic<bool> damaged{false};
  char path[512] = {};
};
std::array<Guarded, 1024> guarded;
struct sigaction earlier;

/// A page of a mapping after the end of its file raises SIGBUS (mmap(2)): it becomes one of zeros.
void on_missing_page(int signal, siginfo_t* info, void* /*context*/) {
  const auto* const at = static_cast<const std::uint8_t*>(info->si_addr);
  for (Guarded& one : guarded) {
    const std::uint8_t* const start = one.start;
    if (one.size == 0 || at < start || at >= start + one.size) continue;
    const auto page = static_cast<std::uintptr_t>(::sysconf(_SC_PAGESIZE));
    void* const from = reinterpret_cast<void*>(reinterpret_cast<std::uintptr_t>(at) / page * page);
    const int how = MAP_PRIVATE | MAP_ANONYMOUS | MAP_FIXED;
    if (::mmap(from, page, PROT_READ, how, -1, 0) == MAP_FAILED) break;
    one.damaged = true;
    return;
  }
  ::sigaction(signal, &earlier, nullptr);  // not ours: it comes again at once
}

void guard(const std::string& path, Bytes mapping) {
  static const bool kReady = [] {
    struct sigaction action {};
    action.sa_sigaction = on_missing_page;
    action.sa_flags = SA_SIGINFO;
    return ::sigaction(SIGBUS, &action, &earlier) == 0;
  }();
  for (Guarded& one : guarded) {
    std::size_t free = 0;
    if (!kReady || !one.size.compare_exchange_strong(free, mapping.size())) continue;
    path.copy(one.path, sizeof one.path - 1);
    one.path[std::min(path.size(), sizeof one.path - 1)] = 0;
    one.start = mapping.data();
    return;
  }
}

}  // namespace

std::vector<std::string> damaged_files() {
  std::vector<std::string> result;
  for (Guarded& one : guarded) {
    if (one.size == 0 || !one.damaged.exchange(false)) continue;
    result.emplace_back(one.path);
    if (one.start == nullptr) one.size = 0;  // unmapped meanwhile
  }
  return result;
}

Result<MappedFile> MappedFile::open(const std::string& path) {
  const auto refuse = [&](const std::string& why) { return Error{Fault::input, path + ": " + why}; };
  FileDescriptor file(::open(path.c_str(), O_RDONLY | O_CLOEXEC | O_NONBLOCK));
  if (!file) return refuse(errno == ENOENT ? "no such file" : std::strerror(errno));
  struct stat status {};
  const bool known = ::fstat(file.get(), &status) == 0;
  void* address = MAP_FAILED;
  if (known && S_ISREG(status.st_mode) && status.st_size > 0) {
    address = ::mmap(nullptr, static_cast<std::size_t>(status.st_size), PROT_READ, MAP_PRIVATE, file.get(), 0);
  }
  const int map_error = errno;
  if (!known) return refuse("its size cannot be read");
  if (S_ISDIR(status.st_mode)) return refuse("is a directory, not a compiled program");
  if (!S_ISREG(status.st_mode)) return refuse("is not a regular file");
  if (status.st_size == 0) return refuse("is empty, not a compiled program");
  if (address == MAP_FAILED) return refuse(std::strerror(map_error));
  const Bytes mapping(static_cast<const std::uint8_t*>(address), static_cast<std::size_t>(status.st_size));
  guard(path, mapping);
  return MappedFile(path, mapping);
}

MappedFile MappedFile::of(std::string path, std::vector<std::uint8_t> bytes) {
  MappedFile file(std::move(path), {});
  file.owned_ = std::move(bytes);
  file.bytes_ = file.owned_;
  return file;
}

void MappedFile::narrow(std::string path, std::size_t offset, std::size_t size) {
  path_ = std::move(path);
  bytes_ = bytes_.subspan(offset, size);
}

MappedFile::MappedFile(MappedFile&& other) noexcept
    : path_(std::move(other.path_)),
      mapping_(std::exchange(other.mapping_, {})),
      owned_(std::move(other.owned_)),
      bytes_(std::exchange(other.bytes_, {})) {}

MappedFile& MappedFile::operator=(MappedFile&& other) noexcept {
  std::swap(path_, other.path_);
  std::swap(mapping_, other.mapping_);
  std::swap(owned_, other.owned_);
  std::swap(bytes_, other.bytes_);
  return *this;
}

MappedFile::~MappedFile() {
  if (mapping_.empty()) return;
  for (Guarded& one : guarded) {
    if (one.size == 0 || one.start != mapping_.data()) continue;
    one.start = nullptr;
    if (!one.damaged) one.size = 0;  // else it keeps its place until it is reported
  }
  ::munmap(const_cast<std::uint8_t*>(mapping_.data()), mapping_.size());
}

}  // namespace deeptrace
