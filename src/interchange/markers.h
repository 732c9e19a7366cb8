// Marks that people set on a timeline: what to look at, what a review is of.
#pragma once
#include <optional>
#include <string>
#include <vector>

#include "base/error.h"
#include "timeline/timeline.h"

namespace gc {

struct Marker {
  std::string name, note, colour;
  FrameRange at;   ///< frames of the timeline; of no length: a place
  std::string of;  ///< name of the track or segment that it is set on; empty: of the whole timeline
};

/// Markers of the timeline, of its tracks and of the segments on them, by where they are. What the document has is kept there
/// and written back as it was.
std::vector<Marker> markers_of(const Timeline& timeline);

/// The timeline with markers set on the whole of it, as OpenTimelineIO's Marker.2.
TimelinePtr with_markers(const Timeline& timeline, const std::vector<Marker>& markers);

/// A table with a line for each marker (RFC 4180; separated by commas, semicolons or tabs). Its first line names the columns:
/// name, in, and of out, duration, note, colour those that it has, in any order. Times are timecodes or frames of the timeline.
/// Errors name the line.
Result<std::vector<Marker>> markers_from_csv(const std::string& text, const std::string& where, const Timeline& timeline);
std::string csv_of(const std::vector<Marker>& markers, const Timeline& timeline);

/// What a marker's name stands for: its own range, or that from a place to the next marker or the end. Nothing when no
/// marker or several have this name.
std::optional<FrameRange> marked_range(const Timeline& timeline, const std::string& name);

}  // namespace gc
