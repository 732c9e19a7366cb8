#include "timeline/layout.h"

#include <algorithm>

namespace gc {
namespace {

/// Places one track's items and finds its transitions.
void place(const Track& track, int index, Layout& out) {
  Frames at = 0;
  int previous = -1;  // placed index of the segment that ends at `at`
  const Transition* pending = nullptr;
  int pending_from = -1;
  for (const Item& item : track.items) {
    if (const auto* t = std::get_if<Transition>(&item)) {
      pending = t, pending_from = previous;
      continue;
    }
    int current = -1;
    Frames length = 0;
    if (const auto* s = std::get_if<SegmentPtr>(&item)) {
      length = (*s)->duration;
      if ((*s)->enabled) {
        current = static_cast<int>(out.placed.size());
        out.placed.push_back({*s, index, at, at + length, at, at + length});
      }
    } else if (const auto* g = std::get_if<Gap>(&item)) {
      length = g->duration;
    } else if (const auto* o = std::get_if<Opaque>(&item)) {
      length = o->duration;
    }
    // An adjustment has no picture of its own to go over into: beside it a transition is a cut.
    const auto adjusts = [&](int i) {
      return out.placed[static_cast<std::size_t>(i)].segment->content == Content::adjustment;
    };
    if (pending && pending_from >= 0 && current >= 0 && !adjusts(pending_from) && !adjusts(current)) {
      Placed& from = out.placed[static_cast<std::size_t>(pending_from)];
      Placed& to = out.placed[static_cast<std::size_t>(current)];
      const Frames before = std::clamp<Frames>(pending->in_offset, 0, (from.out - from.in) / 2);
      const Frames after = std::clamp<Frames>(pending->out_offset, 0, length / 2);
      if (before + after > 0) {
        from.live_out = at + after;
        to.live_in = at - before;
        out.transitions.push_back(
            {at - before, at + after, pending_from, current, pending->kind, pending->params});
      }
    }
    pending = nullptr;
    at += length;
    previous = current;
  }
}

}  // namespace

int Layout::interval_at(Frames frame) const {
  const auto it = std::upper_bound(intervals.begin(), intervals.end(), frame,
                                   [](Frames f, const Interval& i) { return f < i.out; });
  return it != intervals.end() && frame >= it->in ? static_cast<int>(it - intervals.begin()) : -1;
}

Layout lay_out(const std::vector<TrackPtr>& tracks, Frames duration) {
  Layout out;
  for (std::size_t i = 0; i < tracks.size(); ++i)
    if (tracks[i]->video && tracks[i]->enabled) place(*tracks[i], static_cast<int>(i), out);

  std::vector<Frames> cuts{0, duration};
  for (const Placed& p : out.placed) {
    // The cut inside a transition changes nothing that is seen.
    if (p.live_in == p.in) cuts.push_back(p.in);
    if (p.live_out == p.out) cuts.push_back(p.out);
  }
  for (const PlacedTransition& t : out.transitions) cuts.insert(cuts.end(), {t.in, t.out});
  std::sort(cuts.begin(), cuts.end());
  cuts.erase(std::unique(cuts.begin(), cuts.end()), cuts.end());
  std::erase_if(cuts, [&](Frames c) { return c < 0 || c > duration; });

  // Sweep: transitions first, since they replace the plain layer of their track.
  struct Span {
    Frames in, out;
    int track;
    Layer layer;
  };
  std::vector<Span> spans;
  for (std::size_t i = 0; i < out.placed.size(); ++i)
    spans.push_back(
        {out.placed[i].in, out.placed[i].out, out.placed[i].track, {static_cast<int>(i), -1, -1}});
  for (std::size_t i = 0; i < out.transitions.size(); ++i) {
    const PlacedTransition& t = out.transitions[i];
    spans.push_back({t.in,
                     t.out,
                     out.placed[static_cast<std::size_t>(t.from)].track,
                     {t.from, t.to, static_cast<int>(i)}});
  }
  std::sort(spans.begin(), spans.end(), [](const Span& a, const Span& b) { return a.in < b.in; });
  std::vector<Span> open;
  std::size_t next = 0;
  for (std::size_t c = 0; c + 1 < cuts.size(); ++c) {
    Interval interval{cuts[c], cuts[c + 1], {}};
    std::erase_if(open, [&](const Span& s) { return s.out <= interval.in; });
    while (next < spans.size() && spans[next].in <= interval.in) {
      if (spans[next].out > interval.in) open.push_back(spans[next]);
      ++next;
    }
    std::map<int, Layer> by_track;
    for (const Span& s : open)
      if (auto [it, fresh] = by_track.emplace(s.track, s.layer); !fresh && s.layer.transition >= 0)
        it->second = s.layer;
    for (const auto& [track, layer] : by_track) interval.layers.push_back(layer);
    out.intervals.push_back(std::move(interval));
  }
  return out;
}

}  // namespace gc
