// Reads our own metadata of OpenTimelineIO objects: what the standard has no field for. What is missing or wrong in it keeps
// its default.
#pragma once
#include "base/json.h"
#include "timeline/timeline.h"

namespace gc::otio {

/// Colour spaces and cost cards.
void read_settings(Timeline& t, const Json& mine);
/// How its pictures are kept, and where its media lay before they were handed over.
void read_rendering(Timeline& t, const Json& mine);
void read_slips(Timeline& t, const Json& mine);
/// Those with a name and a reason.
void read_acceptances(Timeline& t, const Json& mine);
/// How a segment meets what is below it, and how its content meets the raster and the rate.
void read_layer(Segment& s, const Json& mine);

}  // namespace gc::otio
