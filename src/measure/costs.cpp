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

Mood usual_mood(double crowding, double spread) {
  // Costs that were measured miss what a playout takes by so much even where nobody else works on the cores.
  constexpr double kLevel = 0.012;
  // What others add, in the mean of a playout and from stretch to stretch, is more than half a minute of measuring shows.
  // Seen in first playouts with 0.84 to 0.96 of the work on shared cores: 7 % from stretch to stretch.
  constexpr double kLevelOfStrangers = 0.06, kSpreadOfStrangers = 0.06;
  const double c = std::max(0.0, crowding);
  return {crowded(c), std::hypot(kLevel, kLevelOfStrangers * c), std::hypot(spread, kSpreadOfStrangers * c)};
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
