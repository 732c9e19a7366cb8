// A timeline made ready to play: with everything that its open slips measure.
#pragma once
#include "render/program.h"

namespace gc {

/// The program that playback runs. Open slips set scale, region, draft scaling and half precision over what `usual` says;
/// those of a scale for some frames alone make these at another scale, from cut to cut.
ProgramPtr played_program(const TimelinePtr& timeline, MediaCatalog& media, const RenderOptions& usual);

}  // namespace gc
