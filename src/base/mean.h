#pragma once
#include <algorithm>
#include <vector>

namespace gc {

/// The arithmetic mean of numbers; 0 of none.
template <class Numbers>
double mean(const Numbers& all) {
  double sum = 0;
  for (const auto v : all) sum += static_cast<double>(v);
  return all.empty() ? 0 : sum / static_cast<double>(all.size());
}

/// A value and how much it counts.
struct Weighted {
  double value = 0, weight = 1;
};
/// Where half of the weight lies below: between two values on the line between the middles of their weights. Of none 0.
inline double weighted_median(std::vector<Weighted> all) {
  std::ranges::sort(all, {}, &Weighted::value);
  double half = 0;
  for (const Weighted& w : all) half += w.weight / 2;
  double below = 0, at_before = 0;
  for (std::size_t i = 0; i < all.size(); ++i) {
    const double at = below + all[i].weight / 2;
    if (half <= at) return i == 0 || at <= at_before ? all[i].value : all[i - 1].value + (all[i].value - all[i - 1].value) * (half - at_before) / (at - at_before);
    below += all[i].weight, at_before = at;
  }
  return all.empty() ? 0 : all.back().value;
}

}  // namespace gc
