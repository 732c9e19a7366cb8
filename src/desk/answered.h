// What answers a segment's frames in playback, in a few words.
#pragma once
#include "desk/desk.h"

namespace gc {

/// "live", "sealed", "sealed 40 %", "seal broken", "baked", "copy 1/2", "after Gaussian blur", "bypassed" or "offline": of
/// what holds for most of its frames.
std::string answered_from(const View& view, const Forecast& forecast, const CompiledSegment& segment);

}  // namespace gc
