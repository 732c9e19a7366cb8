#include "media/compare.h"

#include <algorithm>
#include <array>
#include <cmath>
#include <limits>
#include <opencv2/imgproc.hpp>

namespace gc {
namespace {

/// Sums over a block of 4 × 4 pixels of one channel.
struct BlockSums {
  std::int64_t a = 0, b = 0, squares = 0, products = 0;
};

int eight(float v) { return static_cast<int>(std::clamp(v * 255.0f + 0.5f, 0.0f, 255.0f)); }

/// SSIM of a window of 2 × 2 blocks.
double window(const BlockSums& p, const BlockSums& q, const BlockSums& r, const BlockSums& s) {
  constexpr double kC1 = 0.01 * 0.01 * 255 * 255 * 64, kC2 = 0.03 * 0.03 * 255 * 255 * 64 * 63;
  const auto a = static_cast<double>(p.a + q.a + r.a + s.a), b = static_cast<double>(p.b + q.b + r.b + s.b);
  const auto squares = static_cast<double>(p.squares + q.squares + r.squares + s.squares),
             products = static_cast<double>(p.products + q.products + r.products + s.products);
  const double variances = squares * 64 - a * a - b * b, covariance = products * 64 - a * b;
  return (2 * a * b + kC1) * (2 * covariance + kC2) / ((a * a + b * b + kC1) * (variances + kC2));
}

}  // namespace

double psnr(const Image& a, const Image& b) {
  double sum = 0;
  for (std::size_t i = 0; i < a.floats(); i += 4)
    for (std::size_t c = 0; c < 3; ++c) {
      const double d = static_cast<double>(a.data()[i + c]) - static_cast<double>(b.data()[i + c]);
      sum += d * d;
    }
  const double mean = sum / (static_cast<double>(a.floats()) * 0.75);
  return mean > 0 ? 10 * std::log10(1 / mean) : std::numeric_limits<double>::infinity();
}

double ssim(const Image& a, const Image& b) {
  const int across = a.width() / 4, down = a.height() / 4;
  if (across < 2 || down < 2) return psnr(a, b) > 60 ? 1 : 0;
  double sum = 0;
  std::vector<std::array<BlockSums, 3>> rows[2];
  rows[0].resize(static_cast<std::size_t>(across)), rows[1].resize(static_cast<std::size_t>(across));
  for (int by = 0; by < down; ++by) {
    auto& row = rows[by % 2];
    for (int bx = 0; bx < across; ++bx) {
      auto& block = row[static_cast<std::size_t>(bx)];
      block = {};
      for (int y = 0; y < 4; ++y)
        for (int x = 0; x < 4; ++x)
          for (int c = 0; c < 3; ++c) {
            const int at = 4 * (4 * bx + x) + c;
            const int va = eight(a.row(4 * by + y)[at]), vb = eight(b.row(4 * by + y)[at]);
            BlockSums& k = block[static_cast<std::size_t>(c)];
            k.a += va, k.b += vb, k.squares += va * va + vb * vb, k.products += va * vb;
          }
    }
    if (by == 0) continue;
    const auto& above = rows[(by + 1) % 2];
    for (std::size_t bx = 0; bx + 1 < row.size(); ++bx)
      for (std::size_t c = 0; c < 3; ++c)
        sum += window(above[bx][c], above[bx + 1][c], row[bx][c], row[bx + 1][c]);
  }
  return sum / (3.0 * (across - 1) * (down - 1));
}

Image enlarged(const Image& image, int width, int height) {
  Image out(width, height);
  cv::Mat to(height, width, CV_32FC4, out.data());
  cv::resize(cv::Mat(image.height(), image.width(), CV_32FC4, const_cast<float*>(image.data())), to,
             to.size(), 0, 0, cv::INTER_LINEAR);
  out.opaque = image.opaque;
  return out;
}

Image difference(const Image& a, const Image& b, float gain) {
  Image out(a.width(), a.height());
  for (std::size_t i = 0; i < a.floats(); ++i)
    out.data()[i] = i % 4 == 3 ? 1.0f : std::min(1.0f, std::abs(a.data()[i] - b.data()[i]) * gain);
  out.opaque = true;
  return out;
}

Image side_by_wipe(const Image& a, const Image& b, float share) {
  Image out = a.copy();
  const int from = std::clamp(static_cast<int>(share * static_cast<float>(a.width())), 0, a.width());
  for (int y = 0; y < a.height(); ++y)
    std::copy(b.row(y) + 4 * from, b.row(y) + 4 * b.width(), out.row(y) + 4 * from);
  return out;
}

}  // namespace gc
