// A timeline played whole where nobody sees it, for figures.
#pragma once
#include <atomic>

#include "desk/desk.h"

namespace gc {

/// On the clock, with what is on the shelf, as the view is played. Ended by `stop` it says that it was stopped.
Playout play_unseen(const View& view, const Stores& stores, const std::atomic<bool>& stop);

/// Frames that the timeline itself dropped, not the outside.
inline Frames own_drops(const Playout& p) { return p.dropped - p.dropped_outside; }

}  // namespace gc
