#include "desk/answered.h"

#include <fmt/format.h>

namespace gc {
namespace {

/// What is fetched for a segment itself, not for what lies inside it.
std::string fetched(const TapUse& tap, const CompiledSegment& s) {
  switch (tap.kind) {
    case TapKind::composition: return "baked";
    case TapKind::stack:
      return tap.after > 0 && tap.after <= s.effects.size() && s.effects[tap.after - 1U].type
                 ? std::string("after ") + s.effects[tap.after - 1U].type->label
                 : "half sealed";
    case TapKind::source: {
      const int smaller = tap.width > 0 ? static_cast<int>(std::lround(static_cast<double>(s.media.width) / tap.width)) : 1;
      return smaller > 1 ? fmt::format("copy 1/{}", smaller) : "copy";
    }
    case TapKind::frame: break;
  }
  return "sealed";
}

}  // namespace

std::string answered_from(const View& view, const Forecast& f, const CompiledSegment& s) {
  if (s.content == Content::offline) return "offline";
  for (const Effect& e : s.segment->stack)
    if (bypassed(*view.timeline, s.segment->id, e.id)) return "bypassed";
  Frames frames = 0, sealed = 0, broken = 0;
  std::map<std::string, Frames> half;
  for (const IntervalCost& c : f.intervals) {
    const Frames n = std::min(s.out, c.out) - std::max(s.in, c.in);
    if (n <= 0) continue;
    frames += n;
    if (c.is(FrameState::sealed)) sealed += n;
    if (c.is(FrameState::broken)) broken += n;
    if (!c.is(FrameState::half)) continue;
    const TapUse* own = tap_in(c.taps, use_of({}, s));
    half[own ? fetched(*own, s) : "half sealed"] += n;
  }
  const CompiledSegment* main = main_segment(*view.played, s.in);
  if (broken > 0 && main && main->segment->id == s.segment->id) return "seal broken";
  if (sealed > 0) return sealed >= frames ? "sealed" : fmt::format("sealed {:.0f} %", 100.0 * static_cast<double>(sealed) / static_cast<double>(frames));
  const auto most = std::ranges::max_element(half, {}, [](const auto& h) { return h.second; });
  return most != half.end() ? most->first : "live";
}

}  // namespace gc
