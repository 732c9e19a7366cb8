#include "effects/gaussian.h"

#include <cmath>
#include <opencv2/imgproc.hpp>

#include "effects/effect.h"

namespace gc {

int gaussian_reach(double sigma) { return static_cast<int>(std::ceil(3 * sigma)); }

void gaussian(const Image& from, Image& to, double sigma) {
  const int size = 2 * gaussian_reach(sigma) + 1;
  const cv::Mat in = as_mat<cv::Mat>(from);
  cv::Mat out = as_mat<cv::Mat>(to);
  cv::GaussianBlur(in, out, {size, size}, sigma, sigma, cv::BORDER_REPLICATE);
}

void gaussian(const cv::UMat& from, cv::UMat& to, double sigma) {
  const int size = 2 * gaussian_reach(sigma) + 1;
  cv::GaussianBlur(from, to, {size, size}, sigma, sigma, cv::BORDER_REPLICATE);
}

}  // namespace gc
