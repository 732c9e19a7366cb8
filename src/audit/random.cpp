#include "audit/random.h"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>

#include "audit/random_media.h"
#include "base/chance.h"
#include "forecast/forecast.h"
#include "media/blend.h"
#include "media/reader.h"
#include "render/agree.h"

namespace gc {
namespace {

class RandomMaker {
 public:
  RandomMaker(const RandomOptions& options, const CostBook& book, std::vector<RandomClip> media, std::string lut)
      : options_(options),
        book_(book),
        media_(std::move(media)),
        lut_(std::move(lut)),
        rng_(options.seed * 7919),
        more_(options.seed * 104729 + 3) {
    for (const EffectType* t : effect_types())
      if (t != &shape_tracker() && t != &cost_card_effect()) effects_.push_back(t);
  }

  TimelinePtr make() {
    struct Shape {
      int width, height;
    };
    static const std::vector<Shape> kShapes{{640, 360}, {960, 540}, {1280, 720}, {1280, 536}};
    static const std::vector<Rate> kRates{{24, 1}, {24000, 1001}, {25, 1}, {30, 1}, {50, 1}};
    const Shape shape = pick(rng_, kShapes);
    t_ = std::make_shared<Timeline>();
    t_->name = fmt::format("Random {}", options_.seed), t_->width = shape.width, t_->height = shape.height;
    t_->rate = pick(rng_, kRates);
    for (std::size_t i = 0; i < media_.size(); ++i) {
      auto m = std::make_shared<MediaSource>();
      m->id = m->name = fmt::format("m{}", i), m->path = media_[i].path, m->length = media_[i].frames;
      m->url = is_sequence(m->path) ? m->path.substr(0, m->path.rfind('#')) : m->path;
      m->rate = media_[i].rate;
      t_->sources[m->id] = m;
    }
    auto track = std::make_shared<Track>();
    track->id = "V1";
    for (int i = 0; i < options_.segments; ++i) {
      auto s = std::make_shared<Segment>(content(fmt::format("s{}", i)));
      burden(*s, wanted_load());
      oddity(*s);
      track->items.push_back(SegmentPtr(s));
      if (i + 1 < options_.segments && unit(rng_) < 0.2) track->items.push_back(transition(i));
    }
    t_->tracks.push_back(track);
    if (unit(rng_) < 0.5) overlay(duration(*track));
    if (unit(more_) < 0.3) inset(duration(*track));
    if (unit(more_) < 0.3) adjustment(duration(*track));
    return t_;
  }

 private:
  /// Log-uniform over 0.2 to 4; every other one close to 1.
  double wanted_load() {
    const bool close = unit(rng_) < 0.5;
    const double least = close ? 0.8 : 0.2, most = close ? 1.25 : 4;
    return least * std::pow(most / least, unit(rng_));
  }
  Frames length() {
    return std::uniform_int_distribution<Frames>(options_.least_frames, options_.most_frames)(rng_);
  }

  Segment content(const std::string& id) {
    Segment s;
    s.id = s.name = id, s.duration = length();
    const double kind = unit(rng_);
    if (kind < 0.75) {
      from_source(s);
      if (unit(rng_) < 0.15) s.speed = {1, 2};
    } else if (kind < 0.9) {
      const EffectType* g = pick(rng_, generator_types());
      s.content = Content::generator, s.ref = g->id, s.generator = any_params(rng_, *g, lut_);
      if (g->places) s.generator["text"] = "The Kiln Year";
    } else {
      auto c = std::make_shared<Composition>();
      c->id = c->name = "c" + id;
      for (int k = 0; k < 2; ++k) {
        auto inner = std::make_shared<Segment>();
        inner->id = fmt::format("{}-{}", id, k), inner->duration = s.duration;
        inner->ref = fmt::format("m{}", k), inner->opacity = k == 0 ? 1.0 : 0.5;
        auto track = std::make_shared<Track>();
        track->id = fmt::format("{}-V{}", id, k + 1), track->items.push_back(SegmentPtr(inner));
        c->tracks.push_back(track);
      }
      t_->compositions[c->id] = c;
      s.content = Content::composition, s.ref = c->id;
    }
    return s;
  }

  /// Any source, from where it is long enough.
  void from_source(Segment& s) {
    const std::size_t n = std::uniform_int_distribution<std::size_t>(0, media_.size() - 1)(rng_);
    s.ref = fmt::format("m{}", n);
    const double needed = static_cast<double>(s.duration) * media_[n].rate.fps() / t_->rate.fps();
    s.source_in = static_cast<Frames>(unit(rng_) * std::max(0.0, static_cast<double>(media_[n].frames) - needed));
  }

  /// Now and then what makes frames of one segment differ: keys, other speeds, frames between frames.
  void oddity(Segment& s) {
    if (unit(more_) < 0.1) s.opacity = {{"keys", {{{"at", 0}, {"value", 0.4}, {"way", "smooth"}}, {{"at", 20}, {"value", 1.0}, {"way", "linear"}}}}};
    for (Effect& e : s.stack)
      if (e.type == "cdl" && unit(more_) < 0.5)
        e.params["slope"] = {{"keys", {{{"at", 0}, {"value", {1.2, 1.0, 0.9}}, {"way", "linear"}}, {{"at", 24}, {"value", {0.8, 1.0, 1.1}}, {"way", "hold"}}}}};
    if (s.content != Content::source) return;
    const double odd = unit(more_);
    if (s.speed != Ratio{}) s.between = odd < 0.3 ? Between::blend : Between::nearest;
    else if (odd < 0.04) s.speed = {0, 1};
    else if (odd < 0.08) s.speed = {-1, 1}, s.source_in = t_->sources.at(s.ref)->length - 1;
  }

  /// A picture in the picture, blended or seen through a matte.
  void inset(Frames length) {
    auto track = std::make_shared<Track>();
    track->id = "V3";
    const auto lead = static_cast<Frames>(unit(more_) * 0.5 * static_cast<double>(length));
    track->items.push_back(Gap{lead, {}});
    auto s = std::make_shared<Segment>();
    s->id = s->name = "inset", s->duration = std::max<Frames>(12, length / 5), s->ref = "m1";
    s->duration = std::min(s->duration, static_cast<Frames>(t_->rate.fps() * 3));
    s->stack.push_back({"inset-e0", "transform", {{"scale", 0.4}, {"x", 0.7}, {"y", 0.3}}, true, true, "", {}});
    if (unit(more_) < 0.5) {
      s->blend = pick(more_, blend_names());
    } else {
      auto matte = std::make_shared<Track>();
      matte->id = "matte", matte->matte_only = true;
      auto m = std::make_shared<Segment>();
      m->id = m->name = "matte", m->duration = lead + s->duration, m->content = Content::generator, m->ref = "gradient";
      m->generator = showing_params(*generator_type("gradient"));
      matte->items.push_back(SegmentPtr(m));
      t_->tracks.push_back(matte);
      s->matte = {"matte", true, unit(more_) < 0.5};
    }
    track->items.push_back(SegmentPtr(s));
    t_->tracks.push_back(track);
  }

  /// A grade on everything below it.
  void adjustment(Frames length) {
    auto track = std::make_shared<Track>();
    track->id = "V4";
    track->items.push_back(Gap{static_cast<Frames>(unit(more_) * 0.6 * static_cast<double>(length)), {}});
    auto s = std::make_shared<Segment>();
    s->id = s->name = "grade on all", s->duration = std::max<Frames>(12, length / 4), s->content = Content::adjustment;
    s->stack.push_back({"all-e0", "contrast", {{"contrast", 1.2}}, true, true, "", {}});
    track->items.push_back(SegmentPtr(s));
    t_->tracks.push_back(track);
  }

  Transition transition(int i) {
    static const std::vector<std::string> kKinds{"dissolve", "dip", "wipe"};
    Transition x;
    x.id = fmt::format("x{}", i), x.kind = pick(rng_, kKinds), x.in_offset = x.out_offset = 6;
    return x;
  }

  void overlay(Frames length) {
    auto track = std::make_shared<Track>();
    track->id = "V2";
    const auto lead = static_cast<Frames>(unit(rng_) * 0.5 * static_cast<double>(length));
    track->items.push_back(Gap{lead, {}});
    auto s = std::make_shared<Segment>();
    s->id = s->name = "over", s->duration = std::max<Frames>(12, length / 4), s->content = Content::generator;
    s->ref = "title", s->generator = showing_params(title_generator());
    s->generator["text"] = "The Kiln Year";
    track->items.push_back(SegmentPtr(s));
    t_->tracks.push_back(track);
  }

  bool known(const EffectType& type, const Json& params) const {
    StageRef r;
    r.kind = type.stage, r.law = cost_law(type, params, false);
    r.terms = cost_terms(type, params, t_->width, t_->height);
    return book_.stage(r).origin != Origin::unknown;
  }

  /// The load of a segment by itself, as the seat's laws have it.
  double load(const Segment& s) {
    auto alone = std::make_shared<Timeline>(*t_);
    auto track = std::make_shared<Track>();
    track->id = "V1", track->items.push_back(SegmentPtr(std::make_shared<Segment>(s)));
    alone->tracks = {track};
    const ProgramPtr p = Program::compile(alone, catalog_);
    if (p->intervals().empty()) return 0;
    double fetch = 0, process = 0;
    for (const StageRef& r : p->stages(p->intervals().front().in)) {
      const StageCosts c = book_.stage(r);
      double mean = 0;
      for (const float v : c.ms) mean += v / static_cast<double>(c.ms.size());
      const double share = turn_share(r, options_.workers);
      fetch += mean * share, process += mean * (1 - share);
    }
    return crowded(book_.crowding()) * load_of(fetch, process, options_.workers, t_->rate.frame_ms());
  }

  /// Effects until the segment is about as heavy as wanted; what would make it too heavy is made lighter.
  void burden(Segment& s, double wanted) {
    if (s.content == Content::generator) lighten(s, s.generator, *generator_type(s.ref), wanted);
    const std::size_t most = 1 + static_cast<std::size_t>(unit(rng_) * 4);
    for (int tries = 0; tries < 24 && s.stack.size() < most; ++tries) {
      const EffectType* type = pick(rng_, effects_);
      Effect e;
      e.id = fmt::format("{}-e{}", s.id, s.stack.size()), e.type = type->id;
      e.params = any_params(rng_, *type, lut_);
      // Work that the seat has no law of has no load that could be chosen.
      if (!known(*type, e.params)) continue;
      s.stack.push_back(e);
      if (!lighten(s, s.stack.back().params, *type, wanted)) s.stack.pop_back();
      if (load(s) > 0.95 * wanted) return;
    }
    // Not there yet: a filter as wide as it takes.
    for (const auto& [id, name] : {std::pair{"spatial_nr", "radius"}, {"stylise", "radius"}}) {
      const EffectType& type = *effect_type(id);
      if (!known(type, showing_params(type))) continue;
      for (const ParamSpec& p : type.params) {
        if (p.name != name) continue;
        for (double v = std::max(1.0, p.least); v <= p.most; v += 1) {
          Segment heavier = s;
          Effect e;
          e.id = s.id + "-last", e.type = id, e.params = showing_params(type), e.params[name] = v;
          heavier.stack.push_back(e);
          const double now = load(heavier);
          if (now > 1.05 * wanted) break;
          if (now > 0.9 * wanted || v + 1 > p.most) {
            s = heavier;
            break;
          }
        }
      }
      if (load(s) > 0.9 * wanted) return;
    }
  }

  /// Halves what the cost of `params`, which are the segment's, depends on until the segment fits. False when
  /// that is not enough.
  bool lighten(const Segment& s, Json& params, const EffectType& type, double wanted) {
    for (int i = 0; i < 12 && load(s) > wanted; ++i)
      for (const ParamSpec& p : type.params)
        if (p.costs && !p.text && p.unit != "0 or 1" && params.contains(p.name) && params[p.name].is_number())
          params[p.name] = std::max(p.least, params[p.name].get<double>() / 2);
    return load(s) <= wanted;
  }

  const RandomOptions& options_;
  const CostBook& book_;
  std::vector<RandomClip> media_;
  MediaCatalog catalog_;
  std::string lut_;
  Rng rng_, more_;
  std::vector<const EffectType*> effects_;
  std::shared_ptr<Timeline> t_;
};

}  // namespace

Result<TimelinePtr> random_timeline(const RandomOptions& options, const CostBook& book,
                                    const fs::path& folder) {
  auto media = random_media(folder, options.foreign);
  if (!media) return std::unexpected(media.error());
  const fs::path lut = folder / "made-up.cube";
  std::error_code e;
  if (!fs::exists(lut, e))
    if (auto r = write_file_atomic(lut, made_up_cube(33)); !r) return std::unexpected(r.error());
  return RandomMaker(options, book, std::move(*media), lut.string()).make();
}

}  // namespace gc
