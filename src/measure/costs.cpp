#include "measure/costs.h"

#include <algorithm>
#include <cmath>

namespace gc {

const char* origin_name(Origin o) {
  static constexpr const char* kNames[] = {"unknown", "measured", "law", "scaled"};
  return kNames[static_cast<std::size_t>(o)];
}

KnownCost known_cost(const CostBook& book, std::span<const StageRef> stages, int workers) {
  KnownCost all;
  double off = 0;
  for (const StageRef& s : stages) {
    const StageCosts c = book.stage(s);
    if (c.ms.empty() || c.origin == Origin::unknown || c.origin == Origin::scaled || !c.inside) return {};
    double mean = 0;
    for (const float v : c.ms) mean += v;
    mean /= static_cast<double>(c.ms.size());
    const double in_turn = mean * turn_share(s, workers);
    all.fetch_ms += in_turn, all.process_ms += mean - in_turn;
    // Laws err apart from each other; what is common to them is small beside that.
    const double error = mean * (c.origin == Origin::measured ? std::min(0.05, c.error) : c.error);
    off += error * error;
  }
  all.error_ms = std::sqrt(off), all.known = true;
  return all;
}

bool covered(const KnownCost& c, double tolerance) {
  return c.known && c.ms() > 0 && c.error_ms <= tolerance * c.ms();
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
