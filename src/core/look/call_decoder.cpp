#include "look/call_decoder.h"

#include <arpa/inet.h>
#include <sys/socket.h>
#include <sys/stat.h>
#include <sys/sysmacros.h>
#include <sys/wait.h>

#include <algorithm>
#include <charconv>
#include <cstring>

#include "abi/call_errors.h"
#include "abi/constants.h"
#include "abi/signal_names.h"
#include "base/number.h"
#include "base/outside.h"

namespace deeptrace::look {
namespace {

using abi::ArgumentShape;
using inspect::Value;
using Kind = ArgumentShape::Kind;
using Way = ArgumentShape::Way;
using By = ArgumentShape::Count::By;

constexpr std::string_view kUnreadable = "it cannot be read";
constexpr std::uint64_t kMostErrors = 4095;  // the kernel's MAX_ERRNO: results from -4095 to -1 are errors

std::uint64_t low_bits(std::uint64_t number, unsigned bits) {
  return bits == 64 ? number : number & ((std::uint64_t(1) << bits) - 1);
}

Value number_value(std::uint64_t number, unsigned bits, bool is_signed) {
  Value value;
  value.kind = Value::Kind::integer;
  value.bits = bits;
  value.size = bits / 8;
  value.is_signed = is_signed;
  value.number = low_bits(number, bits);
  return value;
}

struct NumberForm {
  unsigned bits = 0;
  bool is_signed = false;
};
/// Of arguments and results that are plain numbers; `word`: bits of a register.
std::optional<NumberForm> number_form(Kind kind, unsigned word) {
  switch (kind) {
    case Kind::signed_int:
    case Kind::pid:
    case Kind::uid:
    case Kind::gid: return NumberForm{32, true};
    case Kind::unsigned_int: return NumberForm{32, false};
    case Kind::offset:
    case Kind::signed_long:
    case Kind::none: return NumberForm{word, true};
    case Kind::unsigned_long:
    case Kind::hex:
    case Kind::high_half:
    case Kind::size: return NumberForm{word, false};
    default: return std::nullopt;
  }
}

/// A number that has a name.
Value named_value(std::uint64_t number, unsigned bits, std::string text) {
  Value value = number_value(number, bits, true);
  value.kind = Value::Kind::enumeration;
  value.text = std::move(text);
  return value;
}

Value words_value(std::string text) {
  Value value;
  value.kind = Value::Kind::state;
  value.text = std::move(text);
  return value;
}

std::string octal(std::uint64_t value) {
  char text[32];
  std::snprintf(text, sizeof text, "0%llo", static_cast<unsigned long long>(value));
  return text;
}

/// The type of a file and its permissions, as in st_mode.
std::string mode_words(std::uint64_t mode) {
  const abi::ConstantGroup* types = abi::constant_group("filetype");
  const abi::Spelled spelled = types != nullptr ? abi::spell_flags(*types, mode & S_IFMT) : abi::Spelled{};
  return (spelled.names.empty() ? "" : std::string(spelled.names[0]) + " ") + octal(mode & ~std::uint64_t(S_IFMT));
}

std::string wait_words(int status) {
  if (WIFEXITED(status)) return "exited with status " + std::to_string(WEXITSTATUS(status));
  if (WIFSIGNALED(status))
    return "ended by " + abi::signal_name(WTERMSIG(status)) + (WCOREDUMP(status) ? ", with a core file" : "");
  if (WIFSTOPPED(status)) return "stopped by " + abi::signal_name(WSTOPSIG(status));
  return WIFCONTINUED(status) ? "goes on" : hex_text(static_cast<std::uint32_t>(status));
}

/// A field of a structure whose number means something else: which, and how it is read.
struct FieldMeaning {
  std::string_view structure, field;
  enum class How : std::uint8_t { mode, flags, one, signal, device } how;
  std::string_view group = {};
};
constexpr FieldMeaning kFields[] = {
    {"stat", "st_mode", FieldMeaning::How::mode},
    {"stat64", "st_mode", FieldMeaning::How::mode},
    {"statx", "stx_mode", FieldMeaning::How::mode},
    {"statx", "stx_mask", FieldMeaning::How::flags, "statx"},
    {"stat", "st_dev", FieldMeaning::How::device},
    {"stat64", "st_dev", FieldMeaning::How::device},
    {"pollfd", "events", FieldMeaning::How::flags, "poll"},
    {"pollfd", "revents", FieldMeaning::How::flags, "poll"},
    {"epoll_event", "events", FieldMeaning::How::flags, "epoll"},
    {"sigaction", "sa_flags", FieldMeaning::How::flags, "sa"},
    {"siginfo", "si_signo", FieldMeaning::How::signal},
    {"flock", "l_whence", FieldMeaning::How::one, "whence"},
    {"clone_args", "flags", FieldMeaning::How::flags, "clone"},
    {"clone_args", "exit_signal", FieldMeaning::How::signal},
    {"open_how", "flags", FieldMeaning::How::flags, "open"},
    {"msghdr", "msg_flags", FieldMeaning::How::flags, "msg"},
};

void name_fields(std::string_view structure, Value& value) {
  if (value.kind == Value::Kind::array) {
    for (Value& part : value.parts) name_fields(structure, part);
    return;
  }
  for (const FieldMeaning& one : kFields) {
    if (one.structure != structure) continue;
    for (Value& part : value.parts) {
      if (part.label != one.field || part.kind != Value::Kind::integer) continue;
      const abi::ConstantGroup* group = abi::constant_group(one.group);
      using How = FieldMeaning::How;
      if (one.how == How::mode) part.text = mode_words(part.number);
      if (one.how == How::signal && part.number != 0) part.text = abi::signal_name(static_cast<int>(part.number));
      if (one.how == How::device)
        part.text = std::to_string(gnu_dev_major(part.number)) + ":" + std::to_string(gnu_dev_minor(part.number));
      if (group != nullptr)
        part.text =
            (one.how == How::flags ? abi::spell_flags(*group, part.number) : abi::spell_one(*group, part.number))
                .words();
      if (!part.text.empty()) part.kind = Value::Kind::enumeration;
    }
  }
}

/// Only then open(2) looks at the permissions.
bool makes_file(std::uint64_t flags) {
  constexpr std::uint64_t kTemporary = 0x400000;  // <asm-generic/fcntl.h>: __O_TMPFILE
  const abi::Constant* creates = abi::constant("O_CREAT");
  return (flags & (kTemporary | (creates != nullptr ? static_cast<std::uint64_t>(creates->value) : 0))) != 0;
}

/// True where the number that is passed says all there is to say of an argument.
bool says_all(const ArgumentShape& one) {
  constexpr Kind kNamed[] = {Kind::device, Kind::flags, Kind::one, Kind::signal, Kind::address};
  return one.way == Way::value && (number_form(one.kind, 0) || std::ranges::find(kNamed, one.kind) != std::end(kNamed));
}

/// Text is read in pieces, of which none crosses the end of a page: bytes of the one at an address.
constexpr std::size_t kTextPiece = 64;
std::size_t text_piece(std::uint64_t address) { return kTextPiece - address % kTextPiece; }

bool is_text(const std::vector<std::uint8_t>& bytes) {
  return std::ranges::all_of(
      bytes, [](std::uint8_t b) { return b >= 0x20 ? b != 0x7f : b == '\n' || b == '\t' || b == '\r'; });
}

}  // namespace

namespace {

/// The call that socketcall(2) or ipc(2) is asked for, if its arguments can be read.
void look_inside(AskedCall& asked, const state::StateView& view) {
  const abi::InnerCall* inner = abi::inner_call(asked.name(), asked.arguments[0]);
  if (inner == nullptr) return;
  constexpr unsigned kVersion = 16;  // bits below it
  const bool is_later = asked.arguments[0] >> kVersion != 0 && !inner->later.empty();
  const auto order = arch::machine_of(asked.mode()).call_arguments;
  const auto held = [&](std::string_view name) {
    for (std::size_t i = 0; i < order.size(); ++i) {
      if (state::name_of(state::reg_numbered(order[i]), asked.mode()) == name) return asked.arguments[i];
    }
    return std::uint64_t(0);
  };
  std::array<std::uint64_t, abi::kMostArguments> arguments{};
  std::vector<std::string_view> places;
  for (const Part& place : parts_between(is_later ? inner->later : inner->places, [](char c) { return c == ' '; })) {
    const std::string_view text = place.text;
    std::uint64_t& value = arguments[places.size()];
    places.push_back(text);
    if (!text.starts_with('[')) {
      value = held(text);
      continue;
    }
    const std::size_t plus = std::min(text.find('+'), text.size() - 1);
    std::uint64_t offset = 0;
    std::from_chars(text.data() + plus + 1, text.data() + text.size(), offset);
    std::uint32_t word = 0;  // also where 64-bit code asks by the numbers of 32-bit programs
    if (view.read_memory(held(text.substr(1, plus - 1)) + offset,
                         {reinterpret_cast<std::uint8_t*>(&word), sizeof word}) != sizeof word)
      return;
    value = word;
  }
  asked.inner = inner;
  asked.inner_places = std::move(places);
  asked.arguments = arguments;
}

}  // namespace

std::string AskedCall::name() const {
  return inner == nullptr ? abi::call_name(number, table) : std::string(inner->call);
}

const abi::CallShape* AskedCall::shape() const {
  return inner == nullptr ? abi::call_shape(number, table) : abi::call_shape(inner->call, table);
}

AskedCall AskedCall::of(const state::StateView& view, abi::CallTable table, std::uint64_t number) {
  AskedCall asked{table, number, {}};
  const state::RegisterSet& registers = view.registers();
  const auto order = arch::machine_of(asked.mode()).call_arguments;
  const std::uint64_t bits = table == abi::CallTable::i386 ? 0xffffffff : ~std::uint64_t(0);
  for (std::size_t i = 0; i < order.size(); ++i) asked.arguments[i] = registers[state::reg_numbered(order[i])] & bits;
  if (table == abi::CallTable::i386) look_inside(asked, view);
  return asked;
}

CallDecoder::CallDecoder(DescriptorName descriptor, std::size_t most)
    : descriptor_(std::move(descriptor)), most_(most) {}

abi::KernelTypes& CallDecoder::types(abi::CallTable table) {
  auto& place = types_[table];
  if (!place) place = std::make_unique<abi::KernelTypes>(table);
  return *place;
}

/// Of one call.
class CallDecoder::Reader {
 public:
  Reader(CallDecoder& decoder, const AskedCall& asked, const state::StateView& view,
         std::optional<std::uint64_t> result = std::nullopt)
      : decoder_(decoder), asked_(asked), view_(view), result_(result), word_(arch::machine_of(asked.mode()).word) {}

  Value read(const ArgumentShape& shape, std::size_t index) {
    const std::uint64_t raw = asked_.arguments[index];
    if (shape.way == Way::value) return plain(shape, raw, index);
    if (raw == 0) return pointer(0);
    Value value = pointer(raw);
    value.parts.push_back(pointed(shape, raw));
    return value;
  }
  /// A descriptor that was said before is the same.
  [[nodiscard]] bool is_open_on(const Value& value, std::size_t index) const {
    return value.pointed_text == descriptor_name(asked_.arguments[index]);
  }
  /// Makes of what an argument held in the call before, where it was the same number, what it holds now; false where
  /// it has to be made anew.
  bool renew(Value& value, const ArgumentShape& shape, std::size_t index) {
    if (shape.way != Way::read || shape.kind != Kind::bytes || value.parts.size() != 1) return false;
    fill_bytes(value.parts.front(), asked_.arguments[index], count_of(shape.count));
    return true;
  }
  /// What a call returned.
  Value result(const ArgumentShape& shape, std::uint64_t raw) { return plain(shape, raw, 0); }

 private:
  [[nodiscard]] unsigned bits() const { return word_ * 8; }
  [[nodiscard]] static Value unreadable() {
    Value value;
    value.text = kUnreadable;
    return value;
  }
  [[nodiscard]] Value pointer(std::uint64_t address) const {
    Value value = number_value(address, bits(), false);
    value.kind = Value::Kind::pointer;
    return value;
  }

  Value plain(const ArgumentShape& shape, std::uint64_t raw, std::size_t index) {
    if (const auto form = number_form(shape.kind, bits())) return number_value(raw, form->bits, form->is_signed);
    const auto low = static_cast<std::uint32_t>(raw);
    switch (shape.kind) {
      case Kind::low_half:
        return number_value(low | asked_.arguments[(index + 1) % asked_.arguments.size()] << 32U, 64, true);
      case Kind::mode: return named_value(raw, 32, octal(low));
      case Kind::device:
        return named_value(raw, bits(), std::to_string(gnu_dev_major(raw)) + ":" + std::to_string(gnu_dev_minor(raw)));
      case Kind::directory:
      case Kind::descriptor: return descriptor(raw);
      case Kind::signal: return named_value(raw, 32, low == 0 ? "0" : abi::signal_name(static_cast<int>(low)));
      case Kind::flags:
      case Kind::one: return spelled(shape, raw);
      case Kind::path:
      case Kind::string: return string(raw);
      case Kind::strings: return strings(raw);
      case Kind::address: return pointer(raw);
      case Kind::depends: return depending(shape, index);
      default: return number_value(raw, bits(), false);
    }
  }

  [[nodiscard]] std::string descriptor_name(std::uint64_t raw) const {
    const auto number = static_cast<std::int32_t>(raw);
    return number >= 0 && decoder_.descriptor_ ? decoder_.descriptor_(raw & 0xffffffff) : "";
  }
  Value descriptor(std::uint64_t raw) {
    constexpr std::int32_t kCurrent = -100;  // AT_FDCWD
    const auto number = static_cast<std::int32_t>(raw);
    if (number == kCurrent) return named_value(raw, 32, "AT_FDCWD");
    const std::string name = descriptor_name(raw);
    Value value = named_value(raw, 32, std::to_string(number) + (name.empty() ? "" : " (" + name + ")"));
    value.pointed_text = name;
    return value;
  }

  static Value spelled(const ArgumentShape& shape, std::uint64_t raw) {
    const abi::ConstantGroup* group = abi::constant_group(shape.of);
    if (group == nullptr) return number_value(raw, 64, false);
    // Most are of 32 bits, and compilers leave what they like above.
    const bool low = static_cast<std::int64_t>(raw) < 0 || raw >> 32U == 0;
    const std::uint64_t number = low ? static_cast<std::uint32_t>(raw) : raw;
    const abi::Spelled spelled =
        shape.kind == Kind::flags ? abi::spell_flags(*group, number) : abi::spell_one(*group, number);
    return named_value(raw, 32, spelled.words());
  }

  /// The same types for another argument's value.
  Value depending(const ArgumentShape& shape, std::size_t index) {
    const std::uint64_t value = asked_.arguments[shape.by - 1U];
    if (shape.within != 0) return option(shape, value, index);
    const auto found = abi::variant(asked_.name(), value);
    if (!found) return number_value(asked_.arguments[index], bits(), false);
    if (found->way == Way::written && !result_) return pointer(asked_.arguments[index]);
    return read(*found, index);
  }

  /// The value of a socket's option: an int where nothing else is known and it has the length of one, else bytes. Where
  /// the kernel writes it, it writes the length too.
  Value option(const ArgumentShape& shape, std::uint64_t value, std::size_t index) {
    const std::uint64_t address = asked_.arguments[index];
    const ArgumentShape& length = abi::call_shape(asked_.name(), asked_.table)->arguments[shape.count.number - 1U];
    std::uint64_t size = count_of(shape.count);
    if (length.is_pointer()) {
      const bool written = result_ && static_cast<std::int64_t>(*result_) >= 0;
      size = written ? number_at(size, 4).value_or(0) : 0;
      if (!written) return pointer(address);
    }
    const auto level = static_cast<std::uint32_t>(asked_.arguments[shape.within - 1U]);
    auto found = abi::variant(asked_.name(), static_cast<std::uint32_t>(value), level);
    constexpr std::uint64_t kInt = 4;  // bytes
    if (!found) {
      found = shape;
      found->kind = size == kInt ? Kind::signed_int : Kind::bytes;
      found->way = Way::read;
      found->count = {By::number, static_cast<std::uint32_t>(size == kInt ? 1 : size)};
      if (size == kInt) found->count = {};
    }
    return read(*found, index);
  }

  std::optional<std::string> text_at(std::uint64_t address, bool& whole) {
    constexpr std::size_t kMost = 4096;
    std::string text;
    while (text.size() < kMost) {
      std::uint8_t piece[kTextPiece];
      const std::size_t wanted = text_piece(address + text.size());
      const std::size_t got = view_.read_memory(address + text.size(), {piece, wanted});
      if (got == 0) return text.empty() ? std::nullopt : std::optional(text);
      const auto* end = std::find(piece, piece + got, std::uint8_t(0));
      text.append(static_cast<const std::uint8_t*>(piece), end);
      if (end != piece + got) {
        whole = true;
        return text;
      }
    }
    return text;
  }
  Value string(std::uint64_t address) {
    Value value = pointer(address);
    if (address == 0) return value;
    bool whole = false;
    const auto text = text_at(address, whole);
    Value read = unreadable();
    if (text) {
      read.kind = Value::Kind::string;
      read.text = *text;
      read.count = text->size();
      read.raw.assign(text->begin(), text->end());
    }
    value.parts.push_back(std::move(read));
    return value;
  }
  Value strings(std::uint64_t address) {
    constexpr std::uint64_t kMost = 4096, kShown = 32;
    Value value = pointer(address);
    if (address == 0) return value;
    Value list;
    list.kind = Value::Kind::array;
    for (; list.count < kMost; ++list.count) {
      const auto one = word_at(address + list.count * word_);
      if (!one || *one == 0) break;
      if (list.count < kShown) {
        Value text = string(*one);
        list.parts.push_back(text.parts.empty() ? text : text.parts.front());
      }
    }
    value.parts.push_back(std::move(list));
    return value;
  }
  std::optional<std::uint64_t> word_at(std::uint64_t address) {
    std::uint64_t word = 0;
    std::uint8_t raw[8] = {};
    if (view_.read_memory(address, {raw, word_}) != word_) return std::nullopt;
    std::memcpy(&word, raw, word_);
    return word;
  }

  [[nodiscard]] std::uint64_t count_of(const ArgumentShape::Count& count) const {
    switch (count.by) {
      case By::number: return count.number;
      case By::argument: return asked_.arguments[count.number - 1U];
      case By::result: return result_ && static_cast<std::int64_t>(*result_) > 0 ? *result_ : 0;
      default: return 1;
    }
  }

  Value pointed(const ArgumentShape& shape, std::uint64_t address) {
    switch (shape.kind) {
      case Kind::bytes: return bytes(address, count_of(shape.count));
      case Kind::signal_set: return signal_set(address, shape.count.by == By::one ? 8 : count_of(shape.count));
      case Kind::descriptor_set: return descriptor_set(address, count_of(shape.count));
      case Kind::socket_address: return socket_address(address, shape);
      case Kind::entries: return entries(address, count_of(shape.count));
      case Kind::wait_status: {
        const auto status = number_at(address, 4);
        return status ? named_value(*status, 32, wait_words(static_cast<int>(*status))) : unreadable();
      }
      case Kind::structure: return structure(shape, address);
      default: return numbers(shape, address);
    }
  }

  std::optional<std::uint64_t> number_at(std::uint64_t address, std::size_t size) {
    std::uint64_t number = 0;
    std::uint8_t raw[8] = {};
    if (view_.read_memory(address, {raw, size}) != size) return std::nullopt;
    std::memcpy(&number, raw, size);
    return number;
  }
  /// Numbers one after the other.
  Value numbers(const ArgumentShape& shape, std::uint64_t address) {
    const bool narrow = shape.kind == Kind::signed_int || shape.kind == Kind::unsigned_int;
    const std::size_t size = narrow ? 4 : shape.kind == Kind::offset ? 8 : word_;
    const bool is_signed = shape.kind != Kind::unsigned_int && shape.kind != Kind::hex && shape.kind != Kind::size;
    constexpr std::uint64_t kMost = 64;
    Value list;
    list.kind = Value::Kind::array;
    list.count = count_of(shape.count);
    for (std::uint64_t i = 0; i < std::min(list.count, kMost); ++i) {
      const auto number = number_at(address + i * size, size);
      if (!number) return unreadable();
      list.parts.push_back(number_value(*number, static_cast<unsigned>(size) * 8, is_signed));
    }
    return shape.count.by == By::one && !list.parts.empty() ? list.parts.front() : list;
  }

  Value bytes(std::uint64_t address, std::uint64_t count) {
    Value value;
    fill_bytes(value, address, count);
    return value;
  }
  /// Keeps the room of what it held before.
  void fill_bytes(Value& value, std::uint64_t address, std::uint64_t count) {
    value.kind = Value::Kind::unknown;
    value.count = count;
    value.size = 0;
    value.text.clear();
    value.raw.resize(std::min<std::uint64_t>(count, decoder_.most_));
    const std::size_t got = view_.read_memory(address, value.raw);
    value.raw.resize(got);
    if (got == 0 && count != 0) {
      value.text = kUnreadable;
      return;
    }
    value.kind = is_text(value.raw) ? Value::Kind::string : Value::Kind::bytes;
    if (value.kind == Value::Kind::string) value.text.assign(value.raw.begin(), value.raw.end());
    value.size = count;
  }

  Value structure(const ArgumentShape& shape, std::uint64_t address) {
    abi::KernelTypes& kernel = decoder_.types(asked_.table);
    const auto type = kernel.named(shape.of);
    if (!type) return unreadable();
    constexpr std::uint64_t kMost = 32;
    const std::uint64_t size = kernel.types().size(*type), count = count_of(shape.count);
    Value list;
    list.kind = Value::Kind::array;
    list.count = count;
    for (std::uint64_t i = 0; i < std::min(count, kMost); ++i) {
      std::vector<std::uint8_t> raw(size);
      if (view_.read_memory(address + i * size, raw) != size) {
        list.parts.push_back(unreadable());
        break;
      }
      Value one = inspect::value_of(kernel.types(), *type, raw, address + i * size, {}, {.word = word_});
      name_fields(shape.of, one);
      fill(shape, one);
      list.parts.push_back(std::move(one));
    }
    return shape.count.by == By::one && !list.parts.empty() ? list.parts.front() : list;
  }

  static Value* member(Value& whole, std::string_view label) {
    const auto found = std::ranges::find(whole.parts, label, &Value::label);
    return found != whole.parts.end() ? &*found : nullptr;
  }

  /// What the pieces of a vector, and the parts of a message, point to (struct iovec, struct msghdr).
  void fill(const ArgumentShape& shape, Value& one) {
    const bool written = shape.way != Way::read;
    if (shape.of == "iovec") fill_piece(one, written);
    if (shape.of != "msghdr") return;
    Value* vector = member(one, "msg_iov");
    const Value* count = member(one, "msg_iovlen");
    if (vector != nullptr && count != nullptr && vector->number != 0) {
      ArgumentShape pieces{.name = {}, .kind = Kind::structure, .way = shape.way, .of = "iovec"};
      pieces.count = {By::number, static_cast<std::uint32_t>(std::min<std::uint64_t>(count->number, 1024))};
      vector->parts.clear();
      vector->parts.push_back(structure(pieces, vector->number));
    }
    Value* name = member(one, "msg_name");
    const Value* size = member(one, "msg_namelen");
    if (name == nullptr || size == nullptr || name->number == 0 || (written && !result_)) return;
    ArgumentShape address{.name = {}, .kind = Kind::socket_address, .way = shape.way};
    address.count = {By::number, static_cast<std::uint32_t>(size->number)};
    name->parts.clear();
    name->parts.push_back(socket_address(name->number, address));
  }
  /// Of pieces that the kernel fills, as much as the result says, one after the other.
  void fill_piece(Value& one, bool written) {
    Value* base = member(one, "iov_base");
    const Value* length = member(one, "iov_len");
    if (base == nullptr || length == nullptr || base->number == 0) return;
    std::uint64_t size = length->number;
    if (written) {
      const std::uint64_t all = result_ && static_cast<std::int64_t>(*result_) > 0 ? *result_ : 0;
      size = std::min(size, all - std::min(all, filled_));
      filled_ += size;
    }
    base->parts.clear();
    base->parts.push_back(bytes(base->number, size));
  }

  Value signal_set(std::uint64_t address, std::uint64_t size) {
    const auto set = number_at(address, std::clamp<std::uint64_t>(size, 1, 8));
    if (!set) return unreadable();
    std::string text;
    for (int signal = 1; signal <= 64; ++signal) {
      if ((*set >> (signal - 1) & 1) == 0) continue;
      text += (text.empty() ? "" : " ") + abi::signal_name(signal);
    }
    if (*set == ~std::uint64_t(0)) text = "all signals";
    return named_value(*set, 64, text.empty() ? "none" : text);
  }

  Value descriptor_set(std::uint64_t address, std::uint64_t count) {
    constexpr std::uint64_t kMost = 1024;
    std::vector<std::uint8_t> raw((std::min(count, kMost) + 7) / 8);
    if (view_.read_memory(address, raw) != raw.size()) return unreadable();
    std::string text;
    for (std::uint64_t i = 0; i < std::min(count, kMost); ++i) {
      if ((raw[i / 8] >> (i % 8) & 1U) != 0) text += (text.empty() ? "" : ", ") + std::to_string(i);
    }
    return words_value(text.empty() ? "none" : text);
  }

  /// Ports and addresses are in network order (RFC 1700).
  Value socket_address(std::uint64_t address, const ArgumentShape& shape) {
    std::uint8_t raw[128] = {};
    const std::uint64_t size =
        std::min<std::uint64_t>(shape.count.by == By::one ? sizeof raw : count_of(shape.count), sizeof raw);
    const std::size_t got = view_.read_memory(address, {raw, size});
    if (got < 2) return unreadable();
    std::uint16_t family = 0, port = 0;
    std::memcpy(&family, raw, 2);
    std::memcpy(&port, raw + 2, 2);
    char text[INET6_ADDRSTRLEN] = {};
    const std::string port_words = " port " + std::to_string(ntohs(port));
    if (family == AF_INET && got >= 8)
      return words_value(::inet_ntop(AF_INET, raw + 4, text, sizeof text) + port_words);
    if (family == AF_INET6 && got >= 24)
      return words_value("[" + std::string(::inet_ntop(AF_INET6, raw + 8, text, sizeof text)) + "]" + port_words);
    if (family == AF_UNIX) {
      const char* path = reinterpret_cast<const char*>(raw) + 2;
      const bool abstract = got > 3 && path[0] == 0;
      return words_value(
          "unix " + (abstract ? "@" + std::string(path + 1, got - 3) : std::string(path, ::strnlen(path, got - 2))));
    }
    if (family == AF_NETLINK && got >= 12) {
      std::uint32_t id = 0;
      std::memcpy(&id, raw + 4, 4);
      return words_value("netlink " + std::to_string(id));
    }
    const abi::ConstantGroup* families = abi::constant_group("family");
    return words_value(families != nullptr ? abi::spell_one(*families, family).words() : std::to_string(family));
  }

  /// linux_dirent64 (getdents(2)): number, offset, length, type, name.
  Value entries(std::uint64_t address, std::uint64_t size) {
    constexpr std::uint64_t kMost = 1 << 16, kName = 19, kLength = 16, kShown = 64;
    std::vector<std::uint8_t> raw(std::min(size, kMost));
    if (view_.read_memory(address, raw) != raw.size()) return unreadable();
    Value list;
    list.kind = Value::Kind::array;
    for (std::size_t at = 0; at + kName < raw.size();) {
      std::uint16_t length = 0;
      std::memcpy(&length, raw.data() + at + kLength, 2);
      if (length <= kName || length > raw.size() - at) break;
      Value name;
      name.kind = Value::Kind::string;
      const char* text = reinterpret_cast<const char*>(raw.data()) + at + kName;
      name.text.assign(text, ::strnlen(text, length - kName));
      name.count = name.text.size();
      name.raw.assign(name.text.begin(), name.text.end());
      if (list.count++ < kShown) list.parts.push_back(std::move(name));
      at += length;
    }
    return list;
  }

  CallDecoder& decoder_;
  const AskedCall& asked_;
  const state::StateView& view_;
  std::optional<std::uint64_t> result_;
  std::uint64_t filled_ = 0;  ///< bytes of the vector's pieces that were shown
  unsigned word_;
};

/// Name, arguments and where those are, without values.
void CallDecoder::name(DecodedCall& call, const AskedCall& asked) {
  const abi::CallShape* shape = asked.shape();
  call = DecodedCall{};
  call.name = asked.name();
  call.known = shape != nullptr;
  call.shape = shape;
  call.table = asked.table;
  call.number = asked.number;
  call.inner = asked.inner != nullptr;
  const auto order = arch::machine_of(asked.mode()).call_arguments;
  const std::size_t most = asked.inner != nullptr ? asked.inner_places.size() : order.size();
  const std::size_t count = shape == nullptr ? 0 : std::min(shape->arguments.size(), most);
  call.arguments.reserve(count);
  for (std::size_t i = 0; i < count; ++i) {
    const ArgumentShape& one = shape->arguments[i];
    Argument& argument = call.arguments.emplace_back();
    argument.name = std::string(one.name);
    const auto [words, added] = words_.try_emplace(&one);
    if (added) words->second = one.words();
    argument.type = words->second;
    argument.where =
        asked.inner != nullptr ? asked.inner_places[i] : state::name_of(state::reg_numbered(order[i]), asked.mode());
  }
}

CallDecoder::Ranges CallDecoder::will_read(const AskedCall& asked) const {
  Ranges ranges;
  const abi::CallShape* shape = asked.shape();
  const std::size_t count = shape != nullptr ? std::min(shape->arguments.size(), asked.arguments.size()) : 0;
  for (std::size_t i = 0; i < count; ++i) {
    const ArgumentShape& one = shape->arguments[i];
    const std::uint64_t address = asked.arguments[i];
    if (address == 0) continue;
    if (one.kind == Kind::path || one.kind == Kind::string) {
      ranges.all[ranges.count++] = {address, text_piece(address)};
    } else if (one.kind == Kind::bytes && one.way == Way::read && one.count.by == By::argument) {
      const std::uint64_t size = asked.arguments[one.count.number - 1U];
      ranges.all[ranges.count++] = {address, static_cast<std::size_t>(std::min<std::uint64_t>(size, most_))};
    }
  }
  return ranges;
}

void DecodedCall::forget_result() {
  failed = false;
  error.clear();
  meaning.clear();
  if (result_ready) {
    result.kind = Value::Kind::unknown;
  } else {
    result = {};
  }
}

void CallDecoder::before(DecodedCall& call, const AskedCall& asked, const state::StateView& view,
                         bool same_descriptors) {
  const bool again =
      call.known && call.table == asked.table && call.number == asked.number && !call.inner && asked.inner == nullptr;
  if (!again) name(call, asked);
  call.forget_result();
  call.made = 0;
  Reader reader(*this, asked, view);
  for (std::size_t i = 0; i < call.arguments.size(); ++i) {
    const ArgumentShape& one = call.shape->arguments[i];
    std::optional<Value>& value = call.arguments[i].value;
    const bool same = value && call.asked[i] == asked.arguments[i];
    if (same && (says_all(one) ||
                 (one.is_descriptor() && one.way == Way::value && (same_descriptors || reader.is_open_on(*value, i)))))
      continue;
    call.made |= std::uint32_t(1) << i;
    if (same && reader.renew(*value, one, i)) continue;
    const bool without_mode = one.kind == Kind::mode && i > 0 && call.shape->arguments[i - 1].of == "open" &&
                              !makes_file(asked.arguments[i - 1]);
    if (without_mode) {
      value = words_value("not used");
    } else if (one.way == Way::written) {  // it is not there yet
      value = reader.read({.name = one.name, .kind = Kind::address, .way = Way::value}, i);
    } else {
      value = reader.read(one, i);
    }
  }
  call.asked = asked.arguments;
}

void CallDecoder::after(DecodedCall& call, const AskedCall& asked, const state::StateView& view, std::uint64_t result) {
  const unsigned word = arch::machine_of(asked.mode()).word * 8;
  const std::int64_t number = signed_of(result, word);
  const abi::CallShape* shape = call.shape;
  call.error.clear();
  call.meaning.clear();
  call.failed = number < 0 && number >= -static_cast<std::int64_t>(kMostErrors);
  if (call.failed) {
    const auto error = static_cast<int>(-number);
    call.error = abi::error_name(error);
    if (call.error.empty()) call.error = "error " + std::to_string(error);
    call.meaning = abi::error_meaning(error);
    call.result = {};
    call.result_ready = false;
    return;
  }
  Reader reader(*this, asked, view, static_cast<std::uint64_t>(number));
  for (std::size_t i = 0; shape != nullptr && i < call.arguments.size(); ++i) {
    const ArgumentShape& one = shape->arguments[i];
    if (one.way != Way::written && one.way != Way::both && one.kind != Kind::depends) continue;
    call.arguments[i].value = reader.read(one, i);
    call.made |= std::uint32_t(1) << i;
  }
  const auto form = number_form(shape != nullptr ? shape->result.kind : Kind::signed_long, word);
  if (form && call.result_ready) {
    call.result.kind = Value::Kind::integer;
    call.result.number = low_bits(result, form->bits);
  } else {
    call.result = form ? number_value(result, form->bits, form->is_signed) : reader.result(shape->result, result);
    call.result_ready = form.has_value();
  }
  if (shape != nullptr && shape->result.kind == Kind::none && number == 0) call.result.kind = Value::Kind::nothing;
}

}  // namespace deeptrace::look
