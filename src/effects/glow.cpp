// Glow: what is brighter than a threshold is blurred and screened over the picture, 1 − (1 − a)(1 − b).
#include <algorithm>
#include <cmath>
#include <opencv2/imgproc.hpp>

#include "effects/gaussian.h"
#include "effects/points.h"
#include "effects/registry.h"

#define GC_CLONES __attribute__((target_clones("arch=x86-64-v3", "default")))

namespace gc {
namespace {

GC_CLONES void screen_over(float* p, const float* glow, std::size_t pixels, float amount) {
  for (std::size_t i = 0; i < pixels; ++i)
    for (std::size_t c = 0; c < 3; ++c) {
      const float g = glow[4 * i + c] * amount;
      p[4 * i + c] = 1 - (1 - p[4 * i + c]) * (1 - (g < 1.0f ? g : 1.0f));
    }
}

class Glow : public EffectInstance {
 public:
  Glow(const EffectType& type, const Json& p, int, int)
      : threshold_(param_f(type, p, "threshold")),
        sigma_(param(type, p, "sigma")),
        amount_(param_f(type, p, "amount")) {}
  bool identity() const override { return amount_ == 0; }
  int reach() const override { return gaussian_reach(sigma_) + 4; }
  void apply(Image& image, const FrameContext&) const override {
    // A glow holds no fine detail: half the size is enough and a quarter of the work.
    cv::Mat half, soft, back;
    cv::resize(as_mat<cv::Mat>(image), half, {}, 0.5, 0.5, cv::INTER_AREA);
    bright(half);
    blur(half, soft);
    cv::resize(soft, back, {image.width(), image.height()}, 0, 0, cv::INTER_LINEAR);
    for (int y = 0; y < image.height(); ++y)
      screen_over(image.row(y), back.ptr<float>(y), static_cast<std::size_t>(image.width()), amount_);
  }
  bool apply(cv::UMat& image, bool, const FrameContext& at) const override {
    cv::UMat half, soft, back;
    cv::resize(image, half, {}, 0.5, 0.5, cv::INTER_AREA);
    cv::subtract(half, cv::Scalar::all(threshold_), half);
    cv::max(half, 0.0, half);
    blur(half, soft);
    cv::resize(soft, back, image.size(), 0, 0, cv::INTER_LINEAR);
    static constexpr const char* kScreen = R"(
__kernel void screen_over(__global uchar* p, int ps, int po, int rows, int cols, __global const uchar* g, int gs, int go,
                          float amount) {
  const int x = get_global_id(0), y = get_global_id(1);
  if (x >= cols || y >= rows) return;
  __global float4* at = (__global float4*)(p + y * ps + po) + x;
  const float4 glow = ((__global const float4*)(g + y * gs + go))[x];
  at->xyz = 1 - (1 - at->xyz) * (1 - min(glow.xyz * amount, 1.0f));
})";
    cv::ocl::Kernel kernel("screen_over", cv::ocl::ProgramSource(kScreen), "");
    if (kernel.empty() || at.width <= 0) return false;
    kernel.args(cv::ocl::KernelArg::ReadWrite(image), cv::ocl::KernelArg::ReadOnlyNoSize(back), amount_);
    std::size_t size[2] = {static_cast<std::size_t>(image.cols), static_cast<std::size_t>(image.rows)};
    return kernel.run(2, size, nullptr, true);
  }

 private:
  void bright(cv::Mat& m) const {
    cv::subtract(m, cv::Scalar::all(threshold_), m);
    cv::max(m, 0.0, m);
  }
  template <class M>
  void blur(const M& from, M& to) const {
    const double sigma = std::max(0.3, sigma_ / 2);
    const int size = 2 * gaussian_reach(sigma) + 1;
    cv::GaussianBlur(from, to, {size, size}, sigma, sigma, cv::BORDER_REPLICATE);
  }
  float threshold_;
  double sigma_;
  float amount_;
};

}  // namespace

const EffectType& glow_effect() {
  static const EffectType type = [] {
    EffectType t{"glow",
                 "Glow",
                 StageKind::effect,
                 {{"threshold", "Threshold", "", 0, 1, 0.7},
                  {"sigma", "Radius (1 σ)", "px", 0.5, 80, 12, 1, true},
                  {"amount", "Amount", "", 0, 8, 1}},
                 false,
                 make_instance<Glow, glow_effect>};
    t.accelerator = true;
    t.growth = {
        {"Mpixel × taps", "Mpixel × taps × doublings beyond the cache"},
        [](const EffectType& e, const Json& p, const WorkSize& at, Terms& out) {
          const double sigma = std::max(0.3, param(e, p, "sigma") / 2);
          separable_terms({at.width / 2, at.height / 2, at.mpix}, 2 * gaussian_reach(sigma) + 1, out, 1);
        }};
    t.tolerance = 1e-3;
    t.family = "detail";
    return t;
  }();
  return type;
}

}  // namespace gc
