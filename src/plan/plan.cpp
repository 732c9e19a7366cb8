#include "plan/plan.h"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>

#include "measure/measure.h"
#include "media/writer.h"

namespace gc {
namespace {

/// A stretch that might be pre-rendered.
struct Candidate {
  FrameRange range;
  double modelled = 0, seconds = 0;  ///< of rendering: by costs alone, and as said
  bool chosen = true;
};

double mean_encode_ms(const Notebook& notebook, const Timeline& t) {
  const std::vector<float> ms = notebook.encode(encode_key(t.width, t.height));
  double sum = 0;
  for (const float v : ms) sum += v;
  return ms.empty() ? 0 : sum / static_cast<double>(ms.size());
}

/// What a render takes on this seat as it is now. It is made at full quality whatever the playback scale, runs
/// flat out over all workers, fetches one frame at a time, and encodes one frame at a time on a worker's own
/// time. Every range begins with opening its sources and decoding up to its first frame.
class Pricing {
 public:
  Pricing(const Program& played, const Notebook& notebook, FrameRange range, const PlanOptions& options)
      : workers_(options.forecast.workers), factor_(notebook.price_factor()) {
    MediaCatalog own;
    MediaCatalog& media = options.media ? *options.media : own;
    RenderOptions full;
    full.device = options.rendering, full.rendering = true;
    const RenderOptions& now = played.options();
    full.join_fields = now.join_fields;
    const bool same = now.full_quality() && now.device == full.device &&
                      std::none_of(played.intervals().begin(), played.intervals().end(),
                                   [](const CompiledInterval& i) { return i.unseen; });
    const ProgramPtr rendered = same ? nullptr : Program::compile(played.timeline(), media, full);
    ForecastOptions costs_only = options.forecast;
    costs_only.trials = 1, costs_only.before = nullptr, costs_only.cost_scale = 1;
    costs_ = forecast(rendered ? *rendered : played, notebook, {}, range, costs_only);
    encode_ms_ = costs_.base * mean_encode_ms(notebook, *played.timeline());
  }

  /// Seconds by costs alone.
  double modelled(FrameRange r) const {
    double ms = 0;
    bool first = true;
    for (const IntervalCost& c : costs_.intervals) {
      const double n = static_cast<double>(std::min(r.out, c.out) - std::max(r.in, c.in));
      if (n <= 0) continue;
      double process = c.process_ms;
      for (const StageCost& s : c.stages)
        if (s.kind == StageKind::display) process -= s.ms;  // no screen is there to make a picture for
      ms += n * std::max({encode_ms_, c.fetch_ms,
                          (c.fetch_ms + std::max(0.0, process) + encode_ms_) / workers_});
      if (first) ms += entry_ms(c, r.in);
      first = false;
    }
    return ms / 1000;
  }
  double said(FrameRange r) const { return modelled(r) * factor_; }

 private:
  double entry_ms(const IntervalCost& c, Frames at) const {
    for (const CostStretch& s : costs_.model->stretches) {
      if (at - costs_.range.in < s.in || at - costs_.range.in >= s.out) continue;
      const CostPool& pool = costs_.model->pools[s.pool];
      double open = 0;
      for (const float v : pool.entries) open += v / static_cast<double>(pool.entries.size());
      return open + static_cast<double>(s.entry_frames) * c.fetch_ms;
    }
    return 0;
  }

  int workers_;
  double factor_, encode_ms_ = 0;
  Forecast costs_;
};

Route with_sealed(Route states, const std::vector<Candidate>& all, Frames duration) {
  states.resize(static_cast<std::size_t>(duration));
  for (const Candidate& c : all)
    if (c.chosen)
      for (Frames f = c.range.in; f < c.range.out; ++f) states.set(static_cast<std::size_t>(f), FrameState::sealed);
  return states;
}

int bad_spans(const Forecast& f) {
  return f.count(Verdict::spills) + f.count(Verdict::wavers) + f.count(Verdict::unseen);
}
bool good(const Forecast& f, double most_drops) {
  return f.expected_drops <= most_drops && bad_spans(f) == 0;
}

/// Every interval that a bad span touches and that is itself over the budget some of the time.
std::vector<Candidate> candidates(const Forecast& before, const Pricing& pricing) {
  std::vector<FrameRange> ranges;
  for (const IntervalCost& c : before.intervals) {
    // What has no picture cannot be rendered either.
    if (c.unseen && !c.missing) ranges.push_back({c.in, c.out});
    if (c.is(FrameState::sealed) || c.unseen || c.missing || c.load_high < 0.7) continue;
    const bool bad = std::any_of(before.spans.begin(), before.spans.end(), [&](const Span& s) {
      return s.verdict != Verdict::holds && s.in < c.out && s.out > c.in;
    });
    if (bad) ranges.push_back({c.in, c.out});
  }
  std::vector<Candidate> all;
  for (const FrameRange& r : ranges) all.push_back({r, pricing.modelled(r), pricing.said(r), true});
  return all;
}

std::string reason_of(const Forecast& f, FrameRange r, double& drops) {
  for (const Span& s : f.spans) {
    if (s.verdict == Verdict::holds || s.out <= r.in || s.in >= r.out) continue;
    drops = std::max(drops, s.expected_drops);
    if (s.verdict == Verdict::unseen) {
      drops = static_cast<double>(r.length());
      return "Unseen: flow-based pictures show only after rendering.";
    }
    return fmt::format(
        "{} with {:.0f} % probability, about {:.0f} frames dropped; {} takes {:.0f} ms of a {:.1f} ms "
        "budget.",
        s.verdict == Verdict::spills ? "Spills" : "Wavers", s.drop_probability * 100, s.expected_drops,
        s.blame.label, s.blame.ms, f.rate.frame_ms());
  }
  return "Holds barely today and would not on a slower day.";
}

void add_remedies(Plan& plan, const Program& program, const std::vector<Candidate>& all) {
  const Timeline& t = *program.timeline();
  for (const Candidate& c : all) {
    if (!c.chosen) continue;
    const CompiledSegment* s = main_segment(program, c.range.in);
    const std::string id = s ? s->segment->id : "";
    plan.render_seconds += c.seconds, plan.modelled_seconds += c.modelled;
    const auto bytes =
        static_cast<std::uint64_t>(c.range.length() * vc3_frame_bytes(t.width, t.height, kVc3Hqx));
    plan.bytes += bytes, plan.frames += c.range.length();
    if (!plan.remedies.empty() && plan.remedies.back().range.out == c.range.in &&
        plan.remedies.back().segment == id) {
      Remedy& last = plan.remedies.back();
      last.range.out = c.range.out, last.render_seconds += c.seconds, last.bytes += bytes;
      last.modelled_seconds += c.modelled;
      continue;
    }
    Remedy r{c.range, id, s ? s->segment->name : "Gap", c.seconds, c.modelled, bytes, 0, {}};
    r.reason = reason_of(plan.before, c.range, r.drops_saved);
    plan.remedies.push_back(std::move(r));
  }
  // What saves most for its time comes first: when there is no time for all of it, the best is done.
  std::stable_sort(plan.remedies.begin(), plan.remedies.end(), [](const Remedy& a, const Remedy& b) {
    return a.drops_saved / std::max(0.1, a.render_seconds) > b.drops_saved / std::max(0.1, b.render_seconds);
  });
}

/// "2 spans cannot be played: media missing." Empty when nothing is missing.
std::string missing_sentence(const Forecast& f) {
  const int n = f.count(Verdict::missing);
  return n == 0 ? std::string() : fmt::format("{} span{} cannot be played: media missing.", n, n == 1 ? "" : "s");
}

std::string sentence_of(const Plan& p) {
  const int spills = p.before.count(Verdict::spills), wavers = p.before.count(Verdict::wavers);
  const int unseen = p.before.count(Verdict::unseen);
  const std::string missing = missing_sentence(p.before);
  if (spills + wavers + unseen == 0)
    return !missing.empty() ? missing + " The rest holds."
           : p.before.fully_measured
               ? "Everything holds. Nothing needs to be done."
               : "Not every segment has been measured yet; of those that have, none drops frames.";
  const auto spans = [](int n) { return fmt::format("{} span{}", n, n == 1 ? "" : "s"); };
  std::string what;
  if (spills > 0) what = fmt::format("{} will drop", spans(spills));
  if (wavers > 0)
    what += fmt::format("{}{} may drop", spills > 0 ? " and " : "",
                        spills > 0 ? std::to_string(wavers) : spans(wavers));
  const double drops = p.before.expected_drops;
  if (unseen > 0 && spills + wavers == 0)
    what = fmt::format("{} cannot be seen before rendering.", spans(unseen));
  else what += fmt::format(", about {:.0f} frame{} in all.", drops, std::lround(drops) == 1 ? "" : "s");
  if (unseen > 0 && spills + wavers > 0)
    what += fmt::format(" {} cannot be seen before rendering.", spans(unseen));
  if (!missing.empty()) what = missing + " " + what;
  if (!p.priced) return what + " What a pre-render takes here has not been measured.";
  if (p.remedies.empty()) return what + " No pre-render helps; a faster seat would.";
  const double picture = static_cast<double>(p.frames) * p.before.rate.frame_ms() / 1000;
  return what +
         fmt::format(" Pre-rendering {} of picture {}; that takes about {} and {}.", duration_text(picture),
                     p.holds ? "fixes that" : fmt::format("leaves about {:.0f}", p.after.expected_drops),
                     duration_text(p.render_seconds), bytes_text(p.bytes));
}

}  // namespace

std::vector<FrameRange> Plan::ranges() const {
  std::vector<FrameRange> all;
  for (const Remedy& r : remedies) all.push_back(r.range);
  return all;
}

Plan make_plan(const Program& program, const Notebook& notebook, const Route& sealed, FrameRange range,
               const PlanOptions& options) {
  Plan plan;
  plan.before = forecast(program, notebook, sealed, range, options.forecast);
  plan.after = plan.before;
  ForecastOptions slow = options.forecast;
  slow.cost_scale *= 1 + options.margin;
  plan.priced = !notebook.encode(encode_key(program.timeline()->width, program.timeline()->height)).empty();
  if (!good(plan.before, options.most_drops) && plan.priced) {
    slow.before = nullptr;
    Forecast slow_day = forecast(program, notebook, sealed, range, slow);
    const Pricing pricing(program, notebook, range, options);
    std::vector<Candidate> all = candidates(slow_day, pricing);
    // Each is like the one before it but for one stretch.
    slow.before = &slow_day;
    const auto forecast_with = [&]() -> const Forecast& {
      return slow_day =
                 forecast(program, notebook, with_sealed(sealed, all, program.duration()), range, slow);
    };
    // Nothing can be better than with all of them.
    const Forecast& floor = forecast_with();
    const double floor_drops = floor.expected_drops + options.most_drops;
    const auto floor_bad = bad_spans(floor);
    const auto as_good = [&](const Forecast& f) {
      return f.expected_drops <= floor_drops && bad_spans(f) <= floor_bad;
    };
    std::vector<std::size_t> order(all.size());
    for (std::size_t i = 0; i < order.size(); ++i) order[i] = i;
    std::stable_sort(order.begin(), order.end(),
                     [&](std::size_t a, std::size_t b) { return all[a].seconds > all[b].seconds; });
    for (const std::size_t i : order) {
      all[i].chosen = false;
      all[i].chosen = !as_good(forecast_with());
    }
    ForecastOptions after = options.forecast;
    after.before = &plan.before;
    plan.after = forecast(program, notebook, with_sealed(sealed, all, program.duration()), range, after);
    add_remedies(plan, program, all);
  }
  plan.holds = good(plan.after, options.most_drops) && plan.after.count(Verdict::missing) == 0;
  plan.sentence = sentence_of(plan);
  return plan;
}

std::string duration_text(double seconds) {
  const auto s = static_cast<std::int64_t>(std::ceil(seconds - 0.05));
  if (s < 60) return seconds < 9.5 ? fmt::format("{:.1f} s", seconds) : fmt::format("{} s", s);
  if (s < 3600) return fmt::format("{} min {} s", s / 60, s % 60);
  return fmt::format("{} h {} min", s / 3600, s / 60 % 60);
}

std::string bytes_text(std::uint64_t bytes) {
  const double b = static_cast<double>(bytes);
  if (b < 1e6) return fmt::format("{:.0f} kB", b / 1e3);
  if (b < 1e9) return fmt::format("{:.0f} MB", b / 1e6);
  return fmt::format("{:.1f} GB", b / 1e9);
}

}  // namespace gc
