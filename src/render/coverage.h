// Pixels of the raster that nothing covers: usually a sliver at an edge, black on black, that only the
// client's screen shows.
#pragma once
#include "render/renderer.h"

namespace gc {

struct Coverage {
  std::string segment;  ///< the lowest one in sight; empty for a gap
  Frames frame = 0;     ///< where it is worst
  std::int64_t pixels = 0;
  int left = 0, top = 0, right = 0, bottom = 0;  ///< rows and columns wholly uncovered at each edge
};

/// Counts pixels of a frame's alpha below 0.999.
Coverage coverage_of(const Image& picture);

/// For each segment of the timeline the worst of a few of its frames: first, last and those between. Only
/// segments with uncovered pixels are named.
std::vector<Coverage> coverage(const Program& program, const std::function<bool()>& go_on = {});

/// The picture over black with what is uncovered drawn as stripes of black and white that are seen on any
/// picture.
Image with_coverage_shown(const Image& picture);

/// The lowest segment seen at a frame.
std::string lowest_segment(const Program& program, Frames frame);

}  // namespace gc
