#include "abi/call_shapes.h"

#include <algorithm>
#include <map>
#include <vector>

#include "abi/constants.h"

namespace deeptrace::abi {
namespace {

using Kind = ArgumentShape::Kind;
using Way = ArgumentShape::Way;
using By = ArgumentShape::Count::By;

struct Variant {
  std::string_view call, constant;
  ArgumentShape shape;
};

#include "shapes.inc"

std::string_view kind_words(Kind kind) {
  switch (kind) {
    case Kind::none: return "not used";
    case Kind::signed_int:
    case Kind::signed_long: return "signed number";
    case Kind::unsigned_int:
    case Kind::unsigned_long: return "unsigned number";
    case Kind::hex: return "number";
    case Kind::low_half: return "low half of a 64-bit number";
    case Kind::high_half: return "high half of a 64-bit number";
    case Kind::size: return "size in bytes";
    case Kind::offset: return "offset in bytes";
    case Kind::pid: return "process id";
    case Kind::uid: return "user id";
    case Kind::gid: return "group id";
    case Kind::mode: return "permissions";
    case Kind::device: return "device number";
    case Kind::descriptor: return "descriptor";
    case Kind::directory: return "descriptor of a directory, or AT_FDCWD";
    case Kind::path: return "path";
    case Kind::string: return "string";
    case Kind::strings: return "vector of strings";
    case Kind::bytes: return "bytes";
    case Kind::flags: return "flags";
    case Kind::one: return "constant";
    case Kind::signal: return "signal";
    case Kind::signal_set: return "set of signals";
    case Kind::descriptor_set: return "set of descriptors";
    case Kind::socket_address: return "socket address";
    case Kind::wait_status: return "wait status";
    case Kind::entries: return "directory entries";
    case Kind::structure: return "structure";
    case Kind::address: return "address";
    case Kind::depends: return "depends on another argument";
    case Kind::never: return "does not return";
  }
  return "";
}

}  // namespace

std::string ArgumentShape::words() const {
  std::string text(kind_words(kind));
  if (kind == Kind::flags || kind == Kind::one) text += " (" + std::string(of) + ")";
  if (kind == Kind::structure) text = std::string(of);
  if (way == Way::value) return text;
  const std::string_view does = way == Way::read      ? "which the kernel reads"
                                : way == Way::written ? "which the kernel writes"
                                                      : "which the kernel reads and writes";
  return "pointer to " + text + ", " + std::string(does);
}

const CallShape* call_shape(std::string_view call, CallTable table) {
  const CallShape* found = nullptr;
  const auto* row = std::ranges::lower_bound(kCallShapes, call, {}, &CallShape::name);
  for (; row != std::end(kCallShapes) && row->name == call; ++row) {
    if (!row->only_32 || table == CallTable::i386) found = row;  // the one for 32 bits comes last
  }
  return found;
}

const CallShape* call_shape(std::uint64_t number, CallTable table) {
  static const auto kByNumber = [] {
    std::map<CallTable, std::vector<const CallShape*>> shapes;
    for (const CallTable one : {CallTable::x86_64, CallTable::i386}) {
      std::vector<const CallShape*>& all = shapes[one];
      all.resize(system_calls(one).back().number + 1U);
      for (const SystemCall& call : system_calls(one)) all[call.number] = call_shape(call.name, one);
    }
    return shapes;
  }();
  const std::vector<const CallShape*>& all = kByNumber.at(table);
  return number < all.size() ? all[number] : nullptr;
}

bool CallShape::is_written_for() const {
  return std::ranges::any_of(arguments, [](const ArgumentShape& one) {
    return one.way == Way::written || one.way == Way::both || one.kind == Kind::depends;
  });
}

namespace {

/// Whether a row is about a call: "fcntl", or "setsockopt.SOL_SOCKET" of one with that value in `within`.
bool is_about(std::string_view row, std::string_view call, std::optional<std::uint64_t> within) {
  if (!within) return row == call;
  if (!row.starts_with(call) || row.size() <= call.size() || row[call.size()] != '.') return false;
  const Constant* named = constant(row.substr(call.size() + 1));
  return named != nullptr && static_cast<std::uint64_t>(named->value) == *within;
}

}  // namespace

std::optional<ArgumentShape> variant(std::string_view call, std::uint64_t value, std::optional<std::uint64_t> within) {
  // The calls of 32-bit programs that end so take the same arguments.
  for (const std::string_view ending : {"_time64", "64"}) {
    if (call.ends_with(ending)) call.remove_suffix(ending.size());
  }
  constexpr std::uint64_t kFutexCommand = 0x7f;  // <linux/futex.h>: FUTEX_CMD_MASK
  if (call == "futex") value &= kFutexCommand;
  for (const Variant& one : kVariants) {
    if (!is_about(one.call, call, within)) continue;
    const Constant* named = constant(one.constant);
    if (named != nullptr && static_cast<std::uint64_t>(named->value) == value) return one.shape;
  }
  return std::nullopt;
}

}  // namespace deeptrace::abi
