#include "abi/constants.h"

#include <algorithm>
#include <bit>

#include "base/number.h"

namespace deeptrace::abi {
namespace {

#include "constants.inc"

/// A constant for each field of several bits; its bits are taken out of `left`.
void spell_fields(const ConstantGroup& group, std::uint64_t value, std::uint64_t& left, Spelled& spelled) {
  std::vector<std::uint64_t> masks;
  for (const GroupMember& one : group.members) {
    if (one.mask != 0 && std::ranges::find(masks, one.mask) == masks.end()) masks.push_back(one.mask);
  }
  for (const std::uint64_t mask : masks) {
    const auto fits = [&](const GroupMember& one) {
      return one.mask == mask && static_cast<std::uint64_t>(one.value) == (value & mask);
    };
    const auto found = std::ranges::find_if(group.members, fits);
    if (found == group.members.end()) continue;
    spelled.names.push_back(found->name);
    left &= ~mask;
  }
}

}  // namespace

const Constant* constant(std::string_view name) {
  const auto found = std::ranges::lower_bound(kConstants, name, {}, &Constant::name);
  return found != std::end(kConstants) && found->name == name ? &*found : nullptr;
}

std::span<const Constant> constants() { return kConstants; }

const ConstantGroup* constant_group(std::string_view name) {
  const auto found = std::ranges::lower_bound(kGroups, name, {}, &ConstantGroup::name);
  return found != std::end(kGroups) && found->name == name ? &*found : nullptr;
}

std::span<const ConstantGroup> constant_groups() { return kGroups; }

std::string Spelled::words() const {
  std::string text;
  for (const std::string_view name : names) text += (text.empty() ? "" : " | ") + std::string(name);
  if (rest != 0) text += (text.empty() ? "" : " | ") + hex_text(rest);
  return text.empty() ? "0" : text;
}

Spelled spell_flags(const ConstantGroup& group, std::uint64_t value) {
  Spelled spelled;
  std::uint64_t left = value;
  spell_fields(group, value, left, spelled);
  std::vector<const GroupMember*> bits;
  for (const GroupMember& one : group.members) {
    if (one.mask == 0 && one.value != 0) bits.push_back(&one);
  }
  const auto count = [](const GroupMember* one) { return std::popcount(static_cast<std::uint64_t>(one->value)); };
  std::ranges::stable_sort(bits, std::ranges::greater{}, count);
  for (const GroupMember* one : bits) {
    const auto wanted = static_cast<std::uint64_t>(one->value);
    if ((left & wanted) != wanted) continue;
    spelled.names.push_back(one->name);
    left &= ~wanted;
  }
  spelled.rest = left;
  return spelled;
}

Spelled spell_one(const ConstantGroup& group, std::uint64_t value) {
  const bool shares = std::ranges::any_of(group.members, [](const GroupMember& one) { return one.mask != 0; });
  if (shares) return spell_flags(group, value);
  const auto found = std::ranges::find(group.members, static_cast<std::int64_t>(value), &GroupMember::value);
  return found != group.members.end() ? Spelled{{found->name}, 0} : Spelled{{}, value};
}

const ConstantGroup* group_with(std::string_view constant) {
  for (const ConstantGroup& group : kGroups) {
    if (std::ranges::find(group.members, constant, &GroupMember::name) != group.members.end()) return &group;
  }
  return nullptr;
}

}  // namespace deeptrace::abi
