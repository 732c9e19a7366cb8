// Gaussian blur, by OpenCV.
#include <cmath>
#include <opencv2/imgproc.hpp>

#include "effects/registry.h"

namespace gc {
namespace {

class Blur : public EffectInstance {
 public:
  explicit Blur(double sigma) : sigma_(sigma) {}
  bool identity() const override { return sigma_ < 0.05; }
  void apply(Image& image) const override {
    Image out(image.width(), image.height());
    out.opaque = image.opaque;
    const cv::Mat from(image.height(), image.width(), CV_32FC4, image.data());
    cv::Mat to(image.height(), image.width(), CV_32FC4, out.data());
    // Three standard deviations each way hold 99.7 % of the kernel.
    const int size = 2 * static_cast<int>(std::ceil(3 * sigma_)) + 1;
    cv::GaussianBlur(from, to, {size, size}, sigma_, sigma_, cv::BORDER_REPLICATE);
    image = std::move(out);
  }

 private:
  double sigma_;
};

}  // namespace

const EffectType& blur_effect() {
  static const EffectType type{"blur",
                               "Gaussian blur",
                               StageKind::effect,
                               {{"sigma", "Radius (1 σ)", "px", 0, 60, 4, 1, true}},
                               false,
                               [](const Json& p, int, int) -> std::unique_ptr<EffectInstance> {
                                 return std::make_unique<Blur>(param(blur_effect(), p, "sigma"));
                               }};
  return type;
}

}  // namespace gc
