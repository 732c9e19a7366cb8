// Edit decision lists in the form of CMX 3600, with grades as ASC CDL comments.
//
// What the list cannot say is told, never dropped silently: compositions, upper tracks, other effects, keys.
#pragma once
#include <functional>
#include <optional>
#include <string>
#include <vector>

#include "base/error.h"
#include "timeline/timeline.h"

namespace gc {

struct EdlOptions {
  Rate rate;             ///< in which it counts; the list does not say
  std::string name;      ///< when it has no title
  /// The file of a reel or clip and the timecode of its first frame, where they are known.
  struct Medium {
    std::string path;
    Frames timecode = -1, frames = 0;  ///< at the list's rate
  };
  std::function<std::optional<Medium>(const std::string& reel, const std::string& clip, const std::string& file)> find;
};

/// Reads a list: cuts, dissolves and wipes of its first video channel, speeds (M2), drop-frame counting, clip names, source
/// files, ASC_SOP and ASC_SAT. What is not understood is a remark of the timeline. Errors name the line.
Result<TimelinePtr> timeline_from_edl(const std::string& text, const std::string& where, const EdlOptions& options);

struct EdlText {
  std::string text;
  std::vector<std::string> left_out;  ///< what the list does not carry, in sentences
};
/// Writes the lowest picture track. `timecode_of` gives the timecode of a source's first frame, −1 where there is none.
EdlText edl_of(const Timeline& timeline, const std::function<Frames(const MediaSource&)>& timecode_of);

/// A grade as the American Society of Cinematographers' Color Decision List has it.
struct Grade {
  std::string id;  ///< of a clip or reel
  double slope[3] = {1, 1, 1}, offset[3] = {0, 0, 0}, power[3] = {1, 1, 1}, saturation = 1;
  bool operator==(const Grade&) const = default;
};
/// The first grade of a segment's stack whose values do not change in time; nothing when it has none.
std::optional<Grade> grade_of(const Segment& segment);
/// The segment with its first grade set, or with one put on top.
SegmentPtr with_grade(const Segment& segment, const Grade& grade);
/// "*ASC_SOP (…)(…)(…)" and "*ASC_SAT …", each on a line of its own.
std::string asc_comments(const Grade& grade);

}  // namespace gc
