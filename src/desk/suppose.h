// What would happen if something were done, or were otherwise: forecast without doing or measuring it.
#pragma once
#include "desk/desk.h"

namespace gc {

struct Supposition {
  std::vector<std::pair<std::string, std::string>> bypassed;  ///< segment and effect
  std::vector<FrameRange> rendered;                           ///< as if sealed
  std::vector<FrameRange> remembered;                         ///< as if the memory cache had them
  std::vector<std::pair<std::string, std::string>> settings;  ///< of playback: {"scale", "2"}, ...
  double others = 0;  ///< share of the processors that other programs take, 0 up to 0.9
  bool loop = false;  ///< a further pass of a loop
};

/// The forecast of `range` if all of it were so. Costs never measured come from the laws and are marked.
/// Errors: a segment, effect or setting that there is not; a share that leaves nothing.
Result<Forecast> forecast_if(const TimelinePtr& timeline, Stores stores, FrameRange range,
                             const Supposition& what);

}  // namespace gc
