// What encoding the pictures of a timeline takes. It depends on the pictures: the same form took 14 ms of one and 50 of the next.
#pragma once
#include "media/writer.h"
#include "measure/measure.h"

namespace gc {

/// Contents whose pictures are about equally hard to encode: what the stack of the lowest visible segment starts from.
Hash128 content_at(const Program& program, Frames frame);

/// Where the notebook keeps what encoding a frame takes; without a content, of any.
Hash128 encode_key(Form form, int width, int height, const Hash128& content = {});

/// Of one frame, means, ms; 0 when nothing is known.
struct EncodeCost {
  double wall_ms = 0;  ///< until the next one can begin
  double cpu_ms = 0;   ///< of all threads that the encoder has
  EncodeCost times(double k) const { return {wall_ms * k, cpu_ms * k}; }
};

/// What was measured of this form, raster and content; else of any content; else of the form in which finished frames of the
/// timeline are kept, times what this form takes against it.
EncodeCost encode_cost(const Notebook& notebook, const Timeline& timeline, Form form, int width, int height, const Hash128& content = {});

/// Encodes a few pictures of every content of the range that is not known yet in this form, those first that fill most of it, for
/// about so many seconds. How many contents were measured.
Result<int> measure_encoding(const ProgramPtr& program, Notebook& notebook, Form form, FrameRange range, int workers, const fs::path& folder,
                             double seconds, const std::stop_token& stop);

}  // namespace gc
