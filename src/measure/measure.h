// Measuring what frames cost, in the pipeline that plays them, at the parallelism of playback.
#pragma once
#include <functional>

#include "measure/notebook.h"
#include "pipeline/pipeline.h"

namespace gc {

struct MeasureOptions {
  double seconds = 20;      ///< stop after this long, whatever is known by then
  double tolerance = 0.05;  ///< wanted half-width of the median's interval, relative
  int workers = 2;
  bool again = false;  ///< measure also what the notebook knows well enough
};

struct MeasureProgress {
  int known = 0, wanted = 0;  ///< kinds of frames
  double seconds = 0, limit_seconds = 0;
  std::string what;  ///< name of the segment that is being measured
};

struct MeasureReport {
  int kinds = 0;          ///< different kinds of frames in the timeline
  int within = 0;         ///< of them, with a median known within the tolerance
  int from_notebook = 0;  ///< of them, known before
  int frames = 0;         ///< frames timed now
  double seconds = 0;
  bool cancelled = false;
};

/// Fills the notebook until every kind of frame is known or the time is spent. Also measures how sealed media
/// of this raster play and encode. `progress` returning false cancels.
Result<MeasureReport> measure(const ProgramPtr& program, Notebook& notebook, const MeasureOptions& options,
                              const std::function<bool(const MeasureProgress&)>& progress);

/// Runs these frames flat out through the pipeline and returns them in the order in which they were started.
std::vector<FrameResult> run_flat_out(const ProgramPtr& program, const SealLookup* seals,
                                      std::vector<Frames> frames, int workers, bool keep_image = false);

/// Key of the encoding times of sealed media at a raster.
Hash128 encode_key(int width, int height);

}  // namespace gc
