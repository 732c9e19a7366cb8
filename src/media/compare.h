// How near two pictures are to each other.
#pragma once
#include "media/image.h"

namespace gc {

/// Peak signal-to-noise ratio of R, G and B together, in decibels, peak 1: 10 log10(1 / mean squared
/// difference). Infinite for equal pictures. The pictures must have the same size.
double psnr(const Image& a, const Image& b);

/// Structural similarity (Wang, Bovik, Sheikh and Simoncelli, 2004), mean of R, G and B, on 8-bit values in
/// windows of 8 × 8 pixels every 4, with the usual constants K1 = 0.01 and K2 = 0.03. 1 for equal pictures.
double ssim(const Image& a, const Image& b);

/// The picture at another size, bilinear: as a screen shows a lower playback scale.
Image enlarged(const Image& image, int width, int height);

/// |a − b| × gain, opaque: what differs is bright.
Image difference(const Image& a, const Image& b, float gain);

/// The left part of a, the right part of b, divided at `share` of the width.
Image side_by_wipe(const Image& a, const Image& b, float share);

}  // namespace gc
