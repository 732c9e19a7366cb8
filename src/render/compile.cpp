// From a timeline to a program: which segments are seen, what each needs, and who each stage belongs to.
#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <tuple>

#include "base/log.h"
#include "media/identity.h"
#include "media/writer.h"
#include "render/device.h"
#include "render/pictures.h"
#include "render/program.h"
#include "render/stage_refs.h"
#include "timeline/keys.h"

namespace gc {
namespace {

TransitionKind transition_kind(const std::string& name) {
  if (name == "dip") return TransitionKind::dip;
  if (name == "wipe") return TransitionKind::wipe;
  return name == "morph" ? TransitionKind::morph : TransitionKind::dissolve;
}

/// What of an effect decides its picture: the values as they are used, not as they are written.
void add_values(Hasher& h, const EffectType& type, const Json& params) {
  h.add(type.id);
  for (const ParamSpec& s : type.params) {
    // Of a file counts what is in it, so that a copy elsewhere gives the same picture.
    if (s.text && s.name == "path") h.add(file_identity(text_or(params, "path", "")));
    else if (s.text) h.add(text_or(params, s.name.c_str(), ""));
    else if (s.values == 0) h.add(params.is_object() && params.contains(s.name) ? params[s.name].dump() : "");
    for (std::size_t i = 0; i < static_cast<std::size_t>(s.values) && !s.text; ++i)
      h.add(fmt::format("{:a}", param(type, params, s.name.c_str(), i)));
  }
}

}  // namespace

void add_effect_values(Hasher& h, const CompiledEffect& e, Frames frame) {
  h.add(e.identity);
  if (!e.fixed && e.type) add_values(h, *e.type, params_at(e.params, static_cast<double>(frame)));
  if (e.moving) h.add(frame);
}

class Compiler {
 public:
  Compiler(TimelinePtr timeline, MediaCatalog& media, const RenderOptions& options)
      : timeline_(std::move(timeline)), media_(media), options_(options) {
    width_ =
        std::max(1, static_cast<int>(std::lround(timeline_->width / static_cast<double>(options_.scale))));
    height_ =
        std::max(1, static_cast<int>(std::lround(timeline_->height / static_cast<double>(options_.scale))));
    if (options_.device == Device::accelerator && !accelerator_available())
      options_.device = Device::processor;
  }

  std::shared_ptr<Program> compile(const std::vector<TrackPtr>& tracks, Frames duration,
                                   std::shared_ptr<std::vector<Owner>> owners) {
    auto program = std::make_shared<Program>();
    program->timeline_ = timeline_;
    program->options_ = options_;
    program->width_ = width_, program->height_ = height_;
    program->duration_ = duration;
    owners_ = owners;
    common_stages(*program);
    const Layout layout = lay_out(tracks, duration);
    for (const Placed& p : layout.placed) program->segments_.push_back(segment(p));
    const bool around =
        std::any_of(program->segments_.begin(), program->segments_.end(), [](const CompiledSegmentPtr& s) {
          return s->content == Content::adjustment &&
                 std::any_of(s->effects.begin(), s->effects.end(), [](const CompiledEffect& e) {
                   return e.whole || (!e.point && (e.reach > 0 || !e.fixed));
                 });
        });
    if (!around) program->working_region_ = options_.region;
    for (const Interval& interval : layout.intervals) add_interval(*program, tracks, layout, interval);
    return program;
  }

 private:
  int owner(const std::string& segment, const std::string& effect, const std::string& label, StageKind kind) {
    owners_->push_back({segment, effect, label, kind, segment});
    return static_cast<int>(owners_->size()) - 1;
  }
  Hasher key(const char* what) const { return Hasher().add(what).add(width_).add(height_); }
  float mpix() const { return static_cast<float>(width_) * static_cast<float>(height_) / 1e6f; }
  /// A stage whose cost law knows pixels alone, unless terms are given.
  StageRef stage(StageKind kind, Hash128 k, int own, const std::string& law, const std::string& label) const {
    return {kind, k, own, law_name(law, label, kind, {"Mpixel"}), {mpix()}, false};
  }
  StageRef convert_stage(Hash128 k, int own, const std::string& format, int width, int height,
                         const Placement& placement = {}, double aspect = 1) const {
    return gc::convert_stage(k, own, format, width, height, width_, height_, placement, aspect);
  }

  void common_stages(Program& p) {
    p.display_ = stage(StageKind::display, key("display").done(),
                       owner("", "", "Display", StageKind::display), "display", "Display");
    mix_owner_ = owner("", "", "Mix of tracks", StageKind::mix);
    const int sealed = p.sealed_owner_ = owner("", "", "Sealed media", StageKind::decode);
    std::tie(p.sealed_read_, p.sealed_decode_) =
        fetch_stages(key("read sealed").done(), key("decode sealed VC-3 HQX by frames").done(), sealed, "VC-3 10 bit",
                     mpix(), static_cast<double>(vc3_frame_bytes(width_, height_, kVc3Hqx)) / 1e6, 0);
    p.sealed_convert_ =
        convert_stage(key("convert yuv422p10le").done(), sealed, "yuv422p10le", width_, height_);
    if (!options_.region && timeline_->width % 2 == 0)
      p.sealed_straight_ = straight_stage(p.sealed_convert_, "yuv422p10le");
    if (timeline_->working_space != timeline_->display_space)
      p.output_ = colour_step(timeline_->working_space, timeline_->display_space, "", StageKind::display);
    if (p.output_) also_costs(p.output_->stage, kLoadedFirst);
  }

  /// A transform between the timeline's own colour spaces, as a step of a stack. Empty when it changes
  /// nothing.
  std::optional<CompiledEffect> colour_step(const std::string& from, const std::string& to,
                                            const std::string& segment, StageKind kind) {
    if (from == to) return std::nullopt;
    auto transform = colour_transform(from, to);
    if (!transform) {
      spdlog::warn("{}", transform.error().text());
      return std::nullopt;
    }
    if ((*transform)->identity()) return std::nullopt;
    CompiledEffect e;
    e.fixed = make_colour_transform(*transform);
    e.point = true;
    e.identity = Hasher().add("colour").add(from).add(to).done();
    const Hash128 k = key("colour").add(from).add(to).done();
    e.stage = stage(kind, k, owner(segment, "", from + " to " + to, kind), "colour " + from + " to " + to,
                    from + " to " + to);
    e.stage.law = law_name("colour " + from + " to " + to, from + " to " + to, kind,
                           {"Mpixel", kLoadedFirst, kWithAlpha});
    return e;
  }

  CompiledSegmentPtr segment(const Placed& placed) {
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
        composition(*c);
        break;
      case Content::adjustment:
        break;
      case Content::offline:
        c->trouble = fmt::format("The media of '{}' are missing from the file.", s.name);
        break;
    }
    identity.add(s.ref.empty() ? "" : c->content == Content::offline ? s.ref : "");
    c->content_identity = identity.done();
    bool placing = false;
    for (const Effect& e : s.stack) placing = effect(*c, e) || placing;
    choose_devices(*c);
    for (CompiledEffect& e : c->effects) cut_where_keys_cost(e, c->live_in - c->in, c->live_out - c->in);
    for (const CompiledEffect& e : c->effects) {
      identity.add(e.identity);
      c->window.before += e.window.before, c->window.after += e.window.after;
      c->varies = c->varies || !e.fixed || e.moving || e.window.length() > 1;
    }
    c->blend = blend_named(s.blend).value_or(Blend::normal);
    if (!blend_named(s.blend))
      c->remarks.push_back(fmt::format("The blend mode '{}' is not known; normal is used.", s.blend));
    identity.add(static_cast<std::int64_t>(c->blend))
        .add(static_cast<std::int64_t>(s.matte.luma * 2 + s.matte.inverted));
    if (!has_keys(s.opacity)) identity.add(fmt::format("{:a}", c->opacity_at(c->in)));
    const bool solid = c->blend == Blend::normal && s.matte.track.empty() && !has_keys(s.opacity) &&
                       c->opacity_at(c->in) >= 1;
    c->covers =
        c->opaque && !placing && solid && c->content != Content::offline && c->content != Content::adjustment;
    if (!s.matte.track.empty())
      c->matte_stage = stage(StageKind::mix, key("matte").done(), owner(s.id, "", "Matte", StageKind::mix),
                             "matte", "Matte");
    c->identity = identity.done();
    return c;
  }

  /// Frames counted at one rate as frames at another, by time. Rates of the same name in the trade (24 and 24000/1001)
  /// count the same frames: that is how timelines and files of such rates are meant to meet.
  static Ratio in_frames_of(Frames count, Rate from, Rate to) {
    if (from.nominal() == to.nominal()) return {count, 1};
    return Ratio::of(count * from.den * to.num, from.num * to.den);
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
    c.source_rate = info->still ? timeline_->rate : info->rate;
    const Rate stated = c.segment->source_rate.num > 0 ? c.segment->source_rate : it->second->rate;
    c.source_at = in_frames_of(c.segment->source_in, stated, c.source_rate);
    for (const std::string& remark : info->remarks) c.remarks.push_back(remark);
    c.placement = {static_cast<Placement::Shape>(c.segment->fit), 1.0 / options_.scale, options_.draft};
    const int seen_width = info->upright_width(), seen_height = info->upright_height();
    const double aspect = info->upright_aspect();
    c.opaque = !info->alpha && covers_raster(seen_width, seen_height, width_, height_, c.placement, aspect);
    identity.add(info->identity).add(static_cast<std::int64_t>(c.segment->fit));
    c.joins_fields = info->interlaced && options_.join_fields && !info->still && !is_sequence(c.path);
    if (c.joins_fields) identity.add("fields joined");
    const int own =
        owner(c.segment->id, "", info->codec + (info->intra ? ", intra" : ", long GOP"), StageKind::decode);
    std::tie(c.read, c.decode) = fetch_stages(
        Hasher().add("read").add(c.path).add(info->identity).done(), Hasher().add("decode side by side").add(info->identity).done(),
        own, fmt::format("{} {} bit{}", info->codec, info->bits, info->intra ? "" : ", long GOP"),
        static_cast<double>(info->width) * info->height / 1e6,
        static_cast<double>(info->bytes) / static_cast<double>(std::max<Frames>(1, info->frames)) / 1e6,
        info->alone ? 0 : info->decode_threads);
    cost_by_pictures(c, timeline_->rate);
    Hasher convert = key(("convert " + info->pixel_format).c_str());
    if (seen_width != width_ || seen_height != height_ || aspect != 1)
      convert.add(info->width).add(info->height).add(static_cast<std::int64_t>(c.segment->fit));
    std::string layout = info->pixel_format;
    if (!info->orientation.upright()) convert.add("turned"), layout += ", turned";
    if (aspect != 1) convert.add(fmt::format("{:.6f}", aspect));
    c.convert = convert_stage(convert.done(), own, layout, seen_width, seen_height, c.placement, aspect);
    if (c.joins_fields) {
      c.fields = stage(StageKind::decode, Hasher().add("fields").add(info->width).add(info->height).add(info->pixel_format).done(),
                       owner(c.segment->id, "", "Joining fields", StageKind::decode), "fields " + info->pixel_format,
                       "Joining fields, " + info->pixel_format);
      c.fields.terms[0] = static_cast<float>(static_cast<double>(info->width) * info->height / 1e6);
    }
    const std::string space = !it->second->colour_space.empty() ? it->second->colour_space
                              : !info->colour_space.empty()     ? info->colour_space
                              : info->linear                    ? std::string("Linear Rec. 709")
                                                                : std::string("Rec. 709");
    if (auto step = colour_step(space, timeline_->working_space, c.segment->id, StageKind::convert))
      c.effects.push_back(std::move(*step));
    retime(c, identity);
  }

  /// Whether frames fall between source frames, and what is done then.
  void retime(CompiledSegment& c, Hasher& identity) {
    const Between way = c.segment->between;
    if (way == Between::nearest || c.media.still) return;
    const Ratio& v = c.segment->speed;
    const std::int64_t num = v.num * c.source_rate.num * timeline_->rate.den,
                       den = v.den * c.source_rate.den * timeline_->rate.num;
    if (num % den == 0 && c.source_at.den == 1) return;
    c.retimes = true;
    c.unseen = way == Between::flow;
    identity.add(c.unseen ? "flow" : "blend");
    const char* label = c.unseen ? "Flow retime" : "Frame blending";
    c.retime = stage(StageKind::effect, key(label).done(), owner(c.segment->id, "", label, StageKind::effect),
                     label, label);
  }

  void generator(CompiledSegment& c, Hasher& identity) {
    const EffectType* type = generator_type(c.segment->ref);
    if (!type) {
      c.content = Content::offline;
      c.trouble = fmt::format("The generator '{}' is not one of ours.", c.segment->ref);
      return;
    }
    c.generator = compiled(*type, c.segment->generator);
    if (const std::string why = c.generator.at(0)->trouble(); !why.empty()) c.remarks.push_back(why);
    for (std::string& r : param_remarks(*type, c.segment->generator)) c.remarks.push_back(std::move(r));
    c.opaque = !type->places;
    c.varies = c.generator.moving || !c.generator.fixed;
    identity.add(c.generator.identity);
    const Json first = params_at(c.segment->generator, 0);
    const Json at_scale = scaled_params(*type, first, 1.0 / options_.scale);
    c.convert = {StageKind::composition,
                 cost_key(*type, first, width_, height_),
                 owner(c.segment->id, "", type->label, StageKind::composition),
                 cost_law(*type, first, false),
                 cost_terms(*type, at_scale, width_, height_),
                 type->by_wall};
  }

  void composition(CompiledSegment& c) {
    const auto it = timeline_->compositions.find(c.segment->ref);
    if (it == timeline_->compositions.end()) {
      c.content = Content::offline;
      c.trouble = fmt::format("The composition '{}' is not in the file.", c.segment->ref);
      return;
    }
    c.source_at = {c.segment->source_in, 1};
    Frames length = 0;
    for (const TrackPtr& t : it->second->tracks) length = std::max(length, duration(*t));
    RenderOptions inside = options_;
    inside.region.reset();  // the layer may be moved into the region by its stack
    Compiler compiler(timeline_, media_, inside);
    const std::size_t outside = owners_->size();
    c.inner = compiler.compile(it->second->tracks, length, owners_);
    for (std::size_t i = outside; i < owners_->size(); ++i) (*owners_)[i].placed = c.segment->id;
    c.opaque = std::all_of(
        c.inner->intervals().begin(), c.inner->intervals().end(),
        [](const CompiledInterval& i) { return !i.layers.empty() && i.layers.front().from->covers; });
    c.unseen = std::any_of(c.inner->intervals().begin(), c.inner->intervals().end(),
                           [](const CompiledInterval& i) { return i.unseen; });
  }

  CompiledEffect compiled(const EffectType& type, const Json& params) const {
    CompiledEffect e;
    e.type = &type;
    e.width = width_, e.height = height_;
    const double scale = 1.0 / options_.scale;
    e.params = any_keys(params) ? params : scaled_params(type, params, scale);
    if (!any_keys(params)) e.fixed = type.make(e.params, width_, height_);
    else if (options_.scale != 1) e.params["_scale"] = scale;
    e.point = type.point, e.moving = type.moving, e.whole = type.whole;
    Hasher h;
    if (e.fixed) add_values(h, type, params);
    else h.add(type.id).add("keys");
    e.identity = h.done();
    return e;
  }

  /// The effect as it runs here: our own, or another program's for which there is a cost card.
  std::pair<const EffectType*, Json> known(const Effect& e) const {
    if (const EffectType* type = effect_type(e.type)) return {type, e.params};
    if (const auto card = timeline_->cards.find(e.type); card != timeline_->cards.end())
      return {&cost_card_effect(),
              {{"name", e.type},
               {"ms", card->second.ms},
               {"width", card->second.width},
               {"height", card->second.height},
               {"device", card->second.device}}};
    return {nullptr, {}};
  }

  /// True when the effect leaves parts of the canvas uncovered.
  bool effect(CompiledSegment& c, const Effect& e) {
    if (!e.enabled) return false;
    const auto [type, params] = known(e);
    if (!type) {
      if (e.type != "retime")
        c.remarks.push_back(
            fmt::format("'{}' is not an effect we can run; the picture passes through. Give it a cost "
                        "card so that the forecast knows of it.",
                        e.type));
      return false;
    }
    for (std::string& r : param_remarks(*type, params)) c.remarks.push_back(std::move(r));
    CompiledEffect x = compiled(*type, params);
    x.id = e.id;
    const Json first = scaled_params(*type, params_at(params, 0), 1.0 / options_.scale);
    const std::shared_ptr<const EffectInstance> now = x.fixed ? x.fixed : x.at(0);
    if (const std::string why = now->trouble(); !why.empty()) c.remarks.push_back(why);
    if (x.fixed && x.fixed->identity()) return false;
    if (c.content == Content::adjustment && now->window().length() > 1) {
      c.remarks.push_back(fmt::format(
          "{} needs neighbouring frames, which an adjustment does not have; it is left out.", type->label));
      return false;
    }
    x.window = now->window();
    x.reach = now->reach();
    x.device = options_.device;
    if (e.device == "processor") x.device = Device::processor;
    if (e.device == "accelerator" && accelerator_available()) x.device = Device::accelerator;
    std::string label = type->label;
    if (type == &cost_card_effect()) label = text_or(params, "name", "Effect") + " (cost card)";
    if (x.device == Device::accelerator && (!type->accelerator || !now->on_accelerator())) {
      x.device = Device::processor;
      label += ", processor only";
    }
    x.stage = {type->stage,
               cost_key(*type, first, width_, height_),
               owner(c.segment->id, e.id, label, type->stage),
               cost_law(*type, first, x.device == Device::accelerator),
               cost_terms(*type, first, width_, height_),
               type->by_wall || x.device == Device::accelerator,
               x.device == Device::accelerator ||
                   (type == &cost_card_effect() && text_or(params, "device", "processor") == "accelerator" &&
                   accelerator_available())};
    c.effects.push_back(std::move(x));
    return type->places;
  }

  /// Going to the accelerator and back costs two transfers of the picture, which point operations alone do
  /// not earn: a run that holds nothing else stays on the processor.
  void choose_devices(CompiledSegment& c) {
    for (std::size_t i = 0; i < c.effects.size();) {
      if (c.effects[i].device != Device::accelerator) {
        ++i;
        continue;
      }
      std::size_t end = i;
      bool earns = false;
      while (end < c.effects.size() && c.effects[end].device == Device::accelerator)
        earns = earns || !c.effects[end].point, ++end;
      for (std::size_t k = i; k < end; ++k) {
        CompiledEffect& e = c.effects[k];
        if (!earns) {
          e.device = Device::processor;
          e.stage.by_wall = e.stage.elsewhere = false;
          e.stage.law = cost_law(*e.type, params_at(e.params, 0), false);
          continue;
        }
        e.stage.key = Hasher().add(e.stage.key).add("accelerator").done();
        if (k == i || k + 1 == end)
          e.transfer = k > i ? c.effects[i].transfer
                             : stage(StageKind::transfer, key("transfer").done(),
                                     owner(c.segment->id, "", "Transfer", StageKind::transfer), "transfer",
                                     "Transfer");
        e.transfer.by_wall = e.transfer.elsewhere = true;
      }
      i = end;
    }
    // The first of a fused run of point operations waits for the picture, and takes alpha out and in.
    bool running = false, alpha = !c.opaque && c.content != Content::adjustment;
    for (CompiledEffect& e : c.effects) {
      const bool fused = e.point && e.device == Device::processor;
      if (fused && !running) also_costs(e.stage, kLoadedFirst);
      if (alpha && !(fused && running)) also_costs(e.stage, kWithAlpha);
      running = fused;
      alpha = alpha || (e.type && e.type->places);
    }
  }

  /// Adds the raster's pixels to a term of the stage's law, if it has that one.
  void also_costs(StageRef& stage, const char* term) const {
    const auto& names = stage.law->terms;
    const auto it = std::find(names.begin(), names.end(), term);
    if (it == names.end()) return;
    stage.terms[static_cast<std::size_t>(it - names.begin())] = mpix();
    stage.key = Hasher().add(stage.key).add(term).done();
  }

  /// Keys that change what an effect costs: each second of it is work of its own, costed at its middle.
  /// Frames [from, to) of the segment.
  void cut_where_keys_cost(CompiledEffect& e, Frames from, Frames to) const {
    if (!e.type || e.fixed) return;
    const Frames second = timeline_->rate.nominal();
    const auto values = [&](Frames at) {
      return scaled_params(*e.type, params_at(e.params, static_cast<double>(at)), 1.0 / options_.scale);
    };
    const Hash128 first = cost_key(*e.type, values(0), width_, height_);
    const Terms first_terms = cost_terms(*e.type, values(0), width_, height_);
    for (Frames at = from; at < to; at += second) {
      const Json now = values(std::min(at + second / 2, to - 1));
      StageRef stage = e.stage;
      if (const Hash128 k = cost_key(*e.type, now, width_, height_); k != first) {
        stage.key = Hasher().add(stage.key).add(k).done();
        const Terms terms = cost_terms(*e.type, now, width_, height_);
        for (std::size_t i = 0; i < terms.size(); ++i) stage.terms[i] += terms[i] - first_terms[i];
      }
      if (e.pieces.empty() || e.pieces.back().second.key != stage.key) e.pieces.emplace_back(at, stage);
    }
    if (e.pieces.size() == 1 && e.pieces.front().second.key == e.stage.key) e.pieces.clear();
  }

  CompiledLayer layer_of(const Program& program, const Layout& layout, const Layer& l) {
    CompiledLayer layer;
    layer.from = program.segments_[static_cast<std::size_t>(l.placed)];
    if (l.transition < 0) return layer;
    const PlacedTransition& t = layout.transitions[static_cast<std::size_t>(l.transition)];
    layer.to = program.segments_[static_cast<std::size_t>(l.to)];
    layer.in = t.in, layer.out = t.out;
    layer.kind = transition_kind(t.kind);
    for (std::size_t i = 0; i < 3; ++i) {
      const auto colour = t.params.is_object() ? t.params.find("colour") : t.params.end();
      if (t.params.is_object() && colour != t.params.end() && colour->is_array() && i < colour->size() &&
          (*colour)[i].is_number())
        layer.colour[i] = (*colour)[i].get<float>();
    }
    layer.angle = static_cast<float>(number_or(t.params, "angle", 0));
    layer.softness = static_cast<float>(std::clamp(number_or(t.params, "softness", 0.05), 0.0, 1.0));
    static constexpr const char* kLabels[] = {"Dissolve", "Dip to colour", "Wipe", "Morph"};
    const char* label = kLabels[static_cast<std::size_t>(layer.kind)];
    layer.transition = stage(StageKind::transition, key(label).done(),
                             owner(layer.to->segment->id, "", label, StageKind::transition), label, label);
    Hasher h;
    h.add(label);
    if (layer.kind == TransitionKind::dip)
      for (const float v : layer.colour) h.add(fmt::format("{:a}", v));
    if (layer.kind == TransitionKind::wipe) h.add(fmt::format("{:a} {:a}", layer.angle, layer.softness));
    layer.identity = h.done();
    return layer;
  }

  void add_interval(Program& program, const std::vector<TrackPtr>& tracks, const Layout& layout,
                    const Interval& interval) {
    CompiledInterval compiled{interval.in, interval.out, {}, false, false, {}};
    std::map<std::string, std::shared_ptr<const CompiledLayer>> mattes;
    const auto track_of = [&](const Layer& l) -> const Track& {
      return *tracks[static_cast<std::size_t>(layout.placed[static_cast<std::size_t>(l.placed)].track)];
    };
    // Any track can serve as a matte, whether it is seen or not.
    for (const Layer& l : interval.layers)
      mattes[track_of(l).id] = std::make_shared<CompiledLayer>(layer_of(program, layout, l));
    const auto matte_of = [&](const CompiledSegmentPtr& s) -> std::shared_ptr<const CompiledLayer> {
      if (!s || s->segment->matte.track.empty()) return nullptr;
      const auto it = mattes.find(s->segment->matte.track);
      // An adjustment has no picture that could be a matte.
      const bool none = it == mattes.end() || it->second->from->content == Content::adjustment;
      return none ? nullptr : it->second;
    };
    for (const Layer& l : interval.layers) {
      if (track_of(l).matte_only) continue;
      CompiledLayer layer = layer_of(program, layout, l);
      layer.from_matte = matte_of(layer.from), layer.to_matte = matte_of(layer.to);
      // A layer that cannot be seen costs nothing.
      if (!layer.to && hidden(*layer.from, layer.from_matte != nullptr)) continue;
      // What lies below an opaque picture of the whole raster is not seen and costs nothing either.
      if (layer.from->covers && (!layer.to || layer.to->covers)) compiled.layers.clear();
      compiled.layers.push_back(std::move(layer));
    }
    for (std::size_t i = 0; i < compiled.layers.size(); ++i)
      compiled.layers[i].mix = mix(compiled.layers[i], i == 0);
    compiled.unseen = std::any_of(compiled.layers.begin(), compiled.layers.end(),
                                  [](const CompiledLayer& l) { return l.unseen(); });
    // Inside a composition the layers change too; cut there, so that the cost within an interval is of one
    // sort.
    std::vector<Frames> cuts{interval.in};
    for (const CompiledLayer& l : compiled.layers)
      if (l.from->inner && l.from->segment->speed == Ratio{})
        for (const CompiledInterval& i : l.from->inner->intervals()) {
          const Frames at = l.from->in + i.in - l.from->segment->source_in;
          if (at > interval.in && at < interval.out) cuts.push_back(at);
        }
    // And where keys change the cost of an effect.
    const auto cut_keys = [&](const CompiledSegmentPtr& s) {
      if (!s) return;
      for (const CompiledEffect& e : s->effects)
        for (const auto& [from, piece] : e.pieces)
          if (const Frames at = s->in + from; at > interval.in && at < interval.out) cuts.push_back(at);
    };
    for (const CompiledLayer& l : compiled.layers) cut_keys(l.from), cut_keys(l.to);
    // And where a source begins or ends to have pictures.
    for (const CompiledLayer& l : compiled.layers) {
      if (has_all(l, interval)) continue;
      for (Frames f = interval.in + 1; f < interval.out; ++f)
        if (l.missing_at(f, timeline_->rate) != l.missing_at(f - 1, timeline_->rate)) cuts.push_back(f);
    }
    std::sort(cuts.begin(), cuts.end());
    cuts.erase(std::unique(cuts.begin(), cuts.end()), cuts.end());
    cuts.push_back(interval.out);
    for (std::size_t i = 0; i + 1 < cuts.size(); ++i) {
      const bool missing = std::any_of(compiled.layers.begin(), compiled.layers.end(), [&](const CompiledLayer& l) {
        return l.missing_at(cuts[i], timeline_->rate);
      });
      program.intervals_.push_back(
          {cuts[i], cuts[i + 1], compiled.layers, compiled.unseen, missing, between(compiled),
           missing ? std::nullopt : straight(program, compiled)});
      program.intervals_.back().identity = identity_of(program.intervals_.back());
      program.intervals_.back().texture = texture_of(program.intervals_.back());
    }
  }

  Hash128 identity_of(const CompiledInterval& interval) const {
    Hasher h;
    h.add(kRendererVersion).add(timeline_->width).add(timeline_->height);
    h.add(timeline_->working_space).add(timeline_->display_space).add(options_.rendering);
    for (const CompiledLayer& l : interval.layers) add_identity(h, l, interval.in);
    return h.done();
  }
  void add_identity(Hasher& h, const CompiledLayer& l, Frames in) const {
    const auto add = [&](const CompiledSegment& s) {
      h.add(s.identity).add(s.content_identity).add(in - s.in).add(s.source_at.num).add(s.source_at.den);
      h.add(s.segment->speed.num).add(s.segment->speed.den).add(s.source_rate.num).add(s.source_rate.den);
      h.add(timeline_->rate.num).add(timeline_->rate.den);
      h.add(s.segment->copies);
      if (has_keys(s.segment->opacity)) h.add(s.segment->opacity.dump());
      if (s.content == Content::generator) h.add(s.generator.identity);
      if (!s.inner) return;
      for (const CompiledInterval& i : s.inner->intervals()) h.add(i.in).add(i.out).add(i.identity);
    };
    h.add("layer");
    add(*l.from);
    if (l.from_matte) add_identity(h.add("matte"), *l.from_matte, in);
    if (!l.to) return;
    h.add(in - l.in).add(l.out - l.in).add(l.identity);
    add(*l.to);
    if (l.to_matte) add_identity(h.add("matte"), *l.to_matte, in);
  }

  /// Whether an interval is one source that nothing is done to, and what bringing it to the screen costs then.
  std::optional<StageRef> straight(const Program& program, const CompiledInterval& interval) const {
    if (interval.layers.size() != 1 || program.output_ || options_.region || options_.half) return {};
    const CompiledLayer& l = interval.layers.front();
    const CompiledSegment& s = *l.from;
    if (l.to || l.from_matte || s.content != Content::source || !s.effects.empty() || s.retimes || s.unseen || !s.covers ||
        has_keys(s.segment->opacity) || !s.segment->matte.track.empty() || !goes_straight(s.media))
      return {};
    return straight_stage(s.convert, s.media.pixel_format);
  }
  /// Whether the layer's sources surely have every frame of the interval: those that begin and end within the file.
  bool has_all(const CompiledLayer& l, const Interval& interval) const {
    const auto sure = [&](const CompiledSegmentPtr& s) {
      if (!s) return true;
      if (s->content == Content::offline) return false;
      if (s->inner)
        return std::none_of(s->inner->intervals().begin(), s->inner->intervals().end(),
                            [](const CompiledInterval& i) { return i.missing; });
      return s->content != Content::source ||
             (s->media.holes.empty() && !s->missing_at(interval.in, timeline_->rate) &&
              !s->missing_at(interval.out - 1, timeline_->rate));
    };
    return sure(l.from) && sure(l.to) && (!l.from_matte || has_all(*l.from_matte, interval)) &&
           (!l.to_matte || has_all(*l.to_matte, interval));
  }

  StageRef mix(const CompiledLayer& layer, bool first) const {
    const bool adjusts = layer.from->content == Content::adjustment;
    const std::string blend = adjusts                              ? "adjustment"
                              : layer.from->blend != Blend::normal ? layer.from->segment->blend
                                                                   : "";
    StageRef m{StageKind::mix,
               key("mix").add(blend).add(first).done(),
               mix_owner_,
               law_name("mix" + (blend.empty() ? "" : " " + blend),
                        "Mix of tracks" + (blend.empty() ? "" : ", " + blend), StageKind::mix,
                        {"Mpixel", "Mpixel of a new canvas"}),
               {mpix()},
               false};
    m.terms[1] = first ? mpix() : 0;
    return m;
  }

  /// Pictures that are copied for a frame: effects with a window of frames work on a copy of the one that
  /// they share with their neighbours, adjustments that count in part on one of what is below them.
  int copies_in(const CompiledInterval& interval) const {
    int copies = 0;
    for (const CompiledLayer& l : interval.layers) copies += copies_in(l, interval.in);
    return copies;
  }
  int copies_in(const CompiledLayer& l, Frames frame) const {
    int copies = l.from->content == Content::adjustment && !l.to && l.counts_partly(frame);
    for (const CompiledSegment* s : {l.from.get(), l.to.get()}) {
      if (!s) continue;
      for (const CompiledEffect& e : s->effects) copies += e.window.length() > 1 && !(e.type && e.type->makes_new);
      if (!s->inner) continue;
      const int i = s->inner->interval_at(s->frame_at(frame, timeline_->rate));
      if (i >= 0) copies += copies_in(s->inner->intervals()[static_cast<std::size_t>(i)]);
    }
    for (const CompiledLayer* m : {l.from_matte.get(), l.to_matte.get()})
      if (m) copies += copies_in(*m, frame);
    return copies;
  }

  StageRef between(const CompiledInterval& interval) {
    if (between_owner_ < 0) between_owner_ = owner("", "", "Between stages", StageKind::mix);
    const int copies = copies_in(interval);
    StageRef b{StageKind::mix,
               key("between").add(copies).done(),
               between_owner_,
               law_name("between stages", "Between stages", StageKind::mix, {"Mpixel", "Mpixel copied"}),
               {mpix()},
               false};
    b.terms[1] = mpix() * static_cast<float>(copies);
    return b;
  }

  static bool hidden(const CompiledSegment& s, bool has_matte) {
    if (!has_keys(s.segment->opacity) && s.opacity_at(s.in) <= 0) return true;
    if (s.content == Content::adjustment && s.effects.empty()) return true;
    // A matte that is not there hides everything, inverted nothing.
    return !s.segment->matte.track.empty() && !has_matte && !s.segment->matte.inverted;
  }

  TimelinePtr timeline_;
  MediaCatalog& media_;
  RenderOptions options_;
  int width_ = 0, height_ = 0;
  int between_owner_ = -1, mix_owner_ = -1;
  std::shared_ptr<std::vector<Owner>> owners_;
};

ProgramPtr Program::compile(const TimelinePtr& timeline, MediaCatalog& media, const RenderOptions& options) {
  auto owners = std::make_shared<std::vector<Owner>>();
  auto program = Compiler(timeline, media, options).compile(timeline->tracks, timeline->duration(), owners);
  program->owners_ = std::move(*owners);
  return program;
}

}  // namespace gc
