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

/// How well one sort of work is known: where the errors come from.
struct LawError {
  std::string law;
  int tries = 0;
  double median = 0, worst = 0;  ///< relative
  double bias = 0;  ///< median of predicted ÷ measured − 1: all in one direction, or either way
  double ms = 0;    ///< median measured
};
/// Of everything held back by its law, the worst first.
std::vector<LawError> law_errors(const std::vector<HeldOut>& held_out);

/// Opening a notebook of this many samples against opening an empty one, and one law's update. The notebook
/// is made in `folder` and removed.
Result<std::vector<Goal>> notebook_goals(const fs::path& folder, std::int64_t samples);

/// Frames that measuring a segment takes whose stages the laws cover. The notebook must have been calibrated.
Goal covered_goal(Notebook& notebook, int workers);

Json to_json(const std::vector<Goal>& goals);
Json to_json(const std::vector<LawError>& errors);
/// Each single stage that was held back: law, terms, measured, predicted.
Json to_json(const std::vector<HeldOut>& held_out);

}  // namespace gc
