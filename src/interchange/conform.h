// A new cut of a timeline takes over what was done to the old one.
#pragma once
#include <string>
#include <vector>

#include "timeline/timeline.h"

namespace gc {

/// What became of a segment. Ranges are frames of the old and of the new timeline.
struct Conformed {
  enum class What {
    same,     ///< the same pictures at the same place
    moved,    ///< the same pictures elsewhere
    trimmed,  ///< begins or ends otherwise, or runs at another speed
    added,    ///< of no segment of the old cut
    gone      ///< not in the new cut
  } what = What::added;
  std::string segment;  ///< its id: in the new cut; of what is gone in the old one
  std::string name;
  FrameRange was, now;
};
const char* conformed_name(Conformed::What what);  ///< "same", "moved" ...

struct Conform {
  TimelinePtr timeline;  ///< the new cut with everything that was taken over
  std::vector<Conformed> changes;    ///< of the new cut in its order, then what is gone
  std::vector<std::string> remarks;  ///< what could not be taken over, in sentences
  int count(Conformed::What what) const;
};

/// Segments of one source (the same path, or the same file name) whose frames overlap are the same one; among several the
/// one that shares most. It keeps its id, so that slips, truth, what is known of how settled it is and rendered media stay
/// with it; its stack, note, blending, matte, angles and truth are taken over where the new cut states no effects of its
/// own. Keys move with the pictures that they were set on. A segment that was cut in two gives both what it had; the second
/// gets an id of its own. Cost cards, colour spaces and acceptances come from the old timeline.
Conform conform(const Timeline& old_cut, const Timeline& new_cut);

}  // namespace gc
