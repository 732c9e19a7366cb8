#include "media/blend.h"

#include <algorithm>
#include <cmath>
#include <numbers>

#define GC_CLONES __attribute__((target_clones("arch=x86-64-v3", "default")))

namespace gc {
namespace {

// B(cb, cs) of one channel, W3C section "Separable blend modes". b is the backdrop, s the source.
float multiply_of(float b, float s) { return b * s; }
float screen_of(float b, float s) { return b + s - b * s; }
float hard_light_of(float b, float s) { return s <= 0.5f ? multiply_of(b, 2 * s) : screen_of(b, 2 * s - 1); }
float overlay_of(float b, float s) { return hard_light_of(s, b); }
float darken_of(float b, float s) { return std::min(b, s); }
float lighten_of(float b, float s) { return std::max(b, s); }
float dodge_of(float b, float s) { return b <= 0 ? 0 : s >= 1 ? 1 : std::min(1.0f, b / (1 - s)); }
float burn_of(float b, float s) { return b >= 1 ? 1 : s <= 0 ? 0 : 1 - std::min(1.0f, (1 - b) / s); }
float soft_light_of(float b, float s) {
  if (s <= 0.5f) return b - (1 - 2 * s) * b * (1 - b);
  const float d = b <= 0.25f ? ((16 * b - 12) * b + 4) * b : std::sqrt(std::max(0.0f, b));
  return b + (2 * s - 1) * (d - b);
}
float difference_of(float b, float s) { return std::abs(b - s); }
float exclusion_of(float b, float s) { return b + s - 2 * b * s; }

// "Non-separable blend modes": Lum, ClipColor, SetLum, Sat, SetSat.
struct Rgb {
  float c[3];
};
float lum(const Rgb& v) { return 0.3f * v.c[0] + 0.59f * v.c[1] + 0.11f * v.c[2]; }
Rgb clip(Rgb v) {
  const float l = lum(v), n = std::min({v.c[0], v.c[1], v.c[2]}), x = std::max({v.c[0], v.c[1], v.c[2]});
  for (float& c : v.c) {
    if (n < 0) c = l + (c - l) * l / (l - n);
    if (x > 1) c = l + (c - l) * (1 - l) / (x - l);
  }
  return v;
}
Rgb set_lum(Rgb v, float l) {
  const float d = l - lum(v);
  for (float& c : v.c) c += d;
  return clip(v);
}
float sat(const Rgb& v) { return std::max({v.c[0], v.c[1], v.c[2]}) - std::min({v.c[0], v.c[1], v.c[2]}); }
Rgb set_sat(const Rgb& v, float s) {
  const float least = std::min({v.c[0], v.c[1], v.c[2]}), most = std::max({v.c[0], v.c[1], v.c[2]});
  Rgb out{{0, 0, 0}};
  if (most > least)
    for (int i = 0; i < 3; ++i) out.c[i] = (v.c[i] - least) * s / (most - least);
  return out;
}
Rgb nonseparable(Blend mode, const Rgb& b, const Rgb& s) {
  switch (mode) {
    case Blend::hue:
      return set_lum(set_sat(s, sat(b)), lum(b));
    case Blend::saturation:
      return set_lum(set_sat(b, sat(s)), lum(b));
    case Blend::colour:
      return set_lum(s, lum(b));
    default:
      return set_lum(b, lum(s));
  }
}

template <class Mix>
void blend_pixels(float* canvas, const float* layer, std::size_t n, float opacity, Mix&& mix) {
  for (std::size_t i = 0; i < n; ++i, canvas += 4, layer += 4) {
    const float as = layer[3] * opacity, ab = canvas[3];
    if (as <= 0) continue;
    Rgb s, b;
    for (int c = 0; c < 3; ++c) {
      s.c[c] = layer[3] > 0 ? layer[c] / layer[3] : 0;
      b.c[c] = ab > 0 ? canvas[c] / ab : 0;
    }
    const Rgb m = mix(b, s);
    for (int c = 0; c < 3; ++c) canvas[c] = s.c[c] * as * (1 - ab) + as * ab * m.c[c] + (1 - as) * canvas[c];
    canvas[3] = as + ab * (1 - as);
  }
}

template <float (*F)(float, float)>
void separable(float* canvas, const float* layer, std::size_t n, float opacity) {
  blend_pixels(canvas, layer, n, opacity, [](const Rgb& b, const Rgb& s) {
    return Rgb{{F(b.c[0], s.c[0]), F(b.c[1], s.c[1]), F(b.c[2], s.c[2])}};
  });
}

GC_CLONES void plus_row(float* canvas, const float* layer, std::size_t floats, float opacity) {
  for (std::size_t i = 0; i < floats; ++i) canvas[i] += layer[i] * opacity;
}

GC_CLONES void scale_row(float* p, const float* by, std::size_t n) {
  for (std::size_t i = 0; i < n; ++i)
    for (std::size_t c = 0; c < 4; ++c) p[4 * i + c] *= by[i];
}

float smooth(float t) { return t * t * (3 - 2 * t); }

}  // namespace

const std::vector<std::string>& blend_names() {
  static const std::vector<std::string> names{
      "normal",       "multiply",    "screen",     "overlay",    "darken",     "lighten",
      "colour-dodge", "colour-burn", "hard-light", "soft-light", "difference", "exclusion",
      "hue",          "saturation",  "colour",     "luminosity", "plus"};
  return names;
}

std::optional<Blend> blend_named(const std::string& name) {
  const auto& names = blend_names();
  const auto it = std::find(names.begin(), names.end(), name);
  if (it == names.end()) return std::nullopt;
  return static_cast<Blend>(it - names.begin());
}

void composite(Image& canvas, const Image& layer, float opacity, Blend mode) {
  const std::size_t n = canvas.floats() / 4;
  float* c = canvas.data();
  const float* l = layer.data();
  switch (mode) {
    case Blend::normal:
      composite_over(canvas, layer, opacity);
      return;
    case Blend::plus:
      plus_row(c, l, canvas.floats(), opacity);
      for (std::size_t i = 3; i < canvas.floats(); i += 4) c[i] = std::min(1.0f, c[i]);
      break;
    case Blend::multiply:
      separable<multiply_of>(c, l, n, opacity);
      break;
    case Blend::screen:
      separable<screen_of>(c, l, n, opacity);
      break;
    case Blend::overlay:
      separable<overlay_of>(c, l, n, opacity);
      break;
    case Blend::darken:
      separable<darken_of>(c, l, n, opacity);
      break;
    case Blend::lighten:
      separable<lighten_of>(c, l, n, opacity);
      break;
    case Blend::colour_dodge:
      separable<dodge_of>(c, l, n, opacity);
      break;
    case Blend::colour_burn:
      separable<burn_of>(c, l, n, opacity);
      break;
    case Blend::hard_light:
      separable<hard_light_of>(c, l, n, opacity);
      break;
    case Blend::soft_light:
      separable<soft_light_of>(c, l, n, opacity);
      break;
    case Blend::difference:
      separable<difference_of>(c, l, n, opacity);
      break;
    case Blend::exclusion:
      separable<exclusion_of>(c, l, n, opacity);
      break;
    default:
      blend_pixels(c, l, n, opacity, [&](const Rgb& b, const Rgb& s) { return nonseparable(mode, b, s); });
  }
  canvas.opaque = canvas.opaque || (layer.opaque && opacity >= 1);
}

void apply_matte(Image& layer, const Image& matte, bool luma, bool inverted) {
  std::vector<float> by(static_cast<std::size_t>(layer.width()));
  for (int y = 0; y < layer.height(); ++y) {
    const float* m = matte.row(y);
    for (std::size_t x = 0; x < by.size(); ++x, m += 4) {
      const float v = luma ? 0.2126f * m[0] + 0.7152f * m[1] + 0.0722f * m[2] : m[3];
      by[x] = std::clamp(inverted ? 1 - v : v, 0.0f, 1.0f);
    }
    scale_row(layer.row(y), by.data(), by.size());
  }
  layer.opaque = false;
}

void dip(Image& a, const Image& b, float t, const float rgb[3]) {
  const Image colour = Image::filled(a.width(), a.height(), rgb[0], rgb[1], rgb[2], 1);
  const bool opaque = a.opaque && b.opaque;
  if (t < 0.5f) {
    dissolve(a, colour, 2 * t);
  } else {
    Image to = colour.copy();
    dissolve(to, b, 2 * t - 1);
    a = std::move(to);
  }
  a.opaque = opaque;
}

void wipe(Image& a, const Image& b, float t, float angle, float softness, int left, int top, int width,
          int height) {
  const float dx = std::cos(angle * std::numbers::pi_v<float> / 180),
              dy = std::sin(angle * std::numbers::pi_v<float> / 180);
  // Places along the direction run from 0 at one corner to 1 at the opposite one.
  const float w = static_cast<float>(width), h = static_cast<float>(height);
  const float way = std::abs(dx) * w + std::abs(dy) * h;
  const float soft = std::max(softness, 1 / way);
  const float edge = t * (1 + soft);
  for (int y = 0; y < a.height(); ++y) {
    float* p = a.row(y);
    const float* q = b.row(y);
    const float v = (static_cast<float>(top + y) + 0.5f - h / 2) * dy;
    for (int x = 0; x < a.width(); ++x, p += 4, q += 4) {
      const float u = ((static_cast<float>(left + x) + 0.5f - w / 2) * dx + v) / way + 0.5f;
      const float m = smooth(std::clamp((edge - u) / soft, 0.0f, 1.0f));
      for (int c = 0; c < 4; ++c) p[c] += (q[c] - p[c]) * m;
    }
  }
  a.opaque = a.opaque && b.opaque;
}

}  // namespace gc
