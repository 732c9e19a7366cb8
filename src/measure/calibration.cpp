#include "measure/calibration.h"

#include <algorithm>
#include <cmath>

namespace gc {
namespace {

/// Of 64 trials none or all say less than certainty.
double logit(double p) {
  constexpr double kLeast = 1.0 / 130;
  p = std::clamp(p, kLeast, 1 - kLeast);
  return std::log(p / (1 - p));
}
double logistic(double x) { return 1 / (1 + std::exp(-x)); }

}  // namespace

double Calibration::operator()(double p) const { return outcomes == 0 ? p : logistic(a + b * logit(p)); }

Calibration calibration_of(const std::vector<Said>& all) {
  double weight = 0, dropped = 0;
  for (const Said& s : all) {
    weight += s.weight;
    if (s.dropped) dropped += s.weight;
  }
  if (weight < kLeastOutcomes || 8 * std::min(dropped, weight - dropped) < kLeastOutcomes) return {};
  constexpr double kPrior = kLeastOutcomes / 2.0 / 4;  // information of that many outcomes at even odds
  Calibration c;
  for (int round = 0; round < 30; ++round) {
    // Newton's step of the penalised log-likelihood.
    double ga = -kPrior * c.a, gb = -kPrior * (c.b - 1), aa = kPrior, ab = 0, bb = kPrior;
    for (const Said& s : all) {
      const double x = logit(static_cast<double>(s.probability)), p = logistic(c.a + c.b * x);
      const double w = s.weight * p * (1 - p), off = s.weight * ((s.dropped ? 1 : 0) - p);
      ga += off, gb += off * x, aa += w, ab += w * x, bb += w * x * x;
    }
    const double det = aa * bb - ab * ab;
    const double da = (bb * ga - ab * gb) / det, db = (aa * gb - ab * ga) / det;
    c.a += std::clamp(da, -1.0, 1.0), c.b += std::clamp(db, -1.0, 1.0);
    if (std::abs(da) + std::abs(db) < 1e-9) break;
  }
  // A seat on which a higher probability means fewer drops has not been understood.
  if (c.b < 0.1) return {};
  c.outcomes = static_cast<int>(all.size());
  return c;
}

DropRange DropRange::widened(double k) const {
  const double slack = std::min(1.0, expected);
  return {expected, std::max(0.0, low - (k - 1) * (expected - low + slack)), high + (k - 1) * (high - expected + slack)};
}

double DropRange::needed(double dropped) const {
  const double slack = std::min(1.0, expected), half = dropped < expected ? expected - low : high - expected;
  return half + slack > 0 ? (std::abs(dropped - expected) + slack) / (half + slack) : 0;
}

double alike(double now, double then) {
  constexpr double kState = 0.2, kUnknown = 1;
  if (now < 0) return 1;
  return std::exp(-(then < 0 ? kUnknown : std::abs(then - now)) / kState);
}

double widening_of(std::vector<RangeNeeded> needed, double crowding) {
  // Seen on notebooks that were fresh an hour before: of 22 playouts on quiet cores 21 needed up to 0.84. Of 17 on crowded ones
  // ten needed up to 1.8, one 5, and six of one timeline more than 20, which no range could have held.
  constexpr double kQuiet = 0.9, kCrowded = 1.8, kUnknown = 1.5, kLeast = 0.5, kMost = 4;
  constexpr int kBeforehand = 20;
  const double usual = crowding < 0 ? kUnknown : std::lerp(kQuiet, kCrowded, std::clamp((crowding - 0.1) / 0.5, 0.0, 1.0));
  for (int i = 1; i <= kBeforehand; ++i) needed.push_back({usual * i / (kBeforehand - 1), crowding});
  std::ranges::sort(needed, {}, &RangeNeeded::k);
  double all = 0, below = 0;
  for (const RangeNeeded& n : needed) all += alike(crowding, n.crowding);
  for (const RangeNeeded& n : needed)
    if ((below += alike(crowding, n.crowding)) >= 0.9 * (all + 1)) return std::clamp(n.k, kLeast, kMost);
  return std::clamp(needed.back().k, kLeast, kMost);
}

}  // namespace gc
