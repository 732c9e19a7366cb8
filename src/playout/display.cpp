#include "playout/display.h"

namespace gc {

bool MonitorStandIn::present(Frames, ScreenImage&&, double at_ms) {
  // The first tick follows the first picture by half a period, so that small differences do no harm.
  if (next_tick_ms_ < 0) next_tick_ms_ = at_ms + period_ms_ / 2;
  for (; next_tick_ms_ <= at_ms; next_tick_ms_ += period_ms_) {
    if (waiting_ > 0) --waiting_, ++shown_;
    else ++repeated_;
  }
  if (waiting_ >= room_) {
    ++refused_;
    return false;
  }
  ++waiting_;
  return true;
}

}  // namespace gc
