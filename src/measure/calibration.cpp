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

double widening_of(std::vector<double> needed) {
  // Seen in 24 first playouts on a fresh notebook, others at work on the machine: nine in ten needed 1.5.
  constexpr int kBeforehand = 20;
  for (int i = 1; i <= kBeforehand; ++i) needed.push_back(1.5 * i / (kBeforehand - 1));
  std::sort(needed.begin(), needed.end());
  const auto rank = static_cast<std::size_t>(std::ceil(0.9 * static_cast<double>(needed.size() + 1)));
  return std::max(0.5, needed[std::min(rank, needed.size()) - 1]);
}

}  // namespace gc
