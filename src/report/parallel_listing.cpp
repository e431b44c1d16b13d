#include "report/parallel_listing.h"

#include <condition_variable>
#include <map>
#include <memory>
#include <mutex>
#include <thread>
#include <vector>

#include "report/listing.h"

namespace deeptrace::report {
namespace {

constexpr std::uint64_t kWorthIt = 1 << 20;  ///< bytes of code
constexpr std::uint64_t kBatch = 16 << 10;   ///< bytes of code at least; its text fits the processor's caches
constexpr std::size_t kMostWaiting = 8;      ///< batches

class ParallelListing {
 public:
  ParallelListing(const study::ListingPlan& plan, const Style& style) : plan_(plan), style_(style) {}

  void run(Output& out) {
    {
      program::SourceText sources;
      listing_text(out, style_, &sources)->begin(plan_.file());
    }
    std::vector<std::thread> threads;
    for (unsigned i = 1; i < std::thread::hardware_concurrency(); ++i) threads.emplace_back([&] { work(out); });
    work(out);
    for (std::thread& thread : threads) thread.join();
  }

 private:
  /// Takes batches and renders them; whoever has the next one to be written writes it, and what waits after it.
  void work(Output& out) {
    study::PieceLister lister(plan_);
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
      std::unique_ptr<Output> text = empty_one();
      lock.unlock();
      const auto sink = listing_text(*text, style_, &sources);
      for (std::size_t piece = from; piece < to; ++piece) lister.list(plan_.pieces[piece], *sink);
      lock.lock();
      done_.emplace(batch, std::move(text));
      write(out, lock);
    }
  }

  std::unique_ptr<Output> empty_one() {
    if (free_.empty()) return std::make_unique<Output>();
    std::unique_ptr<Output> text = std::move(free_.back());
    free_.pop_back();
    return text;
  }

  void write(Output& out, std::unique_lock<std::mutex>& lock) {
    while (!writing_ && !done_.empty() && done_.begin()->first == written_) {
      writing_ = true;
      std::unique_ptr<Output> text = std::move(done_.begin()->second);
      done_.erase(done_.begin());
      lock.unlock();
      out.add(text->text());
      text->clear();
      lock.lock();
      writing_ = false;
      free_.push_back(std::move(text));
      if (taken_ == written_++ + kMostWaiting) changed_.notify_all();
    }
  }

  const study::ListingPlan& plan_;
  const Style& style_;
  std::mutex mutex_;
  std::condition_variable changed_;
  std::map<std::size_t, std::unique_ptr<Output>> done_;  ///< batches that wait to be written, by number
  std::vector<std::unique_ptr<Output>> free_;            ///< room for more
  std::size_t next_piece_ = 0;                           ///< that nobody has taken
  std::size_t taken_ = 0, written_ = 0;                  ///< batches
  bool writing_ = false;                                 ///< somebody is
};

}  // namespace

bool lists_in_parallel(const study::ListingPlan& plan) {
  std::uint64_t bytes = 0;
  for (const study::ListingPiece& piece : plan.pieces) bytes += piece.range.to - piece.range.from;
  // Debug information is read where it is asked for, into caches that one thread may use.
  return bytes >= kWorthIt && plan.program->lines().empty() && plan.program->debug().empty();
}

void list_in_parallel(const study::ListingPlan& plan, Output& out, const Style& style) {
  ParallelListing(plan, style).run(out);
}

}  // namespace deeptrace::report
