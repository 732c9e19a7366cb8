// Results as JSON documents with stable keys (docs/formats.md). Units are part of the key.
#pragma once
#include "demo/demo.h"
#include "desk/desk.h"
#include "seat/seat.h"

namespace gc {

Json to_json(const MeasureReport& r);
Json to_json(const Forecast& f);
/// And what is said of the timeline alone, by which own drops are judged.
Json to_json(const Forecast& f, const Program& program);
Json to_json(const Plan& p);
Json to_json(const PrerenderReport& r);
Json to_json(const Playout& p);
Json to_json(const Audit& a, const Forecast& f, const Playout& p);
Json to_json(const Gate& g);
Json to_json(const std::vector<MissingPicture>& missing);
Json to_json(const DemoReport& d);
/// Every effect: its stage, parameters with ranges and units, devices, and what its cost depends on.
Json describe_effects();
/// What the timeline is: tracks, segments with their stacks, media with what is known of them.
Json describe(const View& v, MediaCatalog& media);

}  // namespace gc
