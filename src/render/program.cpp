#include "render/program.h"

#include <fmt/format.h>

#include <algorithm>

namespace gc {

Result<MediaInfo> MediaCatalog::info(const std::string& path) {
  const Hash128 now = file_identity(path);
  const std::lock_guard lock(mutex_);
  if (const auto it = known_.find(path); it != known_.end() && it->second && it->second->identity == now)
    return it->second;
  auto found = probe(path);
  known_.insert_or_assign(path, found);
  return found;
}

Frames CompiledSegment::frame_at(Frames timeline_frame, Rate timeline_rate) const {
  const Rate rate = content == Content::composition ? timeline_rate : source_rate;
  return source_frame(segment->source_in, timeline_frame - in, segment->speed, rate, timeline_rate);
}

float CompiledLayer::mix_at(Frames frame) const {
  // The first frame already shows some of the incoming picture, the last still some of the outgoing.
  return static_cast<float>(frame - in + 1) / static_cast<float>(out - in + 1);
}

class Compiler {
 public:
  Compiler(TimelinePtr timeline, MediaCatalog& media) : timeline_(std::move(timeline)), media_(media) {}

  std::shared_ptr<Program> compile(const std::vector<TrackPtr>& tracks, Frames duration,
                                   std::shared_ptr<std::vector<Owner>> owners) {
    auto program = std::make_shared<Program>();
    program->timeline_ = timeline_;
    program->duration_ = duration;
    owners_ = owners;
    common_stages(*program);
    const Layout layout = lay_out(tracks, duration);
    for (const Placed& p : layout.placed) program->segments_.push_back(segment(p));
    for (const Interval& interval : layout.intervals) add_interval(*program, layout, interval);
    return program;
  }

 private:
  int owner(const std::string& segment, const std::string& effect, const std::string& label, StageKind kind) {
    owners_->push_back({segment, effect, label, kind});
    return static_cast<int>(owners_->size()) - 1;
  }
  Hasher key(const char* what) const {
    return Hasher().add(what).add(timeline_->width).add(timeline_->height);
  }
  StageRef stage(StageKind kind, Hash128 k, int own) const { return {kind, k, own, k, 0}; }

  void common_stages(Program& p) {
    p.display_ =
        stage(StageKind::display, key("display").done(), owner("", "", "Display", StageKind::display));
    p.mix_ = stage(StageKind::mix, key("mix").done(), owner("", "", "Mix of tracks", StageKind::mix));
    p.transition_ = stage(StageKind::transition, key("dissolve").done(),
                          owner("", "", "Dissolve", StageKind::transition));
    const int sealed = owner("", "", "Sealed media", StageKind::decode);
    p.sealed_read_ = stage(StageKind::read, key("read sealed").done(), sealed);
    p.sealed_decode_ = stage(StageKind::decode, key("decode sealed VC-3 HQX").done(), sealed);
    p.sealed_convert_ = stage(StageKind::convert, key("convert yuv422p10le").done(), sealed);
  }

  std::shared_ptr<const CompiledSegment> segment(const Placed& placed) {
    auto c = std::make_shared<CompiledSegment>();
    const Segment& s = *placed.segment;
    c->segment = placed.segment;
    c->content = s.content;
    c->in = placed.in, c->out = placed.out;
    c->live_in = placed.live_in, c->live_out = placed.live_out;
    Hasher identity;
    identity.add(static_cast<std::int64_t>(s.content));
    switch (s.content) {
      case Content::source:
        source(*c, identity);
        break;
      case Content::generator:
        generator(*c, identity);
        break;
      case Content::composition:
        composition(*c, identity);
        break;
      case Content::offline:
        c->trouble = fmt::format("The media of '{}' are missing from the file.", s.name);
        break;
    }
    bool placing = false;
    for (const Effect& e : s.stack) placing = effect(*c, e, identity) || placing;
    c->covers = c->opaque && !placing && c->content != Content::offline;
    identity.add(s.ref.empty() ? "" : c->content == Content::offline ? s.ref : "");
    c->identity = identity.done();
    return c;
  }

  void source(CompiledSegment& c, Hasher& identity) {
    const auto it = timeline_->sources.find(c.segment->ref);
    if (it == timeline_->sources.end()) {
      c.content = Content::offline;
      c.trouble = "Its source is not in the file.";
      return;
    }
    c.path = it->second->path;
    auto info = media_.info(c.path);
    if (!info) {
      c.content = Content::offline;
      c.trouble = info.error().text();
      identity.add("offline");
      return;
    }
    c.media = *info;
    c.source_rate = info->rate;
    // A picture of the raster's own shape covers it; another is fitted with bars.
    c.opaque = static_cast<std::int64_t>(info->width) * timeline_->height ==
               static_cast<std::int64_t>(info->height) * timeline_->width;
    identity.add(info->identity);
    const int own =
        owner(c.segment->id, "", info->codec + (info->intra ? ", intra" : ", long GOP"), StageKind::decode);
    c.read = stage(StageKind::read, Hasher().add("read").add(info->identity).done(), own);
    c.decode = stage(StageKind::decode, Hasher().add("decode").add(info->identity).done(), own);
    c.convert =
        stage(StageKind::convert,
              key(("convert " + info->pixel_format).c_str()).add(info->width).add(info->height).done(), own);
    if (info->width == timeline_->width && info->height == timeline_->height)
      c.convert.key = key(("convert " + info->pixel_format).c_str()).done();
    c.convert.type_key = key("convert").done();
  }

  void generator(CompiledSegment& c, Hasher& identity) {
    const EffectType* type = generator_type(c.segment->ref);
    if (!type) {
      c.content = Content::offline;
      c.trouble = fmt::format("The generator '{}' is not one of ours.", c.segment->ref);
      return;
    }
    c.generator = type->make(c.segment->generator, timeline_->width, timeline_->height);
    c.opaque = !type->places;
    add_values(identity, *type, c.segment->generator);
    c.convert = stage(StageKind::composition, key(type->id.c_str()).done(),
                      owner(c.segment->id, "", type->label, StageKind::composition));
  }

  void composition(CompiledSegment& c, Hasher&) {
    const auto it = timeline_->compositions.find(c.segment->ref);
    if (it == timeline_->compositions.end()) {
      c.content = Content::offline;
      c.trouble = fmt::format("The composition '{}' is not in the file.", c.segment->ref);
      return;
    }
    Frames length = 0;
    for (const TrackPtr& t : it->second->tracks) length = std::max(length, duration(*t));
    Compiler inside(timeline_, media_);
    c.inner = inside.compile(it->second->tracks, length, owners_);
    c.opaque = std::all_of(
        c.inner->intervals().begin(), c.inner->intervals().end(),
        [](const CompiledInterval& i) { return !i.layers.empty() && i.layers.front().from->covers; });
  }

  /// What of an effect decides its picture: the values as they are used, not as they are written.
  static void add_values(Hasher& h, const EffectType& type, const Json& params) {
    h.add(type.id);
    for (const ParamSpec& s : type.params) {
      if (s.text) h.add(text_or(params, s.name.c_str(), ""));
      for (std::size_t i = 0; i < static_cast<std::size_t>(s.values) && !s.text; ++i)
        h.add(fmt::format("{:a}", param(type, params, s.name.c_str(), i)));
    }
  }

  /// True when the effect leaves parts of the canvas uncovered.
  bool effect(CompiledSegment& c, const Effect& e, Hasher& identity) {
    const EffectType* type = effect_type(e.type);
    if (!e.enabled || !type) return false;
    auto instance =
        std::shared_ptr<const EffectInstance>(type->make(e.params, timeline_->width, timeline_->height));
    if (instance->identity()) return false;
    add_values(identity, *type, e.params);
    StageRef ref = stage(type->stage, cost_key(*type, e.params, timeline_->width, timeline_->height),
                         owner(c.segment->id, e.id, type->label, type->stage));
    ref.type_key = key(type->id.c_str()).done();
    for (const ParamSpec& s : type->params)
      if (s.costs && ref.size == 0) ref.size = param(*type, e.params, s.name.c_str());
    c.effects.push_back({std::move(instance), ref});
    return type->places;
  }

  void add_interval(Program& program, const Layout& layout, const Interval& interval) {
    CompiledInterval compiled{interval.in, interval.out, {}};
    for (const Layer& l : interval.layers) {
      CompiledLayer layer;
      layer.from = program.segments_[static_cast<std::size_t>(l.placed)];
      if (l.transition >= 0) {
        const PlacedTransition& t = layout.transitions[static_cast<std::size_t>(l.transition)];
        layer.to = program.segments_[static_cast<std::size_t>(l.to)];
        layer.in = t.in, layer.out = t.out;
      }
      // What lies below an opaque picture of the whole raster is not seen and costs nothing.
      if (layer.from->covers && (!layer.to || layer.to->covers)) compiled.layers.clear();
      compiled.layers.push_back(std::move(layer));
    }
    // Inside a composition the layers change too; cut there, so that the cost within an interval is of one
    // sort.
    std::vector<Frames> cuts{interval.in};
    for (const CompiledLayer& l : compiled.layers)
      if (l.from->inner && l.from->segment->speed == Ratio{})
        for (const CompiledInterval& i : l.from->inner->intervals()) {
          const Frames at = l.from->in + i.in - l.from->segment->source_in;
          if (at > interval.in && at < interval.out) cuts.push_back(at);
        }
    std::sort(cuts.begin(), cuts.end());
    cuts.erase(std::unique(cuts.begin(), cuts.end()), cuts.end());
    cuts.push_back(interval.out);
    for (std::size_t i = 0; i + 1 < cuts.size(); ++i)
      program.intervals_.push_back({cuts[i], cuts[i + 1], compiled.layers});
  }

  friend class Program;
  TimelinePtr timeline_;
  MediaCatalog& media_;
  std::shared_ptr<std::vector<Owner>> owners_;
};

ProgramPtr Program::compile(const TimelinePtr& timeline, MediaCatalog& media) {
  auto owners = std::make_shared<std::vector<Owner>>();
  auto program = Compiler(timeline, media).compile(timeline->tracks, timeline->duration(), owners);
  program->owners_ = std::move(*owners);
  return program;
}

int Program::interval_at(Frames frame) const {
  const auto it = std::upper_bound(intervals_.begin(), intervals_.end(), frame,
                                   [](Frames f, const CompiledInterval& i) { return f < i.out; });
  return it != intervals_.end() && frame >= it->in ? static_cast<int>(it - intervals_.begin()) : -1;
}

Hash128 Program::fingerprint(Frames frame) const {
  Hasher h;
  h.add(kRendererVersion).add(timeline_->width).add(timeline_->height);
  const int i = interval_at(frame);
  if (i < 0) return h.done();
  const auto add = [&](const CompiledSegment& s) {
    const Frames at = s.frame_at(frame, timeline_->rate);
    h.add(s.identity);
    if (s.inner) h.add(s.inner->fingerprint(at));
    else if (s.content == Content::source) h.add(at);
  };
  for (const CompiledLayer& l : intervals_[static_cast<std::size_t>(i)].layers) {
    add(*l.from);
    if (l.to) {
      h.add(frame - l.in).add(l.out - l.in);
      add(*l.to);
    }
  }
  return h.done();
}

void Program::gather(Frames frame, std::vector<DecodeRequest>& out, const Hash128& lane) const {
  const int i = interval_at(frame);
  if (i < 0) return;
  const auto add = [&](const CompiledSegment& s) {
    const Frames at = s.frame_at(frame, timeline_->rate);
    const Hash128 use = Hasher().add(lane).add(s.segment->id).done();
    if (s.inner) s.inner->gather(at, out, use);
    if (s.content == Content::source) out.push_back({s.path, at, use, s.read, s.decode, false});
    if (s.content == Content::offline) out.push_back({s.path, at, use, {}, {}, true});
  };
  for (const CompiledLayer& l : intervals_[static_cast<std::size_t>(i)].layers) {
    add(*l.from);
    if (l.to) add(*l.to);
  }
}

FrameRecipe Program::recipe(Frames frame, const SealLookup* seals) const {
  FrameRecipe r;
  r.frame = frame;
  r.interval = interval_at(frame);
  if (seals) r.seal = seals->find(fingerprint(frame));
  if (r.seal) {
    r.requests.push_back(
        {r.seal->path, r.seal->index, hash_text(r.seal->path), sealed_read_, sealed_decode_, false});
    return r;
  }
  gather(frame, r.requests, {});
  return r;
}

std::vector<StageRef> Program::stages(Frames frame) const {
  std::vector<StageRef> all;
  const int i = interval_at(frame);
  if (i >= 0) {
    const auto add = [&](const CompiledSegment& s) {
      if (s.inner) {
        for (const StageRef& r : s.inner->stages(s.frame_at(frame, timeline_->rate)))
          if (r.kind != StageKind::display) all.push_back(r);
      } else if (s.content == Content::source) {
        all.insert(all.end(), {s.read, s.decode, s.convert});
      } else if (s.content == Content::generator) {
        all.push_back(s.convert);
      }
      for (const CompiledEffect& e : s.effects) all.push_back(e.stage);
    };
    bool first = true;
    for (const CompiledLayer& l : intervals_[static_cast<std::size_t>(i)].layers) {
      add(*l.from);
      if (l.to) {
        add(*l.to);
        all.push_back(transition_);
      }
      if (!first || !l.from->covers || (l.to && !l.to->covers)) all.push_back(mix_);
      first = false;
    }
  }
  all.push_back(display_);
  return all;
}

std::vector<StageRef> Program::sealed_stages() const {
  return {sealed_read_, sealed_decode_, sealed_convert_, display_};
}

}  // namespace gc
