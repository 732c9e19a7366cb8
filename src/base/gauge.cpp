#include "base/gauge.h"

#include <algorithm>
#include <atomic>
#include <utility>

#include "base/clock.h"

namespace gc {
namespace {

thread_local bool gauging = false;
thread_local double last = 0;

// Narrow vectors on purpose: after wide ones the processor takes its time to change its clock, and the gauge
// would show that.
__attribute__((optimize("O3"))) void arithmetic(float* v, int turns) {
  constexpr int kValues = 1024;
  for (int k = 0; k < turns; ++k)
    for (int i = 0; i < kValues; ++i) v[i] = v[i] * 0.999f + 0.001f;
}

double once() {
  alignas(64) thread_local float values[1024];
  arithmetic(values, 25);  // what ran before left other data in the cache
  const double start = now_ms();
  arithmetic(values, 150);
  return now_ms() - start;
}

/// Best of this process, ms.
double best() {
  static const double ms = [] {
    once();
    double least = 1e9;
    for (int i = 0; i < 150; ++i) least = std::min(least, once());
    return least;
  }();
  return ms;
}

}  // namespace

double core_slowness() {
  static std::atomic<double> least{best()};
  const double ms = once();
  double known = least.load();
  while (ms < known && !least.compare_exchange_weak(known, ms)) {
  }
  return ms / std::min(known, ms);
}

GaugeScope::GaugeScope(bool on) : before_(gauging) {
  gauging = on;
  if (on) last = core_slowness();
}
GaugeScope::~GaugeScope() { gauging = before_; }

float gauge_around() {
  if (!gauging) return 0;
  const double now = core_slowness();
  return static_cast<float>(std::max(std::exchange(last, now), now));
}
void gauge_again() {
  if (gauging) last = core_slowness();
}

}  // namespace gc
