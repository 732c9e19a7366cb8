#include "demo/demo.h"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>

#include "base/clock.h"
#include "base/slow_volume.h"
#include "demo/kiln_media.h"
#include "demo/reel.h"
#include "demo/scaling.h"
#include "render/agree.h"

namespace gc {
namespace {

using namespace kiln;

class Builder {
 public:
  Builder(fs::path folder, const DemoOptions& o, HeavyStacks stacks)
      : folder_(std::move(folder)), o_(o), t_(std::make_shared<Timeline>()), stacks_(std::move(stacks)) {}

  TimelinePtr build() {
    t_->name = "The Kiln Year", t_->folder = folder_.string();
    t_->width = o_.width, t_->height = o_.height;
    t_->start = 24 * 3600;  // 01:00:00:00, as is common
    for (const SourcePlan& s : kSources) add_media(source_file(folder_, s), s.frames);
    composition();
    TrackPtr main = main_track(),
             inset = upper_track("V2", "Inset",
                                 {{7, 12, 60, 4, "Wheel, second camera"}, {16, 10, 60, 1, "Kiln gauge"}, {18, 12, 60, -1, "Shelf, once more"}});
    TrackPtr titles = title_track({{0, 24, 60, "The Kiln Year"},
                                   {5, 12, 60, "The glaze room"},
                                   {12, 6, 54, "Night firing"},
                                   {21, 0, 48, "For the people of the kiln"}});
    t_->tracks = {main, inset, titles, audio_track("A1", "room-tone.wav"), audio_track("A2", "rain.wav")};
    return t_;
  }
  int segments() const { return count_; }

 private:
  struct Inset {
    int over;
    Frames at, length;
    int source;
    const char* name;
  };
  struct TitleAt {
    int over;
    Frames at, length;
    const char* text;
  };

  Frames scaled(Frames f) const {
    return std::max<Frames>(6, static_cast<Frames>(std::lround(static_cast<double>(f) * o_.length)));
  }

  void add_media(const fs::path& file, Frames length) {
    auto m = std::make_shared<MediaSource>();
    m->id = file.stem().string();
    m->path = file.string();
    m->name = file.filename().string();
    m->url = "media/" + m->name;
    m->length = length;
    t_->sources[m->id] = m;
  }

  std::shared_ptr<Segment> segment(const std::string& name, Frames length) {
    auto s = std::make_shared<Segment>();
    s->id = fmt::format("ky-{:02}", ++count_);
    s->name = name;
    s->duration = length;
    return s;
  }

  TrackPtr main_track() {
    auto track = std::make_shared<Track>();
    track->id = "V1", track->name = "Picture";
    Frames at = 0;
    for (const SegmentPlan& plan : kMain) {
      auto s = segment(plan.name, scaled(plan.length));
      s->note = plan.note;
      s->source_in = plan.in;
      if (plan.source >= 0) s->ref = kSources[plan.source].name;
      if (plan.source == -1) s->content = Content::composition, s->ref = "shelf-of-bowls", s->source_in = 0;
      if (plan.source == -2)
        s->content = Content::generator, s->ref = "solid", s->generator = {{"colour", {0.035, 0.03, 0.028}}};
      if (const auto heavy = stacks_.find(&plan); heavy != stacks_.end()) s->stack = heavy->second;
      for (Effect& e : s->stack) e.id = s->id + e.id;
      // A softened shot is graded first: nothing lies above its softness that could stay live.
      if (plan.graded) s->stack.insert(plan.soft ? s->stack.begin() : s->stack.end(), grade(s->id + "-grade"));
      if (std::string_view(plan.name) == "Bowl on the bench") {
        Transition dissolve;
        dissolve.id = "ky-dissolve",
        dissolve.in_offset = dissolve.out_offset = std::min<Frames>(12, s->duration / 3);
        track->items.push_back(dissolve);
      }
      starts_.push_back(at);
      at += s->duration;
      track->items.push_back(SegmentPtr(s));
    }
    length_ = at;
    return track;
  }

  /// Puts items above main segments, with gaps between them.
  template <class At, class Make>
  TrackPtr above(const char* id, const char* name, const std::vector<At>& items, Make&& make) {
    auto track = std::make_shared<Track>();
    track->id = id, track->name = name;
    Frames at = 0;
    for (const At& i : items) {
      const Frames start = starts_[static_cast<std::size_t>(i.over)] +
                           static_cast<Frames>(static_cast<double>(i.at) * o_.length);
      if (start > at) track->items.push_back(Gap{start - at, {}});
      SegmentPtr s = make(i);
      at = start + s->duration;
      track->items.push_back(std::move(s));
    }
    return track;
  }

  TrackPtr upper_track(const char* id, const char* name, const std::vector<Inset>& items) {
    return above(id, name, items, [&](const Inset& i) {
      auto s = segment(i.name, scaled(i.length));
      if (i.source < 0) s->content = Content::composition, s->ref = "shelf-of-bowls", s->source_in = 12;
      else s->ref = kSources[i.source].name, s->source_in = 40;
      s->stack = {effect(s->id + "-place", "transform",
                         {{"x", 0.79}, {"y", 0.25}, {"scale", 0.34}, {"opacity", 0.92}})};
      return s;
    });
  }

  TrackPtr title_track(const std::vector<TitleAt>& items) {
    return above("V3", "Titles", items, [&](const TitleAt& i) {
      auto s = segment(std::string("Title: ") + i.text, scaled(i.length));
      s->content = Content::generator, s->ref = "title";
      s->generator = {{"text", i.text},
                      {"size", i.over == 0 || i.over == 21 ? 0.11 : 0.06},
                      {"x", 0.5},
                      {"y", i.over == 0 || i.over == 21 ? 0.5 : 0.86}};
      return s;
    });
  }

  /// Two layers: a bowl, and a smaller picture of dust laid over it.
  void composition() {
    auto c = std::make_shared<Composition>();
    c->id = "shelf-of-bowls", c->name = "Shelf of bowls";
    auto below = std::make_shared<Track>(), over = std::make_shared<Track>();
    below->id = "shelf-below", below->name = "Bowl", over->id = "shelf-over", over->name = "Inset";
    auto a = segment(kShelf.name, scaled(kShelf.length));
    a->ref = kSources[kShelf.source].name, a->source_in = kShelf.in;
    if (const auto heavy = stacks_.find(&kShelf); heavy != stacks_.end()) a->stack = heavy->second;
    for (Effect& e : a->stack) e.id = a->id + e.id;
    auto b = segment("Dust, inset", scaled(96));
    b->ref = kSources[3].name, b->source_in = 20;
    b->stack = {
        effect("shelf-place", "transform", {{"x", 0.24}, {"y", 0.7}, {"scale", 0.4}, {"opacity", 0.85}})};
    below->items.push_back(SegmentPtr(a)), over->items.push_back(SegmentPtr(b));
    c->tracks = {below, over};
    t_->compositions[c->id] = c;
  }

  TrackPtr audio_track(const char* id, const char* file) {
    const std::string stem = fs::path(file).stem().string();
    add_media(folder_ / "media" / file, 20 * 24);
    auto track = std::make_shared<Track>();
    track->id = id, track->name = stem, track->video = false;
    for (Frames at = 0; at < length_;) {
      auto s = std::make_shared<Segment>();
      s->id = fmt::format("{}-{}", id, track->items.size() + 1);
      s->name = stem, s->ref = stem;
      s->duration = std::min<Frames>(20 * 24, length_ - at);
      at += s->duration;
      track->items.push_back(SegmentPtr(s));
    }
    return track;
  }

  fs::path folder_;
  DemoOptions o_;
  std::shared_ptr<Timeline> t_;
  HeavyStacks stacks_;
  std::vector<Frames> starts_;
  Frames length_ = 0;
  int count_ = 0;
};

TimelinePtr with_stated_costs(TimelinePtr t) {
  const double budget = t->rate.frame_ms() * default_workers();
  for (const SegmentPtr& s : video_segments(*t)) {
    auto changed = std::make_shared<Segment>(*s);
    std::erase_if(changed->stack, [](const Effect& e) { return e.type == "spatial_nr" || e.type == "blur"; });
    // One light segment has something below its grade that can be kept while the grade stays live.
    if (s->id == "ky-14") changed->stack.insert(changed->stack.begin(), blur("ky-14-soft", 0.8));
    for (const StatedCost& c : kStated)
      if (s->id == c.segment)
        // Above the grade: no part of the stack could be kept below it, so that what is planned are pre-renders.
        changed->stack.push_back(
            Effect{s->id + "-stated",
                   "cost_card",
                   {{"name", "stated"}, {"ms", c.load * budget}, {"width", t->width}, {"height", t->height}},
                   true,
                   true,
                   {},
                   {}});
    t = with_segment(*t, std::move(changed));
  }
  return t;
}

}  // namespace

Result<DemoReport> make_demo(const fs::path& wanted, const DemoOptions& options,
                             const std::function<void(double, const std::string&)>& progress) {
  const Stopwatch watch;
  const fs::path folder = fs::absolute(wanted).lexically_normal();
  auto made = make_media(folder, options, progress);
  if (!made) return std::unexpected(made.error());
  if (progress) progress(0.85, "Measuring this seat to scale the heavy segments");
  const Laws laws = options.stated ? Laws{} : learn(folder, options);
  DemoReport report;
  if (progress) progress(0.9, "Checking the heavy segments");
  HeavyStacks stacks = options.stated ? HeavyStacks{} : settle(folder, options, laws, report.settled);
  Builder builder(folder, options, std::move(stacks));
  const TimelinePtr timeline = options.stated ? with_stated_costs(builder.build()) : builder.build();
  // A drive to be warned of: cached media on it would not play. `gclk seat --volume` finds it out.
  if (auto r = make_slow_volume(folder / "slow-drive", {12, 10, 3, 0, 0}); !r)
    return std::unexpected(r.error());
  report.timeline = folder / "the-kiln-year.otio";
  if (auto r = save_timeline(*timeline, report.timeline); !r) return std::unexpected(r.error());
  const fs::path lut = folder / "media" / "kiln-warm.cube";
  if (auto r = write_file_atomic(lut, made_up_cube(33)); !r) return std::unexpected(r.error());
  ReelMedia reel;
  reel.lut = lut.string(), reel.width = options.width, reel.height = options.height;
  for (const SourcePlan& s : kSources) reel.sources[s.scene] = timeline->sources.at(s.name);
  report.reel = folder / "effects-reel.otio";
  if (auto r = save_timeline(*effects_reel(reel), report.reel); !r) return std::unexpected(r.error());
  report.segments = builder.segments();
  report.sources = static_cast<int>(std::size(kSources));
  report.seconds_of_picture = static_cast<double>(timeline->duration()) / 24;
  report.media_made = *made;
  report.seconds_taken = watch.ms() / 1000;
  if (options.stated) {
    report.scaling = "Heavy segments take a stated time of every frame; nothing was measured.";
    if (progress) progress(1, "The demo is ready");
    return report;
  }
  std::string loads;
  for (const auto& [name, load] : report.settled) loads += fmt::format("{}{:.2f}", loads.empty() ? "" : ", ", load);
  report.scaling = fmt::format(
      "A light frame takes {:.0f} ms of work here, a load of {:.2f} on {} processors. Heavy segments were given effects, "
      "looked at five times each, and came to loads of {}.",
      laws.base, laws.base / budget_of_all(), default_workers(), loads);
  if (laws.base > 0.9 * budget_of_all()) report.scaling += " This seat is too slow for light segments to hold.";
  if (progress) progress(1, "The demo is ready");
  return report;
}

}  // namespace gc
