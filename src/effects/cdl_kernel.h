// The arithmetic of ASC CDL 1.2 on rows of pixels.
#pragma once
#include <cstddef>

namespace gc {

struct CdlValues {
  float slope[3] = {1, 1, 1};
  float offset[3] = {0, 0, 0};
  float power[3] = {1, 1, 1};
  float saturation = 1;
};

/// out = clamp(in × slope + offset, 0, 1) ^ power in each channel, then saturation about Rec. 709 luma
/// (0.2126, 0.7152, 0.0722), clamped to 0…1. RGBA pixels, not premultiplied; alpha stays.
void cdl_pixels(float* rgba, std::size_t pixels, const CdlValues& values);

}  // namespace gc
