#include "effects/motion.h"

#include <algorithm>
#include <cmath>
#include <opencv2/imgproc.hpp>
#include <opencv2/video.hpp>

#include "effects/effect.h"
#include "media/lanes.h"

namespace gc {

namespace {

/// Luma of blocks of `shrink` × `shrink` pixels from their two middle rows, square-rooted, in 8 bits. The
/// square root spreads the shadows, where noise and motion both live.
GC_LANES void luma_row(const float* upper, const float* lower, std::uint8_t* out, int n, int shrink) {
  const Lanes weights = lanes(0.2126f, 0.7152f, 0.0722f, 0);
  const float share = 1.0f / static_cast<float>(2 * shrink);
  for (int x = 0; x < n; ++x) {
    Lanes sum{};
    int i = 0;
    for (; i + 2 <= shrink; i += 2) sum += load(upper + 4 * i) + load(lower + 4 * i);
    sum *= weights;
    float luma = 0;
    for (int k = 0; k < 8; ++k) luma += sum[k];
    for (; i < shrink; ++i)
      for (int c = 0; c < 3; ++c) luma += (upper[4 * i + c] + lower[4 * i + c]) * weights[c];
    luma = std::min(1.0f, std::max(0.0f, luma * share));
    out[x] = static_cast<std::uint8_t>(std::sqrt(luma) * 255 + 0.5f);
    upper += 4 * shrink, lower += 4 * shrink;
  }
}

}  // namespace

cv::Mat search_luma(const Image& image, int shrink) {
  const int w = image.width() / shrink, h = image.height() / shrink;
  cv::Mat eight(h, w, CV_8U);
  for (int y = 0; y < h; ++y) {
    const int middle = y * shrink + (shrink - 1) / 2;
    luma_row(image.row(middle), image.row(std::min(middle + 1, y * shrink + shrink - 1)),
             eight.ptr<std::uint8_t>(y), w, shrink);
  }
  return eight;
}

cv::Mat flow_between(const cv::Mat& from_luma, const cv::Mat& to_luma, bool good) {
  // Not for use from two threads at once; each thread has its own.
  thread_local cv::Ptr<cv::DISOpticalFlow> quick =
      cv::DISOpticalFlow::create(cv::DISOpticalFlow::PRESET_ULTRAFAST);
  thread_local cv::Ptr<cv::DISOpticalFlow> fine =
      cv::DISOpticalFlow::create(cv::DISOpticalFlow::PRESET_MEDIUM);
  cv::Mat flow;
  (good ? fine : quick)->calc(from_luma, to_luma, flow);
  return flow;
}

Image in_between(const Image& a, const Image& b, float t) {
  const cv::Mat la = search_luma(a, 1), lb = search_luma(b, 1);
  const cv::Mat forward = flow_between(la, lb, true), backward = flow_between(lb, la, true);
  const int w = a.width(), h = a.height();
  cv::Mat map_a(h, w, CV_32FC2), map_b(h, w, CV_32FC2), weight(h, w, CV_32F);
  for (int y = 0; y < h; ++y) {
    const auto* f = forward.ptr<cv::Vec2f>(y);
    const auto* k = backward.ptr<cv::Vec2f>(y);
    auto* ma = map_a.ptr<cv::Vec2f>(y);
    auto* mb = map_b.ptr<cv::Vec2f>(y);
    auto* wt = weight.ptr<float>(y);
    for (int x = 0; x < w; ++x) {
      // The motion through this pixel at time t is taken from both fields.
      const cv::Vec2f v = (f[x] - k[x]) * 0.5f;
      ma[x] = {static_cast<float>(x) - t * v[0], static_cast<float>(y) - t * v[1]};
      mb[x] = {static_cast<float>(x) + (1 - t) * v[0], static_cast<float>(y) + (1 - t) * v[1]};
      const cv::Vec2f off = f[x] + k[x];
      const float doubt = std::min(1.0f, std::hypot(off[0], off[1]) / 4);
      const float nearer = t < 0.5f ? 0.0f : 1.0f;
      wt[x] = t + (nearer - t) * doubt;
    }
  }
  Image from_a(w, h), out(w, h);
  cv::Mat wa = as_mat<cv::Mat>(from_a), wb = as_mat<cv::Mat>(out);
  cv::remap(as_mat<cv::Mat>(a), wa, map_a, cv::noArray(), cv::INTER_LINEAR, cv::BORDER_REPLICATE);
  cv::remap(as_mat<cv::Mat>(b), wb, map_b, cv::noArray(), cv::INTER_LINEAR, cv::BORDER_REPLICATE);
  for (int y = 0; y < h; ++y) {
    const float* pa = from_a.row(y);
    float* p = out.row(y);
    const float* wt = weight.ptr<float>(y);
    for (int x = 0; x < w; ++x)
      for (int c = 0; c < 4; ++c) p[4 * x + c] = pa[4 * x + c] + (p[4 * x + c] - pa[4 * x + c]) * wt[x];
  }
  out.opaque = a.opaque && b.opaque;
  return out;
}

}  // namespace gc
