// A secondary: a grade on a part of the picture, chosen by a key in hue, saturation and lightness with soft
// edges, by a soft elliptic window, or by both. The window's place may have keys, as a tracker writes them.
// Hue, saturation and lightness as in the CSS Color Module Level 3 (HSL); HSV's value is not used.
#include <algorithm>
#include <cmath>
#include <numbers>
#include <opencv2/imgproc.hpp>

#include "effects/cdl_kernel.h"
#include "effects/gaussian.h"
#include "effects/registry.h"

namespace gc {

struct Hsl {
  float h, s, l;  ///< degrees, 0…1, 0…1
};

Hsl hsl_of(float r, float g, float b) {
  const float most = std::max({r, g, b}), least = std::min({r, g, b}), d = most - least,
              l = (most + least) / 2;
  if (d <= 0) return {0, 0, l};
  const float s = d / std::max(1e-6f, 1 - std::abs(2 * l - 1));
  float h = most == r ? (g - b) / d : most == g ? 2 + (b - r) / d : 4 + (r - g) / d;
  h *= 60;
  return {h < 0 ? h + 360 : h, std::clamp(s, 0.0f, 1.0f), l};
}

namespace {

/// 1 within `half` of the centre, falling to 0 over `soft`.
float band(float distance, float half, float soft) {
  const float t = std::clamp((distance - half) / std::max(1e-4f, soft), 0.0f, 1.0f);
  return 1 - t * t * (3 - 2 * t);
}

class Secondary : public EffectInstance {
 public:
  Secondary(const EffectType& type, const Json& p, int, int) {
    const auto value = [&](const char* name) { return param_f(type, p, name); };
    key_ = value("use_key") >= 0.5f, window_ = value("use_window") >= 0.5f;
    hue_ = value("hue"), hue_width_ = value("hue_width") / 2, hue_soft_ = value("hue_softness");
    for (std::size_t i = 0; i < 2; ++i)
      saturation_[i] = param_f(type, p, "saturation_range", i),
      lightness_[i] = param_f(type, p, "lightness_range", i);
    soft_ = value("softness"), clean_ = value("clean_up");
    x_ = value("window_x"), y_ = value("window_y"), w_ = value("window_width"), h_ = value("window_height");
    angle_ = value("window_rotation") * std::numbers::pi_v<float> / 180, edge_ = value("window_softness");
    outside_ = value("outside") >= 0.5f;
    grade_ = cdl_values(type, p);
  }
  bool identity() const override { return is_identity(grade_) || (!key_ && !window_ && outside_); }
  int reach() const override { return key_ && clean_ > 0.05f ? gaussian_reach(clean_) : 0; }

  void apply(Image& image, const FrameContext& at) const override {
    const int width = image.width(), height = image.height();
    if (!image.opaque) unpremultiply(image.data(), image.floats() / 4);
    cv::Mat matte(height, width, CV_32F, cv::Scalar(1));
    if (key_) {
      for (int y = 0; y < height; ++y) key_row(image.row(y), matte.ptr<float>(y), width);
      if (clean_ > 0.05f) {
        // A median takes specks away, a blur takes the chatter off the edges.
        cv::medianBlur(matte, matte, 3);
        const int size = 2 * gaussian_reach(clean_) + 1;
        cv::GaussianBlur(matte, matte, {size, size}, clean_, clean_, cv::BORDER_REPLICATE);
      }
    }
    std::vector<float> graded(static_cast<std::size_t>(width) * 4);
    for (int y = 0; y < height; ++y) {
      float* m = matte.ptr<float>(y);
      if (window_) window_row(m, width, at.left, at.top + y, at);
      if (outside_)
        for (int x = 0; x < width; ++x) m[x] = 1 - m[x];
      // A row that nothing is chosen of costs no grade.
      if (std::all_of(m, m + width, [](float v) { return v <= 0; })) continue;
      float* p = image.row(y);
      std::copy(p, p + 4 * width, graded.begin());
      cdl_pixels(graded.data(), static_cast<std::size_t>(width), grade_);
      for (int x = 0; x < width; ++x)
        for (int c = 0; c < 3; ++c)
          p[4 * x + c] += (graded[static_cast<std::size_t>(4 * x + c)] - p[4 * x + c]) * m[x];
    }
    if (!image.opaque) premultiply(image.data(), image.floats() / 4);
  }

 private:
  void key_row(const float* p, float* m, int width) const {
    for (int x = 0; x < width; ++x, p += 4) {
      const Hsl v = hsl_of(p[0], p[1], p[2]);
      float d = std::abs(v.h - hue_);
      d = std::min(d, 360 - d);
      const auto range = [&](float value, const float r[2]) {
        return band(std::max(r[0] - value, value - r[1]), 0, soft_);
      };
      const float hue = hue_width_ >= 180 ? 1 : band(d, hue_width_, hue_soft_);
      m[x] = hue * range(v.s, saturation_) * range(v.l, lightness_);
    }
  }
  void window_row(float* m, int width, int left, int y, const FrameContext& at) const {
    const float c = std::cos(angle_), s = std::sin(angle_);
    const auto rw = static_cast<float>(at.width), rh = static_cast<float>(at.height);
    const float dy = static_cast<float>(y) + 0.5f - y_ * rh;
    for (int x = 0; x < width; ++x) {
      const float dx = static_cast<float>(left + x) + 0.5f - x_ * rw;
      const float u = (dx * c + dy * s) / std::max(1.0f, w_ * rw / 2),
                  v = (dy * c - dx * s) / std::max(1.0f, h_ * rh / 2);
      m[x] *= band(std::sqrt(u * u + v * v), 1 - edge_, 2 * edge_);
    }
  }

  bool key_ = false, window_ = false, outside_ = false;
  float hue_ = 0, hue_width_ = 0, hue_soft_ = 0, saturation_[2] = {}, lightness_[2] = {}, soft_ = 0,
        clean_ = 0;
  float x_ = 0, y_ = 0, w_ = 0, h_ = 0, angle_ = 0, edge_ = 0;
  CdlValues grade_;
};

std::vector<ParamSpec> secondary_params() {
  std::vector<ParamSpec> all{{"use_key", "Key on", "0 or 1", 0, 1, 1, 1, true},
                             {"hue", "Hue", "°", 0, 360, 20},
                             {"hue_width", "Hue width", "°", 0, 360, 60},
                             {"hue_softness", "Hue softness", "°", 0, 180, 20},
                             {"saturation_range", "Saturation from, to", "", 0, 1, 0, 2},
                             {"lightness_range", "Lightness from, to", "", 0, 1, 0, 2},
                             {"softness", "Range softness", "", 0, 1, 0.1},
                             {"clean_up", "Clean-up", "px", 0, 40, 0, 1, true},
                             {"use_window", "Window on", "0 or 1", 0, 1, 0, 1, true},
                             {"window_x", "Window centre, across", "of width", -1, 2, 0.5},
                             {"window_y", "Window centre, down", "of height", -1, 2, 0.5},
                             {"window_width", "Window width", "of width", 0.01, 4, 0.4},
                             {"window_height", "Window height", "of height", 0.01, 4, 0.4},
                             {"window_rotation", "Window rotation", "°", -3600, 3600, 0},
                             {"window_softness", "Window softness", "", 0, 1, 0.2},
                             {"outside", "Grade outside", "0 or 1", 0, 1, 0}};
  all.insert(all.end(), cdl_params().begin(), cdl_params().end());
  return all;
}

std::unique_ptr<EffectInstance> make_secondary(const Json& p, int w, int h) {
  // Ranges that are not given are open to the top.
  Json full = p.is_object() ? p : Json::object();
  for (const char* name : {"saturation_range", "lightness_range"})
    if (!full.contains(name)) full[name] = {0, 1};
  return std::make_unique<Secondary>(secondary_effect(), full, w, h);
}

}  // namespace

const EffectType& secondary_effect() {
  static const EffectType type = [] {
    EffectType t{"secondary", "Secondary", StageKind::grade, secondary_params(), false, make_secondary};
    t.growth = {{"Mpixel keyed", "Mpixel × taps of the clean-up", "Mpixel in a window", kWithAlpha},
                [](const EffectType& e, const Json& p, const WorkSize& at, Terms& out) {
                  const bool key = param(e, p, "use_key") >= 0.5, window = param(e, p, "use_window") >= 0.5;
                  const double clean = key ? param(e, p, "clean_up") : 0;
                  out[1] = static_cast<float>(key ? at.mpix : 0);
                  out[2] = static_cast<float>(clean > 0.05 ? at.mpix * (2 * gaussian_reach(clean) + 9)
                                                           : 0);  // the median is about 8 taps
                  out[3] = static_cast<float>(window ? at.mpix : 0);
                }};
    t.processor_only = "the median of the key's clean-up is not in OpenCV's OpenCL path for floats";
    t.family = "grade";
    return t;
  }();
  return type;
}

}  // namespace gc
