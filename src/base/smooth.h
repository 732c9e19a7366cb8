// Smooth curves through points that never turn back between them: cubic Hermite pieces with the slopes of
// Fritsch and Butland (1984).
#pragma once

namespace gc {

/// Slope at a point, from the slopes of the straight lines before and after it and their widths: their
/// weighted harmonic mean; 0 where the direction changes.
inline double smooth_slope(double before, double after, double width_before, double width_after) {
  if (before * after <= 0) return 0;
  const double a = 2 * width_after + width_before, b = width_after + 2 * width_before;
  return (a + b) / (a / before + b / after);
}

/// At t (0…1) of a piece from `a` to `b` that leaves with slope m0 and arrives with m1, both times its width.
inline double hermite(double t, double a, double m0, double b, double m1) {
  return (1 + 2 * t) * (1 - t) * (1 - t) * a + t * (1 - t) * (1 - t) * m0 + t * t * (3 - 2 * t) * b +
         t * t * (t - 1) * m1;
}

}  // namespace gc
