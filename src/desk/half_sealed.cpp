#include "desk/half_sealed.h"

#include "desk/remedies.h"
#include "media/compare.h"

namespace gc {
namespace {

int tapped_frames(const View& view) { return static_cast<int>(view.seals.count(FrameState::half)); }

}  // namespace

Result<HalfSealed> half_sealed(const View& view, Stores& stores, const std::string& wanted, const std::string& grade,
                               const std::atomic<bool>& stop) {
  struct Place {
    std::string segment, effect;
    std::size_t after = 0;
  };
  // The segment that was just graded first, if something lies below its grade; then the others.
  std::vector<Place> places;
  for (const bool others : {false, true})
    for (const auto& s : view.delivered->segments()) {
      if ((s->segment->id == wanted) == others || s->content != Content::source) continue;
      for (std::size_t i = 1; i < s->effects.size(); ++i)
        if (s->effects[i].type && s->effects[i].type->id == "cdl" && (others || s->effects[i].id == grade))
          places.push_back({s->segment->id, s->effects[i].id, i});
    }
  HalfSealed half;
  View graded;
  std::string effect;
  for (const Place& p : places) {
    graded = view_of(with_param(*view.timeline, p.segment, p.effect, "saturation", 1.22), stores);
    auto made = cache_stack(graded.played, *stores.shelf, p.segment, p.after, stores.prerender_options({}, *graded.timeline),
                            [&](const PrerenderProgress&) { return !stop.load(); });
    if (!made && made.error().fault == Fault::bad_input) continue;
    if (!made) return std::unexpected(made.error());
    half.segment = p.segment, half.after = p.after, effect = p.effect;
    break;
  }
  if (half.segment.empty()) return half;
  const View cached = view_of(graded.timeline, stores);
  half.frames = tapped_frames(cached);
  const View again = view_of(with_param(*graded.timeline, half.segment, effect, "saturation", 1.07), stores);
  half.kept = tapped_frames(again);
  for (Frames f = 0; f < again.played->duration(); ++f) {
    if (again.seals[static_cast<std::size_t>(f)] != FrameState::half) continue;
    Decoders decoders;
    StageLog log;
    half.psnr_db = psnr(render_frame(*again.played, f, stores.shelf.get(), decoders, log),
                        render_frame(*again.played, f, nullptr, decoders, log));
    break;
  }
  return half;
}

}  // namespace gc
