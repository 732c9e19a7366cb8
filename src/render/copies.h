// Copies of sources that are light to decode; and the pieces that all that is rendered is cut into.
#pragma once
#include "render/program.h"

namespace gc {

/// Size and form of a copy `size` times smaller on each side, or why there is none.
struct CopyForm {
  Form form = Form::vc3_hqx;
  int width = 0, height = 0;
  std::string refused;  ///< a sentence
};
/// @param preferred where it can keep the pictures
CopyForm copy_form(const MediaInfo& media, int size, Form preferred);

/// Length of a piece, which is durable by itself: short enough that little is lost when it is cut off.
inline constexpr Frames kPieceFrames = 24;
/// No stub at the end: the last piece of a range may be half as long again, and a shorter range is one piece.
std::vector<FrameRange> cut_in_pieces(FrameRange range);

/// Frames of the range, in the source's own numbers, that no copy of that size holds yet. `seals` may be null.
std::vector<FrameRange> not_copied(const SealLookup* seals, const CompiledSegment& source, FrameRange range, int size);

/// What one thread of a copying does, in order: it decodes straight on.
struct CopyWay {
  std::vector<FrameRange> pieces;
  Frames frames = 0;
  Frames before = 0;  ///< that are decoded besides, to get to its first one
};
/// Shares the frames out evenly: the copy is done when the last thread is.
std::vector<CopyWay> copy_ways(const MediaInfo& media, const std::vector<FrameRange>& frames, int workers);

}  // namespace gc
