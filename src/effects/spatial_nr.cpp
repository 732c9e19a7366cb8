// Spatial noise reduction: a bilateral filter (Tomasi and Manduchi, 1998), by OpenCV.
#include <cmath>
#include <opencv2/imgproc.hpp>

#include "effects/registry.h"

namespace gc {
namespace {

class SpatialNr : public EffectInstance {
 public:
  SpatialNr(int radius, double strength) : radius_(radius), strength_(strength) {}
  bool identity() const override { return radius_ == 0 || strength_ <= 0; }
  void apply(Image& image) const override {
    // The filter takes three channels; alpha stays as it is.
    Image three(image.width(), image.height()), out(image.width(), image.height());
    const cv::Mat rgba(image.height(), image.width(), CV_32FC4, image.data());
    cv::Mat rgb(image.height(), image.width(), CV_32FC3, three.data()),
        smooth(image.height(), image.width(), CV_32FC3, out.data());
    static constexpr int kDrop[] = {0, 0, 1, 1, 2, 2};
    cv::mixChannels(&rgba, 1, &rgb, 1, kDrop, 3);
    cv::bilateralFilter(rgb, smooth, 2 * radius_ + 1, strength_, std::max(1.0, radius_ * 0.75),
                        cv::BORDER_REPLICATE);
    cv::Mat back = rgba;
    cv::mixChannels(&smooth, 1, &back, 1, kDrop, 3);
  }

 private:
  int radius_;
  double strength_;
};

}  // namespace

const EffectType& spatial_nr_effect() {
  static const EffectType type{
      "spatial_nr",
      "Spatial noise reduction",
      StageKind::repair,
      {{"radius", "Radius", "px", 0, 15, 3, 1, true}, {"strength", "Strength", "", 0, 1, 0.08}},
      false,
      [](const Json& p, int, int) -> std::unique_ptr<EffectInstance> {
        return std::make_unique<SpatialNr>(
            static_cast<int>(std::lround(param(spatial_nr_effect(), p, "radius"))),
            param(spatial_nr_effect(), p, "strength"));
      }};
  return type;
}

}  // namespace gc
