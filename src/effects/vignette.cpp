// Vignette: darkens toward the corners. The factor is 1 inside `size` (part of the half diagonal) and falls
// smoothly (3t² − 2t³) to 1 − amount over `softness`.
#include <algorithm>
#include <cmath>

#include "effects/points.h"
#include "effects/registry.h"

#define GC_CLONES __attribute__((target_clones("arch=x86-64-v3", "default")))

namespace gc {
namespace {

struct Shape {
  float amount, size, softness;
};

GC_CLONES void darken(float* p, std::size_t n, float x0, float dy2, float diagonal, Shape s) {
  for (std::size_t i = 0; i < n; ++i) {
    const float dx = x0 + static_cast<float>(i);
    const float r = std::sqrt(dx * dx + dy2) / diagonal;
    const float t = std::min(std::max((r - s.size) / s.softness, 0.0f), 1.0f);
    const float f = 1 - s.amount * t * t * (3 - 2 * t);
    p[4 * i] *= f, p[4 * i + 1] *= f, p[4 * i + 2] *= f;
  }
}

class Vignette : public PointInstance {
 public:
  Vignette(const EffectType& type, const Json& p, int, int)
      : s_{param_f(type, p, "amount"), param_f(type, p, "size"),
           std::max(1e-3f, param_f(type, p, "softness"))} {}
  bool identity() const override { return s_.amount == 0; }
  void pixels(float* rgba, std::size_t n, int x, int y, const FrameContext& at) const override {
    const float w = static_cast<float>(at.width), h = static_cast<float>(at.height);
    const float dy = static_cast<float>(y) + 0.5f - h / 2;
    darken(rgba, n, static_cast<float>(x) + 0.5f - w / 2, dy * dy, std::hypot(w / 2, h / 2), s_);
  }
  bool apply(cv::UMat& image, bool opaque, const FrameContext& at) const override {
    return run_point_kernel(R"(
  const float r = length((float2)(x + 0.5f - w * 0.5f, y + 0.5f - h * 0.5f)) / length((float2)(w * 0.5f, h * 0.5f));
  const float t = clamp((r - a[1]) / a[2], 0.0f, 1.0f);
  p.xyz *= 1 - a[0] * t * t * (3 - 2 * t);
)",
                            "", image, opaque, at, {s_.amount, s_.size, s_.softness});
  }

 private:
  Shape s_;
};

}  // namespace

const EffectType& vignette_effect() {
  static const EffectType type = [] {
    EffectType t{"vignette",
                 "Vignette",
                 StageKind::effect,
                 {{"amount", "Amount", "", 0, 1, 0.4},
                  {"size", "Size", "of the half diagonal", 0, 1, 0.5},
                  {"softness", "Softness", "of the half diagonal", 0, 1, 0.5}},
                 false,
                 make_instance<Vignette, vignette_effect>};
    t.point = t.accelerator = true;
    t.tolerance = 1e-5;
    t.family = "detail";
    return t;
  }();
  return type;
}

}  // namespace gc
