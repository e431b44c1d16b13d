// What people look at of a thread that stands still: frames, the words of its stack, registers.
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <utility>
#include <vector>

#include "look/address_name.h"
#include "look/argument.h"
#include "look/level.h"
#include "look/scope.h"

namespace deeptrace::look {

struct FrameRow {
  std::size_t number = 0;     ///< from 0, the innermost
  std::uint64_t address = 0;  ///< where it stands; of a caller the return address
  std::string place;
  std::string file;
  std::uint32_t line = 0;
  std::string inlined;    ///< it is an inlined call of this function, in the frame of the row after it
  unsigned depth = 0;     ///< of inlined calls
  std::size_t frame = 0;  ///< of those that rows were asked for: which it is, or lies in
  std::uint64_t cfa = 0;
  inspect::Frame::How how = inspect::Frame::How::innermost;
  bool signal = false;
  std::string tail;  ///< the function that the caller called and that jumped here: it has no frame any more
  bool own = false;  ///< of the developer's own code; of an inlined call by the file that it stands in
  std::vector<Argument> parameters;
};
std::vector<FrameRow> frame_rows(Modules& modules, const state::StateView& view,
                                 const std::vector<inspect::Frame>& frames);

struct RegisterRow {
  std::string name;
  std::uint64_t value = 0;
  std::optional<std::uint64_t> before;  ///< when it was other before
  bool before_is_address = false;
  AddressName address;  ///< what it points to
  bool known = true;
};
/// The general registers and the instruction pointer of a state.
std::vector<RegisterRow> register_rows(Modules& modules, const state::StateView& view,
                                       const state::RegisterSet& before);

}  // namespace deeptrace::look
