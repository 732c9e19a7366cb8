// Loads of a timeline at every zoom: a min/max pyramid over frames, so that two hours are drawn as fast as
// two minutes.
#pragma once
#include "forecast/forecast.h"

namespace gc {

/// What is drawn of a stretch of frames: the extremes, and the interval that reaches highest.
struct LoadSummary {
  float load = 0;                    ///< greatest mean load
  float least = 0;                   ///< smallest mean load
  float low = 0, high = 0;           ///< 5th and 95th percentile at the greatest
  float live = 0;                    ///< greatest load when nothing were sealed
  float full = 0;                    ///< greatest load when nothing were bypassed
  float miss = 0;                    ///< greatest probability of a miss
  Verdict verdict = Verdict::holds;  ///< gravest
  std::int32_t interval = -1;        ///< index into Forecast::intervals
};

class LoadPyramid {
 public:
  LoadPyramid() = default;
  /// `full` are the costs of the timeline with nothing bypassed, or empty.
  LoadPyramid(const Forecast& forecast, const std::vector<IntervalCost>& full);
  Frames frames() const { return levels_.empty() ? 0 : static_cast<Frames>(levels_.front().size()); }
  /// Over frames [in, out); touches at most two nodes of each level.
  LoadSummary over(Frames in, Frames out) const;

 private:
  static LoadSummary joined(const LoadSummary& a, const LoadSummary& b);
  std::vector<std::vector<LoadSummary>> levels_;  // each has half as many nodes as the one before
};

}  // namespace gc
