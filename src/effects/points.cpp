#include "effects/points.h"

#include <tbb/parallel_for.h>

#include <algorithm>

#include "base/clock.h"
#include "media/lanes.h"

namespace gc {
namespace {

GC_LANES void divide(float* p, std::size_t n) {
  for_pixels(
      p, n, [](Lanes v) __attribute__((always_inline)) {
        const Lanes alpha = __builtin_shufflevector(v, v, 3, 3, 3, 3, 7, 7, 7, 7);
        const Lanes k = alpha > 0 ? 1 / alpha : Lanes{};
        return v * (lanes(1, 0) * k + lanes(0, 1));
      });
}
GC_LANES void multiply(float* p, std::size_t n) {
  for_pixels(
      p, n, [](Lanes v) __attribute__((always_inline)) {
        const Lanes alpha = __builtin_shufflevector(v, v, 3, 3, 3, 3, 7, 7, 7, 7);
        return v * (lanes(1, 0) * alpha + lanes(0, 1));
      });
}

}  // namespace

void unpremultiply(float* rgba, std::size_t pixels) { divide(rgba, pixels); }
void premultiply(float* rgba, std::size_t pixels) { multiply(rgba, pixels); }

bool EffectInstance::apply(cv::UMat&, bool, const FrameContext&) const { return false; }

void PointInstance::apply(Image& image, const FrameContext& at) const {
  const PointInstance* self = this;
  run_points({&self, 1}, image, at);
}

namespace {

/// Rows [top, bottom), a tile at a time. `ms` receives each effect's time; what alpha takes is the first
/// one's.
void rows(std::span<const PointInstance* const> effects, Image& image, const FrameContext& at, int top,
          int bottom, std::vector<double>* ms) {
  const auto width = static_cast<std::size_t>(image.width());
  for (int y = top; y < bottom; ++y)
    for (std::size_t x = 0; x < width; x += kTilePixels) {
      const std::size_t n = std::min(kTilePixels, width - x);
      float* p = image.row(y) + 4 * x;
      double before = ms ? now_ms() : 0;
      if (!image.opaque) divide(p, n);
      for (std::size_t e = 0; e < effects.size(); ++e) {
        effects[e]->pixels(p, n, at.left + static_cast<int>(x), at.top + y, at);
        if (ms) {
          const double after = now_ms();
          (*ms)[e] += after - before;
          before = after;
        }
      }
      if (image.opaque) continue;
      multiply(p, n);
      if (ms) ms->front() += now_ms() - before;
    }
}

}  // namespace

void run_points(std::span<const PointInstance* const> effects, Image& image, const FrameContext& at,
                std::vector<double>* ms) {
  if (ms) ms->assign(effects.size(), 0.0);
  const Stopwatch all;
  if (at.tiles > 1 && image.height() >= 2 * at.tiles) {
    // Bands of rows side by side; their time is shared out evenly, since the effects' own parts overlap.
    tbb::parallel_for(0, at.tiles, [&](int band) {
      rows(effects, image, at, image.height() * band / at.tiles, image.height() * (band + 1) / at.tiles,
           nullptr);
    });
    if (ms) std::fill(ms->begin(), ms->end(), all.ms() / static_cast<double>(effects.size()));
    return;
  }
  const bool each = ms && effects.size() > 1;
  rows(effects, image, at, 0, image.height(), each ? ms : nullptr);
  if (ms && !each && !effects.empty()) ms->front() = all.ms();
}

bool run_point_kernel(const char* body, const std::string& prelude, cv::UMat& image, bool opaque,
                      const FrameContext& at, const std::vector<float>& args,
                      const std::vector<float>& table) {
  static constexpr const char* kAround = R"(
__kernel void point(__global uchar* data, int step, int offset, int rows, int cols, int left, int top, int w, int h,
                    int frame, int opaque, __global const float* a, __global const float* table) {
  const int own_col = get_global_id(0), own_row = get_global_id(1);
  if (own_col >= cols || own_row >= rows) return;
  __global float4* own_pixel = (__global float4*)(data + own_row * step + offset) + own_col;
  const int x = left + own_col, y = top + own_row;
  float4 p = *own_pixel;
  if (!opaque) p.xyz *= p.w > 0 ? 1 / p.w : 0;
)";
  const cv::ocl::ProgramSource source(prelude + kAround + body +
                                      "\n  if (!opaque) p.xyz *= p.w;\n  *own_pixel = p;\n}\n");
  cv::ocl::Kernel kernel("point", source, "-cl-fp32-correctly-rounded-divide-sqrt");
  if (kernel.empty()) kernel.create("point", source, "");
  if (kernel.empty()) return false;
  const auto upload = [](const std::vector<float>& v) {
    cv::UMat m;
    const float none = 0;
    cv::Mat(1, std::max(1, static_cast<int>(v.size())), CV_32F,
            const_cast<float*>(v.empty() ? &none : v.data()))
        .copyTo(m);
    return m;
  };
  const cv::UMat a = upload(args), t = upload(table);
  kernel.args(cv::ocl::KernelArg::ReadWrite(image), at.left, at.top, at.width, at.height,
              static_cast<int>(at.frame), opaque ? 1 : 0, cv::ocl::KernelArg::PtrReadOnly(a),
              cv::ocl::KernelArg::PtrReadOnly(t));
  std::size_t size[2] = {static_cast<std::size_t>(image.cols), static_cast<std::size_t>(image.rows)};
  return kernel.run(2, size, nullptr, true);
}

}  // namespace gc
