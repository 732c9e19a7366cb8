#include "seat/machine.h"

#include <algorithm>
#include <atomic>
#include <cmath>
#include <opencv2/core.hpp>
#include <opencv2/core/ocl.hpp>
#include <thread>
#include <vector>

#include "base/clock.h"
#include "base/gauge.h"
#include "render/device.h"
#include "seat/conditions.h"

namespace gc {
namespace {

/// Runs work(thread, of) on so many threads at once; milliseconds until the last is done.
template <class Work>
double side_by_side(int threads, Work&& work) {
  std::atomic<int> ready{0};
  std::atomic<bool> start{false};
  std::vector<std::thread> all;
  for (int i = 0; i < threads; ++i)
    all.emplace_back([&, i] {
      ++ready;
      while (!start) std::this_thread::yield();
      work(i, threads);
    });
  while (ready < threads) std::this_thread::yield();
  const Stopwatch watch;
  start = true;
  for (std::thread& t : all) t.join();
  return watch.ms();
}

__attribute__((optimize("O3"))) void copy(double* to, const double* from, std::size_t n) {
  for (std::size_t i = 0; i < n; ++i) to[i] = from[i];
  asm volatile("" : : "r"(to) : "memory");
}
__attribute__((optimize("O3"))) void triad(double* to, const double* a, const double* b, double q,
                                           std::size_t n) {
  for (std::size_t i = 0; i < n; ++i) to[i] = a[i] + q * b[i];
  asm volatile("" : : "r"(to) : "memory");
}

}  // namespace

MemoryBandwidth measure_memory(int threads, int megabytes, int runs) {
  MemoryBandwidth m;
  const std::size_t n = static_cast<std::size_t>(megabytes) * 1000000 / sizeof(double);
  m.array_bytes = n * sizeof(double);
  // Not filled here: each thread touches its own part first, so that the memory lies near it.
  const std::unique_ptr<double[]> a(new double[n]), b(new double[n]), c(new double[n]);
  const auto part = [&](int i, int of) {
    const std::size_t from = n * static_cast<std::size_t>(i) / static_cast<std::size_t>(of),
                      to = n * (static_cast<std::size_t>(i) + 1) / static_cast<std::size_t>(of);
    return std::pair(from, to - from);
  };
  side_by_side(threads, [&](int i, int of) {
    const auto [from, count] = part(i, of);
    std::fill_n(a.get() + from, count, 1.0), std::fill_n(b.get() + from, count, 2.0),
        std::fill_n(c.get() + from, count, 0.0);
  });
  double best_copy = 1e300, best_triad = 1e300;
  for (int run = 0; run < runs; ++run) {
    best_copy = std::min(best_copy, side_by_side(threads, [&](int i, int of) {
                           const auto [from, count] = part(i, of);
                           copy(c.get() + from, a.get() + from, count);
                         }));
    best_triad = std::min(best_triad, side_by_side(threads, [&](int i, int of) {
                            const auto [from, count] = part(i, of);
                            triad(a.get() + from, b.get() + from, c.get() + from, 0.5, count);
                          }));
  }
  m.copy_mb_s = 16.0 * static_cast<double>(n) / 1e3 / best_copy;
  m.triad_mb_s = 24.0 * static_cast<double>(n) / 1e3 / best_triad;
  return m;
}

Endurance measure_endurance(int threads, double seconds, const KeepGoing& go_on) {
  Endurance e;
  const int buckets = std::max(3, static_cast<int>(std::lround(seconds)));
  std::vector<std::atomic<long>> done(static_cast<std::size_t>(buckets));
  std::atomic<bool> stop{false};
  const double alone_s = std::clamp(seconds / 8, 0.5, 4.0);
  long shared = 0, turns = 0;
  for (const Stopwatch alone; alone.ms() < alone_s * 1000 && (!go_on || go_on()); ++turns) {
    double mean = 0;
    for (int k = 0; k < 50; ++k) mean += core_slowness() / 50;
    shared += mean > kSharedCore;
  }
  seconds -= alone_s;
  e.first_mhz = conditions_between(machine_times(), machine_times()).mhz;
  const double start = now_ms(), step = seconds * 1000 / buckets;
  side_by_side(threads, [&](int i, int) {
    while (!stop) {
      const double at = now_ms() - start;
      if (at >= seconds * 1000 || (i == 0 && go_on && !go_on())) {
        stop = true;
        break;
      }
      for (int k = 0; k < 50; ++k) core_slowness();
      ++done[static_cast<std::size_t>(std::min(static_cast<double>(buckets) - 1, at / step))];
    }
  });
  e.last_mhz = conditions_between(machine_times(), machine_times()).mhz;
  e.seconds = (now_ms() - start) / 1000;
  e.shared = turns > 0 ? static_cast<double>(shared) / static_cast<double>(turns) : 0;
  double together = 0;
  for (const auto& d : done) together += static_cast<double>(d);
  if (turns > 0 && e.seconds > 0)
    e.side_by_side = std::min(1.0, together / e.seconds / (static_cast<double>(turns) / alone_s) / threads);
  std::vector<double> rate;
  const auto full = static_cast<std::size_t>(std::min<double>(buckets, e.seconds * 1000 / step));
  for (std::size_t i = 0; i < full; ++i) rate.push_back(static_cast<double>(done[i]));
  if (rate.empty()) return e;
  const double best = *std::max_element(rate.begin(), rate.end());
  // A burst is what the first fifth reaches at its best.
  e.burst = *std::max_element(rate.begin(), rate.begin() + static_cast<std::ptrdiff_t>(
                                                               std::max<std::size_t>(1, rate.size() / 5))) /
            best;
  std::vector<double> end(rate.begin() + static_cast<std::ptrdiff_t>(rate.size() * 2 / 3), rate.end());
  std::sort(end.begin(), end.end());
  e.sustained = end[end.size() / 2] / best;
  return e;
}

Result<AcceleratorSpeed> measure_accelerator() {
  AcceleratorSpeed s;
  if (!accelerator_available())
    return environment("there is no accelerator on this seat", {},
                       "Nothing needs one; effects run on the processor.");
  s.name = accelerator_name();
  const auto broken = [&](const std::string& how) {
    return environment("the accelerator '" + s.name + "' lists itself and does not work: " + how, {},
                       "Update its driver; until then set playback and rendering to the processor.");
  };
  if (accelerator_drill()) return broken("it failed at its first task");
  try {
    constexpr int kSide = 2048;  // 64 MB of pixels
    cv::Mat here(kSide, kSide, CV_32FC4, cv::Scalar(0.1, 0.2, 0.3, 1)), back;
    const double mb = static_cast<double>(here.total() * here.elemSize()) / 1e6;
    double up = 1e300, down = 1e300;
    cv::UMat there;
    for (int i = 0; i < 5; ++i) {
      Stopwatch watch;
      here.copyTo(there);
      cv::ocl::finish();
      up = std::min(up, watch.ms());
      watch.restart();
      there.copyTo(back);
      cv::ocl::finish();
      down = std::min(down, watch.ms());
    }
    cv::UMat twice;
    cv::multiply(there, cv::Scalar::all(2), twice);
    cv::ocl::finish();
    twice.copyTo(back);
    if (cv::norm(back, here * 2, cv::NORM_INF) > 1e-5) return broken("its results are wrong");
    s.up_mb_s = mb / up * 1000, s.down_mb_s = mb / down * 1000;
  } catch (const cv::Exception& e) {
    return broken(e.err);
  }
  return s;
}

}  // namespace gc
