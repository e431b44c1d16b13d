// Static libraries: archives of object files (the common format of System V and GNU, ar(5)).
#pragma once

#include <string>
#include <vector>

#include "base/byte_reader.h"

namespace deeptrace::binary {

struct ArchiveMember {
  std::string name;
  std::size_t offset = 0;  ///< of its bytes in the archive
  std::size_t size = 0;    ///< bytes
};

bool is_archive(Bytes bytes);

/// The members in order, without the index and the table of long names. Ends at the first damaged header.
std::vector<ArchiveMember> archive_members(Bytes bytes);

}  // namespace deeptrace::binary
