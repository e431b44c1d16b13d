// A system call where a program is followed instruction by instruction or from stop to stop: what it is asked for, what
// came back, and what went wrong.
//
//   KernelCalls calls(target, surroundings);
//   KernelCall call = calls.begin(view);        // the thread stands at the instruction
//   …                                           // it is executed
//   calls.end(call, view, modules);
#pragma once

#include <optional>
#include <vector>

#include "look/call_decoder.h"
#include "look/call_findings.h"

namespace deeptrace::look {

struct KernelCall {
  AskedCall asked;
  DecodedCall call;
  std::uint64_t address = 0;  ///< of the instruction
  bool over = false;          ///< it has come back
  bool answered = false;      ///< it was not made: the result is ours
  std::vector<Finding> findings;
};

class KernelCalls {
 public:
  KernelCalls(const state::Target& target, CallFindings::Surroundings surroundings);

  /// What the thread asks for that stands at an instruction which makes a system call.
  [[nodiscard]] KernelCall begin(const state::StateView& view);
  /// The thread stands after the instruction. A call that a signal breaks off, and that is made again, is not over.
  void end(KernelCall& call, const state::StateView& view, Modules& modules);

 private:
  CallDecoder decoder_;
  CallFindings findings_;
};

}  // namespace deeptrace::look
