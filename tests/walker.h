// An independent look at a running program: bare ptrace with a hardware stop, no code of the product. It runs the
// program at full speed to the n-th time that an instruction is reached and takes the kernel's word for everything.
#pragma once

#include <sys/types.h>
#include <sys/user.h>

#include <cstdint>
#include <map>
#include <string>
#include <vector>

namespace deeptrace::tests {

class Walker {
 public:
  /// Starts the program with address randomisation off; its output goes nowhere.
  explicit Walker(const std::vector<std::string>& words);
  ~Walker();
  Walker(const Walker&) = delete;
  Walker& operator=(const Walker&) = delete;

  /// Runs until `address` is reached for the `times`-th time from now; false when the program ended before.
  bool run_to(std::uint64_t address, unsigned times);
  [[nodiscard]] user_regs_struct registers() const;
  /// xmm0 to xmm15, 16 bytes each.
  [[nodiscard]] std::vector<std::uint8_t> vectors() const;
  /// All registers beyond the integer core by name: "zmm0" with all 64 bytes (zeros where the processor has no such
  /// part), "k1", "r5" (of the floating-point unit, by its fixed number: 10 bytes, and one that is 1 where it is in
  /// use), "fcw", "fsw", "mxcsr".
  [[nodiscard]] std::map<std::string, std::vector<std::uint8_t>> wide() const;
  /// Every writable private mapping: start and bytes.
  [[nodiscard]] std::map<std::uint64_t, std::vector<std::uint8_t>> writable_memory() const;

 private:
  pid_t pid_;
};

}  // namespace deeptrace::tests
