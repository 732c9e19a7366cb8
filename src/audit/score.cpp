#include "audit/score.h"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <set>

#include "base/clock.h"
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

void hold_against(TimelineScore& score, const Forecast& f, const Forecast& own, const Playout& p, const Replay& r) {
  if (!was_disturbed(p)) score.quiet.add(spans_called(own), spans_observed(p));
  score.parts += static_cast<int>(r.parts.size()), score.parts_modelled += r.agreeing();
  for (const Replay::Part& part : r.parts)
    score.model_worst =
        std::max(score.model_worst, std::abs(static_cast<double>(part.observed - part.modelled)));
  for (const Span& s : f.spans) {
    // A rate over less than a second is chance.
    if (s.verdict != Verdict::spills || static_cast<double>(s.out - s.in) < p.rate.fps()) continue;
    const double shown = 1 - drops_in(p, {s.in, s.out}) / static_cast<double>(s.out - s.in);
    score.rate_errors.push_back(std::abs(s.sustained_rate / std::max(0.1, p.rate.fps() * shown) - 1));
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

Json or_null(double v) { return std::isfinite(v) ? Json(v) : Json(); }

Json to_json(const Matches& m) {
  return {{"called", m.called}, {"observed", m.observed}, {"matched", m.right}, {"f1", or_null(m.f1())}};
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
          {"drops_forecast", t.held.expected},
          {"drops_forecast_range", {t.held.low, t.held.high}},
          {"drops_observed", t.held.all},
          {"drops_own", t.held.own},
          {"total_right", t.held.total_right()},
          {"in_range", t.held.in_range()},
          {"first_answer_seconds", t.first_answer_s},
          {"measured_seconds", t.measured_s},
          {"measured_renders_seconds", t.renders_s},
          {"kinds", t.kinds},
          {"kinds_known", t.kinds_known},
          {"disturbed", t.disturbed},
          {"cores_shared", t.crowding},
          {"costs_forecast_over_known", t.base},
          {"costs_played_over_known", t.moods},
          {"spans_undisturbed", to_json(t.quiet)},
          {"spans", to_json(t.held.spans)},
          {"spans_playout_against_playout", to_json(t.held.spans_limit)},
          {"segments_two_dropped", to_json(t.held.segments)},
          {"segments", t.parts},
          {"segments_modelled", t.parts_modelled},
          {"model_only_worst_frames", t.model_worst},
          {"brier", brier(t.held.probability, t.held.outcome)},
          {"brier_limit", t.held.brier_limit},
          {"spans_said", to_json(t.spans)},
          {"segments_said", to_json(t.segments_said)},
          {"disagreements", t.disagreements}};
}

Matches total(const std::vector<TimelineScore>& all, Matches TimelineScore::* of) {
  Matches sum;
  for (const TimelineScore& t : all) sum.add(t.*of);
  return sum;
}

}  // namespace

Result<TimelineScore> score_timeline(const ProgramPtr& program, std::uint64_t seed, Notebook& notebook, const ScoreOptions& options,
                                     const std::atomic<bool>& stop) {
  TimelineScore t;
  t.seed = seed, t.frames = program->duration();
  const FrameRange whole{0, program->duration()};
  const Forecast f = forecast(*program, notebook, {}, whole, options.forecast);
  const Forecast own = alone(f, *program);
  t.base = f.base, t.crowding = f.crowding;
  std::vector<Playout> playouts;
  int quiet = 0;
  for (int i = 0; i < options.repeat + options.again && quiet < options.repeat && !stop; ++i) {
    PlayOptions o;
    o.workers = options.forecast.workers, o.horizon = options.forecast.horizon;
    o.kinds = kinds_of(*program, notebook, {}, whole, options.forecast);
    NullDisplay display;
    Playout p = play(program, nullptr, whole, o, display, stop);
    if (p.stopped) break;
    t.disturbed.push_back(was_disturbed(p));
    quiet += !was_disturbed(p);
    const Replay model = replay(record_of(p, *program));
    hold_against(t, f, own, p, model);
    t.heavy_effects.add(by_heavy_effects(*program), spans_observed(p));
    t.processor_sum.add(by_processor_sum(f, options.forecast.workers), spans_observed(p));
    if (auto noted = note_playout(f, p, *program, notebook); !noted)
      spdlog::warn("{}", noted.error().text());
    t.moods.push_back(moods_of(f, p));
    // Where the model alone was wrong, a file is left that shows it.
    if (!options.replays.empty() && !model.agrees())
      if (auto kept = keep_replay(p, *program, options.replays); !kept)
        spdlog::warn("{}", kept.error().text());
    if (options.keep)
      if (auto kept = options.keep(seed, *program, f, p, i); !kept) return std::unexpected(kept.error());
    playouts.push_back(std::move(p));
  }
  t.held = held_against(f, own, playouts, *program);
  tell_apart(t, f, playouts, *program);
  if (!playouts.empty()) t.disagreements = audit(f, own, playouts.back()).disagreements;
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

Reliability score_reliability(const std::vector<TimelineScore>& all) {
  std::vector<double> probability;
  std::vector<int> outcome;
  for (const TimelineScore& t : all) {
    probability.insert(probability.end(), t.held.probability.begin(), t.held.probability.end());
    outcome.insert(outcome.end(), t.held.outcome.begin(), t.held.outcome.end());
  }
  return reliability(probability, outcome);
}

std::vector<Goal> score_goals(const std::vector<TimelineScore>& all) {
  std::vector<Held> held;
  std::vector<double> rates;
  int renders = 0, renders_as_said = 0, parts = 0, modelled = 0, kinds = 0, known = 0;
  double first = 0, measured = 0, of_renders = 0;
  for (const TimelineScore& t : all) {
    held.push_back(t.held);
    rates.insert(rates.end(), t.rate_errors.begin(), t.rate_errors.end());
    parts += t.parts, modelled += t.parts_modelled;
    for (const PriceRecord& p : t.renders) ++renders, renders_as_said += p.within(0.15);
    first = std::max(first, t.first_answer_s);
    measured += t.measured_s - t.renders_s;
    of_renders += t.renders_s;
    kinds += t.kinds;
    known += t.kinds_known;
  }
  // What could not be measured is no figure, and the goal is not met.
  const auto percent = [](int part, int of) { return of ? 100.0 * part / of : std::nan(""); };
  std::vector<Goal> goals = figures_of(held);
  const double spans = goals.front().value;
  goals.insert(goals.begin(), {"segments whose drops the model alone has within 1 frame or 2 %", "%", percent(modelled, parts), 100, 100});
  goals.push_back({"sustained rate of spilling spans, median error", "%", rates.empty() ? std::nan("") : median(rates) * 100, 0, 4});
  goals.push_back({"span F1 beyond 'heavy effects drop'", "", spans - total(all, &TimelineScore::heavy_effects).f1(), 0.1, 1});
  goals.push_back({"span F1 beyond 'processor sum ÷ cores'", "", spans - total(all, &TimelineScore::processor_sum).f1(), 0.02, 1});
  goals.push_back({"renders that took within 15 % of the time said", "%", percent(renders_as_said, renders), 90, 100});
  goals.push_back({"first answer, by laws, of the timeline that takes longest", "s", first > 0 ? first : std::nan(""), 0, 5});
  // A timeline of thirty kinds has its renders tried once.
  goals.push_back({"firm answer, for a timeline of 30 kinds of frames", "s",
                   kinds > 0 ? 30 * measured / kinds + of_renders / static_cast<double>(all.size()) : std::nan(""), 0, 30});
  goals.push_back({"  kinds known within 5 % then, or settled by laws", "%", percent(known, kinds), 90, 100});
  return goals;
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
    const Stopwatch opened;
    MediaCatalog media;
    const ProgramPtr program = Program::compile(*timeline, media);
    forecast(*program, *notebook, {}, {0, program->duration()}, options.forecast);
    const double first_answer_s = opened.ms() / 1000;
    MeasureOptions m;
    m.seconds = options.measure_seconds, m.workers = options.forecast.workers;
    const auto go_on = [&](const std::string& what) {
      return !stop &&
             (!progress || progress(fmt::format("Timeline {} of {}: {}", i + 1, options.timelines, what)));
    };
    if (!go_on("measuring")) break;
    const auto measured = measure(program, *notebook, m, [&](const MeasureProgress&) { return !stop.load(); });
    if (!measured) return std::unexpected(measured.error());
    if (!go_on("playing")) break;
    auto scored = score_timeline(program, random.seed, *notebook, options, stop);
    if (!scored) return std::unexpected(scored.error());
    if (stop) break;
    TimelineScore t = std::move(*scored);
    t.first_answer_s = first_answer_s;
    t.measured_s = measured->seconds;
    t.renders_s = measured->renders_seconds;
    t.kinds = measured->kinds;
    t.kinds_known = measured->within;
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
  Matches spans, limit, segments;
  Json timelines = Json::array(), seen = Json::array();
  double said = 0;
  for (const TimelineScore& t : all) {
    timelines.push_back(to_json(t));
    said += t.held.expected;
    seen.push_back(t.held.own);
    spans.add(t.held.spans), limit.add(t.held.spans_limit), segments.add(t.held.segments);
  }
  const auto value = [&](const char* starts) {
    for (const Goal& g : s.goals)
      if (g.name.starts_with(starts)) return or_null(g.value);
    return Json();
  };
  const auto share = [&](const char* starts) {
    const Json percent = value(starts);
    return percent.is_null() ? percent : Json(percent.get<double>() / 100);
  };
  const Json modelled = share("segments whose drops");
  return {{"span_f1", or_null(spans.f1())},
          {"span_precision", spans.precision()},
          {"span_recall", spans.recall()},
          {"span_f1_undisturbed", or_null(total(all, &TimelineScore::quiet).f1())},
          {"playout_vs_playout_f1", or_null(limit.f1())},
          {"segment_f1", or_null(segments.f1())},
          {"brier", value("Brier score of that")},
          {"brier_over_limit", value("  times what repeated")},
          {"drops_forecast", said},
          {"drops_observed", seen},
          {"totals_right_percent", value("timelines whose total")},
          {"in_range_percent", value("playouts whose total")},
          {"rate_error", share("sustained rate")},
          {"cause_agreement", share("own drops whose cause")},
          {"model_only_error", modelled.is_null() ? modelled : Json(1 - modelled.get<double>())},
          {"costs_within_percent", value("costs in playback")},
          {"folklore",
           {{"heavy_effects_f1", or_null(total(all, &TimelineScore::heavy_effects).f1())},
            {"processor_sum_f1", or_null(total(all, &TimelineScore::processor_sum).f1())}}},
          {"goals", to_json(s.goals)},
          {"reliability", to_json(score_reliability(all))},
          {"timelines", timelines}};
}

}  // namespace gc
