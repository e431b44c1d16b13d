#include "report/fold.h"

#include <algorithm>

namespace deeptrace::report {
namespace {

constexpr std::size_t kLongestTurn = 512;  // entries; a longer body is not recognised as a loop
constexpr std::size_t kWindow = 4 * kLongestTurn;

std::uint64_t combined(std::uint64_t a, std::uint64_t b) {
  return (a ^ (b + 0x9e3779b97f4a7c15 + (a << 6) + (a >> 2))) * 0xff51afd7ed558ccd;
}

std::uint64_t key_of(const std::vector<FoldEntry>& body) {
  std::uint64_t key = 1;
  for (const FoldEntry& entry : body) key = combined(key, entry.key);
  return key | 1;
}

std::uint64_t first_number(const FoldEntry& entry) { return entry.turns != 0 ? entry.first_number : entry.number; }
std::uint64_t last_number(const FoldEntry& entry) { return entry.turns != 0 ? entry.last_number : entry.number; }

void add_variation(FoldEntry& loop, std::size_t at, const std::string& place, const FoldValue& value) {
  auto found =
      std::ranges::find_if(loop.variations, [&](const auto& one) { return one.entry == at && one.what == value.what; });
  if (found == loop.variations.end()) {
    found = loop.variations.insert(found, {.entry = at, .place = place, .what = value.what, .samples = {}, .last = {}});
    found->varied = loop.turns != 0;  // turns before had none
  }
  if (found->last) {
    found->moved |= found->last->where != value.where;
    found->varied |= found->moved || found->last->value != value.value;
  }
  found->shown |= value.shown;
  found->last = value;
  if (loop.turns >= Folder::kSamples) return;
  found->samples.resize(loop.turns + 1);
  found->samples.back() = value;
}

/// Takes one turn into account.
void add_turn(FoldEntry& loop, const std::vector<FoldEntry>& turn) {
  for (std::size_t i = 0; i < turn.size(); ++i) {
    const FoldEntry& entry = turn[i];
    if (entry.turns != 0) add_variation(loop, i, entry.place, {"iterations", std::to_string(entry.turns), {}});
    for (const FoldValue& value : entry.values) add_variation(loop, i, entry.place, value);
  }
  ++loop.turns;
  loop.last_number = last_number(turn.back());
}

}  // namespace

void Folder::add(FoldEntry entry) {
  entries_.push_back(std::move(entry));
  while (join_loop() || make_loop()) {
  }
  if (entries_.size() <= kWindow) return;
  const std::size_t old = entries_.size() - 2 * kLongestTurn;
  for (std::size_t i = 0; i < old; ++i) emit_(entries_[i]);
  entries_.erase(entries_.begin(), entries_.begin() + static_cast<std::ptrdiff_t>(old));
}

void Folder::finish() {
  for (const FoldEntry& entry : entries_) emit_(entry);
  entries_.clear();
}

/// The last entries are one more turn of the loop before them.
bool Folder::join_loop() {
  const std::size_t size = entries_.size();
  for (std::size_t length = 1; length < size && length <= kLongestTurn; ++length) {
    FoldEntry& loop = entries_[size - 1 - length];
    if (loop.turns == 0 || loop.last.size() != length) continue;
    const auto tail = entries_.end() - static_cast<std::ptrdiff_t>(length);
    const bool same = std::equal(tail, entries_.end(), loop.last.begin(),
                                 [](const FoldEntry& a, const FoldEntry& b) { return a.key == b.key; });
    if (!same) continue;
    loop.last.assign(std::make_move_iterator(tail), std::make_move_iterator(entries_.end()));
    add_turn(loop, loop.last);
    entries_.resize(size - length);
    return true;
  }
  return false;
}

/// The last entries are a second turn of those right before them.
bool Folder::make_loop() {
  const std::size_t size = entries_.size();
  for (std::size_t length = 1; 2 * length <= size && length <= kLongestTurn; ++length) {
    if (entries_[size - 1 - length].key != entries_[size - 1].key) continue;
    const auto second = entries_.end() - static_cast<std::ptrdiff_t>(length);
    const auto first = second - static_cast<std::ptrdiff_t>(length);
    if (!std::equal(first, second, second, [](const FoldEntry& a, const FoldEntry& b) { return a.key == b.key; }))
      continue;
    FoldEntry loop;
    loop.first.assign(std::make_move_iterator(first), std::make_move_iterator(second));
    loop.last.assign(std::make_move_iterator(second), std::make_move_iterator(entries_.end()));
    loop.key = key_of(loop.first);
    loop.place = loop.first.front().place;
    loop.first_number = first_number(loop.first.front());
    add_turn(loop, loop.first);
    add_turn(loop, loop.last);
    entries_.resize(size - 2 * length);
    entries_.push_back(std::move(loop));
    return true;
  }
  return false;
}

}  // namespace deeptrace::report
