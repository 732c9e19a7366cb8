// Motion between two pictures, by dense inverse search (Kroeger et al., 2016) as OpenCV has it.
#pragma once
#include <opencv2/core.hpp>

#include "media/image.h"

namespace gc {

/// Luma of the picture, averaged to 1/shrink of its size and squeezed into 8 bits for the search.
cv::Mat search_luma(const Image& image, int shrink);

/// Motion field (CV_32FC2, in pixels of the given size): what is at p in `from` is at p + flow(p) in `to`.
/// @param good slower and finer; else quick
cv::Mat flow_between(const cv::Mat& from_luma, const cv::Mat& to_luma, bool good);

/// A picture in between, `t` of the way from a to b: both are moved along the flow to their common middle and
/// mixed, weighted by nearness; where the two disagree about the motion, the nearer picture counts more.
Image in_between(const Image& a, const Image& b, float t);

}  // namespace gc
