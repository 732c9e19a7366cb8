// Spans of a forecast: where it drops, how surely, and why.
#pragma once
#include <span>

#include "forecast/forecast.h"

namespace gc {

/// Intervals that hold frames of a range.
std::span<const IntervalCost> intervals_in(const Forecast& f, FrameRange range);

/// In what share of the trials frames of a range are dropped because they are late, and because the display
/// is kept from looking for them.
std::pair<double, double> any_drops(const Forecast& f, FrameRange range);

/// The verdict of a range by itself; without cause and blame.
Span span_of(FrameRange range, const Forecast& f);

/// Frames that lie in a run of drops in at least half of the trials.
std::vector<FrameRange> said_runs(const Forecast& f);

/// Spans that cover the whole range: runs of drops, what lies between them, and what is no matter of speed. Each with its
/// segments, cause and blame.
std::vector<Span> spans_of(const Forecast& f, const Program& program, const ForecastOptions& options);

}  // namespace gc
