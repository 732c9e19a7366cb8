#include "demo/demo.h"

#include <fmt/format.h>

#include <algorithm>
#include <atomic>
#include <cmath>
#include <map>
#include <thread>

#include "base/clock.h"
#include "base/slow_volume.h"
#include "demo/reel.h"
#include "forecast/forecast.h"
#include "measure/measure.h"
#include "media/synthetic.h"
#include "media/writer.h"
#include "render/agree.h"

namespace gc {
namespace {

struct SourcePlan {
  const char* name;
  const char* scene;
  Form form;
  Frames frames;
  float grain;
};

constexpr SourcePlan kSources[] = {
    {"bowl-turning", "bowl", Form::h264_long_gop, 288, 0.03f},
    {"kiln-glow", "kiln", Form::vc3_sq, 192, 0.0f},
    {"rain-window", "rain", Form::h264_intra, 240, 0.02f},
    {"dust-beam", "dust", Form::motion_jpeg, 192, 0.0f},
    {"hands-wheel", "hands", Form::h264_long_gop, 288, 0.02f},
    {"night-firing", "firing", Form::h264_long_gop, 240, 0.035f},
};

/// How heavy a segment is made, as a target load; 0 leaves it light.
struct SegmentPlan {
  const char* name;
  int source;  ///< −1: the composition, −2: a solid
  Frames in, length;
  bool graded;
  double target;
  bool soft;  ///< its heavy part is blur rather than noise reduction
  const char* note;
};

constexpr SegmentPlan kMain[] = {
    {"Morning at the pottery", 2, 0, 96, true, 0, false, "Open on the window. Keep it quiet."},
    {"Bowl, first turn", 0, 24, 84, true, 0, false, ""},
    {"Bowl, glaze close", 0, 120, 96, true, 1.55, false,
     "Noise danced in the glaze; judge the clean-up in motion."},
    {"Hands, centring", 4, 0, 96, false, 0, false, ""},
    {"Hands, opening", 4, 100, 84, true, 0.97, false, "Skin a touch warmer, please."},
    {"Dust in the beam", 3, 0, 96, true, 0, false, ""},
    {"Dust, slow haze", 3, 60, 72, true, 2.3, true, "Softness agreed. Watch the beam for banding."},
    {"Kiln, door ajar", 1, 0, 84, true, 0, false, ""},
    {"Kiln, glow and smoke", 1, 60, 96, true, 1.3, false, "Does the glow flicker? Only real time shows it."},
    {"Shelf of bowls", -1, 0, 96, true, 0, false, "Inset is a placeholder."},
    {"Rain, second pass", 2, 96, 72, false, 0, false, ""},
    {"Firing, sparks", 5, 0, 96, true, 1.0, false, "Sparks must stay sharp."},
    {"Firing, first flame", 5, 96, 72, true, 0, false, ""},
    {"Firing, long watch", 5, 120, 96, true, 1.8, false, "Darkest shot of the reel; noise in the hillside."},
    {"Hands, lifting the wall", 4, 180, 90, true, 0, false, ""},
    {"Bowl on the bench", 0, 24, 72, false, 0, false, ""},
    {"Window, evening", 2, 150, 84, true, 0, false, ""},
    {"Kiln, cooling", 1, 96, 84, true, 0, false, ""},
    {"Dust settles", 3, 96, 90, false, 0, false, ""},
    {"Last bowl", 0, 150, 96, true, 0, false, "Hold for the music."},
    {"Night, embers", 5, 30, 96, true, 0, false, ""},
    {"End card", -2, 0, 48, false, 0, false, ""},
};

/// The heavy layer of the composition, which is shown twice: baking it once serves both.
constexpr SegmentPlan kShelf{"Bowl, for the shelf", 0, 60, 96, false, 1.05, false, ""};

Result<void> make_source(const fs::path& file, const SourcePlan& plan, const DemoOptions& o,
                         std::atomic<Frames>& done) {
  const fs::path temporary = file.string() + ".making" + form_extension(plan.form);
  auto writer = MovieWriter::create(temporary.string(), plan.form, o.width, o.height, {24, 1});
  if (!writer) return std::unexpected(writer.error());
  for (Frames n = 0; n < plan.frames; ++n) {
    if (auto r = (*writer)->write(synthetic_frame(plan.scene, n, o.width, o.height, o.seed, plan.grain)); !r)
      return r;
    ++done;
  }
  if (auto r = (*writer)->finish(); !r) return r;
  return sync_and_rename(temporary, file);
}

Result<void> make_tone(const fs::path& file, std::uint32_t seed, double brightness) {
  // Room tone: brown noise, very low.
  std::vector<std::int16_t> samples(48000 * 20);
  std::uint32_t state = seed | 1U;
  double level = 0;
  for (std::int16_t& s : samples) {
    state ^= state << 13, state ^= state >> 17, state ^= state << 5;
    level = level * (1 - brightness) + (static_cast<double>(state) / 4294967296.0 - 0.5) * brightness;
    s = static_cast<std::int16_t>(level * 9000);
  }
  return write_wav(file.string(), samples);
}

fs::path source_file(const fs::path& folder, const SourcePlan& s) {
  return folder / "media" / (std::string(s.name) + form_extension(s.form));
}

Result<bool> make_media(const fs::path& folder, const DemoOptions& o,
                        const std::function<void(double, const std::string&)>& progress) {
  std::error_code e;
  fs::create_directories(folder / "media", e);
  if (e)
    return environment("the demo folder cannot be made: " + e.message(), folder.string(),
                       "Choose a folder that may be written to.");
  std::vector<const SourcePlan*> missing;
  Frames total = 0;
  // A stamp says of which seed and raster the media are, so that they are made once.
  const std::string stamp = fmt::format("seed {} raster {}x{} pictures 3\n", o.seed, o.width, o.height);
  const auto found = read_file(folder / "media" / "made-from.txt");
  const bool same = found && *found == stamp;
  for (const SourcePlan& s : kSources)
    if (!same || !fs::exists(source_file(folder, s))) missing.push_back(&s), total += s.frames;
  if (missing.empty()) return false;
  std::sort(missing.begin(), missing.end(),
            [](const SourcePlan* a, const SourcePlan* b) { return a->frames > b->frames; });
  std::atomic<std::size_t> next{0};
  std::atomic<Frames> done{0};
  std::mutex mutex;
  std::optional<Error> error;
  std::vector<std::thread> threads;
  for (int i = 0; i < default_workers(); ++i)
    threads.emplace_back([&] {
      for (std::size_t n = next++; n < missing.size(); n = next++) {
        if (progress && i == 0)
          progress(0.8 * static_cast<double>(done) / static_cast<double>(total),
                   fmt::format("Painting {}", missing[n]->name));
        if (auto r = make_source(source_file(folder, *missing[n]), *missing[n], o, done); !r) {
          const std::lock_guard lock(mutex);
          error = r.error();
          return;
        }
      }
    });
  for (std::thread& t : threads) t.join();
  if (error) return std::unexpected(*error);
  for (const auto& [name, brightness] : {std::pair{"room-tone.wav", 0.01}, std::pair{"rain.wav", 0.2}})
    if (auto r = make_tone(folder / "media" / name, o.seed, brightness); !r)
      return std::unexpected(r.error());
  if (auto r = write_file_atomic(folder / "media" / "made-from.txt", stamp); !r)
    return std::unexpected(r.error());
  return true;
}

// ---- scaling the heavy segments to this seat ----

Effect effect(const std::string& id, const char* type, Json params) {
  return {id, type, std::move(params), true, true, {}};
}
Effect grade(const std::string& id) {
  return effect(id, "cdl",
                {{"slope", {1.06, 1.0, 0.94}},
                 {"offset", {-0.01, -0.005, 0.0}},
                 {"power", {1.0, 1.0, 1.02}},
                 {"saturation", 1.08}});
}
Effect noise_reduction(const std::string& id, int radius) {
  return effect(id, "spatial_nr", {{"radius", radius}, {"strength", 0.1}});
}
Effect blur(const std::string& id, double sigma) { return effect(id, "blur", {{"sigma", sigma}}); }

/// A source with a stack on it, to be looked at for a moment: what its frames take here, run flat out.
class Look {
 public:
  Look(const fs::path& file, const SourcePlan& plan, const DemoOptions& o, std::vector<Effect> stack)
      : length_(plan.frames) {
    auto t = std::make_shared<Timeline>();
    t->width = o.width, t->height = o.height;
    auto m = std::make_shared<MediaSource>();
    m->id = "m", m->path = file.string(), m->length = plan.frames;
    t->sources["m"] = m;
    auto s = std::make_shared<Segment>();
    s->id = "s", s->ref = "m", s->duration = plan.frames, s->stack = std::move(stack);
    auto track = std::make_shared<Track>();
    track->items.push_back(SegmentPtr(s));
    t->tracks.push_back(track);
    MediaCatalog media;
    program_ = Program::compile(t, media);
  }
  /// Some frames, from another place each time. Not the first ones, which find the pipeline half empty.
  void again() {
    const int workers = default_workers();
    std::vector<Frames> frames;
    for (Frames f = 0; f < 4 + 2 * workers; ++f) frames.push_back((from_ + f) % length_);
    from_ += 40;
    const std::vector<FrameResult> results = run_flat_out(program_, nullptr, std::move(frames), workers);
    std::vector<float> work;
    for (std::size_t i = static_cast<std::size_t>(workers); i < results.size(); ++i)
      work.push_back(static_cast<float>(results[i].done_ms - results[i].fetch_began_ms - stood_in_line(results[i])));
    looks_.push_back(static_cast<float>(median_of(work).median));
  }
  /// What a frame waited for processors that other programs had, ms: it is heavy by what it costs, not by who else is there.
  static double stood_in_line(const FrameResult& r) {
    double ms = 0;
    for (const StageSample& s : r.stages)
      if (!s.by_wall) ms += static_cast<double>(std::max(0.0f, s.wall_ms - s.cpu_ms));
    return ms;
  }
  /// A frame's whole work, ms: the middle one of the looks, so that one slow moment does not count.
  double ms() const { return median_of(looks_).median; }

 private:
  ProgramPtr program_;
  Frames length_, from_ = 0;
  std::vector<float> looks_;
};

/// Looks at all of them in turn, several times over: a slow second is one look of each at most.
void look_at(std::vector<Look>& all, int times = 3) {
  for (int i = 0; i < times; ++i)
    for (Look& l : all) l.again();
}

/// What the two heavy effects cost here, as straight lines.
struct Laws {
  double base = 0;     // decode, convert, grade, display
  double nr[16] = {};  // by radius
  double blur_fixed = 0, blur_px = 0;
};

Laws learn(const fs::path& folder, const DemoOptions& o) {
  const SourcePlan& s = kSources[0];
  const fs::path file = source_file(folder, s);
  std::vector<Look> looks;
  looks.emplace_back(file, s, o, std::vector<Effect>{grade("g")});
  for (const int radius : {2, 4})
    looks.emplace_back(file, s, o, std::vector<Effect>{grade("g"), noise_reduction("n", radius)});
  for (const double sigma : {4.0, 14.0})
    looks.emplace_back(file, s, o, std::vector<Effect>{grade("g"), blur("b", sigma)});
  look_at(looks);
  Laws l;
  l.base = looks[0].ms();
  const double two = looks[1].ms() - l.base, four = looks[2].ms() - l.base;
  // The filter's taps lie in a disc: cost grows with the square of the radius.
  const double slope = std::max(0.05, (four - two) / (16 - 4));
  for (int r = 1; r < 16; ++r) l.nr[r] = std::max(0.5, two + slope * (r * r - 4));
  const double small = looks[3].ms() - l.base, large = looks[4].ms() - l.base;
  l.blur_px = std::max(0.05, (large - small) / 10);
  l.blur_fixed = std::max(0.0, small - 4 * l.blur_px);
  return l;
}

double budget_of_all() { return default_workers() * (1000.0 / 24); }

/// Effects that bring a graded segment to the target load here. Noise reduction takes the larger part and a
/// small blur the rest, or blur alone.
std::vector<Effect> heavy(const std::string& id, const SegmentPlan& plan, const Laws& laws) {
  const double wanted = plan.target * budget_of_all() - laws.base;
  std::vector<Effect> stack;
  double left = wanted;
  if (!plan.soft) {
    int radius = 0;
    for (int r = 1; r < 16; ++r)
      if (laws.nr[r] + laws.blur_fixed <= wanted) radius = r;
    if (radius > 0) stack.push_back(noise_reduction(id + "-clean", radius)), left -= laws.nr[radius];
  }
  const double sigma = std::clamp((left - laws.blur_fixed) / laws.blur_px, 0.0, 60.0);
  if (sigma >= 0.2) stack.push_back(blur(id + "-soft", std::round(sigma * 100) / 100));
  return stack;
}

// ---- the timeline ----

class Builder {
 public:
  Builder(fs::path folder, const DemoOptions& o, const Laws& laws)
      : folder_(std::move(folder)), o_(o), laws_(laws), t_(std::make_shared<Timeline>()) {}

  /// The heavy segments as they are are looked at in turn, and what is off goes into their blur. `settled` gets the
  /// load that each of them came to.
  void settle(std::vector<std::pair<std::string, double>>& settled) {
    std::vector<const SegmentPlan*> plans;
    for (const SegmentPlan& p : kMain)
      if (p.target > 0) plans.push_back(&p);
    plans.push_back(&kShelf);
    for (const SegmentPlan* p : plans) stacks_[p] = heavy("", *p, laws_);
    const auto looks = [&] {
      std::vector<Look> all;
      for (const SegmentPlan* p : plans) {
        const SourcePlan& source = kSources[p->source];
        std::vector<Effect> stack = stacks_[p];
        if (p->graded) stack.insert(p->soft ? stack.begin() : stack.end(), grade("g"));
        all.emplace_back(source_file(folder_, source), source, o_, std::move(stack));
      }
      return all;
    };
    std::vector<Look> first = looks();
    look_at(first);
    for (std::size_t i = 0; i < plans.size(); ++i) {
      const double off = plans[i]->target * budget_of_all() - first[i].ms();
      if (std::abs(off) < 0.03 * first[i].ms()) continue;
      bool has_blur = false;
      for (Effect& e : stacks_[plans[i]])
        if (e.type == "blur") {
          const double sigma = e.params["sigma"].get<double>() + off / laws_.blur_px;
          e.params["sigma"] = std::clamp(std::round(sigma * 100) / 100, 0.0, 60.0), has_blur = true;
        }
      const double sigma = (off - laws_.blur_fixed) / laws_.blur_px;
      if (!has_blur && sigma >= 0.2) stacks_[plans[i]].push_back(blur("-soft", std::round(sigma * 100) / 100));
    }
    std::vector<Look> checked = looks();
    look_at(checked, 2);
    for (std::size_t i = 0; i < plans.size(); ++i)
      settled.emplace_back(plans[i]->name, checked[i].ms() / budget_of_all());
  }

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
  Laws laws_;
  std::shared_ptr<Timeline> t_;
  std::map<const SegmentPlan*, std::vector<Effect>> stacks_;  ///< heavy effects; ids lack the segment's
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
  Builder builder(folder, options, laws);
  DemoReport report;
  if (progress) progress(0.9, "Checking the heavy segments");
  if (!options.stated) builder.settle(report.settled);
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
