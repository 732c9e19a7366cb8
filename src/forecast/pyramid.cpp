#include "forecast/pyramid.h"

#include <algorithm>

namespace gc {

LoadPyramid::LoadPyramid(const Forecast& f, const std::vector<IntervalCost>& full) {
  std::vector<LoadSummary> base(static_cast<std::size_t>(f.range.out));
  for (std::size_t i = 0; i < f.intervals.size(); ++i) {
    const IntervalCost& c = f.intervals[i];
    for (Frames n = c.in; n < c.out; ++n) {
      LoadSummary& s = base[static_cast<std::size_t>(n)];
      s.load = s.least = s.full = static_cast<float>(c.load);
      s.low = static_cast<float>(c.load_low), s.high = static_cast<float>(c.load_high),
      s.live = static_cast<float>(c.live_load);
      s.miss = f.miss[static_cast<std::size_t>(n - f.range.in)];
      s.interval = static_cast<std::int32_t>(i);
    }
  }
  for (const Span& s : f.spans)
    for (Frames n = s.in; n < s.out; ++n) base[static_cast<std::size_t>(n)].verdict = s.verdict;
  for (const IntervalCost& c : full)
    for (Frames n = c.in; n < std::min<Frames>(c.out, static_cast<Frames>(base.size())); ++n)
      base[static_cast<std::size_t>(n)].full = static_cast<float>(c.live_load);
  levels_.push_back(std::move(base));
  while (levels_.back().size() > 1) {
    const auto& below = levels_.back();
    std::vector<LoadSummary> level((below.size() + 1) / 2);
    for (std::size_t i = 0; i < level.size(); ++i)
      level[i] = 2 * i + 1 < below.size() ? joined(below[2 * i], below[2 * i + 1]) : below[2 * i];
    levels_.push_back(std::move(level));
  }
}

LoadSummary LoadPyramid::joined(const LoadSummary& a, const LoadSummary& b) {
  if (a.interval < 0) return b;
  if (b.interval < 0) return a;
  LoadSummary s = a.load >= b.load ? a : b;
  s.least = std::min(a.least, b.least);
  s.live = std::max(a.live, b.live), s.full = std::max(a.full, b.full), s.miss = std::max(a.miss, b.miss),
  s.verdict = std::max(a.verdict, b.verdict);
  return s;
}

LoadSummary LoadPyramid::over(Frames in, Frames out) const {
  LoadSummary sum;
  in = std::max<Frames>(0, in), out = std::min(out, frames());
  // From both ends inward: a node is taken where it is not covered by its parent.
  for (std::size_t level = 0; in < out && level < levels_.size(); ++level) {
    if (in & 1) sum = joined(sum, levels_[level][static_cast<std::size_t>(in++)]);
    if (out & 1 && in < out) sum = joined(sum, levels_[level][static_cast<std::size_t>(--out)]);
    in >>= 1, out >>= 1;
  }
  return sum;
}

}  // namespace gc
