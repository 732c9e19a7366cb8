// Places a layer on the canvas: position, scale, rotation, opacity. A picture in picture is this on an upper
// track.
#include <cmath>
#include <opencv2/imgproc.hpp>

#include "effects/registry.h"

namespace gc {
namespace {

class Transform : public EffectInstance {
 public:
  Transform(const EffectType& type, const Json& p)
      : x_(param(type, p, "x")),
        y_(param(type, p, "y")),
        scale_(param(type, p, "scale")),
        rotation_(param(type, p, "rotation")),
        opacity_(param(type, p, "opacity")) {}
  bool identity() const override {
    return x_ == 0.5 && y_ == 0.5 && scale_ == 1 && rotation_ == 0 && opacity_ == 1;
  }
  void apply(Image& image) const override {
    const int w = image.width(), h = image.height();
    Image out = Image::filled(w, h, 0, 0, 0, 0);
    const cv::Mat from(h, w, CV_32FC4, image.data());
    cv::Mat to(h, w, CV_32FC4, out.data());
    if (rotation_ == 0) {
      place_upright(from, to);
    } else {
      // The centre of the picture goes to (x, y) of the raster.
      cv::Mat m = cv::getRotationMatrix2D(cv::Point2f(static_cast<float>(w) / 2, static_cast<float>(h) / 2),
                                          -rotation_, scale_);
      m.at<double>(0, 2) += (x_ - 0.5) * w;
      m.at<double>(1, 2) += (y_ - 0.5) * h;
      cv::warpAffine(from, to, m, to.size(), cv::INTER_LINEAR, cv::BORDER_CONSTANT, cv::Scalar::all(0));
    }
    if (opacity_ != 1) to *= opacity_;
    image = std::move(out);
  }

 private:
  /// Upright pictures are scaled by area, which keeps fine detail from aliasing, and cost only their own
  /// pixels.
  void place_upright(const cv::Mat& from, cv::Mat& to) const {
    const int w = std::max(1, static_cast<int>(std::lround(from.cols * scale_))),
              h = std::max(1, static_cast<int>(std::lround(from.rows * scale_)));
    const int left = static_cast<int>(std::lround(x_ * from.cols - w / 2.0)),
              top = static_cast<int>(std::lround(y_ * from.rows - h / 2.0));
    const cv::Rect wanted(left, top, w, h), seen = wanted & cv::Rect(0, 0, to.cols, to.rows);
    if (seen.empty()) return;
    if (seen == wanted) {
      cv::Mat part = to(seen);
      cv::resize(from, part, part.size(), 0, 0, scale_ < 1 ? cv::INTER_AREA : cv::INTER_LINEAR);
      return;
    }
    const cv::Mat m = (cv::Mat_<double>(2, 3) << scale_, 0, left, 0, scale_, top);
    cv::warpAffine(from, to, m, to.size(), cv::INTER_LINEAR, cv::BORDER_CONSTANT, cv::Scalar::all(0));
  }

  double x_, y_, scale_, rotation_, opacity_;
};

}  // namespace

const EffectType& transform_effect() {
  static const EffectType type{"transform",
                               "Transform",
                               StageKind::composition,
                               {{"x", "Centre, across", "of width", -4, 5, 0.5},
                                {"y", "Centre, down", "of height", -4, 5, 0.5},
                                {"scale", "Scale", "", 0.01, 8, 1, 1, true},
                                {"rotation", "Rotation", "°", -3600, 3600, 0, 1, true},
                                {"opacity", "Opacity", "", 0, 1, 1}},
                               true,
                               [](const Json& p, int, int) -> std::unique_ptr<EffectInstance> {
                                 return std::make_unique<Transform>(transform_effect(), p);
                               }};
  return type;
}

}  // namespace gc
