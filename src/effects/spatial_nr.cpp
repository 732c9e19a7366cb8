// Noise reduction within one picture. The cheap kind is a bilateral filter (Tomasi and Manduchi, 1998), by
// OpenCV and by a kernel of our own on the accelerator; the strong kind is non-local means (Buades, Coll and
// Morel, 2005), by OpenCV, at 16 bits.
#include <cmath>
#include <numbers>
#include <opencv2/imgproc.hpp>
#include <opencv2/photo.hpp>

#include "effects/points.h"
#include "effects/registry.h"

namespace gc {
namespace {

constexpr int kRgb[] = {0, 0, 1, 1, 2, 2};

class SpatialNr : public EffectInstance {
 public:
  SpatialNr(const EffectType& type, const Json& p, int, int)
      : radius_(static_cast<int>(std::lround(param(type, p, "radius")))),
        strength_(param(type, p, "strength")) {}
  bool identity() const override { return radius_ == 0 || strength_ <= 0; }
  int reach() const override { return radius_; }
  void apply(Image& image, const FrameContext&) const override {
    // The filter takes three channels; alpha stays as it is.
    Image three(image.width(), image.height()), out(image.width(), image.height());
    cv::Mat rgba = as_mat<cv::Mat>(image);
    cv::Mat rgb(image.height(), image.width(), CV_32FC3, three.data()),
        smooth(image.height(), image.width(), CV_32FC3, out.data());
    cv::mixChannels(&rgba, 1, &rgb, 1, kRgb, 3);
    // A flat picture would be copied in a fiftieth of the time, and the seat would learn from it what such
    // filters take. A millionth in one corner, below what 16 bits tell apart, makes it one like any other.
    three.data()[0] += 1e-6f * (1 + std::abs(three.data()[0]));
    cv::bilateralFilter(rgb, smooth, 2 * radius_ + 1, strength_, space(), cv::BORDER_REPLICATE);
    cv::mixChannels(&smooth, 1, &rgba, 1, kRgb, 3);
  }
  bool apply(cv::UMat& image, bool, const FrameContext&) const override {
    // As OpenCV weighs it: the difference of colours is the sum of the channels' absolute differences.
    static constexpr const char* kBilateral = R"(
__kernel void bilateral(__global const uchar* s, int ss, int so, __global uchar* d, int ds, int doff, int rows, int cols,
                        int radius, float colour, float space) {
  const int x = get_global_id(0), y = get_global_id(1);
  if (x >= cols || y >= rows) return;
  const float4 here = ((__global const float4*)(s + y * ss + so))[x];
  float3 sum = (float3)(0.0f);
  float weights = 0;
  for (int j = -radius; j <= radius; ++j)
    for (int i = -radius; i <= radius; ++i) {
      const float r2 = (float)(i * i + j * j);
      if (sqrt(r2) > radius) continue;
      const float4 v = ((__global const float4*)(s + clamp(y + j, 0, rows - 1) * ss + so))[clamp(x + i, 0, cols - 1)];
      const float3 d3 = fabs(v.xyz - here.xyz);
      const float diff = d3.x + d3.y + d3.z;
      const float w = exp(r2 * space + diff * diff * colour);
      sum += w * v.xyz;
      weights += w;
    }
  float4 out;
  out.xyz = sum / weights;
  out.w = here.w;
  ((__global float4*)(d + y * ds + doff))[x] = out;
})";
    cv::UMat out(image.size(), image.type());
    cv::ocl::Kernel kernel("bilateral", cv::ocl::ProgramSource(kBilateral), "");
    if (kernel.empty()) return false;
    kernel.args(cv::ocl::KernelArg::ReadOnlyNoSize(image), cv::ocl::KernelArg::WriteOnly(out), radius_,
                static_cast<float>(-0.5 / (strength_ * strength_)),
                static_cast<float>(-0.5 / (space() * space())));
    std::size_t size[2] = {static_cast<std::size_t>(image.cols), static_cast<std::size_t>(image.rows)};
    if (!kernel.run(2, size, nullptr, true)) return false;
    image = out;
    return true;
  }

 private:
  double space() const { return std::max(1.0, radius_ * 0.75); }
  int radius_;
  double strength_;
};

class StrongNr : public EffectInstance {
 public:
  StrongNr(const EffectType& type, const Json& p, int, int)
      : search_(static_cast<int>(std::lround(param(type, p, "search")))),
        strength_(param(type, p, "strength")) {}
  bool identity() const override { return strength_ <= 0; }
  int reach() const override { return search_ + kPatch; }
  void apply(Image& image, const FrameContext&) const override {
    cv::Mat rgba = as_mat<cv::Mat>(image), rgb, sixteen, smooth, back;
    cv::cvtColor(rgba, rgb, cv::COLOR_RGBA2RGB);
    rgb.convertTo(sixteen, CV_16UC3, 65535);
    const auto h = static_cast<float>(strength_ * 65535);
    cv::fastNlMeansDenoising(sixteen, smooth, std::vector<float>{h, h, h}, 2 * kPatch + 1, 2 * search_ + 1,
                             cv::NORM_L1);
    smooth.convertTo(back, CV_32FC3, 1.0 / 65535);
    cv::mixChannels(&back, 1, &rgba, 1, kRgb, 3);
  }

 private:
  static constexpr int kPatch = 2;  // each way: patches of 5 × 5
  int search_;
  double strength_;
};

}  // namespace

const EffectType& spatial_nr_effect() {
  static const EffectType type = [] {
    EffectType t{"spatial_nr",
                 "Spatial noise reduction",
                 StageKind::repair,
                 {{"radius", "Radius", "px", 0, 15, 3, 1, true}, {"strength", "Strength", "", 0, 1, 0.08}},
                 false,
                 make_instance<SpatialNr, spatial_nr_effect>};
    t.accelerator = true;
    t.growth = {{"Mpixel × taps"}, [](const EffectType& e, const Json& p, const WorkSize& at, Terms& out) {
                  const double r = std::round(param(e, p, "radius"));
                  out[1] = static_cast<float>(at.mpix * std::numbers::pi * r * r);
                }};
    t.tolerance = 2e-3;
    t.family = "repair";
    return t;
  }();
  return type;
}

const EffectType& strong_nr_effect() {
  static const EffectType type = [] {
    EffectType t{"strong_nr",
                 "Strong noise reduction",
                 StageKind::repair,
                 {{"search", "Search", "px", 1, 15, 5, 1, true}, {"strength", "Strength", "", 0, 0.5, 0.03}},
                 false,
                 make_instance<StrongNr, strong_nr_effect>};
    t.growth = {{"Mpixel × searched places", "Mpixel × search side"},
                [](const EffectType& e, const Json& p, const WorkSize& at, Terms& out) {
                  const double side = 2 * std::round(param(e, p, "search")) + 1;
                  out[1] = static_cast<float>(at.mpix * side * side);
                  out[2] = static_cast<float>(at.mpix * side);
                }};
    t.processor_only = "at 16 bits OpenCV's non-local means runs on the processor only";
    t.family = "repair";
    return t;
  }();
  return type;
}

}  // namespace gc
