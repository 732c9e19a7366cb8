// Tone curves: a master and one for each channel, through points (x, y) in 0…1. Between points the curve is a
// cubic Hermite piece with the slopes of Fritsch and Butland (1984), so that it never turns back; outside
// them it goes on as a straight line.
#include <algorithm>
#include <array>
#include <cmath>

#include "base/smooth.h"
#include "effects/points.h"
#include "effects/registry.h"

#define GC_CLONES __attribute__((target_clones("arch=x86-64-v3", "default")))

namespace gc {
namespace {

constexpr int kSteps = 4096;  // straight pieces that a curve is drawn with between 0 and 1

struct Point {
  double x, y;
};

/// Points in order of x; fewer than two usable ones make the straight curve.
std::vector<Point> points_of(const Json& p, const char* name) {
  std::vector<Point> points;
  const auto it = p.find(name);
  if (it != p.end() && it->is_array())
    for (const Json& v : *it)
      if (v.is_array() && v.size() == 2 && v[0].is_number() && v[1].is_number())
        points.push_back(
            {std::clamp(v[0].get<double>(), 0.0, 1.0), std::clamp(v[1].get<double>(), -1.0, 2.0)});
  std::stable_sort(points.begin(), points.end(), [](const Point& a, const Point& b) { return a.x < b.x; });
  points.erase(std::unique(points.begin(), points.end(),
                           [](const Point& a, const Point& b) { return b.x - a.x < 1e-6; }),
               points.end());
  if (points.size() < 2) return {{0, 0}, {1, 1}};
  return points;
}

double curve(const std::vector<Point>& p, double x) {
  const std::size_t n = p.size();
  const auto chord = [&](std::size_t i) { return (p[i + 1].y - p[i].y) / (p[i + 1].x - p[i].x); };
  const auto slope = [&](std::size_t i) {
    if (i == 0) return chord(0);
    if (i == n - 1) return chord(n - 2);
    return smooth_slope(chord(i - 1), chord(i), p[i].x - p[i - 1].x, p[i + 1].x - p[i].x);
  };
  if (x <= p.front().x) return p.front().y + chord(0) * (x - p.front().x);
  if (x >= p.back().x) return p.back().y + chord(n - 2) * (x - p.back().x);
  std::size_t i = 0;
  while (p[i + 1].x < x) ++i;
  const double h = p[i + 1].x - p[i].x, t = (x - p[i].x) / h;
  return hermite(t, p[i].y, slope(i) * h, p[i + 1].y, slope(i + 1) * h);
}

GC_CLONES void look_up(float* p, std::size_t n, const float* table) {
  for (std::size_t i = 0; i < n; ++i) {
    for (std::size_t c = 0; c < 3; ++c) {
      const float at = std::min(std::max(-1.0f, p[4 * i + c]), 2.0f) * kSteps + kSteps;
      const int k = std::max(0, std::min(static_cast<int>(at), 3 * kSteps - 1));
      const float f = at - static_cast<float>(k);
      const float* t = table + c * (3 * kSteps + 1) + k;
      p[4 * i + c] = t[0] + (t[1] - t[0]) * f;
    }
  }
}

class Curves : public PointInstance {
 public:
  Curves(const EffectType&, const Json& p, int, int) {
    const auto master = points_of(p, "master");
    table_.resize(3 * (3 * kSteps + 1));
    static constexpr std::array<const char*, 3> kNames{"red", "green", "blue"};
    for (std::size_t c = 0; c < 3; ++c) {
      const auto own = points_of(p, kNames[c]);
      for (int k = 0; k <= 3 * kSteps; ++k) {  // from −1 to 2
        const double x = static_cast<double>(k) / kSteps - 1, y = curve(own, curve(master, x));
        same_ = same_ && std::abs(y - x) < 1e-7;
        table_[c * (3 * kSteps + 1) + static_cast<std::size_t>(k)] = static_cast<float>(y);
      }
    }
  }
  bool identity() const override { return same_; }
  void pixels(float* rgba, std::size_t n, int, int, const FrameContext&) const override {
    look_up(rgba, n, table_.data());
  }
  bool apply(cv::UMat& image, bool opaque, const FrameContext& at) const override {
    return run_point_kernel(R"(
  float v[3] = {p.x, p.y, p.z};
  for (int c = 0; c < 3; ++c) {
    const float at = clamp(v[c], -1.0f, 2.0f) * 4096.0f + 4096.0f;
    const int k = min((int)at, 3 * 4096 - 1);
    __global const float* t = table + c * (3 * 4096 + 1) + k;
    v[c] = t[0] + (t[1] - t[0]) * (at - k);
  }
  p.xyz = (float3)(v[0], v[1], v[2]);
)",
                            "", image, opaque, at, {}, table_);
  }

 private:
  std::vector<float> table_;
  bool same_ = true;
};

}  // namespace

const EffectType& curves_effect() {
  static const EffectType type = [] {
    EffectType t{"curves",
                 "Curves",
                 StageKind::grade,
                 {{"master", "All channels", "points", 0, 1, 0, 0},
                  {"red", "Red", "points", 0, 1, 0, 0},
                  {"green", "Green", "points", 0, 1, 0, 0},
                  {"blue", "Blue", "points", 0, 1, 0, 0}},
                 false,
                 make_instance<Curves, curves_effect>};
    t.point = t.accelerator = true;
    t.tolerance = 1e-5;
    t.family = "grade";
    return t;
  }();
  return type;
}

}  // namespace gc
