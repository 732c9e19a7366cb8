#include "demo/reel.h"

#include <fmt/format.h>

#include "render/agree.h"

namespace gc {
namespace {

constexpr Frames kLength = 24;

class Reel {
 public:
  explicit Reel(const ReelMedia& media) : media_(media) {
    t_->name = "The Kiln Year, effects reel";
    t_->width = media.width, t_->height = media.height;
    t_->start = 24 * 3600;
    for (const auto& [scene, source] : media.sources) t_->sources[source->id] = source;
    main_ = track("V1", "Picture");
    matte_ = track("M1", "Matte");
    matte_->matte_only = true;
    upper_ = track("V2", "Over");
  }

  TimelinePtr build() {
    for (const EffectType* type : effect_types())
      if (type != &shape_tracker()) show(*type);
    for (const EffectType* type : generator_types()) show_generator(*type);
    layers();
    times();
    t_->tracks = {main_, matte_, upper_};
    return t_;
  }

 private:
  static std::shared_ptr<Track> track(const char* id, const char* name) {
    auto t = std::make_shared<Track>();
    t->id = id, t->name = name;
    return t;
  }

  std::shared_ptr<Segment> segment(const std::string& id, const std::string& name, const std::string& scene,
                                   Frames in = 24) {
    auto s = std::make_shared<Segment>();
    s->id = id, s->name = name, s->duration = kLength, s->source_in = in;
    s->ref = media_.sources.at(scene)->id;
    return s;
  }
  void add(std::shared_ptr<Segment> s) {
    at_ += s->duration;
    main_->items.push_back(SegmentPtr(std::move(s)));
  }
  /// Puts a segment on an upper track over the main segment that was added last.
  void over(const std::shared_ptr<Track>& track, std::shared_ptr<Segment> s) {
    const Frames start = at_ - kLength, free = start - duration(*track);
    if (free > 0) track->items.push_back(Gap{free, {}});
    track->items.push_back(SegmentPtr(std::move(s)));
  }
  static Effect effect(const std::string& id, const std::string& type, Json params) {
    Effect e;
    e.id = id, e.type = type, e.params = std::move(params);
    return e;
  }

  void show(const EffectType& type) {
    const std::string scene = type.id == "glow" || type.id == "strong_nr" || type.id == "temporal_nr"
                                  ? "firing"
                              : type.id == "dust" || type.id == "spatial_nr"   ? "dust"
                              : type.id == "secondary" || type.id == "stylise" ? "kiln"
                                                                               : "bowl";
    auto s = segment("fx-" + type.id, type.label, scene);
    Json params = showing_params(type);
    if (type.id == "lut") params["path"] = media_.lut;
    // A picture that shrinks has one below it.
    if (type.places) {
      add(segment("under-" + type.id, "Under " + type.label, "rain"));
      s->stack.push_back(effect(type.id, type.id, std::move(params)));
      over(upper_, std::move(s));
      return;
    }
    s->stack.push_back(effect(type.id, type.id, std::move(params)));
    add(std::move(s));
  }

  void show_generator(const EffectType& type) {
    auto s = std::make_shared<Segment>();
    s->id = "fx-" + type.id, s->name = type.label, s->duration = kLength;
    s->content = Content::generator, s->ref = type.id, s->generator = showing_params(type);
    if (!type.places) {
      add(std::move(s));
      return;
    }
    add(segment("under-" + type.id, "Under " + type.label, "kiln"));
    over(upper_, std::move(s));
  }

  void layers() {
    for (const char* mode : {"multiply", "screen", "overlay", "soft-light", "difference", "luminosity"}) {
      add(segment(fmt::format("under-{}", mode), fmt::format("Under {}", mode), "bowl"));
      auto s = segment(fmt::format("layer-{}", mode), fmt::format("Blend: {}", mode), "firing");
      s->blend = mode;
      over(upper_, std::move(s));
    }
    add(segment("under-matte", "Under the matte", "rain"));
    auto shape = std::make_shared<Segment>();
    shape->id = "matte-shape", shape->name = "Matte: gradient", shape->duration = kLength;
    shape->content = Content::generator, shape->ref = "gradient";
    shape->generator = {{"from", {1, 1, 1}}, {"to", {0, 0, 0}}, {"radial", 1}};
    over(matte_, std::move(shape));
    auto through = segment("layer-matte", "Luma matte", "kiln");
    through->matte = {"M1", true, false};
    over(upper_, std::move(through));
    add(segment("under-adjustment", "Under the adjustment", "hands"));
    auto adjustment = std::make_shared<Segment>();
    adjustment->id = "layer-adjustment", adjustment->name = "Adjustment of everything below";
    adjustment->content = Content::adjustment, adjustment->duration = kLength;
    adjustment->stack = {effect("adjust", "saturation", {{"amount", 0.0}}),
                         effect("adjust-contrast", "contrast", {{"contrast", 1.4}})};
    over(upper_, std::move(adjustment));
    auto sliver = segment("sliver", "Sliver at the left edge", "bowl");
    sliver->stack = {effect("sliver-move", "transform", {{"x", 0.5 + 3.0 / 1280}})};
    add(std::move(sliver));
    auto keys = segment("keys", "Keys: a move that eases", "dust");
    keys->stack = {effect("keys-move", "transform",
                          {{"scale",
                            {{"keys",
                              {{{"at", 0}, {"value", 1.0}, {"way", "smooth"}},
                               {{"at", 12}, {"value", 1.3}, {"way", "smooth"}},
                               {{"at", 23}, {"value", 1.35}}}}}}})};
    add(std::move(keys));
  }

  void times() {
    const auto meet = [&](const char* kind, Json params, const char* from, const char* to) {
      add(segment(fmt::format("{}-from", kind), fmt::format("Before the {}", kind), from));
      Transition t;
      t.id = fmt::format("meet-{}", kind), t.kind = kind, t.in_offset = t.out_offset = 8,
      t.params = std::move(params);
      main_->items.push_back(t);
      add(segment(fmt::format("{}-to", kind), fmt::format("After the {}", kind), to, 40));
    };
    meet("wipe", {{"angle", 20}, {"softness", 0.2}}, "bowl", "kiln");
    meet("dip", {{"colour", {0.02, 0.015, 0.01}}}, "rain", "hands");
    meet("morph", Json::object(), "bowl", "bowl");
    const auto slow = [&](const char* id, const char* name, Between way) {
      auto s = segment(id, name, "hands");
      s->speed = {2, 5}, s->between = way;
      add(std::move(s));
    };
    slow("slow-blend", "Slow motion, blended", Between::blend);
    slow("slow-flow", "Slow motion by flow", Between::flow);
    auto freeze = segment("freeze", "Freeze", "firing");
    freeze->speed = {0, 1};
    add(std::move(freeze));
  }

  const ReelMedia& media_;
  std::shared_ptr<Timeline> t_ = std::make_shared<Timeline>();
  std::shared_ptr<Track> main_, matte_, upper_;
  Frames at_ = 0;
};

}  // namespace

TimelinePtr effects_reel(const ReelMedia& media) { return Reel(media).build(); }

}  // namespace gc
