// Point operations: runs of them are fused, tile by tile, on the processor; on the accelerator each is a
// kernel.
#pragma once
#include <opencv2/core/ocl.hpp>

#include "effects/effect.h"

namespace gc {

/// Pixels of a tile: 48 KB, so that a tile stays in the nearer caches while several effects pass over it.
inline constexpr std::size_t kTilePixels = 3072;

/// Runs the effects one after another over tiles of the image. `ms`, when given, receives the time of each.
void run_points(std::span<const PointInstance* const> effects, Image& image, const FrameContext& at,
                std::vector<double>* ms = nullptr);

/// Runs a point kernel over a CV_32FC4 matrix. `body` is OpenCL C that changes `float4 p` (not premultiplied)
/// and may use: `float* a` (args), `table` (floats), `x`, `y` (place on the raster), `w`, `h` (raster),
/// `frame`. False when the device failed.
bool run_point_kernel(const char* body, const std::string& prelude, cv::UMat& image, bool opaque,
                      const FrameContext& at, const std::vector<float>& args,
                      const std::vector<float>& table = {});

}  // namespace gc
