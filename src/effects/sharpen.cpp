// Sharpening by an unsharp mask: out = in + amount × (in − blurred in).
#include <cmath>
#include <opencv2/imgproc.hpp>

#include "effects/registry.h"

namespace gc {
namespace {

class Sharpen : public EffectInstance {
 public:
  Sharpen(double amount, double sigma) : amount_(amount), sigma_(sigma) {}
  bool identity() const override { return amount_ == 0 || sigma_ < 0.05; }
  void apply(Image& image) const override {
    Image soft(image.width(), image.height());
    cv::Mat in(image.height(), image.width(), CV_32FC4, image.data());
    cv::Mat blurred(image.height(), image.width(), CV_32FC4, soft.data());
    const int size = 2 * static_cast<int>(std::ceil(3 * sigma_)) + 1;
    cv::GaussianBlur(in, blurred, {size, size}, sigma_, sigma_, cv::BORDER_REPLICATE);
    cv::addWeighted(in, 1 + amount_, blurred, -amount_, 0, in);
    if (image.opaque)
      for (std::size_t i = 3; i < image.floats(); i += 4) image.data()[i] = 1;
  }

 private:
  double amount_, sigma_;
};

}  // namespace

const EffectType& sharpen_effect() {
  static const EffectType type{
      "sharpen",
      "Sharpen",
      StageKind::effect,
      {{"amount", "Amount", "", 0, 4, 0.5}, {"sigma", "Radius (1 σ)", "px", 0, 20, 1.2, 1, true}},
      false,
      [](const Json& p, int, int) -> std::unique_ptr<EffectInstance> {
        return std::make_unique<Sharpen>(param(sharpen_effect(), p, "amount"),
                                         param(sharpen_effect(), p, "sigma"));
      }};
  return type;
}

}  // namespace gc
