// Repairs that look at neighbouring frames: temporal noise reduction along the motion, deflicker, dust
// removal.
#include <algorithm>
#include <array>
#include <cmath>
#include <cstring>
#include <opencv2/imgproc.hpp>

#include "effects/motion.h"
#include "effects/registry.h"
#include "media/lanes.h"

namespace gc {
namespace {

constexpr int kBlock = 16;  // pixels that move together

/// The motion search looks at pictures of about this width.
constexpr int kSearchWidth = 320;

/// One neighbour's rows, moved by a block's vector to the nearest whole pixel, or half way to the next one in one
/// direction: what that blurs is less than what the noise hides, and takes half of what bilinear steps take.
struct Taps {
  const float* p[2];
  float w[2];
};

constexpr int kPatch = 4;  // pixels in a row that share a weight

/// One patch's values. The newest processors take it in one step, older ones in two or four.
typedef float Patch __attribute__((vector_size(16 * kPatch)));
#define GC_PATCHES __attribute__((target_clones("arch=x86-64-v4", "arch=x86-64-v3", "default")))

GC_INLINE Patch load_patch(const float* p) {
  Patch v;
  std::memcpy(&v, p, sizeof v);
  return v;
}
GC_INLINE void store_patch(float* p, Patch v) { std::memcpy(p, &v, sizeof v); }

/// How much a neighbour's patch counts: by how well its colours agree with those here. 1/(1 + (d/σ²)²): like a Gaussian
/// near the middle, without an exponential.
GC_INLINE float weight_of(Patch here, Patch there, float fall) {
  typedef float Pixel __attribute__((vector_size(16)));
  const Patch d = there - here, dd = d * d;
  const Lanes two = __builtin_shufflevector(dd, dd, 0, 1, 2, 3, 4, 5, 6, 7) + __builtin_shufflevector(dd, dd, 8, 9, 10, 11, 12, 13, 14, 15);
  const Pixel one = __builtin_shufflevector(two, two, 0, 1, 2, 3) + __builtin_shufflevector(two, two, 4, 5, 6, 7);
  const float q = (one[0] + one[1] + one[2]) * fall;
  return 1 / (1 + q * q);
}

GC_INLINE Patch moved(const Taps& t, int i) { return load_patch(t.p[0] + i) * t.w[0] + load_patch(t.p[1] + i) * t.w[1]; }

/// sum = before + the neighbours' pixels, weighted; the weights are added to those of the patches. `pixels`: whole patches.
template <class... Neighbours>
GC_INLINE void gather(const float* here, const float* before, float* sum, float* weights, int pixels, float fall, int stride,
                      const Neighbours&... near) {
  for (int i = 0; i < 4 * pixels; i += 4 * kPatch) {
    const Patch h = load_patch(here + i);
    Patch all = load_patch(before + i);
    float weight = weights[i / (4 * kPatch)];
    const auto add = [&](const Taps& t) __attribute__((always_inline)) {
      __builtin_prefetch(t.p[0] + i + stride, 0, 2);
      const Patch there = moved(t, i);
      const float w = weight_of(h, there, fall);
      all += there * w, weight += w;
    };
    (add(near), ...);
    store_patch(sum + i, all);
    weights[i / (4 * kPatch)] = weight;
  }
}

/// Colours divided by the weights of their patch; alpha as it was.
GC_INLINE void settle(float* out, const float* here, const float* sum, const float* weights, int pixels) {
  constexpr Patch kColour{1, 1, 1, 0, 1, 1, 1, 0, 1, 1, 1, 0, 1, 1, 1, 0};
  for (int i = 0; i < 4 * pixels; i += 4 * kPatch) {
    const float share = 1 / weights[i / (4 * kPatch)];
    store_patch(out + i, load_patch(sum + i) * (kColour * share) + load_patch(here + i) * (1 - kColour));
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
    if (auto made = reduced(image, at)) image = std::move(*made);
  }
  std::optional<Image> of_window(const FrameContext& at) const override {
    const auto middle = static_cast<std::size_t>(frames_);
    return middle < at.window.size() && at.window[middle] ? reduced(*at.window[middle], at) : std::nullopt;
  }

 private:
  /// By how many half pixels a block is moved: in one direction at most by an odd number.
  struct Move {
    int x = 0, y = 0;
  };
  struct Neighbour {
    const Image* image = nullptr;
    std::vector<Move> moves;  ///< of the blocks, row by row
  };

  std::optional<Image> reduced(const Image& image, const FrameContext& at) const {
    const int w = image.width(), h = image.height();
    if (at.window.size() < 2 || w < 64 || h < 64) return std::nullopt;
    const int shrink = std::clamp((w + kSearchWidth / 2) / kSearchWidth, 1, 32);
    const cv::Mat here_luma = search_luma(image, shrink);
    std::vector<Neighbour> near;
    for (std::size_t i = 0; i < at.window.size(); ++i) {
      const Image* other = at.window[i];
      if (static_cast<int>(i) == frames_ || !other || other->width() != w || other->height() != h) continue;
      near.push_back({other, moves(block_motion(flow_between(here_luma, search_luma(*other, shrink), false), w, h))});
    }
    if (near.empty()) return std::nullopt;
    Image out(w, h);
    out.opaque = image.opaque;
    std::vector<float> sum(static_cast<std::size_t>(w) * 4 + 8), weights(static_cast<std::size_t>(w / kPatch) + 1);
    for (int y = 0; y < h; ++y) row(image, near, sum.data(), weights.data(), out, y);
    return out;
  }

  static std::vector<Move> moves(const cv::Mat& motion) {
    std::vector<Move> all;
    for (int y = 0; y < motion.rows; ++y)
      for (int x = 0; x < motion.cols; ++x) {
        const cv::Vec2f v = motion.at<cv::Vec2f>(y, x);
        Move m{static_cast<int>(std::lround(2 * v[0])), static_cast<int>(std::lround(2 * v[1]))};
        if (m.x % 2 != 0 && m.y % 2 != 0) {
          // Half way in the direction in which that is nearer.
          const float off_x = std::abs(v[0] - std::round(v[0])), off_y = std::abs(v[1] - std::round(v[1]));
          if (off_x < off_y) m.x = 2 * static_cast<int>(std::lround(v[0]));
          else m.y = 2 * static_cast<int>(std::lround(v[1]));
        }
        all.push_back(m);
      }
    return all;
  }

  /// Row by row and two neighbours at a time, so that only a few rows are read at once.
  GC_PATCHES void row(const Image& image, const std::vector<Neighbour>& near, float* sum, float* weights, Image& out,
                      int y) const {
    // Squared differences of a patch's pixels and their three channels are compared; σ is that of one.
    const float fall = 1 / (3 * 4 * strength_ * strength_ * kPatch);
    const int w = image.width(), blocks = (w + kBlock - 1) / kBlock, whole = w - w % kPatch;
    const float* here = image.row(y);
    std::fill_n(weights, w / kPatch + 1, 1.0f);
    for (std::size_t k = 0; k < near.size(); k += 2) {
      const float* before = k == 0 ? here : sum;
      const bool two = k + 1 < near.size();
      const Move* first = &near[k].moves[static_cast<std::size_t>(y / kBlock * blocks)];
      const Move* second = two ? &near[k + 1].moves[static_cast<std::size_t>(y / kBlock * blocks)] : nullptr;
      for (int x = 0, b = 0; x < w; x += kBlock, ++b) {
        const int n = std::min(kBlock, w - x), even = n - n % kPatch;
        const Taps s = taps(*near[k].image, x, y, first[b], n);
        const Taps t = two ? taps(*near[k + 1].image, x, y, second[b], n) : s;
        const float *from = here + 4 * x, *so_far = before + 4 * x;
        if (two) gather(from, so_far, sum + 4 * x, weights + x / kPatch, even, fall, 4 * w, s, t);
        else gather(from, so_far, sum + 4 * x, weights + x / kPatch, even, fall, 4 * w, s);
        if (even == n) continue;
        last_patch(here, before, s, sum, weights, x + even, n - even, even, fall);
        if (two) last_patch(here, sum, t, sum, weights, x + even, n - even, even, fall);
      }
    }
    settle(out.row(y), here, sum, weights, whole);
    for (int x = 4 * whole; x < 4 * w; ++x) out.row(y)[x] = x % 4 == 3 ? here[x] : sum[x] / weights[w / kPatch];
  }

  /// The pixels at a row's end that are no whole patch go through one of their own.
  GC_INLINE static void last_patch(const float* here, const float* before, const Taps& t, float* sum, float* weights, int x,
                                   int pixels, int off, float fall) {
    alignas(64) float from[4 * kPatch] = {}, to[4 * kPatch] = {}, taps_of[2][4 * kPatch] = {};
    Taps one = t;
    const int floats = 4 * pixels;
    std::copy_n(here + 4 * x, floats, from);
    std::copy_n(before + 4 * x, floats, to);
    for (int j = 0; j < 2; ++j) std::copy_n(t.p[j] + 4 * off, floats, taps_of[j]), one.p[j] = taps_of[j];
    gather(from, to, to, weights + x / kPatch, kPatch, fall * kPatch / static_cast<float>(pixels), 0, one);
    std::copy_n(to, floats, sum + 4 * x);
  }

  /// Where a run of pixels comes from. Runs that would leave the picture stay inside it.
  GC_INLINE static Taps taps(const Image& from, int x, int y, Move m, int n) {
    const int hx = std::min(std::max(2 * x + m.x, 0), 2 * (from.width() - n)),
              hy = std::min(std::max(2 * y + m.y, 0), 2 * (from.height() - 1));
    const int x0 = hx / 2, y0 = hy / 2, x1 = (hx + 1) / 2, y1 = (hy + 1) / 2;
    const bool whole = x0 == x1 && y0 == y1;
    return {{from.row(y0) + 4 * x0, from.row(y1) + 4 * x1}, {whole ? 1.0f : 0.5f, whole ? 0.0f : 0.5f}};
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

EffectType repair(EffectType t, const char* why, Growth growth, bool makes_new = false) {
  t.makes_new = makes_new;
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
              }},
             true);
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
