#include "program/assignments.h"

#include <algorithm>
#include <array>
#include <cctype>
#include <charconv>
#include <cstddef>
#include <iterator>
#include <span>
#include <unordered_map>

namespace deeptrace::program {
namespace {

struct Token {
  std::string_view text;
  std::uint32_t line = 0;
  [[nodiscard]] bool is(std::string_view other) const { return text == other; }
  [[nodiscard]] bool is_step() const { return is("++") || is("--"); }
  [[nodiscard]] bool is_name() const {
    const auto first = static_cast<unsigned char>(text.empty() ? ' ' : text[0]);
    return std::isalpha(first) != 0 || first == '_' || first >= 0x80;
  }
  [[nodiscard]] bool is_any_of(std::span<const std::string_view> others) const {
    return std::ranges::find(others, text) != others.end();
  }
};

constexpr std::array<std::string_view, 11> kChanges{"=", "+=", "-=", "*=", "/=", "%=", "&=", "|=", "^=", "<<=", ">>="};
// Words before a name that is not declared there.
constexpr std::array<std::string_view, 15> kStatementWords{"return",   "else",      "do",        "case",   "goto",
                                                           "throw",    "co_return", "co_yield",  "delete", "sizeof",
                                                           "co_await", "typedef",   "namespace", "using",  "new"};

bool is_word_part(char one) {
  const auto byte = static_cast<unsigned char>(one);
  return std::isalnum(byte) != 0 || byte == '_' || byte >= 0x80;
}

/// What an integer of the source is; nothing for other words (C++ standard, [lex.icon]).
std::optional<std::uint64_t> number_of(std::string_view text) {
  if (text.empty() || std::isdigit(static_cast<unsigned char>(text[0])) == 0) return std::nullopt;
  std::string digits;
  std::ranges::copy_if(text, std::back_inserter(digits), [](char c) { return c != '\''; });
  int base = digits[0] == '0' ? 8 : 10;
  std::size_t start = 0;
  if (const std::string head = digits.substr(0, 2); head == "0x" || head == "0X" || head == "0b" || head == "0B") {
    base = head[1] == 'x' || head[1] == 'X' ? 16 : 2;
    start = 2;
  }
  std::uint64_t number = 0;
  const char* const end = digits.data() + digits.size();
  const auto read = std::from_chars(digits.data() + start, end, number, base);
  const bool whole = read.ec == std::errc() && std::all_of(read.ptr, end, [](char c) {
                       return std::string_view("uUlLzZ").find(c) != std::string_view::npos;
                     });
  return whole ? std::optional(number) : std::nullopt;
}

/// What stands for all that pointers lead to, among the names of variables.
constexpr std::string_view kThroughPointer = "*";

/// Splits a file's text into names, numbers, strings and signs (C++ standard, [lex.pptoken]); comments and directives
/// are left out.
class Splitter {
 public:
  explicit Splitter(std::string_view text) : text_(text) {}

  /// The directives of the text that was read, from the `#` on.
  [[nodiscard]] const std::vector<std::string_view>& directives() const { return directives_; }

  std::vector<Token> tokens() {
    std::vector<Token> result;
    while (skip_blanks()) {
      const std::uint32_t line = line_;
      const std::size_t start = at_;
      take_one();
      result.push_back({text_.substr(start, at_ - start), line});
    }
    return result;
  }

 private:
  [[nodiscard]] char peek(std::size_t ahead = 0) const {
    return at_ + ahead < text_.size() ? text_[at_ + ahead] : '\0';
  }
  [[nodiscard]] bool stands(std::string_view what) const { return text_.substr(at_).starts_with(what); }
  void step() {
    if (peek() == '\n') {
      ++line_;
      line_begins_ = true;
    }
    ++at_;
  }
  /// Up to and with `end`, or to the end of the text.
  void skip_past(std::string_view end) {
    while (at_ < text_.size() && !stands(end)) step();
    for (std::size_t i = 0; i < end.size() && at_ < text_.size(); ++i) step();
  }
  void skip_line() {
    while (at_ < text_.size() && peek() != '\n') {
      if (peek() == '\\' && (peek(1) == '\n' || (peek(1) == '\r' && peek(2) == '\n'))) step();
      step();
    }
  }
  /// False at the end of the text.
  bool skip_blanks() {
    while (at_ < text_.size()) {
      if (std::isspace(static_cast<unsigned char>(peek())) != 0 || peek() == '\\') {
        step();
      } else if (peek() == '#' && line_begins_) {
        const std::size_t start = at_;
        skip_line();
        directives_.push_back(text_.substr(start, at_ - start));
      } else if (stands("//")) {
        skip_line();
      } else if (stands("/*")) {
        skip_past("*/");
      } else {
        line_begins_ = false;
        return true;
      }
    }
    return false;
  }
  void take_one() {
    if (is_word_part(peek())) {
      const std::size_t start = at_;
      // A digit may have ' between digits; a name before a quote is a prefix of the string.
      const bool number = std::isdigit(static_cast<unsigned char>(peek())) != 0;
      while (is_word_part(peek()) || (number && (peek() == '.' || (peek() == '\'' && is_word_part(peek(1)))))) ++at_;
      if (peek() == '"' && text_.substr(start, at_ - start).ends_with('R')) take_raw_string();
    } else if (peek() == '"' || peek() == '\'') {
      take_quoted(peek());
    } else {
      take_sign();
    }
  }
  void take_quoted(char quote) {
    step();
    while (at_ < text_.size() && peek() != quote && peek() != '\n') {
      if (peek() == '\\') step();
      step();
    }
    if (peek() == quote) step();
  }
  void take_raw_string() {
    const std::size_t open = text_.find('(', at_);
    if (open == std::string_view::npos || open - at_ > 17) return take_quoted('"');
    std::string end = ")" + std::string(text_.substr(at_ + 1, open - at_ - 1)) + "\"";
    skip_past(end);
  }
  void take_sign() {
    constexpr std::array<std::string_view, 20> kSigns{"<<=", ">>=", "<=>", "->", "++", "--", "==", "!=", "<=", ">=",
                                                      "+=",  "-=",  "*=",  "/=", "%=", "&=", "|=", "^=", "&&", "::"};
    constexpr std::string_view kSecond = "=<>+-&|:";
    if (kSecond.find(peek(1)) == std::string_view::npos) {
      ++at_;
      return;
    }
    const auto found = std::ranges::find_if(kSigns, [this](std::string_view sign) { return stands(sign); });
    at_ += found != kSigns.end() ? found->size() : 1;
  }

  std::string_view text_;
  std::size_t at_ = 0;
  std::uint32_t line_ = 1;
  bool line_begins_ = true;
  std::vector<std::string_view> directives_;
};

}  // namespace

/// Finds blocks, loops and mentions in a file's tokens.
class Assignments::Reader {
 public:
  Reader(Assignments& into, std::string_view text) : into_(into) {
    Splitter splitter(text);
    tokens_ = splitter.tokens();
    for (const std::string_view one : splitter.directives()) note_macro(one);
    match();
    find_ends();
  }

  void read() {
    std::vector<std::uint32_t> open{0};
    into_.blocks_.push_back({{0, ~std::uint32_t(0)}, {}, false, false, 0});
    for (std::size_t i = 0; i < tokens_.size(); ++i) {
      const Token& token = tokens_[i];
      if (token.is("{")) {
        open.push_back(static_cast<std::uint32_t>(into_.blocks_.size()));
        into_.blocks_.push_back(block_at(i, open[open.size() - 2]));
      } else if (token.is("}") && open.size() > 1) {
        end_section(open, i);
        if (open.size() > 1) open.pop_back();
      } else if (token.is("[") && at(i + 1).is("&")) {
        into_.unfollowed_.push_back(token.line);
      } else if (!token.is_name()) {
        continue;
      } else if (token.is("goto")) {
        into_.unfollowed_.push_back(token.line);
      } else if (token.is("for") || token.is("while") || token.is("do")) {
        into_.loops_.push_back({token.line, line_at(end_at(i))});
        if (!token.is("do")) guard(i);
      } else if (token.is("if") || token.is("else")) {
        guard(i);
      } else if (token.is("case") || (token.is("default") && at(i + 1).is(":"))) {
        end_section(open, i);
        sections_.push_back(into_.blocks_.size());
        into_.blocks_.push_back({{token.line, token.line}, {}, false, false, open.back()});
        open.push_back(static_cast<std::uint32_t>(sections_.back()));
      } else {
        mention(i, open.back());
      }
    }
    std::ranges::stable_sort(into_.mentions_, {}, &Mention::name);
    std::ranges::stable_sort(into_.calls_, {}, &Call::line);
  }

 private:
  [[nodiscard]] const Token& at(std::size_t i) const {
    static constexpr Token kNone{};
    return i < tokens_.size() ? tokens_[i] : kNone;
  }
  [[nodiscard]] std::uint32_t line_at(std::size_t i) const {
    return i < tokens_.size() ? tokens_[i].line : ~std::uint32_t(0);
  }
  /// Pairs brackets of all kinds; one that has no other stands for itself. A brace closes what is open inside it, too.
  void match() {
    partner_.resize(tokens_.size());
    std::vector<std::size_t> open;
    for (std::size_t i = 0; i < tokens_.size(); ++i) {
      partner_[i] = i;
      const char one = tokens_[i].text[0];
      if (one == '(' || one == '[' || one == '{') open.push_back(i);
      if (one != ')' && one != ']' && one != '}') continue;
      const char opening = one == ')' ? '(' : one == ']' ? '[' : '{';
      const auto is_other = [&](std::size_t at) { return tokens_[at].text[0] == opening; };
      while (one == '}' && !open.empty() && !is_other(open.back())) open.pop_back();
      if (open.empty() || !is_other(open.back())) continue;
      partner_[open.back()] = i;
      partner_[i] = open.back();
      open.pop_back();
    }
  }
  /// For each token the last one of the statement that would begin there: its semicolon, or the brace that closes it.
  /// From the file's end, so that those of the statements in it are known.
  void find_ends() {
    plain_ends_.resize(tokens_.size() + 1, tokens_.size());
    ends_ = plain_ends_;
    for (std::size_t i = tokens_.size(); i-- > 0;) {
      const bool closes = tokens_[i].is(";") || tokens_[i].is("}");
      plain_ends_[i] = closes ? i : plain_ends_[std::max(i, partner_[i]) + 1];
      ends_[i] = end_of_statement(i);
    }
  }
  [[nodiscard]] std::size_t end_at(std::size_t i) const { return ends_[std::min(i, tokens_.size())]; }
  [[nodiscard]] std::size_t end_of_statement(std::size_t i) const {
    const Token& token = tokens_[i];
    if (token.is("{")) return partner_[i];
    if (token.is("do")) {
      const std::size_t body = end_at(i + 1);
      return at(body + 1).is("while") ? plain_ends_[body + 1] : body;
    }
    if (token.is("for") || token.is("while") || token.is("if") || token.is("switch")) {
      const std::size_t head = at(i + 1).is("(") ? i + 1 : i + 2;  // if constexpr
      if (!at(head).is("(")) return plain_ends_[i];
      const std::size_t body = end_at(partner_[head] + 1);
      return token.is("if") && at(body + 1).is("else") ? end_at(body + 2) : body;
    }
    return plain_ends_[i];
  }
  /// Notes how far the statement goes that `if`, `else` or a loop at a token has, where that has no braces.
  void guard(std::size_t i) {
    const std::size_t head = at(i + 1).is("(") ? i + 1 : i + 2;  // if constexpr
    const std::size_t body = tokens_[i].is("else") ? i + 1 : partner_at(head) + 1;
    if (!at(body).is("{")) guarded_until_ = std::max(guarded_until_, end_at(body));
  }
  [[nodiscard]] std::size_t partner_at(std::size_t i) const { return i < partner_.size() ? partner_[i] : i; }
  /// Ends the statements after a case label, if such are open, before token `i`.
  void end_section(std::vector<std::uint32_t>& open, std::size_t i) {
    if (sections_.empty() || open.back() != sections_.back()) return;
    constexpr std::array<std::string_view, 5> kLeaving{"break", "return", "continue", "goto", "throw"};
    Block& section = into_.blocks_[open.back()];
    section.lines.to = i > 0 ? tokens_[i - 1].line : section.lines.from;
    section.leaves = i > 0 && at(start_of_last(i)).is_any_of(kLeaving);
    sections_.pop_back();
    open.pop_back();
  }
  /// The first token of the statement that ends before token `i`, inside blocks that end there.
  [[nodiscard]] std::size_t start_of_last(std::size_t i) const {
    while (i > 0 && tokens_[i - 1].is("}")) --i;
    if (i == 0 || !tokens_[i - 1].is(";")) return i;
    for (--i; i > 0; --i) {
      const Token& before = tokens_[i - 1];
      if (before.is(";") || before.is("{") || before.is("}") || before.is(":")) break;
    }
    return i;
  }
  [[nodiscard]] Block block_at(std::size_t i, std::uint32_t around) const {
    const std::size_t end = partner_[i];
    Block block{{tokens_[i].line, end == i ? ~std::uint32_t(0) : tokens_[end].line}, {}, false, false, around};
    if (at(end + 1).is("else")) block.other = {at(end + 1).line, line_at(end_at(end + 2))};
    if (end < i + 2 || !tokens_[end - 1].is(";")) return block;
    const Token& last = at(start_of_last(end));
    block.returns = last.is("return") || last.is("throw");
    return block;
  }
  void mention(std::size_t i, std::uint32_t block) {
    const Token none{};
    const Token& before = i > 0 ? tokens_[i - 1] : none;
    const bool member = before.is(".") || before.is("->") || before.is("::");
    if (at(i + 1).is("(") && block != 0) {
      note_call(i, block);
      if (is_loop_by_macro(i)) {
        into_.loops_.push_back({tokens_[i].line, line_at(end_at(partner_[i + 1] + 1))});
        guard(i);
      }
    }
    if (member || at(i + 1).is("(") || at(i + 1).is("::")) return;
    const auto add = [&](Does does, std::string_view name) {
      const bool alone = does == Does::declare || (does == Does::change && begins_statement(i));
      const auto [value, sign] = alone ? given(i) : Value();
      const auto start = static_cast<std::uint32_t>(into_.words_.size());
      if (does != Does::take_address) note_words(i);
      into_.mentions_.push_back({std::string(name), tokens_[i].line, block, does, start,
                                 static_cast<std::uint32_t>(into_.words_.size()), i < guarded_until_, is_static(i),
                                 value, sign});
    };
    const std::string_view name = tokens_[i].text;
    if (is_declared(i)) return add(Does::declare, name);
    if (is_changed(i)) add(at(i + 1).is("[") ? Does::change_element : Does::change, name);
    if (is_changed_through(i)) add(Does::change, kThroughPointer);
    if (before.is("&") && !ends_operand(i - 1)) add(Does::take_address, name);
  }
  /// "FOR_EACH(one, list) {": a statement comes after what looks like a call.
  [[nodiscard]] bool is_loop_by_macro(std::size_t i) const {
    const Token& next = at(partner_[i + 1] + 1);
    return !tokens_[i].is("switch") && !tokens_[i].is("catch") && begins_statement(i) &&
           (next.is("{") || next.is_name());
  }
  [[nodiscard]] bool is_static(std::size_t i) const {
    constexpr std::array<std::string_view, 4> kBefore{";", "{", "}", "("};
    while (i > 0 && !tokens_[i - 1].is_any_of(kBefore)) {
      if (tokens_[--i].is("static")) return true;
    }
    return false;
  }
  [[nodiscard]] bool begins_statement(std::size_t i) const {
    constexpr std::array<std::string_view, 6> kBefore{";", "{", "}", ")", "else", "do"};
    return i > 0 &&
           (tokens_[i - 1].is_any_of(kBefore) || (tokens_[i - 1].is("(") && i > 1 && tokens_[i - 2].is("for")));
  }
  struct Value {
    std::string_view expression, sign;
  };
  /// What the statement gives that begins with a name.
  [[nodiscard]] Value given(std::size_t i) const {
    const std::string_view sign = at(i + 1).text;
    if (at(i + 1).is_step()) return {at(i + 2).is(";") ? "1" : "", sign.substr(1)};
    if (!at(i + 1).is_any_of(kChanges)) return {};
    const std::size_t end = end_of_plain(i + 2);
    return {at(end).is(";") || at(end).is(",") ? between(i + 2, end) : "", sign.substr(0, sign.size() - 1)};
  }
  /// The text of some tokens.
  [[nodiscard]] std::string_view between(std::size_t first, std::size_t end) const {
    if (first >= end) return {};
    const char* const begin = tokens_[first].text.data();
    const std::string_view last = tokens_[end - 1].text;
    return {begin, static_cast<std::size_t>(last.data() + last.size() - begin)};
  }
  /// Which parameters a macro changes, or takes the address of: "#define RAISE(x, by) ((x) += (by))".
  void note_macro(std::string_view directive) {
    std::vector<Token> words = Splitter(directive.substr(1)).tokens();
    std::erase_if(words, [](const Token& one) { return one.is("("); });
    if (words.size() < 2 || !words[0].is("define") || !directive.ends_with(words.back().text)) return;
    const std::string_view name = words[1].text;
    const char* const after = name.data() + name.size();
    const auto close = std::ranges::find_if(words, [](const Token& one) { return one.is(")"); });
    if (after == directive.data() + directive.size() || *after != '(' || close == words.end()) return;
    std::vector<std::string_view> parameters;
    for (auto one = words.begin() + 2; one != close; ++one) {
      if (!one->is(",")) parameters.push_back(one->text);
    }
    words.erase(words.begin(), close + 1);
    for (std::size_t i = 0; i < words.size(); ++i) {
      const auto parameter = std::ranges::find(parameters, words[i].text);
      if (parameter == parameters.end()) continue;
      std::size_t next = i + 1;
      while (next < words.size() && words[next].is(")")) ++next;
      const bool changes = (i > 0 && words[i - 1].is_step()) ||
                           (next < words.size() && (words[next].is_step() || words[next].is_any_of(kChanges)));
      const bool addresses = i > 0 && words[i - 1].is("&");
      if (changes || addresses)
        done_by_[name].push_back(
            {static_cast<std::size_t>(parameter - parameters.begin()), changes ? Does::change : Does::take_address});
    }
  }
  /// A call in a function, with its arguments.
  void note_call(std::size_t i, std::uint32_t block) {
    Call call{tokens_[i].line, tokens_[i].text, {}};
    const auto macro = done_by_.find(call.function);
    for (std::size_t from = i + 2; from < partner_[i + 1];) {
      for (const Done& one : macro != done_by_.end() ? std::span<const Done>(macro->second) : std::span<const Done>()) {
        if (one.parameter != call.passed.size() || !tokens_[from].is_name()) continue;
        into_.mentions_.push_back({.name = std::string(tokens_[from].text),
                                   .line = call.line,
                                   .block = block,
                                   .does = one.does,
                                   .guarded = from < guarded_until_,
                                   .is_static = false,
                                   .value = {},
                                   .sign = {}});
      }
      const std::size_t end = end_of_plain(from);
      call.passed.push_back(at(end).is(",") || end == partner_[i + 1] ? between(from, end) : "");
      from = end;
      while (from < partner_[i + 1] && !at(from).is(",")) from = std::max(from, partner_[from]) + 1;
      ++from;
    }
    into_.calls_.push_back(std::move(call));
  }
  /// Where an expression ends, or its part before what is neither a name, its address, a number nor an operator: a
  /// call, or what is read from memory.
  [[nodiscard]] std::size_t end_of_plain(std::size_t first) const {
    constexpr std::array<std::string_view, 12> kOthers{"[", "]", "{", "}", ".", "->", "::", "++", "--", "=", "\\", "#"};
    std::size_t i = first;
    for (int depth = 0; i < tokens_.size(); ++i) {
      const Token& token = tokens_[i];
      if (token.is(";") || (depth == 0 && token.is(")"))) break;
      const bool quoted = token.text.back() == '"' || token.text.back() == '\'';
      const bool called = token.is("(") && i > first && (tokens_[i - 1].is_name() || tokens_[i - 1].is(">"));
      const bool address = token.is("&") && i == first && at(i + 1).is_name();
      const bool led_to = !address && (token.is("*") || token.is("&")) && (i == first || !ends_operand(i));
      if (quoted || called || led_to || token.is(",") || token.is_any_of(kOthers) || token.is_any_of(kChanges)) break;
      depth += token.is("(") ? 1 : token.is(")") ? -1 : 0;
    }
    return i;
  }
  /// Names and numbers from a name to the end of its expression.
  void note_words(std::size_t i) {
    constexpr std::size_t kMost = 64;
    const std::size_t first = into_.words_.size();
    if (i > 0 && tokens_[i - 1].is_step()) into_.words_.push_back({.number = 1});
    unsigned depth = 0;
    for (++i; i < tokens_.size() && into_.words_.size() - first < kMost; ++i) {
      const Token& token = tokens_[i];
      const bool closes = token.is(")") || token.is("]") || token.is("}");
      if (token.is(";") || (depth == 0 && (closes || token.is(",")))) break;
      depth += token.is("(") || token.is("[") || token.is("{") ? 1U : 0U;
      depth -= closes ? 1U : 0U;
      if (token.is_step()) into_.words_.push_back({.number = 1});
      if (token.is_name()) into_.words_.push_back({.name = name_number(token.text)});
      if (const auto number = number_of(token.text)) into_.words_.push_back({.number = *number});
    }
  }
  /// "float level = 2", "gauge *level;", "const std::vector<int> &level = all": a statement, or the head of one, that
  /// begins with a type, or goes on after a comma; not a product or a comparison.
  [[nodiscard]] bool is_declared(std::size_t i) const {
    std::size_t type = i;
    while (type > 0 && tokens_[type - 1].is_any_of(std::array<std::string_view, 3>{"*", "&", "&&"})) --type;
    const bool sign = type != i;
    const std::size_t end = type;
    while (type > 0 && type > before_type(type)) type = before_type(type);
    const bool more = type == end && declares_more(type);
    if (type == end && !more) return false;
    const std::string_view next = at(i + 1).text;
    if (next != "=" && next != ";" && next != ":" && (sign || (next != "," && next != "[" && next != "{")))
      return false;
    constexpr std::array<std::string_view, 6> kBefore{";", "{", "}", "(", ",", ":"};
    return more || type == 0 || tokens_[type - 1].is_any_of(kBefore);
  }
  /// True after a comma in a declaration that began with a type: "int x = 2, *level = &x".
  [[nodiscard]] bool declares_more(std::size_t i) const {
    constexpr std::array<std::string_view, 4> kBefore{";", "{", "}", "("};
    if (i == 0 || !tokens_[i - 1].is(",")) return false;
    std::size_t start = i;
    while (start > 0 && !tokens_[start - 1].is_any_of(kBefore)) start = std::min(start - 1, partner_[start - 1]);
    return tokens_[start].is_name() && !tokens_[start].is_any_of(kStatementWords) &&
           (at(start + 1).is_name() || at(start + 1).is("*"));
  }
  /// Where a word of a type begins that ends before token `i`, with the arguments of a template; `i` when none does.
  [[nodiscard]] std::size_t before_type(std::size_t i) const {
    constexpr std::array<std::string_view, 4> kInside{"::", ",", "*", "&"};
    if (!tokens_[i - 1].is(">")) {
      const bool part =
          tokens_[i - 1].is("::") || (tokens_[i - 1].is_name() && !tokens_[i - 1].is_any_of(kStatementWords));
      return part ? i - 1 : i;
    }
    int open = 0;
    for (std::size_t at = i; at-- > 0;) {
      const Token& one = tokens_[at];
      if (one.is(">")) ++open;
      if (one.is("<") && --open == 0) return at;
      if (!one.is(">") && !one.is("<") && !is_word_part(one.text[0]) && !one.is_any_of(kInside)) break;
    }
    return i;
  }
  /// True when what stands before a sign can be its left operand.
  [[nodiscard]] bool ends_operand(std::size_t i) const {
    if (i == 0) return false;
    const Token& before = tokens_[i - 1];
    return is_word_part(before.text[0]) ? !before.is_any_of(kStatementWords) : before.is(")") || before.is("]");
  }
  /// `asm("incl %0" : "+r"(level))`
  [[nodiscard]] bool is_output_of_assembly(std::size_t i) const {
    if (i < 2 || !tokens_[i - 1].is("(")) return false;
    const std::string_view constraint = tokens_[i - 2].text;
    return constraint.starts_with("\"=") || constraint.starts_with("\"+");
  }
  [[nodiscard]] bool is_changed(std::size_t i) const {
    if (i > 0 && tokens_[i - 1].is_step()) return !at(i + 1).is("->");
    if (is_output_of_assembly(i)) return true;
    std::size_t after = i + 1;
    while (at(after).is("[") || at(after).is(".")) after = at(after).is("[") ? partner_[after] + 1 : after + 2;
    if (at(after).is_step()) return true;
    const bool through = i > 0 && tokens_[i - 1].is("*");
    return at(after).is_any_of(kChanges) && !through;
  }

  /// "*level = 2", "level->now += 3".
  [[nodiscard]] bool is_changed_through(std::size_t i) const {
    const bool starred = i > 0 && tokens_[i - 1].is("*") && !ends_operand(i - 1);
    std::size_t after = i + 1;
    const bool arrow = at(after).is("->");
    while (at(after).is("[") || at(after).is(".") || at(after).is("->"))
      after = at(after).is("[") ? partner_[after] + 1 : after + 2;
    const bool stepped = arrow && (at(after).is_step() || (i > 0 && tokens_[i - 1].is_step()));
    return stepped || ((starred || arrow) && at(after).is_any_of(kChanges));
  }
  std::uint32_t name_number(std::string_view name) {
    const auto [place, added] = names_.try_emplace(name, static_cast<std::uint32_t>(into_.names_.size()));
    if (added) into_.names_.emplace_back(name);
    return place->second;
  }

  Assignments& into_;
  std::vector<Token> tokens_;
  std::unordered_map<std::string_view, std::uint32_t> names_;
  /// What a macro does to one of its parameters, the first of which is 0.
  struct Done {
    std::size_t parameter = 0;
    Does does = Does::change;
  };
  std::unordered_map<std::string_view, std::vector<Done>> done_by_;  ///< by macro
  std::vector<std::size_t> partner_;
  std::vector<std::size_t> plain_ends_, ends_;
  std::vector<std::size_t> sections_;  ///< those that are open, by their place in blocks_
  std::size_t guarded_until_ = 0;      ///< tokens before this one may stand in a branch without braces
};

Assignments::Assignments(std::string text) : text_(std::move(text)) { Reader(*this, text_).read(); }

std::span<const Assignments::Mention> Assignments::mentions_of(std::string_view name, Lines within) const {
  const auto ends_before = [&](const Mention& one) {
    return one.name < name || (one.name == name && one.line < within.from);
  };
  const auto begins_in = [&](const Mention& one) { return one.name == name && one.line <= within.to; };
  const auto first = std::partition_point(mentions_.begin(), mentions_.end(), ends_before);
  return {first, std::partition_point(first, mentions_.end(), begins_in)};
}

/// False where a declaration of a block around the statement, after the variable's own, gives the name to another one.
bool Assignments::means(const Mention& one, std::uint32_t declared) const {
  const auto hides = [&](const Mention& other) {
    if (other.does != Does::declare) return false;
    std::uint32_t block = one.block;
    while (block != 0 && block != other.block) block = blocks_[block].around;
    return block == other.block;
  };
  return std::ranges::none_of(mentions_of(one.name, {declared + 1, one.line}), hides);
}

bool Assignments::leads_to(const Mention& one, std::uint32_t here) const {
  for (std::uint32_t block = one.block; block != 0; block = blocks_[block].around) {
    if (blocks_[block].lines.holds(here)) return true;
    if (blocks_[block].leaves && blocks_[blocks_[block].around].lines.holds(here)) return false;
    if (blocks_[block].returns || (blocks_[block].other.from != 0 && blocks_[block].other.holds(here))) return false;
  }
  return true;
}

/// The last line of the outermost block around a line that begins at a declaration or after it.
std::uint32_t Assignments::end_of_function(std::uint32_t declared, std::uint32_t here) const {
  const auto is_outermost = [&](const Block& block) { return block.lines.from >= declared && block.lines.holds(here); };
  const auto block = std::ranges::find_if(blocks_, is_outermost);
  return block != blocks_.end() ? block->lines.to : here;
}

bool Assignments::takes_address(std::string_view name, std::uint32_t declared, std::uint32_t here) const {
  return std::ranges::any_of(mentions_of(name, {declared, end_of_function(declared, here)}), [&](const Mention& one) {
    return one.does == Does::take_address && means(one, declared);
  });
}

bool Assignments::uses_itself(const Mention& one) const {
  const auto is_it = [&](const Word& word) { return word.name != Word::kNumber && names_[word.name] == one.name; };
  return !one.sign.empty() || std::any_of(words_.begin() + one.words, words_.begin() + one.words_end, is_it);
}

bool Assignments::is_static(std::string_view name, std::uint32_t declared) const {
  return std::ranges::any_of(mentions_of(name, {declared, declared}), &Mention::is_static);
}

bool Assignments::is_kept(std::string_view name, std::uint32_t declared, std::uint32_t from, Lines here) const {
  if (from > here.from || is_static(name, declared) || takes_address(name, declared, here.from)) return false;
  if (from == here.from) return true;
  const auto changes = [&](const Mention& one) {
    if (one.does == Does::take_address || one.line == declared) return false;
    const auto repeats = [&](const Lines& loop) {
      return loop.holds(from) && !loop.holds(here.from) && loop.holds(one.line);
    };
    return one.line == from || here.holds(one.line) || std::ranges::any_of(loops_, repeats);
  };
  return declared <= from && between(name, {declared, from, here.from}).empty() &&
         std::ranges::none_of(mentions_of(name, {declared, end_of_function(declared, here.from)}), changes);
}

std::optional<Assignments::Way> Assignments::way_to(std::string_view name, std::uint32_t declared, bool parameter,
                                                    Lines here) const {
  const std::uint32_t end = end_of_function(declared, here.from);
  const auto is_in = [&](std::uint32_t line) { return declared <= line && line <= end; };
  if (std::ranges::any_of(unfollowed_, is_in)) return std::nullopt;
  if (is_static(name, declared)) return std::nullopt;
  std::vector<Mention> found;
  std::ranges::copy_if(mentions_of(name, {declared, here.to}), std::back_inserter(found), [&](const Mention& one) {
    const bool its = one.does == Does::declare ? one.line == declared && !parameter : means(one, declared);
    return its && leads_to(one, here.from);
  });
  const auto is_late = [&](const Mention& one) { return one.line >= here.from || one.does == Does::change_element; };
  if (std::ranges::any_of(found, is_late)) return std::nullopt;
  if (takes_address(name, declared, here.from))
    return Way{.mixed = found.empty() ? declared : found.back().line, .addressed = true};
  const auto is_certain = [&](const Mention& one) { return !one.guarded && blocks_[one.block].lines.holds(here.from); };
  const auto last = std::find_if(found.rbegin(), found.rend(), [&](const Mention& one) {
    return is_certain(one) && !uses_itself(one) && (one.does == Does::change || !one.value.empty());
  });
  Way way{.from_start = last == found.rend()};
  const auto first = last != found.rend() ? last.base() - 1 : found.begin();
  const auto adds_other = [&](const Mention& one) {
    const auto words = std::span(words_).subspan(one.words, one.words_end - one.words);
    const bool names = std::ranges::any_of(words, [](const Word& word) { return word.name != Word::kNumber; });
    const bool is_first = !way.from_start && one.line == first->line && one.value.data() == first->value.data();
    return (one.sign.empty() || names) && !is_first && one.does != Does::declare && means(one, declared);
  };
  const std::uint32_t begin = way.from_start ? declared : first->line;
  const bool counted = !way.from_start && std::ranges::none_of(mentions_of(name, {begin, end}), adds_other);
  const std::uint32_t since = way.from_start ? declared : last->line;
  const auto changes = between(name, {declared, since, here.from});
  const auto is_repeated = [&](const Change& one) {
    return std::ranges::any_of(
        loops_, [&](const Lines& loop) { return loop.holds(here.from) && loop.from > since && loop.holds(one.line); });
  };
  const bool repeated = std::ranges::any_of(changes, is_repeated);
  const Way mixed{.mixed = found.empty() ? declared : found.back().line,
                  .counted = counted,
                  .repeated = repeated || std::ranges::any_of(changes, &Change::in_loop_before)};
  if (repeated || (way.from_start && !parameter)) return mixed;
  for (auto one = first; one != found.end(); ++one) {
    const auto repeats = [&](const Lines& loop) { return loop.holds(one->line) && !loop.holds(here.from); };
    const bool itself = uses_itself(*one);
    const bool alone = !way.from_start && first + 1 == found.end();
    if (one->value.empty() && alone) return std::nullopt;
    if (one->value.empty() || (itself && std::ranges::any_of(loops_, repeats))) return mixed;
    way.steps.push_back({one->line, one->value, one->sign, is_certain(*one), itself});
  }
  return way;
}

std::optional<Assignments::Lines> Assignments::counting_loop(std::string_view name, std::uint32_t declared,
                                                             std::uint32_t here) const {
  std::optional<Lines> innermost;
  for (const Lines& loop : loops_) {
    const auto changes = [&](const Mention& one) { return one.does == Does::change && means(one, declared); };
    const bool counts = loop.holds(here) && std::ranges::any_of(mentions_of(name, {loop.from, loop.from}), changes);
    if (counts && (!innermost || loop.from > innermost->from)) innermost = loop;
  }
  return innermost;
}

std::vector<Assignments::Pass> Assignments::changed_in_passes(std::string_view name, std::uint32_t declared,
                                                              std::uint32_t here) const {
  std::vector<Pass> passes;
  for (const Lines& loop : loops_) {
    if (!loop.holds(here) || loop.from < declared) continue;
    const auto changes = [&](const Mention& one) {
      const bool always = one.line >= here && !one.guarded && blocks_[one.block].lines.holds(here);
      return one.does == Does::change && (always || one.line == loop.from) && means(one, declared);
    };
    const auto mentions = mentions_of(name, loop);
    const auto found = std::ranges::find_if(mentions, changes);
    if (found != mentions.end()) passes.push_back({loop, found->line});
  }
  return passes;
}

std::vector<std::string_view> Assignments::passed_on(std::uint32_t line, std::string_view function) const {
  const auto first = std::ranges::lower_bound(calls_, line, {}, &Call::line);
  const auto end = std::ranges::upper_bound(first, calls_.end(), line, {}, &Call::line);
  const auto is_it = [&](const Call& one) { return one.function == function; };
  const auto found = std::find_if(first, end, is_it);
  if (found == end || std::any_of(found + 1, end, is_it)) return {};
  return found->passed;
}

std::optional<Assignments::Two> Assignments::two_in(std::string_view name, std::uint32_t declared, std::uint32_t first,
                                                    std::uint32_t end, bool pointers) const {
  if (end <= first) return std::nullopt;
  std::vector<Mention> changes;
  const Lines lines{std::max(first, declared), end - 1};
  std::ranges::copy_if(mentions_of(name, lines), std::back_inserter(changes), [&](const Mention& one) {
    const bool initialised = one.does == Does::declare && one.line == declared && one.words != one.words_end;
    return initialised || (one.does == Does::change && means(one, declared));
  });
  if (pointers) std::ranges::copy(mentions_of(kThroughPointer, lines), std::back_inserter(changes));
  std::ranges::stable_sort(changes, {}, &Mention::line);
  for (std::size_t i = 0; i + 1 < changes.size(); ++i) {
    if (leads_to(changes[i], changes[i + 1].line)) return Two{changes[i].line, changes[i + 1].line};
  }
  return std::nullopt;
}

Assignments::Words Assignments::words_for(std::string_view name, std::uint32_t declared, std::uint32_t here) const {
  Words result;
  for (const Mention& one : mentions_of(name, {declared, here})) {
    const bool gives = one.does == Does::change || (one.does == Does::declare && one.line == declared);
    if (!gives || !means(one, declared) || !leads_to(one, here)) continue;
    for (std::uint32_t i = one.words; i < one.words_end; ++i) {
      const Word& word = words_[i];
      if (word.name == Word::kNumber) {
        result.numbers.push_back(word.number);
      } else {
        result.names.push_back(names_[word.name]);
      }
    }
  }
  return result;
}

std::vector<std::uint64_t> Assignments::numbers_on(std::uint32_t line) const {
  std::vector<std::uint64_t> result;
  for (const Mention& one : mentions_) {
    if (one.line != line) continue;
    for (std::uint32_t i = one.words; i < one.words_end; ++i) {
      if (words_[i].name == Word::kNumber) result.push_back(words_[i].number);
    }
  }
  return result;
}

std::vector<Assignments::Change> Assignments::through_pointers(const Stretch& stretch) const {
  return between(kThroughPointer, stretch);
}

std::vector<Assignments::Change> Assignments::between(std::string_view name, const Stretch& stretch) const {
  // Loops that the value was got outside of: what they change anywhere may have come before.
  std::vector<Lines> around;
  std::ranges::copy_if(loops_, std::back_inserter(around), [&](const Lines& loop) {
    const bool of_loop = stretch.from == 0 && loop.from == stretch.declared;  // its head declares the variable
    return loop.holds(stretch.here) && (of_loop || loop.from > std::max(stretch.from, stretch.declared));
  });
  std::uint32_t last = stretch.here;
  for (const Lines& loop : around) last = std::max(last, loop.to);
  std::vector<Change> changes;
  for (const Mention& one : mentions_of(name, {stretch.declared, last})) {
    const bool element = one.does == Does::change_element;
    if (one.does != Does::change && !element) continue;
    const auto holds_it = [&](const Lines& loop) { return loop.holds(one.line); };
    const auto stands_before = [&](const Lines& loop) { return loop.holds(one.line) && !loop.holds(stretch.here); };
    const bool comes_between =
        std::max(stretch.from, stretch.declared) < one.line && one.line < stretch.here && leads_to(one, stretch.here);
    if ((comes_between || std::ranges::any_of(around, holds_it)) && means(one, stretch.declared))
      changes.push_back({one.line, element, std::ranges::any_of(loops_, stands_before),
                         comes_between && !one.guarded && blocks_[one.block].lines.holds(stretch.here)});
  }
  return changes;
}

}  // namespace deeptrace::program
