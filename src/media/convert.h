// Between coded pictures (YUV, 8 to 16 bit) and working images, through zimg.
#pragma once
#include "base/error.h"
#include "media/image.h"
#include "media/reader.h"

namespace gc {

/// The frame as a working image of width × height: scaled to fit, bars transparent where the shapes differ.
/// ITU-R BT.709 matrix unless the frame states BT.601 or BT.2020.
Result<Image> to_image(const AVFrame& frame, int width, int height);

/// Fills an allocated frame (8- or 10-bit planar YUV, BT.709, limited or full range by its colour range) from
/// an opaque image of the same size.
Result<void> from_image(const Image& image, AVFrame& frame);

}  // namespace gc
