// The effects reel: a second timeline of the demo production in which each effect and each way of layering
// has a segment of its own.
#pragma once
#include "base/files.h"
#include "timeline/timeline.h"

namespace gc {

/// What the reel is built from: sources by the name of their scene ("bowl", "kiln", "rain", "dust", "hands",
/// "firing").
struct ReelMedia {
  std::map<std::string, std::shared_ptr<const MediaSource>> sources;
  std::string lut;  ///< path of a LUT file
  int width = 1280, height = 720;
};

/// One second a segment. Segments that show an effect are named after it and have the id "fx-" and the
/// effect's.
TimelinePtr effects_reel(const ReelMedia& media);

}  // namespace gc
