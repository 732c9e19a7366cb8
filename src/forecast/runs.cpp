#include "forecast/runs.h"

#include <algorithm>
#include <cmath>
#include <cstdint>

namespace gc {

std::vector<FrameRange> missed_runs(const std::vector<float>& miss, Frames first, Rate rate, double density) {
  std::vector<FrameRange> runs;
  const auto count = static_cast<Frames>(miss.size());
  const Frames second = std::max<Frames>(2, rate.nominal());
  // A window of a second slides over the frames; where it holds enough misses, its missed frames belong to a
  // part.
  double sum = 0;
  std::vector<std::uint8_t> dense(miss.size(), 0);
  Frames marked = 0;
  for (Frames end = 0; end < count; ++end) {
    sum += miss[static_cast<std::size_t>(end)];
    const Frames begin = end - second + 1;
    if (begin > 0) sum -= miss[static_cast<std::size_t>(begin - 1)];
    if (sum < density * static_cast<double>(second) - 1e-6) continue;
    for (Frames f = std::max({Frames{0}, begin, marked}); f <= end; ++f)
      dense[static_cast<std::size_t>(f)] = 1;
    marked = end + 1;
  }
  for (Frames f = 0; f < count; ++f) {
    if (!dense[static_cast<std::size_t>(f)] || miss[static_cast<std::size_t>(f)] < 0.01f) continue;
    if (!runs.empty() && first + f - runs.back().out < second) runs.back().out = first + f + 1;
    else runs.push_back({first + f, first + f + 1});
  }
  return runs;
}

std::vector<FrameRange> drop_runs(const std::vector<Frames>& dropped, Rate rate) {
  constexpr double kDensity = 0.08;
  const Frames second = std::max<Frames>(2, rate.nominal());
  const auto enough = static_cast<std::size_t>(std::max(2.0, std::ceil(kDensity * static_cast<double>(second) - 1e-6)));
  std::vector<FrameRange> runs;
  std::size_t in_run = 0;  // those before it are told already
  for (std::size_t first = 0; first + enough <= dropped.size(); ++first) {
    const std::size_t last = first + enough - 1;
    if (dropped[last] - dropped[first] >= second) continue;
    for (in_run = std::max(in_run, first); in_run <= last; ++in_run) {
      const Frames f = dropped[in_run];
      if (!runs.empty() && f - runs.back().out < second) runs.back().out = f + 1;
      else runs.push_back({f, f + 1});
    }
  }
  return runs;
}

}  // namespace gc
