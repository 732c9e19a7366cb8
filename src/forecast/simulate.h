// The playing pipeline in model form. See docs/model.md.
#pragma once
#include <cstdint>
#include <vector>

#include "measure/notebook.h"
#include "pipeline/pacing.h"

namespace gc {

/// Frames whose costs come from one pool of samples.
struct CostPool {
  std::vector<FrameSample> frames;  ///< never empty
  std::vector<float> entries;       ///< times of opening and seeking before a first frame; may be empty
  bool decodes_between = false;     ///< frames that are not shown must be decoded all the same (long GOP)
};

/// Frames [in, out), counted from the start of playback, with costs from one pool.
struct CostStretch {
  Frames in = 0, out = 0;
  std::uint32_t pool = 0;
  bool entry = true;        ///< its first frame has to open and seek
  Frames entry_frames = 0;  ///< frames to decode before the first one, from the key frame on
};

struct Model {
  Pace pace;
  std::vector<CostPool> pools;
  std::vector<CostStretch> stretches;  ///< in order, without holes
  double scale = 1;                    ///< of all costs: above 1 for a plan with a margin
  double mood = 0;  ///< standard deviation of the seat's speed from stretch to stretch, relative
  Frames frames() const { return stretches.empty() ? 0 : stretches.back().out; }
};

/// One trial's outcome for a frame.
struct Outcome {
  bool dropped = false;
  float late_ms = 0;  ///< past its deadline when done; 0 for frames never started
};

/// What many trials say.
struct Trials {
  int trials = 0;
  std::vector<float> miss;                        ///< for each frame: share of trials in which it is dropped
  std::vector<std::vector<std::uint32_t>> drops;  ///< for each trial: the dropped frames, in order
};

/// Plays the model once with given costs: `fetch[i]`, `process[i]` for each frame. Deterministic. Occupies
/// workers and the fetching turn exactly as the pipeline does and asks the same pacing rule.
std::vector<Outcome> play_once(const Model& model, const std::vector<float>& fetch,
                               const std::vector<float>& process);

/// Plays the model `trials` times with costs drawn from the pools; the same for the same seed, however many
/// threads.
Trials simulate(const Model& model, int trials, std::uint64_t seed);

}  // namespace gc
