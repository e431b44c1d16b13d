#include "look/fault_address.h"

#include <algorithm>
#include <array>
#include <cctype>

#include "base/number.h"
#include "base/path.h"
#include "look/address_name.h"

namespace deeptrace::look {
namespace {

constexpr std::uint64_t kPage = 0x1000;
constexpr std::uint64_t kSmall = 0x10000;  // below it no program has memory (vm.mmap_min_addr)

bool allows(const state::Mapping& mapping, AccessKind access) {
  if (access == AccessKind::write) return mapping.writable;
  return access == AccessKind::execute ? mapping.executable : mapping.readable;
}

const char* access_words(AccessKind access) {
  if (access == AccessKind::write) return "written";
  return access == AccessKind::execute ? "executed" : "read";
}

/// The characters of a number's bytes in memory order, where all that are not 0 at its end can be printed.
std::string characters_of(std::uint64_t value, unsigned word) {
  std::string text;
  for (unsigned i = 0; i < word; ++i) text += static_cast<char>(value >> 8 * i);
  const std::size_t end = text.find_last_not_of('\0');
  text.resize(end == std::string::npos ? 0 : end + 1);
  constexpr std::size_t kLeast = 4;
  const auto printable = [](char c) { return std::isprint(static_cast<unsigned char>(c)) != 0; };
  return text.size() >= kLeast && std::ranges::all_of(text, printable) ? text : std::string();
}

}  // namespace

std::string address_text(std::uint64_t address) {
  const std::string text = hex_text(address);
  return text.starts_with("0x") ? text : "0x" + text;
}

AddressSpace::AddressSpace(const state::Target& target, Modules& modules, const state::StateView& view)
    : modules_(modules), view_(view), mappings_(target.mappings()), word_(arch::machine_of(view.mode()).word) {}

const state::Mapping* AddressSpace::mapping_at(std::uint64_t address) const {
  const auto found =
      std::ranges::find_if(mappings_, [&](const auto& one) { return address >= one.from && address < one.to; });
  return found != mappings_.end() ? &*found : nullptr;
}

const state::Mapping* AddressSpace::mapping_above(std::uint64_t address) const {
  const state::Mapping* result = nullptr;
  for (const state::Mapping& one : mappings_) {
    if (one.from > address && (result == nullptr || one.from < result->from)) result = &one;
  }
  return result;
}

bool AddressSpace::allows(std::uint64_t address, AccessKind access) const {
  const state::Mapping* mapping = mapping_at(address);
  return mapping != nullptr && look::allows(*mapping, access);
}

bool AddressSpace::is_canonical(std::uint64_t address) const {
  if (word_ == 4) return true;
  const auto top = static_cast<std::int64_t>(address) >> 47;  // Intel SDM volume 1, 3.3.7.1
  return top == 0 || top == -1;
}

bool AddressSpace::is_number(std::uint64_t value) const {
  const std::uint64_t most = word_ == 4 ? 0xffffffff : ~std::uint64_t(0);
  return value < kSmall || value > most - kSmall;
}

bool AddressSpace::is_near_memory(std::uint64_t value) const {
  const std::uint64_t top = value >> (word_ == 4 ? 20 : 36);
  return top != 0 &&
         std::ranges::any_of(mappings_, [&](const auto& one) { return one.from >> (word_ == 4 ? 20 : 36) == top; });
}

std::string AddressSpace::mapping_words(const state::Mapping& mapping, std::uint64_t address) const {
  const AddressName name = address_name(modules_, view_, address, view_.registers()[state::Reg::rsp]);
  if (!name.name.empty() && !name.name.starts_with('.')) return name.name;
  if (!name.text.empty()) return "the text \"" + name.text.substr(0, 40) + "\"";
  if (!name.name.empty()) return name.name;
  if (!name.region.empty()) return name.region;
  return mapping.path.empty() ? "mapped memory" : base_name(mapping.path);
}

/// Where nothing is mapped: what lies right below.
std::string AddressSpace::near_words(std::uint64_t address, std::string& kind) const {
  constexpr std::uint64_t kNear = 16 * kPage;
  for (const state::Mapping& one : mappings_) {
    if (address < one.to || address - one.to >= kNear || !one.readable) continue;
    kind = "past_end";
    return std::to_string(address - one.to) + " bytes past the end of " +
           (one.path.empty()            ? "mapped memory"
            : one.path.starts_with('[') ? "the " + one.path.substr(1, one.path.size() - 2)
                                        : base_name(one.path)) +
           ", where nothing is mapped";
  }
  return "nothing is mapped there";
}

std::string AddressSpace::looks_like(std::uint64_t pointer, std::string& kind) const {
  if (pointer == 0) {
    kind = "null_pointer";
    return "a null pointer";
  }
  if (is_number(pointer)) {
    kind = "number_as_address";
    return "a number where an address belongs";
  }
  if (const std::string text = characters_of(pointer, word_); !text.empty() && !is_near_memory(pointer)) {
    kind = "text_as_address";
    return "the characters \"" + text + "\", where an address belongs";
  }
  bool same = true;
  for (unsigned i = 1; i < word_; ++i) same &= (pointer >> 8 * i & 0xff) == (pointer & 0xff);
  if (same) {
    kind = "fill_pattern";
    return "one byte, " + address_text(pointer & 0xff) + ", over and over: a pattern that memory is filled with";
  }
  if (word_ == 8 && (pointer >> 32 == 0 || pointer >> 31 == 0x1ffffffff)) {
    for (const state::Mapping& one : mappings_) {
      const std::uint64_t whole = (one.from & ~std::uint64_t(0xffffffff)) | (pointer & 0xffffffff);
      if (one.from >> 32 == 0 || whole < one.from || whole >= one.to) continue;
      kind = "half_address";
      return "the lower half of " + address_text(whole) + ", where memory is: an address was kept in 32 bits";
    }
  }
  return {};
}

std::string AddressSpace::pointer_words(std::uint64_t pointer, const AddressFault& fault) const {
  if (pointer == 0) return fault.looks;
  const std::string value = is_number(pointer) ? std::to_string(signed_of(pointer, 8 * word_)) : address_text(pointer);
  return fault.looks.empty() ? value : value + ": " + fault.looks;
}

AddressFault AddressSpace::fault_of(std::uint64_t address, AccessKind access, std::uint64_t pointer) const {
  AddressFault result;
  result.looks = looks_like(pointer, result.kind);
  std::string kind = "not_mapped";
  if (!is_canonical(address)) {
    kind = "not_canonical";
    result.lies = "no address at all: its upper 17 bits differ, as no memory's do";
  } else if (const state::Mapping* mapping = mapping_at(address); mapping == nullptr) {
    result.lies = near_words(address, kind);
  } else if (look::allows(*mapping, access)) {
    kind.clear();
    result.kind.clear();
    result.looks.clear();
    result.lies = mapping_words(*mapping, address);
  } else if (!mapping->readable && !mapping->writable && !mapping->executable) {
    kind = "guard_page";
    result.lies = "memory that nobody may touch, such as the guard below a stack";
  } else {
    kind = access == AccessKind::write     ? "read_only"
           : access == AccessKind::execute ? "not_executable"
                                           : "not_readable";
    result.lies = mapping_words(*mapping, address) + ", which may not be " + access_words(access);
  }
  if (result.kind.empty() || kind == "read_only" || kind == "guard_page") result.kind = kind;
  if (kind == "not_executable") result.kind = kind;
  return result;
}

}  // namespace deeptrace::look
