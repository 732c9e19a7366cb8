// Where everything lies in time: segments placed on their tracks, and the timeline cut into intervals in
// which the same layers are seen.
#pragma once
#include <vector>

#include "timeline/timeline.h"

namespace gc {

/// A segment in its place. [in, out) is its own time, [live_in, live_out) includes the handles that
/// transitions use.
struct Placed {
  SegmentPtr segment;
  int track = 0;
  Frames in = 0, out = 0;
  Frames live_in = 0, live_out = 0;
};

/// A transition in its place, between two segments of one track.
struct PlacedTransition {
  Frames in = 0, out = 0;
  int from = -1, to = -1;  ///< indices into Layout::placed
  std::string kind;
  Json params;
};

/// One layer of an interval: a segment, or two in transition.
struct Layer {
  int placed = -1;
  int to = -1;          ///< incoming segment of a transition, or −1
  int transition = -1;  ///< index into Layout::transitions, or −1
};

/// Frames [in, out) in which the same layers are seen, lowest track first.
struct Interval {
  Frames in = 0, out = 0;
  std::vector<Layer> layers;
};

struct Layout {
  std::vector<Placed> placed;
  std::vector<PlacedTransition> transitions;
  std::vector<Interval> intervals;  ///< in order, covering [0, duration) without holes

  /// Index of the interval that holds the frame, or −1.
  int interval_at(Frames frame) const;
};

/// Lays out the enabled video tracks and enabled segments. Transitions that would reach further than half
/// into a neighbour are shortened.
Layout lay_out(const std::vector<TrackPtr>& tracks, Frames duration);
inline Layout lay_out(const Timeline& t) { return lay_out(t.tracks, t.duration()); }

}  // namespace gc
