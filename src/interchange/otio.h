// OpenTimelineIO JSON to and from the timeline. docs/formats.md describes what is ours in it; every field and
// schema that is not understood is written back unchanged.
#pragma once
#include <functional>
#include <optional>
#include <string>

#include "base/files.h"
#include "timeline/timeline.h"

namespace gc {

/// What a file of pictures is, for what a timeline does not state of it.
struct MediaFacts {
  Rate rate;
  Frames frames = 0;
  int width = 0, height = 0;  ///< as seen: upright, in square pixels
  Frames timecode = -1;       ///< of its first frame; −1: none
  bool still = false;
};

struct ReadOptions {
  /// Asked where the timeline does not state a rate, a raster, or a length; nothing: the file cannot be read.
  std::function<std::optional<MediaFacts>(const std::string& path)> ask;
  std::string timeline;  ///< of several in one document: its name, its number from 1, or its place (RFC 6901)
};

/// Reads a timeline. Relative media paths are taken from `folder`. Fails with file and place for what cannot
/// be a timeline: broken JSON, no tracks, a composition inside itself. An item that cannot be understood is one offline
/// segment with the reason; everything odd is said in `remarks`. Missing media are no failure.
Result<TimelinePtr> timeline_from_otio(std::string_view text, const std::string& where,
                                       const fs::path& folder, const ReadOptions& options = {});
Result<TimelinePtr> load_timeline(const fs::path& file, const ReadOptions& options = {});

/// The timeline as if the file stated another rate: what is counted at a rate of its own keeps its time.
Result<TimelinePtr> with_rate(const Timeline& timeline, Rate rate, const ReadOptions& options = {});

/// Names of the timelines that a document holds, in order; empty when it is none.
std::vector<std::string> timelines_in(std::string_view text);

/// `folder`: where the file will lie; URLs relative to the folder that the timeline was read from are written
/// so that they name the same files from there. Empty: as they are.
std::string timeline_to_otio(const Timeline& timeline, const fs::path& folder = {});
/// The timeline in the file stays what it was until the new one is whole.
Result<void> save_timeline(const Timeline& timeline, const fs::path& file);

}  // namespace gc
