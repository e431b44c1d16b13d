#include <array>
#include <cctype>
#include <charconv>
#include <cstdlib>

#include "inspect/expression_node.h"

namespace deeptrace::inspect {
namespace {

using Node = ExpressionNode;
using Op = Node::Op;
using NodePointer = std::unique_ptr<Node>;

struct BinaryOperator {
  std::string_view text;
  Op op;
  int strength;  ///< binds tighter when greater (C's precedence)
};
/// Longer ones first.
constexpr BinaryOperator kBinary[] = {
    {"||", Op::logical_or, 1}, {"&&", Op::logical_and, 2}, {"==", Op::equal, 6},      {"!=", Op::not_equal, 6},
    {"<<", Op::shift_left, 8}, {">>", Op::shift_right, 8}, {"<=", Op::less_equal, 7}, {">=", Op::greater_equal, 7},
    {"|", Op::bit_or, 3},      {"^", Op::bit_xor, 4},      {"&", Op::bit_and, 5},     {"<", Op::less, 7},
    {">", Op::greater, 7},     {"+", Op::add, 9},          {"-", Op::subtract, 9},    {"*", Op::multiply, 10},
    {"/", Op::divide, 10},     {"%", Op::modulo, 10},
};

/// Words that begin a type of C's own.
constexpr std::array<std::string_view, 13> kTypeWords = {"unsigned", "signed", "int",    "char", "short",
                                                         "long",     "float",  "double", "bool", "struct",
                                                         "union",    "enum",   "const"};

/// Sizes as an assembler names them, in bytes.
struct SizeWord {
  std::string_view name;
  Shape shape;
};
constexpr SizeWord kSizes[] = {
    {"byte", {Shape::Kind::unsigned_integer, 1}},  {"word", {Shape::Kind::unsigned_integer, 2}},
    {"dword", {Shape::Kind::unsigned_integer, 4}}, {"qword", {Shape::Kind::unsigned_integer, 8}},
    {"tbyte", {Shape::Kind::floating, 10}},        {"xmmword", {Shape::Kind::bytes, 16}},
    {"ymmword", {Shape::Kind::bytes, 32}},         {"zmmword", {Shape::Kind::bytes, 64}},
};

bool begins_name(char c) { return std::isalpha(static_cast<unsigned char>(c)) != 0 || c == '_' || c == '$'; }
bool continues_name(char c) { return begins_name(c) || std::isdigit(static_cast<unsigned char>(c)) != 0; }

class Parser {
 public:
  Parser(std::string_view text, const std::function<bool(std::string_view)>& is_type)
      : text_(text), is_type_(is_type) {}

  NodePointer parse() {
    NodePointer node = choice();
    if (node && !at_end()) return fail("the end, or an operator");
    return node;
  }
  [[nodiscard]] std::size_t place() const { return failed_at_; }
  [[nodiscard]] const std::string& expected() const { return expected_; }

 private:
  static constexpr int kDeepest = 200;

  NodePointer fail(std::string expected) {
    if (expected_.empty()) {
      expected_ = std::move(expected);
      skip_space();
      failed_at_ = at_;
    }
    return nullptr;
  }
  void skip_space() {
    while (at_ < text_.size() && std::isspace(static_cast<unsigned char>(text_[at_])) != 0) ++at_;
  }
  bool at_end() {
    skip_space();
    return at_ >= text_.size();
  }
  [[nodiscard]] char here() const { return at_ < text_.size() ? text_[at_] : '\0'; }
  bool take(std::string_view token) {
    skip_space();
    if (!text_.substr(at_).starts_with(token)) return false;
    at_ += token.size();
    return true;
  }
  /// The name that comes next, without going over it. C++ names have their scopes and template arguments.
  std::string_view peek_name() {
    skip_space();
    if (!begins_name(here())) return {};
    std::size_t end = at_;
    while (end < text_.size() && continues_name(text_[end])) ++end;
    end += number_after(end);
    return text_.substr(at_, end - at_);
  }
  /// Characters of the number that a compiler gives a function's own variable in its symbol: "log.0".
  [[nodiscard]] std::size_t number_after(std::size_t at) const {
    if (at >= text_.size() || text_[at] != '.') return 0;
    std::size_t end = at + 1;
    while (end < text_.size() && std::isdigit(static_cast<unsigned char>(text_[end])) != 0) ++end;
    const bool number = end > at + 1 && (end == text_.size() || !begins_name(text_[end]));
    return number ? end - at : 0;
  }
  std::string name() {
    const std::string_view word = peek_name();
    at_ += word.size();
    std::string result(word);
    while (!word.empty()) {
      const std::string_view arguments = template_arguments();
      const std::size_t after = at_ + arguments.size();
      const bool scope =
          text_.substr(after).starts_with("::") && after + 2 < text_.size() && begins_name(text_[after + 2]);
      if (!scope) {
        // "level < limit" compares; in "(Box<int> *)" and "sizeof(Box<int>)" only a type can be meant.
        const std::size_t next = text_.find_first_not_of(' ', after);
        const bool type = !arguments.empty() && next != std::string_view::npos &&
                          (text_[next] == ')' || text_[next] == '*') && is_type_ &&
                          is_type_(result + std::string(arguments));
        if (!type) break;
        at_ = after;
        result += arguments;
        break;
      }
      result += arguments;
      at_ = after + 2;
      const std::string_view next = peek_name();
      at_ += next.size();
      result += "::" + std::string(next);
    }
    return result;
  }
  /// "<int, Box<long>>" right here, without going over it; empty where brackets do not fit.
  [[nodiscard]] std::string_view template_arguments() const {
    if (here() != '<') return {};
    int depth = 0;
    for (std::size_t i = at_; i < text_.size(); ++i) {
      const char c = text_[i];
      if (c == '<' || c == '(') ++depth;
      if (c == '>' || c == ')') --depth;
      if (depth == 0) return c == '>' ? text_.substr(at_, i + 1 - at_) : std::string_view();
      const bool fits = continues_name(c) || std::string_view("<>(), *&:-[]").find(c) != std::string_view::npos;
      if (!fits) return {};
    }
    return {};
  }

  static NodePointer make(Op op) {
    auto node = std::make_unique<Node>();
    node->op = op;
    return node;
  }
  static NodePointer make(Op op, NodePointer part) {
    NodePointer node = make(op);
    node->parts.push_back(std::move(part));
    return node;
  }

  NodePointer choice() {
    NodePointer condition = binary(0);
    if (!condition || !take("?")) return condition;
    NodePointer node = make(Op::choose, std::move(condition));
    NodePointer yes = choice();
    if (!yes) return nullptr;
    if (!take(":")) return fail("':'");
    NodePointer no = choice();
    if (!no) return nullptr;
    node->parts.push_back(std::move(yes));
    node->parts.push_back(std::move(no));
    return node;
  }

  [[nodiscard]] const BinaryOperator* peek_operator() {
    skip_space();
    for (const BinaryOperator& candidate : kBinary) {
      if (text_.substr(at_).starts_with(candidate.text)) return &candidate;
    }
    return nullptr;
  }

  NodePointer binary(int weakest) {
    NodePointer left = unary();
    while (left) {
      const BinaryOperator* found = peek_operator();
      if (found == nullptr || found->strength <= weakest) return left;
      at_ += found->text.size();
      NodePointer right = binary(found->strength);
      if (!right) return nullptr;
      NodePointer node = make(found->op, std::move(left));
      node->parts.push_back(std::move(right));
      left = std::move(node);
    }
    return left;
  }

  NodePointer unary() {
    if (++depth_ > kDeepest) return fail("fewer levels");
    NodePointer node = unary_at_depth();
    --depth_;
    return node;
  }

  NodePointer unary_at_depth() {
    struct Prefix {
      std::string_view text;
      Op op;
    };
    constexpr Prefix kPrefixes[] = {{"-", Op::negate},      {"+", Op::plus},        {"~", Op::bit_not},
                                    {"!", Op::logical_not}, {"*", Op::dereference}, {"&", Op::address_of}};
    for (const Prefix& prefix : kPrefixes) {
      if (!take(prefix.text)) continue;
      NodePointer operand = unary();
      return operand ? make(prefix.op, std::move(operand)) : nullptr;
    }
    skip_space();
    if (here() == '(') {
      if (NodePointer cast = try_cast()) return cast;
      if (!expected_.empty()) return nullptr;
    }
    return postfix(primary());
  }

  /// "(TYPE *) operand"; nothing, at the same place, for anything else in parentheses.
  NodePointer try_cast() {
    const std::size_t before = at_;
    ++at_;
    NodePointer node = make(Op::cast);
    if (!type_name(*node) || !take(")")) {
      at_ = before;
      return nullptr;
    }
    NodePointer operand = unary();
    if (!operand) return nullptr;
    node->parts.push_back(std::move(operand));
    return node;
  }

  bool is_type_word(std::string_view word) const {
    for (const std::string_view one : kTypeWords) {
      if (one == word) return true;
    }
    return false;
  }

  bool type_name(Node& node) {
    std::string words;
    bool own = false;
    for (;;) {
      const std::string word = name();
      if (word.empty()) break;
      own |= is_type_word(word);
      if (word == "const" || word == "volatile") continue;
      words += (words.empty() ? "" : " ") + word;
    }
    if (words.empty()) return false;
    while (take("*")) {
      ++node.stars;
      if (peek_name() == "const") (void)name();
    }
    node.text = words;
    skip_space();
    // "(level) - 3" is a subtraction unless level is a type; "(level *)" can only be a cast.
    return own || (is_type_ && is_type_(words)) || (node.stars != 0 && here() == ')');
  }

  NodePointer postfix(NodePointer node) {
    while (node) {
      if (take("[")) {
        NodePointer position = choice();
        if (!position) return nullptr;
        if (!take("]")) return fail("']'");
        node = make(Op::index, std::move(node));
        node->parts.push_back(std::move(position));
      } else if (take("->")) {
        node = make(Op::arrow, std::move(node));
        node->text = name();
        if (node->text.empty()) return fail("a member's name");
        if (node = called(std::move(node)); !node) return nullptr;
      } else if (skip_space(); here() == '.' && at_ + 1 < text_.size() && begins_name(text_[at_ + 1])) {
        ++at_;
        node = make(Op::member, std::move(node));
        node->text = name();
        if (node = called(std::move(node)); !node) return nullptr;
      } else {
        return node;
      }
    }
    return node;
  }

  /// A member before "(ARGUMENT, …)" is a function.
  NodePointer called(NodePointer member) {
    if (here() != '(') return member;
    ++at_;
    NodePointer node = make(Op::call, std::move(member->parts[0]));
    node->text = std::move(member->text);
    node->value = member->op == Op::arrow ? 1 : 0;
    if (take(")")) return node;
    do {
      NodePointer argument = choice();
      if (!argument) return nullptr;
      node->parts.push_back(std::move(argument));
    } while (take(","));
    return take(")") ? std::move(node) : fail("')'");
  }

  NodePointer primary() {
    skip_space();
    const char c = here();
    if (std::isdigit(static_cast<unsigned char>(c)) != 0) return number();
    if (c == '\'') return character();
    if (c == '"') return string();
    if (c == '[') return memory(std::nullopt);
    if (c == '(') {
      ++at_;
      NodePointer inner = choice();
      if (inner && !take(")")) return fail("')'");
      return inner;
    }
    if (begins_name(c)) return word();
    return fail("a name, a number, or what '(', '[' or '\"' begins");
  }

  NodePointer word() {
    const std::size_t before = at_;
    std::string word = name();
    if (const auto sized = size_word(word)) {
      // "dword ptr [rbp-8]" and "dword ptr fs:[0x28]", as a listing writes them; with "ptr" left out too.
      if (peek_name() == "ptr") (void)name();
      std::string segment;
      if (const std::string_view next = peek_name(); next.size() == 2 && next[1] == 's') {
        segment = name();
        if (!take(":")) return fail("':'");
      }
      skip_space();
      if (here() == '[') return memory(sized, segment);
      at_ = before;
      word = name();
    }
    if ((word == "reg" || word == "var") && here() == ':') {
      ++at_;
      NodePointer node = make(word == "reg" ? Op::reg : Op::variable);
      node->text = name();
      return node->text.empty() ? fail(word == "reg" ? "a register's name" : "a variable's name") : std::move(node);
    }
    if (word == "sizeof") return size_of();
    if (word == "arg" && take("(")) {
      NodePointer index = choice();
      if (!index) return nullptr;
      if (!take(")")) return fail("')'");
      return make(Op::argument, std::move(index));
    }
    if (word == "result") return make(Op::result);
    if (word == "caller") return make(Op::caller);
    if (word == "st" && here() == '(' && at_ + 2 < text_.size() && text_[at_ + 2] == ')') {
      word += text_.substr(at_, 3);
      at_ += 3;
    }
    const auto shape = shape_named(word, 8);
    skip_space();
    if (shape && here() == '(') {
      ++at_;
      NodePointer inner = choice();
      if (!inner) return nullptr;
      if (!take(")")) return fail("')'");
      NodePointer node = make(Op::shape_cast, std::move(inner));
      node->shape = shape;
      node->text = word;
      return node;
    }
    NodePointer node = make(Op::name);
    node->text = std::move(word);
    return node;
  }

  NodePointer size_of() {
    if (!take("(")) return fail("'('");
    NodePointer node = make(Op::size_of);
    const std::size_t before = at_;
    if (type_name(*node) && take(")")) return node;
    at_ = before;
    node->text.clear();
    NodePointer inner = choice();
    if (!inner) return nullptr;
    if (!take(")")) return fail("')'");
    node->parts.push_back(std::move(inner));
    return node;
  }

  static std::optional<Shape> size_word(std::string_view word) {
    for (const SizeWord& size : kSizes) {
      if (size.name == word) return size.shape;
    }
    return std::nullopt;
  }

  /// "[SHAPE ADDRESS]", "[SHAPE ADDRESS, COUNT]"; the shape may stand before the bracket as a size.
  NodePointer memory(std::optional<Shape> shape, std::string segment = {}) {
    if (!take("[")) return fail("'['");
    NodePointer node = make(Op::memory);
    node->text = std::move(segment);
    if (!shape) {
      const std::string_view word = peek_name();
      shape = shape_named(word, 8);
      if (!shape) return fail("a shape such as u32 (one of " + std::string(shape_names()) + ")");
      at_ += word.size();
    }
    node->shape = shape;
    NodePointer address = choice();
    if (!address) return nullptr;
    node->parts.push_back(std::move(address));
    if (take(",")) {
      NodePointer count = choice();
      if (!count) return nullptr;
      node->parts.push_back(std::move(count));
    }
    if (!take("]")) return fail("']'");
    return node;
  }

  NodePointer number() {
    const std::size_t start = at_;
    int base = 10;
    const std::string_view rest = text_.substr(at_);
    if (rest.starts_with("0x") || rest.starts_with("0X")) base = 16;
    if (rest.starts_with("0b") || rest.starts_with("0B")) base = 2;
    if (base != 10) at_ += 2;
    NodePointer node = make(Op::number);
    const char* begin = text_.data() + at_;
    const char* end = text_.data() + text_.size();
    auto [stop, error] = std::from_chars(begin, end, node->value, base);
    if (error != std::errc{}) {
      at_ = start;
      return fail(error == std::errc::result_out_of_range ? "a number of up to 64 bits" : "digits");
    }
    const bool real = base == 10 && stop != end && (*stop == '.' || *stop == 'e' || *stop == 'E') &&
                      (*stop != '.' || stop + 1 == end || !begins_name(stop[1]));
    if (real) {
      double value = 0;
      stop = std::from_chars(begin, end, value).ptr;
      node->real = value;
    }
    bool is_unsigned = false, is_long = false;
    for (; stop != end && !real; ++stop) {
      if (*stop == 'u' || *stop == 'U') {
        is_unsigned = true;
      } else if (*stop == 'l' || *stop == 'L') {
        is_long = true;
      } else {
        break;
      }
    }
    // The first type that holds it; hexadecimal ones may be unsigned without saying so (C11, 6.4.4.1).
    const std::uint64_t most = node->value >> 31;
    node->literal_bits = is_long || most > 1 || (most == 1 && base == 10 && !is_unsigned) ? 64 : 32;
    node->literal_signed = !is_unsigned && (node->value >> (node->literal_bits - 1)) == 0;
    at_ = static_cast<std::size_t>(stop - text_.data());
    if (continues_name(here())) return fail("the end of the number");
    return node;
  }

  /// One character of a quoted text, with C's escapes.
  std::optional<char> quoted() {
    if (at_ >= text_.size()) return std::nullopt;
    const char c = text_[at_++];
    if (c != '\\') return c;
    if (at_ >= text_.size()) return std::nullopt;
    const char escape = text_[at_++];
    switch (escape) {
      case 'n': return '\n';
      case 't': return '\t';
      case 'r': return '\r';
      case '0': return '\0';
      case 'x': {
        unsigned value = 0;
        const std::string_view digits = text_.substr(at_, 2);
        const auto [stop, error] = std::from_chars(digits.data(), digits.data() + digits.size(), value, 16);
        if (error != std::errc{}) return std::nullopt;
        at_ += static_cast<std::size_t>(stop - digits.data());
        return static_cast<char>(value);
      }
      default: return escape;
    }
  }

  NodePointer character() {
    ++at_;
    const auto c = quoted();
    if (!c || here() != '\'') return fail("a character and \"'\"");
    ++at_;
    NodePointer node = make(Op::number);
    node->value = static_cast<std::uint64_t>(static_cast<std::int64_t>(*c));
    return node;
  }

  NodePointer string() {
    ++at_;
    NodePointer node = make(Op::text);
    while (here() != '"') {
      const auto c = quoted();
      if (!c) return fail("'\"'");
      node->text += *c;
    }
    ++at_;
    return node;
  }

  std::string_view text_;
  const std::function<bool(std::string_view)>& is_type_;
  std::size_t at_ = 0, failed_at_ = 0;
  int depth_ = 0;
  std::string expected_;
};

}  // namespace

Result<std::unique_ptr<ExpressionNode>> parse_expression(std::string_view text,
                                                         const std::function<bool(std::string_view)>& is_type,
                                                         std::size_t* at) {
  Parser parser(text, is_type);
  NodePointer root = parser.parse();
  if (root) return root;
  if (at != nullptr) *at = parser.place();
  return Error{Fault::usage, std::string(text) + ": at character " + std::to_string(parser.place() + 1) +
                                 ": expected " + parser.expected()};
}

}  // namespace deeptrace::inspect
