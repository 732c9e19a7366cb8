// What answers a segment's frames in playback, in a few words.
#pragma once
#include "desk/desk.h"

namespace gc {

/// "live", "sealed", "sealed 40 %", "seal broken", "baked", "copy", "copy 1/2", "after Gaussian blur", "half sealed" (something inside it is
/// fetched), "bypassed" or "offline". Any sealed frame is told before what is fetched for others.
std::string answered_from(const View& view, const Forecast& forecast, const CompiledSegment& segment);

}  // namespace gc
