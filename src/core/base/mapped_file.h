// A file mapped for reading: its bytes as a view, unmapped with the last owner.
#pragma once

#include <string>

#include "base/byte_reader.h"
#include "base/result.h"

namespace deeptrace {

class MappedFile {
 public:
  /// Maps a regular file whole, read-only and private. Errors (Fault::input): no such file, a directory or
  /// another thing that is not a regular file, no permission, an empty file.
  static Result<MappedFile> open(const std::string& path);

  MappedFile(MappedFile&& other) noexcept;
  MappedFile& operator=(MappedFile&& other) noexcept;
  MappedFile(const MappedFile&) = delete;
  MappedFile& operator=(const MappedFile&) = delete;
  ~MappedFile();

  [[nodiscard]] Bytes bytes() const { return bytes_; }
  [[nodiscard]] const std::string& path() const { return path_; }

 private:
  MappedFile(std::string path, Bytes bytes) : path_(std::move(path)), bytes_(bytes) {}

  std::string path_;
  Bytes bytes_;
};

}  // namespace deeptrace
