// What a lens does: defocus (a disc), distortion, and film grain on top.
#include <algorithm>
#include <cmath>
#include <mutex>
#include <numbers>
#include <opencv2/imgproc.hpp>

#include "base/chance.h"
#include "effects/points.h"
#include "effects/registry.h"

namespace gc {
namespace {

class Defocus : public EffectInstance {
 public:
  Defocus(const EffectType& type, const Json& p, int, int) : radius_(param(type, p, "radius")) {
    // A disc with a soft rim: each tap has the part of its pixel that lies inside.
    const int size = 2 * static_cast<int>(std::ceil(radius_)) + 1;
    kernel_ = cv::Mat::zeros(size, size, CV_32F);
    for (int y = 0; y < size; ++y)
      for (int x = 0; x < size; ++x)
        kernel_.at<float>(y, x) =
            static_cast<float>(std::clamp(radius_ + 0.5 - std::hypot(x - size / 2, y - size / 2), 0.0, 1.0));
    kernel_ /= cv::sum(kernel_)[0];
  }
  bool identity() const override { return radius_ < 0.5; }
  int reach() const override { return kernel_.rows / 2; }
  void apply(Image& image, const FrameContext&) const override {
    Image out(image.width(), image.height());
    out.opaque = image.opaque;
    cv::Mat to = as_mat<cv::Mat>(out);
    cv::filter2D(as_mat<cv::Mat>(image), to, -1, kernel_, {-1, -1}, 0, cv::BORDER_REPLICATE);
    image = std::move(out);
  }
  bool apply(cv::UMat& image, bool, const FrameContext&) const override {
    cv::UMat out;
    cv::filter2D(image, out, -1, kernel_, {-1, -1}, 0, cv::BORDER_REPLICATE);
    image = out;
    return true;
  }

 private:
  double radius_;
  cv::Mat kernel_;
};

/// Radial distortion after Brown (1971): a pixel at radius r of the half diagonal is taken from r (1 + k1 r²
/// + k2 r⁴).
class Lens : public EffectInstance {
 public:
  Lens(const EffectType& type, const Json& p, int width, int height)
      : k1_(param(type, p, "k1")), k2_(param(type, p, "k2")), scale_(param(type, p, "scale")) {
    map_.create(height, width, CV_32FC2);
    const double cx = width / 2.0, cy = height / 2.0, half = std::hypot(cx, cy);
    for (int y = 0; y < height; ++y)
      for (int x = 0; x < width; ++x) {
        const double dx = (x + 0.5 - cx) / scale_, dy = (y + 0.5 - cy) / scale_;
        const double r2 = (dx * dx + dy * dy) / (half * half), f = 1 + k1_ * r2 + k2_ * r2 * r2;
        map_.at<cv::Vec2f>(y, x) = {static_cast<float>(cx + dx * f - 0.5),
                                    static_cast<float>(cy + dy * f - 0.5)};
      }
  }
  bool identity() const override { return k1_ == 0 && k2_ == 0 && scale_ == 1; }
  void apply(Image& image, const FrameContext&) const override {
    Image out(image.width(), image.height());
    cv::Mat to = as_mat<cv::Mat>(out);
    cv::remap(as_mat<cv::Mat>(image), to, map_, cv::noArray(), cv::INTER_LINEAR, cv::BORDER_CONSTANT,
              cv::Scalar::all(0));
    out.opaque = false;  // it may pull its own edge into the picture
    image = std::move(out);
  }
  bool apply(cv::UMat& image, bool, const FrameContext&) const override {
    cv::UMat out, map;
    map_.copyTo(map);
    cv::remap(image, out, map, cv::noArray(), cv::INTER_LINEAR, cv::BORDER_CONSTANT, cv::Scalar::all(0));
    image = out;
    return true;
  }

 private:
  double k1_, k2_, scale_;
  cv::Mat map_;
};

/// Grain with a bell-shaped spread (the sum of four even ones), strongest in the mid-tones. Any frame can be
/// made without those before it.
class Grain : public PointInstance {
 public:
  Grain(const EffectType& type, const Json& p, int, int)
      : amount_(param_f(type, p, "amount")),
        size_(std::max(1.0f, param_f(type, p, "size"))),
        colour_(param_f(type, p, "colour")) {}
  bool identity() const override { return amount_ == 0; }
  void pixels(float* p, std::size_t n, int x, int y, const FrameContext& at) const override {
    const auto row = static_cast<std::uint32_t>(static_cast<float>(y) / size_);
    const std::uint32_t seed = mixed32(static_cast<std::uint32_t>(at.frame) * 0x9e3779b9U + row);
    for (std::size_t i = 0; i < n; ++i) {
      const auto col = static_cast<std::uint32_t>((static_cast<float>(x) + static_cast<float>(i)) / size_);
      const std::uint32_t h = mixed32(seed + col * 0x85ebca77U);
      const float shared = bell(h);
      const float luma = 0.2126f * p[4 * i] + 0.7152f * p[4 * i + 1] + 0.0722f * p[4 * i + 2];
      const float c = std::min(std::max(luma, 0.0f), 1.0f), k = amount_ * (0.25f + 3 * c * (1 - c));
      for (std::uint32_t ch = 0; ch < 3; ++ch) {
        const float own = colour_ > 0 ? bell(mixed32(h + ch)) : 0;
        p[4 * i + ch] += k * (shared + colour_ * (own - shared));
      }
    }
  }
  bool apply(cv::UMat& image, bool opaque, const FrameContext& at) const override {
    return run_point_kernel(R"(
  const uint row = (uint)((float)y / a[1]);
  const uint seed = mixed32((uint)frame * 0x9e3779b9U + row);
  const uint hash = mixed32(seed + (uint)((float)x / a[1]) * 0x85ebca77U);
  const float shared_grain = bell(hash);
  const float luma = 0.2126f * p.x + 0.7152f * p.y + 0.0722f * p.z;
  const float c = clamp(luma, 0.0f, 1.0f), k = a[0] * (0.25f + 3 * c * (1 - c));
  p.x += k * (shared_grain + a[2] * ((a[2] > 0 ? bell(mixed32(hash)) : 0.0f) - shared_grain));
  p.y += k * (shared_grain + a[2] * ((a[2] > 0 ? bell(mixed32(hash + 1)) : 0.0f) - shared_grain));
  p.z += k * (shared_grain + a[2] * ((a[2] > 0 ? bell(mixed32(hash + 2)) : 0.0f) - shared_grain));
)",
                            R"(
inline uint mixed32(uint v) { v ^= v >> 16; v *= 0x85ebca6bU; v ^= v >> 13; v *= 0xc2b2ae35U; v ^= v >> 16; return v; }
inline float bell(uint h) {
  const float sum = (float)(h & 255) + (float)(h >> 8 & 255) + (float)(h >> 16 & 255) + (float)(h >> 24);
  return (sum - 510.0f) / 147.8f;
}
)",
                            image, opaque, at, {amount_, size_, colour_});
  }

 private:
  /// Mean 0, deviation 1.
  static float bell(std::uint32_t h) {
    const float sum = static_cast<float>(h & 255) + static_cast<float>(h >> 8 & 255) +
                      static_cast<float>(h >> 16 & 255) + static_cast<float>(h >> 24);
    return (sum - 510.0f) / 147.8f;
  }
  float amount_, size_, colour_;
};

}  // namespace

const EffectType& defocus_effect() {
  static const EffectType type = [] {
    EffectType t{"defocus",
                 "Defocus",
                 StageKind::effect,
                 {{"radius", "Radius", "px", 0, 60, 8, 1, true}},
                 false,
                 make_instance<Defocus, defocus_effect>};
    t.accelerator = true;
    t.growth = {{"Mpixel × taps", "Mpixel of transforms"},
                [](const EffectType& e, const Json& p, const WorkSize& at, Terms& out) {
                  const double r = param(e, p, "radius");
                  filter_terms(at, std::numbers::pi * (r + 0.5) * (r + 0.5),
                               2 * static_cast<int>(std::ceil(r)) + 1, out, 1);
                }};
    t.tolerance = 1e-3;
    t.family = "detail";
    return t;
  }();
  return type;
}

const EffectType& lens_effect() {
  static const EffectType type = [] {
    EffectType t{"lens",
                 "Lens distortion",
                 StageKind::effect,
                 {{"k1", "k1", "", -0.5, 0.5, 0.08},
                  {"k2", "k2", "", -0.5, 0.5, 0},
                  {"scale", "Scale", "", 0.25, 4, 1}},
                 true,
                 make_instance<Lens, lens_effect>};
    t.accelerator = t.whole = true;
    t.tolerance = 4e-2;  // the processor's remap has fixed-point weights of 1/32 pixel
    t.family = "detail";
    return t;
  }();
  return type;
}

const EffectType& grain_effect() {
  static const EffectType type = [] {
    EffectType t{"grain",
                 "Grain",
                 StageKind::effect,
                 {{"amount", "Amount", "", 0, 0.5, 0.03},
                  {"size", "Size", "px", 1, 8, 1},
                  {"colour", "Colour", "", 0, 1, 0.3}},
                 false,
                 make_instance<Grain, grain_effect>};
    t.point = t.accelerator = t.moving = true;
    t.tolerance = 1e-4;
    t.family = "detail";
    return t;
  }();
  return type;
}

}  // namespace gc
