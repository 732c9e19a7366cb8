// Repairs that look at neighbouring frames: temporal noise reduction along the motion, deflicker, dust
// removal.
#include <algorithm>
#include <array>
#include <cmath>
#include <opencv2/imgproc.hpp>

#include "effects/motion.h"
#include "effects/registry.h"
#include "media/lanes.h"

namespace gc {
namespace {

constexpr int kBlock = 16;  // pixels that move together

/// The motion search looks at pictures of about this width.
constexpr int kSearchWidth = 320;

/// One neighbour's rows, moved by a whole vector for a block: bilinear with constant weights.
struct Taps {
  const float* p[4];
  float w[4];
};

/// Adds a neighbour's pixels to the sums, each weighted by how well it agrees with the pixel here. The
/// weights add up in the alpha places. `pixels` is even.
GC_INLINE void gather(const float* here, const Taps& t, float* sum, int pixels, float fall) {
  const Lanes w0 = lanes(t.w[0], t.w[0]), w1 = lanes(t.w[1], t.w[1]), w2 = lanes(t.w[2], t.w[2]),
              w3 = lanes(t.w[3], t.w[3]);
  const Lanes colour = lanes(1, 0), alpha = lanes(0, 1);
  for (int i = 0; i < 4 * pixels; i += 8) {
    const Lanes v =
        load(t.p[0] + i) * w0 + load(t.p[1] + i) * w1 + load(t.p[2] + i) * w2 + load(t.p[3] + i) * w3;
    const Lanes d = (v - load(here + i)) * colour;
    // 1/(1 + (d/σ²)²): like a Gaussian near the middle, without an exponential.
    const Lanes q = sum_of_pixel(d * d) * fall;
    const Lanes w = 1 / (1 + q * q);
    store(sum + i, load(sum + i) + w * (v * colour + alpha));
  }
}

/// Colours divided by the weights beside them; alpha as it was.
GC_INLINE void settle(float* out, const float* here, const float* sum, int pixels) {
  for (int i = 0; i < 4 * pixels; i += 8) {
    const Lanes s = load(sum + i);
    const Lanes weight = __builtin_shufflevector(s, s, 3, 3, 3, 3, 7, 7, 7, 7);
    store(out + i, s / weight * lanes(1, 0) + load(here + i) * lanes(0, 1));
  }
}

/// Mean motion of each block, in pixels of the full picture.
cv::Mat block_motion(const cv::Mat& flow, int width, int height) {
  cv::Mat blocks;
  cv::resize(flow, blocks, {(width + kBlock - 1) / kBlock, (height + kBlock - 1) / kBlock}, 0, 0,
             cv::INTER_AREA);
  const cv::Vec2f grow(static_cast<float>(width) / static_cast<float>(flow.cols),
                       static_cast<float>(height) / static_cast<float>(flow.rows));
  blocks.forEach<cv::Vec2f>([&](cv::Vec2f& v, const int*) { v = {v[0] * grow[0], v[1] * grow[1]}; });
  return blocks;
}

class TemporalNr : public EffectInstance {
 public:
  TemporalNr(const EffectType& type, const Json& p, int, int)
      : frames_(static_cast<int>(std::lround(param(type, p, "frames")))),
        strength_(param_f(type, p, "strength")) {}
  bool identity() const override { return strength_ <= 0; }
  Window window() const override { return {frames_, frames_}; }
  void apply(Image& image, const FrameContext& at) const override {
    const int w = image.width(), h = image.height();
    if (at.window.size() < 2 || w < 64 || h < 64) return;
    const int shrink = std::clamp((w + kSearchWidth / 2) / kSearchWidth, 1, 32);
    const cv::Mat here_luma = search_luma(image, shrink);
    std::vector<const Image*> near;
    std::vector<cv::Mat> motion;
    for (std::size_t i = 0; i < at.window.size(); ++i) {
      const Image* other = at.window[i];
      if (static_cast<int>(i) == frames_ || !other || other->width() != w || other->height() != h) continue;
      near.push_back(other);
      motion.push_back(block_motion(flow_between(here_luma, search_luma(*other, shrink), false), w, h));
    }
    if (near.empty()) return;
    Image out(w, h);
    out.opaque = image.opaque;
    for (int y = 0; y < h; ++y) row(image, near, motion, out, y);
    image = std::move(out);
  }

 private:
  GC_LANES void row(const Image& image, const std::vector<const Image*>& near,
                    const std::vector<cv::Mat>& motion, Image& out, int y) const {
    // Three channels' squared differences are compared; σ is that of one.
    const float fall = 1 / (3 * 4 * strength_ * strength_);
    const int w = image.width();
    alignas(64) float sum[kBlock * 4], last[kBlock * 4] = {}, from[kBlock * 4] = {};
    for (int x = 0; x < w; x += kBlock) {
      const int n = std::min(kBlock, w - x), even = n - n % 2;
      const float* here = image.row(y) + 4 * x;
      for (int i = 0; i < 4 * n; ++i) sum[i] = i % 4 == 3 ? 1.0f : here[i];
      for (std::size_t k = 0; k < near.size(); ++k) {
        const Taps t = taps(*near[k], x, y, motion[k].at<cv::Vec2f>(y / kBlock, x / kBlock), n);
        gather(here, t, sum, even, fall);
        if (even < n) {  // an odd last pixel goes through a pair of its own
          std::copy_n(here + 4 * even, 4, from);
          std::copy_n(sum + 4 * even, 4, last);
          alignas(64) float taps_of[4][8] = {};
          Taps one = t;
          for (int j = 0; j < 4; ++j) std::copy_n(t.p[j] + 4 * even, 4, taps_of[j]), one.p[j] = taps_of[j];
          gather(from, one, last, 2, fall);
          std::copy_n(last, 4, sum + 4 * even);
        }
      }
      settle(out.row(y) + 4 * x, here, sum, even);
      if (even < n) {
        float* to = out.row(y) + 4 * (x + even);
        for (int c = 0; c < 3; ++c) to[c] = sum[4 * even + c] / sum[4 * even + 3];
        to[3] = here[4 * even + 3];
      }
    }
  }

  /// Where a run of pixels comes from. Runs that would leave the picture stay inside it.
  static Taps taps(const Image& from, int x, int y, cv::Vec2f v, int n) {
    const float sx = std::clamp(static_cast<float>(x) + v[0], 0.0f, static_cast<float>(from.width() - n)),
                sy = std::clamp(static_cast<float>(y) + v[1], 0.0f, static_cast<float>(from.height() - 1));
    const int x0 = static_cast<int>(sx), y0 = static_cast<int>(sy);
    const int x1 = std::min(x0 + 1, from.width() - n), y1 = std::min(y0 + 1, from.height() - 1);
    const float fx = sx - static_cast<float>(x0), fy = sy - static_cast<float>(y0);
    return {{from.row(y0) + 4 * x0, from.row(y0) + 4 * x1, from.row(y1) + 4 * x0, from.row(y1) + 4 * x1},
            {(1 - fx) * (1 - fy), fx * (1 - fy), (1 - fx) * fy, fx * fy}};
  }

  int frames_;
  float strength_;
};

/// Means of the three channels, from every fourth pixel of every fourth row.
std::array<double, 3> means(const Image& image) {
  std::array<double, 3> sum{};
  double n = 0;
  for (int y = 1; y < image.height(); y += 4) {
    const float* p = image.row(y);
    for (int x = 1; x < image.width(); x += 4, n += 1)
      for (std::size_t c = 0; c < 3; ++c) sum[c] += p[4 * static_cast<std::size_t>(x) + c];
  }
  for (double& s : sum) s /= std::max(1.0, n);
  return sum;
}

class Deflicker : public EffectInstance {
 public:
  Deflicker(const EffectType& type, const Json& p, int, int)
      : frames_(static_cast<int>(std::lround(param(type, p, "frames")))), amount_(param(type, p, "amount")) {}
  bool identity() const override { return amount_ <= 0; }
  Window window() const override { return {frames_, frames_}; }
  void apply(Image& image, const FrameContext& at) const override {
    const auto here = means(image);
    std::array<double, 3> around{};
    double n = 0;
    for (const Image* other : at.window)
      if (other) {
        const auto m = means(*other);
        for (std::size_t c = 0; c < 3; ++c) around[c] += m[c];
        n += 1;
      }
    if (n < 2) return;
    float gain[3];
    for (std::size_t c = 0; c < 3; ++c)
      gain[c] = static_cast<float>(
          1 + amount_ * (here[c] > 1e-5 ? std::clamp(around[c] / n / here[c], 0.25, 4.0) - 1 : 0));
    float* p = image.data();
    for (std::size_t i = 0; i < image.floats(); i += 4)
      for (std::size_t c = 0; c < 3; ++c) p[i + c] *= gain[c];
  }

 private:
  int frames_;
  double amount_;
};

class Dust : public EffectInstance {
 public:
  Dust(const EffectType& type, const Json& p, int, int) : threshold_(param_f(type, p, "threshold")) {}
  bool identity() const override { return threshold_ >= 1; }
  Window window() const override { return {1, 1}; }
  void apply(Image& image, const FrameContext& at) const override {
    if (at.window.size() != 3 || !at.window[0] || !at.window[2]) return;
    const int w = image.width(), h = image.height();
    if (at.window[0]->width() != w || at.window[2]->height() != h) return;
    for (int y = 0; y < h; ++y) mend(image.row(y), at.window[0]->row(y), at.window[2]->row(y), w, threshold_);
  }

 private:
  /// The spike detection index (Kokaram, 1995): dust is on one frame only, so both neighbours differ from it
  /// in the same direction and agree with each other.
  static void mend(float* p, const float* before, const float* after, int n, float threshold) {
    for (int i = 0; i < n; ++i) {
      float a = 0, b = 0, c = 0;
      static constexpr float kLuma[3] = {0.2126f, 0.7152f, 0.0722f};
      for (int k = 0; k < 3; ++k)
        a += kLuma[k] * before[4 * i + k], b += kLuma[k] * p[4 * i + k], c += kLuma[k] * after[4 * i + k];
      const bool spike = (b - a > threshold && b - c > threshold) || (a - b > threshold && c - b > threshold);
      const bool agree = std::abs(a - c) < threshold;
      if (spike && agree)
        for (int k = 0; k < 3; ++k) p[4 * i + k] = 0.5f * (before[4 * i + k] + after[4 * i + k]);
    }
  }
  float threshold_;
};

constexpr const char* kWindowStays = "its window of frames would have to be carried over for each frame";

/// Millions of pixels of the shrunk pictures in which motion is searched.
double searched(const WorkSize& at) {
  const int shrink = std::clamp((at.width + kSearchWidth / 2) / kSearchWidth, 1, 32);
  return at.mpix / (shrink * shrink);
}

EffectType repair(EffectType t, const char* why, Growth growth) {
  t.growth = std::move(growth);
  t.processor_only = why;
  t.family = "repair";
  return t;
}

}  // namespace

const EffectType& temporal_nr_effect() {
  static const EffectType type =
      repair({"temporal_nr",
              "Temporal noise reduction",
              StageKind::repair,
              {{"frames", "Frames each side", "frames", 1, 5, 1, 1, true},
               {"strength", "Strength", "", 0, 0.5, 0.04}},
              false,
              make_instance<TemporalNr, temporal_nr_effect>},
             kWindowStays,
             {{"Mpixel × neighbours", "Mpixel of motion search"},
              [](const EffectType& e, const Json& p, const WorkSize& at, Terms& out) {
                const double n = 2 * std::round(param(e, p, "frames"));
                out[1] = static_cast<float>(at.mpix * n);
                out[2] = static_cast<float>(searched(at) * n);
              }});
  return type;
}

const EffectType& deflicker_effect() {
  static const EffectType type = repair(
      {"deflicker",
       "Deflicker",
       StageKind::repair,
       {{"frames", "Frames each side", "frames", 1, 5, 3, 1, true}, {"amount", "Amount", "", 0, 1, 1}},
       false,
       make_instance<Deflicker, deflicker_effect>},
      kWindowStays,
      {{"Mpixel × neighbours"}, [](const EffectType& e, const Json& p, const WorkSize& at, Terms& out) {
         out[1] = static_cast<float>(at.mpix * (2 * std::round(param(e, p, "frames")) + 1));
       }});
  return type;
}

const EffectType& dust_effect() {
  static const EffectType type = repair({"dust",
                                         "Dust removal",
                                         StageKind::repair,
                                         {{"threshold", "Threshold", "", 0.005, 1, 0.08}},
                                         false,
                                         make_instance<Dust, dust_effect>},
                                        kWindowStays, {});
  return type;
}

}  // namespace gc
