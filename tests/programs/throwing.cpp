// Exceptions through library code, and threads.
#include <algorithm>
#include <cstdio>
#include <stdexcept>
#include <thread>
#include <vector>

static int checked(int level) {
  if (level > 2) throw std::runtime_error("too high");
  return level;
}

[[gnu::noinline]] static int try_all(const std::vector<int>& levels) {
  int caught = 0;
  for (const int level : levels) {
    try {
      checked(level);
    } catch (const std::exception&) {
      ++caught;
    }
  }
  try {
    (void)levels.at(99);
  } catch (const std::out_of_range&) {
    caught += 10;
  }
  return caught;
}

int main() {
  std::vector<int> levels = {1, 2, 3, 4};
  std::vector<long> sums(3);
  std::vector<std::thread> threads;
  for (long& sum : sums) {
    threads.emplace_back([&sum, &levels] {
      for (int i = 0; i < 2000; ++i) sum += checked(levels[static_cast<unsigned>(i) % 2]);
    });
  }
  for (std::thread& thread : threads) thread.join();
  const int caught = try_all(levels);
  std::printf("caught %d, sums %ld %ld %ld\n", caught, sums[0], sums[1], sums[2]);
  return caught;
}
