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

const char* truth_name(Truth truth) {
  return truth == Truth::exact ? "exact" : truth == Truth::picture ? "picture" : "timing";
}
std::optional<Truth> truth_named(const std::string& name) {
  for (const Truth t : {Truth::timing, Truth::picture, Truth::exact})
    if (name == truth_name(t)) return t;
  return std::nullopt;
}

bool Slip::same_as(const Slip& o) const {
  return kind == o.kind && segment == o.segment && effect == o.effect && subject == o.subject && size == o.size && in == o.in &&
         out == o.out && region == o.region;
}

std::string slip_text(const Timeline& t, const Slip& slip) {
  const SegmentPtr s = find_segment(t, slip.segment);
  const std::string name = s ? s->name : slip.segment;
  const std::string k = slip.kind, size = "1/" + std::to_string(slip.size);
  if (k == slip_kind::bypass) {
    std::string effect = slip.effect;
    if (s)
      for (const Effect& e : s->stack)
        if (e.id == slip.effect) effect = e.type;
    return effect + " of '" + name + "' is bypassed";
  }
  if (k == slip_kind::bypass_segment) return "all effects of '" + name + "' are bypassed";
  if (k == slip_kind::bypass_type) return "every " + slip.subject + " is bypassed";
  if (k == slip_kind::bypass_track) return "effects on track '" + slip.subject + "' are bypassed";
  if (k == slip_kind::bypass_all) return "all effects are bypassed";
  if (k == slip_kind::picture_off) return "the picture is off";
  if (k == slip_kind::scale) return "playback at " + size + (slip.out > 0 ? " from " + timecode_at(t, slip.in) + " to " + timecode_at(t, slip.out) : "");
  if (k == slip_kind::proxy) {
    const auto m = t.sources.find(slip.subject);
    return (slip.subject.empty() ? "every source" : m == t.sources.end() ? slip.subject : m->second->name) + " plays from copies of " + size;
  }
  if (k == slip_kind::region) return "only a region of the picture is made";
  if (k == slip_kind::draft) return "scaling is draft";
  if (k == slip_kind::half) return "pictures are rounded to half precision";
  return "a measure of another kind (" + k + ")";
}

bool has_subject(const Timeline& timeline, const Slip& slip) {
  if (slip.kind == slip_kind::bypass) {
    const SegmentPtr s = find_segment(timeline, slip.segment);
    return s && std::any_of(s->stack.begin(), s->stack.end(), [&](const Effect& e) { return e.id == slip.effect; });
  }
  if (slip.kind == slip_kind::bypass_segment) return find_segment(timeline, slip.segment) != nullptr;
  if (slip.kind == slip_kind::proxy) return slip.subject.empty() || timeline.sources.contains(slip.subject);
  if (slip.kind == slip_kind::bypass_track)
    return std::any_of(timeline.tracks.begin(), timeline.tracks.end(), [&](const TrackPtr& t) { return t->id == slip.subject; });
  if (slip.kind == slip_kind::scale) return slip.in < timeline.duration();
  return true;
}

TimelinePtr with_slip(const Timeline& timeline, Slip slip, const std::string& now_utc) {
  if (!has_subject(timeline, slip)) return nullptr;
  auto copy = std::make_shared<Timeline>(timeline);
  if (std::any_of(copy->slips.begin(), copy->slips.end(), [&](const Slip& s) { return s.open() && s.same_as(slip); })) return copy;
  // One scale, proxy or region of a thing at a time: the new one takes the place of the old.
  for (Slip& s : copy->slips) {
    const bool instead = s.open() && s.kind == slip.kind && s.subject == slip.subject && s.in == slip.in && s.out == slip.out &&
                         (s.kind == slip_kind::scale || s.kind == slip_kind::proxy || s.kind == slip_kind::region);
    if (instead) s.lifted = now_utc;
  }
  slip.id = "slip-" + std::to_string(copy->slips.size() + 1);
  slip.opened = now_utc, slip.lifted.clear();
  copy->slips.push_back(std::move(slip));
  return copy;
}

TimelinePtr with_lifted(const Timeline& timeline, const std::function<bool(const Slip&)>& which, const std::string& now_utc) {
  auto copy = std::make_shared<Timeline>(timeline);
  bool any = false;
  for (Slip& s : copy->slips)
    if (s.open() && which(s)) s.lifted = now_utc, any = true;
  return any ? copy : nullptr;
}

TimelinePtr with_acceptance(const Timeline& timeline, Acceptance acceptance) {
  auto copy = std::make_shared<Timeline>(timeline);
  std::erase_if(copy->acceptances, [&](const Acceptance& a) { return a.item == acceptance.item; });
  copy->acceptances.push_back(std::move(acceptance));
  return copy;
}

TimelinePtr with_acceptance_withdrawn(const Timeline& timeline, const std::string& item) {
  auto copy = std::make_shared<Timeline>(timeline);
  return std::erase_if(copy->acceptances, [&](const Acceptance& a) { return a.item == item; }) > 0 ? copy : nullptr;
}

TimelinePtr with_truth(const Timeline& timeline, const std::vector<std::string>& segments, Truth truth) {
  TimelinePtr edited = std::make_shared<Timeline>(timeline);
  for (const std::string& id : segments) {
    const SegmentPtr old = find_segment(*edited, id);
    if (!old) return nullptr;
    auto changed = std::make_shared<Segment>(*old);
    changed->truth = truth;
    edited = with_segment(*edited, std::move(changed));
  }
  return edited;
}

TimelinePtr with_angle(const Timeline& timeline, const std::string& segment, const std::string& angle) {
  const SegmentPtr old = find_segment(timeline, segment);
  if (!old) return nullptr;
  const auto it = old->angles.find(angle);
  if (it == old->angles.end() || !timeline.sources.contains(it->second)) return nullptr;
  auto changed = std::make_shared<Segment>(*old);
  changed->angle = angle, changed->ref = it->second, changed->content = Content::source;
  return with_segment(timeline, std::move(changed));
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

namespace {

/// A copy of tracks with every segment changed by `edit`, which says whether it did anything.
std::vector<TrackPtr> with_each(const std::vector<TrackPtr>& tracks, const std::function<bool(Segment&, const Track&)>& edit) {
  std::vector<TrackPtr> all;
  for (const TrackPtr& t : tracks) {
    auto track = std::make_shared<Track>(*t);
    bool changed = false;
    for (Item& item : track->items)
      if (auto* s = std::get_if<SegmentPtr>(&item)) {
        auto copy = std::make_shared<Segment>(**s);
        if (edit(*copy, *t)) item = SegmentPtr(copy), changed = true;
      }
    all.push_back(changed ? TrackPtr(track) : t);
  }
  return all;
}

}  // namespace

TimelinePtr as_played(const TimelinePtr& timeline) {
  std::vector<const Slip*> open;
  for (const Slip& s : timeline->slips)
    if (s.open() && s.kind != slip_kind::scale && s.kind != slip_kind::region && s.kind != slip_kind::draft && s.kind != slip_kind::half)
      open.push_back(&s);
  if (open.empty()) return timeline;
  const auto off = [](Segment& s, const std::function<bool(const Effect&)>& which) {
    bool any = false;
    for (Effect& e : s.stack)
      if (e.enabled && e.type != "retime" && which(e)) e.enabled = false, any = true;
    return any;
  };
  const auto edit = [&](Segment& s, const Track& track) {
    bool changed = false;
    for (const Slip* slip : open) {
      const std::string& k = slip->kind;
      if (k == slip_kind::bypass && s.id == slip->segment) changed |= off(s, [&](const Effect& e) { return e.id == slip->effect; });
      else if (k == slip_kind::bypass_segment && s.id == slip->segment) changed |= off(s, [](const Effect&) { return true; });
      else if (k == slip_kind::bypass_type) changed |= off(s, [&](const Effect& e) { return e.type == slip->subject; });
      else if (k == slip_kind::bypass_track && track.id == slip->subject) changed |= off(s, [](const Effect&) { return true; });
      else if (k == slip_kind::bypass_all) changed |= off(s, [](const Effect&) { return true; });
      else if (k == slip_kind::proxy && s.content == Content::source && (slip->subject.empty() || slip->subject == s.ref) && s.copies < slip->size)
        s.copies = slip->size, changed = true;
    }
    return changed;
  };
  auto played = std::make_shared<Timeline>(*timeline);
  played->tracks = with_each(timeline->tracks, edit);
  for (auto& [id, c] : played->compositions) {
    auto copy = std::make_shared<Composition>(*c);
    copy->tracks = with_each(c->tracks, edit);
    c = std::move(copy);
  }
  if (std::any_of(open.begin(), open.end(), [](const Slip* s) { return s->kind == slip_kind::picture_off; }))
    for (TrackPtr& t : played->tracks)
      if (t->video) {
        auto copy = std::make_shared<Track>(*t);
        copy->enabled = false, t = std::move(copy);
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
