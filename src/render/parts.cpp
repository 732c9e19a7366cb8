#include "render/parts.h"

#include <set>

namespace gc {

TimelinePtr alone_up_to(const Timeline& t, const CompiledSegment& s, std::size_t after) {
  auto part = std::make_shared<Timeline>(t);
  auto segment = std::make_shared<Segment>(*s.segment);
  std::set<std::string> wanted;
  for (std::size_t i = 0; i < after; ++i) wanted.insert(s.effects[i].id);
  std::erase_if(segment->stack, [&](const Effect& e) { return !wanted.contains(e.id); });
  segment->opacity = 1.0, segment->matte = {}, segment->blend = "normal";
  auto track = std::make_shared<Track>();
  track->id = track->name = "V1";
  if (s.in > 0) track->items.push_back(Gap{s.in, {}});
  track->items.push_back(SegmentPtr(segment));
  part->tracks = {track};
  part->display_space = part->working_space;
  return part;
}

TimelinePtr alone(const Timeline& t, const Composition& composition) {
  auto part = std::make_shared<Timeline>(t);
  part->tracks = composition.tracks;
  part->display_space = part->working_space;
  return part;
}

}  // namespace gc
