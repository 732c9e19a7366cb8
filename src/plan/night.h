// Simulated nights: random timelines with a review in the morning, a machine that somebody uses until late, hours in which it
// is slow, and edits that come while work is done; all on a virtual clock. How often does the review play?
#pragma once
#include <functional>

#include "plan/plan_score.h"

namespace gc {

struct NightScore {
  struct Way {
    int played = 0;           ///< reviews before which all held
    double wasted = 0;        ///< seconds spent on what an edit made stale
    double worked = 0;        ///< seconds spent in all
    double drops = 0;         ///< left in the reviews, together
  };
  int nights = 0;
  int possible = 0;  ///< those that the plan makes play when nobody edits
  std::map<std::string, Way> ways;  ///< "the plan" and what people do by hand
};

/// The same for the same seed.
NightScore score_nights(int nights, std::uint64_t seed, const std::function<bool(const std::string&)>& progress);
Json to_json(const NightScore& score);

}  // namespace gc
