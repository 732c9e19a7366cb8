#include "desk/suppose.h"

#include <fmt/format.h>

#include "base/clock.h"

namespace gc {

Result<Forecast> forecast_if(const TimelinePtr& timeline, Stores stores, FrameRange range,
                             const Supposition& what) {
  if (!(what.others >= 0 && what.others <= 0.9))
    return usage("other programs cannot take that share of the processors", "Give a share from 0 to 0.9.");
  for (const auto& [name, value] : what.settings)
    if (auto r = set_setting(stores.options.settings, name, value); !r) return std::unexpected(r.error());
  TimelinePtr supposed = timeline;
  for (const auto& [segment, effect] : what.bypassed) {
    TimelinePtr next = with_bypass(*supposed, segment, effect, true, now_utc());
    if (!next)
      return usage(fmt::format("segment '{}' has no effect '{}'", segment, effect),
                   "List the segments and their effects with `gclk inspect`.");
    supposed = std::move(next);
  }
  const View view = view_of(supposed, stores);
  Route states = view.seals;
  for (const FrameRange& r : what.rendered) states = with_state(std::move(states), r, FrameState::sealed);
  for (const FrameRange& r : what.remembered) states = with_state(std::move(states), r, FrameState::remembered);
  ForecastOptions options = stores.forecast_options();
  // Frames get what the others leave, and take that much longer.
  options.cost_scale /= 1 - what.others;
  options.loop = what.loop;
  return forecast(*view.played, *stores.notebook, states, range, options);
}

}  // namespace gc
