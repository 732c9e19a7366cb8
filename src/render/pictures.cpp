#include "render/pictures.h"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>

namespace gc {

void cost_by_pictures(CompiledSegment& c, Rate rate) {
  constexpr Frames kMostFrames = 2000;
  constexpr double kLeast = 0.1;  // nothing is gone by for free: what lies before the first frame is told in such frames
  const bool even = c.media.constant && c.segment->speed == Ratio{1, 1} && c.source_rate.nominal() == rate.nominal();
  if (c.media.still || even || (!c.media.constant && c.segment->speed.num < 0)) return;
  const Frames from = c.live_in, to = std::min(c.live_out, from + kMostFrames), kept = kept_backwards(c.media);
  if (to - from < 2) return;
  // The last frame that was read, and the lowest that lies decoded.
  Frames before = c.frame_at(from, rate), lowest = std::max(before - frames_before(c.media, before), before - kept + 1);
  double decoded = 0;
  for (Frames f = from + 1; f < to; ++f) {
    const Frames n = c.frame_at(f, rate);
    if (c.media.intra) {
      decoded += std::min(1.0, c.media.density * static_cast<double>(std::abs(n - before)));
    } else if (n > before) {
      decoded += c.media.density * static_cast<double>(n - before);
    } else if (n < lowest) {
      const Frames from_key = frames_before(c.media, n);
      decoded += static_cast<double>(from_key + 1), lowest = std::max(n - from_key, n - kept + 1);
    }
    before = n;
  }
  // In steps, so that segments at the same pace are the same work.
  c.pictures = std::max(kLeast, std::round(20.0 * decoded / static_cast<double>(to - from - 1)) / 20);
  if (c.pictures == 1) return;
  for (StageRef* s : {&c.read, &c.decode}) {
    s->key = Hasher().add(s->key).add("pictures").add(fmt::format("{:.2f}", c.pictures)).done();
    for (float& t : s->terms) t *= static_cast<float>(c.pictures);
  }
}

Hash128 texture_of(const CompiledInterval& interval) {
  Hasher h;
  const auto add = [&](const CompiledSegment& s) {
    h.add(s.content_identity);
    if (s.inner)
      for (const CompiledInterval& i : s.inner->intervals()) h.add(i.texture);
    for (const CompiledEffect& e : s.effects)
      if (!e.point || e.moving) h.add(e.identity);
  };
  for (const CompiledLayer& l : interval.layers) {
    add(*l.from);
    if (l.to) add(*l.to);
  }
  return h.done();
}

}  // namespace gc
