// OpenTimelineIO JSON to and from the timeline. docs/formats.md describes what is ours in it; every field and
// schema that is not understood is written back unchanged.
#pragma once
#include <string>

#include "base/files.h"
#include "timeline/timeline.h"

namespace gc {

/// Reads a timeline. Relative media paths are taken from `folder`. Fails with file and place for what cannot
/// be a timeline: broken JSON, wrong types, negative or absurd times, a composition inside itself. Missing
/// media are no failure.
Result<TimelinePtr> timeline_from_otio(std::string_view text, const std::string& where,
                                       const fs::path& folder);
Result<TimelinePtr> load_timeline(const fs::path& file);

/// `folder`: where the file will lie; URLs relative to the folder that the timeline was read from are written
/// so that they name the same files from there. Empty: as they are.
std::string timeline_to_otio(const Timeline& timeline, const fs::path& folder = {});
/// The timeline in the file stays what it was until the new one is whole.
Result<void> save_timeline(const Timeline& timeline, const fs::path& file);

}  // namespace gc
