// What a stepped program's private memory holds, without asking the kernel each time: pages read once and kept up to
// date with the writes that the stepper sees. It answers "what was here before" for an instruction about to write.
//
// It is right only while nothing but the stepped instructions writes, so it is forgotten after full speed, system call
// and signal, is not used beside other threads, and never holds shared mappings.
#pragma once

#include <array>
#include <cstdint>
#include <span>
#include <unordered_map>
#include <vector>

#include "process/process.h"
#include "program/program.h"

namespace deeptrace::session {

class Shadow {
 public:
  explicit Shadow(const process::Process& process) : process_(process) {}

  /// Copies what memory holds; false when it is not known here and has to be read directly.
  bool read(std::uint64_t address, std::span<std::uint8_t> into);
  /// Takes note of a write.
  void write(std::uint64_t address, std::span<const std::uint8_t> bytes);
  void forget();

 private:
  static constexpr std::uint64_t kPage = 4096;
  static constexpr std::size_t kMostPages = 4096;
  using Page = std::array<std::uint8_t, kPage>;

  Page* page(std::uint64_t number);
  [[nodiscard]] bool is_private(std::uint64_t address);

  const process::Process& process_;
  std::unordered_map<std::uint64_t, Page> pages_;  ///< by page number
  std::uint64_t last_number_ = 0;
  Page* last_ = nullptr;
  std::vector<program::AddressRange> private_;
  bool private_known_ = false;
};

}  // namespace deeptrace::session
