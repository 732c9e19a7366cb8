// The part of the raster that a MOV or MP4 file says is to be seen (ISO/IEC 14496-12, 12.1.4: CleanApertureBox).
#pragma once
#include <cstdint>
#include <optional>
#include <string>

namespace gc {

struct CleanAperture {
  double width = 0, height = 0;  ///< pixels
};

/// Of the first video track that has one; nothing where there is none, or the file is no such file.
std::optional<CleanAperture> clean_aperture(const std::string& path);

}  // namespace gc
