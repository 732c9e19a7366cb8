// Media of random timelines, made once and used by all of them.
#pragma once
#include <vector>

#include "base/files.h"
#include "base/rational.h"

namespace gc {

struct RandomClip {
  std::string path;
  int width = 0, height = 0;
  Rate rate;
  Frames frames = 0;
};

/// Writes what is missing in `folder`: our own made-up pictures, or with `foreign` the ffmpeg program's test sources in
/// H.264, H.265, VC-3, RDD 36 and Motion JPEG, 360 to 1080 lines, 24 to 60 a second.
Result<std::vector<RandomClip>> random_media(const fs::path& folder, bool foreign);

}  // namespace gc
