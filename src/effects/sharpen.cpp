// Sharpening by an unsharp mask: out = in + amount × (in − blurred in).
#include <opencv2/imgproc.hpp>

#include "effects/gaussian.h"
#include "effects/points.h"
#include "effects/registry.h"

#define GC_CLONES __attribute__((target_clones("arch=x86-64-v3", "default")))

namespace gc {
namespace {

/// in + amount × (in − soft), with alpha left alone.
GC_CLONES void mask(float* p, const float* soft, std::size_t pixels, float amount) {
  for (std::size_t i = 0; i < pixels; ++i)
    for (std::size_t c = 0; c < 3; ++c) p[4 * i + c] += amount * (p[4 * i + c] - soft[4 * i + c]);
}

class Sharpen : public EffectInstance {
 public:
  Sharpen(const EffectType& type, const Json& p, int, int)
      : amount_(param(type, p, "amount")), sigma_(param(type, p, "sigma")) {}
  bool identity() const override { return amount_ == 0 || sigma_ < 0.05; }
  int reach() const override { return gaussian_reach(sigma_); }
  void apply(Image& image, const FrameContext&) const override {
    Image soft(image.width(), image.height());
    gaussian(image, soft, sigma_);
    mask(image.data(), soft.data(), image.floats() / 4, static_cast<float>(amount_));
  }
  bool apply(cv::UMat& image, bool, const FrameContext&) const override {
    cv::UMat soft, out;
    gaussian(image, soft, sigma_);
    cv::addWeighted(image, 1 + amount_, soft, -amount_, 0, out);
    // Alpha is that of the picture.
    cv::mixChannels(std::vector<cv::UMat>{image}, std::vector<cv::UMat>{out}, std::vector<int>{3, 3});
    image = out;
    return true;
  }

 private:
  double amount_, sigma_;
};

}  // namespace

const EffectType& sharpen_effect() {
  static const EffectType type = [] {
    EffectType t{"sharpen",
                 "Sharpen",
                 StageKind::effect,
                 {{"amount", "Amount", "", 0, 4, 0.5}, {"sigma", "Radius (1 σ)", "px", 0, 20, 1.2, 1, true}},
                 false,
                 make_instance<Sharpen, sharpen_effect>};
    t.accelerator = true;
    t.growth = {{"Mpixel × taps", "Mpixel × taps × doublings beyond the cache"},
                [](const EffectType& e, const Json& p, const WorkSize& at, Terms& out) {
                  separable_terms(at, 2 * gaussian_reach(param(e, p, "sigma")) + 1, out, 1);
                }};
    t.tolerance = 1e-4;
    t.family = "detail";
    return t;
  }();
  return type;
}

}  // namespace gc
