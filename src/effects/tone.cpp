// Two simple grades in one file, since both are a line of arithmetic: contrast about a pivot, and saturation
// about Rec. 709 luma.
#include "effects/points.h"
#include "effects/registry.h"
#include "media/lanes.h"

namespace gc {
namespace {

GC_LANES void contrast_pixels(float* p, std::size_t n, float contrast, float pivot) {
  const Lanes scale = lanes(contrast, 1), add = lanes(pivot - pivot * contrast, 0);
  for_pixels(
      p, n, [=](Lanes v) __attribute__((always_inline)) { return v * scale + add; });
}

GC_LANES void saturate_pixels(float* p, std::size_t n, float amount) {
  const Lanes own = lanes(amount, 1), grey = lanes(1 - amount, 0),
              weights = lanes(0.2126f, 0.7152f, 0.0722f, 0);
  for_pixels(
      p,
      n, [=](Lanes v) __attribute__((always_inline)) { return v * own + sum_of_pixel(v * weights) * grey; });
}

class Contrast : public PointInstance {
 public:
  Contrast(const EffectType& type, const Json& p, int, int)
      : contrast_(param_f(type, p, "contrast")), pivot_(param_f(type, p, "pivot")) {}
  bool identity() const override { return contrast_ == 1; }
  void pixels(float* rgba, std::size_t n, int, int, const FrameContext&) const override {
    contrast_pixels(rgba, n, contrast_, pivot_);
  }
  bool apply(cv::UMat& image, bool opaque, const FrameContext& at) const override {
    return run_point_kernel("  p.xyz = (p.xyz - a[1]) * a[0] + a[1];", "", image, opaque, at,
                            {contrast_, pivot_});
  }

 private:
  float contrast_, pivot_;
};

class Saturation : public PointInstance {
 public:
  Saturation(const EffectType& type, const Json& p, int, int) : amount_(param_f(type, p, "amount")) {}
  bool identity() const override { return amount_ == 1; }
  void pixels(float* rgba, std::size_t n, int, int, const FrameContext&) const override {
    saturate_pixels(rgba, n, amount_);
  }
  bool apply(cv::UMat& image, bool opaque, const FrameContext& at) const override {
    return run_point_kernel(
        "  const float luma = 0.2126f * p.x + 0.7152f * p.y + 0.0722f * p.z;\n  p.xyz = luma + a[0] * (p.xyz "
        "- luma);",
        "", image, opaque, at, {amount_});
  }

 private:
  float amount_;
};

EffectType grade(EffectType t) {
  t.point = t.accelerator = true;
  t.tolerance = 1e-5;
  t.family = "grade";
  return t;
}

}  // namespace

const EffectType& contrast_effect() {
  static const EffectType type =
      grade({"contrast",
             "Contrast",
             StageKind::grade,
             {{"contrast", "Contrast", "", 0, 8, 1}, {"pivot", "Pivot", "", 0, 1, 0.435}},
             false,
             make_instance<Contrast, contrast_effect>});
  return type;
}

const EffectType& saturation_effect() {
  static const EffectType type = grade({"saturation",
                                        "Saturation",
                                        StageKind::grade,
                                        {{"amount", "Amount", "", 0, 8, 1}},
                                        false,
                                        make_instance<Saturation, saturation_effect>});
  return type;
}

}  // namespace gc
