// Everything that follows from one state of the timeline, as the window shows it.
#pragma once
#include "desk/desk.h"
#include "desk/seats.h"
#include "forecast/pyramid.h"
#include "release/gate.h"

namespace gc {

/// Everything the window shows of one state of the timeline. Made in the background, never changed.
struct Derived {
  View view;
  Plan plan;  ///< with the forecast as it is now in plan.before
  LoadPyramid pyramid;
  Gate gate;
  std::uint64_t shelf_bytes = 0;
  std::string track_record;
  std::map<std::string, int> dearest;  ///< by segment: the owner of its dearest effect, live

  const Owner* dearest_effect(const std::string& segment) const;
};
using DerivedPtr = std::shared_ptr<const Derived>;

/// Works it out; takes from tens of milliseconds to seconds. `elsewhere`: for another seat than this one.
/// `before`: the same of much the same timeline, for what need not be worked out again; may be null.
DerivedPtr make_derived(const TimelinePtr& timeline, const Stores& stores,
                        const std::shared_ptr<const ProfileBook>& elsewhere, const DerivedPtr& before);

}  // namespace gc
