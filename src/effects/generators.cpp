// Generators that come from formulas: solid colour, gradient, fractal noise, particles. Titles are in
// title.cpp.
#include <algorithm>
#include <cmath>
#include <numbers>

#include "base/chance.h"
#include "effects/points.h"
#include "effects/registry.h"

#define GC_CLONES __attribute__((target_clones("arch=x86-64-v3", "default")))

namespace gc {
namespace {

struct Colour {
  float c[3];
};
Colour colour_of(const EffectType& type, const Json& p, const char* name) {
  return {{param_f(type, p, name, 0), param_f(type, p, name, 1), param_f(type, p, name, 2)}};
}

class Solid : public PointInstance {
 public:
  Solid(const EffectType& type, const Json& p, int, int) : colour_(colour_of(type, p, "colour")) {}
  void pixels(float* rgba, std::size_t n, int, int, const FrameContext&) const override {
    for (std::size_t i = 0; i < n; ++i, rgba += 4)
      rgba[0] = colour_.c[0], rgba[1] = colour_.c[1], rgba[2] = colour_.c[2], rgba[3] = 1;
  }
  bool apply(cv::UMat& image, bool opaque, const FrameContext& at) const override {
    return run_point_kernel("  p = (float4)(a[0], a[1], a[2], 1);", "", image, opaque, at,
                            {colour_.c[0], colour_.c[1], colour_.c[2]});
  }

 private:
  Colour colour_;
};

class Gradient : public PointInstance {
 public:
  Gradient(const EffectType& type, const Json& p, int, int)
      : from_(colour_of(type, p, "from")),
        to_(colour_of(type, p, "to")),
        radial_(param(type, p, "radial") >= 0.5) {
    const float turn = param_f(type, p, "angle") * std::numbers::pi_v<float> / 180;
    dx_ = std::cos(turn), dy_ = std::sin(turn);
  }
  void pixels(float* rgba, std::size_t n, int x, int y, const FrameContext& at) const override {
    const auto w = static_cast<float>(at.width), h = static_cast<float>(at.height);
    const float v = static_cast<float>(y) + 0.5f - h / 2, way = std::abs(dx_) * w + std::abs(dy_) * h;
    for (std::size_t i = 0; i < n; ++i, rgba += 4) {
      const float u = static_cast<float>(x) + static_cast<float>(i) + 0.5f - w / 2;
      const float t = radial_ ? std::sqrt(u * u + v * v) / std::sqrt(w * w / 4 + h * h / 4)
                              : (u * dx_ + v * dy_) / way + 0.5f;
      for (int c = 0; c < 3; ++c) rgba[c] = from_.c[c] + (to_.c[c] - from_.c[c]) * std::clamp(t, 0.0f, 1.0f);
      rgba[3] = 1;
    }
  }
  bool apply(cv::UMat& image, bool opaque, const FrameContext& at) const override {
    return run_point_kernel(
        R"(
  const float u = x + 0.5f - w * 0.5f, v = y + 0.5f - h * 0.5f;
  const float t = a[8] > 0 ? sqrt(u * u + v * v) / sqrt(w * w * 0.25f + h * h * 0.25f)
                           : (u * a[6] + v * a[7]) / (fabs(a[6]) * w + fabs(a[7]) * h) + 0.5f;
  const float3 from = (float3)(a[0], a[1], a[2]), to = (float3)(a[3], a[4], a[5]);
  p.xyz = from + (to - from) * clamp(t, 0.0f, 1.0f);
  p.w = 1;
)",
        "", image, opaque, at,
        {from_.c[0], from_.c[1], from_.c[2], to_.c[0], to_.c[1], to_.c[2], dx_, dy_, radial_ ? 1.0f : 0.0f});
  }

 private:
  Colour from_, to_;
  bool radial_;
  float dx_ = 1, dy_ = 0;
};

float unit(std::uint32_t h) { return static_cast<float>(h >> 8) * (1.0f / 16777216.0f); }

/// Value noise on a lattice in space and time, smoothed by Perlin's (2002) quintic, in octaves of half the
/// size and half the strength.
class FractalNoise : public PointInstance {
 public:
  FractalNoise(const EffectType& type, const Json& p, int, int)
      : size_(std::max(1.0f, param_f(type, p, "size"))),
        octaves_(static_cast<int>(std::lround(param(type, p, "octaves")))),
        speed_(param_f(type, p, "speed")),
        seed_(static_cast<std::uint32_t>(param(type, p, "seed"))),
        from_(colour_of(type, p, "from")),
        to_(colour_of(type, p, "to")) {}
  void pixels(float* rgba, std::size_t n, int x, int y, const FrameContext& at) const override {
    const float z = static_cast<float>(at.frame) * speed_;
    for (std::size_t i = 0; i < n; ++i, rgba += 4) {
      const float t = fractal(static_cast<float>(x) + static_cast<float>(i), static_cast<float>(y), z);
      for (int c = 0; c < 3; ++c) rgba[c] = from_.c[c] + (to_.c[c] - from_.c[c]) * t;
      rgba[3] = 1;
    }
  }
  bool apply(cv::UMat& image, bool opaque, const FrameContext& at) const override {
    return run_point_kernel(R"(
  float sum = 0, strength = 1, total = 0, size = a[0];
  for (int o = 0; o < (int)a[1]; ++o) {
    sum += strength * noise((float)x / size, (float)y / size, frame * a[2] + o * 17.0f, (uint)a[3] + o);
    total += strength;
    strength *= 0.5f;
    size *= 0.5f;
  }
  const float t = sum / total;
  p.xyz = (float3)(a[4], a[5], a[6]) + (float3)(a[7] - a[4], a[8] - a[5], a[9] - a[6]) * t;
  p.w = 1;
)",
                            R"(
inline uint mixed32(uint v) { v ^= v >> 16; v *= 0x85ebca6bU; v ^= v >> 13; v *= 0xc2b2ae35U; v ^= v >> 16; return v; }
inline float corner(int x, int y, int z, uint seed) {
  return (float)(mixed32((uint)x * 0x8da6b343U + (uint)y * 0xd8163841U + (uint)z * 0xcb1ab31fU + seed) >> 8) * (1.0f / 16777216.0f);
}
inline float fade(float t) { return t * t * t * (t * (t * 6 - 15) + 10); }
inline float noise(float x, float y, float z, uint seed) {
  const int ix = (int)floor(x), iy = (int)floor(y), iz = (int)floor(z);
  const float fx = fade(x - ix), fy = fade(y - iy), fz = fade(z - iz);
  float v[2];
  for (int k = 0; k < 2; ++k) {
    const float a = corner(ix, iy, iz + k, seed), b = corner(ix + 1, iy, iz + k, seed),
                c = corner(ix, iy + 1, iz + k, seed), d = corner(ix + 1, iy + 1, iz + k, seed);
    const float top = a + (b - a) * fx, low = c + (d - c) * fx;
    v[k] = top + (low - top) * fy;
  }
  return v[0] + (v[1] - v[0]) * fz;
}
)",
                            image, opaque, at,
                            {size_, static_cast<float>(octaves_), speed_, static_cast<float>(seed_),
                             from_.c[0], from_.c[1], from_.c[2], to_.c[0], to_.c[1], to_.c[2]});
  }

 private:
  static float fade(float t) { return t * t * t * (t * (t * 6 - 15) + 10); }
  static float corner(int x, int y, int z, std::uint32_t seed) {
    return unit(mixed32(static_cast<std::uint32_t>(x) * 0x8da6b343U +
                        static_cast<std::uint32_t>(y) * 0xd8163841U +
                        static_cast<std::uint32_t>(z) * 0xcb1ab31fU + seed));
  }
  static float noise(float x, float y, float z, std::uint32_t seed) {
    const int ix = static_cast<int>(std::floor(x)), iy = static_cast<int>(std::floor(y)),
              iz = static_cast<int>(std::floor(z));
    const float fx = fade(x - static_cast<float>(ix)), fy = fade(y - static_cast<float>(iy)),
                fz = fade(z - static_cast<float>(iz));
    float v[2];
    for (int k = 0; k < 2; ++k) {
      const float a = corner(ix, iy, iz + k, seed), b = corner(ix + 1, iy, iz + k, seed),
                  c = corner(ix, iy + 1, iz + k, seed), d = corner(ix + 1, iy + 1, iz + k, seed);
      const float top = a + (b - a) * fx, low = c + (d - c) * fx;
      v[k] = top + (low - top) * fy;
    }
    return v[0] + (v[1] - v[0]) * fz;
  }
  float fractal(float x, float y, float z) const {
    float sum = 0, strength = 1, total = 0, size = size_;
    for (int o = 0; o < octaves_; ++o, strength *= 0.5f, size *= 0.5f) {
      sum += strength *
             noise(x / size, y / size, z + static_cast<float>(o) * 17, seed_ + static_cast<std::uint32_t>(o));
      total += strength;
    }
    return sum / total;
  }

  float size_;
  int octaves_;
  float speed_;
  std::uint32_t seed_;
  Colour from_, to_;
};

/// Sparks that rise from a line, live for a while and are born again elsewhere. Each particle's place at any
/// frame follows from its number alone, so that no frame needs the one before it.
class Particles : public EffectInstance {
 public:
  Particles(const EffectType& type, const Json& p, int, int)
      : count_(static_cast<int>(param(type, p, "count"))),
        life_(std::max(2.0, param(type, p, "life"))),
        size_(param_f(type, p, "size")),
        rise_(param_f(type, p, "rise")),
        spread_(param_f(type, p, "spread")),
        fall_(param_f(type, p, "gravity")),
        seed_(static_cast<std::uint32_t>(param(type, p, "seed"))),
        colour_(colour_of(type, p, "colour")) {}
  void apply(Image& image, const FrameContext& at) const override {
    std::fill(image.data(), image.data() + image.floats(), 0.0f);
    image.opaque = false;
    for (int i = 0; i < count_; ++i) draw(image, at, static_cast<std::uint32_t>(i));
    float* p = image.data();
    for (std::size_t k = 0; k < image.floats(); ++k) p[k] = std::min(1.0f, p[k]);
  }

 private:
  void draw(Image& image, const FrameContext& at, std::uint32_t i) const {
    const std::uint32_t own = mixed32(seed_ * 0x9e3779b9U + i);
    const double life = life_ * (0.5 + unit(own));
    const double time = static_cast<double>(at.frame) + static_cast<double>(unit(mixed32(own + 1))) * life;
    const auto birth = static_cast<std::int64_t>(std::floor(time / life));
    const auto age = static_cast<float>(time - static_cast<double>(birth) * life);
    const std::uint32_t h = mixed32(own + 0x51ed270bU * static_cast<std::uint32_t>(birth) + 2);
    const auto w = static_cast<float>(at.width), ht = static_cast<float>(at.height);
    const float a = age / static_cast<float>(life);
    const float vx = (unit(mixed32(h + 3)) - 0.5f) * spread_, vy = -(0.4f + unit(mixed32(h + 4))) * rise_;
    const float cx = (unit(h) + vx * age / 24) * w - static_cast<float>(at.left);
    const float cy =
        (1.02f + vy * age / 24 + 0.5f * fall_ * age * age / 576) * ht - static_cast<float>(at.top);
    const float r = std::max(0.6f, size_ * (0.5f + unit(mixed32(h + 5)))), light = 4 * a * (1 - a);
    const int x0 = std::max(0, static_cast<int>(cx - r)),
              x1 = std::min(image.width() - 1, static_cast<int>(cx + r) + 1);
    const int y0 = std::max(0, static_cast<int>(cy - r)),
              y1 = std::min(image.height() - 1, static_cast<int>(cy + r) + 1);
    for (int y = y0; y <= y1; ++y)
      for (int x = x0; x <= x1; ++x) {
        const float dx = static_cast<float>(x) + 0.5f - cx, dy = static_cast<float>(y) + 0.5f - cy;
        const float k = std::max(0.0f, 1 - (dx * dx + dy * dy) / (r * r)) * light;
        float* p = image.row(y) + 4 * x;
        for (int c = 0; c < 3; ++c) p[c] += colour_.c[c] * k;
        p[3] += k;
      }
  }
  int count_;
  double life_;
  float size_, rise_, spread_, fall_;
  std::uint32_t seed_;
  Colour colour_;
};

EffectType generator(EffectType t, double tolerance) {
  t.point = true;
  t.accelerator = true;
  t.tolerance = tolerance;
  t.family = "generator";
  return t;
}

}  // namespace

const EffectType& solid_generator() {
  static const EffectType type = generator({"solid",
                                            "Solid colour",
                                            StageKind::composition,
                                            {{"colour", "Colour", "", 0, 1, 0.18, 3}},
                                            false,
                                            make_instance<Solid, solid_generator>},
                                           0);
  return type;
}

const EffectType& gradient_generator() {
  static const EffectType type = generator({"gradient",
                                            "Gradient",
                                            StageKind::composition,
                                            {{"from", "From", "", 0, 1, 0.05, 3},
                                             {"to", "To", "", 0, 1, 0.6, 3},
                                             {"angle", "Angle", "°", -360, 360, 90},
                                             {"radial", "Radial", "0 or 1", 0, 1, 0}},
                                            false,
                                            make_instance<Gradient, gradient_generator>},
                                           1e-5);
  return type;
}

const EffectType& noise_generator() {
  static const EffectType type = [] {
    EffectType t = generator({"fractal_noise",
                              "Fractal noise",
                              StageKind::composition,
                              {{"size", "Size", "px", 1, 2000, 160},
                               {"octaves", "Octaves", "", 1, 8, 5, 1, true},
                               {"speed", "Speed", "a frame", 0, 2, 0.03},
                               {"seed", "Seed", "", 0, 65535, 1},
                               {"from", "From", "", 0, 1, 0, 3},
                               {"to", "To", "", 0, 1, 1, 3}},
                              false,
                              make_instance<FractalNoise, noise_generator>},
                             1e-3);
    t.growth = {{"Mpixel × octaves"}, [](const EffectType& e, const Json& p, const WorkSize& at, Terms& out) {
                  out[1] = static_cast<float>(at.mpix * std::round(param(e, p, "octaves")));
                }};
    t.moving = true;
    return t;
  }();
  return type;
}

const EffectType& particles_generator() {
  static const EffectType type = [] {
    EffectType t{"particles",
                 "Particles",
                 StageKind::composition,
                 {{"count", "Count", "", 0, 50000, 3000, 1, true},
                  {"life", "Life", "frames", 2, 1000, 60},
                  {"size", "Size", "px", 0.5, 60, 3, 1, true},
                  {"rise", "Rise", "of height a second", -4, 4, 0.4},
                  {"spread", "Spread", "of width a second", 0, 4, 0.15},
                  {"gravity", "Gravity", "of height a second²", -4, 4, 0.05},
                  {"seed", "Seed", "", 0, 65535, 1},
                  {"colour", "Colour", "", 0, 1, 0.9, 3}},
                 true,
                 make_instance<Particles, particles_generator>};
    t.growth = {{"1000 particles", "1000 particles × size²", "1000 lines of memory beyond the caches"},
                [](const EffectType& e, const Json& p, const WorkSize& at, Terms& out) {
                  const double count = param(e, p, "count") / 1000, size = param(e, p, "size");
                  out[1] = static_cast<float>(count),
                  out[2] = static_cast<float>(count * (size + 0.5) * (size + 0.5));
                  // They fall anywhere: in a picture larger than a core's caches each row of each is fetched
                  // anew, in lines of 4 pixels.
                  constexpr double kCachedMpix = 0.0625;
                  const double beyond = std::max(0.0, 1 - kCachedMpix / std::max(1e-9, at.mpix));
                  out[3] = static_cast<float>(count * (2 * size + 1) * (size / 2 + 1) * beyond);
                }};
    t.moving = t.whole = true;
    t.processor_only = "particles add up in one picture, which needs an order that kernels do not keep";
    t.family = "generator";
    return t;
  }();
  return type;
}

}  // namespace gc
