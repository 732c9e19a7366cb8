#include "media/synthetic.h"

#include <algorithm>
#include <array>
#include <cmath>
#include <numbers>
#include <opencv2/imgproc.hpp>

namespace gc {
namespace {

using Rgb = std::array<float, 3>;

std::uint32_t mix_bits(std::uint32_t x) {
  x ^= x >> 16, x *= 0x7feb352dU, x ^= x >> 15, x *= 0x846ca68bU, x ^= x >> 16;
  return x;
}
float random01(std::uint32_t a, std::uint32_t b = 0) {
  return static_cast<float>(mix_bits(a * 0x9e3779b9U + mix_bits(b + 0x85ebca6bU)) >> 8) / 16777216.0f;
}
float smooth(float a, float b, float x) {
  const float t = std::clamp((x - a) / (b - a), 0.0f, 1.0f);
  return t * t * (3 - 2 * t);
}
Rgb lerp(const Rgb& a, const Rgb& b, float t) {
  return {a[0] + (b[0] - a[0]) * t, a[1] + (b[1] - a[1]) * t, a[2] + (b[2] - a[2]) * t};
}
Rgb scaled(const Rgb& a, float k) { return {a[0] * k, a[1] * k, a[2] * k}; }

/// Value noise on a unit lattice.
float noise(float x, float y, std::uint32_t seed) {
  // Rounded down by hand: the library's floor is a call, and this is the innermost loop.
  auto cx = static_cast<std::int32_t>(x), cy = static_cast<std::int32_t>(y);
  cx -= static_cast<float>(cx) > x, cy -= static_cast<float>(cy) > y;
  const float in_x = x - static_cast<float>(cx), in_y = y - static_cast<float>(cy);
  const float tx = in_x * in_x * (3 - 2 * in_x), ty = in_y * in_y * (3 - 2 * in_y);
  const auto ix = static_cast<std::uint32_t>(cx), iy = static_cast<std::uint32_t>(cy);
  const auto at = [&](std::uint32_t dx, std::uint32_t dy) {
    return random01((ix + dx) * 73856093U ^ (iy + dy) * 19349663U, seed);
  };
  const float top = at(0, 0) + (at(1, 0) - at(0, 0)) * tx, bottom = at(0, 1) + (at(1, 1) - at(0, 1)) * tx;
  return top + (bottom - top) * ty;
}
float cloud(float x, float y, std::uint32_t seed) {
  return 0.55f * noise(x, y, seed) + 0.3f * noise(2 * x, 2 * y, seed + 1) +
         0.15f * noise(4 * x, 4 * y, seed + 2);
}

/// A scene colours the point (x, y), both −1…1 downward, x scaled by the aspect, at time t seconds.
Rgb bowl(float x, float y, float t, std::uint32_t seed) {
  const Rgb wall = scaled({0.34f, 0.31f, 0.28f}, 0.8f + 0.2f * noise(3 * x, 3 * y, seed));
  const Rgb table = scaled({0.30f, 0.20f, 0.13f}, 0.7f + 0.5f * noise(2 * x, 18 * y, seed + 5));
  Rgb c = lerp(wall, table, smooth(0.42f, 0.48f, y));
  // Body of the bowl: half an ellipse, its rim another.
  const float body = (x * x) / (0.72f * 0.72f) + ((y + 0.12f) * (y + 0.12f)) / (0.66f * 0.66f);
  if (y > -0.12f && body < 1) {
    const float turn =
        std::asin(std::clamp(x / std::sqrt(std::max(0.05f, 0.52f - 0.6f * (y + 0.12f) * (y + 0.12f))), -1.0f,
                             1.0f)) +
        t * 0.9f;
    const float glaze = noise(turn * 3, y * 5, seed + 9);
    Rgb b = lerp({0.10f, 0.28f, 0.33f}, {0.36f, 0.52f, 0.47f}, glaze);
    const float light = std::clamp(0.55f - 0.7f * x + 0.3f * (1 - body), 0.08f, 1.2f);
    const float gleam = std::exp(-40 * ((x + 0.28f) * (x + 0.28f) + (y - 0.08f) * (y - 0.08f)));
    b = scaled(b, light);
    for (float& v : b) v += 0.7f * gleam;
    c = lerp(c, b, smooth(1.0f, 0.97f, body));
  }
  const float rim = (x * x) / (0.72f * 0.72f) + ((y + 0.12f) * (y + 0.12f)) / (0.15f * 0.15f);
  if (rim < 1)
    c = lerp(c, lerp({0.05f, 0.12f, 0.14f}, {0.20f, 0.34f, 0.33f}, 0.5f + 0.5f * x), smooth(1.0f, 0.9f, rim));
  return c;
}

Rgb kiln(float x, float y, float t, std::uint32_t seed) {
  const float row = std::floor((y + 3) * 9),
              column = std::floor(x * 5 + (static_cast<int>(row) % 2 ? 0.5f : 0.0f));
  Rgb c = scaled({0.23f, 0.13f, 0.09f},
                 0.6f + 0.5f * random01(static_cast<std::uint32_t>(static_cast<int>(column) + 100),
                                        static_cast<std::uint32_t>(row)));
  const float mouth = x * x / 0.26f + (y - 0.15f) * (y - 0.15f) / 0.20f;
  const float flicker = 0.85f + 0.3f * noise(t * 7, 0.5f, seed);
  const float glow = std::exp(-1.7f * std::max(0.0f, mouth - 0.8f)) * flicker;
  c = {c[0] + 0.75f * glow, c[1] + 0.30f * glow, c[2] + 0.06f * glow};
  if (mouth < 1) {
    const float fire = cloud(3 * x, 3 * y + 3 * t, seed + 3);
    c = lerp({0.85f, 0.28f, 0.03f}, {1.0f, 0.86f, 0.45f}, smooth(0.3f, 0.8f, fire * flicker));
  }
  const float smoke = smooth(0.45f, 0.85f, cloud(1.6f * x + 0.3f * t, 1.8f * y + 0.9f * t, seed + 7)) *
                      smooth(0.2f, -1.0f, y);
  return lerp(c, {0.42f, 0.37f, 0.33f}, 0.75f * smoke);
}

Rgb rain(float x, float y, float t, std::uint32_t seed) {
  Rgb c = lerp({0.30f, 0.36f, 0.40f}, {0.09f, 0.13f, 0.12f},
               smooth(-0.8f, 0.9f, y + 0.25f * cloud(1.5f * x, 1.5f * y, seed)));
  for (int i = 0; i < 5; ++i) {
    const float bx = -1.5f + 3.1f * random01(static_cast<std::uint32_t>(i), seed),
                by = -0.4f + 1.1f * random01(static_cast<std::uint32_t>(i) + 50, seed);
    const float d = (x - bx) * (x - bx) + (y - by) * (y - by);
    if (d > 0.25f) continue;
    const float lamp = std::exp(-30 * d);
    c = {c[0] + 0.5f * lamp, c[1] + 0.38f * lamp, c[2] + 0.20f * lamp};
  }
  // Drops run down in lanes, each at its own speed.
  const float lane = std::floor(x * 14);
  const auto lane_id = static_cast<std::uint32_t>(static_cast<int>(lane) + 1000);
  const float speed = 0.25f + 0.6f * random01(lane_id, seed), offset = random01(lane_id, seed + 1);
  const float head = std::fmod(t * speed + offset * 3, 1.4f) * 2 - 1.2f;
  const float dx = x * 14 - lane - 0.5f, dy = (y - head) * 7;
  const float drop = std::exp(-8 * (dx * dx + dy * dy)),
              trail = y < head ? 0.35f * std::exp(-14 * dx * dx) * smooth(-1.2f, head, y) : 0;
  c = lerp(c, {0.72f, 0.80f, 0.84f}, std::clamp(drop + trail, 0.0f, 1.0f));
  if (std::abs(x) < 0.025f || std::abs(y + 0.1f) < 0.02f) c = {0.05f, 0.045f, 0.04f};
  return c;
}

Rgb dust(float x, float y, float t, std::uint32_t seed) {
  Rgb c = scaled({0.10f, 0.085f, 0.075f}, 0.7f + 0.6f * noise(2 * x, 2 * y, seed));
  const float across = (x * 0.8f + y * 0.6f - 0.1f) / (0.35f + 0.2f * (y + 1));
  const float beam =
      std::exp(-across * across * 3) * (0.5f + 0.5f * cloud(2 * x - 0.2f * t, 2 * y + 0.15f * t, seed + 2));
  c = {c[0] + 0.62f * beam, c[1] + 0.52f * beam, c[2] + 0.36f * beam};
  // Motes: one in each cell, drifting in its own small circle.
  const float gx = (x + 0.06f * t) * 12, gy = (y - 0.09f * t) * 12;
  const float cx = std::floor(gx), cy = std::floor(gy);
  const auto id = static_cast<std::uint32_t>(static_cast<int>(cx) * 8191 + static_cast<int>(cy) * 131);
  const float px = 0.5f + 0.35f * std::sin(t + 6.28f * random01(id, seed)),
              py = 0.5f + 0.35f * std::cos(1.3f * t + 6.28f * random01(id, seed + 1));
  const float d = (gx - cx - px) * (gx - cx - px) + (gy - cy - py) * (gy - cy - py);
  const float mote = std::exp(-120 * d) * (0.15f + beam) * random01(id, seed + 4);
  return {c[0] + mote, c[1] + 0.9f * mote, c[2] + 0.75f * mote};
}

Rgb hands(float x, float y, float t, std::uint32_t seed) {
  Rgb c = scaled({0.16f, 0.15f, 0.15f}, 0.8f + 0.3f * noise(3 * x, 3 * y, seed));
  const float wheel = x * x / 1.1f + (y - 0.55f) * (y - 0.55f) / 0.10f;
  if (wheel < 1) {
    const float angle = std::atan2((y - 0.55f) * 3, x) + 7 * t;
    c = scaled({0.36f, 0.33f, 0.30f}, 0.75f + 0.25f * std::sin(angle * 3 + 20 * std::sqrt(wheel)));
  }
  const float half = 0.27f + 0.05f * std::sin(5 * y + 1.5f * t) + 0.1f * smooth(-0.5f, 0.6f, y);
  if (y > -0.55f && y < 0.5f && std::abs(x) < half)
    c = scaled({0.50f, 0.42f, 0.36f}, 0.45f + 0.6f * std::sqrt(std::max(0.0f, 1 - x * x / (half * half))) *
                                                  (0.85f + 0.15f * std::sin(60 * y + 9 * t)));
  for (const float side : {-1.0f, 1.0f}) {
    const float hx = side * (0.42f + 0.05f * std::sin(1.1f * t + side)),
                hy = -0.05f + 0.22f * std::sin(0.7f * t);
    for (int finger = 0; finger < 4; ++finger) {
      const float fy = hy - 0.16f + 0.1f * static_cast<float>(finger) +
                       0.02f * std::sin(3 * t + static_cast<float>(finger));
      const float e = (x - hx) * (x - hx) / 0.045f + (y - fy) * (y - fy) / 0.0035f;
      if (e < 1) c = scaled({0.62f, 0.43f, 0.33f}, 0.55f + 0.45f * std::sqrt(1 - e));
    }
    const float palm = (x - hx - side * 0.3f) * (x - hx - side * 0.3f) / 0.09f + (y - hy) * (y - hy) / 0.055f;
    if (palm < 1) c = scaled({0.58f, 0.40f, 0.31f}, 0.5f + 0.4f * std::sqrt(1 - palm));
  }
  return c;
}

Rgb firing(float x, float y, float t, std::uint32_t seed) {
  Rgb c = lerp({0.015f, 0.02f, 0.045f}, {0.05f, 0.035f, 0.03f}, smooth(-1, 1, y));
  const float flame =
      cloud(2.2f * x, 2 * y + 2.4f * t, seed) * smooth(-0.5f, 0.9f, y) * std::exp(-1.3f * x * x);
  c = lerp(c, {0.95f, 0.42f, 0.08f}, smooth(0.25f, 0.6f, flame));
  c = lerp(c, {1.0f, 0.9f, 0.6f}, smooth(0.5f, 0.75f, flame));
  for (int i = 0; i < 14; ++i) {
    const auto id = static_cast<std::uint32_t>(i);
    const float life = std::fmod(t * (0.25f + 0.3f * random01(id, seed)) + random01(id, seed + 1), 1.0f);
    const float sy = 0.8f - 1.8f * life;
    if (std::abs(y - sy) > 0.064f) continue;
    const float sx =
        (random01(id, seed + 2) - 0.5f) * 1.2f + 0.25f * std::sin(6 * life + static_cast<float>(i));
    const float d = (x - sx) * (x - sx) + (y - sy) * (y - sy);
    if (d > 0.004f) continue;
    const float spark = std::exp(-4500 * d) * (1 - life);
    c = {c[0] + spark, c[1] + 0.6f * spark, c[2] + 0.2f * spark};
  }
  return c;
}

using Scene = Rgb (*)(float, float, float, std::uint32_t);
Scene scene_named(const std::string& name) {
  static const std::array<std::pair<const char*, Scene>, 6> all{
      {{"bowl", bowl}, {"kiln", kiln}, {"rain", rain}, {"dust", dust}, {"hands", hands}, {"firing", firing}}};
  for (const auto& [key, scene] : all)
    if (name == key) return scene;
  return nullptr;
}

/// A long strip of noise with the spread of a sensor's (the sum of two uniform numbers is near enough to a
/// bell).
const std::vector<float>& noise_strip() {
  static const std::vector<float> strip = [] {
    std::vector<float> v(std::size_t{1} << 21);
    std::uint32_t state = 0x2545f491U;
    for (float& x : v) {
      state ^= state << 13, state ^= state >> 17, state ^= state << 5;
      x = static_cast<float>(state & 0xffffU) / 65536.0f + static_cast<float>(state >> 16) / 65536.0f - 1.0f;
    }
    return v;
  }();
  return strip;
}

/// Each frame reads the strip from a place of its own, each row a little further on.
void add_grain(Image& image, std::int64_t n, std::uint32_t seed, float amplitude) {
  const std::vector<float>& strip = noise_strip();
  const auto row_length = static_cast<std::size_t>(image.width()) * 3;
  for (int y = 0; y < image.height(); ++y) {
    const std::uint32_t place = mix_bits(mix_bits(seed + static_cast<std::uint32_t>(n) * 2654435761U) +
                                         static_cast<std::uint32_t>(y));
    const float* noise_at = strip.data() + place % (strip.size() - row_length);
    float* p = image.row(y);
    for (int x = 0; x < image.width(); ++x, p += 4, noise_at += 3)
      for (int c = 0; c < 3; ++c)
        p[c] = std::clamp(p[c] + amplitude * noise_at[c] * (1.2f - 0.5f * p[c]), 0.0f, 1.0f);
  }
}

}  // namespace

const std::vector<std::string>& synthetic_scenes() {
  static const std::vector<std::string> names{"bowl", "kiln", "rain", "dust", "hands", "firing"};
  return names;
}

Image synthetic_frame(const std::string& name, std::int64_t n, int width, int height, std::uint32_t seed,
                      float grain) {
  const Scene scene = scene_named(name);
  if (!scene) return Image::filled(width, height, 0.18f, 0.18f, 0.18f, 1);
  // Painted at a fifth of each side and scaled up: soft pictures, quickly made; the grain is at full size.
  const int w = std::max(2, width / 5), h = std::max(2, height / 5);
  cv::Mat small(h, w, CV_32FC4);
  const float t = static_cast<float>(n) / 24.0f,
              aspect = static_cast<float>(width) / static_cast<float>(height);
  for (int y = 0; y < h; ++y) {
    float* row = small.ptr<float>(y);
    const float v = (static_cast<float>(y) + 0.5f) / static_cast<float>(h) * 2 - 1;
    for (int x = 0; x < w; ++x) {
      const float u = ((static_cast<float>(x) + 0.5f) / static_cast<float>(w) * 2 - 1) * aspect;
      const Rgb c = scene(u, v, t, seed);
      for (int k = 0; k < 3; ++k) row[4 * x + k] = std::clamp(c[static_cast<std::size_t>(k)], 0.0f, 1.0f);
      row[4 * x + 3] = 1;
    }
  }
  Image image(width, height);
  cv::Mat full(height, width, CV_32FC4, image.data());
  cv::resize(small, full, full.size(), 0, 0, cv::INTER_LINEAR);
  if (grain > 0) add_grain(image, n, seed, grain);
  return image;
}

}  // namespace gc
