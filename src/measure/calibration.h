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

/// How wide ranges have to be for nine in ten playouts to lie in them, by what the latest playouts needed: inductive conformal
/// prediction, whose answer is the value of rank ⌈0.9 (n + 1)⌉ (Papadopoulos and others, 2002). Twenty playouts that
/// needed 1.5/19, 3/19 … 30/19 are put in beforehand, so 1.5 where none is known. After one that goes
/// astray it is 1.58: one bad minute is no record. At least 1/2.
double widening_of(std::vector<double> needed);

}  // namespace gc
