// What only shows when it moves: a key that chatters, grain that a repair left half done, light that flickers in an even
// area. Two frames side by side look right; played, they crawl.
#pragma once
#include "render/renderer.h"

namespace gc {

/// Where two neighbours differ most in an area that should stand still.
struct Restless {
  std::string segment;
  Frames frame = 0;    ///< the first of the two
  int x = 0, y = 0;    ///< the middle of the area, pixels of the raster
  double change = 0;   ///< of its mean brightness, in steps of 255
  std::string effect;  ///< label of the effect that it is asked of
  Hash128 shown;       ///< names what the segment shows; another one: it has changed since
};

/// From this change on an even area is seen to flicker: about one step of an 8-bit picture. Common practice, no source.
inline constexpr double kRestless = 1;

/// The greatest change of brightness, in steps of 255, between two pictures of the same size in an area of 16 × 16 pixels
/// that is even in both. Where `before` and `after` are given, the same pictures without what is asked of: what changes
/// there too is movement and not counted. More than eight steps are movement in any case.
struct Patch {
  int x = 0, y = 0;
  double change = 0;
};
Patch most_restless(const Image& first, const Image& second, const Image* before = nullptr, const Image* after = nullptr);

/// Whether the segment has something that only playing shows: a key, a repair. Its label, else empty.
std::string judged_in_motion(const CompiledSegment& segment);

/// The most restless pair of neighbours of a segment, of a few looked at. `plain`: the same program with the segment's
/// effects off. Nothing when the segment has no two frames in sight.
std::optional<Restless> restless(const Program& program, const Program& plain, const CompiledSegment& segment,
                                 const std::function<bool()>& go_on = {});

}  // namespace gc
