// Eight trials of a simulation played side by side, each at its own pace.
#pragma once
#include "forecast/draws.h"

namespace gc {

inline constexpr Frames kBlock = 384;        ///< frames between two states that are kept
inline constexpr std::size_t kTogether = 8;  ///< trials side by side

/// All trials at the start of a block.
struct Boundary {
  std::vector<ClockworkOf<double>> states;  ///< one for each trial; what is next is decided
  std::vector<LaneOf<double>> lanes;        ///< workers of the first trial, of the second ...
};

/// Which frames of a block each trial misses, a bit for each frame.
struct MissedBits {
  static constexpr std::size_t kWords = static_cast<std::size_t>(kBlock) / 64;
  std::vector<std::uint64_t> words;  ///< kWords for each trial

  explicit MissedBits(std::size_t trials = 0) : words(trials * kWords, ~std::uint64_t{0}) {}
  const std::uint64_t* of(std::size_t trial) const { return words.data() + trial * kWords; }
  std::uint64_t* of(std::size_t trial) { return words.data() + trial * kWords; }
};

/// Blocks [first, last), and where to find and leave what belongs to them.
struct BlockRun {
  std::size_t first = 0, last = 0;
  /// Of block `first`, which is read, up to that of `last`; null ones are not left.
  std::vector<Boundary*> at;
  /// Of each block, with all frames missed: what is made in time is taken out.
  std::vector<MissedBits*> missed;
};

/// Before anything is played: the state of a trial at the first frame. `lanes`: as many as there are workers.
ClockworkOf<double> at_the_start(const Model& model, const DrawTables& tables, std::uint64_t seed, int trial,
                                 LaneOf<double>* lanes);

/// Plays trials [trial, trial + 8), or as many as there are, through blocks. A frame's draws depend on seed,
/// trial and its number alone, so that it does not matter which trials are together.
void play_eight(const Model& model, const DrawTables& tables, std::uint64_t seed, std::size_t trial,
                std::size_t trials, const BlockRun& run);

}  // namespace gc
