// Eight trials of a simulation played side by side, each at its own pace.
#pragma once
#include "forecast/draws.h"

namespace gc {

inline constexpr Frames kBlock = 384;        ///< frames between two states that are kept
inline constexpr std::size_t kTogether = 8;  ///< trials side by side

/// The state of all trials at the start of a block. The frame that each makes next is decided already.
struct Boundary {
  std::vector<ClockworkOf<double>> states;  ///< one for each trial
  std::vector<WorkerOf<double>> crew;       ///< the first trial's workers, then the second's, and so on
};

/// Which frames of a block each trial misses, a bit for each frame.
struct MissedBits {
  static constexpr std::size_t kWords = static_cast<std::size_t>(kBlock) / 64;
  std::vector<std::uint64_t> words;  ///< kWords for each trial

  explicit MissedBits(std::size_t trials = 0) : words(trials * kWords, ~std::uint64_t{0}) {}
  const std::uint64_t* of(std::size_t trial) const { return words.data() + trial * kWords; }
  std::uint64_t* of(std::size_t trial) { return words.data() + trial * kWords; }
};

/// Which blocks to play, [first, last), and where their results go.
struct BlockRun {
  std::size_t first = 0, last = 0;
  /// The boundaries before `first`, before the block after it, and so on up to the one after the last block. The
  /// first of them is read. The others are written, but for those that are null.
  std::vector<Boundary*> at;
  /// For each block its missed frames. All bits are set before it is played; those of frames that are made in time
  /// are taken out.
  std::vector<MissedBits*> missed;
};

/// The state of a trial at the first frame, before anything is played. `crew`: room for as many workers as the model
/// has; they are filled in.
ClockworkOf<double> at_the_start(const Model& model, const DrawTables& tables, std::uint64_t seed, int trial,
                                 WorkerOf<double>* crew);

/// Plays trials [trial, trial + 8), fewer at the end, through the blocks of `run`. A frame's draws depend on seed,
/// trial and frame number alone, so the result is the same whichever trials are played together.
void play_eight(const Model& model, const DrawTables& tables, std::uint64_t seed, std::size_t trial,
                std::size_t trials, const BlockRun& run);

}  // namespace gc
