// Scales the heavy segments of The Kiln Year to this seat.
#pragma once
#include <map>

#include "demo/kiln_year.h"
#include "pipeline/pipeline.h"

namespace gc::kiln {

/// The work of a frame, ms, without what its stages waited for processors that other programs had: it is heavy by what it
/// costs, not by who else is there. A stage that is timed by its wall time (a device) counts whole.
double own_work_ms(const FrameResult& r);

/// What the two heavy effects cost here, as straight lines.
struct Laws {
  double base = 0;     // decode, convert, grade, display
  double nr[16] = {};  // by radius
  double blur_fixed = 0, blur_px = 0;
};
/// Looks at a graded source with and without them, several times in turn, so that one slow moment does not count.
Laws learn(const fs::path& folder, const DemoOptions& o);

/// What all processors have for one frame, ms.
double budget_of_all();

/// Heavy effects by segment; their ids lack the segment's.
using HeavyStacks = std::map<const SegmentPlan*, std::vector<Effect>>;
/// Effects that bring each heavy segment to its load here. They are looked at in turn, and what is off goes into their blur.
/// @param settled gets the load that each of them came to
HeavyStacks settle(const fs::path& folder, const DemoOptions& o, const Laws& laws, std::vector<std::pair<std::string, double>>& settled);

}  // namespace gc::kiln
