// Frames of a program, really decoded and processed.
#pragma once
#include "pipeline/pipeline.h"

namespace gc {

std::unique_ptr<FrameMaker> make_frames_of(ProgramPtr program, const SealLookup* seals,
                                           const PipelineOptions& options);

}  // namespace gc
