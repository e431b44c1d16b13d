#include "inspect/library_types.h"

#include <algorithm>
#include <cstdlib>
#include <cstring>
#include <ctime>
#include <string>
#include <string_view>

#include "base/number.h"

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
  fixed,       ///< first: pointer; the number of elements is the type's last template argument
  duration,    ///< first: the number of ticks
  moment,      ///< first: the ticks since the start of 1970; the type's first template argument is the clock
  mutex,       ///< first: whether it is locked; second: by which thread; third: how many times
  shared,      ///< first: the readers, times 8; second: the writing thread
  guard,       ///< first: what is locked; second: whether it is
  coroutine,   ///< first: pointer to the frame {where it goes on, what destroys it, promise}
  optional,    ///< first: the value, second: whether there is one
  tree,        ///< first: the header node, second: number; nodes are {colour, parent, left, right, value}
  list,        ///< first: the header node; nodes are {next, previous, value}
  chain,       ///< first: pointer to the first node; nodes are {next, value}
  blocks,      ///< first, second: iterators {current, first, last, block}
  owner,       ///< first: the pointer itself; second: what counts its owners, if any
  node,        ///< first: pointer to a tree's node {colour, parent, left, right, value}
  link,        ///< first: pointer to a list's node {next, previous, value}
  forward,     ///< first: pointer to a node {next, value}
  bit_range,   ///< first, second: iterators {word, bit in it}
  bit_words,   ///< first: the words; how many bits says the type's name
  tuple,       ///< base classes _Tuple_impl, each with a _Head_base
  variant,     ///< first: nested unions {_M_first, _M_rest}; second: which one
  any,         ///< first: the function that manages the value; second: the value or a pointer to it
  function,    ///< first: the function that calls the target; second: the target
};

struct Row {
  std::string_view type;  ///< its name, of a template how it begins
  Layout layout;
  std::string_view first, second;  ///< members, looked for in base classes too
  std::string_view owner;          ///< the member whose template argument is the element's type; empty: the whole
  unsigned argument = 0;           ///< which one
  std::string_view third{};
};

// GNU C++ library, from the headers <bits/basic_string.h>, <bits/stl_vector.h>, <bits/stl_tree.h> and so on.
constexpr Row kRows[] = {
    {"std::__cxx11::basic_string<", Layout::characters, "_M_dataplus._M_p", "_M_string_length", {}},
    {"std::basic_string_view<", Layout::characters, "_M_str", "_M_len", {}},
    {"std::vector<bool,", Layout::bit_range, "_M_impl._M_start", "_M_impl._M_finish", {}},
    {"std::vector<", Layout::bounds, "_M_impl._M_start", "_M_impl._M_finish", {}},
    {"std::initializer_list<", Layout::counted, "_M_array", "_M_len", {}},
    {"std::span<", Layout::counted, "_M_ptr", "_M_extent._M_extent_value", {}},
    {"std::span<", Layout::fixed, "_M_ptr", {}, {}},
    {"std::array<", Layout::part, "_M_elems", {}, {}},
    {"std::unique_ptr<", Layout::owner, "_M_t._M_t._M_head_impl", {}, {}},
    {"std::shared_ptr<", Layout::owner, "_M_ptr", "_M_refcount._M_pi", {}},
    {"std::weak_ptr<", Layout::owner, "_M_ptr", "_M_refcount._M_pi", {}},
    {"std::reference_wrapper<", Layout::part, "_M_data", {}, {}},
    {"std::atomic<", Layout::part, "_M_i", {}, {}},
    {"std::atomic<", Layout::part, "_M_base._M_i", {}, {}},
    {"std::atomic<", Layout::part, "_M_b._M_p", {}, {}},
    {"std::stack<", Layout::part, "c", {}, {}},
    {"std::queue<", Layout::part, "c", {}, {}},
    {"std::priority_queue<", Layout::part, "c", {}, {}},
    {"std::filesystem::__cxx11::path", Layout::part, "_M_pathname", {}, {}},
    {"std::chrono::duration<", Layout::duration, "__r", {}, {}},
    {"std::chrono::time_point<std::chrono::_V2::system_clock,", Layout::moment, "__d.__r", {}, {}},
    {"std::chrono::time_point<", Layout::part, "__d", {}, {}},
    {"std::complex<", Layout::part, "_M_value", {}, {}},
    {"std::thread::id", Layout::part, "_M_thread", {}, {}},
    {"std::thread", Layout::part, "_M_id", {}, {}},
    {"std::jthread", Layout::part, "_M_thread", {}, {}},
    // What lies in them is the C library's (<bits/struct_mutex.h>, <bits/struct_rwlock.h>).
    {"std::mutex",
     Layout::mutex,
     "_M_mutex.__data.__lock",
     "_M_mutex.__data.__owner",
     {},
     0,
     "_M_mutex.__data.__count"},
    {"std::timed_mutex",
     Layout::mutex,
     "_M_mutex.__data.__lock",
     "_M_mutex.__data.__owner",
     {},
     0,
     "_M_mutex.__data.__count"},
    {"std::recursive_mutex",
     Layout::mutex,
     "_M_mutex.__data.__lock",
     "_M_mutex.__data.__owner",
     {},
     0,
     "_M_mutex.__data.__count"},
    {"std::recursive_timed_mutex",
     Layout::mutex,
     "_M_mutex.__data.__lock",
     "_M_mutex.__data.__owner",
     {},
     0,
     "_M_mutex.__data.__count"},
    {"std::shared_mutex",
     Layout::shared,
     "_M_impl._M_rwlock.__data.__readers",
     "_M_impl._M_rwlock.__data.__cur_writer",
     {}},
    {"std::shared_timed_mutex", Layout::shared, "_M_rwlock.__data.__readers", "_M_rwlock.__data.__cur_writer", {}},
    {"std::unique_lock<", Layout::guard, "_M_device", "_M_owns", {}},
    {"std::shared_lock<", Layout::guard, "_M_pm", "_M_owns", {}},
    {"std::lock_guard<", Layout::guard, "_M_device", {}, {}},
    {"std::scoped_lock<", Layout::guard, "_M_device", {}, {}},
    {"std::once_flag", Layout::part, "_M_once", {}, {}},
    {"std::__n4861::coroutine_handle<", Layout::coroutine, "_M_fr_ptr", {}, {}},
    {"std::valarray<", Layout::counted, "_M_data", "_M_size", {}},
    {"std::bitset<", Layout::bit_words, "_M_w", {}, {}},
    {"std::tuple<", Layout::tuple, {}, {}, {}},
    {"std::variant<", Layout::variant, "_M_u", "_M_index", {}},
    {"std::any", Layout::any, "_M_manager", "_M_storage", {}},
    {"std::function<", Layout::function, "_M_invoker", "_M_functor", {}},
    {"__gnu_cxx::__normal_iterator<", Layout::part, "_M_current", {}, {}},
    {"std::_Rb_tree_iterator<", Layout::node, "_M_node", {}, {}},
    {"std::_Rb_tree_const_iterator<", Layout::node, "_M_node", {}, {}},
    {"std::_List_iterator<", Layout::link, "_M_node", {}, {}},
    {"std::_List_const_iterator<", Layout::link, "_M_node", {}, {}},
    {"std::_Fwd_list_iterator<", Layout::forward, "_M_node", {}, {}},
    {"std::_Fwd_list_const_iterator<", Layout::forward, "_M_node", {}, {}},
    {"std::__detail::_Node_iterator<", Layout::forward, "_M_cur", {}, {}},
    {"std::__detail::_Node_const_iterator<", Layout::forward, "_M_cur", {}, {}},
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

/// The template arguments in "name<a, b<c, d>>rest", without what surrounds them; text between quotes or brackets of
/// other kinds belongs to one.
std::vector<std::string> template_arguments(std::string_view name) {
  std::vector<std::string> result;
  const std::size_t open = name.find('<');
  if (open == std::string_view::npos) return result;
  int depth = 0;
  std::size_t from = open + 1;
  const auto add = [&](std::size_t to) {
    std::string_view one = name.substr(from, to - from);
    while (one.starts_with(' ')) one.remove_prefix(1);
    while (one.ends_with(' ')) one.remove_suffix(1);
    result.emplace_back(one);
    from = to + 1;
  };
  for (std::size_t i = open; i < name.size(); ++i) {
    const char c = name[i];
    if (c == '<' || c == '(' || c == '{' || c == '[') ++depth;
    if (c == ',' && depth == 1) add(i);
    if (c == '>' && depth == 1) {
      add(i);
      return result;
    }
    if (c == '>' || c == ')' || c == '}' || c == ']') --depth;
  }
  return {};
}

class Finder {
 public:
  Finder(Types& types, TypeId whole, Bytes bytes, std::uint64_t address, const LibraryContext& context)
      : types_(types),
        whole_(whole),
        bytes_(bytes),
        address_(address),
        context_(context),
        memory_(context.memory),
        word_(context.word),
        most_(context.most) {}

  std::optional<LibraryValue> by(const Row& row) {
    const auto first = row.first.empty() ? std::optional(Part{whole_, 0}) : part(row.first);
    const auto second = row.second.empty() ? std::optional(Part{}) : part(row.second);
    if (!first || !second) return std::nullopt;
    switch (row.layout) {
      case Layout::characters:
      case Layout::counted: return counted(*first, *second, row.layout == Layout::characters);
      case Layout::bounds: return bounds(*first, *second);
      case Layout::part: return inside(*first);
      case Layout::fixed: return fixed(*first);
      case Layout::duration:
      case Layout::moment: return ticks(*first, row.layout == Layout::moment);
      case Layout::mutex: return mutex(*first, *second, part(row.third));
      case Layout::shared: return shared(*first, *second);
      case Layout::guard: return guard(*first, *second, !row.second.empty());
      case Layout::coroutine: return coroutine(*first);
      case Layout::optional:
        if (number(*second).value_or(0) == 0) return LibraryValue{};
        return inside(*first);
      case Layout::owner: return owner(*first, *second, !row.second.empty());
      case Layout::bit_range: return bit_range(*first, *second);
      case Layout::bit_words: return bit_words(*first);
      case Layout::tuple: return tuple();
      case Layout::variant: return variant(*first, *second);
      case Layout::any: return any(*first, *second);
      case Layout::function: return function(*first, *second);
      default: return by_element(row, *first, *second);
    }
  }

 private:
  /// Of those whose elements' type is a template argument, as their nodes do not tell it.
  std::optional<LibraryValue> by_element(const Row& row, const Part& first, const Part& second) {
    const auto element = argument(row);
    if (!element || types_.size(*element) == 0) return std::nullopt;
    LibraryValue value{.kind = Kind::elements, .type = *element};
    bool fine = false;
    switch (row.layout) {
      case Layout::tree: fine = tree(value, first, number(second).value_or(0)); break;
      case Layout::list: fine = chain(value, word_at(first.offset), address_ + first.offset, 2); break;
      case Layout::chain: fine = chain(value, number(first), 0, 1); break;
      case Layout::node: fine = node(value, first); break;
      case Layout::link: fine = link(value, first); break;
      case Layout::forward: fine = forward(value, first); break;
      default: fine = blocks(value, first, second);
    }
    return fine ? std::optional(std::move(value)) : std::nullopt;
  }
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
    if (row.argument < type.arguments.size()) return type.arguments[row.argument];
    // gcc leaves the arguments of some out; their names remain.
    const std::vector<std::string> names = template_arguments(type.name);
    if (row.argument >= names.size()) return std::nullopt;
    const std::vector<TypeId>& found = types_.named(debuginfo::as_described(names[row.argument]));
    return found.empty() ? std::nullopt : std::optional(found.front());
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

  [[nodiscard]] LibraryValue inside(const Part& one) const {
    return {.kind = Kind::wrapped, .type = one.type, .address = address_ + one.offset, .count = 1};
  }
  [[nodiscard]] const std::string& own_name() { return types_[types_.plain(whole_)].name; }

  std::optional<LibraryValue> fixed(const Part& first) {
    const std::vector<std::string> arguments = template_arguments(own_name());
    const auto start = number(first);
    if (!start || arguments.size() != 2 || !is_pointer(first)) return std::nullopt;
    const std::uint64_t count = std::strtoull(arguments[1].c_str(), nullptr, 10);
    if (count > kMostElements) return std::nullopt;
    return LibraryValue{
        .kind = Kind::sequence, .type = types_[types_.plain(first.type)].target, .address = *start, .count = count};
  }

  /// Their unit stands in the type's name: std::ratio<1, 1000> of a second.
  std::optional<LibraryValue> ticks(const Part& count, bool moment) {
    std::vector<std::string> arguments = template_arguments(own_name());
    if (moment && arguments.size() == 2) arguments = template_arguments(arguments[1]);
    const std::vector<std::string> ratio = template_arguments(arguments.size() == 2 ? arguments[1] : "");
    if (ratio.size() != 2) return std::nullopt;
    const std::uint64_t over = std::strtoull(ratio[0].c_str(), nullptr, 10);
    const std::uint64_t under = std::strtoull(ratio[1].c_str(), nullptr, 10);
    if (over == 0 || under == 0) return std::nullopt;
    LibraryValue value = inside(count);
    value.name = unit_name(over, under);
    const Type& type = types_[types_.plain(count.type)];
    const auto passed = moment && type.encoding == debuginfo::Encoding::signed_integer ? number(count) : std::nullopt;
    if (passed)
      value.name += date_words(signed_of(*passed, static_cast<unsigned>(types_.size(count.type)) * 8), over, under);
    return value;
  }
  static std::string unit_name(std::uint64_t over, std::uint64_t under) {
    struct Unit {
      std::uint64_t over, under;
      std::string_view name;
    };
    static constexpr Unit kUnits[] = {{1, 1000000000, "ns"}, {1, 1000000, "us"}, {1, 1000, "ms"}, {1, 1, "s"},
                                      {60, 1, "min"},        {3600, 1, "h"},     {86400, 1, "d"}, {604800, 1, "weeks"}};
    for (const Unit& one : kUnits) {
      if (one.over == over && one.under == under) return std::string(one.name);
    }
    return "times " + std::to_string(over) + (under != 1 ? "/" + std::to_string(under) : "") + " s";
  }
  static std::string date_words(std::int64_t count, std::uint64_t over, std::uint64_t under) {
    const __int128 wide = static_cast<__int128>(count) * static_cast<__int128>(over);
    const auto divisor = static_cast<__int128>(under);
    const auto seconds = static_cast<std::time_t>((wide - (wide < 0 ? divisor - 1 : 0)) / divisor);
    std::tm parts{};
    char text[64];
    if (::gmtime_r(&seconds, &parts) == nullptr || std::strftime(text, sizeof text, ", %F %T UTC", &parts) == 0)
      return {};
    return text;
  }

  static LibraryValue state(std::string words) { return LibraryValue{.kind = Kind::state, .name = std::move(words)}; }

  std::optional<LibraryValue> mutex(const Part& lock, const Part& owner, const std::optional<Part>& times) {
    const auto locked = number(lock), thread = number(owner);
    if (!locked || !thread) return std::nullopt;
    if (*locked == 0) return state("free");
    std::string words = "locked by thread id " + std::to_string(*thread);
    const auto count = times ? number(*times) : std::nullopt;
    if (count.value_or(0) > 1) words += ", " + std::to_string(*count) + " times";
    return state(words);
  }
  std::optional<LibraryValue> shared(const Part& readers, const Part& writer) {
    const auto reading = number(readers), thread = number(writer);
    if (!reading || !thread) return std::nullopt;
    if (*thread != 0) return state("locked by thread id " + std::to_string(*thread));
    const std::uint64_t count = *reading >> 3U;
    return state(count == 0 ? "free" : "locked by " + std::to_string(count) + (count == 1 ? " reader" : " readers"));
  }
  std::optional<LibraryValue> guard(const Part& device, const Part& owns, bool may_not) {
    const auto at = number(device);
    const Type& type = types_[types_.plain(device.type)];
    const bool points = type.kind == Type::Kind::pointer || type.kind == Type::Kind::reference;
    if (!at || !points) return std::nullopt;
    if (*at == 0) return LibraryValue{};
    return LibraryValue{.kind = Kind::refers,
                        .type = type.target,
                        .address = *at,
                        .count = 1,
                        .name = may_not && number(owns).value_or(0) == 0 ? "not locked by this" : ""};
  }

  /// At its end it has nowhere to go on. What destroys it has the coroutine's name, and a part's.
  std::optional<LibraryValue> coroutine(const Part& pointer) {
    const auto frame = number(pointer);
    std::uint64_t words[2];  // where it goes on, what destroys it
    if (!frame) return std::nullopt;
    if (*frame == 0) return LibraryValue{};
    if (!read(*frame, words)) return std::nullopt;
    std::string name = context_.name_of ? context_.name_of(words[1]) : std::string();
    if (name.empty()) return std::nullopt;
    name =
        name.substr(0, std::min(name.find(" [clone"), name.find(".destroy"))) + (words[0] == 0 ? ", at its end" : "");
    const std::vector<TypeId>& arguments = types_[types_.plain(whole_)].arguments;
    const TypeId promise = arguments.empty() ? debuginfo::kVoid : arguments[0];
    if (types_.size(promise) == 0) return LibraryValue{.kind = Kind::calls, .address = *frame, .name = name};
    return LibraryValue{
        .kind = Kind::refers, .type = promise, .address = value_place(*frame, 2, promise), .count = 1, .name = name};
  }

  /// The counts lie in an object of the library's: how many own, and how many watch, all owners together counted as
  /// one (<bits/shared_ptr_base.h>: _Sp_counted_base).
  std::optional<LibraryValue> owner(const Part& pointer, const Part& counts, bool shares) {
    LibraryValue value = inside(pointer);
    value.kind = Kind::owner;
    const std::uint64_t at = shares ? number(counts).value_or(0) : 0;
    if (at == 0) return value;
    const TypeId counted = types_[types_.plain(counts.type)].target;
    const auto uses = member({counted, 0}, "_M_use_count"), watches = member({counted, 0}, "_M_weak_count");
    std::uint32_t used = 0, watched = 0;
    if (!uses || !watches || !read_at(at + uses->offset, used) || !read_at(at + watches->offset, watched)) return value;
    value.owners = used;
    value.watchers = watched - (used != 0 ? 1 : 0);
    return value;
  }
  template <typename T>
  [[nodiscard]] bool read_at(std::uint64_t address, T& into) const {
    std::uint8_t raw[sizeof into];
    if (!memory_(address, raw)) return false;
    std::memcpy(&into, raw, sizeof into);
    return true;
  }

  std::optional<LibraryValue> bit_range(const Part& start, const Part& finish) {
    const auto from = member(start, "_M_p"), to = member(finish, "_M_p");
    const auto from_bit = member(start, "_M_offset"), to_bit = member(finish, "_M_offset");
    if (!from || !to || !from_bit || !to_bit) return std::nullopt;
    const auto a = number(*from), b = number(*to), i = number(*from_bit), j = number(*to_bit);
    if (!a || !b || !i || !j || *b < *a || *i >= 64 || *j >= 64) return std::nullopt;
    const std::uint64_t end = (*b - *a) * 8 + *j;
    if (end < *i || end - *i > kMostElements) return std::nullopt;
    return bits(*a + *i / 8, end - *i, static_cast<unsigned>(*i % 8));
  }
  std::optional<LibraryValue> bit_words(const Part& words) {
    const std::vector<std::string> arguments = template_arguments(types_[types_.plain(whole_)].name);
    if (arguments.size() != 1) return std::nullopt;
    const std::uint64_t count = std::strtoull(arguments[0].c_str(), nullptr, 10);
    if (count == 0 || count > types_.size(words.type) * 8) return std::nullopt;
    return bits(address_ + words.offset, count, 0);
  }
  LibraryValue bits(std::uint64_t address, std::uint64_t count, unsigned bit) {
    const TypeId type = types_.base_type("bool", 1, debuginfo::Encoding::boolean);
    return {.kind = Kind::bits, .type = type, .address = address, .count = count, .bit = bit};
  }

  /// The first value lies in the outermost of nested base classes, the second in the next one (<tuple>).
  std::optional<LibraryValue> tuple() {
    LibraryValue value{.kind = Kind::tuple};
    Part at{whole_, 0};
    constexpr std::size_t kMost = 1000;
    while (value.types.size() < kMost) {
      std::optional<Part> rest;
      for (const Member& one : types_[types_.plain(at.type)].members) {
        const std::string& base = types_[types_.plain(one.type)].name;
        const Part inner{one.type, at.offset + one.offset};
        if (one.base && base.starts_with("std::_Tuple_impl<")) rest = inner;
        if (!one.base || !base.starts_with("std::_Head_base<")) continue;
        const auto head = member(inner, "_M_head_impl");
        if (!head) return std::nullopt;
        value.types.push_back(head->type);
        value.places.push_back(address_ + head->offset);
      }
      if (!rest) break;
      at = *rest;
    }
    value.count = value.types.size();
    return value;
  }

  std::optional<LibraryValue> variant(const Part& all, const Part& index) {
    const auto which = number(index);
    const std::uint64_t size = types_.size(index.type);
    if (!which || size == 0 || size > 8) return std::nullopt;
    if (*which == ~std::uint64_t(0) >> (64 - size * 8)) return LibraryValue{};
    constexpr std::uint64_t kMost = 256;
    std::optional<Part> at = all;
    for (std::uint64_t i = 0; i < *which && at; ++i) at = *which < kMost ? member(*at, "_M_rest") : std::nullopt;
    const auto chosen = at ? member(*at, "_M_first") : std::nullopt;
    if (!chosen) return std::nullopt;
    const Type& storage = types_[types_.plain(chosen->type)];
    if (storage.arguments.empty()) return std::nullopt;
    return inside({storage.arguments[0], chosen->offset});
  }

  /// The name of the function that manages it says of which type the value is, and whether it lies in the object
  /// (<any>: _Manager_internal, _Manager_external).
  std::optional<LibraryValue> any(const Part& manager, const Part& storage) {
    const auto code = number(manager);
    if (!code) return std::nullopt;
    if (*code == 0) return LibraryValue{};
    const std::string name = context_.name_of ? context_.name_of(*code) : std::string();
    const bool here = name.starts_with("std::any::_Manager_internal<");
    if (!here && !name.starts_with("std::any::_Manager_external<")) return std::nullopt;
    const std::vector<std::string> arguments = template_arguments(name);
    if (arguments.size() != 1) return std::nullopt;
    const std::vector<TypeId>& found = types_.named(debuginfo::as_described(arguments[0]));
    if (found.empty()) return std::nullopt;
    const auto place = word_at(storage.offset);
    if (here) return inside({found.front(), storage.offset});
    if (!place) return std::nullopt;
    return LibraryValue{.kind = Kind::refers, .type = found.front(), .address = *place, .count = 1};
  }

  /// The name of the function that calls it says what the target is; a pointer to a function is the target itself
  /// (<bits/std_function.h>: _Function_handler).
  std::optional<LibraryValue> function(const Part& invoker, const Part& target) {
    const auto code = number(invoker);
    if (!code) return std::nullopt;
    if (*code == 0) return LibraryValue{};
    const std::string name = context_.name_of ? context_.name_of(*code) : std::string();
    const std::vector<std::string> arguments = template_arguments(name);
    if (!name.starts_with("std::_Function_handler<") || arguments.size() != 2) return std::nullopt;
    LibraryValue value{.kind = Kind::calls, .address = *code, .name = arguments[1]};
    if (arguments[1].find("(*)") == std::string::npos) return value;
    const auto pointed = word_at(target.offset);
    if (!pointed) return std::nullopt;
    value.address = *pointed;
    value.name = context_.name_of(*pointed);
    return value;
  }

  /// A container's own node stands for its end: it is red, and its parent's parent is it (<bits/stl_tree.h>).
  bool node(LibraryValue& value, const Part& pointer) {
    const auto at = number(pointer);
    std::uint64_t words[4], parents[4];  // colour, parent, left, right
    if (!at || !read(*at, words)) return false;
    const bool red = (words[0] & 0xffffffff) == 0;
    const bool end = red && (words[1] == 0 || (read(words[1], parents) && parents[1] == *at));
    return found_node(value, *at, 4, end);
  }
  /// Nothing tells a list's own node from others, but that its length follows: where that may be, nothing is said.
  bool link(LibraryValue& value, const Part& pointer) {
    const auto at = number(pointer);
    constexpr std::uint64_t kMost = 100000;
    std::uint64_t words[3], next[1];
    if (!at || !read(*at, words)) return false;
    std::uint64_t others = 0;
    for (std::uint64_t i = words[0]; i != *at; ++others) {
      if (others == kMost || !read(i, next)) return false;
      i = next[0];
    }
    return words[2] != others && found_node(value, *at, 2, false);
  }
  bool forward(LibraryValue& value, const Part& pointer) {
    const auto at = number(pointer);
    return at && found_node(value, *at, 1, *at == 0);
  }
  bool found_node(LibraryValue& value, std::uint64_t at, std::uint64_t words, bool end) {
    value.kind = end ? Kind::past_end : Kind::refers;
    value.address = end ? 0 : value_place(at, words, value.type);
    value.count = 1;
    return true;
  }

  std::optional<LibraryValue> counted(const Part& first, const Part& second, bool characters) {
    const auto start = number(first), count = number(second);
    if (!start || !count || !is_pointer(first) || *count > kMostElements) return std::nullopt;
    const TypeId element = types_[types_.plain(first.type)].target;
    std::uint8_t byte = 0;
    if (*count != 0 && !memory_(*start, {&byte, 1})) return std::nullopt;
    return LibraryValue{
        .kind = characters ? Kind::string : Kind::sequence, .type = element, .address = *start, .count = *count};
  }
  std::optional<LibraryValue> bounds(const Part& first, const Part& second) {
    const auto start = number(first), end = number(second);
    if (!start || !end || !is_pointer(first) || *end < *start) return std::nullopt;
    const TypeId element = types_[types_.plain(first.type)].target;
    const std::uint64_t size = types_.size(element);
    if (size == 0 || (*end - *start) % size != 0 || (*end - *start) / size > kMostElements) return std::nullopt;
    std::uint8_t byte = 0;
    if (*end != *start && !memory_(*end - 1, {&byte, 1})) return std::nullopt;
    return LibraryValue{.kind = Kind::sequence, .type = element, .address = *start, .count = (*end - *start) / size};
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
  const LibraryContext& context_;
  const MemoryReader& memory_;
  std::uint64_t word_, most_;
};

}  // namespace

std::optional<LibraryValue> library_value(Types& types, TypeId id, Bytes bytes, std::uint64_t address,
                                          const LibraryContext& context) {
  const Type& type = types[types.plain(id)];
  if (!type.is_aggregate() || !context.memory) return std::nullopt;
  if (!type.name.starts_with("std::") && !type.name.starts_with("__gnu_cxx::")) return std::nullopt;
  for (const Row& row : kRows) {
    const bool of_template = row.type.ends_with('<') || row.type.ends_with(',');
    if (of_template ? !type.name.starts_with(row.type) : type.name != row.type) continue;
    if (auto found = Finder(types, id, bytes, address, context).by(row)) return found;
  }
  return std::nullopt;
}

}  // namespace deeptrace::inspect
