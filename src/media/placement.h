// How a picture lies on a raster of another shape or size, and what it costs to scale it there.
#pragma once

namespace gc {

/// How a picture is brought to a raster of another shape or size.
struct Placement {
  enum class Shape { fit, fill, stretch, centre } shape = Shape::fit;
  double scale = 1;    ///< pixels of this raster ÷ pixels of the full one, of a side; for `centre`
  bool draft = false;  ///< bilinear scaling instead of bicubic
};

/// Where on the raster a picture comes to lie, and which part of it.
struct Lie {
  int left = 0, top = 0, width = 0, height = 0;           ///< on the raster
  double from_x = 0, from_y = 0, from_w = 0, from_h = 0;  ///< of the picture

  /// @param aspect width ÷ height of a pixel of the picture
  Lie(int picture_width, int picture_height, int raster_width, int raster_height, const Placement& place, double aspect);
};

/// How a picture lies on the raster: the size that is made there, and the part of the picture that it is made
/// of, pixels.
struct PlacedSize {
  int width = 0, height = 0;
  double from_width = 0, from_height = 0;
};
PlacedSize placed_size(int picture_width, int picture_height, int width, int height,
                       const Placement& placement, double pixel_aspect = 1);
/// Pixels that the two passes of a separable scaling go over. A filter widens with the shrinking, so that a
/// pass costs by the larger of what it reads and what it makes; of the two orders the one that goes over
/// fewer pixels is taken, those across counted twice (zimg's own rule). Where a side stays as it is there is
/// no pass.
struct ScalingWork {
  double across = 0, down = 0;
};
ScalingWork scaling_work(const PlacedSize& placed);
/// Whether a picture of this size covers the whole raster.
bool covers_raster(int picture_width, int picture_height, int width, int height, const Placement& placement,
                   double pixel_aspect = 1);

}  // namespace gc
