// Forecast held against playout.
#pragma once
#include "playout/player.h"

namespace gc {

struct Audit {
  double drops_forecast = 0, drops_low = 0, drops_high = 0;
  Frames drops_observed = 0, drops_outside = 0;
  std::vector<FrameRange> spans_forecast;  ///< spans that were called to drop
  std::vector<FrameRange> spans_observed;  ///< runs of dropped frames, those the outside took left out
  int matched = 0;  ///< pairs of them that are one
  double span_precision = 1, span_recall = 1, span_f1 = 1;
  std::vector<std::string> disagreements;  ///< a sentence each
  std::string sentence;
};

/// Compares over the same range all drops with the forecast, and runs of own drops with the spans said of the timeline alone.
/// @param own what alone() makes of the forecast
Audit audit(const Forecast& forecast, const Forecast& own, const Playout& playout);

/// Runs of drops that were said, except where all of one is missing or unseen, which is no matter of speed.
std::vector<FrameRange> spans_called(const Forecast& forecast);
/// Runs of dropped frames, those left out that the outside took.
std::vector<FrameRange> spans_observed(const Playout& playout);
/// Which of these are one: intersection ÷ union at least 1/2, each at most once, the greatest overlap first.
std::vector<std::pair<std::size_t, std::size_t>> matched(const std::vector<FrameRange>& these, const std::vector<FrameRange>& those);

/// Remembers all that a playout teaches: how often and for how long the outside held frames up, what was said
/// of each segment and what came of it, so that probabilities are held to it, and how far frames were from
/// what is known of them.
Result<void> note_playout(const Forecast& forecast, const Playout& playout, const Program& program,
                          Notebook& notebook);
// The parts of it.
Result<void> note_disturbance(const Playout& playout, Notebook& notebook);
Result<void> note_outcomes(const Forecast& forecast, const Playout& playout, const Program& program,
                           Notebook& notebook);
/// For each stretch, what its frames took ÷ what is known of them.
std::vector<float> moods_of(const Forecast& forecast, const Playout& playout);

/// The lowest layer's segments, as ranges of frames.
std::vector<FrameRange> segment_ranges(const Program& program);
/// Frames of a range that were dropped; for this cause, when one is given.
int drops_in(const Playout& playout, FrameRange range, Cause cause = Cause::none);

/// Brier score (Brier, 1950): mean squared difference of probability and outcome (0 or 1).
double brier(const std::vector<double>& probability, const std::vector<int>& outcome);

/// Wilson's score interval (1927) for k successes of n, at z standard deviations.
struct Interval01 {
  double low = 0, high = 1;
};
Interval01 wilson(int k, int n, double z = 1.96);

}  // namespace gc
