// Between coded pictures (YUV, 8 to 16 bit) and working images, through zimg.
#pragma once
#include "base/error.h"
#include "media/image.h"
#include "media/placement.h"
#include "media/reader.h"

namespace gc {

/// The frame as a working image of width × height, transparent where it does not reach. Frames of any size, odd ones
/// with subsampled chroma too. Planar YUV, RGB, grey and palettes of 8 to 16 bits and float are read by zimg and by
/// this; every other layout that libswscale reads goes through it. Alpha is straight for integers, associated for
/// float. The matrix is the one the frame states; one that states none is ITU-R BT.601's for standard definition (below
/// 1280 pixels wide, at most 576 high) and BT.709's else. Grey that states no range is full range. The frame's pixel
/// aspect and display matrix are obeyed.
Result<Image> to_image(const AVFrame& frame, int width, int height, const Placement& placement = {});

/// The frame straight to the screen's 8 bits, covering the whole raster: what to_screen(to_image(frame)) shows within one
/// step of 255, in less than half of the time. False, and nothing is done, for what only to_image() reads: frames with
/// alpha, other than planar YUV or grey, of odd sides with subsampled chroma, turned, or that do not cover the raster.
Result<bool> to_screen(const AVFrame& frame, int width, int height, const Placement& placement, ScreenImage& out);
/// Whether frames of this layout and size go straight, as far as the file says.
bool goes_straight(const MediaInfo& info);

/// Fills an allocated frame from an image of the same size: 8- or 10-bit planar YUV, BT.709, limited or full range by its
/// colour range, alpha straight; or planar RGB of floats, as the image is, alpha associated.
Result<void> from_image(const Image& image, AVFrame& frame);

}  // namespace gc
