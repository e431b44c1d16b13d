// What the operating system says of a process that makes calls: its descriptors, directories and sockets (proc(5)).
#pragma once

#include <sys/types.h>

#include <cstdint>
#include <memory>
#include <string>
#include <string_view>
#include <unordered_map>

#include "look/call_findings.h"

namespace deeptrace::control {

/// Whether names of descriptors that were read may be shown again. A file that another program renames meanwhile keeps
/// the name that it had.
class DescriptorChanges {
 public:
  /// A call that was seen begins, or is over; null: one that the tables do not have.
  void begin(const abi::CallShape* call);
  void end(const abi::CallShape* call);
  /// Counts the calls that may have changed something: what was read at another count may be wrong by now.
  [[nodiscard]] std::uint64_t count() const { return count_; }
  /// No such call is under way.
  [[nodiscard]] bool settled() const { return under_way_ == 0; }

 private:
  std::uint64_t count_ = 0, under_way_ = 0;
};

/// What the descriptors of a process are open on.
class DescriptorNames {
 public:
  /// `changes` counts the calls of all processes that are followed; null: it is asked for anew each time.
  DescriptorNames(pid_t pid, std::shared_ptr<const DescriptorChanges> changes)
      : pid_(pid), changes_(std::move(changes)) {}
  /// Empty: it is not open.
  std::string of(std::uint64_t descriptor);

 private:
  pid_t pid_;
  std::shared_ptr<const DescriptorChanges> changes_;
  std::uint64_t read_at_ = 0;  ///< the count when `names_` began
  std::unordered_map<std::uint64_t, std::string> names_;
};

/// `names` must outlive the result.
look::CallFindings::Surroundings surroundings_of(pid_t pid, DescriptorNames& names);

}  // namespace deeptrace::control
