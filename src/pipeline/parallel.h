// Frames side by side, the insides of each frame, or both: what is quickest on this seat is measured, not
// believed.
#pragma once
#include "pipeline/pipeline.h"

namespace gc {

struct Parallelism {
  int workers = 1;  ///< frames at once
  int tiles = 1;    ///< threads in each
  double ms = 0;    ///< a frame, flat out
};

/// Times a few of the frames in each way of sharing `processors` out, quickest last round counting; the
/// quickest first. Pictures are thrown away.
std::vector<Parallelism> try_parallelism(const ProgramPtr& program, const std::vector<Frames>& frames,
                                         int processors);

}  // namespace gc
