// How good plans are: random problems with stated costs, against every choice there is where they are small, and against
// what people do by hand, all judged by the same simulation.
#pragma once
#include <memory>

#include "base/json.h"
#include "plan/judge.h"

namespace gc {

/// A random timeline as a problem: light and heavy units, cached stacks that do for some, sources shared by several.
struct PlanCase {
  Problem problem;
  std::vector<FrameRange> units;
  std::vector<std::vector<WayCosts>> ways;
  SimulationJudge judge() const { return {units, ways, 32, 1}; }
};
/// @param most_works no more than this; 0: as many as come about
PlanCase random_plan_case(std::uint64_t seed, int units, int most_works = 0);

struct PlanScoreOptions {
  std::uint64_t seed = 1;
  int small_cases = 1000;   ///< that are held against every choice
  int cases = 20;           ///< of 60 units, held against peers
  std::vector<int> large{300, 2400};
};

struct PlanScore {
  struct Peer {
    double time_ratio = 0;   ///< its seconds until all holds ÷ ours, mean
    double drops_ratio = 0;  ///< its drops in half of our time + 1 ÷ ours + 1, mean
  };
  struct Large {
    int units = 0;
    double seconds = 0, gap = 0;
  };
  int cases = 0, brute_force_cases = 0, brute_force_equal = 0;
  double worst_gap = 0, seconds_worst = 0;
  double prefix_ratio = 0;  ///< drops left along our order + 1 ÷ the fewest there could be by then + 1, mean of every fourth case
  std::map<std::string, Peer> peers;
  std::vector<Large> large;
};
PlanScore score_plans(const PlanScoreOptions& options, const std::function<bool(const std::string&)>& progress);
Json to_json(const PlanScore& score);

}  // namespace gc
