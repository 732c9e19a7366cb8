#include "desk/report.h"

#include <cmath>
#include <ctime>

#include "base/timecode.h"

namespace gc {
namespace {

const char* mode_name(PlayMode m) { return m == PlayMode::on_the_clock ? "on_the_clock" : "every_frame"; }

Json json_of(const StageCost& s) {
  return {{"stage", stage_name(s.kind)}, {"segment", s.segment},    {"effect", s.effect}, {"label", s.label},
          {"ms_per_frame", s.ms},        {"estimated", s.estimated}};
}
Json json_of(const std::vector<FrameRange>& ranges) {
  Json all = Json::array();
  for (const FrameRange& r : ranges) all.push_back({{"in", r.in}, {"out", r.out}});
  return all;
}

}  // namespace

Json to_json(const MeasureReport& r) {
  return {{"kinds", r.kinds},        {"within_tolerance", r.within}, {"from_notebook", r.from_notebook},
          {"by_law", r.by_law},      {"frames_timed", r.frames},     {"seconds", r.seconds},
          {"cancelled", r.cancelled}};
}

Json to_json(const Forecast& f) {
  Json spans = Json::array(), segments = Json::array();
  for (const Span& s : f.spans)
    spans.push_back({{"in", s.in},
                     {"out", s.out},
                     {"verdict", verdict_name(s.verdict)},
                     {"drop_probability", s.drop_probability},
                     {"expected_drops", s.expected_drops},
                     {"drops_low", s.drops_low},
                     {"drops_high", s.drops_high},
                     {"sustained_rate", s.sustained_rate},
                     {"cause", cause_name(s.cause)},
                     {"blame", json_of(s.blame)},
                     {"segments", s.segments}});
  for (const IntervalCost& c : f.intervals) {
    Json stages = Json::array();
    for (const StageCost& s : c.stages) stages.push_back(json_of(s));
    segments.push_back({{"in", c.in},
                        {"out", c.out},
                        {"load", c.load},
                        {"load_low", c.load_low},
                        {"load_high", c.load_high},
                        {"live_load", c.live_load},
                        {"fetch_ms", c.fetch_ms},
                        {"process_ms", c.process_ms},
                        {"sealed", c.is(FrameState::sealed)},
                        {"broken", c.is(FrameState::broken)},
                        {"rendered_effects", c.rendered_effects()},
                        {"measured", c.measured},
                        {"stages", stages}});
  }
  return {{"rate", f.rate.fps()},
          {"frames", f.range.length()},
          {"in", f.range.in},
          {"out", f.range.out},
          {"expected_drops", f.expected_drops},
          {"drops_low", f.drops_low},
          {"drops_high", f.drops_high},
          {"fully_measured", f.fully_measured},
          {"costs_over_known", f.base},
          {"cores_shared", f.crowding >= 0 ? Json(f.crowding) : Json()},
          {"forecast_seconds", f.seconds},
          {"spans", spans},
          {"intervals", segments}};
}

Json to_json(const Forecast& f, const Program& program) {
  Json j = to_json(f), said = Json::array();
  const Forecast own = alone(f, program);
  for (const FrameRange& r : spans_called(own)) said.push_back({{"in", r.in}, {"out", r.out}});
  j["own"] = {{"expected_drops", own.expected_drops}, {"spans_said", said}};
  return j;
}

namespace {

std::string iso_utc(std::int64_t seconds) {
  const auto t = static_cast<std::time_t>(seconds);
  std::tm parts{};
  gmtime_r(&t, &parts);
  char text[32];
  std::strftime(text, sizeof text, "%Y-%m-%dT%H:%M:%SZ", &parts);
  return text;
}

}  // namespace

Json to_json(const Plan& p) {
  const auto points = [](const std::vector<FrontierPoint>& all) {
    Json list = Json::array();
    for (const FrontierPoint& f : all) list.push_back({{"seconds", f.seconds}, {"bytes", f.bytes}, {"drops", f.drops}});
    return list;
  };
  const auto finite = [](double v) { return std::isfinite(v) ? Json(v) : Json(); };
  const auto at = [&](double seconds) { return std::isfinite(seconds) ? Json(iso_utc(p.made_at + static_cast<std::int64_t>(std::llround(seconds)))) : Json(); };
  Json remedies = Json::array(), schedule = Json::array(), words = Json::array();
  for (const Remedy& r : p.remedies) {
    remedies.push_back({{"id", r.id},
                        {"kind", r.proposal.kind ? r.proposal.kind->name() : ""},
                        {"in", r.range.in},
                        {"out", r.range.out},
                        {"segment", r.segment},
                        {"segment_name", r.segment_name},
                        {"seconds", r.render_seconds},
                        {"render_seconds", r.render_seconds},
                        {"bytes", r.bytes},
                        {"drops_saved", r.drops_saved},
                        {"hides", r.proposal.hides},
                        {"reason", r.reason},
                        {"pinned", r.pinned},
                        {"must_watch", r.must_watch}});
    schedule.push_back({{"id", r.id}, {"begins", at(r.begins)}, {"ends", at(r.ends)}});
  }
  Json watch = Json::array(), reviews = Json::array();
  for (const Review& r : p.reviews)
    reviews.push_back({{"in", r.range.in}, {"out", r.range.out}, {"by", iso_utc(r.at)}, {"ready_at", at(r.ready_in)}, {"ready_probability", r.ready_probability}, {"drops_after", r.drops}});
  for (const Restless& r : p.must_watch) {
    const bool plays = std::none_of(p.after.spans.begin(), p.after.spans.end(), [&](const Span& s) { return s.verdict != Verdict::holds && s.in <= r.frame && s.out > r.frame; });
    watch.push_back({{"segment", r.segment}, {"effect", r.effect}, {"frame", r.frame}, {"x", r.x}, {"y", r.y}, {"change", r.change}, {"plays", plays}});
  }
  for (const WordCost& w : p.words) words.push_back({{"word", w.word}, {"seconds_less_without", w.seconds}, {"drops_fewer_without", w.drops}});
  return {{"sentence", p.sentence},
          {"review", p.review_at ? Json(iso_utc(*p.review_at)) : Json()},
          {"reviews", reviews},
          {"remedies", remedies},
          {"must_watch", watch},
          {"drop_seconds", finite(p.drop_seconds)},
          {"frames", p.frames},
          {"render_seconds", p.render_seconds},
          {"bytes", p.bytes},
          {"drops_before", p.before.expected_drops},
          {"drops_after", p.after.expected_drops},
          {"drops_by_others", p.drops_by_others},
          {"holds_after", p.holds},
          {"bound_seconds", p.bound_seconds},
          {"bound_drops", p.bound_drops},
          {"gap", p.gap},
          {"rounds", p.rounds},
          {"thought_seconds", p.thought_seconds},
          {"margin", p.margin},
          {"holds_probability", p.holds_probability},
          {"ready_at", at(p.ready_in)},
          {"ready_seconds", finite(p.ready_in)},
          {"ready_seconds_high", finite(p.ready_in_high)},
          {"ready_probability", p.ready_probability},
          {"fits", p.fits},
          {"short_seconds", p.short_seconds},
          {"short_bytes", p.short_bytes},
          {"ways_out", p.ways_out},
          {"words", words},
          {"frontier", points(p.frontier)},
          {"prefixes", points(p.prefixes)},
          {"schedule", schedule}};
}

Json to_json(const PrerenderReport& r) {
  return {{"frames", r.frames},   {"already_sealed_frames", r.already_sealed},
          {"pieces", r.pieces},   {"bytes", r.bytes},
          {"seconds", r.seconds}, {"cancelled", r.cancelled}};
}

Json to_json(const Playout& p) {
  Json drops = Json::array(), segments = Json::array();
  Frames sealed = 0;
  for (const FrameLog& l : p.log) {
    sealed += l.state == FrameState::sealed;
    if (l.dropped)
      drops.push_back(
          {{"frame", l.frame}, {"late_ms", l.late_ms}, {"started", l.made}, {"cause", cause_name(l.cause)}});
  }
  for (const SegmentPlay& s : p.segments)
    segments.push_back(
        {{"id", s.id}, {"frames", s.frames}, {"dropped", s.dropped}, {"sustained_rate", s.sustained_rate}});
  return {{"mode", mode_name(p.mode)},
          {"rate", p.rate.fps()},
          {"in", p.range.in},
          {"out", p.range.out},
          {"frames", p.frames},
          {"dropped", p.dropped},
          {"dropped_outside", p.dropped_outside},
          {"offline_frames", p.offline()},
          {"sealed_frames", sealed},
          {"rate_reached", p.rate_reached},
          {"seconds", p.seconds},
          {"preroll_seconds", p.preroll_seconds},
          {"stopped", p.stopped},
          {"drops", drops},
          {"segments", segments}};
}

Json to_json(const Audit& a, const Forecast& f, const Playout& p) {
  return {{"sentence", a.sentence},
          {"drops_forecast", a.drops_forecast},
          {"drops_low", a.drops_low},
          {"drops_high", a.drops_high},
          {"drops_observed", a.drops_observed},
          {"drops_outside", a.drops_outside},
          {"span_precision", a.span_precision},
          {"span_recall", a.span_recall},
          {"span_f1", a.span_f1},
          {"spans_forecast", json_of(a.spans_forecast)},
          {"spans_observed", json_of(a.spans_observed)},
          {"disagreements", a.disagreements},
          {"forecast", to_json(f)},
          {"playout", to_json(p)}};
}

Json to_json(const Gate& g) {
  Json items = Json::array();
  for (const GateItem& i : g.items)
    items.push_back({{"kind", name_of(i.kind)},
                     {"item", i.item},
                     {"accepted", i.accepted ? Json{{"who", i.accepted->who}, {"why", i.accepted->why}, {"at", i.accepted->at}} : Json()},
                     {"stops_delivery", i.stops},
                     {"segment", i.segment},
                     {"at", i.at},
                     {"what", i.what},
                     {"remedy", i.remedy}});
  return {{"may_deliver", g.may_deliver()},
          {"sentence", g.sentence()},
          {"broken_seals", g.count(GateKind::broken_seal)},
          {"open_slips", g.count(GateKind::open_slip)},
          {"offline", g.count(GateKind::offline)},
          {"items", items}};
}

Json to_json(const std::vector<MissingPicture>& missing) {
  Json list = Json::array();
  for (const MissingPicture& m : missing)
    list.push_back({{"segment", m.segment}, {"name", m.name}, {"inside", m.inside}, {"in", m.at.in}, {"out", m.at.out},
                    {"why", m.why}});
  return list;
}

Json to_json(const DemoReport& d) {
  return {{"timeline", d.timeline.string()},
          {"effects_reel", d.reel.string()},
          {"segments", d.segments},
          {"sources", d.sources},
          {"picture_seconds", d.seconds_of_picture},
          {"media_made", d.media_made},
          {"scaling", d.scaling},
          {"seconds", d.seconds_taken}};
}

Json describe_effects() {
  Json all = Json::array();
  const auto describe_one = [&](const EffectType& e, const char* kind) {
    Json params = Json::array(), features = Json::array({"pixels"});
    for (const ParamSpec& p : e.params) {
      params.push_back({{"name", p.name},
                        {"label", p.label},
                        {"unit", p.unit},
                        {"least", p.least},
                        {"most", p.most},
                        {"usual", p.usual},
                        {"values", p.values},
                        {"text", p.text}});
      if (p.costs) features.push_back(p.name);
    }
    const Window w = e.make(Json::object(), 64, 36)->window();
    Json devices = Json::array({"processor"});
    if (e.accelerator) devices.push_back("accelerator");
    Json one = {{"id", e.id},
                {"label", e.label},
                {"kind", kind},
                {"family", e.family},
                {"stage", stage_name(e.stage)},
                {"devices", devices},
                {"tolerance", e.tolerance},
                {"frames_before", w.before},
                {"frames_after", w.after},
                {"point_operation", e.point},
                {"changes_by_itself", e.moving},
                {"features", features},
                {"params", params}};
    if (!e.accelerator) one["processor_only_because"] = e.processor_only;
    all.push_back(std::move(one));
  };
  for (const EffectType* e : effect_types()) describe_one(*e, "effect");
  for (const EffectType* e : generator_types()) describe_one(*e, "generator");
  return all;
}

Json describe(const View& v, MediaCatalog& media) {
  const Timeline& t = *v.timeline;
  Json tracks = Json::array(), sources = Json::array();
  for (const TrackPtr& track : t.tracks) {
    Json segments = Json::array();
    Frames at = 0;
    for (const Item& item : track->items) {
      if (const auto* g = std::get_if<Gap>(&item)) at += g->duration;
      if (const auto* o = std::get_if<Opaque>(&item)) at += o->duration;
      const auto* s = std::get_if<SegmentPtr>(&item);
      if (!s) continue;
      Json stack = Json::array();
      for (const Effect& e : (*s)->stack)
        stack.push_back({{"id", e.id},
                         {"type", e.type},
                         {"params", e.params},
                         {"enabled", e.enabled},
                         {"known", effect_type(e.type) != nullptr},
                         {"bypassed", bypassed(t, (*s)->id, e.id)}});
      static constexpr const char* kContent[] = {"source", "composition", "generator", "offline",
                                                 "adjustment"};
      segments.push_back({{"id", (*s)->id},
                          {"name", (*s)->name},
                          {"note", (*s)->note},
                          {"in", at},
                          {"out", at + (*s)->duration},
                          {"timecode_in", timecode_at(t, at)},
                          {"content", kContent[static_cast<std::size_t>((*s)->content)]},
                          {"ref", (*s)->ref},
                          {"enabled", (*s)->enabled},
                          {"stack", stack}});
      at += (*s)->duration;
    }
    tracks.push_back({{"id", track->id},
                      {"name", track->name},
                      {"kind", track->video ? "video" : "audio"},
                      {"enabled", track->enabled},
                      {"segments", segments}});
  }
  for (const auto& [id, m] : t.sources) {
    Json j = {{"id", id}, {"name", m->name}, {"path", m->path}, {"frames", m->length}};
    if (m->path.ends_with(".wav")) {
      j["kind"] = "audio", j["online"] = fs::exists(m->path);
    } else if (const auto info = media.info(m->path)) {
      j.update({{"kind", "video"},
                {"online", true},
                {"codec", info->codec},
                {"intra", info->intra},
                {"width", info->width},
                {"height", info->height},
                {"rate", info->rate.fps()},
                {"bits", info->bits},
                {"bytes", info->bytes}});
    } else {
      j.update({{"kind", "video"}, {"online", false}, {"trouble", info.error().text()}});
    }
    sources.push_back(std::move(j));
  }
  return {{"name", t.name},          {"rate", t.rate.fps()},   {"width", t.width},
          {"height", t.height},      {"frames", t.duration()}, {"timecode_start", timecode_at(t, 0)},
          {"tracks", tracks},        {"media", sources},       {"compositions", t.compositions.size()},
          {"slips", t.slips.size()}, {"remarks", t.remarks}};
}

}  // namespace gc
