// Places a layer on the canvas: position, scale, rotation about an anchor, opacity. A picture in picture is
// this on an upper track.
#include <cmath>
#include <opencv2/imgproc.hpp>

#include "effects/registry.h"

namespace gc {
namespace {

class Transform : public EffectInstance {
 public:
  Transform(const EffectType& type, const Json& p, int, int)
      : x_(param(type, p, "x")),
        y_(param(type, p, "y")),
        anchor_x_(param(type, p, "anchor_x")),
        anchor_y_(param(type, p, "anchor_y")),
        scale_(param(type, p, "scale")),
        rotation_(param(type, p, "rotation")),
        opacity_(param(type, p, "opacity")),
        filter_(text_or(p, "filter", "area")) {}
  bool identity() const override {
    return x_ == anchor_x_ && y_ == anchor_y_ && scale_ == 1 && rotation_ == 0 && opacity_ == 1;
  }
  void apply(Image& image, const FrameContext& at) const override {
    const int w = image.width(), h = image.height();
    Image out = Image::filled(w, h, 0, 0, 0, 0);
    const cv::Mat from = as_mat<cv::Mat>(image);
    cv::Mat to = as_mat<cv::Mat>(out);
    if (rotation_ == 0 && averages()) place_upright(from, to);
    else
      cv::warpAffine(from, to, matrix(w, h), to.size(), filter(at), cv::BORDER_CONSTANT, cv::Scalar::all(0));
    if (opacity_ != 1) to *= opacity_;
    image = std::move(out);
  }
  bool apply(cv::UMat& image, bool, const FrameContext& at) const override {
    cv::UMat out(image.size(), image.type(), cv::Scalar::all(0));
    if (rotation_ == 0 && averages()) place_upright(image, out);
    else
      cv::warpAffine(image, out, matrix(image.cols, image.rows), image.size(), filter(at),
                     cv::BORDER_CONSTANT, cv::Scalar::all(0));
    if (opacity_ != 1) cv::multiply(out, cv::Scalar::all(opacity_), out);
    image = out;
    return true;
  }

 private:
  /// By area, shrunk pictures keep fine detail from aliasing.
  bool averages() const { return filter_ == "area"; }
  int filter(const FrameContext& at) const {
    if (filter_ == "nearest") return cv::INTER_NEAREST;
    if (at.draft || filter_ == "bilinear" || filter_ == "area") return cv::INTER_LINEAR;
    return filter_ == "lanczos" ? cv::INTER_LANCZOS4 : cv::INTER_CUBIC;
  }
  /// Takes the anchor of the picture to (x, y) of the raster. Pixel centres lie at whole coordinates.
  cv::Mat matrix(int w, int h) const {
    cv::Mat m = cv::getRotationMatrix2D(
        cv::Point2f(static_cast<float>(anchor_x_ * w - 0.5), static_cast<float>(anchor_y_ * h - 0.5)),
        -rotation_, scale_);
    m.at<double>(0, 2) += (x_ - anchor_x_) * w;
    m.at<double>(1, 2) += (y_ - anchor_y_) * h;
    return m;
  }
  /// Upright pictures cost only their own pixels.
  template <class M>
  void place_upright(const M& from, M& to) const {
    const int w = std::max(1, static_cast<int>(std::lround(from.cols * scale_))),
              h = std::max(1, static_cast<int>(std::lround(from.rows * scale_)));
    const int left = static_cast<int>(std::lround(x_ * from.cols - w * anchor_x_)),
              top = static_cast<int>(std::lround(y_ * from.rows - h * anchor_y_));
    const cv::Rect wanted(left, top, w, h), seen = wanted & cv::Rect(0, 0, to.cols, to.rows);
    if (seen.empty()) return;
    if (seen == wanted) {
      M part(to, seen);
      cv::resize(from, part, part.size(), 0, 0, scale_ < 1 ? cv::INTER_AREA : cv::INTER_LINEAR);
      return;
    }
    cv::warpAffine(from, to, matrix(from.cols, from.rows), to.size(), cv::INTER_LINEAR, cv::BORDER_CONSTANT,
                   cv::Scalar::all(0));
  }

  double x_, y_, anchor_x_, anchor_y_, scale_, rotation_, opacity_;
  std::string filter_;
};

}  // namespace

const EffectType& transform_effect() {
  static const EffectType type = [] {
    EffectType t{"transform",
                 "Transform",
                 StageKind::composition,
                 {{"x", "Position, across", "of width", -4, 5, 0.5},
                  {"y", "Position, down", "of height", -4, 5, 0.5},
                  {"anchor_x", "Anchor, across", "of the layer's width", -4, 5, 0.5},
                  {"anchor_y", "Anchor, down", "of the layer's height", -4, 5, 0.5},
                  {"scale", "Scale", "", 0.01, 8, 1, 1, true},
                  {"rotation", "Rotation", "°", -3600, 3600, 0, 1, true},
                  {"opacity", "Opacity", "", 0, 1, 1},
                  {"filter", "Filter", "area, nearest, bilinear, cubic or lanczos", 0, 0, 0, 1, true, true}},
                 true,
                 make_instance<Transform, transform_effect>};
    t.accelerator = t.whole = true;
    t.growth = {{"Mpixel placed", "Mpixel warped", "Mpixel of a warped layer", "Mpixel faded"},
                [](const EffectType& e, const Json& p, const WorkSize& at, Terms& out) {
                  // Upright and all inside the raster, only the layer's own pixels are made; else the whole
                  // raster is warped.
                  const double s = param(e, p, "scale");
                  const auto inside = [&](const char* place, const char* anchor) {
                    const double from = param(e, p, place) - s * param(e, p, anchor);
                    return from >= 0 && from + s <= 1;
                  };
                  const bool upright = param(e, p, "rotation") == 0 &&
                                       text_or(p, "filter", "area") == "area" && inside("x", "anchor_x") &&
                                       inside("y", "anchor_y");
                  out[upright ? 1 : 2] = static_cast<float>(upright ? at.mpix * s * s : at.mpix);
                  out[3] = static_cast<float>(upright ? 0 : at.mpix * std::min(1.0, s * s));
                  out[4] = static_cast<float>(param(e, p, "opacity") != 1 ? at.mpix : 0);
                }};
    t.tolerance = 4e-2;  // the processor's warp has fixed-point weights of 1/32 pixel
    t.family = "detail";
    return t;
  }();
  return type;
}

}  // namespace gc
