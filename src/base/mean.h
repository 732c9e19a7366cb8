#pragma once

namespace gc {

/// The arithmetic mean of numbers; 0 of none.
template <class Numbers>
double mean(const Numbers& all) {
  double sum = 0;
  for (const auto v : all) sum += static_cast<double>(v);
  return all.empty() ? 0 : sum / static_cast<double>(all.size());
}

}  // namespace gc
