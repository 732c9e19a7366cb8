// Several cameras of one moment at a time.
#pragma once
#include <filesystem>

#include "base/error.h"
#include "timeline/timeline.h"

namespace gc {

/// At how many pictures a grid ends.
inline constexpr std::size_t kMostAngles = 16;

/// A segment's angles side by side, without its effects: a timeline of its own, as long as the segment, with a track for
/// each angle. Whatever is asked of timelines can be asked of it. Copies that are made of its sources serve the cut too.
/// Fails for a segment of fewer than 2 or more than kMostAngles angles.
Result<TimelinePtr> angles_side_by_side(const Timeline& timeline, const std::string& segment);

/// Writes that timeline into a file that is not there yet.
Result<void> write_angles(const Timeline& timeline, const std::string& segment, const std::filesystem::path& file);

}  // namespace gc
