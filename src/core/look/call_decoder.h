// Arguments and result of a system call, by the tables of abi/call_shapes.h: what the kernel reads is decoded before
// the call is made, what it writes afterwards.
//
//   CallDecoder decoder(names);
//   DecodedCall call;
//   decoder.before(call, asked, view);
//   …                                             // the call is made
//   decoder.after(call, asked, view, result);
#pragma once

#include <array>
#include <cstdint>
#include <functional>
#include <map>
#include <memory>
#include <optional>
#include <string>
#include <unordered_map>
#include <vector>

#include "abi/call_shapes.h"
#include "abi/inner_calls.h"
#include "abi/kernel_types.h"
#include "look/argument.h"
#include "state/view.h"

namespace deeptrace::look {

/// What a thread asks the kernel for.
struct AskedCall {
  abi::CallTable table = abi::CallTable::x86_64;
  std::uint64_t number = 0;
  std::array<std::uint64_t, abi::kMostArguments> arguments{};
  /// The call that this one stands for, which has its name and arguments; null for nearly all.
  const abi::InnerCall* inner = nullptr;
  std::vector<std::string_view> inner_places{};  ///< where its arguments are: "ecx", "[ecx+4]"

  /// "connect", or its number where no table has it.
  [[nodiscard]] std::string name() const;
  /// What the tables say of it; null: nothing.
  [[nodiscard]] const abi::CallShape* shape() const;
  [[nodiscard]] isa::Mode mode() const {
    return table == abi::CallTable::x86_64 ? isa::Mode::bits64 : isa::Mode::bits32;
  }
  /// Of a thread that stands at the entry of the call `number`, with what it asks socketcall(2) for.
  static AskedCall of(const state::StateView& view, abi::CallTable table, std::uint64_t number);
};

struct DecodedCall {
  std::string name;
  bool known = false;                     ///< the tables have its arguments
  const abi::CallShape* shape = nullptr;  ///< those; null where they are not known
  abi::CallTable table = abi::CallTable::x86_64;
  std::uint64_t number = 0;                                ///< in that
  bool inner = false;                                      ///< made through socketcall(2) or ipc(2)
  std::array<std::uint64_t, abi::kMostArguments> asked{};  ///< what the values of `arguments` were made of
  std::vector<Argument> arguments;  ///< the values of descriptors have what they are open on in `pointed_text`
  bool failed = false;
  std::string error;          ///< "EBADF"; empty unless it failed
  std::string meaning;        ///< "Bad file descriptor"
  inspect::Value result;      ///< of a call that did not fail; of kind `nothing` where it says no more than that
  bool result_ready = false;  ///< `result` was made as a number of the shape's: another call's differs in that alone

  std::uint32_t made = ~std::uint32_t(0);  ///< bits by argument: those that are not as they were in the call before

  /// False for an argument that is what it was in the call that was decoded into this before.
  [[nodiscard]] bool is_new(std::size_t argument) const { return (made >> argument & 1) != 0; }
  /// As before the call is made.
  void forget_result();
};

class CallDecoder {
 public:
  /// What a descriptor is open on, as in "logs/levels.log"; empty when unknown.
  using DescriptorName = std::function<std::string(std::uint64_t)>;
  /// `most`: bytes of buffers that are shown.
  CallDecoder(DescriptorName descriptor, std::size_t most);

  /// Memory that `before` will read, as far as the registers alone say it.
  struct Range {
    std::uint64_t address = 0;
    std::size_t size = 0;  ///< bytes
  };
  struct Ranges {
    std::array<Range, abi::kMostArguments> all;
    std::size_t count = 0;
  };
  [[nodiscard]] Ranges will_read(const AskedCall& asked) const;
  /// `call` may hold an earlier one: what is the same in both is not made again. `same_descriptors`: they are known to
  /// be open on what they were open on at that one.
  void before(DecodedCall& call, const AskedCall& asked, const state::StateView& view, bool same_descriptors = false);
  void after(DecodedCall& call, const AskedCall& asked, const state::StateView& view, std::uint64_t result);

 private:
  class Reader;
  abi::KernelTypes& types(abi::CallTable table);
  void name(DecodedCall& call, const AskedCall& asked);

  DescriptorName descriptor_;
  std::size_t most_;
  std::map<abi::CallTable, std::unique_ptr<abi::KernelTypes>> types_;
  std::unordered_map<const abi::ArgumentShape*, std::string> words_;  ///< of types, as they are needed
};

}  // namespace deeptrace::look
