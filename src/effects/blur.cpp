// Gaussian blur, by OpenCV on both devices.
#include <cmath>
#include <opencv2/imgproc.hpp>

#include "effects/gaussian.h"
#include "effects/registry.h"

namespace gc {
namespace {

class Blur : public EffectInstance {
 public:
  Blur(const EffectType& type, const Json& p, int, int) : sigma_(param(type, p, "sigma")) {}
  bool identity() const override { return sigma_ < 0.05; }
  int reach() const override { return gaussian_reach(sigma_); }
  void apply(Image& image, const FrameContext&) const override {
    Image out(image.width(), image.height());
    out.opaque = image.opaque;
    gaussian(image, out, sigma_);
    image = std::move(out);
  }
  bool apply(cv::UMat& image, bool, const FrameContext&) const override {
    cv::UMat out;
    gaussian(image, out, sigma_);
    image = out;
    return true;
  }

 private:
  double sigma_;
};

}  // namespace

const EffectType& blur_effect() {
  static const EffectType type = [] {
    EffectType t{"blur",
                 "Gaussian blur",
                 StageKind::effect,
                 {{"sigma", "Radius (1 σ)", "px", 0, 60, 4, 1, true}},
                 false,
                 make_instance<Blur, blur_effect>};
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
