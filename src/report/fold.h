// Folding of repeated turns: a sequence of entries in which neighbouring repetitions of the same places become one
// entry with its first turn, its last turn, how many there were, and what varied.
//
// Entries come one at a time. Two neighbouring runs of the same keys become a loop; a further run of the same keys
// joins it; a loop counts as one key in the runs around it, so loops in loops fold from the inside out.
#pragma once

#include <cstdint>
#include <functional>
#include <optional>
#include <string>
#include <vector>

namespace deeptrace::report {

/// One changing thing of an entry: what it is, the value it got, and where that is when it can move from turn to turn.
struct FoldValue {
  std::string what;
  std::string value;
  std::string where;
  bool shown = true;  ///< the entry's lines have it
  bool operator==(const FoldValue&) const = default;
};

struct FoldEntry {
  std::uint64_t key = 0;  ///< equal for entries of the same place
  // A single entry:
  std::uint64_t number = 0;
  std::string place;               ///< for "what varied"
  std::vector<std::string> lines;  ///< as they are printed
  std::vector<FoldValue> values;
  // A loop (when `turns` is not 0):
  std::uint64_t turns = 0;
  std::uint64_t first_number = 0, last_number = 0;
  std::vector<FoldEntry> first, last;
  /// A thing and its values in the first few turns and the last; nothing where a turn has none.
  struct Variation {
    std::size_t entry = 0;  ///< index in the turn
    std::string place, what;
    std::vector<std::optional<FoldValue>> samples;
    std::optional<FoldValue> last;
    bool moved = false;  ///< `where` differed
    bool varied = false;
    bool shown = false;  ///< some turn's lines have it
  };
  std::vector<Variation> variations;
};

class Folder {
 public:
  static constexpr std::size_t kSamples = 4;  ///< turns of which values are kept, beside the last

  /// `emit` receives entries that can no longer change.
  explicit Folder(std::function<void(const FoldEntry&)> emit) : emit_(std::move(emit)) {}

  void add(FoldEntry entry);
  /// Emits what is left.
  void finish();

 private:
  bool join_loop();
  bool make_loop();

  std::function<void(const FoldEntry&)> emit_;
  std::vector<FoldEntry> entries_;
};

}  // namespace deeptrace::report
