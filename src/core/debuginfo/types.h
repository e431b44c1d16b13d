// Types of C and C++ as debug information describes them (DWARF 5, chapter 5).
//
// A type is a number into `Types`; it is read when it is first looked at, one level deep, so that types that refer to
// each other in circles are no difficulty. Number 0 is void.
#pragma once

#include <map>
#include <memory>
#include <optional>
#include <string>
#include <string_view>
#include <tuple>
#include <unordered_map>
#include <vector>

#include "debuginfo/debug_info.h"

namespace deeptrace::debuginfo {

using TypeId = std::uint32_t;
inline constexpr TypeId kVoid = 0;

struct Member {
  std::string name;  ///< empty for an unnamed structure or union, whose members count as the outer one's
  TypeId type = kVoid;
  std::uint64_t offset = 0;  ///< bytes from the start of the whole; of a bit field the byte that its first bit is in
  std::uint16_t bit_offset = 0;  ///< of a bit field: bits from that byte's lowest one
  std::uint16_t bit_size = 0;    ///< 0: no bit field
  bool base = false;             ///< a base class
  bool moving = false;           ///< a virtual base: the object itself says where it lies
  Bytes place;  ///< of a moving one: gives its address, with the object's on the stack (DWARF 5, 5.7.3)
};

struct Enumerator {
  std::string name;
  std::int64_t value = 0;
};

struct Type {
  enum class Kind : std::uint8_t {
    none,  ///< void, and what cannot be read
    base,  ///< a number, truth value or character: see `encoding`
    pointer,
    reference,
    rvalue_reference,
    member_pointer,
    structure,
    class_type,
    union_type,
    enumeration,
    array,
    function,
    named,  ///< typedef
    constant,
    volatile_type,
    restricted,
    atomic,
    unspecified,  ///< such as decltype(nullptr)
  };
  Kind kind = Kind::none;
  std::string name;        ///< with its namespaces; empty for an unnamed one
  std::uint64_t size = 0;  ///< bytes; 0 when unknown
  Encoding encoding = Encoding::none;
  bool complete = true;  ///< false: declared only
  bool c_names = true;   ///< written with struct, union or enum in front
  bool variadic = false;
  bool vector = false;      ///< an array that stands for a vector register
  bool callable = false;    ///< a class with a call operator, such as a lambda's
  bool by_address = false;  ///< a class that is copied or destroyed by code: calls pass its address (Itanium C++ ABI)
  std::uint64_t alignment = 0;  ///< bytes, where it is more than that of the parts; else 0
  TypeId target = kVoid;        ///< of pointers, arrays, typedefs, qualifiers, enumerations; what a function returns
  TypeId container = kVoid;     ///< of pointers to members
  std::vector<Member> members;
  std::vector<Enumerator> enumerators;
  std::vector<TypeId> parameters;
  std::vector<TypeId> arguments;                     ///< types that a template was made with; packs are left out
  std::vector<std::optional<std::uint64_t>> counts;  ///< of an array's dimensions; nothing where it is not fixed

  [[nodiscard]] bool is_aggregate() const {
    return kind == Kind::structure || kind == Kind::class_type || kind == Kind::union_type;
  }
};

/// The name in the source of what a lambda captures, of its closure's member; empty for members of anything else. gcc
/// puts two underscores in front.
std::string_view captured_name(const Type& closure, const Member& member);

/// A type of C's own as compilers name it in debug information: "long unsigned int" for "unsigned long". Anything else
/// as it is, without "struct" and its like.
std::string as_described(std::string_view name);

class Types {
 public:
  /// `info` must outlive the result.
  explicit Types(const DebugInfo& info);

  /// The type that an entry's DW_AT_type, or that of what it is an instance of, refers to.
  TypeId of(const Entry& entry);
  /// The type that an entry describes.
  TypeId at(EntryPlace place);
  /// The views and references hold until the object ends.
  const Type& operator[](TypeId id) {
    Slot& slot = *slots_[id < slots_.size() ? id : kVoid];
    if (!slot.loaded) load(slot);
    return slot.type;
  }
  /// The type without typedefs and qualifiers.
  TypeId plain(TypeId id);
  /// Bytes; 0 when unknown.
  std::uint64_t size(TypeId id);
  /// Bytes that addresses of it are a multiple of, as the System V ABI lays out memory (x86-64 psABI, 3.1.2; i386
  /// psABI, 2.1.1).
  std::uint64_t alignment(TypeId id, std::uint64_t word);
  /// A type that no entry describes: a pointer of `size` bytes to another.
  TypeId pointer_to(TypeId target, std::uint64_t size);
  /// Any type that no entry describes, as it is given.
  TypeId add_made(Type type);
  /// A number that no entry describes.
  TypeId base_type(std::string name, std::uint64_t size, Encoding encoding);
  /// What an array's index leads to: of several dimensions an array of the rest.
  TypeId element_of(TypeId array);
  /// As it is written in C or C++: "const char *", "struct level [4]".
  std::string name(TypeId id) { return declaration(id, ""); }
  /// A declaration of `name`: "int (*compare)(int, int)".
  std::string declaration(TypeId id, std::string_view name);
  /// The name of an entry with its namespaces, classes and functions: "tide::Level".
  std::string qualified_name(const Entry& entry);
  /// The member or element at an offset of a value of a type that holds as many bytes as are accessed: ".count",
  /// "[2].level", with "+3" for what lies inside a part; of an address that is taken (`access` 0) the outermost that
  /// begins there.
  std::string part_name(TypeId id, std::uint64_t offset, std::uint64_t access);
  /// All complete types of a name (structures, classes, unions, enumerations, typedefs, base types), each once; where
  /// there are none, those whose names end with it ("Gauge" for tide::Gauge). All debug information is gone through
  /// when a name is asked for first.
  const std::vector<TypeId>& named(std::string_view name);
  /// Where ".level", "[2].count" and the like lie in a value of a type: members of base classes and unnamed ones count
  /// as the whole's. Nothing where there is no such part, where it is a bit field, or where the object decides.
  struct Placed {
    TypeId type = kVoid;
    std::uint64_t offset = 0;  ///< bytes
  };
  std::optional<Placed> placed(TypeId id, std::string_view path);
  /// The offset of a last member that has as many elements as there is room for ("int items[]"); nothing without one.
  std::optional<std::uint64_t> flexible_part(TypeId id);

 private:
  struct Slot {
    EntryPlace place;
    bool loaded = false;
    Type type;
    std::string spelled;  ///< its name, once it was asked for
  };
  void load(Slot& slot);
  std::optional<Placed> placed_member(TypeId id, std::string_view name, int depth);
  void add_members(const Entry& entry, Type& type);
  bool needs_code_to_copy(const Entry& owner, const Entry& child);
  void add_member(const Entry& entry, Type& type);
  void add_dimensions(const Entry& entry, Type& type);
  void add_parameters(const Entry& entry, Type& type);
  /// An entry that gives those in it a longer name, and where it ends.
  struct Scope {
    std::uint64_t offset = 0, end = 0;
    std::int64_t parent = -1;  ///< index; -1: directly in the unit
    bool function = false;     ///< what lies in functions is looked for when it is needed
  };
  const std::vector<Scope>& scopes_of(const Unit& unit);
  /// Offsets of the entries around the one at `offset` that count for its name, innermost first.
  std::vector<std::uint64_t> around(const Unit& unit, std::uint64_t offset);
  std::string declaration(TypeId id, std::string inner, int depth);

  const DebugInfo& info_;
  std::vector<std::unique_ptr<Slot>> slots_;
  std::map<std::pair<const Unit*, std::uint64_t>, TypeId> ids_;
  std::unordered_map<const Unit*, std::vector<Scope>> scopes_;
  std::map<TypeId, TypeId> pointers_, elements_;  ///< types that no entry describes, by what they are made of
  std::map<std::tuple<std::string, std::uint64_t, Encoding>, TypeId> made_;  ///< base types that no entry describes
  std::map<std::string, std::vector<TypeId>, std::less<>> named_;
  int depth_of_alignment_ = 0;
};

}  // namespace deeptrace::debuginfo
