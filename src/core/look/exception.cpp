#include "look/exception.h"

#include <algorithm>
#include <array>
#include <cstring>

#include "look/scope.h"
#include "program/lazy_name.h"

namespace deeptrace::look {
namespace {

/// What memory holds, as far as it can be read.
class Words {
 public:
  explicit Words(const state::StateView& view) : view_(view), word_(arch::machine_of(view.mode()).word) {}

  [[nodiscard]] unsigned size() const { return word_; }
  [[nodiscard]] std::uint64_t at(std::uint64_t address) const {
    std::uint8_t bytes[8] = {};
    std::uint64_t value = 0;
    if (view_.read_memory(address, {bytes, word_}) == word_) std::memcpy(&value, bytes, 8);
    return value;
  }
  [[nodiscard]] std::string string_at(std::uint64_t address) const {
    std::string text(512, '\0');
    text.resize(view_.read_memory(address, {reinterpret_cast<std::uint8_t*>(text.data()), text.size()}));
    return text.c_str();
  }

 private:
  const state::StateView& view_;
  unsigned word_;
};

/// Where the message of the library's own kinds of errors lies, or of a class derived from them: after the table of
/// virtual functions (libstdc++: __cow_string). Nothing is run for it.
std::optional<std::uint64_t> message_place(const Words& words, std::string_view type, std::uint64_t object) {
  constexpr std::array<std::string_view, 9> kWithMessage = {
      "std::runtime_error", "std::range_error",      "std::overflow_error", "std::underflow_error", "std::logic_error",
      "std::domain_error",  "std::invalid_argument", "std::length_error",   "std::out_of_range"};
  if (std::ranges::find(kWithMessage, type) == kWithMessage.end()) return std::nullopt;
  return object + words.size();
}

std::optional<std::uint64_t> message_place(const Words& words, debuginfo::Types& types, debuginfo::TypeId type,
                                           std::uint64_t object, int depth = 0) {
  constexpr int kDeepest = 16;
  const debuginfo::Type& plain = types[types.plain(type)];
  if (const auto place = message_place(words, plain.name, object)) return place;
  for (const debuginfo::Member& member : plain.members) {
    if (!member.base || member.moving || depth >= kDeepest) continue;
    if (auto place = message_place(words, types, member.type, object + member.offset, depth + 1)) return place;
  }
  return std::nullopt;
}

ThrownObject thrown_object(Scope& scope, const Words& words, std::uint64_t type_info, std::uint64_t object) {
  // std::type_info: the table of virtual functions, then the name; a star before it marks names of one file alone.
  std::string name = words.string_at(words.at(type_info + words.size()));
  if (name.starts_with('*')) name.erase(0, 1);
  if (name.empty()) return {"exception", {}};
  const std::string type = program::demangled("_ZTS" + name);
  constexpr std::string_view kBefore = "typeinfo name for ";
  const std::string shown = type.starts_with(kBefore) ? type.substr(kBefore.size()) : name;
  ThrownObject result{"exception " + shown, {}};
  auto message = message_place(words, shown, object);
  const auto described = message ? std::nullopt : scope.type_named(shown);
  if (described) {
    message = message_place(words, *described->types, described->id, object);
    inspect::Datum datum;
    datum.place = inspect::Datum::Place::memory;
    datum.address = object;
    datum.type = *described;
    inspect::Value value = inspect::value_of(datum, scope);
    std::erase_if(value.parts, [](const auto& part) { return part.base && part.type.starts_with("std::"); });
    const bool empty = value.kind == inspect::Value::Kind::aggregate && value.parts.empty();
    if (value.kind != inspect::Value::Kind::unknown && !empty) result.value = std::move(value);
  }
  if (message) result.words += " \"" + words.string_at(words.at(*message)) + "\"";
  return result;
}

/// What a handler is about to get, from the header of the exception (libstdc++, unwind-cxx.h: eleven words, the type
/// first, the object's address last, then what the unwinder knows, aligned to 16 bytes). One that was thrown again by
/// std::rethrow_exception has a header of its own, which leads to the first one's object, right after its header.
ThrownObject caught_object(Scope& scope, const Words& words, std::uint64_t unwinders) {
  constexpr std::uint64_t kGnu = 0x474e5543432b2b;  // "GNUCC++"
  const bool wide = words.size() == 8;
  const std::uint64_t before = wide ? 80 : 48, whole = before + 32;  // bytes up to what the unwinder knows, and with it
  std::uint64_t kind = words.at(unwinders);
  if (!wide) kind |= words.at(unwinders + 4) << 32;
  if (kind >> 8 != kGnu) return {};
  const std::uint64_t first = words.at(unwinders - before);
  return thrown_object(scope, words, (kind & 0xff) == 0 ? first : words.at(first - whole), words.at(unwinders - 8));
}

}  // namespace

ThrownObject exception_at(Modules& modules, const state::StateView& view) {
  const program::Function* function = modules.function_at(view.registers()[state::Reg::rip]);
  const std::string_view symbol = function != nullptr ? function->symbol() : std::string_view();
  Scope scope(modules, view);
  const auto argument = [&](std::uint64_t number) -> std::uint64_t {
    Result<inspect::Datum> datum = scope.argument(number);
    const Result<std::uint64_t> value = datum ? inspect::number_of(*datum, scope) : Error{Fault::usage, ""};
    return value ? *value : 0;
  };
  const Words words(view);
  if (symbol == "__cxa_throw") return thrown_object(scope, words, argument(2), argument(1));
  if (symbol == "__cxa_begin_catch") return caught_object(scope, words, argument(1));
  return {"exception that was caught before", {}};
}

std::string exception_under_way(Modules& modules, const state::StateView& view,
                                const std::vector<inspect::Frame>& frames, std::size_t thrower) {
  if (frames.empty()) return {};
  Scope scope(modules, view);
  const Words words(view);
  constexpr std::uint64_t kMost = 65536;  // bytes of stack
  const std::uint64_t from = frames.front().registers[state::Reg::rsp];
  const inspect::Frame& last = frames[std::min(thrower, frames.size() - 1)];
  const std::uint64_t to = std::min(last.cfa > from ? last.cfa : from + kMost, from + kMost);
  std::vector<std::uint8_t> stack(to - from);
  stack.resize(view.read_memory(from, stack));
  for (std::size_t at = 0; at + words.size() <= stack.size(); at += words.size()) {
    std::uint64_t value = 0;
    std::memcpy(&value, stack.data() + at, words.size());
    // What the unwinder knows of an exception is aligned, and lies in memory of its own.
    if (value % 16 != 0 || value < 0x10000 || (value >= from && value < to)) continue;
    const ThrownObject object = caught_object(scope, words, value);
    if (!object.words.empty()) return object.words;
  }
  return {};
}

}  // namespace deeptrace::look
