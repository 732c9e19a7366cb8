#include "render/restless.h"

#include <cmath>

#include "effects/registry.h"

namespace gc {
namespace {

constexpr int kPatch = 16, kPairs = 4;
constexpr double kEven = 4.0 / 255, kMovement = 8.0 / 255;

/// Mean brightness of a square, of what is seen: over black.
double brightness(const Image& image, int x, int y, int side) {
  double sum = 0;
  for (int j = y; j < y + side; ++j) {
    const float* p = image.row(j) + 4 * x;
    for (int i = 0; i < side; ++i, p += 4) sum += 0.2126 * static_cast<double>(p[0]) + 0.7152 * static_cast<double>(p[1]) + 0.0722 * static_cast<double>(p[2]);
  }
  return sum / (side * side);
}

/// Whether the four quarters of a patch are alike.
bool even(const Image& image, int x, int y) {
  constexpr int kHalf = kPatch / 2;
  const double a = brightness(image, x, y, kHalf), b = brightness(image, x + kHalf, y, kHalf), c = brightness(image, x, y + kHalf, kHalf),
               d = brightness(image, x + kHalf, y + kHalf, kHalf);
  return std::max({a, b, c, d}) - std::min({a, b, c, d}) < kEven;
}

}  // namespace

Patch most_restless(const Image& first, const Image& second, const Image* before, const Image* after) {
  Patch most;
  for (int y = 0; y + kPatch <= first.height(); y += kPatch)
    for (int x = 0; x + kPatch <= first.width(); x += kPatch) {
      if (!even(first, x, y) || !even(second, x, y)) continue;
      double change = std::abs(brightness(second, x, y, kPatch) - brightness(first, x, y, kPatch));
      if (change > kMovement) continue;
      // What moves by itself moves more after a steep grade.
      if (before && after) change -= 2 * std::abs(brightness(*after, x, y, kPatch) - brightness(*before, x, y, kPatch));
      if (change * 255 > most.change) most = {x + kPatch / 2, y + kPatch / 2, change * 255};
    }
  return most;
}

std::string judged_in_motion(const CompiledSegment& segment) {
  for (const CompiledEffect& e : segment.effects) {
    if (!e.type) continue;
    if (std::string_view(e.type->family) == "repair") return e.type->label;
    if (e.type->id == "secondary" && param(*e.type, e.params, "use_key") >= 0.5) return e.type->label;
  }
  return {};
}

std::optional<Restless> restless(const Program& program, const Program& plain, const CompiledSegment& segment, const std::function<bool()>& go_on) {
  const Frames length = segment.out - segment.in;
  if (length < 2) return {};
  Restless found;
  found.segment = segment.segment->id, found.effect = judged_in_motion(segment), found.frame = segment.in;
  bool repairs = false;
  for (const CompiledEffect& e : segment.effects) repairs = repairs || (e.type && std::string_view(e.type->family) == "repair");
  Decoders decoders, others;
  StageLog log;
  const auto picture = [&](const Program& p, Frames f, Decoders& d) { return render_frame(p, f, nullptr, d, log); };
  for (int k = 0; k < kPairs; ++k) {
    if (go_on && !go_on()) return {};
    const Frames at = segment.in + (length - 2) * k / std::max(1, kPairs - 1);
    if (k > 0 && at == found.frame) continue;
    const Image a = picture(program, at, decoders), b = picture(program, at + 1, decoders);
    // A repair is to take away what changes in the plain picture; a key must not add to it.
    const Patch p = repairs ? most_restless(a, b) : [&] {
      const Image before = picture(plain, at, others), after = picture(plain, at + 1, others);
      return most_restless(a, b, &before, &after);
    }();
    if (p.change > found.change) found.frame = at, found.x = p.x, found.y = p.y, found.change = p.change;
  }
  return found;
}

}  // namespace gc
