// Runs of dropped frames, by one rule for what was forecast and what was played.
#pragma once
#include <vector>

#include "base/rational.h"

namespace gc {

/// Runs of frames in which more than `density` of a second's frames are missed; neighbours closer than a
/// second are one.
std::vector<FrameRange> missed_runs(const std::vector<float>& miss, Frames first, Rate rate,
                                    double density = 0.08);

/// Runs of dropped frames, by one rule for trials and playouts: where a second holds 8 % of its frames dropped, at least two,
/// its dropped frames are in a run. Neighbours closer than a second are one.
/// @param dropped in order
std::vector<FrameRange> drop_runs(const std::vector<Frames>& dropped, Rate rate);

}  // namespace gc
