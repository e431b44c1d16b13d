// The tide station of Grayling Sound: sensors report levels from threads of their own, and the station keeps a summary of
// each. Shows templates, virtual calls, exceptions, containers and threads.
#include <cstdio>
#include <cstdlib>
#include <map>
#include <mutex>
#include <stdexcept>
#include <string>
#include <thread>
#include <vector>

namespace tide {

enum class Quality { good, doubtful, missing };

/// The middle of what was measured, kept as sum and count.
template <typename Number>
class Mean {
 public:
  void add(Number value) {
    sum_ += value;
    ++count_;
  }
  Number value() const { return count_ == 0 ? Number{} : sum_ / static_cast<Number>(count_); }

 private:
  Number sum_{};
  unsigned count_ = 0;
};

class Sensor {
 public:
  explicit Sensor(std::string name) : name_(std::move(name)) {}
  virtual ~Sensor() = default;
  virtual int level(int minute) const = 0;
  virtual Quality quality(int) const { return Quality::good; }
  const std::string& name() const { return name_; }

 private:
  std::string name_;
};

/// A float in a well: rises and falls by a fixed step.
class FloatGauge : public Sensor {
 public:
  FloatGauge(std::string name, int start, int step) : Sensor(std::move(name)), start_(start), step_(step) {}
  int level(int minute) const override { return start_ + step_ * minute; }

 private:
  int start_, step_;
};

/// Measures pressure; its tube is blocked now and then.
class PressureGauge : public Sensor {
 public:
  using Sensor::Sensor;
  int level(int minute) const override {
    if (minute % 7 == 6) throw std::runtime_error(name() + ": the tube is blocked");
    return 140 + minute % 5;
  }
  Quality quality(int minute) const override { return minute % 7 == 5 ? Quality::doubtful : Quality::good; }
};

struct Summary {
  Mean<long> level;
  Mean<double> share_of_good;
  int failures = 0;
};

std::mutex summaries_mutex;
std::map<std::string, Summary> summaries;
int reports_received = 0;
thread_local int reports_sent = 0;

inline double share(Quality quality) { return quality == Quality::good ? 1.0 : quality == Quality::doubtful ? 0.5 : 0.0; }

void report(const Sensor& sensor, int minute) {
  static int longest_name = 0;
  Summary once;
  try {
    once.level.add(sensor.level(minute));
    once.share_of_good.add(share(sensor.quality(minute)));
  } catch (const std::runtime_error&) {
    once.failures = 1;
  }
  ++reports_sent;
  const std::lock_guard<std::mutex> lock(summaries_mutex);
  Summary& summary = summaries[sensor.name()];
  if (once.failures == 0) {
    summary.level.add(once.level.value());
    summary.share_of_good.add(once.share_of_good.value());
  }
  summary.failures += once.failures;
  if (static_cast<int>(sensor.name().size()) > longest_name) longest_name = static_cast<int>(sensor.name().size());
  ++reports_received;
}

}  // namespace tide

int main(int argc, char** argv) {
  const int minutes = argc > 1 ? std::atoi(argv[1]) : 14;
  const tide::FloatGauge east("east float", 120, 3);
  const tide::PressureGauge west("west pressure");
  std::vector<std::thread> threads;
  for (const tide::Sensor* sensor : {static_cast<const tide::Sensor*>(&east), static_cast<const tide::Sensor*>(&west)}) {
    threads.emplace_back([sensor, minutes] {
      for (int minute = 0; minute < minutes; ++minute) tide::report(*sensor, minute);
    });
  }
  for (std::thread& thread : threads) thread.join();
  for (const auto& [name, summary] : tide::summaries) {
    std::printf("%s: mean level %ld, good %.2f, failures %d\n", name.c_str(), summary.level.value(),
                summary.share_of_good.value(), summary.failures);
  }
  std::printf("%d reports\n", tide::reports_received);
}
