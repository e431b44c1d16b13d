#include "control/halt_rule.h"

#include <algorithm>
#include <cctype>
#include <utility>
#include <vector>

#include "base/number.h"
#include "base/outside.h"

namespace deeptrace::control {
namespace {

using Kind = HaltRule::Kind;

/// Words outside of quotes and brackets; what stands in them belongs to the word around.
std::vector<Part> words_of(std::string_view text) {
  std::vector<Part> words =
      parts_between(text, [](char c) { return std::isspace(static_cast<unsigned char>(c)) != 0; });
  std::erase_if(words, [](const Part& word) { return word.text.empty(); });
  return words;
}

/// "write, access, … or load".
std::string events() {
  std::string result;
  for (const HaltKind& kind : kHaltKinds) {
    if (!kind.words.starts_with("on ")) continue;
    const bool last = &kind == &kHaltKinds.back();
    result += (result.empty() ? "" : last ? " or " : ", ") + std::string(kind.words.substr(3));
  }
  return result;
}

class Reader {
 public:
  explicit Reader(std::string_view text) : text_(text), words_(words_of(text)) {}

  std::optional<HaltRule> read() {
    HaltRule rule;
    const std::size_t words = here() == "on" ? 2 : 1;
    const std::string kind = words == 2 ? "on " + std::string(here(1)) : std::string(here());
    const auto found = std::ranges::find(kHaltKinds, kind, &HaltKind::words);
    if (found == kHaltKinds.end()) {
      next_ += words - 1;
      return fail(words == 2 ? events() : "`at LOCATION` or `on EVENT …`");
    }
    next_ += words;
    rule.kind = static_cast<Kind>(found - kHaltKinds.begin());
    // A function may be called like a modifier that is one word.
    const bool is_name = !found->subject.empty() && (here() == "once" || here() == "later");
    rule.what = phrase(is_name);
    if (rule.what.empty() && !found->subject.empty())
      return fail(rule.kind == Kind::at ? "a location" : "what it is to stop on");
    if (!rule.what.empty() && found->subject.empty()) return fail("nothing after `" + kind + "`, or a condition");
    while (next_ < words_.size()) {
      if (!modifier(rule)) return std::nullopt;
    }
    return rule;
  }

  [[nodiscard]] std::size_t place() const { return place_; }
  [[nodiscard]] const std::string& expected() const { return expected_; }

 private:
  [[nodiscard]] std::string_view here(std::size_t ahead = 0) const {
    return next_ + ahead < words_.size() ? words_[next_ + ahead].text : std::string_view{};
  }
  std::nullopt_t fail(std::string expected) {
    if (expected_.empty()) {
      expected_ = std::move(expected);
      place_ = next_ < words_.size() ? words_[next_].at : text_.size();
    }
    return std::nullopt;
  }
  [[nodiscard]] bool at_modifier() const {
    return here() == "when" || here() == "once" || here() == "later" || (here() == "from" && here(1) == "hit") ||
           (here() == "every" && number_in(here(1))) ||
           (here() == "for" && (here(1) == "thread" || (here(1) == "all" && here(2) == "threads")));
  }
  /// The text up to the next modifier.
  std::string phrase(bool takes_first = false) {
    if (next_ >= words_.size() || (at_modifier() && !takes_first)) return {};
    const std::size_t start = words_[next_].at;
    std::size_t end = start;
    while (next_ < words_.size() && (!at_modifier() || std::exchange(takes_first, false))) {
      end = words_[next_].at + words_[next_].text.size();
      ++next_;
    }
    return std::string(text_.substr(start, end - start));
  }
  bool number(std::uint64_t& into, const char* expected) {
    const auto value = number_in(here());
    if (!value || *value == 0) return fail(expected), false;
    into = *value;
    ++next_;
    return true;
  }
  bool modifier(HaltRule& rule) {
    const std::string_view word = here();
    if (word == "once" || word == "later") {
      (word == "once" ? rule.once : rule.later) = true;
      ++next_;
      return true;
    }
    if (word == "when") {
      ++next_;
      rule.condition = phrase();
      if (rule.condition.empty()) return fail("a condition"), false;
      return true;
    }
    if (word == "for" && here(1) == "all") {
      rule.all_threads = true;
      next_ += 3;
      return true;
    }
    if (word == "from" || word == "for") {
      next_ += 2;
      if (word == "from") return number(rule.from, "a number of hits, from 1 up");
      std::uint64_t thread = 0;
      if (!number(thread, "a thread's number")) return false;
      rule.thread = thread;
      return true;
    }
    if (word == "every") {
      ++next_;
      return number(rule.every, "a number of hits, from 1 up");
    }
    return fail("from hit N, every N, when EXPR, for thread N, for all threads, once or later"), false;
  }

  std::string_view text_;
  std::vector<Part> words_;
  std::size_t next_ = 0, place_ = 0;
  std::string expected_;
};

}  // namespace

std::string HaltRule::text() const {
  std::string result = std::string(how().words) + (what.empty() ? "" : " ") + what;
  if (from != 1) result += " from hit " + std::to_string(from);
  if (every != 1) result += " every " + std::to_string(every);
  if (!condition.empty()) result += " when " + condition;
  if (thread) result += " for thread " + std::to_string(*thread);
  if (all_threads) result += " for all threads";
  if (once) result += " once";
  if (later) result += " later";
  return result;
}

Result<HaltRule> parse_halt_rule(std::string_view text, std::size_t* at) {
  Reader reader(text);
  if (auto rule = reader.read()) return *rule;
  if (at != nullptr) *at = reader.place();
  return Error{Fault::usage, std::string(text) + ": at character " + std::to_string(reader.place() + 1) +
                                 ": expected " + reader.expected()};
}

}  // namespace deeptrace::control
