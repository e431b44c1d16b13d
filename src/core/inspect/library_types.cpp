#include "inspect/library_types.h"

#include <algorithm>
#include <cstring>
#include <string_view>

namespace deeptrace::inspect {
namespace {

using debuginfo::Member;
using debuginfo::Type;
using debuginfo::TypeId;
using debuginfo::Types;
using Kind = LibraryValue::Kind;

/// How the elements are found.
enum class Layout : std::uint8_t {
  characters,  ///< first: pointer, second: number
  bounds,      ///< first, second: pointers to the first element and past the last
  counted,     ///< first: pointer, second: number of elements
  part,        ///< first: the value itself
  optional,    ///< first: the value, second: whether there is one
  tree,        ///< first: the header node, second: number; nodes are {colour, parent, left, right, value}
  list,        ///< first: the header node; nodes are {next, previous, value}
  chain,       ///< first: pointer to the first node; nodes are {next, value}
  blocks,      ///< first, second: iterators {current, first, last, block}
};

struct Row {
  std::string_view type;  ///< how its name begins
  Layout layout;
  std::string_view first, second;  ///< members, looked for in base classes too
  std::string_view owner;          ///< the member whose template argument is the element's type; empty: the whole
  unsigned argument = 0;           ///< which one
};

// GNU C++ library, from the headers <bits/basic_string.h>, <bits/stl_vector.h>, <bits/stl_tree.h> and so on.
constexpr Row kRows[] = {
    {"std::__cxx11::basic_string<char,", Layout::characters, "_M_dataplus._M_p", "_M_string_length", {}},
    {"std::basic_string_view<char,", Layout::characters, "_M_str", "_M_len", {}},
    {"std::vector<", Layout::bounds, "_M_impl._M_start", "_M_impl._M_finish", {}},
    {"std::initializer_list<", Layout::counted, "_M_array", "_M_len", {}},
    {"std::span<", Layout::counted, "_M_ptr", "_M_extent._M_extent_value", {}},
    {"std::array<", Layout::part, "_M_elems", {}, {}},
    {"std::unique_ptr<", Layout::part, "_M_t._M_t._M_head_impl", {}, {}},
    {"std::shared_ptr<", Layout::part, "_M_ptr", {}, {}},
    {"std::weak_ptr<", Layout::part, "_M_ptr", {}, {}},
    {"std::atomic<", Layout::part, "_M_i", {}, {}},
    {"std::atomic<", Layout::part, "_M_base._M_i", {}, {}},
    {"std::atomic<", Layout::part, "_M_b._M_p", {}, {}},
    {"std::stack<", Layout::part, "c", {}, {}},
    {"std::queue<", Layout::part, "c", {}, {}},
    {"std::priority_queue<", Layout::part, "c", {}, {}},
    {"std::filesystem::__cxx11::path", Layout::part, "_M_pathname", {}, {}},
    {"__gnu_cxx::__normal_iterator<", Layout::part, "_M_current", {}, {}},
    {"std::optional<", Layout::optional, "_M_payload._M_payload._M_value", "_M_payload._M_engaged", {}},
    {"std::map<", Layout::tree, "_M_t._M_impl._M_header", "_M_t._M_impl._M_node_count", "_M_t", 1},
    {"std::multimap<", Layout::tree, "_M_t._M_impl._M_header", "_M_t._M_impl._M_node_count", "_M_t", 1},
    {"std::set<", Layout::tree, "_M_t._M_impl._M_header", "_M_t._M_impl._M_node_count", "_M_t", 1},
    {"std::multiset<", Layout::tree, "_M_t._M_impl._M_header", "_M_t._M_impl._M_node_count", "_M_t", 1},
    {"std::__cxx11::list<", Layout::list, "_M_impl._M_node", {}, {}},
    {"std::forward_list<", Layout::chain, "_M_impl._M_head._M_next", {}, {}},
    {"std::unordered_map<", Layout::chain, "_M_h._M_before_begin._M_nxt", {}, "_M_h", 1},
    {"std::unordered_multimap<", Layout::chain, "_M_h._M_before_begin._M_nxt", {}, "_M_h", 1},
    {"std::unordered_set<", Layout::chain, "_M_h._M_before_begin._M_nxt", {}, "_M_h", 1},
    {"std::unordered_multiset<", Layout::chain, "_M_h._M_before_begin._M_nxt", {}, "_M_h", 1},
    {"std::deque<", Layout::blocks, "_M_impl._M_start", "_M_impl._M_finish", {}},
};

constexpr std::uint64_t kMostElements = std::uint64_t(1) << 32;  // more is no container, but memory that is not set up

/// A part of the object: its type and where it lies in it.
struct Part {
  TypeId type = debuginfo::kVoid;
  std::uint64_t offset = 0;
};

class Finder {
 public:
  Finder(Types& types, TypeId whole, Bytes bytes, std::uint64_t address, const MemoryReader& memory, std::uint64_t word,
         std::uint64_t most)
      : types_(types), whole_(whole), bytes_(bytes), address_(address), memory_(memory), word_(word), most_(most) {}

  std::optional<LibraryValue> by(const Row& row) {
    const auto first = part(row.first);
    const auto second = row.second.empty() ? std::optional(Part{}) : part(row.second);
    if (!first || !second) return std::nullopt;
    switch (row.layout) {
      case Layout::characters:
      case Layout::counted: return counted(*first, *second, row.layout == Layout::characters);
      case Layout::bounds: return bounds(*first, *second);
      case Layout::part: return LibraryValue{Kind::wrapped, first->type, address_ + first->offset, 1, {}};
      case Layout::optional:
        if (number(*second).value_or(0) == 0) return LibraryValue{};
        return LibraryValue{Kind::wrapped, first->type, address_ + first->offset, 1, {}};
      default: break;
    }
    const auto element = argument(row);
    if (!element || types_.size(*element) == 0) return std::nullopt;
    LibraryValue value{Kind::elements, *element, 0, 0, {}};
    bool fine = false;
    switch (row.layout) {
      case Layout::tree: fine = tree(value, *first, number(*second).value_or(0)); break;
      case Layout::list: fine = chain(value, word_at(first->offset), address_ + first->offset, 2); break;
      case Layout::chain: fine = chain(value, number(*first), 0, 1); break;
      default: fine = blocks(value, *first, *second);
    }
    return fine ? std::optional(std::move(value)) : std::nullopt;
  }

 private:
  /// A member of an aggregate by its name: the nearest one, base classes and unnamed members included.
  std::optional<Part> member(const Part& of, std::string_view name) {
    std::vector<Part> open = {of};
    for (std::size_t i = 0; i < open.size() && i < 100; ++i) {
      const Part at = open[i];
      const Type& type = types_[types_.plain(at.type)];
      for (const Member& one : type.members) {
        const Part inner{one.type, at.offset + one.offset};
        if (!one.base && one.name == name && one.bit_size == 0) return inner;
        if ((one.base && !one.moving) || one.name.empty()) open.push_back(inner);
      }
    }
    return std::nullopt;
  }
  std::optional<Part> part(std::string_view path) {
    std::optional<Part> at = Part{whole_, 0};
    while (at && !path.empty()) {
      const std::size_t dot = std::min(path.find('.'), path.size());
      at = member(*at, path.substr(0, dot));
      path.remove_prefix(std::min(dot + 1, path.size()));
    }
    return at;
  }
  std::optional<TypeId> argument(const Row& row) {
    const auto owner = part(row.owner);
    if (!owner) return std::nullopt;
    const Type& type = types_[types_.plain(owner->type)];
    return row.argument < type.arguments.size() ? std::optional(type.arguments[row.argument]) : std::nullopt;
  }
  [[nodiscard]] bool is_pointer(const Part& one) { return types_[types_.plain(one.type)].kind == Type::Kind::pointer; }

  /// A number or pointer of up to eight bytes in the object.
  std::optional<std::uint64_t> number(const Part& one) {
    const std::uint64_t size = types_.size(one.type);
    if (size == 0 || size > 8 || one.offset > bytes_.size() || bytes_.size() - one.offset < size) return std::nullopt;
    std::uint64_t value = 0;
    std::memcpy(&value, bytes_.data() + one.offset, size);
    return value;
  }
  [[nodiscard]] std::optional<std::uint64_t> word_at(std::uint64_t offset) const {
    if (offset > bytes_.size() || bytes_.size() - offset < word_) return std::nullopt;
    std::uint64_t value = 0;
    std::memcpy(&value, bytes_.data() + offset, word_);
    return value;
  }
  /// Words of a node in memory.
  [[nodiscard]] bool read(std::uint64_t address, std::span<std::uint64_t> words) const {
    std::uint8_t raw[64] = {};
    const std::span<std::uint8_t> used(raw, words.size() * word_);
    if (address == 0 || !memory_(address, used)) return false;
    for (std::size_t i = 0; i < words.size(); ++i) {
      words[i] = 0;
      std::memcpy(&words[i], raw + i * word_, word_);
    }
    return true;
  }
  /// Where the value of a node lies after `words` words.
  std::uint64_t value_place(std::uint64_t node, std::uint64_t words, TypeId type) {
    const std::uint64_t alignment = alignment_of(type, 0);
    return (node + words * word_ + alignment - 1) / alignment * alignment;
  }
  /// What its parts need: debug information does not tell it.
  std::uint64_t alignment_of(TypeId id, int depth) {
    const Type& type = types_[types_.plain(id)];
    if (depth > 16) return 1;
    if (type.kind == Type::Kind::array) return alignment_of(type.target, depth + 1);
    if (!type.is_aggregate()) return std::clamp<std::uint64_t>(types_.size(id), 1, word_ == 4 ? 4 : 16);
    std::uint64_t most = 1;
    for (const Member& one : type.members) most = std::max(most, alignment_of(one.type, depth + 1));
    return most;
  }

  std::optional<LibraryValue> counted(const Part& first, const Part& second, bool characters) {
    const auto start = number(first), count = number(second);
    if (!start || !count || !is_pointer(first) || *count > kMostElements) return std::nullopt;
    const TypeId element = types_[types_.plain(first.type)].target;
    std::uint8_t byte = 0;
    if (*count != 0 && !memory_(*start, {&byte, 1})) return std::nullopt;
    return LibraryValue{characters ? Kind::string : Kind::sequence, element, *start, *count, {}};
  }
  std::optional<LibraryValue> bounds(const Part& first, const Part& second) {
    const auto start = number(first), end = number(second);
    if (!start || !end || !is_pointer(first) || *end < *start) return std::nullopt;
    const TypeId element = types_[types_.plain(first.type)].target;
    const std::uint64_t size = types_.size(element);
    if (size == 0 || (*end - *start) % size != 0 || (*end - *start) / size > kMostElements) return std::nullopt;
    std::uint8_t byte = 0;
    if (*end != *start && !memory_(*end - 1, {&byte, 1})) return std::nullopt;
    return LibraryValue{Kind::sequence, element, *start, (*end - *start) / size, {}};
  }
  bool tree(LibraryValue& value, const Part& header, std::uint64_t count) {
    // The header is a node whose left one is the first in order, and whose parent is the root.
    const std::uint64_t end = address_ + header.offset;
    if (count > kMostElements) return false;
    value.count = count;
    auto node = word_at(header.offset + 2 * word_);
    std::uint64_t words[4];  // colour, parent, left, right
    while (node && *node != end && value.places.size() < std::min(most_, count)) {
      if (!read(*node, words)) return false;
      value.places.push_back(value_place(*node, 4, value.type));
      std::uint64_t next = words[3];
      int steps = 0;
      if (next != 0) {
        while (read(next, words) && words[2] != 0 && ++steps < 128) next = words[2];
      } else {
        std::uint64_t from = *node;
        next = words[1];
        while (next != end && read(next, words) && words[3] == from && ++steps < 128) {
          from = next;
          next = words[1];
        }
      }
      if (steps >= 128) return false;
      node = next;
    }
    return node.has_value();
  }
  /// Counts all, which may take a while; a circle that never comes back ends it.
  bool chain(LibraryValue& value, std::optional<std::uint64_t> node, std::uint64_t end, std::uint64_t words) {
    constexpr std::uint64_t kMost = 100000;
    if (!node) return false;
    while (*node != end && value.count < kMost) {
      std::uint64_t next = 0;
      if (!read(*node, {&next, 1})) return false;
      if (value.places.size() < most_) value.places.push_back(value_place(*node, words, value.type));
      ++value.count;
      node = next;
    }
    return *node == end;
  }
  bool blocks(LibraryValue& value, const Part& start, const Part& finish) {
    constexpr std::uint64_t kBlock = 512;  // bytes, but at least one element
    std::uint64_t from[4], to[4];          // current, first, last, block
    for (std::uint64_t i = 0; i < 4; ++i) {
      const auto a = word_at(start.offset + i * word_), b = word_at(finish.offset + i * word_);
      if (!a || !b) return false;
      from[i] = *a;
      to[i] = *b;
    }
    const std::uint64_t size = types_.size(value.type), in_block = size < kBlock ? kBlock / size : 1;
    if (from[0] < from[1] || to[0] < to[1] || to[3] < from[3] || (to[3] - from[3]) % word_ != 0) return false;
    const std::uint64_t skipped = (from[0] - from[1]) / size;
    value.count = (to[3] - from[3]) / word_ * in_block + (to[0] - to[1]) / size - skipped;
    if (value.count > kMostElements) return false;
    value.kind = Kind::queue;
    std::uint64_t block = 0, held = ~std::uint64_t(0);
    for (std::uint64_t i = 0; i < std::min(most_, value.count); ++i) {
      const std::uint64_t at = (i + skipped) / in_block;
      if (at != held && !read(from[3] + at * word_, {&block, 1})) return false;
      held = at;
      value.places.push_back(block + (i + skipped) % in_block * size);
    }
    return true;
  }

  Types& types_;
  TypeId whole_;
  Bytes bytes_;
  std::uint64_t address_;
  const MemoryReader& memory_;
  std::uint64_t word_, most_;
};

}  // namespace

std::optional<LibraryValue> library_value(Types& types, TypeId id, Bytes bytes, std::uint64_t address,
                                          const MemoryReader& memory, std::uint64_t word, std::uint64_t most) {
  const Type& type = types[types.plain(id)];
  if (!type.is_aggregate() || !memory) return std::nullopt;
  if (!type.name.starts_with("std::") && !type.name.starts_with("__gnu_cxx::")) return std::nullopt;
  for (const Row& row : kRows) {
    if (!type.name.starts_with(row.type)) continue;
    if (auto found = Finder(types, id, bytes, address, memory, word, most).by(row)) return found;
  }
  return std::nullopt;
}

}  // namespace deeptrace::inspect
