// Timelines of pictures that are not ours, as other programs would hand them over: made by the ffmpeg program's own
// sources in every container, codec, raster, rate and tag that should work, and written as a plain interchange document.
// Each frame of each file shows its own number, so that anyone can see which frame is shown where.
#pragma once
#include <functional>

#include "base/files.h"
#include "base/json.h"
#include "base/rational.h"
#include "interchange/otio.h"

namespace gc {

struct ForeignOptions {
  std::uint64_t seed = 1;
  int files = 8;                   ///< media files, each of another kind
  std::function<bool()> stop = {}; ///< asked between two files
};

struct ForeignReport {
  fs::path timeline;  ///< FOLDER/foreign.otio
  fs::path shows;     ///< FOLDER/shows.json: what each frame must show
  int files = 0;
  Frames frames = 0;
  std::vector<std::string> kinds;  ///< of the files: "matroska, ffv1, 161×97, 59.94"
};

/// Makes the files and the two documents. The same seed gives the same timeline. Needs the `ffmpeg` program.
///
/// shows.json: `{width, height, rate, frames[] {frame, number (or null), why, box [x, y, width, height]}}`. `number` is the
/// source frame's own, modulo 256, in eight blocks across the upper half of `box`, lowest bit first, white for 1. Null:
/// `why` says what is there instead ("missing", "beyond the end", "gap", "generator", "transition"). A frame has a second entry
/// where a picture in the picture shows a number too.
Result<ForeignReport> make_foreign(const fs::path& folder, const ForeignOptions& options);

/// One frame that does not show what it must.
struct Wrong {
  Frames frame = 0;
  int wanted = 0, shown = 0;  ///< −1: no picture
  std::string what;           ///< kind of file
};
struct ForeignCheck {
  int looked_at = 0;
  std::vector<Wrong> wrong;
};
/// Opens the timeline as any other and reads the numbers back from rendered frames, `every`-th frame and those around cuts.
/// @param options how a timeline is opened elsewhere too
Result<ForeignCheck> check_foreign(const ForeignReport& report, int every, const ReadOptions& options);

}  // namespace gc
