// The judge of a plan: the simulation of playback, of one stretch at a time.
#pragma once
#include "forecast/simulate.h"
#include "plan/problem.h"

namespace gc {

/// What a unit costs in one of its ways.
struct WayCosts {
  std::shared_ptr<const Model> model;  ///< of the whole range, in which everything is played in such a way
  double load_high = 0;                ///< 95th percentile
  bool unseen = false;
};

/// Mean and 95th percentile of what the pipeline needs for a frame of a stretch ÷ its budget.
struct StretchLoad {
  double mean = 0, high = 0;
};
StretchLoad load_in(const Model& model, FrameRange frames);

class SimulationJudge : public Judge {
 public:
  /// @param units frames from the start of playback, in order, without holes
  /// @param ways of each unit, as in the problem
  SimulationJudge(std::vector<FrameRange> units, std::vector<std::vector<WayCosts>> ways, int trials, std::uint64_t seed);

  std::vector<std::pair<std::size_t, std::size_t>> runs(const std::vector<std::size_t>& ways) override;
  Judged play(std::size_t first, std::size_t last, const std::vector<std::size_t>& ways) override;

 private:
  std::vector<FrameRange> units_;
  std::vector<std::vector<WayCosts>> ways_;
  int trials_;
  std::uint64_t seed_;
};

}  // namespace gc
