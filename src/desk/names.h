// What a person calls a segment or an effect on the command line, and whether a value may be given to it.
#pragma once
#include "base/error.h"
#include "effects/registry.h"
#include "timeline/timeline.h"

namespace gc {

/// A segment by its id, by its name where only one has it, by its place ("V1/3": the third segment of the track of that
/// id or name), or by a timecode (the topmost there). Errors list what is near.
Result<SegmentPtr> segment_called(const Timeline& timeline, const std::string& text);

/// An effect of a segment by its id, by its type or label where only one has it, or by its place in the stack from 1.
/// Returns its index.
Result<std::size_t> effect_called(const Segment& segment, const std::string& text);

/// A value that the parameter takes.
struct Checked {
  Json value;
  std::string remark;  ///< that it was brought into the range, a sentence; empty: as given
};
/// Holds a value against the parameter's kind and range. Fails for a name the effect does not have and a value of
/// another kind. A value outside the range is brought to its end.
Result<Checked> checked_value(const Effect& effect, const std::string& param, const Json& value);

/// What of `all` is most like a mistyped word: few letters changed. Empty when nothing is.
std::string most_like(const std::string& word, const std::vector<std::string>& all);

}  // namespace gc
