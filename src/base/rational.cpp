#include "base/rational.h"

#include <array>
#include <cmath>
#include <cstdlib>

namespace gc {
namespace {

__extension__ using Wide = __int128;

Wide floor_div(Wide a, Wide b) {
  Wide q = a / b;
  if ((a % b != 0) && ((a < 0) != (b < 0))) --q;
  return q;
}

}  // namespace

Ratio Ratio::of(std::int64_t n, std::int64_t d) {
  if (d == 0) return {n, 1};
  if (d < 0) n = -n, d = -d;
  const std::int64_t g = std::gcd(n, d);
  return g > 1 ? Ratio{n / g, d / g} : Ratio{n, d};
}

Ratio Ratio::near(double value) {
  Ratio best{std::llround(value), 1};
  double error = std::abs(value - best.value());
  for (std::int64_t d = 2; d <= 1001 && error > 1e-12; ++d) {
    const Ratio r{std::llround(value * static_cast<double>(d)), d};
    if (const double e = std::abs(value - r.value()); e < error - 1e-12) best = r, error = e;
  }
  return of(best.num, best.den);
}

Rate Rate::near(double fps) {
  static constexpr std::array<Rate, 10> known{{{24000, 1001},
                                               {24, 1},
                                               {25, 1},
                                               {30000, 1001},
                                               {30, 1},
                                               {48, 1},
                                               {50, 1},
                                               {60000, 1001},
                                               {60, 1},
                                               {120, 1}}};
  for (const Rate& r : known)
    if (std::abs(r.fps() - fps) < 0.005) return r;
  const Ratio r = Ratio::near(fps);
  return {r.num, r.den};
}

Frames scale_floor(Frames count, std::int64_t a, std::int64_t b) {
  return static_cast<Frames>(floor_div(static_cast<Wide>(count) * a, b));
}

SourcePosition source_position(Ratio source_in, Frames offset, Ratio speed, Rate source, Rate timeline) {
  const Wide den = static_cast<Wide>(speed.den) * source.den * timeline.num,
             num = static_cast<Wide>(offset) * speed.num * source.num * timeline.den * source_in.den +
                   den * source_in.num,
             all = den * source_in.den, whole = floor_div(num, all);
  return {static_cast<Frames>(whole), static_cast<double>(num - whole * all) / static_cast<double>(all)};
}

Frames source_frame(Ratio source_in, Frames offset, Ratio speed, Rate source, Rate timeline) {
  return source_position(source_in, offset, speed, source, timeline).frame;
}

Frames rescale(Frames count, Rate from, Rate to) {
  const Wide num = static_cast<Wide>(count) * to.num * from.den * 2;
  const Wide den = static_cast<Wide>(to.den) * from.num;
  return static_cast<Frames>(floor_div(num + den, den * 2));
}

}  // namespace gc
