// Compiled with relaxed floating-point rules, so that the loops use the C library's vector powf (at most 4
// ulp off).
#include "effects/cdl_kernel.h"

#include <math.h>

#define GC_CLONES __attribute__((target_clones("arch=x86-64-v4", "arch=x86-64-v3", "default")))

namespace gc {
namespace {

constexpr std::size_t kTile = 512;  // pixels: three planes of a tile stay in the first-level cache

GC_CLONES void split(const float* rgba, float* r, float* g, float* b, std::size_t n) {
  for (std::size_t i = 0; i < n; ++i) r[i] = rgba[4 * i], g[i] = rgba[4 * i + 1], b[i] = rgba[4 * i + 2];
}
GC_CLONES void join(float* rgba, const float* r, const float* g, const float* b, std::size_t n) {
  for (std::size_t i = 0; i < n; ++i) rgba[4 * i] = r[i], rgba[4 * i + 1] = g[i], rgba[4 * i + 2] = b[i];
}
GC_CLONES void line(float* v, std::size_t n, float slope, float offset) {
  for (std::size_t i = 0; i < n; ++i) {
    const float x = v[i] * slope + offset;
    v[i] = x < 0.0f ? 0.0f : x > 1.0f ? 1.0f : x;
  }
}
GC_CLONES void power_of(float* v, std::size_t n, float power) {
  for (std::size_t i = 0; i < n; ++i) {
    const float x = v[i];
    const float y = powf(x > 1e-12f ? x : 1e-12f, power);
    v[i] = x > 0.0f ? y : 0.0f;
  }
}
GC_CLONES void saturate(float* r, float* g, float* b, std::size_t n, float saturation) {
  for (std::size_t i = 0; i < n; ++i) {
    const float luma = 0.2126f * r[i] + 0.7152f * g[i] + 0.0722f * b[i];
    const float x = luma + saturation * (r[i] - luma), y = luma + saturation * (g[i] - luma),
                z = luma + saturation * (b[i] - luma);
    r[i] = x < 0.0f ? 0.0f : x > 1.0f ? 1.0f : x;
    g[i] = y < 0.0f ? 0.0f : y > 1.0f ? 1.0f : y;
    b[i] = z < 0.0f ? 0.0f : z > 1.0f ? 1.0f : z;
  }
}

}  // namespace

void cdl_pixels(float* rgba, std::size_t pixels, const CdlValues& values) {
  alignas(64) float plane[3][kTile];
  for (std::size_t at = 0; at < pixels; at += kTile) {
    const std::size_t n = pixels - at < kTile ? pixels - at : kTile;
    split(rgba + 4 * at, plane[0], plane[1], plane[2], n);
    for (int c = 0; c < 3; ++c) {
      line(plane[c], n, values.slope[c], values.offset[c]);
      if (values.power[c] != 1.0f) power_of(plane[c], n, values.power[c]);
    }
    if (values.saturation != 1.0f) saturate(plane[0], plane[1], plane[2], n, values.saturation);
    join(rgba + 4 * at, plane[0], plane[1], plane[2], n);
  }
}

}  // namespace gc
