#include "interchange/conform.h"

#include <fmt/format.h>

#include <cmath>
#include <filesystem>
#include <set>

#include "timeline/keys.h"

namespace gc {
namespace {

/// A segment where it lies on the timeline, and what it shows of its source, seconds.
struct Placed {
  SegmentPtr segment;
  FrameRange at;
  std::string medium, file;  ///< path of its source; of others what they are
  double from = 0, to = 0;
};

std::vector<Placed> placed(const Timeline& t) {
  std::vector<Placed> all;
  for (const TrackPtr& track : t.tracks) {
    if (!track->video) continue;
    Frames at = 0;
    for (const Item& item : track->items) {
      if (const auto* gap = std::get_if<Gap>(&item)) at += gap->duration;
      if (const auto* opaque = std::get_if<Opaque>(&item)) at += opaque->duration;
      const auto* s = std::get_if<SegmentPtr>(&item);
      if (!s) continue;
      Placed p{*s, {at, at + (*s)->duration}, {}, {}, 0, 0};
      at += (*s)->duration;
      const auto source = t.sources.find((*s)->ref);
      const bool shot = (*s)->content == Content::source && source != t.sources.end();
      const Rate counted = (*s)->source_rate.fps() > 0 ? (*s)->source_rate : shot ? source->second->rate : t.rate;
      p.from = static_cast<double>((*s)->source_in) / counted.fps();
      p.to = p.from + static_cast<double>((*s)->duration) / t.rate.fps() * std::abs((*s)->speed.value());
      p.medium = shot ? source->second->path : fmt::format("{}:{}:{}", static_cast<int>((*s)->content), (*s)->ref, (*s)->name);
      p.file = shot ? std::filesystem::path(p.medium).stem().string() : p.medium;
      all.push_back(std::move(p));
    }
  }
  return all;
}

/// Seconds of pictures that both show; −1 when they are of different sources.
double shared(const Placed& a, const Placed& b) {
  if (a.medium != b.medium && a.file != b.file) return -1;
  if (a.segment->content != Content::source) return static_cast<double>(std::min(a.at.length(), b.at.length()));
  const double most = std::min(a.to, b.to) - std::max(a.from, b.from);
  // Stills of a frozen frame show no length of their source.
  if (most <= 0 && a.segment->speed.num == 0 && b.segment->speed.num == 0 && a.from == b.from) return 1e-3;
  return most > 0 ? most : -1;
}

Frames head_room(const Placed& was, const Placed& now, Rate rate) {
  const double speed = std::abs(was.segment->speed.value());
  return speed > 0 && was.segment->speed.num > 0 ? static_cast<Frames>(std::lround((was.from - now.from) / speed * rate.fps())) : 0;
}

/// The new segment with what was done to the old one.
SegmentPtr taken_over(const Placed& was, const Placed& now, Rate rate, bool keep_id, std::vector<std::string>& remarks) {
  auto s = std::make_shared<Segment>(*now.segment);
  const Segment& old = *was.segment;
  const Frames by = head_room(was, now, rate);
  if (keep_id) s->id = old.id;
  if (s->stack.empty()) {
    s->stack = old.stack;
    for (Effect& e : s->stack)
      for (auto& [name, value] : e.params.items()) value = with_keys_moved(value, by);
  } else if (!old.stack.empty()) {
    remarks.push_back(fmt::format("'{}' has effects in the new cut; those of the old one are not taken over.", s->name));
  }
  if (s->note.empty()) s->note = old.note;
  if (s->blend == "normal") s->blend = old.blend;
  if (s->opacity == Json(1.0)) s->opacity = with_keys_moved(old.opacity, by);
  if (s->matte.track.empty()) s->matte = old.matte;
  if (s->fit == Fit::fit) s->fit = old.fit;
  if (s->between == Between::nearest) s->between = old.between;
  if (s->angles.empty()) s->angles = old.angles, s->angle = old.angles.empty() ? s->angle : old.angle;
  s->truth = old.truth;
  return s;
}

}  // namespace

const char* conformed_name(Conformed::What what) {
  static constexpr const char* kNames[] = {"same", "moved", "trimmed", "added", "gone"};
  return kNames[static_cast<std::size_t>(what)];
}

int Conform::count(Conformed::What what) const {
  return static_cast<int>(std::ranges::count_if(changes, [&](const Conformed& c) { return c.what == what; }));
}

Conform conform(const Timeline& old_cut, const Timeline& new_cut) {
  const std::vector<Placed> was = placed(old_cut), now = placed(new_cut);
  Conform done;
  auto t = std::make_shared<Timeline>(new_cut);
  t->working_space = old_cut.working_space, t->display_space = old_cut.display_space;
  if (!t->drop_frame) t->drop_frame = old_cut.drop_frame;
  if (!t->raster_stated) t->width = old_cut.width, t->height = old_cut.height, t->raster_stated = old_cut.raster_stated;
  for (const auto& card : old_cut.cards) t->cards.insert(card);
  for (const auto& composition : old_cut.compositions) t->compositions.insert(composition);
  for (const auto& source : old_cut.sources)
    if (std::ranges::none_of(new_cut.sources, [&](const auto& other) { return other.second->path == source.second->path; })) t->sources.insert(source);
  t->slips = old_cut.slips;
  t->acceptances = old_cut.acceptances;
  if (t->name.empty()) t->name = old_cut.name;

  // Which is which: most shared pictures first, then the nearest on the timeline.
  std::vector<std::size_t> from(now.size(), was.size());
  for (std::size_t n = 0; n < now.size(); ++n) {
    double best = 0;
    for (std::size_t o = 0; o < was.size(); ++o) {
      const double pictures = shared(was[o], now[n]);
      if (pictures <= 0) continue;
      const bool nearer = from[n] < was.size() && std::abs(was[o].at.in - now[n].at.in) < std::abs(was[from[n]].at.in - now[n].at.in);
      if (pictures > best + 1e-6 || (pictures > best - 1e-6 && nearer)) best = pictures, from[n] = o;
    }
  }
  // The part that shares most keeps the id.
  std::vector<std::size_t> heir(was.size(), now.size());
  for (std::size_t n = 0; n < now.size(); ++n)
    if (const std::size_t o = from[n]; o < was.size() && (heir[o] == now.size() || shared(was[o], now[n]) > shared(was[o], now[heir[o]]) + 1e-6)) heir[o] = n;
  std::set<std::string> ids;
  for (std::size_t o = 0; o < was.size(); ++o)
    if (heir[o] < now.size()) ids.insert(was[o].segment->id);

  std::map<const Segment*, SegmentPtr> replaced;
  for (std::size_t n = 0; n < now.size(); ++n) {
    const Placed& p = now[n];
    SegmentPtr s = p.segment;
    Conformed change{Conformed::What::added, s->id, s->name, {}, p.at};
    const bool known = from[n] < was.size(), keeps = known && heir[from[n]] == n;
    if (known) s = taken_over(was[from[n]], p, new_cut.rate, keeps, done.remarks);
    if (!keeps && !ids.insert(s->id).second) {
      auto renamed = std::make_shared<Segment>(*s);
      for (int k = 2; !ids.insert(renamed->id).second; ++k) renamed->id = fmt::format("{}-{}", s->id, k);
      s = renamed;
    }
    if (known) {
      const Placed& o = was[from[n]];
      const double tolerance = 0.5 / new_cut.rate.fps();
      const bool whole = std::abs(o.from - p.from) < tolerance && std::abs(o.to - p.to) < tolerance && o.at.length() == p.at.length() && o.segment->speed == p.segment->speed;
      change.was = o.at;
      change.what = !whole ? Conformed::What::trimmed : o.at == p.at ? Conformed::What::same : Conformed::What::moved;
      if (!s->matte.track.empty() && std::ranges::none_of(t->tracks, [&](const TrackPtr& track) { return track->id == s->matte.track; })) {
        done.remarks.push_back(fmt::format("The matte of '{}' was track {}, which the new cut does not have.", s->name, s->matte.track));
        auto plain = std::make_shared<Segment>(*s);
        plain->matte = {};
        s = plain;
      }
    }
    change.segment = s->id;
    replaced[p.segment.get()] = s;
    done.changes.push_back(change);
  }
  for (TrackPtr& track : t->tracks) {
    auto copy = std::make_shared<Track>(*track);
    for (Item& item : copy->items)
      if (auto* s = std::get_if<SegmentPtr>(&item))
        if (const auto it = replaced.find(s->get()); it != replaced.end()) *s = it->second;
    track = copy;
  }
  for (std::size_t o = 0; o < was.size(); ++o)
    if (heir[o] == now.size()) done.changes.push_back({Conformed::What::gone, was[o].segment->id, was[o].segment->name, was[o].at, {}});
  const std::size_t before = t->slips.size();
  std::erase_if(t->slips, [&](const Slip& slip) { return slip.open() && !has_subject(*t, slip); });
  if (const std::size_t lost = before - t->slips.size(); lost > 0)
    done.remarks.push_back(fmt::format("{} slip{} of what is gone {} lifted.", lost, lost == 1 ? "" : "s", lost == 1 ? "is" : "are"));
  done.timeline = t;
  return done;
}

}  // namespace gc
