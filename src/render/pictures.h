// What a segment's pictures ask of decoders and encoders: how many are decoded for a frame, and which are equally hard to encode.
#pragma once
#include "render/program.h"

namespace gc {

/// Notes how many pictures of its source one frame of the segment takes. Where that is not one for one, what is read and decoded
/// costs by it. Of a variable rate frames are counted in its finest step, and as many pictures lie in them as do on the mean;
/// played backwards it is left alone.
void cost_by_pictures(CompiledSegment& source, Rate timeline_rate);

/// A grade leaves a picture about as hard to encode as it was; blur and grain do not.
Hash128 texture_of(const CompiledInterval& interval);

}  // namespace gc
