#include "state/parts.h"

#include <array>
#include <cctype>
#include <cstring>
#include <string>
#include <unordered_map>

namespace deeptrace::state {
namespace {

using isa::RegisterFile;
using isa::RegisterPart;

/// Every part that has a name.
std::unordered_map<std::string, RegisterPart> named_parts() {
  std::unordered_map<std::string, RegisterPart> result;
  const auto add = [&](RegisterPart part) {
    if (const std::string_view name = isa::name_of(part); !name.empty()) result.emplace(name, part);
  };
  for (std::uint8_t i = 0; i < 32; ++i) {
    if (i < 16) {
      for (const std::uint16_t width : {std::uint16_t(64), std::uint16_t(32), std::uint16_t(16), std::uint16_t(8)})
        add({RegisterFile::general, i, 0, width});
    }
    if (i < 4) add({RegisterFile::general, i, 8, 8});
    if (i < 6) add({RegisterFile::segment, i, 0, 16});
    for (const std::uint16_t width : {std::uint16_t(128), std::uint16_t(256), std::uint16_t(512)})
      add({RegisterFile::vector, i, 0, width});
    if (i < 8) {
      add({RegisterFile::mask, i, 0, 64});
      add({RegisterFile::mmx, i, 0, 64});
      const RegisterPart stack{RegisterFile::x87, i, 0, 80};
      result.emplace("st" + std::to_string(i), stack);
      result.emplace("st(" + std::to_string(i) + ")", stack);
    }
  }
  add({RegisterFile::instruction_pointer, 0, 0, 64});
  add({RegisterFile::instruction_pointer, 0, 0, 32});
  add({RegisterFile::mxcsr, 0, 0, 32});
  add({RegisterFile::x87_control, 0, 0, 16});
  add({RegisterFile::x87_status, 0, 0, 16});
  return result;
}

std::string lower(std::string_view name) {
  std::string result(name);
  for (char& c : result) c = static_cast<char>(std::tolower(static_cast<unsigned char>(c)));
  return result;
}

}  // namespace

std::optional<RegisterPart> part_named(std::string_view name, isa::Mode mode) {
  static const std::unordered_map<std::string, RegisterPart> kParts = named_parts();
  const auto found = kParts.find(lower(name));
  if (found == kParts.end()) {
    constexpr std::array<std::string_view, 2> kBases = {"fs_base", "gs_base"};
    for (std::uint8_t i = 0; i < 2; ++i) {
      if (name == kBases[i])
        return RegisterPart{RegisterFile::segment, static_cast<std::uint8_t>(isa::kFs + i), 16, 64};
    }
    return std::nullopt;
  }
  const RegisterPart part = found->second;
  if (mode == isa::Mode::bits64) return part;
  const bool only_64 = part.file == RegisterFile::general && (part.width == 64 || part.index >= 8 ||
                                                              (part.width == 8 && part.offset == 0 && part.index >= 4));
  const bool far = part.file == RegisterFile::vector && part.index >= 8;
  if (only_64 || far || (part.file == RegisterFile::instruction_pointer && part.width == 64)) return std::nullopt;
  return part;
}

std::optional<unsigned> flag_bit(std::string_view name) {
  struct Flag {
    std::string_view name;
    unsigned bit;
  };
  // Intel SDM volume 1, figure 3-8.
  constexpr std::array<Flag, 9> kFlags = {
      {{"cf", 0}, {"pf", 2}, {"af", 4}, {"zf", 6}, {"sf", 7}, {"tf", 8}, {"if", 9}, {"df", 10}, {"of", 11}}};
  const std::string small = lower(name);
  for (const Flag& flag : kFlags) {
    if (flag.name == small) return flag.bit;
  }
  return std::nullopt;
}

bool is_flags_register(std::string_view name, unsigned& bits) {
  bits = name == "rflags" ? 64 : name == "eflags" ? 32 : name == "flags" ? 16 : 0;
  return bits != 0;
}

std::optional<std::vector<std::uint8_t>> bytes_of(const StateView& view, RegisterPart part) {
  std::vector<std::uint8_t> result((part.width + 7U) / 8);
  const auto take = [&](const void* from) {
    std::memcpy(result.data(), from, result.size());
    return std::move(result);
  };
  switch (part.file) {
    case RegisterFile::general:
    case RegisterFile::instruction_pointer:
    case RegisterFile::segment: {
      Reg reg = reg_of(part);
      std::uint64_t value = 0;
      if (part.file == RegisterFile::segment && part.offset == 16) {
        reg = part.index == isa::kFs ? Reg::fs_base : Reg::gs_base;
        value = view.registers()[reg];
      } else {
        value = value_of(view.registers(), part);
      }
      if ((view.known_registers() >> static_cast<unsigned>(reg) & 1) == 0) return std::nullopt;
      return take(&value);
    }
    default: break;
  }
  constexpr unsigned kXmm = 128;  // bits
  const bool wide = part.file == RegisterFile::mask ||
                    (part.file == RegisterFile::vector && (part.index >= 16 || part.offset + part.width > kXmm));
  const std::optional<ExtendedSet> set = wide ? view.extended() : view.legacy();
  if (!set) return std::nullopt;
  switch (part.file) {
    case RegisterFile::vector:
      if (part.index >= set->vector_count || part.offset + part.width > set->vector_bits) return std::nullopt;
      return take(set->vectors[part.index].data() + part.offset / 8);
    case RegisterFile::mask: return set->has_masks ? std::optional(take(&set->masks[part.index])) : std::nullopt;
    case RegisterFile::mxcsr: return take(&set->mxcsr);
    case RegisterFile::x87:
      if ((set->x87_used >> (part.index & 7U) & 1) == 0) return std::nullopt;  // empty: its bytes mean nothing
      return take(set->x87[part.index & 7].data());
    case RegisterFile::mmx:
      // mm registers are the physical ones; st(i) counts from the top (Intel SDM volume 1, 9.2.2).
      return take(set->x87[(part.index - (set->x87_status >> 11 & 7U)) & 7].data());
    case RegisterFile::x87_control: return take(&set->x87_control);
    case RegisterFile::x87_status: return take(&set->x87_status);
    default: return std::nullopt;
  }
}

}  // namespace deeptrace::state
