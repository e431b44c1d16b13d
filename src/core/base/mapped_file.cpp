#include "base/mapped_file.h"

#include <fcntl.h>
#include <sys/mman.h>
#include <sys/stat.h>
#include <unistd.h>

#include <cerrno>
#include <cstring>

namespace deeptrace {

Result<MappedFile> MappedFile::open(const std::string& path) {
  const auto refuse = [&](const std::string& why) { return Error{Fault::input, path + ": " + why}; };
  const int file = ::open(path.c_str(), O_RDONLY | O_CLOEXEC | O_NONBLOCK);
  if (file < 0) return refuse(errno == ENOENT ? "no such file" : std::strerror(errno));
  struct stat status {};
  const bool known = ::fstat(file, &status) == 0;
  void* address = MAP_FAILED;
  if (known && S_ISREG(status.st_mode) && status.st_size > 0) {
    address = ::mmap(nullptr, static_cast<std::size_t>(status.st_size), PROT_READ, MAP_PRIVATE, file, 0);
  }
  const int map_error = errno;
  ::close(file);
  if (!known) return refuse("its size cannot be read");
  if (S_ISDIR(status.st_mode)) return refuse("is a directory, not a compiled program");
  if (!S_ISREG(status.st_mode)) return refuse("is not a regular file");
  if (status.st_size == 0) return refuse("is empty, not a compiled program");
  if (address == MAP_FAILED) return refuse(std::strerror(map_error));
  return MappedFile(path, Bytes(static_cast<const std::uint8_t*>(address), static_cast<std::size_t>(status.st_size)));
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
  if (!mapping_.empty()) ::munmap(const_cast<std::uint8_t*>(mapping_.data()), mapping_.size());
}

}  // namespace deeptrace
