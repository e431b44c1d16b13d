// As wrecks.c, in C++.
#include <any>
#include <array>
#include <cstdio>
#include <cstring>
#include <functional>
#include <memory>
#include <new>
#include <optional>
#include <stdexcept>
#include <string>
#include <thread>
#include <vector>

#include <unistd.h>

#ifdef RIGHT
constexpr bool kWrong = false;
#else
constexpr bool kWrong = true;
#endif

namespace tide {

struct Gauge {
  virtual ~Gauge() = default;
  virtual int level() const { return number; }
  int number = 3;
};
struct FloatGauge : Gauge {
  int level() const override { return 2 * number; }
};

Gauge *volatile chosen;

void null_object() {
  FloatGauge gauge;
  chosen = kWrong ? nullptr : &gauge;
  std::printf("%d\n", chosen->level());  // null_pointer
}
void null_owner() {
  std::unique_ptr<Gauge> owner;
  if (!kWrong) owner = std::make_unique<FloatGauge>();
  std::printf("%d\n", owner->number);  // null_pointer unchecked_result
}
void not_caught() {
  if (kWrong) throw std::range_error("below the chart");  // uncaught_exception
}
void out_of_range() {
  std::vector<int> levels(3);
  std::printf("%d\n", levels.at(kWrong ? 7 : 2));  // uncaught_exception
}
void no_value() {
  std::optional<int> level;
  if (!kWrong) level = 4;
  std::printf("%d\n", level.value());  // uncaught_exception
}
void no_function() {
  std::function<int()> report;
  if (!kWrong) report = [] { return 3; };
  std::printf("%d\n", report());  // uncaught_exception
}
void wrong_any() {
  std::any level = 3;
  std::printf("%d\n", kWrong ? static_cast<int>(std::any_cast<double>(level)) : std::any_cast<int>(level));  // uncaught_exception
}
void null_string() {
  const char *text = kWrong ? nullptr : "pier";
  std::string name(text);  // uncaught_exception bad_argument
  std::printf("%s\n", name.c_str());
}
void too_much() {
  volatile std::size_t size = kWrong ? std::size_t(-1) - 100 : 8;
  std::unique_ptr<char[]> room(new char[size]);  // uncaught_exception
}
struct Careless {
  ~Careless() noexcept(false) {
    if (kWrong) throw std::runtime_error("in a destructor");  // uncaught_exception terminate
  }
};
void while_another() {
  try {  // terminate
    Careless careless;
    if (kWrong) throw std::logic_error("the first");  // terminate uncaught_exception
  } catch (const std::exception &) {  // uncaught_exception
  }
}
void promised() noexcept {
  if (kWrong) throw std::domain_error("promised");  // uncaught_exception
}
void rethrown() {
  if (kWrong) throw;  // terminate uncaught_exception
}
struct Light {
  Light() { blink(); }
  virtual ~Light() = default;
  void blink() {
    if (kWrong) turn_on();  // pure_virtual_call
  }
  virtual void turn_on() = 0;
};
struct Beacon : Light {
  void turn_on() override {}
};
void pure() { Beacon beacon; }
void left_running() {
  std::thread thread([] { pause(); });
  if (!kWrong) thread.detach();
}  // terminate
void in_a_thread() {
  std::thread([] {
    FloatGauge gauge;
    Gauge *volatile mine = kWrong ? nullptr : &gauge;
    std::printf("%d\n", mine->number);  // null_pointer
  }).join();
}
void through_a_lambda() {
  const auto twice = [](const int *level) { return 2 * *level; };  // null_pointer
  int level = 4;
  std::printf("%d\n", twice(kWrong ? nullptr : &level));
}
void deleted_twice() {
  auto *levels = new int[4];
  delete[] levels;
  if (kWrong) delete[] levels;  // double_free
}

struct Way {
  const char *word;
  void (*go)();
};
const Way kWays[] = {
    {"null_object", null_object}, {"null_owner", null_owner},       {"not_caught", not_caught},
    {"out_of_range", out_of_range}, {"no_value", no_value},         {"no_function", no_function},
    {"wrong_any", wrong_any},     {"null_string", null_string},     {"too_much", too_much},
    {"while_another", while_another}, {"promised", promised},       {"rethrown", rethrown},
    {"pure", pure},               {"left_running", left_running},   {"in_a_thread", in_a_thread},
    {"through_a_lambda", through_a_lambda}, {"deleted_twice", deleted_twice},
};

}  // namespace tide

int main(int argc, char **argv) {
  for (const auto &way : tide::kWays) {
    if (argc == 1) std::puts(way.word);
    if (argc > 1 && std::strcmp(argv[1], way.word) == 0) way.go();
  }
  std::fflush(stdout);
  _exit(0);
}
