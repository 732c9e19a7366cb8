// The seat's own acceptance test: laws tried on what they never saw, times of measuring, size of the
// notebook.
#pragma once
#include "measure/calibrate.h"

namespace gc {

struct Goal {
  std::string name, unit;
  double value = 0;
  double least = 0, most = 0;  ///< the goal: within these
  bool met() const { return value >= least && value <= most; }
};

/// Errors of the laws on what was held back, as goals. Relative errors are in per cent.
std::vector<Goal> law_goals(const std::vector<HeldOut>& held_out);

/// Opening a notebook of this many samples against opening an empty one, and one law's update. The notebook
/// is made in `folder` and removed.
Result<std::vector<Goal>> notebook_goals(const fs::path& folder, std::int64_t samples);

/// Frames that measuring a segment takes whose stages the laws cover. The notebook must have been calibrated.
Goal covered_goal(Notebook& notebook, int workers);

Json to_json(const std::vector<Goal>& goals);

}  // namespace gc
