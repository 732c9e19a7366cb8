// Pre-rendering: pieces of the program rendered in full quality, encoded as VC-3 HQX, and put on the shelf
// one by one.
#pragma once
#include <functional>

#include "measure/measure.h"
#include "shelf/shelf.h"

namespace gc {

struct PrerenderProgress {
  Frames done = 0, total = 0;
  int pieces = 0;           ///< finished and sealed
  double seconds = 0;       ///< since the start
  double seconds_left = 0;  ///< at the present pace
};

struct PrerenderReport {
  Frames frames = 0;          ///< rendered and sealed now
  Frames already_sealed = 0;  ///< left out: the shelf had them
  int pieces = 0;
  std::uint64_t bytes = 0;
  double seconds = 0;
  bool cancelled = false;
};

/// What a render takes, by costs alone and as a person is told.
struct RenderPrice {
  Frames frames = 0;
  double modelled_s = 0, said_s = 0;
};

struct PrerenderOptions {
  int workers = 2;
  bool background = true;
  std::uint64_t leave_free_bytes = std::uint64_t{1} << 30;  ///< on the shelf's volume
  Device device = Device::processor;                        ///< the setting for rendering
  std::shared_ptr<Notebook> notebook = {};                  ///< learns from every frame
  RenderPrice price = {};  ///< what was said of it; kept with what it took, when all of it was rendered
};

/// The same timeline as it is rendered: at full quality, with everything that is unseen in playback made.
ProgramPtr for_rendering(const ProgramPtr& program, Device device, MediaCatalog& media);

/// Length of a piece: short enough that little is lost when it is cut off.
inline constexpr Frames kPieceFrames = 24;

/// Cuts ranges into pieces, none across a boundary of intervals.
std::vector<FrameRange> pieces_of(const Program& program, const std::vector<FrameRange>& ranges);

/// Of the ranges of a program that were to be rendered, the frames that the program of now still has, wherever
/// they lie in it.
std::vector<FrameRange> still_wanted(const Program& accepted, const std::vector<FrameRange>& ranges,
                                     const Program& now);

/// Renders what of the ranges is not sealed yet, at full quality whatever the options of `program` are.
/// `progress` is called from worker threads; returning false cancels within the time of the frames in flight.
/// Finished pieces stay, whatever happens afterwards.
Result<PrerenderReport> prerender(const ProgramPtr& program, Shelf& shelf,
                                  const std::vector<FrameRange>& ranges, const PrerenderOptions& options,
                                  const std::function<bool(const PrerenderProgress&)>& progress);

/// Renders a segment's picture after the first effects of its stack and puts it on the shelf: what lies above stays live
/// and can be changed without losing it. Only opaque pictures between black and white can be kept so.
/// @param after number of effects, counted as the program runs them; at least 1
Result<PrerenderReport> cache_stack(const ProgramPtr& program, Shelf& shelf, const std::string& segment, std::size_t after,
                                    const PrerenderOptions& options,
                                    const std::function<bool(const PrerenderProgress&)>& progress);

}  // namespace gc
