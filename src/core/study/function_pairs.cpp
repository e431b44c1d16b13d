#include "study/function_pairs.h"

#include <algorithm>
#include <map>
#include <unordered_map>
#include <utility>

#include "program/instances.h"

namespace deeptrace::study {
namespace {

using program::Function;
using Functions = std::vector<const Function*>;

bool is_named(const Function& function) { return !function.symbol().empty(); }

class Pairing {
 public:
  Pairing(const Functions& a, const Functions& b) {
    for (const bool second : {false, true}) {
      std::map<std::string, int> seen;
      for (const Function* function : second ? b : a) {
        const auto [place, added] = by_name_.try_emplace(key_of(*function, second, seen), pairs_.size());
        if (added) pairs_.emplace_back();
        (second ? pairs_[place->second].b : pairs_[place->second].a) = function;
      }
    }
  }

  void by_content(const ContentOf& content_a, const ContentOf& content_b) {
    std::unordered_map<std::string, std::vector<std::size_t>> of_a, of_b;
    const bool unnamed = std::ranges::any_of(pairs_, [](const FunctionPair& pair) {
      return (pair.a == nullptr) != (pair.b == nullptr) && !is_named(pair.a != nullptr ? *pair.a : *pair.b);
    });
    if (!unnamed) return;
    for (std::size_t i = 0; i < pairs_.size(); ++i) {
      const FunctionPair& pair = pairs_[i];
      if (pair.b == nullptr) of_a[content_a(*pair.a)].push_back(i);
      if (pair.a == nullptr) of_b[content_b(*pair.b)].push_back(i);
    }
    for (const auto& [content, in_a] : of_a) {
      const auto in_b = of_b.find(content);
      if (in_b == of_b.end() || in_a.size() != in_b->second.size() || content.empty()) continue;
      // Several that do the same are as good as each other: in order.
      for (std::size_t i = 0; i < in_a.size(); ++i) join(in_a[i], in_b->second[i]);
    }
    std::erase_if(pairs_, [](const FunctionPair& pair) { return pair.a == nullptr && pair.b == nullptr; });
  }

  void between_pairs() {
    std::vector<std::size_t> in_a, in_b;
    for (std::size_t i = 0; i < pairs_.size(); ++i) {
      if (pairs_[i].a != nullptr) in_a.push_back(i);
      if (pairs_[i].b != nullptr) in_b.push_back(i);
    }
    std::ranges::sort(in_a, {}, [this](std::size_t i) { return pairs_[i].a->address; });
    std::ranges::sort(in_b, {}, [this](std::size_t i) { return pairs_[i].b->address; });
    const auto paired = [this](std::size_t i) { return pairs_[i].a != nullptr && pairs_[i].b != nullptr; };
    std::map<std::size_t, std::size_t> place_in_b;
    for (std::size_t k = 0; k < in_b.size(); ++k) place_in_b[in_b[k]] = k;
    // From one pair, or the beginning, to the next, or the end.
    for (std::size_t i = 0, k = 0; i < in_a.size();) {
      std::size_t next = i;
      while (next < in_a.size() && !paired(in_a[next])) ++next;
      const std::size_t left = next - i, next_in_b = next < in_a.size() ? place_in_b[in_a[next]] : in_b.size();
      if (next_in_b == k + left) {
        for (std::size_t j = 0; j < left; ++j) join(in_a[i + j], in_b[k + j]);
      }
      i = next + 1;
      k = next_in_b + 1;
    }
    std::erase_if(pairs_, [](const FunctionPair& pair) { return pair.a == nullptr && pair.b == nullptr; });
  }

  /// What one build has as a function of its own may be a clone in the other.
  void by_origin() {
    std::map<std::string_view, std::pair<std::vector<std::size_t>, std::vector<std::size_t>>> alone;
    for (std::size_t i = 0; i < pairs_.size(); ++i) {
      const FunctionPair& pair = pairs_[i];
      if ((pair.a == nullptr) == (pair.b == nullptr)) continue;
      const std::string_view symbol = (pair.a != nullptr ? pair.a : pair.b)->symbol();
      const std::string_view origin = program::origin_of_clone(symbol);
      auto& [in_a, in_b] = alone[origin.empty() ? symbol : origin];
      (pair.a != nullptr ? in_a : in_b).push_back(i);
    }
    for (const auto& [name, sides] : alone) {
      const auto& [in_a, in_b] = sides;
      if (name.empty() || in_a.size() != 1 || in_b.size() != 1) continue;
      pairs_[in_a.front()].b = std::exchange(pairs_[in_b.front()].b, nullptr);
    }
    std::erase_if(pairs_, [](const FunctionPair& pair) { return pair.a == nullptr && pair.b == nullptr; });
  }

  std::vector<FunctionPair> take() { return std::move(pairs_); }

 private:
  /// Functions without a name are called after their address, which says nothing.
  static std::string key_of(const Function& function, bool second, std::map<std::string, int>& seen) {
    if (!is_named(function) && function.origin == Function::Origin::recovered)
      return (second ? "\nb" : "\na") + std::to_string(function.address);
    const std::string name = is_named(function) ? std::string(function.symbol()) : function.name.str();
    const int number = seen[name]++;
    return number == 0 ? name : name + "\n" + std::to_string(number);
  }

  void join(std::size_t a, std::size_t b) {
    if (is_named(*pairs_[a].a) && is_named(*pairs_[b].b)) return;  // two names are two functions
    pairs_[a].b = pairs_[b].b;
    pairs_[a].by_content = true;
    pairs_[b].b = nullptr;
  }

  std::vector<FunctionPair> pairs_;
  std::unordered_map<std::string, std::size_t> by_name_;
};

}  // namespace

std::vector<FunctionPair> pair_functions(const Functions& a, const Functions& b, const ContentOf& content_a,
                                         const ContentOf& content_b) {
  Pairing pairing(a, b);
  pairing.by_origin();
  pairing.by_content(content_a, content_b);
  pairing.between_pairs();
  return pairing.take();
}

}  // namespace deeptrace::study
