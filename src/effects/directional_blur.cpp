// Directional blur: the mean along a line through each pixel, by OpenCV's filter2D.
#include <cmath>
#include <numbers>
#include <opencv2/imgproc.hpp>

#include "effects/registry.h"

namespace gc {
namespace {

class DirectionalBlur : public EffectInstance {
 public:
  DirectionalBlur(const EffectType& type, const Json& p, int, int) : length_(param(type, p, "length")) {
    const double angle = param(type, p, "angle"), length = length_;
    const int size = 2 * static_cast<int>(std::ceil(length / 2)) + 1;
    kernel_ = cv::Mat::zeros(size, size, CV_32F);
    // The line is sampled finely and spread over the nearest taps.
    const double dx = std::cos(angle * std::numbers::pi / 180),
                 dy = -std::sin(angle * std::numbers::pi / 180);
    const int steps = std::max(1, static_cast<int>(length * 8));
    for (int i = 0; i < steps; ++i) {
      const double t = ((i + 0.5) / steps - 0.5) * length;
      const double x = size / 2 + t * dx, y = size / 2 + t * dy;
      const int x0 = static_cast<int>(std::floor(x)), y0 = static_cast<int>(std::floor(y));
      for (int j = 0; j < 4; ++j) {
        const int tx = x0 + j % 2, ty = y0 + j / 2;
        if (tx < 0 || ty < 0 || tx >= size || ty >= size) continue;
        kernel_.at<float>(ty, tx) += static_cast<float>((1 - std::abs(x - tx)) * (1 - std::abs(y - ty)));
      }
    }
    kernel_ /= cv::sum(kernel_)[0];
  }
  bool identity() const override { return length_ < 0.1; }
  int reach() const override { return kernel_.rows / 2; }
  bool apply(cv::UMat& image, bool, const FrameContext&) const override {
    cv::UMat out;
    cv::filter2D(image, out, -1, kernel_, {-1, -1}, 0, cv::BORDER_REPLICATE);
    image = out;
    return true;
  }
  void apply(Image& image, const FrameContext&) const override {
    Image out(image.width(), image.height());
    out.opaque = image.opaque;
    const cv::Mat from(image.height(), image.width(), CV_32FC4, image.data());
    cv::Mat to(image.height(), image.width(), CV_32FC4, out.data());
    cv::filter2D(from, to, -1, kernel_, {-1, -1}, 0, cv::BORDER_REPLICATE);
    image = std::move(out);
  }

 private:
  double length_;
  cv::Mat kernel_;
};

}  // namespace

const EffectType& directional_blur_effect() {
  static const EffectType type = [] {
    EffectType t{
        "directional_blur",
        "Directional blur",
        StageKind::effect,
        {{"length", "Length", "px", 0, 120, 16, 1, true}, {"angle", "Angle", "°", -360, 360, 0, 1, true}},
        false,
        make_instance<DirectionalBlur, directional_blur_effect>};
    t.accelerator = true;
    t.growth = {{"Mpixel × taps", "Mpixel of transforms"},
                [](const EffectType& e, const Json& p, const WorkSize& at, Terms& out) {
                  const double length = param(e, p, "length");
                  const int side = 2 * static_cast<int>(std::ceil(length / 2)) + 1;
                  const double angle = param(e, p, "angle") * std::numbers::pi / 180;
                  // A line across the grid touches about two taps for each step along its longer side.
                  const double taps =
                      2 * length * std::max(std::abs(std::cos(angle)), std::abs(std::sin(angle))) + 1;
                  filter_terms(at, taps, side, out, 1);
                }};
    t.tolerance = 1e-4;
    t.family = "detail";
    return t;
  }();
  return type;
}

}  // namespace gc
