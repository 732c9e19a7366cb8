// The closer look that a gate needs, at pictures and at the seat; it takes a while.
#pragma once
#include "desk/desk.h"

namespace gc {

/// A few frames of every stretch that may leave pixels uncovered or flicker, the devices where both are used, and the
/// seat's records. Without a log of what was watched every restless segment counts as unwatched.
/// @param go_on asked between pictures; from false on only what is known already is told
Inspection inspect(const View& view, const Stores& stores, const std::function<bool()>& go_on = {});

}  // namespace gc
