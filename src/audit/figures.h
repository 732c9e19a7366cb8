// The figures of the forecast, each defined once: what is said of a timeline held against its playouts.
// Own drops: those that the outside did not cause. Every forecaster is judged by the same ones.
#pragma once
#include "audit/audit.h"
#include "measure/self_test.h"

namespace gc {

/// Things said and things seen, one to one.
struct Matches {
  int called = 0, observed = 0, right = 0;
  void add(const std::vector<FrameRange>& said, const std::vector<FrameRange>& seen);
  void add(const Matches& other) { called += other.called, observed += other.observed, right += other.right; }
  double precision() const { return called ? static_cast<double>(right) / called : 1; }
  double recall() const { return observed ? static_cast<double>(right) / observed : 1; }
  /// Harmonic mean of both; NaN where nothing was said and nothing seen.
  double f1() const;
};

/// How often what was said with some probability came about: the reliability diagram.
struct Reliability {
  struct Bin {
    double from = 0, to = 0;
    int segments = 0, dropped = 0;  ///< said to drop with such a probability; and those that did
  };
  std::vector<Bin> bins;
  double brier = 0;
};
/// @param outcome 1 where it came about, of as many as there are probabilities
Reliability reliability(const std::vector<double>& probability, const std::vector<int>& outcome);
Json to_json(const Reliability& r);

/// What playing one timeline several times gave beside what was said of it.
struct Held {
  double expected = 0;            ///< own drops, said
  double low = 0, high = 0;       ///< of all drops, nine in ten, said
  std::vector<Frames> own, all;   ///< drops of each playout
  Matches spans;                  ///< said against each playout's runs
  Matches spans_limit;            ///< each playout's runs against the next one's
  Matches segments;               ///< of two or more own drops: said with at least 1/2, against those that did
  Matches segments_limit;
  std::vector<double> probability;  ///< of two or more own drops, for each segment and playout
  std::vector<int> outcome;
  double brier_limit = 0;           ///< mean over segments of what repeated playouts leave open
  int drops = 0, causes_right = 0;  ///< own drops, and those in a span that names the log's cause
  std::vector<double> cost_ratios;  ///< wall time of stretches in playback ÷ what was said of them

  /// Within 5 % or 3 frames of the mean of the playouts.
  bool total_right() const;
  int in_range() const;  ///< playouts whose total lies in the stated range
};

/// Own drops are held against what is said of the timeline alone, and all drops against the forecast's range.
/// @param own what alone() makes of the forecast
/// @param playouts of the same program and range, in the order in which they were played
Held held_against(const Forecast& forecast, const Forecast& own, const std::vector<Playout>& playouts, const Program& program);

/// Every figure, always; what could not be measured is NaN and not met. Over all that was tried.
std::vector<Goal> figures_of(const std::vector<Held>& all);

}  // namespace gc
