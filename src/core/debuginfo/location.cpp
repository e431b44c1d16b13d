#include "debuginfo/location.h"

#include <algorithm>
#include <bit>
#include <charconv>
#include <cmath>
#include <cstring>
#include <iterator>

namespace deeptrace::debuginfo {
namespace {

/// A value on the stack: an integer of the address's size, or an integer or floating-point number of a base type's.
struct Item {
  std::uint64_t bits = 0;
  unsigned size = 8;  ///< bytes
  bool is_signed = false;
  bool generic = true;  ///< no type was named
  bool floating = false;
  bool of_frame = false;                    ///< made of an address in the frame
  std::optional<std::uint64_t> constant{};  ///< as it was written, which may be wider than an address

  /// The number: of single precision one of double precision that is equal.
  [[nodiscard]] double real() const {
    return size == 4 ? static_cast<double>(std::bit_cast<float>(static_cast<std::uint32_t>(bits)))
                     : std::bit_cast<double>(bits);
  }
  void set_real(double value) {
    bits = size == 4 ? std::bit_cast<std::uint32_t>(static_cast<float>(value)) : std::bit_cast<std::uint64_t>(value);
  }
};

/// The nearest number of 64 bits below, as the processor's conversion; out of range there is none.
std::optional<std::uint64_t> whole_part(double value, bool is_signed) {
  constexpr double kHalf = 9223372036854775808.0;  // 2 to the 63rd
  if (is_signed && value >= -kHalf && value < kHalf)
    return static_cast<std::uint64_t>(static_cast<std::int64_t>(value));
  if (!is_signed && value > -1 && value < 2 * kHalf) return static_cast<std::uint64_t>(value);
  return std::nullopt;
}

/// clang names a number of 2 bits "DW_ATE_unsigned_2", and says that it has a byte.
bool has_odd_bits(std::string_view name) {
  const std::size_t digits = name.find_last_not_of("0123456789") + 1;
  unsigned bits = 0;
  std::from_chars(name.data() + digits, name.data() + name.size(), bits);
  return name.starts_with("DW_ATE_") && bits % 8 != 0;
}

class Machine {
 public:
  /// `narrow`: plain numbers that are shifted right have 32 bits.
  Machine(Bytes expression, const ExpressionPlace& place, LocationContext& context, bool narrow)
      : reader_(expression), size_(expression.size()), place_(place), context_(context), narrow_(narrow) {}

  void push(std::uint64_t value) { push(Item{value, place_.pointer_size, false, true}); }

  /// True when it matters of how many bits a number that was shifted is.
  [[nodiscard]] bool shifted_wide() const { return shifted_wide_; }

  Evaluated run() {
    while (!reader_.at_end() && result_.unknown.empty()) {
      if (++executed_ > kMost) fail("the location expression does not end");
      const auto op = static_cast<Op>(reader_.u8());
      if (!piece_operation(op) && !literal(op) && !stack_operation(op) && !place_operation(op) && !typed_operation(op))
        fail("the location expression has an operation that is not known");
      if (!reader_.good()) fail("the location expression is damaged");
    }
    if (!result_.unknown.empty()) {
      result_.pieces.clear();
    } else if (result_.pieces.empty()) {
      result_.pieces.push_back(taken_piece());
    }
    return std::move(result_);
  }

 private:
  static constexpr unsigned kMost = 10000;  // operations; a damaged expression may jump in a circle

  void fail(std::string why) {
    if (result_.unknown.empty()) result_.unknown = std::move(why);
  }

  static std::uint64_t cut(const Item& item) {
    if (item.size >= 8 || item.floating) return item.bits;
    const unsigned unused = 64 - item.size * 8;
    const std::uint64_t raised = item.bits << unused;
    return item.is_signed ? static_cast<std::uint64_t>(static_cast<std::int64_t>(raised) >> unused) : raised >> unused;
  }
  void push(Item item) {
    written_ = item.bits;
    item.constant.reset();
    item.bits = cut(item);
    stack_.push_back(item);
  }
  Item pop() {
    if (stack_.empty()) {
      fail("the location expression is damaged");
      return {};
    }
    const Item item = stack_.back();
    stack_.pop_back();
    return item;
  }
  void push_register(unsigned number, std::int64_t offset) {
    const auto value = context_.reg(number);
    if (!value) return fail("it depends on a register whose value is not known here");
    push(*value + static_cast<std::uint64_t>(offset));
    stack_.back().of_frame = number == place_.stack_pointer;
    if (offset != 0) result_.operands.push_back(static_cast<std::uint64_t>(offset));
  }
  void push_optional(std::optional<std::uint64_t> value, const char* why) { value ? push(*value) : fail(why); }

  bool literal(Op op) {
    const std::size_t before = stack_.size();
    if (!pushed_literal(op)) return false;
    if (stack_.size() > before && op != Op::address) stack_.back().constant = written_;
    return true;
  }
  bool pushed_literal(Op op) {
    const auto number = static_cast<std::uint8_t>(op);
    if (op >= Op::literal0 && op <= Op::literal31) return push(number - 0x30U), true;
    switch (op) {
      case Op::address: push(reader_.unsigned_of(place_.pointer_size) + place_.bias); return true;
      case Op::const1u: push(reader_.u8()); return true;
      case Op::const2u: push(reader_.u16()); return true;
      case Op::const4u: push(reader_.u32()); return true;
      case Op::const8u: push(reader_.u64()); return true;
      case Op::const1s: push(static_cast<std::uint64_t>(static_cast<std::int8_t>(reader_.u8()))); return true;
      case Op::const2s: push(static_cast<std::uint64_t>(static_cast<std::int16_t>(reader_.u16()))); return true;
      case Op::const4s: push(static_cast<std::uint64_t>(static_cast<std::int32_t>(reader_.u32()))); return true;
      case Op::const8s: push(reader_.u64()); return true;
      case Op::constu: push(reader_.uleb()); return true;
      case Op::consts: push(static_cast<std::uint64_t>(reader_.sleb())); return true;
      case Op::indexed_address:
      case Op::gnu_indexed_address:
      case Op::indexed_constant:
      case Op::gnu_indexed_constant: {
        const std::uint64_t index = reader_.uleb();
        const auto address = place_.unit != nullptr ? place_.info->indexed_address(*place_.unit, index) : std::nullopt;
        const bool moved = op == Op::indexed_address || op == Op::gnu_indexed_address;
        address ? push(*address + (moved ? place_.bias : 0))
                : fail("its address is missing from the debug information");
        return true;
      }
      default: return false;
    }
  }

  bool place_operation(Op op) {
    const auto number = static_cast<std::uint8_t>(op);
    if (op >= Op::base_register0 && op <= Op::base_register31) {
      push_register(number - 0x70U, reader_.sleb());
      return true;
    }
    switch (op) {
      case Op::any_base_register: {
        const auto reg = static_cast<unsigned>(reader_.uleb());
        push_register(reg, reader_.sleb());
        return true;
      }
      case Op::frame_base: {
        const std::int64_t offset = reader_.sleb();
        const auto base = context_.frame_base();
        base ? push(*base + static_cast<std::uint64_t>(offset)) : fail("the frame's place is not known here");
        if (base) stack_.back().of_frame = true;
        return true;
      }
      case Op::call_frame_cfa: push_optional(context_.cfa(), "the frame's place is not known here"); return true;
      case Op::form_tls_address:
      case Op::gnu_push_tls_address: {
        // The offset may have been an address operand, to which the bias was added.
        const Item item = pop();
        const std::uint64_t offset = after_address_ ? item.bits - place_.bias : item.bits;
        const std::uint64_t inside = place_.info != nullptr ? place_.info->thread_offset(offset) : offset;
        push_optional(context_.thread_address(inside), "the thread's own variables are not found here");
        return true;
      }
      case Op::entry_value:
      case Op::gnu_entry_value: {
        const Bytes inner = reader_.bytes(reader_.uleb());
        push_optional(context_.at_entry(inner), "it is given by a value at the function's entry that is gone");
        return true;
      }
      case Op::dereference: load(place_.pointer_size); return true;
      case Op::dereference_size: load(reader_.u8()); return true;
      case Op::push_object_address: fail("it depends on an object that is not known"); return true;
      case Op::gnu_parameter_reference: {
        const std::uint64_t entry = (place_.unit != nullptr ? place_.unit->offset : 0) + reader_.u32();
        const auto value = context_.parameter(entry);
        if (!value) return fail("it is given by a parameter that is gone"), true;
        Item item{*value, place_.pointer_size, false, true};
        if (const unsigned bytes = floating_size(entry); bytes != 0) item = Item{*value, bytes, false, false, true};
        push(item);
        return true;
      }
      case Op::nothing:
      case Op::gnu_uninitialised: return true;
      default: return false;
    }
  }

  void load(unsigned size) { push(loaded(size)); }
  std::uint64_t loaded(unsigned size) {
    const std::uint64_t address = pop().bits;
    std::uint8_t bytes[8] = {};
    std::uint64_t value = 0;
    if (size == 0 || size > 8 || !context_.read(address, {bytes, size})) {
      fail("memory that tells its place is not readable");
      return 0;
    }
    std::memcpy(&value, bytes, size);
    return value;
  }

  bool stack_operation(Op op) {
    switch (op) {
      case Op::duplicate: return pick(0);
      case Op::over: return pick(1);
      case Op::pick: return pick(reader_.u8());
      case Op::drop: (void)pop(); return true;
      case Op::swap: {
        const Item a = pop(), b = pop();
        push(a);
        push(b);
        return true;
      }
      case Op::rotate: {
        const Item a = pop(), b = pop(), c = pop();
        push(a);
        push(c);
        push(b);
        return true;
      }
      case Op::plus_constant: {
        Item a = pop();
        result_.operands.push_back(reader_.uleb());
        a.bits += result_.operands.back();
        push(a);
        return true;
      }
      case Op::negate:
      case Op::bit_not:
      case Op::absolute: {
        Item a = pop();
        if (a.floating) {
          a.set_real(op == Op::absolute ? std::fabs(a.real()) : -a.real());
          if (op == Op::bit_not) fail("the location expression is damaged");
          push(a);
          return true;
        }
        const auto value = signed_of(a);
        a.bits = op == Op::bit_not ? ~a.bits : op == Op::negate || value < 0 ? 0 - a.bits : a.bits;
        push(a);
        return true;
      }
      case Op::skip:
      case Op::branch: {
        const auto offset = static_cast<std::int16_t>(reader_.u16());
        if (op == Op::branch && pop().bits == 0) return true;
        const auto to = static_cast<std::int64_t>(reader_.position()) + offset;
        if (to < 0 || to > static_cast<std::int64_t>(size_)) return fail("the location expression is damaged"), true;
        reader_ = ByteReader(whole(), static_cast<std::size_t>(to));
        return true;
      }
      default: return two_operands(op);
    }
  }

  [[nodiscard]] Bytes whole() const {
    ByteReader copy = reader_;
    const std::size_t at = copy.position();
    const Bytes rest = copy.bytes(copy.remaining());
    return {rest.data() - at, rest.size() + at};
  }

  bool pick(std::size_t index) {
    if (index >= stack_.size()) return fail("the location expression is damaged"), true;
    push(stack_[stack_.size() - 1 - index]);
    return true;
  }

  /// Without what stands for the sign above it.
  static std::uint64_t low_bits(const Item& item) {
    return item.size >= 8 ? item.bits : item.bits & ((std::uint64_t(1) << item.size * 8) - 1);
  }
  static std::int64_t signed_of(const Item& item) {
    const unsigned unused = item.size >= 8 ? 0 : 64 - item.size * 8;
    return static_cast<std::int64_t>(item.bits << unused) >> unused;
  }

  void note_literals(Op op, const Item& left, const Item& right) {
    constexpr Op kNoted[] = {Op::bit_and, Op::bit_or, Op::bit_xor, Op::plus, Op::minus, Op::multiply};
    if (std::ranges::find(kNoted, op) == std::end(kNoted)) return;
    for (const Item* one : {&left, &right}) {
      if (one->constant) result_.operands.push_back(*one->constant);
    }
  }

  bool two_operands(Op op) {
    if (!(op >= Op::bit_and && op <= Op::not_equal) || op == Op::branch) return false;
    const Item right = pop();
    Item left = pop();
    if (left.floating || right.floating) return two_reals(op, left, right);
    note_literals(op, left, right);
    left.of_frame |= right.of_frame;
    const std::uint64_t b = right.bits;
    const std::int64_t sa = signed_of(left), sb = signed_of(right);
    const auto compare = [&](bool holds) { left = Item{holds ? 1U : 0U, place_.pointer_size, false, true}; };
    // Plain addresses are compared as signed numbers (DWARF 5, 2.5.1.5); typed ones by their type.
    const bool by_sign = left.generic || left.is_signed;
    const bool less = by_sign ? sa < sb : left.bits < b;
    switch (op) {
      case Op::bit_and: left.bits &= b; break;
      case Op::bit_or: left.bits |= b; break;
      case Op::bit_xor: left.bits ^= b; break;
      case Op::plus: left.bits += b; break;
      case Op::minus: left.bits -= b; break;
      case Op::multiply: left.bits *= b; break;
      case Op::shift_left: left.bits = b < 64 ? left.bits << b : 0; break;
      case Op::shift_right: left.bits = b < 64 ? low_bits(shifted(left, false)) >> b : 0; break;
      case Op::shift_right_signed:
        left.bits = static_cast<std::uint64_t>(signed_of(shifted(left, true)) >> (b < 64 ? b : 63));
        break;
      case Op::divide:
      case Op::modulo:
        if (b == 0 || (sb == -1 && op == Op::divide)) {
          if (b == 0) return fail("its location divides by zero"), true;
          left.bits = 0 - left.bits;
        } else if (op == Op::divide) {
          left.bits = by_sign ? static_cast<std::uint64_t>(sa / sb) : left.bits / b;
        } else {
          left.bits = left.is_signed && !left.generic && sb != -1 ? static_cast<std::uint64_t>(sa % sb) : left.bits % b;
        }
        break;
      case Op::equal: compare(left.bits == b); break;
      case Op::not_equal: compare(left.bits != b); break;
      case Op::less: compare(less); break;
      case Op::greater_equal: compare(!less); break;
      case Op::less_equal: compare(less || left.bits == b); break;
      case Op::greater: compare(!less && left.bits != b); break;
      default: return false;
    }
    push(left);
    return true;
  }

  /// A number that is shifted right.
  Item shifted(const Item& wide, bool by_sign) {
    if (!wide.generic || wide.size != 8) return wide;
    Item narrow = wide;
    const auto low = static_cast<std::uint32_t>(wide.bits);
    narrow.bits = by_sign ? static_cast<std::uint64_t>(static_cast<std::int32_t>(low)) : low;
    shifted_wide_ |= narrow.bits != wide.bits;
    return narrow_ ? narrow : wide;
  }

  bool two_reals(Op op, Item left, const Item& right) {
    if (!left.floating || !right.floating || left.size != right.size)
      return fail("the location expression is damaged"), true;
    const double a = left.real(), b = right.real();
    const auto compare = [&](bool holds) { left = Item{holds ? 1U : 0U, place_.pointer_size, false, true, false}; };
    switch (op) {
      case Op::plus: left.set_real(a + b); break;
      case Op::minus: left.set_real(a - b); break;
      case Op::multiply: left.set_real(a * b); break;
      case Op::divide: left.set_real(a / b); break;
      case Op::equal: compare(a == b); break;
      case Op::not_equal: compare(a != b); break;
      case Op::less: compare(a < b); break;
      case Op::less_equal: compare(a <= b); break;
      case Op::greater: compare(a > b); break;
      case Op::greater_equal: compare(a >= b); break;
      default: fail("the location expression is damaged");
    }
    push(left);
    return true;
  }

  // ---- base types -------------------------------------------------------------------------------------------------

  /// The base type at an offset in the unit; 0 stands for a plain value.
  bool with_type(std::uint64_t offset, Item& item) {
    if (offset == 0) {
      item.size = place_.pointer_size;
      item.is_signed = item.floating = false;
      item.generic = true;
      return true;
    }
    Entry entry;
    if (place_.unit == nullptr || !place_.info->read(*place_.unit, place_.unit->offset + offset, entry) ||
        entry.tag != Tag::base_type)
      return false;
    const auto encoding = static_cast<Encoding>(entry.number(At::encoding).value_or(0));
    item.size = static_cast<unsigned>(entry.number(At::byte_size).value_or(0));
    item.is_signed = encoding == Encoding::signed_integer || encoding == Encoding::signed_char;
    item.generic = false;
    item.floating = encoding == Encoding::floating;
    if (has_odd_bits(place_.info->text(entry, At::name))) return false;
    if (item.floating) return item.size == 4 || item.size == 8;
    return item.size >= 1 && item.size <= 8 && encoding != Encoding::complex_float;
  }
  /// Bytes of a parameter's value, if that is a floating-point number (gcc's expressions take it for one); else 0.
  [[nodiscard]] unsigned floating_size(std::uint64_t parameter) const {
    Entry entry;
    if (place_.unit == nullptr || !place_.info->read(*place_.unit, parameter, entry)) return 0;
    const auto typed = place_.info->with_attribute(entry, At::type);
    auto type = typed ? place_.info->read(place_.info->reference(*typed, At::type)) : std::nullopt;
    constexpr int kDeepest = 8;  // a damaged entry may name itself
    for (int i = 0; i < kDeepest && type && type->tag != Tag::base_type; ++i)
      type = place_.info->read(place_.info->reference(*type, At::type));
    if (!type || type->tag != Tag::base_type) return 0;
    const auto encoding = static_cast<Encoding>(type->number(At::encoding).value_or(0));
    const auto size = static_cast<unsigned>(type->number(At::byte_size).value_or(0));
    return encoding == Encoding::floating && (size == 4 || size == 8) ? size : 0;
  }
  void push_typed(std::uint64_t bits, std::uint64_t type) {
    Item item{bits};
    with_type(type, item) ? push(item) : fail("it is computed from numbers of a type that is not followed");
  }

  bool typed_operation(Op op) {
    switch (op) {
      case Op::const_type:
      case Op::gnu_const_type: {
        const std::uint64_t type = reader_.uleb();
        const std::uint8_t size = reader_.u8();
        const Bytes bytes = reader_.bytes(size);
        std::uint64_t value = 0;
        std::memcpy(&value, bytes.data(), std::min<std::size_t>(bytes.size(), 8));
        push_typed(value, type);
        return true;
      }
      case Op::register_type:
      case Op::gnu_register_type: {
        const auto value = context_.reg(static_cast<unsigned>(reader_.uleb()));
        const std::uint64_t type = reader_.uleb();
        value ? push_typed(*value, type) : fail("it depends on a register whose value is not known here");
        return true;
      }
      case Op::dereference_type:
      case Op::gnu_dereference_type: {
        const std::uint8_t size = reader_.u8();
        const std::uint64_t type = reader_.uleb();
        push_typed(loaded(size), type);
        return true;
      }
      case Op::convert:
      case Op::gnu_convert: convert(pop(), reader_.uleb()); return true;
      case Op::reinterpret:
      case Op::gnu_reinterpret: {
        const Item item = pop();
        push_typed(low_bits(item), reader_.uleb());
        if (!stack_.empty()) stack_.back().of_frame = item.of_frame;
        return true;
      }
      default: return false;
    }
  }

  /// The same number as one of another type, as a cast in C.
  void convert(const Item& from, std::uint64_t type) {
    Item to;
    if (!with_type(type, to)) return fail("it is computed from numbers of a type that is not followed");
    if (to.floating) {
      const double value = from.floating    ? from.real()
                           : from.is_signed ? static_cast<double>(signed_of(from))
                                            : static_cast<double>(low_bits(from));
      to.set_real(value);
    } else if (from.floating) {
      const auto whole = whole_part(from.real(), to.is_signed);
      if (!whole) return fail("it is computed from a number that its type cannot hold");
      to.bits = *whole;
    } else {
      to.bits = from.bits;
    }
    to.of_frame = from.of_frame;
    push(to);
  }

  // ---- what the result is -----------------------------------------------------------------------------------------

  bool piece_operation(Op op) {
    const auto number = static_cast<std::uint8_t>(op);
    after_address_ = was_address_;
    was_address_ = op == Op::address || op == Op::indexed_address || op == Op::gnu_indexed_address;
    if (op >= Op::register0 && op <= Op::register31) return in_register(number - static_cast<unsigned>(Op::register0));
    switch (op) {
      case Op::any_register: return in_register(static_cast<unsigned>(reader_.uleb()));
      case Op::stack_value: {
        Piece piece{.kind = Piece::Kind::value};
        const Item item = pop();
        const std::uint64_t value = item.constant.value_or(item.bits);
        piece.of_frame_address = item.of_frame;
        piece.bytes.resize(item.constant ? sizeof value : std::min<std::size_t>(item.size, sizeof value));
        std::memcpy(piece.bytes.data(), &value, piece.bytes.size());
        pending_ = std::move(piece);
        return true;
      }
      case Op::implicit_value: {
        const Bytes bytes = reader_.bytes(reader_.uleb());
        pending_ = Piece{.kind = Piece::Kind::value, .bytes = {bytes.begin(), bytes.end()}};
        return true;
      }
      case Op::implicit_pointer:
      case Op::gnu_implicit_pointer: {
        const bool wide = place_.unit != nullptr && place_.unit->form.wide;
        const std::uint64_t entry = wide ? reader_.u64() : reader_.u32();
        pending_ =
            Piece{.kind = Piece::Kind::pointer, .address = static_cast<std::uint64_t>(reader_.sleb()), .entry = entry};
        return true;
      }
      case Op::piece: close_piece(reader_.uleb() * 8, 0); return true;
      case Op::bit_piece: {
        const std::uint64_t bits = reader_.uleb();
        close_piece(bits, reader_.uleb());
        return true;
      }
      default: return false;
    }
  }

  bool in_register(unsigned number) {
    pending_ = Piece{.kind = Piece::Kind::reg, .number = number};
    return true;
  }

  Piece taken_piece() {
    if (pending_) return *std::exchange(pending_, std::nullopt);
    if (stack_.empty()) return {};
    return {.kind = Piece::Kind::memory, .address = pop().bits};
  }
  void close_piece(std::uint64_t bits, std::uint64_t offset) {
    Piece piece = taken_piece();
    piece.bits = bits;
    piece.bit_offset = offset;
    result_.pieces.push_back(std::move(piece));
  }

  ByteReader reader_;
  std::size_t size_;
  const ExpressionPlace& place_;
  LocationContext& context_;
  std::vector<Item> stack_;
  std::optional<Piece> pending_;
  Evaluated result_;
  unsigned executed_ = 0;
  bool was_address_ = false, after_address_ = false;
  bool narrow_ = false, shifted_wide_ = false;
  std::uint64_t written_ = 0;  ///< what was pushed last, before it was cut
};

std::uint64_t low_number(const Piece& piece) {
  if (piece.kind == Piece::Kind::memory) return piece.address;
  std::uint64_t value = 0;
  std::memcpy(&value, piece.bytes.data(), std::min<std::size_t>(8, piece.bytes.size()));
  return value;
}

/// Marks values and addresses whose low four bytes are others by the other reading.
void compare_readings(Evaluated& wide, const Evaluated& narrow) {
  for (std::size_t i = 0; i < wide.pieces.size() && i < narrow.pieces.size(); ++i) {
    Piece& one = wide.pieces[i];
    if (one.kind != narrow.pieces[i].kind) continue;
    one.depends_on_width =
        static_cast<std::uint32_t>(low_number(one)) != static_cast<std::uint32_t>(low_number(narrow.pieces[i]));
  }
}

}  // namespace

std::optional<unsigned> register_alone(Bytes expression) {
  constexpr auto kFirst = static_cast<unsigned>(Op::register0), kLast = static_cast<unsigned>(Op::register31);
  if (expression.size() != 1 || expression[0] < kFirst || expression[0] > kLast) return std::nullopt;
  return expression[0] - kFirst;
}

bool register_content(Bytes expression) {
  constexpr auto kFirst = static_cast<unsigned>(Op::base_register0), kLast = static_cast<unsigned>(Op::base_register31);
  return expression.size() == 3 && expression[0] >= kFirst && expression[0] <= kLast && expression[1] == 0 &&
         expression[2] == static_cast<unsigned>(Op::stack_value);
}

Evaluated evaluate(Bytes expression, const ExpressionPlace& place, LocationContext& context,
                   std::optional<std::uint64_t> initial) {
  if (expression.empty()) return {{}, "the compiler removed it", {}};
  const auto run = [&](Machine& machine) {
    if (initial) machine.push(*initial);
    return machine.run();
  };
  Machine machine(expression, place, context, false);
  Evaluated result = run(machine);
  if (machine.shifted_wide()) {
    Machine narrow(expression, place, context, true);
    compare_readings(result, run(narrow));
  }
  return result;
}

/// What is read as a number of 64 bits cannot be meant as one of 32 when it has more.
bool Piece::is_doubtful(std::uint64_t size) const {
  return depends_on_width && (size <= 4 || low_number(*this) <= 0xffffffff);
}

std::optional<std::uint64_t> evaluate_number(Bytes expression, const ExpressionPlace& place, LocationContext& context,
                                             std::optional<std::uint64_t> initial) {
  Evaluated result = evaluate(expression, place, context, initial);
  if (!result.unknown.empty() || result.pieces.size() != 1) return std::nullopt;
  const Piece& piece = result.pieces[0];
  if (piece.is_doubtful(4)) return std::nullopt;
  if (piece.kind == Piece::Kind::memory) return piece.address;
  if (piece.kind == Piece::Kind::reg) return context.reg(piece.number);
  if (piece.kind != Piece::Kind::value || piece.bytes.size() > 8) return std::nullopt;
  return low_number(piece);
}

}  // namespace deeptrace::debuginfo
