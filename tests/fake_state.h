// A state of bytes and registers that a test makes up: what looks at programs is tried on it in microseconds.
#pragma once

#include <algorithm>
#include <cstring>
#include <map>
#include <vector>

#include "state/target.h"
#include "state/view.h"

namespace deeptrace::tests {

class FakeState final : public state::StateView {
 public:
  explicit FakeState(isa::Mode mode = isa::Mode::bits64) : mode_(mode) {}

  state::RegisterSet set;                   ///< its registers
  std::uint32_t known = ~std::uint32_t(0);  ///< bits by state::Reg

  /// Puts bytes, or a word of the mode's width, into memory. What nobody put there cannot be read.
  void put(std::uint64_t address, const std::vector<std::uint8_t>& bytes) { pieces_[address] = bytes; }
  void put_word(std::uint64_t address, std::uint64_t value) {
    std::vector<std::uint8_t> bytes(arch::machine_of(mode_).word);
    std::memcpy(bytes.data(), &value, bytes.size());
    put(address, bytes);
  }

  [[nodiscard]] isa::Mode mode() const override { return mode_; }
  [[nodiscard]] const state::RegisterSet& registers() const override { return set; }
  [[nodiscard]] std::uint32_t known_registers() const override { return known; }
  void read_memory(std::span<state::MemoryRequest> requests, state::Provenance /*provenance*/) const override {
    for (state::MemoryRequest& request : requests) {
      request.got = 0;
      while (request.got < request.into.size()) {
        const std::uint8_t* byte = byte_at(request.address + request.got);
        if (byte == nullptr) break;
        request.into[request.got++] = *byte;
      }
    }
  }
  using state::StateView::read_memory;

 private:
  [[nodiscard]] const std::uint8_t* byte_at(std::uint64_t address) const {
    auto after = pieces_.upper_bound(address);
    if (after == pieces_.begin()) return nullptr;
    const auto& [start, bytes] = *--after;
    return address - start < bytes.size() ? &bytes[address - start] : nullptr;
  }

  isa::Mode mode_;
  std::map<std::uint64_t, std::vector<std::uint8_t>> pieces_;
};

/// A target of one thread in such a state.
class FakeTarget final : public state::Target {
 public:
  explicit FakeTarget(isa::Mode mode = isa::Mode::bits64) : thread(mode) {}

  FakeState thread;
  std::vector<state::Mapping> mapped;
  std::map<state::Auxiliary, std::uint64_t> auxiliaries;
  std::optional<std::uint64_t> call;  ///< the system call that its thread stands in

  [[nodiscard]] std::vector<state::ThreadId> threads() const override { return {1}; }
  [[nodiscard]] const state::StateView& view(state::ThreadId /*thread*/) const override { return thread; }
  [[nodiscard]] std::vector<state::Mapping> mappings() const override { return mapped; }
  [[nodiscard]] std::optional<std::uint64_t> auxiliary(state::Auxiliary type) const override {
    const auto found = auxiliaries.find(type);
    return found != auxiliaries.end() ? std::optional(found->second) : std::nullopt;
  }
  [[nodiscard]] std::optional<state::PendingSignal> pending_signal(state::ThreadId /*thread*/) const override {
    return std::nullopt;
  }
  [[nodiscard]] std::optional<std::uint64_t> system_call(state::ThreadId /*thread*/) const override { return call; }
};

}  // namespace deeptrace::tests
