// Repairs that look at neighbouring frames: temporal noise reduction along the motion, deflicker, dust
// removal.
#include <algorithm>
#include <cmath>
#include <opencv2/imgproc.hpp>

#include "effects/motion.h"
#include "effects/registry.h"

#define GC_CLONES __attribute__((target_clones("arch=haswell", "default")))

namespace gc {
namespace {

constexpr int kShrink = 4;  // the motion search looks at pictures a quarter as wide
constexpr int kBlock = 16;  // pixels that move together

/// One neighbour's rows, moved by a whole vector for a block: bilinear with constant weights.
struct Taps {
  const float* p[4];
  float w[4];
};

/// Adds a neighbour's pixels to the sums, each weighted by how well it agrees with the pixel here.
GC_CLONES void gather(const float* here, const Taps& t, float* sum, float* weight, int pixels, float fall) {
  for (int i = 0; i < pixels; ++i) {
    float v[3], d = 0;
    for (int c = 0; c < 3; ++c) {
      const int k = 4 * i + c;
      v[c] = t.p[0][k] * t.w[0] + t.p[1][k] * t.w[1] + t.p[2][k] * t.w[2] + t.p[3][k] * t.w[3];
      d += (v[c] - here[k]) * (v[c] - here[k]);
    }
    // 1/(1 + (d/σ²)²): like a Gaussian near the middle, without an exponential.
    const float q = d * fall, w = 1 / (1 + q * q);
    for (int c = 0; c < 3; ++c) sum[4 * i + c] += w * v[c];
    weight[i] += w;
  }
}

GC_CLONES void settle(float* out, const float* sum, const float* weight, int pixels) {
  for (int i = 0; i < pixels; ++i)
    for (int c = 0; c < 3; ++c) out[4 * i + c] = sum[4 * i + c] / weight[i];
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
    const cv::Mat here_luma = search_luma(image, kShrink);
    std::vector<const Image*> near;
    std::vector<cv::Mat> motion;
    for (std::size_t i = 0; i < at.window.size(); ++i) {
      const Image* other = at.window[i];
      if (static_cast<int>(i) == frames_ || !other || other->width() != w || other->height() != h) continue;
      near.push_back(other);
      motion.push_back(block_motion(flow_between(here_luma, search_luma(*other, kShrink), false), w, h));
    }
    if (near.empty()) return;
    // Three channels' squared differences are compared; σ is that of one.
    const float fall = 1 / (3 * 4 * strength_ * strength_);
    Image out(w, h);
    out.opaque = image.opaque;
    alignas(64) float sum[kBlock * 4], weight[kBlock];
    for (int y = 0; y < h; ++y) {
      const float* here = image.row(y);
      float* to = out.row(y);
      for (int x = 0; x < w; x += kBlock) {
        const int n = std::min(kBlock, w - x);
        std::copy(here + 4 * x, here + 4 * (x + n), sum);
        std::fill(weight, weight + n, 1.0f);
        for (std::size_t i = 0; i < near.size(); ++i) {
          const cv::Vec2f v = motion[i].at<cv::Vec2f>(y / kBlock, x / kBlock);
          gather(here + 4 * x, taps(*near[i], x, y, v, n), sum, weight, n, fall);
        }
        std::copy(here + 4 * x, here + 4 * (x + n), to + 4 * x);  // alpha
        settle(to + 4 * x, sum, weight, n);
      }
    }
    image = std::move(out);
  }

 private:
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
  GC_CLONES static void mend(float* p, const float* before, const float* after, int n, float threshold) {
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

EffectType repair(EffectType t, const char* why) {
  t.processor_only = why;
  t.family = "repair";
  return t;
}

}  // namespace

const EffectType& temporal_nr_effect() {
  static const EffectType type = repair({"temporal_nr",
                                         "Temporal noise reduction",
                                         StageKind::repair,
                                         {{"frames", "Frames each side", "frames", 1, 5, 1, 1, true},
                                          {"strength", "Strength", "", 0, 0.5, 0.04}},
                                         false,
                                         make_instance<TemporalNr, temporal_nr_effect>},
                                        "its window of frames would have to be carried over for each frame");
  return type;
}

const EffectType& deflicker_effect() {
  static const EffectType type =
      repair({"deflicker",
              "Deflicker",
              StageKind::repair,
              {{"frames", "Frames each side", "frames", 1, 5, 3, 1, true}, {"amount", "Amount", "", 0, 1, 1}},
              false,
              make_instance<Deflicker, deflicker_effect>},
             "its window of frames would have to be carried over for each frame");
  return type;
}

const EffectType& dust_effect() {
  static const EffectType type = repair({"dust",
                                         "Dust removal",
                                         StageKind::repair,
                                         {{"threshold", "Threshold", "", 0.005, 1, 0.08}},
                                         false,
                                         make_instance<Dust, dust_effect>},
                                        "its window of frames would have to be carried over for each frame");
  return type;
}

}  // namespace gc
