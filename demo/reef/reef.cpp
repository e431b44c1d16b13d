// The reef off Grayling Sound: each word makes the station's program founder in one way, for `deeptrace fault`.
#include <emmintrin.h>
#include <sys/mman.h>
#include <unistd.h>

#include <cassert>
#include <cstdint>
#include <cstdio>
#include <cstdlib>
#include <cstring>
#include <memory>
#include <stdexcept>
#include <string>
#include <thread>

namespace reef {

struct Buoy {
  int number;
  int depth;  // millimetres
  Buoy *next;
};

__attribute__((noinline)) Buoy *find(Buoy *first, int number) {
  while (first != nullptr && first->number != number) first = first->next;
  return first;
}

int depth_of(Buoy *buoy) { return buoy->depth; }

void nothing() {
  Buoy only{1, 2400, nullptr};
  std::printf("depth %d\n", depth_of(find(&only, 2)));
}

void no_text() {
  const char *name = std::getenv("REEF_WITHOUT_A_NAME");
  std::printf("%zu letters\n", std::strlen(name));
}

void number() {
  int depth = 5;
  std::sscanf("2400", "%d", depth);  // the address was meant
  std::printf("depth %d\n", depth);
}

void constant() {
  char *name = const_cast<char *>("grayling");
  name[0] = 'G';
}

void index() {
  static int depths[8];
  volatile int place = -3000000;
  depths[place] = 1;
}

void freed() {
  auto *first = static_cast<Buoy *>(std::malloc(sizeof(Buoy)));
  auto *second = static_cast<Buoy *>(std::malloc(sizeof(Buoy)));
  *second = {2, 1800, nullptr};
  *first = {1, 2400, second};
  std::free(second);
  std::free(first);
  std::printf("depth %d\n", find(first, 3)->depth);
}

void twice() {
  auto *buoy = static_cast<Buoy *>(std::malloc(sizeof(Buoy)));
  std::free(buoy);
  std::free(buoy);
}

void middle() {
  auto *buoys = static_cast<Buoy *>(std::malloc(4 * sizeof(Buoy)));
  std::free(buoys + 1);
}

__attribute__((noinline)) void copy_name(const char *name) {
  char label[8];
  std::strcpy(label, name);
  std::printf("%s\n", label);
}

void protector() { copy_name("a name that is much too long for its place"); }

__attribute__((noinline, optimize("no-stack-protector"))) void overwrite(std::size_t count) {
  char marks[8];
  std::memcpy(marks, "low water, high water, low water, high water, low water", count);
}

void returns() {
  overwrite(48);
  std::printf("never\n");
}

__attribute__((noinline)) int soundings(int depth) {
  volatile char line[200];
  line[0] = static_cast<char>(depth);
  return soundings(depth + 1) + line[0];
}

void deep() { std::printf("%d\n", soundings(0)); }

__attribute__((noinline)) void chart(unsigned rows) {
  volatile char picture[64 << 20];
  for (unsigned i = 0; i < rows; ++i) picture[i] = 0;
}

void large() { chart(10); }

int mean(int sum, int count) { return sum / count; }

void divide() {
  volatile int count = 0;
  std::printf("mean %d\n", mean(2400, count));
}

void least() {
  volatile int level = INT32_MIN, step = -1;
  std::printf("%d\n", mean(level, step));
}

void jump() {
  void (*volatile report)() = reinterpret_cast<void (*)()>(0x10);
  report();
}

void data() {
  static unsigned char table[16] = {0xc3};
  auto call = reinterpret_cast<void (*)()>(table);
  call();
}

void asserted() {
  int depth = -5;
  assert(depth >= 0);
  std::printf("depth %d\n", depth);
}

void thrown() { throw std::out_of_range("no such buoy"); }

void promised() noexcept { throw std::runtime_error("the chart is torn"); }

class Light {
 public:
  Light() { blink(); }
  virtual ~Light() = default;
  void blink() { turn_on(); }
  virtual void turn_on() = 0;
};
class Beacon : public Light {
 public:
  void turn_on() override { std::printf("on\n"); }
};

void pure() { Beacon beacon; }

void gave_up() { std::abort(); }

void trap() { __builtin_trap(); }

void half() {
  auto whole = std::make_unique<Buoy>(Buoy{1, 2400, nullptr});
  auto kept = static_cast<std::uint32_t>(reinterpret_cast<std::uintptr_t>(whole.get()));
  std::printf("depth %d\n", depth_of(reinterpret_cast<Buoy *>(static_cast<std::uintptr_t>(kept))));
}

void aligned() {
  alignas(16) static float depths[8];
  volatile std::size_t step = 1;
  _mm_store_ps(depths + step, _mm_set1_ps(2400));
}

void file() {
  std::FILE *chart = std::tmpfile();
  auto *page = static_cast<char *>(mmap(nullptr, 4096, PROT_READ, MAP_PRIVATE, fileno(chart), 0));
  std::printf("%d\n", page[10]);
}

void threads() { std::thread([] { std::printf("depth %d\n", depth_of(nullptr)); }).join(); }

void left() { std::thread forgotten([] { pause(); }); }

void calm() { std::printf("calm water\n"); }

struct Way {
  const char *word;
  void (*sail)();
};
constexpr Way kWays[] = {
    {"nothing", nothing},   {"no-text", no_text},     {"number", number},   {"constant", constant}, {"index", index},
    {"freed", freed},       {"twice", twice},         {"middle", middle},   {"protector", protector},
    {"return", returns},    {"deep", deep},           {"large", large},     {"divide", divide},     {"least", least},
    {"jump", jump},         {"data", data},           {"assert", asserted}, {"throw", thrown},      {"noexcept", promised},
    {"pure", pure},         {"abort", gave_up},       {"trap", trap},       {"half", half},         {"aligned", aligned},
    {"file", file},         {"thread", threads},      {"left", left},       {"calm", calm},
};

}  // namespace reef

int main(int argc, char **argv) {
  for (const reef::Way &way : reef::kWays) {
    if (argc > 1 && std::strcmp(argv[1], way.word) == 0) {
      way.sail();
      return 0;
    }
  }
  std::printf("usage: reef WORD, one of:");
  for (const reef::Way &way : reef::kWays) std::printf(" %s", way.word);
  std::printf("\n");
  return 2;
}
