#include "measure/costs.h"

#include <algorithm>
#include <cmath>

namespace gc {

const char* origin_name(Origin o) {
  static constexpr const char* kNames[] = {"unknown", "measured", "law", "scaled"};
  return kNames[static_cast<std::size_t>(o)];
}

bool covered(const CostBook& book, std::span<const StageRef> stages, double tolerance) {
  double sum = 0, off = 0;
  for (const StageRef& s : stages) {
    const StageCosts c = book.stage(s);
    if (c.ms.empty() || c.origin == Origin::unknown || c.origin == Origin::scaled || !c.inside) return false;
    double mean = 0;
    for (const float v : c.ms) mean += v;
    mean /= static_cast<double>(c.ms.size());
    sum += mean;
    // Laws err apart from each other; what is common to them is small beside that.
    const double error = mean * (c.origin == Origin::measured ? std::min(0.05, c.error) : c.error);
    off += error * error;
  }
  return sum > 0 && std::sqrt(off) <= tolerance * sum;
}

Hash128 frame_key(std::span<const StageRef> stages) {
  std::vector<Hash128> keys;
  for (const StageRef& s : stages) keys.push_back(s.key);
  std::sort(keys.begin(), keys.end());
  Hasher h;
  for (const Hash128& k : keys) h.add(k);
  return h.done();
}

}  // namespace gc
