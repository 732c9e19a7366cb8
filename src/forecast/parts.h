// Frames with one sort of cost, and the model of playing them that is built from the cost book.
#pragma once
#include "forecast/forecast.h"

namespace gc {

/// Frames in a row with one sort of cost.
struct Alike {
  Frames in = 0, out = 0;
  int interval = 0;
  FrameState state = FrameState::live;
  TapPattern taps;
};
inline bool is_live(const Alike& r) { return r.state != FrameState::sealed && r.state != FrameState::remembered; }
/// In order, covering the range.
std::vector<Alike> alike_frames(const Program& program, const Route& route, FrameRange range);

/// Where the costs of a sort of frames are in the model, and what is known of them.
struct PoolEntry {
  std::uint32_t pool = 0;  ///< index into Model::pools
  bool measured = true;
  std::vector<StageCost> stages;
};

/// The model of playing these parts.
/// @param entries gets one for each part, when asked for
/// @param live_entries gets those of the same frames made live
Model model_of_parts(const Program& program, const CostBook& book, const std::vector<Alike>& parts, FrameRange range,
                     const ForecastOptions& options, std::vector<PoolEntry>* entries = nullptr, std::vector<PoolEntry>* live_entries = nullptr);

/// A second pass after the first. Its files are open already, and nothing was made ahead of its clock.
void repeat(Model& model);

}  // namespace gc
