// The one Gaussian of all effects.
#pragma once
#include <opencv2/core.hpp>

#include "media/image.h"

namespace gc {

/// Three standard deviations each way hold 99.7 % of the kernel.
int gaussian_reach(double sigma);

/// `to` must have the size of `from`. Edges repeat the outermost pixel.
void gaussian(const Image& from, Image& to, double sigma);
void gaussian(const cv::UMat& from, cv::UMat& to, double sigma);

}  // namespace gc
