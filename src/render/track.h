// The shape tracker: follows what lies in a secondary's window and writes the window's place as keys.
#pragma once
#include <functional>

#include "render/renderer.h"

namespace gc {

struct TrackReport {
  TimelinePtr timeline;  ///< with the keys
  Frames frames = 0;     ///< that were followed
  double worst_error =
      0;  ///< greatest median distance of points from where the window's motion puts them, pixels
};

/// Follows the window of effect `effect` (a "secondary") over the segment, forwards and backwards from frame
/// `at` of the segment. Points in the window are found by Shi and Tomasi (1994) and followed by Lucas and
/// Kanade's (1981) method in pyramids, as OpenCV has them; from them a move, a turn and a change of size are
/// fitted by least squares. Where too few points are left the window stays as it last was and the track ends.
Result<TrackReport> track_shape(const TimelinePtr& timeline, MediaCatalog& media, const std::string& segment,
                                const std::string& effect, Frames at,
                                const std::function<bool(double)>& progress = {});

}  // namespace gc
