// A painted look: the filter of Kuwahara (1976) in its generalised form with eight soft sectors (Papari,
// Petkov and Campisi, 2007), several times over. Each pixel takes the mean of that sector around it which
// varies least. It is meant to be what the trade knows as an expensive whole-picture effect.
#include <algorithm>
#include <cmath>
#include <numbers>
#include <opencv2/imgproc.hpp>

#include "effects/points.h"
#include "effects/registry.h"

namespace gc {
namespace {

constexpr int kSectors = 8;

class Stylise : public EffectInstance {
 public:
  Stylise(const EffectType& type, const Json& p, int, int)
      : radius_(static_cast<int>(std::lround(param(type, p, "radius")))),
        passes_(static_cast<int>(std::lround(param(type, p, "passes")))) {
    const int size = 2 * radius_ + 1;
    for (int s = 0; s < kSectors && radius_ > 0; ++s) {
      cv::Mat k = cv::Mat::zeros(size, size, CV_32F);
      for (int y = -radius_; y <= radius_; ++y)
        for (int x = -radius_; x <= radius_; ++x) {
          const double r = std::hypot(x, y);
          if (r > radius_ + 0.5) continue;
          double turn = std::atan2(y, x) - 2 * std::numbers::pi * s / kSectors;
          turn = std::abs(std::remainder(turn, 2 * std::numbers::pi)) / (std::numbers::pi / kSectors);
          const double inside = r == 0 ? 1.0 / kSectors : std::clamp(1.5 - turn, 0.0, 1.0);
          k.at<float>(y + radius_, x + radius_) =
              static_cast<float>(inside * std::exp(-2 * r * r / (radius_ * radius_)));
        }
      kernels_.push_back(k / cv::sum(k)[0]);
    }
  }
  bool identity() const override { return radius_ == 0 || passes_ == 0; }
  int reach() const override { return radius_ * passes_; }
  void apply(Image& image, const FrameContext&) const override {
    for (int pass = 0; pass < passes_; ++pass) {
      const cv::Mat in = as_mat<cv::Mat>(image);
      const cv::Mat square = in.mul(in);
      Image sum = Image::filled(image.width(), image.height(), 0, 0, 0, 0);
      std::vector<float> weight(
          static_cast<std::size_t>(image.width()) * static_cast<std::size_t>(image.height()), 0.0f);
      cv::Mat mean, mean2;
      for (const cv::Mat& k : kernels_) {
        cv::filter2D(in, mean, -1, k, {-1, -1}, 0, cv::BORDER_REPLICATE);
        cv::filter2D(square, mean2, -1, k, {-1, -1}, 0, cv::BORDER_REPLICATE);
        for (int y = 0; y < image.height(); ++y)
          add(mean.ptr<float>(y), mean2.ptr<float>(y), sum.row(y),
              weight.data() + static_cast<std::ptrdiff_t>(y) * image.width(), image.width());
      }
      float* p = image.data();
      for (std::size_t i = 0; i < weight.size(); ++i)
        for (std::size_t c = 0; c < 3; ++c) p[4 * i + c] = sum.data()[4 * i + c] / weight[i];
    }
  }
  bool apply(cv::UMat& image, bool, const FrameContext&) const override {
    // One kernel walks the disc once for all sectors.
    static constexpr const char* kPaint = R"(
__kernel void paint(__global const uchar* s, int ss, int so, __global uchar* d, int ds, int doff, int rows, int cols,
                    int radius, __global const float* weights) {
  const int x = get_global_id(0), y = get_global_id(1);
  if (x >= cols || y >= rows) return;
  const int size = 2 * radius + 1;
  float3 sum = (float3)(0.0f);
  float total = 0;
  for (int sector = 0; sector < 8; ++sector) {
    float3 mean = (float3)(0.0f), mean2 = (float3)(0.0f);
    __global const float* k = weights + sector * size * size;
    for (int j = -radius; j <= radius; ++j)
      for (int i = -radius; i <= radius; ++i) {
        const float w = *k++;
        if (w == 0) continue;
        const float3 v = ((__global const float4*)(s + clamp(y + j, 0, rows - 1) * ss + so))[clamp(x + i, 0, cols - 1)].xyz;
        mean += w * v;
        mean2 += w * v * v;
      }
    const float3 var = max(mean2 - mean * mean, 0.0f);
    const float spread = (var.x + var.y + var.z) * 4096 + 1e-3f;
    const float w = 1 / (spread * spread * spread * spread);
    sum += w * mean;
    total += w;
  }
  float4 out;
  out.xyz = sum / total;
  out.w = ((__global const float4*)(s + y * ss + so))[x].w;
  ((__global float4*)(d + y * ds + doff))[x] = out;
})";
    std::vector<float> all;
    for (const cv::Mat& k : kernels_) all.insert(all.end(), k.ptr<float>(0), k.ptr<float>(0) + k.total());
    cv::UMat weights;
    cv::Mat(1, static_cast<int>(all.size()), CV_32F, all.data()).copyTo(weights);
    cv::ocl::Kernel kernel("paint", cv::ocl::ProgramSource(kPaint), "");
    if (kernel.empty()) return false;
    for (int pass = 0; pass < passes_; ++pass) {
      cv::UMat out(image.size(), image.type());
      kernel.args(cv::ocl::KernelArg::ReadOnlyNoSize(image), cv::ocl::KernelArg::WriteOnly(out), radius_,
                  cv::ocl::KernelArg::PtrReadOnly(weights));
      std::size_t size[2] = {static_cast<std::size_t>(image.cols), static_cast<std::size_t>(image.rows)};
      if (!kernel.run(2, size, nullptr, true)) return false;
      image = out;
    }
    return true;
  }

 private:
  /// Adds a sector's mean, weighted by the fourth power of how little it varies.
  static void add(const float* mean, const float* mean2, float* sum, float* weight, int n) {
    for (int i = 0; i < n; ++i) {
      float spread = 0;
      for (int c = 0; c < 3; ++c)
        spread += std::max(0.0f, mean2[4 * i + c] - mean[4 * i + c] * mean[4 * i + c]);
      spread = spread * 4096 + 1e-3f;
      const float w = 1 / (spread * spread * spread * spread);
      for (int c = 0; c < 3; ++c) sum[4 * i + c] += w * mean[4 * i + c];
      weight[i] += w;
    }
  }
  int radius_, passes_;
  std::vector<cv::Mat> kernels_;
};

}  // namespace

const EffectType& stylise_effect() {
  static const EffectType type = [] {
    EffectType t{"stylise",
                 "Stylise, painted",
                 StageKind::effect,
                 {{"radius", "Radius", "px", 0, 12, 5, 1, true}, {"passes", "Passes", "", 0, 4, 1, 1, true}},
                 false,
                 make_instance<Stylise, stylise_effect>};
    t.accelerator = true;
    t.growth = {{"Mpixel × passes × taps", "Mpixel of transforms × passes", "Mpixel × passes"},
                [](const EffectType& e, const Json& p, const WorkSize& at, Terms& out) {
                  const double r = std::round(param(e, p, "radius")),
                               passes = std::round(param(e, p, "passes"));
                  // A sector's soft edges make it three eighths of the disc.
                  filter_terms(at, 3.0 / 8 * std::numbers::pi * r * r, 2 * static_cast<int>(r) + 1, out, 1);
                  out[1] *= static_cast<float>(passes), out[2] *= static_cast<float>(passes);
                  out[3] = static_cast<float>(at.mpix * passes);
                }};
    t.tolerance = 2e-2;  // where two sectors vary alike, rounding decides between their means
    t.family = "detail";
    return t;
  }();
  return type;
}

}  // namespace gc
