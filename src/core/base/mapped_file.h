// A file mapped for reading: its bytes as a view, unmapped with the last owner.
//
// Where somebody makes the file shorter while it is read (a build that writes it anew), what is missing reads as zeros,
// and damaged_files() names it.
#pragma once

#include <string>
#include <vector>

#include "base/byte_reader.h"
#include "base/result.h"

namespace deeptrace {

class MappedFile {
 public:
  /// Maps a regular file whole, read-only and private. Errors (Fault::input): no such file, a directory or
  /// another thing that is not a regular file, no permission, an empty file.
  static Result<MappedFile> open(const std::string& path);
  /// Bytes that came out of another file; `path` says which in messages.
  static MappedFile of(std::string path, std::vector<std::uint8_t> bytes);
  /// Narrows the view to a part: a member of an archive. `path` is its new name.
  void narrow(std::string path, std::size_t offset, std::size_t size);

  MappedFile(MappedFile&& other) noexcept;
  MappedFile& operator=(MappedFile&& other) noexcept;
  MappedFile(const MappedFile&) = delete;
  MappedFile& operator=(const MappedFile&) = delete;
  ~MappedFile();

  [[nodiscard]] Bytes bytes() const { return bytes_; }
  [[nodiscard]] const std::string& path() const { return path_; }

 private:
  MappedFile(std::string path, Bytes mapping) : path_(std::move(path)), mapping_(mapping), bytes_(mapping) {}

  std::string path_;
  Bytes mapping_;                    ///< to be unmapped
  std::vector<std::uint8_t> owned_;  ///< in place of a mapping
  Bytes bytes_;
};

/// The files that were made shorter while they were read, since this was asked last.
std::vector<std::string> damaged_files();

}  // namespace deeptrace
