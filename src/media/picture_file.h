// One picture as a file of its own, so that anyone can look at it in any program.
#pragma once
#include <filesystem>

#include "base/error.h"
#include "media/image.h"

namespace gc {

/// Writes PNG and TIFF (16 bit), EXR (32-bit float) or DPX (10 bit), by the file's extension. Values are written as they
/// are, display-referred; alpha goes into PNG, TIFF and EXR. The file stays what it was until the new one is whole.
Result<void> write_picture(const Image& image, const std::filesystem::path& file);

/// Extensions that are written.
std::string picture_extensions();

}  // namespace gc
