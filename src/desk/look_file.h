// The look of a segment as a table that other programs read.
#pragma once
#include "base/files.h"
#include "timeline/timeline.h"

namespace gc {

struct LookFile {
  std::vector<std::string> taken, left_out;  ///< ids of effects; what is left out with why
  double worst = 0;  ///< difference between the table and the effects, of colours between its points, 0…1
};

/// Writes the effects of a segment whose picture depends on nothing but the colour of each pixel, one after another, as a
/// cube of size³ colours over 0…1: .cube, or .clf (Common LUT Format, SMPTE ST 2136-1). What else is in the stack is left
/// out and named: what mixes pixels, what depends on their place or on time, keys (as they are at `at`, frames from the
/// segment's first). Alpha stays. Fails when nothing can be taken.
Result<LookFile> write_look(const Segment& segment, Frames at, int size, const fs::path& file);

}  // namespace gc
