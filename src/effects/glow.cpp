// Glow: what is brighter than a threshold is blurred and screened over the picture, 1 − (1 − a)(1 − b).
#include <algorithm>
#include <cmath>
#include <opencv2/imgproc.hpp>

#include "effects/registry.h"

namespace gc {
namespace {

class Glow : public EffectInstance {
 public:
  Glow(double threshold, double sigma, double amount)
      : threshold_(static_cast<float>(threshold)), sigma_(sigma), amount_(static_cast<float>(amount)) {}
  bool identity() const override { return amount_ == 0; }
  void apply(Image& image) const override {
    Image bright(image.width(), image.height());
    for (std::size_t i = 0; i < image.floats(); ++i)
      bright.data()[i] = i % 4 == 3 ? 0 : std::max(0.0f, image.data()[i] - threshold_);
    const cv::Mat full(image.height(), image.width(), CV_32FC4, bright.data());
    // A glow holds no fine detail: half the size is enough and a quarter of the work.
    cv::Mat half, soft, back;
    cv::resize(full, half, {}, 0.5, 0.5, cv::INTER_AREA);
    const double sigma = std::max(0.3, sigma_ / 2);
    const int size = 2 * static_cast<int>(std::ceil(3 * sigma)) + 1;
    cv::GaussianBlur(half, soft, {size, size}, sigma, sigma, cv::BORDER_REPLICATE);
    cv::resize(soft, back, full.size(), 0, 0, cv::INTER_LINEAR);
    for (int y = 0; y < image.height(); ++y) {
      float* p = image.row(y);
      const float* g = back.ptr<float>(y);
      for (int x = 0; x < 4 * image.width(); ++x)
        if (x % 4 != 3) p[x] = 1 - (1 - p[x]) * (1 - std::min(1.0f, amount_ * g[x]));
    }
  }

 private:
  float threshold_;
  double sigma_;
  float amount_;
};

}  // namespace

const EffectType& glow_effect() {
  static const EffectType type{"glow",
                               "Glow",
                               StageKind::effect,
                               {{"threshold", "Threshold", "", 0, 1, 0.7},
                                {"sigma", "Radius (1 σ)", "px", 0.5, 80, 12, 1, true},
                                {"amount", "Amount", "", 0, 8, 1}},
                               false,
                               [](const Json& p, int, int) -> std::unique_ptr<EffectInstance> {
                                 const EffectType& t = glow_effect();
                                 return std::make_unique<Glow>(param(t, p, "threshold"), param(t, p, "sigma"),
                                                               param(t, p, "amount"));
                               }};
  return type;
}

}  // namespace gc
