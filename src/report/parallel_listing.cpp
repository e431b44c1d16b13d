#include "report/parallel_listing.h"

#include <condition_variable>
#include <map>
#include <mutex>
#include <thread>

#include "report/listing.h"

namespace deeptrace::report {
namespace {

constexpr std::uint64_t kWorthIt = 1 << 20;    ///< bytes of code
constexpr std::uint64_t kBatch = 64 << 10;     ///< bytes of code at least
constexpr std::size_t kTextOfBatch = 2 << 20;  ///< bytes of text, about
constexpr std::size_t kMostWaiting = 8;        ///< batches

class ParallelListing {
 public:
  ParallelListing(const session::ListingPlan& plan, const Style& style) : plan_(plan), style_(style) {}

  void run(Output& out) {
    {
      program::SourceText sources;
      listing_text(out, style_, &sources)->begin(plan_.file());
    }
    std::vector<std::thread> threads;
    for (unsigned i = 0; i < std::max(1U, std::thread::hardware_concurrency()); ++i)
      threads.emplace_back([this] { work(); });
    for (std::size_t batch = 0;; ++batch) {
      std::unique_lock lock(mutex_);
      changed_.wait(lock,
                    [&] { return done_.count(batch) != 0 || (working_ == 0 && next_piece_ == plan_.pieces.size()); });
      const auto found = done_.find(batch);
      if (found == done_.end()) break;
      const std::string text = std::move(found->second);
      done_.erase(found);
      ++written_;
      lock.unlock();
      changed_.notify_all();
      out.add(text);
    }
    for (std::thread& thread : threads) thread.join();
  }

 private:
  void work() {
    session::PieceLister lister(plan_);
    program::SourceText sources;
    std::unique_lock lock(mutex_);
    while (true) {
      changed_.wait(lock, [&] { return taken_ < written_ + kMostWaiting || next_piece_ == plan_.pieces.size(); });
      if (next_piece_ == plan_.pieces.size()) return;
      const std::size_t batch = taken_++;
      const std::size_t from = next_piece_;
      for (std::uint64_t bytes = 0; bytes < kBatch && next_piece_ < plan_.pieces.size(); ++next_piece_)
        bytes += plan_.pieces[next_piece_].range.to - plan_.pieces[next_piece_].range.from;
      const std::size_t to = next_piece_;
      ++working_;
      lock.unlock();
      std::string text;
      text.reserve(kTextOfBatch);
      {
        Output out(text);
        const auto sink = listing_text(out, style_, &sources);
        for (std::size_t piece = from; piece < to; ++piece) lister.list(plan_.pieces[piece], *sink);
      }
      lock.lock();
      --working_;
      done_.emplace(batch, std::move(text));
      changed_.notify_all();
    }
  }

  const session::ListingPlan& plan_;
  const Style& style_;
  std::mutex mutex_;
  std::condition_variable changed_;
  std::map<std::size_t, std::string> done_;  ///< batches that wait to be written, by number
  std::size_t next_piece_ = 0;               ///< that nobody has taken
  std::size_t taken_ = 0, written_ = 0;      ///< batches
  std::size_t working_ = 0;                  ///< threads with a batch
};

}  // namespace

bool lists_in_parallel(const session::ListingPlan& plan) {
  std::uint64_t bytes = 0;
  for (const session::ListingPiece& piece : plan.pieces) bytes += piece.range.to - piece.range.from;
  return bytes >= kWorthIt && plan.program->lines().empty();
}

void list_in_parallel(const session::ListingPlan& plan, Output& out, const Style& style) {
  ParallelListing(plan, style).run(out);
}

}  // namespace deeptrace::report
