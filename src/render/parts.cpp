#include "render/parts.h"

#include <set>

#include "media/colour.h"
#include "timeline/keys.h"

namespace gc {

FrameRange frames_alone(const Timeline& t, const CompiledSegment& c, std::size_t after) {
  const Segment& s = *c.segment;
  const FrameRange own{c.in, c.out};
  if (c.live_in == c.in && c.live_out == c.out) return own;
  if (s.content != Content::source && s.content != Content::composition) return own;
  if (s.speed != Ratio{1, 1} || (s.source_rate.fps() > 0 && s.source_rate != t.rate)) return own;
  if (s.content == Content::source && c.source_rate != t.rate) return own;
  if (s.source_in + c.live_in - c.in < 0 || c.live_in < 0) return own;
  for (std::size_t i = 0; i < after && i < c.effects.size(); ++i)
    if (c.effects[i].moving) return own;
  return {c.live_in, c.live_out};
}

TimelinePtr alone_up_to(const Timeline& t, const CompiledSegment& s, std::size_t after) {
  auto part = std::make_shared<Timeline>(t);
  auto segment = std::make_shared<Segment>(*s.segment);
  std::set<std::string> wanted;
  for (std::size_t i = 0; i < after; ++i) wanted.insert(s.effects[i].id);
  std::erase_if(segment->stack, [&](const Effect& e) { return !wanted.contains(e.id); });
  segment->opacity = 1.0, segment->matte = {}, segment->blend = "normal";
  const FrameRange frames = frames_alone(t, s, after);
  segment->source_in += frames.in - s.in, segment->duration = frames.length();
  for (Effect& e : segment->stack)
    for (auto& [name, value] : e.params.items()) value = with_keys_moved(value, s.in - frames.in);
  auto track = std::make_shared<Track>();
  track->id = track->name = "V1";
  if (frames.in > 0) track->items.push_back(Gap{frames.in, {}});
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

Form form_of_parts(const Timeline& t, Form preferred, bool alpha) {
  return is_light(t.working_space) ? form_of_light(alpha) : form_that_keeps(preferred, alpha, t.width, t.height);
}

}  // namespace gc
