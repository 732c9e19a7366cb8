#include "media/image.h"

#include <algorithm>
#include <cstring>

#include "media/lanes.h"
#include "media/memory.h"

// Hot loops are compiled for several processor generations and chosen at start.
#define GC_CLONES __attribute__((target_clones("arch=x86-64-v3", "default")))

namespace gc {
namespace {

/// RGBA floats to BGRA bytes, opaque.
GC_INLINE LaneBytes screen_pixels(Lanes v) {
  v = __builtin_shufflevector(v, v, 2, 1, 0, 3, 6, 5, 4, 7) * lanes(255, 0) + lanes(0.5f, 255);
  // In this order what is not a number becomes 0.
  v = v > 0.0f ? v : Lanes{};
  v = v < 255.0f ? v : lanes(255, 255);
  return __builtin_convertvector(__builtin_convertvector(v, LaneInts), LaneBytes);
}

GC_LANES void screen_row(const float* in, std::uint8_t* out, std::size_t n) {
  std::size_t i = 0;
  for (; i + 2 <= n; i += 2) {
    const LaneBytes bytes = screen_pixels(load(in + 4 * i));
    std::memcpy(out + 4 * i, &bytes, 8);
  }
  if (i < n) {
    float pair[8] = {};
    std::memcpy(pair, in + 4 * i, 16);
    const LaneBytes bytes = screen_pixels(load(pair));
    std::memcpy(out + 4 * i, &bytes, 4);
  }
}

GC_CLONES void over_row(float* canvas, const float* layer, std::size_t pixels, float opacity) {
  for (std::size_t i = 0; i < pixels; ++i) {
    const float keep = 1.0f - layer[4 * i + 3] * opacity;
    for (int c = 0; c < 4; ++c)
      canvas[4 * i + static_cast<std::size_t>(c)] = layer[4 * i + static_cast<std::size_t>(c)] * opacity +
                                                    canvas[4 * i + static_cast<std::size_t>(c)] * keep;
  }
}

GC_CLONES void mix_row(float* a, const float* b, std::size_t n, float mix) {
  const float keep = 1.0f - mix;
  for (std::size_t i = 0; i < n; ++i) a[i] = a[i] * keep + b[i] * mix;
}

}  // namespace

void PoolReturn::operator()(float* p) const { give_memory(p, bytes); }

Image::Image(int width, int height) : width_(width), height_(height) {
  const std::size_t bytes = floats() * sizeof(float);
  data_ = {static_cast<float*>(take_memory(bytes)), PoolReturn{bytes}};
}

Image Image::filled(int width, int height, float r, float g, float b, float a) {
  Image image(width, height);
  for (std::size_t i = 0; i < image.floats(); i += 4) {
    float* p = image.data() + i;
    p[0] = r, p[1] = g, p[2] = b, p[3] = a;
  }
  image.opaque = a >= 1.0f;
  return image;
}

Image Image::copy() const {
  if (empty()) return {};
  Image c(width_, height_);
  std::memcpy(c.data(), data(), floats() * sizeof(float));
  c.opaque = opaque;
  return c;
}

void to_screen(const Image& image, ScreenImage& out) {
  out.width = image.width(), out.height = image.height();
  out.bgra.resize(image.floats());
  screen_row(image.data(), out.bgra.data(), image.floats() / 4);
}

void composite_over(Image& canvas, const Image& layer, float opacity) {
  over_row(canvas.data(), layer.data(), canvas.floats() / 4, opacity);
  canvas.opaque = canvas.opaque || (layer.opaque && opacity >= 1.0f);
}

void dissolve(Image& a, const Image& b, float mix) {
  mix_row(a.data(), b.data(), a.floats(), mix);
  a.opaque = a.opaque && b.opaque;
}

}  // namespace gc
