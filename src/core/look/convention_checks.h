// Whether calls kept the rules of the calling convention: what a function must give back as it was, and what a caller
// may take for granted.
//
// x86-64: System V psABI, 3.2.1 (registers that are kept, the direction flag, the floating-point unit), 3.2.2
// (alignment of the stack), 3.2.3 (results, `al` of variadic calls). i386: System V psABI, 2.2.
//
// A rule that is broken is wrong where somebody relies on it; else it is a note: private helpers of hand-written
// programs may have conventions of their own.
#pragma once

#include <array>
#include <cstdint>
#include <map>
#include <optional>
#include <set>
#include <string>
#include <tuple>
#include <vector>

#include "look/argument.h"
#include "look/modules.h"
#include "look/signature.h"
#include "program/register_read.h"
#include "state/view.h"

namespace deeptrace::look {

/// The general registers that are kept, at a function's first instruction; others are not looked at.
using KeptRegisters = std::array<std::uint64_t, 16>;
KeptRegisters kept_registers(const state::StateView& view);

/// A call, as far as its rules go.
struct CheckedCall {
  std::string_view function;    ///< its name
  std::uint64_t address = 0;    ///< of its first instruction
  bool own = false;             ///< its code is looked at: of others it is known that compilers made them
  std::uint64_t call = 0;       ///< the instruction that called it; 0: unknown
  std::uint64_t arguments = 0;  ///< where arguments on the stack begin
  const Signature* signature = nullptr;
};

class ConventionChecks {
 public:
  explicit ConventionChecks(Modules& modules) : modules_(modules) {}

  /// When the call begins: before its instruction or at the function's first one. Findings that are the same as before,
  /// at the same place, are given once.
  std::vector<Finding> at_call(const state::StateView& view, const CheckedCall& call,
                               const std::vector<Argument>& passed);
  /// When it has returned. `before`: at its first instruction; nothing where that was not seen. `expected`: where the
  /// stack pointer should stand.
  std::vector<Finding> at_return(const state::StateView& view, const CheckedCall& call,
                                 const std::optional<KeptRegisters>& before, std::uint64_t expected);

 private:
  void alignment(const state::StateView& view, const CheckedCall& call, std::vector<Finding>& found);
  void variadic(const state::StateView& view, const CheckedCall& call, const std::vector<Argument>& passed,
                std::vector<Finding>& found);
  void order(const state::StateView& view, const CheckedCall& call, const std::vector<Argument>& passed,
             std::vector<Finding>& found);
  void kept(const state::StateView& view, const CheckedCall& call, const KeptRegisters& before,
            std::vector<Finding>& found);
  void stack(const state::StateView& view, const CheckedCall& call, std::uint64_t expected,
             std::vector<Finding>& found);
  void direction(const state::StateView& view, const CheckedCall& call, std::vector<Finding>& found);
  void floating(const state::StateView& view, const CheckedCall& call, std::vector<Finding>& found);
  void width(const state::StateView& view, const CheckedCall& call, std::vector<Finding>& found);
  void add(std::vector<Finding>& found, const CheckedCall& call, Finding finding, std::uint64_t at);
  bool is_hand_written(std::uint64_t address);
  template <class Find>
  std::optional<std::uint64_t> in_process(std::uint64_t address, const Find& find);
  [[nodiscard]] std::string at_line(std::uint64_t address);
  const std::optional<program::RegisterRead>& reader(std::uint64_t back, isa::General number, bool through_calls);

  /// Where hand-written code at a function's address writes the floating-point unit; worked out once.
  const std::optional<std::uint64_t>& floating_writer(std::uint64_t function);

  Modules& modules_;
  std::map<std::uint64_t, std::optional<std::uint64_t>> floating_;
  std::map<std::pair<std::uint64_t, unsigned>, std::optional<program::RegisterRead>>
      readers_;                                                            ///< by place and register
  std::set<std::tuple<std::string, std::uint64_t, std::uint64_t>> given_;  ///< kind with register, function, call
};

}  // namespace deeptrace::look
