// The playing pipeline in model form. See docs/model.md.
#pragma once
#include <cstdint>
#include <memory>
#include <vector>

#include "measure/notebook.h"
#include "pipeline/pacing.h"

namespace gc {

/// Frames whose costs come from one pool of samples.
struct CostPool {
  std::vector<FrameSample> frames;  ///< never empty; neighbours in the order in which they were measured
  std::vector<float> entries;       ///< times of opening and seeking before a first frame; may be empty
  bool decodes_between = false;     ///< frames that are not shown must be decoded all the same (long GOP)
  float beside = 0;                 ///< for each ms of fetching, what decoders' own threads work on it besides
  int neighbours = 0;               ///< other frames' pictures that a frame looks at
  float neighbour_ms = 0;           ///< of making one of them
  friend bool operator==(const CostPool&, const CostPool&) = default;
};

/// Frames [in, out), counted from the start of playback, with costs from one pool.
struct CostStretch {
  Frames in = 0, out = 0;
  std::uint32_t pool = 0;
  bool entry = true;        ///< its first frame has to open and seek
  Frames entry_frames = 0;  ///< frames to decode before the first one, from the key frame on
  bool opens = true;        ///< false: whatever it enters is open already
  int entry_neighbours = 0;  ///< pictures of neighbours that its first frame has to make when it comes after the frame before
  friend bool operator==(const CostStretch&, const CostStretch&) = default;
};

struct Model {
  Pace pace;
  std::vector<CostKind> kinds;  ///< what the player is told beforehand
  std::vector<CostPool> pools;
  std::vector<CostStretch> stretches;  ///< in order, without holes
  Frames first = 0;  ///< number of the first frame: where models of one timeline overlap, their frames draw the same costs
  double scale = 1;                    ///< of all costs: above 1 for a plan with a margin
  Mood mood;                           ///< of the seat now, against what the pools say
  std::vector<Disturbance> lately;  ///< each trial takes one of these in turn; empty: nothing from outside
  Frames frames() const { return stretches.empty() ? 0 : stretches.back().out; }
};

/// What the player can be told of a model's frames: from each change of pool on, what is usual there.
std::vector<CostKind> kinds_told(const Model& model);

/// What one frame takes, as it was measured or as a script has it, ms.
struct FrameCost {
  double fetch = 0;     ///< when it is reached from the one before it
  double catch_up = 0;  ///< besides, when the frame fetched before it is `after`; below 0: decoders had worked ahead
  double process = 0;
  Frames after = -1;
  bool decodes_between = false;
  double stall = 0;  ///< holds fetching up besides, whatever came before

  // What a real machine adds between its stages, as a playout's log has it.
  double starting = 0;  ///< from when it might start until it did
  double turn = 0;      ///< until it took its turn to fetch
  double arriving = 0;  ///< from when it was done until it lay ready for the display
  double handing = 0;   ///< from when it was done until its worker took on the next
  double looked = 0;    ///< how long after its time the display's thread looked for it

  double beside = 0;  ///< what decoders' own threads worked on it, which the rule counts as if the worker had

  // Effects that look at neighbouring frames.
  int neighbours = 0;
  double neighbour = 0;       ///< making one of them
  double all_neighbours = 0;  ///< processing besides, when the frame fetched before it is `after`
};

/// The catching up of frame n when `last` was fetched before it: as measured, or the frames between.
double catch_up_of(const std::vector<FrameCost>& costs, Frames last, Frames n);
/// The same of processing: neighbours that no frame before it has left.
double neighbours_of(const std::vector<FrameCost>& costs, Frames last, Frames n);

/// One frame's outcome.
struct Outcome {
  bool dropped = false;
  float late_ms = 0;  ///< past its deadline when done; 0 for frames never started
};

/// Plays given costs once. Deterministic. Occupies workers and the fetching turn exactly as the pipeline does
/// and asks the same pacing rule. `begins`: when each worker takes on its first frame after the clock
/// started, ms; those that are missing do at once. `kinds`: what the player was told beforehand.
std::vector<Outcome> play_costs(const Pace& pace, const std::vector<FrameCost>& costs,
                                const std::vector<double>& begins = {}, Kinds kinds = {});

/// What many trials say. Kept in blocks of frames with the pipeline's state at the start of each, so that a
/// simulation of a changed timeline can begin where the change is and end where its state meets the old one.
class Trials {
 public:
  int trials() const { return trials_; }
  std::uint64_t seed() const { return seed_; }
  Frames frames() const { return static_cast<Frames>(miss_.size()); }
  /// For each frame: share of trials in which it is dropped.
  const std::vector<float>& miss() const { return miss_; }
  /// Dropped frames of each trial within [in, out).
  std::vector<std::uint32_t> drops(Frames in, Frames out) const;
  /// Of them those that lay ready, and the display's thread was kept from looking for them.
  std::vector<std::uint32_t> not_looked_for(Frames in, Frames out) const;
  /// Frames within [in, out) that are dropped in a trial because they are late, in order.
  std::vector<Frames> late(int trial, Frames in, Frames out) const;
  /// Frames that were simulated for this, the rest being taken over.
  Frames simulated() const { return simulated_; }

 private:
  friend class Simulation;
  struct Block;
  struct Looks;
  template <class Each>
  void each_block(Frames in, Frames out, Each each) const;
  int trials_ = 0;
  std::uint64_t seed_ = 0;
  Frames simulated_ = 0;
  std::vector<float> miss_;
  std::vector<std::shared_ptr<const Block>> blocks_;
};

/// Plays the model `trials` times with costs drawn from the pools; the same for the same seed, however many
/// threads. A frame's draws depend on seed, trial and its number alone.
Trials simulate(const Model& model, int trials, std::uint64_t seed);

/// The same for `model` when `before` came from `model_before`: only what can have changed is simulated
/// again.
Trials simulate_again(const Model& model, const Model& model_before, const Trials& before);

}  // namespace gc
