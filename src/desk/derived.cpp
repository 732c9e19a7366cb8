#include "desk/derived.h"

#include <fmt/format.h>

#include "desk/planning.h"
#include "desk/remedies.h"

namespace gc {

DerivedPtr make_derived(const TimelinePtr& timeline, const Stores& stores,
                        const std::shared_ptr<const ProfileBook>& elsewhere, const DerivedPtr& before) {
  auto d = std::make_shared<Derived>();
  d->view = view_of(timeline, stores);
  if (elsewhere) {
    // Nothing can be carried out on another seat; what is shown is how the timeline would play there.
    d->plan.before = gc::forecast_on(*d->view.played, *elsewhere, d->view.seals, whole(d->view),
                                     stores.forecast_options());
    d->plan.before.fully_measured = true;
    d->plan.after = d->plan.before;
    const int not_holding = d->plan.before.count(Verdict::spills) + d->plan.before.count(Verdict::wavers);
    d->plan.sentence =
        not_holding == 0
            ? fmt::format("On '{}' the whole timeline plays.", elsewhere->profile().name)
            : fmt::format("On '{}' {} span{} would not hold; about {:.0f} frames would be dropped.",
                          elsewhere->profile().name, not_holding, not_holding == 1 ? "" : "s",
                          d->plan.before.expected_drops);
  } else {
    const Situation s = situation_of(d->view, stores, before ? &before->plan.before : nullptr);
    PlanOptions options = plan_options(*d->view.timeline, stores);
    // While pieces come in one after another, the schedule's own order has to do for the picture of what may be spent: a
    // search for each of its points would compete with the render.
    const bool only_sealed = before && before->view.timeline == timeline && !(before->view.seals == d->view.seals);
    options.frontier = !only_sealed;
    d->plan = make_plan(s, whole(d->view), options);
    if (only_sealed) d->plan.frontier = d->plan.prefixes;
  }
  std::vector<IntervalCost> full;
  if (d->view.played != d->view.delivered) {
    ForecastOptions costs_only = stores.forecast_options();
    costs_only.trials = 1;
    full = forecast(*d->view.delivered, *stores.notebook, {}, whole(d->view), costs_only).intervals;
  }
  d->pyramid = LoadPyramid(d->plan.before, full);
  d->gate = check_gate(*d->view.delivered, stores.shelf.get());
  d->shelf_bytes = stores.shelf->bytes();
  d->track_record = track_record(*stores.notebook);
  for (const auto& s : d->view.played->segments()) {
    double most = -1;
    for (const CompiledEffect& e : s->effects)
      if (const double ms = median_of(stores.notebook->stage_samples(e.stage.key)).median; ms > most)
        most = ms, d->dearest[s->segment->id] = e.stage.owner;
  }
  return d;
}

const Owner* Derived::dearest_effect(const std::string& segment) const {
  const auto it = dearest.find(segment);
  return it == dearest.end() ? nullptr : &view.played->owners()[static_cast<std::size_t>(it->second)];
}

}  // namespace gc
