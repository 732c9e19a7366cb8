// Probabilities held to what happened: what a seat's forecasts said of segments, and what came of it.
#pragma once
#include <vector>

namespace gc {

/// A segment was said to drop any frame with this probability, and did or did not.
struct Said {
  float probability = 0;
  bool dropped = false;
};

/// Logistic recalibration (Cox, 1958): logit p' = a + b logit p.
struct Calibration {
  double a = 0, b = 1;
  int outcomes = 0;  ///< that it rests on
  double operator()(double probability) const;
};

/// Below this many outcomes, or with fewer than an eighth of them of either sort, nothing is moved.
inline constexpr int kLeastOutcomes = 64;

/// Fitted by maximum likelihood with a and b drawn towards 0 and 1, as if half a floor of evidence said that
/// all is right.
Calibration calibration_of(const std::vector<Said>& outcomes);

}  // namespace gc
