// Moving pictures made by computation, for the demo and for tests: the same for the same seed at any frame.
#pragma once
#include <cstdint>
#include <string>
#include <vector>

#include "media/image.h"

namespace gc {

/// What can be painted: "bowl", "kiln", "rain", "dust", "hands", "firing".
const std::vector<std::string>& synthetic_scenes();

/// Frame `n` of a scene at 24 frames a second. `grain` is the amplitude of camera-like noise (0 to about
/// 0.1). Opaque. An unknown scene is a mid grey.
Image synthetic_frame(const std::string& scene, std::int64_t n, int width, int height, std::uint32_t seed,
                      float grain);

}  // namespace gc
