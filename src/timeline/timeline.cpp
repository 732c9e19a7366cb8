#include "timeline/timeline.h"

#include <filesystem>

#include "base/timecode.h"

#include <algorithm>

namespace gc {
namespace {

const SegmentPtr* find_in(const std::vector<TrackPtr>& tracks, const std::string& id) {
  for (const TrackPtr& t : tracks)
    for (const Item& item : t->items)
      if (const auto* s = std::get_if<SegmentPtr>(&item); s && (*s)->id == id) return s;
  return nullptr;
}

/// Replaces the segment in these tracks; true when it was there.
bool replace_in(std::vector<TrackPtr>& tracks, const SegmentPtr& replacement) {
  for (TrackPtr& t : tracks)
    for (std::size_t i = 0; i < t->items.size(); ++i)
      if (const auto* s = std::get_if<SegmentPtr>(&t->items[i]); s && (*s)->id == replacement->id) {
        auto copy = std::make_shared<Track>(*t);
        copy->items[i] = replacement;
        t = std::move(copy);
        return true;
      }
  return false;
}

Effect* effect_of(Segment& segment, const std::string& id) {
  const auto it =
      std::find_if(segment.stack.begin(), segment.stack.end(), [&](const Effect& e) { return e.id == id; });
  return it == segment.stack.end() ? nullptr : &*it;
}

}  // namespace

Frames duration(const Track& track) {
  Frames total = 0;
  for (const Item& item : track.items) {
    if (const auto* s = std::get_if<SegmentPtr>(&item)) total += (*s)->duration;
    if (const auto* g = std::get_if<Gap>(&item)) total += g->duration;
    if (const auto* o = std::get_if<Opaque>(&item)) total += o->duration;
  }
  return total;
}

Frames Timeline::duration() const {
  Frames longest = 0;
  for (const TrackPtr& t : tracks) longest = std::max(longest, gc::duration(*t));
  return longest;
}

SegmentPtr find_segment(const Timeline& timeline, const std::string& id) {
  if (const auto* s = find_in(timeline.tracks, id)) return *s;
  for (const auto& [key, composition] : timeline.compositions)
    if (const auto* s = find_in(composition->tracks, id)) return *s;
  return nullptr;
}

TimelinePtr with_segment(const Timeline& timeline, SegmentPtr replacement) {
  auto copy = std::make_shared<Timeline>(timeline);
  if (replace_in(copy->tracks, replacement)) return copy;
  for (auto& [key, composition] : copy->compositions) {
    std::vector<TrackPtr> tracks = composition->tracks;
    if (replace_in(tracks, replacement)) {
      auto changed = std::make_shared<Composition>(*composition);
      changed->tracks = std::move(tracks);
      composition = std::move(changed);
      return copy;
    }
  }
  return copy;
}

TimelinePtr with_param(const Timeline& timeline, const std::string& segment, const std::string& effect,
                       const std::string& param, const Json& value) {
  const SegmentPtr old = find_segment(timeline, segment);
  if (!old) return nullptr;
  auto changed = std::make_shared<Segment>(*old);
  Effect* e = effect_of(*changed, effect);
  if (!e) return nullptr;
  e->params[param] = value;
  return with_segment(timeline, std::move(changed));
}

namespace {

/// The timeline with the segment's stack changed by `edit`, which says whether it could.
template <class Edit>
TimelinePtr with_stack(const Timeline& timeline, const std::string& segment, Edit&& edit) {
  const SegmentPtr old = find_segment(timeline, segment);
  if (!old) return nullptr;
  auto changed = std::make_shared<Segment>(*old);
  return edit(*changed) ? with_segment(timeline, std::move(changed)) : nullptr;
}

auto place_of(Segment& s, const std::string& effect) {
  return std::find_if(s.stack.begin(), s.stack.end(), [&](const Effect& e) { return e.id == effect; });
}

}  // namespace

TimelinePtr with_effect_added(const Timeline& timeline, const std::string& segment, Effect effect,
                              std::size_t at) {
  return with_stack(timeline, segment, [&](Segment& s) {
    if (effect.id.empty() || effect_of(s, effect.id)) effect.id = free_effect_id(s, effect.type);
    s.stack.insert(s.stack.begin() + static_cast<std::ptrdiff_t>(std::min(at, s.stack.size())),
                   std::move(effect));
    return true;
  });
}

TimelinePtr with_effect_removed(const Timeline& timeline, const std::string& segment,
                                const std::string& effect, const std::string& now_utc) {
  const TimelinePtr removed = with_stack(timeline, segment, [&](Segment& s) {
    const auto it = place_of(s, effect);
    if (it == s.stack.end()) return false;
    s.stack.erase(it);
    return true;
  });
  return removed ? with_bypass(*removed, segment, effect, false, now_utc) : nullptr;
}

TimelinePtr with_effect_moved(const Timeline& timeline, const std::string& segment, const std::string& effect,
                              std::size_t to) {
  return with_stack(timeline, segment, [&](Segment& s) {
    const auto it = place_of(s, effect);
    if (it == s.stack.end()) return false;
    Effect moved = std::move(*it);
    s.stack.erase(it);
    s.stack.insert(s.stack.begin() + static_cast<std::ptrdiff_t>(std::min(to, s.stack.size())),
                   std::move(moved));
    return true;
  });
}

TimelinePtr with_effect_device(const Timeline& timeline, const std::string& segment,
                               const std::string& effect, const std::string& device) {
  return with_stack(timeline, segment, [&](Segment& s) {
    Effect* e = effect_of(s, effect);
    if (e) e->device = device;
    return e != nullptr;
  });
}

std::string free_effect_id(const Segment& segment, const std::string& type) {
  for (int n = 1;; ++n) {
    const std::string id = segment.id + "-" + type + (n > 1 ? "-" + std::to_string(n) : "");
    if (std::none_of(segment.stack.begin(), segment.stack.end(), [&](const Effect& e) { return e.id == id; }))
      return id;
  }
}

bool has_subject(const Timeline& timeline, const Slip& slip) {
  const SegmentPtr s = find_segment(timeline, slip.segment);
  return s && std::any_of(s->stack.begin(), s->stack.end(),
                          [&](const Effect& e) { return e.id == slip.effect; });
}

bool bypassed(const Timeline& timeline, const std::string& segment, const std::string& effect) {
  return std::any_of(timeline.slips.begin(), timeline.slips.end(),
                     [&](const Slip& s) { return s.open() && s.segment == segment && s.effect == effect; });
}

TimelinePtr with_bypass(const Timeline& timeline, const std::string& segment, const std::string& effect,
                        bool on, const std::string& now_utc) {
  Slip wanted;
  wanted.segment = segment, wanted.effect = effect;
  if (on ? !has_subject(timeline, wanted) : !find_segment(timeline, segment)) return nullptr;
  auto copy = std::make_shared<Timeline>(timeline);
  if (on && !bypassed(timeline, segment, effect)) {
    Slip slip;
    slip.id = "slip-" + std::to_string(copy->slips.size() + 1);
    slip.segment = segment, slip.effect = effect, slip.opened = now_utc;
    copy->slips.push_back(std::move(slip));
  }
  if (!on)
    for (Slip& slip : copy->slips)
      if (slip.open() && slip.segment == segment && slip.effect == effect) slip.lifted = now_utc;
  return copy;
}

TimelinePtr as_played(const TimelinePtr& timeline) {
  TimelinePtr played = timeline;
  for (const Slip& slip : timeline->slips) {
    if (!slip.open()) continue;
    const SegmentPtr old = find_segment(*played, slip.segment);
    if (!old) continue;
    auto changed = std::make_shared<Segment>(*old);
    if (Effect* e = effect_of(*changed, slip.effect)) e->enabled = false;
    played = with_segment(*played, std::move(changed));
  }
  return played;
}

std::vector<SegmentPtr> video_segments(const Timeline& timeline) {
  std::vector<SegmentPtr> all;
  for (const TrackPtr& t : timeline.tracks) {
    if (!t->video) continue;
    for (const Item& item : t->items)
      if (const auto* s = std::get_if<SegmentPtr>(&item)) all.push_back(*s);
  }
  return all;
}

std::string timecode_at(const Timeline& t, Frames frame) { return timecode(t.start + frame, t.rate, t.drop_frame); }

TimelinePtr with_media(const Timeline& t, const std::string& source, const std::string& path, const std::string& url) {
  const auto it = t.sources.find(source);
  if (it == t.sources.end()) return nullptr;
  auto edited = std::make_shared<Timeline>(t);
  auto m = std::make_shared<MediaSource>(*it->second);
  m->path = path, m->url = url, m->name = std::filesystem::path(path.substr(0, path.rfind('#'))).filename().string();
  edited->sources[source] = std::move(m);
  return edited;
}

}  // namespace gc
