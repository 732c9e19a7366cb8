// The kernels of STREAM as they are published (McCalpin, "Memory Bandwidth and Machine Balance in Current
// High Performance Computers", 1995): static arrays, copy c = a and triad a = b + q c, bytes counted without
// what writing allocates, best time of several. Written down from that definition, threads in place of its
// OpenMP loops.
#include "stream.h"

#include <algorithm>
#include <chrono>
#include <thread>
#include <vector>

namespace {
constexpr std::size_t kElements = 20'000'000;
double a[kElements], b[kElements], c[kElements];

template <class Loop>
double seconds(int threads, Loop loop) {
  const auto start = std::chrono::steady_clock::now();
  std::vector<std::thread> all;
  for (int t = 0; t < threads; ++t)
    all.emplace_back([=] {
      const std::size_t from = kElements * static_cast<std::size_t>(t) / static_cast<std::size_t>(threads),
                        to = kElements * static_cast<std::size_t>(t + 1) / static_cast<std::size_t>(threads);
      loop(from, to);
    });
  for (std::thread& t : all) t.join();
  return std::chrono::duration<double>(std::chrono::steady_clock::now() - start).count();
}
}  // namespace

Stream stream(int threads, int runs) {
  seconds(threads, [](std::size_t i, std::size_t to) {
    for (; i < to; ++i) a[i] = 1, b[i] = 2, c[i] = 0;
  });
  double copy = 1e300, triad = 1e300;
  for (int r = 0; r < runs; ++r) {
    copy = std::min(copy, seconds(threads, [](std::size_t i, std::size_t to) {
                      for (; i < to; ++i) c[i] = a[i];
                    }));
    triad = std::min(triad, seconds(threads, [](std::size_t i, std::size_t to) {
                       for (; i < to; ++i) a[i] = b[i] + 3.0 * c[i];
                     }));
  }
  const double n = static_cast<double>(kElements);
  return {16 * n / 1e6 / copy, 24 * n / 1e6 / triad};
}
