// Why forecast and playout disagree, as far as it can be told; and whether probabilities mean what they say.
#pragma once
#include "audit/figures.h"
#include "playout/record.h"

namespace gc {

/// A stage that took something else than was forecast.
struct CostDifference {
  std::string segment, label;
  double forecast_ms = 0, measured_ms = 0;  ///< a frame, mean
  double factor() const { return forecast_ms > 0 ? measured_ms / forecast_ms : 1; }
};

struct Explanation {
  std::vector<CostDifference> costs;  ///< whole segments off by more than 8 %, each by its worst stage
  Frames outside = 0;                 ///< drops that the outside took
  Replay model;                       ///< the model alone, with the measured times
  std::vector<std::string> sentences;
};
Explanation explain(const Forecast& forecast, const Playout& playout, const Program& program);
Json to_json(const Explanation& e);

/// Leaves a record of a playout that the model alone had wrong, for `gclk replay`, in `folder`; its path.
Result<fs::path> keep_replay(const Playout& playout, const Program& program, const fs::path& folder);

/// A forecast and a playout of the same range.
struct AuditRun {
  Forecast forecast;
  Playout playout;
};

/// Of segments to drop any frame.
Reliability reliability(const std::vector<AuditRun>& runs, const Program& program);

}  // namespace gc
