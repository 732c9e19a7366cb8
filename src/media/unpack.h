// Pictures in layouts that are not planar YUV, as images of their own size.
#pragma once
extern "C" {
#include <libavutil/frame.h>
#include <libavutil/pixdesc.h>
}
#include "base/error.h"
#include "media/image.h"

namespace gc {

/// One component of a row as floats 0…1.
void component_row(const AVFrame& f, const AVPixFmtDescriptor& d, int c, int y, float* out);
/// RGB, grey and palettes, packed or planar, are read here. Packed and semi-planar YUV, XYZ, sensor mosaics and one bit a
/// pixel go through libswscale, to RGB of 16 bits.
Result<Image> unpack_any(const AVFrame& f);

}  // namespace gc
