#include "remedy/kinds.h"

#include "base/clock.h"
#include "render/played.h"

namespace gc {

const std::vector<const RemedyKind*>& remedy_kinds() {
  static const std::vector<const RemedyKind*> all{&prerender_kind(), &tap_kind(),    &bake_kind(),   &mezzanine_kind(),
                                                  &proxy_kind(),     &scale_kind(),  &bypass_kind(), &region_kind(),
                                                  &draft_kind(),     &device_kind(), &memory_kind(), &other_seat_kind()};
  return all;
}

const RemedyKind* remedy_kind(const std::string& name) {
  for (const RemedyKind* k : remedy_kinds())
    if (name == k->name()) return k;
  return nullptr;
}

Supposed with_slip_open(const Situation& s, const Slip& slip) {
  const TimelinePtr then = with_slip(*s.timeline, slip, now_utc());
  if (!then) return {};
  RenderOptions options = s.played->options();
  // What open slips have set already is set again by them.
  options.scale = s.usual.scale, options.draft = s.usual.draft, options.half = s.usual.half, options.region = s.usual.region;
  Supposed supposed;
  supposed.program = played_program(then, *s.media, options);
  if (s.shelf) supposed.route = s.shelf->route(*supposed.program);
  return supposed;
}

}  // namespace gc
