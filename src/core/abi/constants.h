// Constants of the headers of the machine that the tool was built on (O_CREAT, AF_INET, SIGSEGV), and the groups that
// arguments of system calls and fields of structures are made of. The values are made at build time by the compiler;
// which constants form a group says the table linux.groups.
#pragma once

#include <cstdint>
#include <span>
#include <string>
#include <string_view>
#include <vector>

namespace deeptrace::abi {

struct Constant {
  std::string_view name;
  std::int64_t value = 0;
};

struct GroupMember {
  std::string_view name;
  std::int64_t value = 0;
  std::uint64_t mask = 0;  ///< of the bits that it is one of several values of; 0: its bits are its own
};

struct ConstantGroup {
  std::string_view name;  ///< "open"
  std::span<const GroupMember> members;
};

/// By its name; null for one that no header has, or that is no whole number.
const Constant* constant(std::string_view name);
/// All of them, by name.
std::span<const Constant> constants();

/// By its name; null for another.
const ConstantGroup* constant_group(std::string_view name);
std::span<const ConstantGroup> constant_groups();

/// A number by the constants that it is made of.
struct Spelled {
  std::vector<std::string_view> names;
  std::uint64_t rest = 0;  ///< bits that no constant stands for

  /// "O_WRONLY | O_CREAT", with what is left in hexadecimal; "0" for nothing at all.
  [[nodiscard]] std::string words() const;
};

/// As a set: constants of several bits before those of single ones.
Spelled spell_flags(const ConstantGroup& group, std::uint64_t value);
/// As one constant, or as a set where the group's constants share the number with others (SOCK_STREAM | SOCK_CLOEXEC).
Spelled spell_one(const ConstantGroup& group, std::uint64_t value);

/// The group whose constant has that name; null for none.
const ConstantGroup* group_with(std::string_view constant);

}  // namespace deeptrace::abi
