#include "audit/score.h"

#include <cmath>

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <set>

#include "base/log.h"

namespace gc {
namespace {

double median(std::vector<double> v) {
  if (v.empty()) return 0;
  std::sort(v.begin(), v.end());
  return v.size() % 2 ? v[v.size() / 2] : (v[v.size() / 2 - 1] + v[v.size() / 2]) / 2;
}

/// What is believed without measuring: some effects are heavy and will drop frames.
bool said_to_be_heavy(const std::string& type) {
  static const std::set<std::string> kHeavy{"spatial_nr", "strong_nr", "temporal_nr",
                                            "stylise",    "defocus",   "dust",
                                            "deflicker",  "glow",      "directional_blur"};
  return kHeavy.contains(type);
}

std::vector<FrameRange> joined(std::vector<FrameRange> spans) {
  std::vector<FrameRange> out;
  for (const FrameRange& r : spans)
    if (!out.empty() && out.back().out == r.in) out.back().out = r.out;
    else out.push_back(r);
  return out;
}

std::vector<FrameRange> by_heavy_effects(const Program& program) {
  std::vector<FrameRange> spans;
  for (const CompiledInterval& i : program.intervals())
    for (const CompiledLayer& l : i.layers)
      if (std::any_of(l.from->segment->stack.begin(), l.from->segment->stack.end(),
                      [](const Effect& e) { return e.enabled && said_to_be_heavy(e.type); })) {
        spans.push_back({i.in, i.out});
        break;
      }
  return joined(spans);
}

std::vector<FrameRange> by_processor_sum(const Forecast& f, int workers) {
  std::vector<FrameRange> spans;
  for (const IntervalCost& c : f.intervals)
    if ((c.fetch_ms + c.process_ms) / workers > f.rate.frame_ms()) spans.push_back({c.in, c.out});
  return joined(spans);
}

bool was_disturbed(const Playout& p) {
  return p.around.disturbed() ||
         static_cast<double>(p.dropped_outside) > 0.02 * static_cast<double>(p.frames);
}

Cause cause_in(const Playout& p, FrameRange r) {
  std::map<Cause, int> counts;
  for (const FrameLog& l : p.log)
    if (l.dropped && l.frame >= r.in && l.frame < r.out) ++counts[l.cause];
  const auto most = std::max_element(counts.begin(), counts.end(),
                                     [](const auto& a, const auto& b) { return a.second < b.second; });
  return most == counts.end() ? Cause::none : most->first;
}

void hold_against(TimelineScore& score, const Forecast& f, const Playout& p, const Replay& r) {
  score.all.add(spans_called(f), spans_observed(p, false));
  if (!was_disturbed(p)) score.quiet.add(spans_called(f), spans_observed(p, false));
  score.parts += static_cast<int>(r.parts.size()), score.parts_modelled += r.agreeing();
  for (const Replay::Part& part : r.parts)
    score.model_worst =
        std::max(score.model_worst, std::abs(static_cast<double>(part.observed - part.modelled)));
  for (const Span& s : f.spans) {
    if (s.verdict != Verdict::spills) continue;
    const int drops = drops_in(p, {s.in, s.out});
    const double frames = static_cast<double>(s.out - s.in);
    // A rate over less than a second is chance.
    if (frames >= p.rate.fps() && !was_disturbed(p))
      score.rate_errors.push_back(
          std::abs(s.sustained_rate / std::max(0.1, p.rate.fps() * (1 - drops / frames)) - 1));
    if (const Cause cause = cause_in(p, {s.in, s.out}); cause != Cause::none && cause != Cause::outside)
      ++score.causes, score.causes_right += cause == s.cause;
  }
}

/// What was said of each span and segment, beside what each playout did there.
void tell_apart(TimelineScore& score, const Forecast& f, const std::vector<Playout>& playouts,
                const Program& program) {
  const auto entry = [&](Span s) {
    SpanScore e;
    e.said = std::move(s);
    for (const Playout& p : playouts) {
      e.drops.push_back(drops_in(p, {e.said.in, e.said.out}));
      e.causes.push_back(cause_in(p, {e.said.in, e.said.out}));
    }
    return e;
  };
  for (const Span& s : f.spans) score.spans.push_back(entry(s));
  for (const FrameRange& part : segment_ranges(program)) {
    score.segments_said.push_back(entry(f.over(part)));
    for (const IntervalCost& c : f.intervals)
      if (c.in < part.out && c.out > part.in)
        score.segments_said.back().load = std::max(score.segments_said.back().load, c.load);
  }
}

Json to_json(const SpanScore& s) {
  Json causes = Json::array();
  for (const Cause c : s.causes) causes.push_back(cause_name(c));
  return {{"in", s.said.in},
          {"out", s.said.out},
          {"verdict", verdict_name(s.said.verdict)},
          {"probability", s.said.drop_probability},
          {"drops_forecast", s.said.expected_drops},
          {"cause", cause_name(s.said.cause)},
          {"load", s.load},
          {"drops_observed", s.drops},
          {"causes_observed", causes}};
}
Json to_json(const std::vector<SpanScore>& all) {
  Json j = Json::array();
  for (const SpanScore& s : all) j.push_back(to_json(s));
  return j;
}

void probabilities(TimelineScore& score, const Forecast& f, const std::vector<Playout>& playouts,
                   const Program& program) {
  double open = 0;
  const std::vector<FrameRange> parts = segment_ranges(program);
  for (const FrameRange& part : parts) {
    const double said = f.any_drop(part);
    double dropped = 0;
    for (const Playout& p : playouts) {
      const int any = drops_in(p, part) > 0;
      score.probability.push_back(said), score.outcome.push_back(any);
      dropped += any;
    }
    // The variance of one outcome around the segment's own mean is what no forecast can know.
    const auto n = static_cast<double>(playouts.size());
    if (n > 1) open += dropped / n * (1 - dropped / n) * n / (n - 1);
  }
  score.brier_limit = parts.empty() ? 0 : open / static_cast<double>(parts.size());
}

Json to_json(const SpanMatch& m) {
  return {{"called", m.called},
          {"called_right", m.called_right},
          {"observed", m.observed},
          {"observed_found", m.observed_found},
          {"f1", m.f1()}};
}

Json to_json(const TimelineScore& t) {
  Json renders = Json::array();
  for (const PriceRecord& p : t.renders)
    renders.push_back({{"frames", p.frames},
                       {"modelled_seconds", p.modelled_s},
                       {"said_seconds", p.said_s},
                       {"taken_seconds", p.taken_s}});
  return {{"seed", t.seed},
          {"renders", renders},
          {"frames", t.frames},
          {"drops_forecast", t.drops_forecast},
          {"drops_forecast_range", {t.drops_low, t.drops_high}},
          {"drops_observed", t.drops_observed},
          {"drops_outside", t.drops_outside},
          {"disturbed", t.disturbed},
          {"cores_shared", t.crowding},
          {"costs_forecast_over_known", t.base},
          {"costs_played_over_known", t.moods},
          {"spans_undisturbed", to_json(t.quiet)},
          {"spans", to_json(t.all)},
          {"spans_playout_against_playout", to_json(t.between)},
          {"segments", t.parts},
          {"segments_modelled", t.parts_modelled},
          {"model_only_worst_frames", t.model_worst},
          {"brier", brier(t.probability, t.outcome)},
          {"brier_limit", t.brier_limit},
          {"spans_said", to_json(t.spans)},
          {"segments_said", to_json(t.segments_said)},
          {"disagreements", t.disagreements}};
}

template <class F>
SpanMatch total(const std::vector<TimelineScore>& all, F&& of) {
  SpanMatch sum;
  for (const TimelineScore& t : all) {
    const SpanMatch& m = of(t);
    sum.called += m.called, sum.called_right += m.called_right;
    sum.observed += m.observed, sum.observed_found += m.observed_found;
  }
  return sum;
}

}  // namespace

double SpanMatch::f1() const {
  if (called == 0 && observed == 0) return 1;
  const double p = precision(), r = recall();
  return p + r > 0 ? 2 * p * r / (p + r) : 0;
}

void SpanMatch::add(const std::vector<FrameRange>& forecast, const std::vector<FrameRange>& seen) {
  called += static_cast<int>(forecast.size()), observed += static_cast<int>(seen.size());
  called_right += spans_found(forecast, seen), observed_found += spans_found(seen, forecast);
}

TimelineScore score_timeline(const ProgramPtr& program, Notebook& notebook, const ScoreOptions& options,
                             const std::atomic<bool>& stop) {
  TimelineScore t;
  t.frames = program->duration();
  const FrameRange whole{0, program->duration()};
  const Forecast f = forecast(*program, notebook, {}, whole, options.forecast);
  t.base = f.base, t.crowding = f.crowding;
  t.drops_forecast = f.expected_drops, t.drops_low = f.drops_low, t.drops_high = f.drops_high;
  std::vector<Playout> playouts;
  int quiet = 0;
  for (int i = 0; i < options.repeat + options.again && quiet < options.repeat && !stop; ++i) {
    PlayOptions o;
    o.workers = options.forecast.workers, o.horizon = options.forecast.horizon;
    o.kinds = kinds_of(*program, notebook, {}, whole, options.forecast);
    NullDisplay display;
    Playout p = play(program, nullptr, whole, o, display, stop);
    if (p.stopped) break;
    t.drops_observed.push_back(p.dropped), t.drops_outside.push_back(p.dropped_outside);
    t.disturbed.push_back(was_disturbed(p));
    quiet += !was_disturbed(p);
    const Replay model = replay(record_of(p, *program));
    hold_against(t, f, p, model);
    t.heavy_effects.add(by_heavy_effects(*program), spans_observed(p, true));
    t.processor_sum.add(by_processor_sum(f, options.forecast.workers), spans_observed(p, true));
    if (auto noted = note_playout(f, p, *program, notebook); !noted)
      spdlog::warn("{}", noted.error().text());
    t.moods.push_back(moods_of(f, p));
    // Where the model alone was wrong, a file is left that shows it.
    if (!options.replays.empty() && !model.agrees())
      if (auto kept = keep_replay(p, *program, options.replays); !kept)
        spdlog::warn("{}", kept.error().text());
    playouts.push_back(std::move(p));
  }
  for (std::size_t a = 0; a < playouts.size(); ++a)
    for (std::size_t b = 0; b < playouts.size(); ++b)
      if (a != b) t.between.add(spans_observed(playouts[a], false), spans_observed(playouts[b], false));
  probabilities(t, f, playouts, *program);
  tell_apart(t, f, playouts, *program);
  if (!playouts.empty()) t.disagreements = audit(f, playouts.back()).disagreements;
  return t;
}

namespace {

/// Renders what the plan would, stretch after stretch, each said beforehand.
Result<std::vector<PriceRecord>> renders_of(const ProgramPtr& program, const std::shared_ptr<Notebook>& notebook,
                                            const ScoreOptions& options, const std::atomic<bool>& stop) {
  constexpr std::size_t kMost = 3;
  auto shelf = Shelf::open(options.renders);
  if (!shelf) return std::unexpected(shelf.error());
  MediaCatalog media;
  const std::size_t before = notebook->prices().size();
  const FrameRange whole{0, program->duration()};
  for (std::size_t i = 0; i < kMost && !stop; ++i) {
    // Planned anew each time, as a person would be told.
    PlanOptions plan_options;
    plan_options.kinds = {"render"}, plan_options.frontier = false;
    const Situation s = situation_for(program, *notebook, shelf->get(), media, (*shelf)->route(*program), options.forecast, Device::processor, Form::vc3_hqx);
    const Plan plan = make_plan(s, whole, plan_options);
    if (plan.remedies.empty()) break;
    const Remedy& r = plan.remedies.front();
    PrerenderOptions how;
    how.workers = options.forecast.workers, how.notebook = notebook;
    how.price = {r.range.length(), r.modelled_seconds, r.render_seconds};
    if (auto done = prerender(program, **shelf, {r.range}, how, [&](const auto&) { return !stop.load(); }); !done)
      return std::unexpected(done.error());
  }
  std::vector<PriceRecord> all = notebook->prices();
  all.erase(all.begin(), all.begin() + static_cast<std::ptrdiff_t>(std::min(before, all.size())));
  return all;
}

}  // namespace

std::vector<Goal> score_goals(const std::vector<TimelineScore>& all) {
  const SpanMatch quiet = total(all, [](const auto& t) -> const SpanMatch& { return t.quiet; });
  const SpanMatch spans = total(all, [](const auto& t) -> const SpanMatch& { return t.all; });
  const SpanMatch limit = total(all, [](const auto& t) -> const SpanMatch& { return t.between; });
  const SpanMatch heavy = total(all, [](const auto& t) -> const SpanMatch& { return t.heavy_effects; });
  const SpanMatch sums = total(all, [](const auto& t) -> const SpanMatch& { return t.processor_sum; });
  std::vector<double> rates, probability, off;
  std::vector<int> outcome;
  double open = 0;
  int renders = 0, renders_as_said = 0;
  int parts = 0, modelled = 0, causes = 0, right = 0;
  for (const TimelineScore& t : all) {
    rates.insert(rates.end(), t.rate_errors.begin(), t.rate_errors.end());
    probability.insert(probability.end(), t.probability.begin(), t.probability.end());
    outcome.insert(outcome.end(), t.outcome.begin(), t.outcome.end());
    open += t.brier_limit / static_cast<double>(std::max<std::size_t>(1, all.size()));
    parts += t.parts, modelled += t.parts_modelled, causes += t.causes, right += t.causes_right;
    for (const PriceRecord& p : t.renders) ++renders, renders_as_said += p.within(0.15);
    std::vector<double> drops;
    for (std::size_t i = 0; i < t.drops_observed.size(); ++i)
      if (!t.disturbed[i]) drops.push_back(static_cast<double>(t.drops_observed[i] - t.drops_outside[i]));
    if (drops.empty()) continue;
    const double error = std::abs(t.drops_forecast - median(drops));
    off.push_back(error <= 3 ? 0 : error / std::max(1.0, median(drops)) * 100);
  }
  const double b = brier(probability, outcome);
  const auto percent = [](int part, int of) { return of ? 100.0 * part / of : 100.0; };
  return {{"segments whose drops the model alone has within 1 frame or 2 %", "%", percent(modelled, parts),
           100, 100},
          {"span F1, undisturbed playouts", "", quiet.f1(), 0.95, 1},
          {"span F1, all playouts", "", spans.f1(), limit.f1(), 1},
          {"span F1 of one playout against another (the limit)", "", limit.f1(), 0, 1},
          {"drops forecast against observed, median timeline beyond 3 frames", "%", median(off), -1, 5},
          {"sustained rate of spilling spans, median error", "%", median(rates) * 100, -1, 4},
          {"Brier score by segment", "", b, -1, 0.06},
          {"Brier score over its limit from repeated playouts", "×", open > 0 ? b / open : (b > 0 ? 99 : 1),
           -1, 1.1},
          {"cause agrees with the log", "%", percent(right, causes), 90, 100},
          {"span F1 beyond 'heavy effects drop'", "", spans.f1() - heavy.f1(), 0.1, 1},
          {"span F1 beyond 'processor sum ÷ cores'", "", spans.f1() - sums.f1(), 0.02, 1},
          // Without a render nothing was shown, and the goal is not met.
          {"renders that took within 15 % of the time said", "%",
           renders ? percent(renders_as_said, renders) : std::nan(""), 90, 100}};
}

Result<Score> score(const std::shared_ptr<Notebook>& notebook, const ScoreOptions& options,
                    const fs::path& folder, const std::function<bool(const std::string&)>& progress,
                    const std::atomic<bool>& stop) {
  Score s;
  for (int i = 0; i < options.timelines && !stop; ++i) {
    RandomOptions random = options.random;
    random.seed = options.seed + static_cast<std::uint64_t>(i), random.workers = options.forecast.workers;
    auto timeline = random_timeline(random, *notebook, folder);
    if (!timeline) return std::unexpected(timeline.error());
    MediaCatalog media;
    const ProgramPtr program = Program::compile(*timeline, media);
    MeasureOptions m;
    m.seconds = options.measure_seconds, m.workers = options.forecast.workers;
    const auto go_on = [&](const std::string& what) {
      return !stop &&
             (!progress || progress(fmt::format("Timeline {} of {}: {}", i + 1, options.timelines, what)));
    };
    if (!go_on("measuring")) break;
    if (auto r = measure(program, *notebook, m, [&](const MeasureProgress&) { return !stop.load(); }); !r)
      return std::unexpected(r.error());
    if (!go_on("playing")) break;
    TimelineScore t = score_timeline(program, *notebook, options, stop);
    t.seed = random.seed;
    if (stop) break;
    if (!options.renders.empty() && go_on("rendering")) {
      auto renders = renders_of(program, notebook, options, stop);
      if (!renders) return std::unexpected(renders.error());
      t.renders = std::move(*renders);
    }
    s.timelines.push_back(std::move(t));
  }
  s.goals = score_goals(s.timelines);
  return s;
}

Json to_json(const Score& s) {
  const std::vector<TimelineScore>& all = s.timelines;
  const SpanMatch quiet = total(all, [](const auto& t) -> const SpanMatch& { return t.quiet; });
  const SpanMatch spans = total(all, [](const auto& t) -> const SpanMatch& { return t.all; });
  const SpanMatch limit = total(all, [](const auto& t) -> const SpanMatch& { return t.between; });
  Json timelines = Json::array();
  double forecast = 0;
  Json seen = Json::array();
  for (const TimelineScore& t : all) {
    timelines.push_back(to_json(t));
    forecast += t.drops_forecast;
    seen.push_back(t.drops_observed);
  }
  const auto value = [&](const char* starts) {
    for (const Goal& g : s.goals)
      if (g.name.starts_with(starts)) return g.value;
    return 0.0;
  };
  return {{"span_f1", spans.f1()},
          {"span_precision", spans.precision()},
          {"span_recall", spans.recall()},
          {"span_f1_undisturbed", quiet.f1()},
          {"playout_vs_playout_f1", limit.f1()},
          {"brier", value("Brier score by")},
          {"brier_over_limit", value("Brier score over")},
          {"drops_forecast", forecast},
          {"drops_observed", seen},
          {"drops_error_percent", value("drops forecast")},
          {"rate_error", value("sustained rate") / 100},
          {"cause_agreement", value("cause agrees") / 100},
          {"model_only_error", 1 - value("segments whose") / 100},
          {"folklore",
           {{"heavy_effects_f1",
             total(all, [](const auto& t) -> const SpanMatch& { return t.heavy_effects; }).f1()},
            {"processor_sum_f1",
             total(all, [](const auto& t) -> const SpanMatch& { return t.processor_sum; }).f1()}}},
          {"goals", to_json(s.goals)},
          {"timelines", timelines}};
}

}  // namespace gc
