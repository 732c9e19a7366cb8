// Probabilities held to what happened: what a seat's forecasts said of segments, and what came of it.
#pragma once
#include <utility>
#include <vector>

namespace gc {

/// A segment was said to drop any frame with this probability, and did or did not.
struct Said {
  float probability = 0;
  bool dropped = false;
  double weight = 1;  ///< as evidence; that of one by itself is 1
};

/// What each of so many outcomes of one playout weighs. They hang together: a seat that is slow for a minute is so for all of
/// them. The design effect of a cluster with a correlation of 1/2 within it (Kish, 1965).
inline double weight_in_playout(int outcomes) { return 1 / (1 + 0.5 * (outcomes - 1)); }

/// Logistic recalibration (Cox, 1958): logit p' = a + b logit p.
struct Calibration {
  double a = 0, b = 1;
  int outcomes = 0;  ///< that it rests on
  double operator()(double probability) const;
};

/// Below this weight of outcomes, or with less than an eighth of it of either sort, nothing is moved.
inline constexpr int kLeastOutcomes = 64;

/// Fitted by maximum likelihood with a and b drawn towards 0 and 1, as if half a floor of evidence said that
/// all is right.
Calibration calibration_of(const std::vector<Said>& outcomes);

/// Where nine in ten playouts' drops are expected, as a simulation alone has it.
struct DropRange {
  double expected = 0, low = 0, high = 0;
  /// With its halves this many times as wide: from low − (k − 1)(expected − low + s) to high + (k − 1)(high − expected + s),
  /// never below 0. s = min(1, expected), so that a range without width becomes wider as well.
  DropRange widened(double k) const;
  /// The k from which on the widened range holds a playout that dropped so many.
  double needed(double dropped) const;
};

/// What a playout says of the next one, whose cores are so crowded: 1 where they were as crowded, 1/e at 0.2 from that.
/// −1: how crowded is not known, now or then.
double alike(double crowding_now, double crowding_then);

/// The k that a playout needed (DropRange::needed) on cores so crowded.
struct RangeNeeded {
  double k = 0, crowding = -1;
};

/// How wide ranges have to be for nine in ten playouts to lie in them on cores so crowded, by what the latest playouts needed:
/// weighted conformal prediction (Tibshirani and others, 2019), the least value with which 0.9 (W + 1) of a weight of W is
/// reached. Put in beforehand are twenty playouts that needed u/19, 2u/19 … 20u/19: so u where nothing was played, which is 0.9
/// up to a crowding of 0.1, 1.8 from 0.6 on, straight between, and 1.5 where that is not known. After one that goes astray it is
/// a nineteenth more: one bad minute is no record. From 1/2 to 4: a range still wider would say nothing.
double widening_of(std::vector<RangeNeeded> needed, double crowding);

}  // namespace gc
