// Vignette: darkens toward the corners. The factor is 1 inside `size` (part of the half diagonal) and falls
// smoothly (3t² − 2t³) to 1 − amount over `softness`.
#include <algorithm>
#include <cmath>

#include "effects/registry.h"

namespace gc {
namespace {

class Vignette : public EffectInstance {
 public:
  Vignette(double amount, double size, double softness, int width, int height) : amount_(amount) {
    // The factor depends on the place only: worked out once, for a quarter of the picture.
    w_ = (width + 1) / 2, h_ = (height + 1) / 2;
    factor_.resize(static_cast<std::size_t>(w_) * static_cast<std::size_t>(h_));
    const double diagonal = std::hypot(width / 2.0, height / 2.0);
    for (int y = 0; y < h_; ++y)
      for (int x = 0; x < w_; ++x) {
        const double r = std::hypot(width / 2.0 - x - 0.5, height / 2.0 - y - 0.5) / diagonal;
        const double t = std::clamp((r - size) / std::max(1e-3, softness), 0.0, 1.0);
        factor_[static_cast<std::size_t>(y) * static_cast<std::size_t>(w_) + static_cast<std::size_t>(x)] =
            static_cast<float>(1 - amount * t * t * (3 - 2 * t));
      }
  }
  bool identity() const override { return amount_ == 0; }
  void apply(Image& image) const override {
    for (int y = 0; y < image.height(); ++y) {
      const float* row =
          factor_.data() + static_cast<std::size_t>(std::min({y, image.height() - 1 - y, h_ - 1})) *
                               static_cast<std::size_t>(w_);
      float* p = image.row(y);
      for (int x = 0; x < image.width(); ++x, p += 4) {
        const float f = row[std::min({x, image.width() - 1 - x, w_ - 1})];
        p[0] *= f, p[1] *= f, p[2] *= f;
      }
    }
  }

 private:
  double amount_;
  int w_ = 0, h_ = 0;
  std::vector<float> factor_;
};

}  // namespace

const EffectType& vignette_effect() {
  static const EffectType type{"vignette",
                               "Vignette",
                               StageKind::effect,
                               {{"amount", "Amount", "", 0, 1, 0.4},
                                {"size", "Size", "of the half diagonal", 0, 1, 0.5},
                                {"softness", "Softness", "of the half diagonal", 0, 1, 0.5}},
                               false,
                               [](const Json& p, int w, int h) -> std::unique_ptr<EffectInstance> {
                                 const EffectType& t = vignette_effect();
                                 return std::make_unique<Vignette>(param(t, p, "amount"), param(t, p, "size"),
                                                                   param(t, p, "softness"), w, h);
                               }};
  return type;
}

}  // namespace gc
