// Made-up timelines that no one tuned the forecast for.
#pragma once
#include "measure/calibrate.h"

namespace gc {

struct RandomOptions {
  std::uint64_t seed = 1;
  int segments = 7;
  int workers = 2;
  int least_frames = 36, most_frames = 84;  ///< of a segment
  bool foreign = false;  ///< of pictures that are not ours
};

/// A timeline with sources, generators, compositions, several tracks, transitions, keys, speeds, blends, mattes, adjustments,
/// pictures in numbered files and all effects. How
/// heavy each segment is meant to be is drawn from 0.2 to 4 times the frame budget, half of them from 0.8 to
/// 1.25; its last effect's parameters are then chosen so that the seat's laws (`book`) come near, the seat
/// being as crowded as it is. Media are written to `folder`, once for all seeds. The same seed and the same
/// book give the same timeline.
Result<TimelinePtr> random_timeline(const RandomOptions& options, const CostBook& book,
                                    const fs::path& folder);

}  // namespace gc
