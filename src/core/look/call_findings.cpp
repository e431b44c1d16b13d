#include "look/call_findings.h"

#include <arpa/inet.h>
#include <netdb.h>
#include <unistd.h>

#include <algorithm>
#include <cerrno>
#include <functional>
#include <numeric>
#include <set>

#include "abi/call_errors.h"
#include "abi/constants.h"
#include "base/path.h"
#include "base/similar_names.h"
#include "isa/register.h"
#include "isa/text.h"
#include "look/address_name.h"
#include "look/buffer_room.h"
#include "look/fault_address.h"
#include "look/result_use.h"
#include "look/scope.h"
#include "look/value_trail.h"
#include "state/with_registers.h"

namespace deeptrace::look {
namespace {

using abi::ArgumentShape;
using abi::CallTable;
using Kind = ArgumentShape::Kind;
using Way = ArgumentShape::Way;

/// Whether a value can be what an argument's type says.
enum class Fits : std::uint8_t { no, perhaps, yes };

constexpr unsigned kSingles = 64;  // calls for one byte in a row that are too many

CallTable other(CallTable table) { return table == CallTable::x86_64 ? CallTable::i386 : CallTable::x86_64; }
std::string_view instruction_of(CallTable table) { return table == CallTable::x86_64 ? "syscall" : "int 0x80"; }

std::string ordinal(std::size_t index) { return std::to_string(index + 1); }

Finding finding(std::string kind, std::string text, std::vector<std::string> evidence = {}) {
  Finding result;
  result.kind = std::move(kind);
  result.text = std::move(text);
  result.evidence = std::move(evidence);
  return result;
}

Finding note(std::string kind, std::string text, std::vector<std::string> evidence = {}) {
  Finding result = finding(std::move(kind), std::move(text), std::move(evidence));
  result.note = true;
  return result;
}

}  // namespace

/// Of one call.
class CallFindings::Check {
 public:
  Check(const CallFindings& known, const CallOver& call, const state::StateView& view, Modules& modules)
      : known_(known), call_(call), view_(view), modules_(modules), space_(known.target_, modules, view) {
    shape_ = call.decoded->shape;
    if (call.asked.inner != nullptr && call.asked.inner_places.size() < shape_->arguments.size()) shape_ = nullptr;
    error_ = call.decoded->failed ? static_cast<int>(-static_cast<std::int64_t>(call.result)) : 0;
    if (call.asked.table == CallTable::i386 && call.decoded->failed)
      error_ = static_cast<int>(-signed_of(call.result, 32));
  }

  std::vector<Finding> run() {
    if (error_ != 0) {
      if (!other_numbering() && !exchanged()) {
        if (error_ == EFAULT) bad_addresses();
        if (error_ == EBADF) bad_descriptors();
      }
      if (error_ == ENOENT) near_path();
    }
    address_of_socket();
    return std::move(found_);
  }

 private:
  // ---- what values can be

  [[nodiscard]] bool is_readable(std::uint64_t address) const { return space_.allows(address, AccessKind::read); }
  [[nodiscard]] static AccessKind access_by(const ArgumentShape& one) {
    return one.way == Way::written || one.way == Way::both ? AccessKind::write : AccessKind::read;
  }
  [[nodiscard]] std::uint64_t as_passed(std::uint64_t value) const {
    return call_.asked.table == CallTable::i386 ? value & 0xffffffff : value;
  }
  [[nodiscard]] bool is_open(std::uint64_t value) const {
    return value < (1U << 20) && !known_.surroundings_.descriptor(value).empty();
  }
  /// Printable characters, ended by a zero where `ended`.
  [[nodiscard]] bool is_text(std::uint64_t address, std::uint64_t size, bool ended) const {
    std::vector<std::uint8_t> bytes(std::min<std::uint64_t>(size, 256));
    bytes.resize(view_.read_memory(address, bytes));
    const auto end = std::ranges::find(bytes, 0);
    if (bytes.empty() || (ended && end == bytes.end() && bytes.size() < 256)) return false;
    if (end == bytes.begin()) return false;
    return std::all_of(bytes.begin(), end,
                       [](std::uint8_t c) { return c >= ' ' || c == '\n' || c == '\t' || c == '\r'; });
  }

  [[nodiscard]] Fits fits(const ArgumentShape& one, std::uint64_t value) const {
    const bool address = is_readable(value);
    if (one.is_descriptor()) {
      const bool at = one.kind == Kind::directory && static_cast<std::int32_t>(value) == -100;  // AT_FDCWD
      return at || is_open(static_cast<std::uint32_t>(value)) ? Fits::yes : Fits::no;
    }
    if (one.is_pointer()) {
      if (value == 0 && one.kind != Kind::path && one.kind != Kind::bytes) return Fits::perhaps;
      if (!space_.allows(value, access_by(one))) return Fits::no;
      if (one.kind == Kind::path || one.kind == Kind::string) return is_text(value, 256, true) ? Fits::yes : Fits::no;
      return Fits::yes;
    }
    switch (one.kind) {
      case Kind::flags:
      case Kind::one: {
        const abi::ConstantGroup* group = abi::constant_group(one.of);
        if (address) return Fits::no;
        return group == nullptr || abi::spell_flags(*group, value & 0xffffffff).rest == 0 ? Fits::perhaps : Fits::no;
      }
      case Kind::mode: return value <= 07777 ? Fits::perhaps : Fits::no;
      case Kind::none:
      case Kind::depends: return Fits::perhaps;
      default: return address ? Fits::no : Fits::perhaps;
    }
  }

  [[nodiscard]] bool all_fit(const abi::CallShape& shape, const std::vector<std::uint64_t>& values) const {
    for (std::size_t i = 0; i < shape.arguments.size(); ++i) {
      if (fits(shape.arguments[i], values[i]) == Fits::no) return false;
    }
    return true;
  }
  [[nodiscard]] std::size_t sure(const abi::CallShape& shape, const std::vector<std::uint64_t>& values) const {
    std::size_t count = 0;
    for (std::size_t i = 0; i < shape.arguments.size(); ++i) count += fits(shape.arguments[i], values[i]) == Fits::yes;
    return count;
  }
  [[nodiscard]] std::vector<std::uint64_t> values() const {
    std::vector<std::uint64_t> result;
    for (const std::uint64_t value : call_.asked.arguments) result.push_back(as_passed(value));
    return result;
  }

  /// "0x402000 is a string of 14 bytes", "1 is standard output".
  [[nodiscard]] std::string what_is(std::uint64_t value) const {
    if (is_readable(value)) {
      const AddressName name = address_name(modules_, view_, value, view_.registers()[state::Reg::rsp]);
      std::string text = hex_text(value) + (name.name.empty() ? " is an address" : " is the address of " + name.name);
      if (is_text(value, 64, false)) text += ", where there is text";
      return text;
    }
    static constexpr std::string_view kStandard[] = {"standard input", "standard output", "standard error"};
    const std::string number = std::to_string(static_cast<std::int64_t>(value));
    if (value < 3) return number + " is " + std::string(kStandard[value]);
    const std::string on = value < (1U << 20) ? known_.surroundings_.descriptor(value) : "";
    if (!on.empty()) return number + " is an open descriptor (" + on + ")";
    return number + " is a number";
  }

  [[nodiscard]] std::string register_of(std::size_t index) const {
    return index < call_.decoded->arguments.size() ? call_.decoded->arguments[index].where : "";
  }
  [[nodiscard]] std::string argument_words(std::size_t index) const {
    return "argument " + ordinal(index) + " (" + std::string(shape_->arguments[index].name) + ", " +
           register_of(index) + ")";
  }

  /// Where a register that holds an argument was set, of a call that the developer's own code makes.
  [[nodiscard]] std::vector<std::string> trail_of_argument(std::size_t index) const {
    if (!call_.raw || call_.asked.inner != nullptr) return {};
    const arch::Machine& machine = arch::machine_of(call_.asked.mode());
    // Registers that hold arguments are after the call as they were before it.
    state::RegisterSet registers = view_.registers();
    registers[state::Reg::rip] = call_.address;
    const state::WithRegisters before(view_, registers);
    const std::vector<inspect::Frame> frames = frames_of(modules_, before, 16);
    if (frames.empty() || index >= machine.call_arguments.size()) return {};
    const isa::RegisterPart part{isa::RegisterFile::general, static_cast<std::uint8_t>(machine.call_arguments[index]),
                                 0, static_cast<std::uint16_t>(machine.word * 8)};
    return trail_of(modules_, before, frames, part).words;
  }

  // ---- findings

  /// The call of the same number in the other numbering is what the arguments are for.
  bool other_numbering() {
    const abi::SystemCall* meant = abi::system_call(call_.asked.number, other(call_.asked.table));
    if (meant == nullptr || !call_.raw || call_.asked.inner != nullptr || meant->name == call_.decoded->name)
      return false;
    const abi::CallShape* shape = abi::call_shape(meant->name, call_.asked.table);
    if (shape == nullptr || shape->arguments.empty()) return false;
    const std::vector<std::uint64_t> all = values();
    if (!all_fit(*shape, all) || sure(*shape, all) < 1 || (shape_ != nullptr && all_fit(*shape_, all))) return false;
    if (shape_ != nullptr && sure(*shape, all) <= sure(*shape_, all)) return false;
    const CallTable there = other(call_.asked.table);
    std::string text = std::to_string(call_.asked.number) + " is " + std::string(meant->name) + " only by " +
                       std::string(instruction_of(there)) + "; by " + std::string(instruction_of(call_.asked.table)) +
                       " it is " + call_.decoded->name;
    std::vector<std::string> evidence = {"the arguments are those of " + std::string(meant->name)};
    for (std::size_t i = 0; i < shape->arguments.size(); ++i) {
      if (fits(shape->arguments[i], all[i]) == Fits::yes)
        evidence.push_back(std::string(shape->arguments[i].name) + ": " + what_is(all[i]));
    }
    const abi::SystemCall* right = abi::system_call(meant->name, call_.asked.table);
    if (right != nullptr)
      evidence.push_back("by " + std::string(instruction_of(call_.asked.table)) + " " + std::string(meant->name) +
                         " is " + std::to_string(right->number));
    found_.push_back(finding("other_numbering", std::move(text), std::move(evidence)));
    return true;
  }

  /// Two arguments, or three, that would fit in each other's places.
  bool exchanged() {
    if (shape_ == nullptr || shape_->arguments.size() < 2) return false;
    const std::vector<std::uint64_t> all = values();
    if (all_fit(*shape_, all)) return false;
    const std::size_t count = shape_->arguments.size();
    std::vector<std::size_t> best;
    const auto moved = [](const std::vector<std::size_t>& order) {
      std::size_t places = 0;
      for (std::size_t i = 0; i < order.size(); ++i) places += order[i] != i;
      return places;
    };
    std::vector<std::size_t> order(count);
    std::iota(order.begin(), order.end(), 0);
    while (std::ranges::next_permutation(order).found) {
      const std::size_t places = moved(order);
      if (places > 3 || (!best.empty() && places >= moved(best))) continue;
      std::vector<std::uint64_t> placed = all;
      for (std::size_t i = 0; i < count; ++i) placed[i] = all[order[i]];
      if (all_fit(*shape_, placed) && gains(all, placed, order)) best = order;
    }
    if (best.empty()) return false;
    std::vector<std::size_t> places;
    for (std::size_t i = 0; i < count; ++i) {
      if (best[i] != i) places.push_back(i);
    }
    std::string names;
    std::vector<std::string> evidence;
    for (std::size_t i = 0; i < places.size(); ++i) {
      names += (i == 0 ? "" : i + 1 == places.size() ? " and " : ", ") + ordinal(places[i]);
      evidence.push_back(argument_words(places[i]) + ": " + what_is(all[places[i]]) + "; there should be " +
                         article(shape_->arguments[places[i]]));
      for (std::string& step : trail_of_argument(places[i])) evidence.push_back(std::move(step));
    }
    std::string text = "arguments " + names + " of " + call_.decoded->name + " look exchanged:";
    for (const std::size_t place : places) text += (place == places.front() ? " " : ", ") + what_is(all[place]);
    found_.push_back(finding("exchanged_arguments", std::move(text), std::move(evidence)));
    return true;
  }
  /// An address comes to where one belongs. Small numbers are often those of descriptors as well, and prove nothing.
  [[nodiscard]] bool gains(const std::vector<std::uint64_t>& before, const std::vector<std::uint64_t>& after,
                           const std::vector<std::size_t>& order) const {
    bool gained = false;
    for (std::size_t i = 0; i < order.size(); ++i) {
      if (order[i] == i) continue;
      if (before[i] == after[i]) return false;
      const Fits was = fits(shape_->arguments[i], before[i]), is = fits(shape_->arguments[i], after[i]);
      gained |= shape_->arguments[i].is_pointer() && was == Fits::no && is == Fits::yes;
    }
    return gained;
  }
  static std::string article(const ArgumentShape& shape) {
    if (shape.is_descriptor()) return "a descriptor";
    if (shape.is_pointer()) return shape.kind == Kind::path ? "the address of a path" : "an address";
    if (shape.kind == Kind::size) return "a size";
    if (shape.kind == Kind::flags) return "flags";
    return "a number";
  }

  void bad_addresses() {
    if (shape_ == nullptr) return;
    for (std::size_t i = 0; i < shape_->arguments.size(); ++i) {
      const ArgumentShape& one = shape_->arguments[i];
      const std::uint64_t value = as_passed(call_.asked.arguments[i]);
      if (!one.is_pointer() || one.kind == Kind::address) continue;
      const AccessKind access = access_by(one);
      if (space_.allows(value, access) || (value == 0 && one.kind != Kind::path && one.kind != Kind::bytes)) continue;
      const AddressFault fault = space_.fault_of(value, access, value);
      std::string text = argument_words(i) + " is " + space_.pointer_words(value, fault) + ", where the kernel " +
                         (access == AccessKind::write ? "writes" : "reads") +
                         (fault.lies.empty() ? "" : ": " + fault.lies);
      std::vector<std::string> evidence = trail_of_argument(i);
      if (const auto whole = whole_of(value))
        evidence.push_back(hex_text(value) + " is the lower half of " + hex_text(*whole) + ", which is " +
                           modules_.place_name(*whole) + ": the upper half was lost");
      found_.push_back(finding("bad_address", std::move(text), std::move(evidence)));
    }
  }
  /// The address in the program or on the stack whose lower half a value is.
  [[nodiscard]] std::optional<std::uint64_t> whole_of(std::uint64_t value) const {
    constexpr std::uint64_t kLow = 0xffffffff;
    if (view_.mode() != isa::Mode::bits64 || value > kLow || space_.is_number(value)) return std::nullopt;
    for (const std::uint64_t near : {modules_.main().from, view_.registers()[state::Reg::rsp]}) {
      const std::uint64_t whole = (near & ~kLow) | value;
      if (whole != value && is_readable(whole)) return whole;
    }
    return std::nullopt;
  }

  void bad_descriptors() {
    if (shape_ == nullptr) return;
    for (std::size_t i = 0; i < shape_->arguments.size(); ++i) {
      const ArgumentShape& one = shape_->arguments[i];
      const auto value = static_cast<std::uint32_t>(call_.asked.arguments[i]);
      if (!one.is_descriptor() || fits(one, value) == Fits::yes) continue;
      const auto number = static_cast<std::int32_t>(value);
      const bool known = known_.closed_.contains(value) || known_.failed_.contains(number) || known_.no_descriptor_;
      // -1 stands for none, and whoever closes all that may be open asks nobody.
      if (!known && (number == -1 || call_.decoded->name == "close")) continue;
      if (number == -1 && call_.decoded->name == "close") continue;
      std::string text = argument_words(i) + " is " + std::to_string(number) + ": no descriptor of that number is open";
      std::vector<std::string> evidence;
      std::string kind = "not_open";
      if (const auto closed = known_.closed_.find(value); closed != known_.closed_.end()) {
        kind = "used_after_close";
        evidence.push_back(closed->second.words() + " closed it");
      } else if (const auto failed = known_.failed_.find(number); failed != known_.failed_.end()) {
        kind = "result_not_checked";
        evidence.push_back("it is what " + failed->second.words() + " gave when it failed with " +
                           abi::error_name(-number));
      } else if (number == -1 && known_.no_descriptor_) {
        kind = "result_not_checked";
        evidence.push_back(known_.no_descriptor_->words() + " failed with " + known_.no_descriptor_->on +
                           ", and the library returned -1");
      }
      for (std::string& step : trail_of_argument(i)) evidence.push_back(std::move(step));
      found_.push_back(finding(std::move(kind), std::move(text), std::move(evidence)));
      found_.back().note = call_.decoded->name == "close";
    }
  }

  /// A path of which one part is missing, where a name is near that differs in one letter.
  void near_path() {
    // These ask whether something is there: who looks in many places finds it in one.
    static const std::set<std::string_view> kAsking = {"access",  "faccessat",  "faccessat2", "stat",
                                                       "lstat",   "newfstatat", "fstatat64",  "stat64",
                                                       "lstat64", "statx",      "readlink",   "readlinkat"};
    if (shape_ == nullptr || kAsking.contains(call_.decoded->name)) return;
    std::int64_t at = -1;
    for (std::size_t i = 0; i < shape_->arguments.size(); ++i) {
      const ArgumentShape& one = shape_->arguments[i];
      if (one.kind == Kind::directory) {
        const auto value = static_cast<std::int32_t>(call_.asked.arguments[i]);
        at = value >= 0 ? value : -1;
      }
      if (one.kind != Kind::path) continue;
      if (const std::string path = text_at(as_passed(call_.asked.arguments[i])); !path.empty()) near_path(at, path);
    }
  }
  void near_path(std::int64_t at, const std::string& path) {
    std::string directory = path.starts_with('/') ? "/" : ".";
    std::size_t from = path.find_first_not_of('/');
    while (from != std::string::npos) {
      const std::size_t end = std::min(path.find('/', from), path.size());
      const std::string part = path.substr(from, end - from);
      const std::vector<std::string> names = known_.surroundings_.names(at, directory);
      if (part != "." && part != ".." && std::ranges::find(names, part) == names.end()) {
        constexpr std::size_t kShortest = 4;  // of shorter names many are near
        std::string near;
        std::size_t count = 0;
        for (const std::string& name : names) {
          if (part.size() < kShortest || edit_distance(name, part) != 1) continue;
          near = name;
          ++count;
        }
        if (count == 1)
          found_.push_back(finding("near_path", "there is no \"" + part + "\" here, but there is \"" + near + "\"",
                                   {"in the path \"" + path + "\""}));
        return;
      }
      directory += (directory.ends_with('/') ? "" : "/") + part;
      from = path.find_first_not_of('/', end);
    }
  }
  [[nodiscard]] std::string text_at(std::uint64_t address) const {
    std::vector<std::uint8_t> bytes(4096);
    bytes.resize(view_.read_memory(address, bytes));
    const auto end = std::ranges::find(bytes, 0);
    return end != bytes.end() ? std::string(bytes.begin(), end) : std::string();
  }

  /// Ports and addresses are kept with the highest byte first (ip(7)); structures have a size.
  void address_of_socket() {
    if (shape_ == nullptr || (call_.decoded->name != "connect" && call_.decoded->name != "bind")) return;
    std::uint8_t bytes[16] = {};
    const std::uint64_t length = static_cast<std::uint32_t>(call_.asked.arguments[2]);
    if (view_.read_memory(as_passed(call_.asked.arguments[1]), bytes) < 8) return;
    const unsigned family = bytes[0] | bytes[1] << 8;
    struct Known {
      unsigned family, size;
      std::string_view name;
    };
    static constexpr Known kFamilies[] = {{AF_INET, 16, "sockaddr_in"}, {AF_INET6, 24, "sockaddr_in6"}};
    const auto* known = std::ranges::find(kFamilies, family, &Known::family);
    if (known == std::end(kFamilies)) return;
    if (error_ == EINVAL && length < known->size)
      found_.push_back(finding("structure_too_short", argument_words(2) + " is " + std::to_string(length) + ": " +
                                                          std::string(known->name) + " has " +
                                                          std::to_string(known->size) + " bytes"));
    const auto port = static_cast<std::uint16_t>(bytes[2] << 8 | bytes[3]);
    const auto turned = static_cast<std::uint16_t>(bytes[3] << 8 | bytes[2]);
    const bool connects = call_.decoded->name == "connect";
    const bool listens = connects && error_ == ECONNREFUSED && known_.surroundings_.listens(turned);
    if (port != turned && (listens || (is_usual(turned) && !is_usual(port) && (error_ != 0 || !connects)))) {
      std::vector<std::string> evidence = {"the field has the bytes " + hex_text(bytes[2]) + ", " + hex_text(bytes[3]) +
                                           "; the highest comes first (htons)"};
      if (listens) evidence.push_back("somebody listens at port " + std::to_string(turned));
      found_.push_back(
          finding("byte_order",
                  "the port is " + std::to_string(port) + "; with its bytes exchanged it is " + std::to_string(turned),
                  std::move(evidence)));
    }
    if (family == AF_INET && bytes[7] == 127 && bytes[4] != 127 && bytes[4] != 0)
      found_.push_back(finding(
          "byte_order",
          "the address is " + dotted(bytes, false) + "; with its bytes turned round it is " + dotted(bytes, true),
          {"the highest byte comes first (htonl)"}));
  }
  static std::string dotted(const std::uint8_t* bytes, bool turned) {
    std::string text;
    for (int i = 0; i < 4; ++i) text += (i == 0 ? "" : ".") + std::to_string(bytes[4 + (turned ? 3 - i : i)]);
    return text;
  }
  /// A port that a service has, or that programs take when they try something.
  static bool is_usual(std::uint16_t port) {
    static const std::set<std::uint16_t> kTried = {3000, 5000, 7000, 8000, 8008, 8080,
                                                   8081, 8443, 8888, 9000, 9090, 12345};
    if (kTried.contains(port)) return true;
    servent result{};
    servent* found = nullptr;
    char room[1024];
    return ::getservbyport_r(htons(port), "tcp", &result, room, sizeof room, &found) == 0 && found != nullptr;
  }

  const CallFindings& known_;
  const CallOver& call_;
  const state::StateView& view_;
  Modules& modules_;
  AddressSpace space_;
  const abi::CallShape* shape_ = nullptr;
  int error_ = 0;
  std::vector<Finding> found_;
};

std::string CallFindings::Made::words() const {
  if (function.empty()) return "a call of " + name + " that is left out here";
  return (call != 0 ? "call " + std::to_string(call) + " (" + name + ", at " : name + " (at ") + place() + ")";
}

std::string CallFindings::Made::place() const {
  return line != 0 ? function + " (" + base_name(file) + ":" + std::to_string(line) + ")" : function;
}

namespace {

bool is_often_ignored(const CallOver& call) { return call.decoded->shape != nullptr && call.decoded->shape->may_fail; }

}  // namespace

/// It keeps the room of its texts: there is one for each call.
void CallFindings::Made::take(const CallOver& over) {
  const bool alike = over.place_like != 0 && over.place_like == call;
  call = over.number;
  if (alike) return;
  name.assign(over.decoded->name);
  on.clear();
  function.assign(over.function);
  file.assign(over.file);
  line = over.line;
  address = over.address;
}

std::vector<Finding> CallFindings::of(const CallOver& call, const state::StateView& view, Modules& modules) {
  std::vector<Finding> found;
  const bool judges = call.shown && call.like == 0;
  if (judges) found = judged(call, view, modules);
  count_single_bytes(call, found);
  if (judges) check_result_use(call, view, modules, found);
  if (call.like == 0) follow_descriptors(call);
  if (!last_) last_ = Made{};
  last_->take(call);
  last_arguments_ = call.asked.arguments;
  last_number_ = call.asked.number;
  last_table_ = call.asked.table;
  if (found.empty()) return found;
  // A place that goes wrong again and again is said a few times.
  constexpr unsigned kEnough = 3;
  std::erase_if(found, [&](const Finding& one) {
    return ++said_[one.kind + " " + std::string(call.function) + " " + std::to_string(call.line)] > kEnough;
  });
  for (Finding& one : found) {
    one.function = call.function;
    one.file = call.file;
    one.line = call.line;
    one.address = call.address;
  }
  return found;
}

/// By what was asked and what came of it.
std::vector<Finding> CallFindings::judged(const CallOver& call, const state::StateView& view, Modules& modules) {
  std::vector<Finding> found;
  // Others fail in loops, by what the outside does.
  static const std::set<std::string_view> kErrors = {"EFAULT", "EBADF", "EINVAL", "ENOSYS", "ENOTSOCK", "ENOENT"};
  const bool failed = call.decoded->failed && kErrors.contains(call.decoded->error);
  const std::string_view name = call.decoded->name;
  if (failed || name == "bind" || name == "connect") found = Check(*this, call, view, modules).run();
  const bool measured =
      last_ && call.place_like != 0 && last_->call == call.place_like && last_arguments_ == call.asked.arguments;
  if (!measured) check_lengths(call, view, modules, found);
  return found;
}

void CallFindings::count_single_bytes(const CallOver& call, std::vector<Finding>& found) {
  const std::string_view name = call.decoded->name;
  const bool single = call.asked.arguments[2] == 1 && !call.decoded->failed && (name == "read" || name == "write");
  single_ = !single                           ? Run{}
            : single_.address == call.address ? Run{call.address, single_.count + 1}
                                              : Run{call.address, 1};
  if (single_.count != kSingles) return;
  found.push_back(note("single_bytes",
                       std::to_string(kSingles) + " calls of " + std::string(name) +
                           " in a row here are for one byte each: a buffer would need one call",
                       {}));
}

/// Of a call that failed, and of which nothing else is said.
void CallFindings::check_result_use(const CallOver& call, const state::StateView& view, Modules& modules,
                                    std::vector<Finding>& found) {
  if (!found.empty() || !call.decoded->failed || call.after == 0 || is_often_ignored(call)) return;
  const auto by = overwritten_result(modules, view, call.after);
  if (!by) return;
  found.push_back(
      note("result_not_read",
           call.decoded->name + " failed with " + call.decoded->error + ", and nothing looks at its result",
           {"`" + std::string(isa::text_of(by->instruction, by->address, isa::Syntax::intel).view()) + "` at " +
            modules.place_name(by->address) + " is next to use its register, and does not read it"}));
}

namespace {

/// The argument, as an index, that says how long a buffer is: of one that the kernel fills as far as its result says,
/// the size that follows.
std::optional<std::size_t> length_of(const abi::CallShape& shape, std::size_t buffer) {
  const ArgumentShape::Count& count = shape.arguments[buffer].count;
  if (count.by == ArgumentShape::Count::By::argument) return count.number - 1U;
  if (count.by != ArgumentShape::Count::By::result) return std::nullopt;
  const auto after = shape.arguments.subspan(buffer + 1);
  const auto found = std::ranges::find(after, Kind::size, &ArgumentShape::kind);
  return found != after.end() ? std::optional(buffer + 1 + static_cast<std::size_t>(found - after.begin()))
                              : std::nullopt;
}

}  // namespace

/// Buffers that are longer than the variable that they lie in.
void CallFindings::check_lengths(const CallOver& call, const state::StateView& view, Modules& modules,
                                 std::vector<Finding>& found) {
  constexpr std::size_t kMostMeasured = 4096;
  const abi::CallShape* shape = call.decoded->shape;
  const std::size_t count = std::min(call.decoded->arguments.size(), shape != nullptr ? shape->arguments.size() : 0);
  for (std::size_t i = 0; i < count; ++i) {
    const ArgumentShape& one = shape->arguments[i];
    const auto at = one.kind == Kind::bytes ? length_of(*shape, i) : std::nullopt;
    if (!at || *at >= count) continue;
    const std::uint64_t address = call.asked.arguments[i], length = call.asked.arguments[*at];
    if (length <= 1 || address == 0 || measured_.size() >= kMostMeasured) continue;
    if (!measured_.insert({call.address, address, length}).second) continue;
    const auto room = room_at(modules, view, address);
    if (!room || length <= room->bytes) continue;
    const Argument& argument = call.decoded->arguments[*at];
    const bool overwritten = one.way != Way::read && !call.decoded->failed && call.result > room->bytes;
    Finding result = note(
        "length_beyond_variable",
        "argument " + ordinal(*at) + " (" + argument.name + ", " + argument.where + ") is " + std::to_string(length) +
            ", and " + room->name + " has " + std::to_string(room->bytes) + " bytes from there on",
        {room->inferred ? "its end is taken to be where the next label stands" : "",
         overwritten ? std::to_string(call.result - room->bytes) + " bytes after it were overwritten" : ""});
    result.note = !overwritten;
    std::erase(result.evidence, "");
    found.push_back(std::move(result));
  }
}

void CallFindings::follow_descriptors(const CallOver& call) {
  const abi::CallShape* shape = call.decoded->shape;
  if (call.decoded->failed) {
    failed_[static_cast<std::int32_t>(call.result)].take(call);
    if (shape != nullptr && shape->result.kind == Kind::descriptor) {
      no_descriptor_ = Made{};
      no_descriptor_->take(call);
      no_descriptor_->on = call.decoded->error;
    }
    return;
  }
  const auto first = static_cast<std::uint32_t>(call.asked.arguments[0]);
  const std::string_view name = call.decoded->name;
  if (name == "close") {
    closed_[first].take(call);
    open_.erase(first);
  } else if (name == "close_range") {
    open_.clear();
  } else if (shape != nullptr && shape->result.kind == Kind::descriptor) {
    closed_.erase(call.result);
    if (call.result <= STDERR_FILENO) return;
    Made& made = open_[call.result];
    made.take(call);
    made.on = surroundings_.descriptor(call.result);
  }
}

std::vector<Finding> CallFindings::at_exit() {
  // One finding a place.
  std::map<std::string, std::vector<std::pair<std::uint64_t, const Made*>>> by_place;
  for (const auto& [descriptor, made] : open_) {
    if (!made.function.empty()) by_place[made.place()].emplace_back(descriptor, &made);
  }
  std::vector<Finding> found;
  for (const auto& [place, all] : by_place) {
    std::string text = all.size() == 1 ? "the descriptor that" : std::to_string(all.size()) + " descriptors that";
    text +=
        " " + all.front().second->name + " opened at " + place + (all.size() == 1 ? " was" : " were") + " never closed";
    std::vector<std::string> evidence;
    constexpr std::size_t kShown = 4;
    for (std::size_t i = 0; i < std::min(kShown, all.size()); ++i)
      evidence.push_back(std::to_string(all[i].first) + " (" + all[i].second->on + "), by call " +
                         std::to_string(all[i].second->call));
    Finding one = note("never_closed", std::move(text), std::move(evidence));
    one.function = all.front().second->function;
    one.file = all.front().second->file;
    one.line = all.front().second->line;
    one.address = all.front().second->address;
    found.push_back(std::move(one));
  }
  return found;
}

std::vector<Finding> CallFindings::at_end_by_signal(const state::StateView& view, Modules& modules) {
  const std::uint64_t address = view.registers()[state::Reg::rip];
  const Module* module = modules.at(address);
  if (module == nullptr || module->system || module->program == nullptr) return {};
  const binary::Elf& elf = module->program->elf();
  const auto holds = [&](const binary::Section& one) { return one.is_code() && one.holds(address - module->bias); };
  if (std::ranges::any_of(elf.sections(), holds) || !last_) return {};
  std::vector<std::string> evidence = {"the last call was " + last_->name + ", at " + last_->place()};
  if (const abi::SystemCall* meant = abi::system_call(last_number_, other(last_table_));
      meant != nullptr && (meant->name == "exit" || meant->name == "exit_group"))
    evidence.push_back(std::to_string(last_number_) + " is " + std::string(meant->name) + " only by " +
                       std::string(instruction_of(other(last_table_))));
  return {finding("ran_past_the_end",
                  "control ran past the end of the program's code, to " + hex_text(address) + ": no exit call was made",
                  std::move(evidence))};
}

}  // namespace deeptrace::look
