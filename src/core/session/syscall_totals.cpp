#include "session/syscall_totals.h"

#include <algorithm>

#include "abi/call_shapes.h"

namespace deeptrace::session {
namespace {

using Kind = abi::ArgumentShape::Kind;

/// A call's descriptor: its first argument that is one, else its result; null: it has none.
const inspect::Value* descriptor_of(const abi::CallShape& shape, const look::DecodedCall& call) {
  for (std::size_t i = 0; i < shape.arguments.size() && i < call.arguments.size(); ++i) {
    const auto& value = call.arguments[i].value;
    if (shape.arguments[i].kind == Kind::descriptor && value && value->signed_number() >= 0) return &*value;
  }
  return shape.result.kind == Kind::descriptor && !call.failed ? &call.result : nullptr;
}

/// The path that a call is given; empty: none.
std::string path_of(const abi::CallShape& shape, const look::DecodedCall& call) {
  for (std::size_t i = 0; i < shape.arguments.size() && i < call.arguments.size(); ++i) {
    const auto& value = call.arguments[i].value;
    if (shape.arguments[i].kind == Kind::path && value && !value->parts.empty()) return value->parts[0].text;
  }
  return {};
}

}  // namespace

std::optional<TotalsBy> totals_by(std::string_view word) {
  if (word == "call") return TotalsBy::call;
  if (word == "descriptor") return TotalsBy::descriptor;
  if (word == "line") return TotalsBy::line;
  if (word == "file") return TotalsBy::file;
  return std::nullopt;
}

std::string SyscallTotals::key_of(const look::AskedCall& asked, const look::DecodedCall& call,
                                  const look::Where& own) const {
  if (by_ == TotalsBy::call) return call.name;
  if (by_ == TotalsBy::line) {
    if (own.place.empty()) return "no own line";
    return own.line != 0 ? own.file + ":" + std::to_string(own.line) : own.place;
  }
  const abi::CallShape* shape = abi::call_shape(call.name, asked.table);
  if (shape == nullptr) return "unknown";
  const inspect::Value* descriptor = descriptor_of(*shape, call);
  if (by_ == TotalsBy::descriptor) return descriptor == nullptr ? "no descriptor" : descriptor->text;
  if (descriptor != nullptr) return descriptor->pointed_text.empty() ? descriptor->text : descriptor->pointed_text;
  const std::string path = path_of(*shape, call);
  return path.empty() ? "no file" : path;
}

void SyscallTotals::add(const look::AskedCall& asked, const look::DecodedCall& call, const look::Where& own,
                        std::uint64_t duration) {
  SyscallTotal& total = totals_[key_of(asked, call, own)];
  ++total.calls;
  if (call.failed) ++total.errors;
  const abi::CallShape* shape = abi::call_shape(call.name, asked.table);
  if (shape != nullptr && shape->result.kind == Kind::size && !call.failed) total.bytes += call.result.number;
  total.time += duration;
  total.longest = std::max(total.longest, duration);
}

std::vector<SyscallTotal> SyscallTotals::all() const {
  std::vector<SyscallTotal> result;
  for (const auto& [key, total] : totals_) {
    result.push_back(total);
    result.back().key = key;
  }
  std::ranges::stable_sort(result, std::ranges::greater{}, &SyscallTotal::time);
  return result;
}

}  // namespace deeptrace::session
