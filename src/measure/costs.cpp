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
    // Errors of laws fitted in the same minutes lean the same way; they are added, not squared.
    off += mean * (c.origin == Origin::measured ? std::min(0.05, c.error) : c.error);
  }
  return sum > 0 && off <= tolerance * sum;
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
