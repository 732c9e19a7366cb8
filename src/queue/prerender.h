// Rendering: pieces of a program, of a stack, of a composition or of a source in full quality, encoded in the form asked
// for, and put on the shelf one by one.
#pragma once
#include <functional>

#include "measure/measure.h"
#include "remedy/price.h"
#include "remedy/remedy.h"
#include "render/copies.h"
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

struct PrerenderOptions {
  int workers = 2;
  bool background = true;
  Device device = Device::processor;                        ///< the setting for rendering
  std::shared_ptr<Notebook> notebook = {};                  ///< learns from every frame
  RenderPrice price = {};  ///< what was said of it; kept with what it took, when all of it was rendered
  /// In which the pictures are kept. Where it cannot keep them (transparency, odd rasters) another is taken.
  Form form = Form::vc3_hqx;
};

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
/// and can be changed without losing it. Transparency is kept. Where values lie beyond what the form holds, half floats are
/// taken from there on.
/// @param after number of effects, counted as the program runs them; at least 1
Result<PrerenderReport> cache_stack(const ProgramPtr& program, Shelf& shelf, const std::string& segment, std::size_t after,
                                    const PrerenderOptions& options,
                                    const std::function<bool(const PrerenderProgress&)>& progress);

/// Renders a composition, with its transparency, once for all segments that show it.
/// @param frames of the composition; empty: all of it
Result<PrerenderReport> bake(const ProgramPtr& program, Shelf& shelf, const std::string& composition, FrameRange frames,
                             const PrerenderOptions& options,
                             const std::function<bool(const PrerenderProgress&)>& progress);

/// Copies a source into a form that is light to decode, `size` times smaller on each side (1, 2, 4, 8 or 16), with its
/// colours as they are. Floating-point light is kept as half floats, whatever the form.
/// @param frames of the source; empty: all of it
Result<PrerenderReport> copy_source(const CompiledSegment& source, Shelf& shelf, FrameRange frames, int size,
                                    const PrerenderOptions& options,
                                    const std::function<bool(const PrerenderProgress&)>& progress);

}  // namespace gc
