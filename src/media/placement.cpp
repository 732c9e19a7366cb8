#include "media/placement.h"

#include <algorithm>
#include <cmath>
#include <cstdint>

namespace gc {

Lie::Lie(int picture_width, int ph, int rw, int rh, const Placement& place, double aspect) {
  using Shape = Placement::Shape;
  const double pw = picture_width * aspect;
  const double fit = std::min(rw / pw, static_cast<double>(rh) / ph),
               fill = std::max(rw / pw, static_cast<double>(rh) / ph);
  double sx = rw / pw, sy = static_cast<double>(rh) / ph;
  if (place.shape == Shape::fit) sx = sy = fit;
  if (place.shape == Shape::fill) sx = sy = fill;
  if (place.shape == Shape::centre) sx = sy = place.scale;
  const auto along = [](double picture, int raster, double scale, int& at, int& length, double& from,
                        double& part) {
    length = std::clamp(static_cast<int>(std::lround(picture * scale)), 1, raster);
    at = (raster - length) / 2;
    part = std::min(picture, length / scale);
    from = (picture - part) / 2;
  };
  along(pw, rw, sx, left, width, from_x, from_w);
  along(ph, rh, sy, top, height, from_y, from_h);
  // A picture of the raster's own shape fills it to the last pixel, however its size rounds. Pixel aspects are
  // rounded themselves.
  const bool same = aspect == 1 ? static_cast<std::int64_t>(picture_width) * rh == static_cast<std::int64_t>(ph) * rw
                                : std::abs(pw * rh / ph - rw) < 1;
  if (place.shape != Shape::centre && same) {
    left = top = 0, width = rw, height = rh;
    from_x = from_y = 0, from_w = pw, from_h = ph;
  }
  from_x /= aspect, from_w /= aspect;
}

PlacedSize placed_size(int pw, int ph, int width, int height, const Placement& placement, double aspect) {
  const Lie lie(pw, ph, width, height, placement, aspect);
  return {lie.width, lie.height, lie.from_w, lie.from_h};
}

ScalingWork scaling_work(const PlacedSize& p) {
  const double w = std::max<double>(p.width, p.from_width), h = std::max<double>(p.height, p.from_height);
  const ScalingWork across_first{w * p.from_height, h * p.width}, down_first{w * p.height, h * p.from_width};
  const auto cost = [](const ScalingWork& s) { return 2 * s.across + s.down; };
  ScalingWork work = cost(across_first) < cost(down_first) ? across_first : down_first;
  if (p.width == p.from_width) work.across = 0;
  if (p.height == p.from_height) work.down = 0;
  return work;
}

bool covers_raster(int pw, int ph, int width, int height, const Placement& placement, double aspect) {
  const PlacedSize p = placed_size(pw, ph, width, height, placement, aspect);
  return p.width == width && p.height == height;
}

}  // namespace gc
