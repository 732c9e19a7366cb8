#include "forecast/forecast.h"

#include <fmt/format.h>
#include <tbb/parallel_for.h>

#include <algorithm>
#include <cmath>
#include <map>

#include "base/clock.h"
#include "forecast/parts.h"
#include "forecast/spans.h"

namespace gc {
namespace {

IntervalCost cost_of(const Alike& part, const CostPool& pool, const CostPool& live, const PoolEntry& entry,
                     const ForecastOptions& options, double base, double period) {
  IntervalCost c;
  c.in = part.in, c.out = part.out;
  c.state = part.state, c.taps = part.taps;
  c.measured = entry.measured;
  c.stages = entry.stages;
  std::vector<float> loads;
  for (const FrameSample& f : pool.frames) {
    c.fetch_ms += f.fetch_ms, c.process_ms += f.process_ms;
    loads.push_back(static_cast<float>(base * load_of(f.fetch_ms, f.process_ms, options.workers, period)));
  }
  c.fetch_ms *= base / static_cast<double>(pool.frames.size());
  c.process_ms *= base / static_cast<double>(pool.frames.size());
  for (StageCost& s : c.stages) s.ms *= base, s.turn_ms *= base;
  for (const StageCost& s : c.stages)
    if (s.kind == StageKind::read) c.read_ms += s.ms;
  c.load = load_of(c.fetch_ms, c.process_ms, options.workers, period);
  std::sort(loads.begin(), loads.end());
  c.load_low = loads[loads.size() * 5 / 100],
  c.load_high = loads[std::min(loads.size() - 1, loads.size() * 95 / 100)];
  double fetch = 0, process = 0;
  for (const FrameSample& f : live.frames) fetch += f.fetch_ms, process += f.process_ms;
  c.live_load = base * load_of(fetch / static_cast<double>(live.frames.size()),
                               process / static_cast<double>(live.frames.size()), options.workers, period);
  return c;
}

double percentile(std::vector<double> values, double share) {
  if (values.empty()) return 0;
  std::sort(values.begin(), values.end());
  return values[std::min(values.size() - 1,
                         static_cast<std::size_t>(share * static_cast<double>(values.size())))];
}

/// Drops of each trial within frames [in, out) of the range.
std::vector<double> drops_within(const Trials& trials, Frames in, Frames out) {
  const std::vector<std::uint32_t> counts = trials.drops(in, out);
  return {counts.begin(), counts.end()};
}

}  // namespace

const char* verdict_name(Verdict v) {
  static constexpr const char* kNames[] = {"holds", "wavers", "spills", "unseen", "missing"};
  return kNames[static_cast<std::size_t>(v)];
}
std::string verdict_text(Verdict v, double probability) {
  if (v == Verdict::missing) return "no picture";
  return v == Verdict::unseen ? "unseen" : fmt::format("{} {:.0f} %", verdict_name(v), probability * 100);
}
const char* cause_name(Cause c) {
  static constexpr const char* kNames[] = {"none",     "disk read", "decode",  "processor", "accelerator",
                                           "transfer", "memory",    "display", "outside"};
  return kNames[static_cast<std::size_t>(c)];
}

std::vector<StageCost> stages_over(const Forecast& f, FrameRange range) {
  std::map<std::pair<StageKind, int>, StageCost> sums;
  double frames = 0;
  for (const IntervalCost& c : intervals_in(f, range)) {
    const auto n = static_cast<double>(std::min(range.out, c.out) - std::max(range.in, c.in));
    if (n <= 0) continue;
    frames += n;
    for (const StageCost& s : c.stages) {
      const auto [it, fresh] = sums.try_emplace({s.kind, s.owner}, s);
      it->second.ms = fresh ? s.ms * n : it->second.ms + s.ms * n;
      it->second.turn_ms = fresh ? s.turn_ms * n : it->second.turn_ms + s.turn_ms * n;
      it->second.estimated = it->second.estimated || s.estimated;
    }
  }
  std::vector<StageCost> all;
  for (auto& [key, s] : sums) all.push_back(s), all.back().ms /= frames, all.back().turn_ms /= frames;
  return all;
}

double ms_of(const std::vector<StageCost>& stages, const std::string& placed) {
  double ms = 0;
  for (const StageCost& s : stages) ms += s.placed == placed ? s.ms : 0;
  return ms;
}

std::string Forecast::surcharge() const {
  constexpr double kWorthTelling = 0.08;
  if (std::abs(base - 1) < kWorthTelling) return {};
  const std::string now =
      crowding >= 0 ? fmt::format(" ({:.0f} % of the work just now)", crowding * 100) : std::string();
  return base > 1
             ? fmt::format("Costs count {:.2f} times, since others work on this seat's cores{}.", base, now)
             : fmt::format("Costs count {:.2f} times, as playouts have lately gone.", base);
}

int Forecast::count(Verdict v) const {
  return static_cast<int>(
      std::count_if(spans.begin(), spans.end(), [&](const Span& s) { return s.verdict == v; }));
}

DropRange Forecast::simulated(FrameRange frames) const {
  DropRange r;
  if (!trials) return r;
  const Frames first = before - range.in;
  const std::vector<double> counts = drops_within(*trials, first + frames.in, first + frames.out);
  for (const double c : counts) r.expected += c / static_cast<double>(counts.size());
  r.low = percentile(counts, 0.05), r.high = percentile(counts, 0.95);
  return r;
}

double Forecast::any_drop(FrameRange frames) const { return over(frames).drop_probability; }
double Forecast::any_drop_simulated(FrameRange frames) const { return any_drops(*this, frames).first; }
Span Forecast::over(FrameRange frames) const { return span_of(frames, *this); }

Route with_remembered(Route route, const Program& program, const MemoryCache& cache) {
  if (cache.stats().pictures == 0) return route;
  route.resize(static_cast<std::size_t>(program.duration()));
  for (std::size_t n = 0; n < route.size(); ++n)
    if (route[n] != FrameState::sealed && cache.has(program.picture_key(static_cast<Frames>(n))))
      route.set(n, FrameState::remembered);
  return route;
}

Route with_state(Route route, FrameRange frames, FrameState state) {
  for (auto n = static_cast<std::size_t>(frames.in); n < static_cast<std::size_t>(frames.out); ++n)
    if (route[n] != FrameState::sealed) route.set(n, state);
  return route;
}

Model model_of(const Program& program, const CostBook& book, const Route& sealed, FrameRange range,
               const ForecastOptions& options) {
  return model_of_parts(program, book, alike_frames(program, sealed, range), range, options);
}

std::vector<CostKind> kinds_of(const Program& program, const CostBook& book, const Route& sealed,
                               FrameRange range, const ForecastOptions& options) {
  return model_of(program, book, sealed, range, options).kinds;
}

namespace {

/// What the trials say: of each frame, of all of them and of spans.
void read_trials(Forecast& f, const Program& program, const ForecastOptions& options) {
  f.miss.assign(f.trials->miss().begin() + static_cast<std::ptrdiff_t>(f.before), f.trials->miss().end());
  const DropRange drops = f.simulated(f.range).widened(f.widening);
  f.expected_drops = drops.expected, f.drops_low = drops.low, f.drops_high = std::min(drops.high, static_cast<double>(f.range.length()));
  f.said_runs = said_runs(f);
  f.spans = spans_of(f, program, options);
}

}  // namespace

Forecast forecast(const Program& program, const CostBook& book, const Route& sealed, FrameRange range,
                  const ForecastOptions& options) {
  const Stopwatch watch;
  Forecast f;
  f.range = {std::clamp<Frames>(range.in, 0, program.duration()),
             std::clamp<Frames>(range.out, 0, program.duration())};
  f.rate = program.timeline()->rate;
  const std::vector<Alike> parts = alike_frames(program, sealed, f.range);
  std::vector<PoolEntry> entries, live;
  Model model = model_of_parts(program, book, parts, f.range, options, &entries, &live);
  f.base = model.mood.base, f.crowding = book.crowding();
  f.intervals.resize(parts.size());
  tbb::parallel_for(std::size_t{0}, parts.size(), [&](std::size_t i) {
    f.intervals[i] = cost_of(parts[i], model.pools[entries[i].pool], model.pools[live[i].pool], entries[i], options, model.mood.base,
                             f.rate.frame_ms());
  });
  for (std::size_t i = 0; i < parts.size(); ++i) {
    IntervalCost& c = f.intervals[i];
    const bool made = is_live(parts[i]) && parts[i].interval >= 0;
    c.unseen = made && program.unseen(parts[i].in, parts[i].taps);
    c.missing = made && program.intervals()[static_cast<std::size_t>(parts[i].interval)].missing;
    f.fully_measured = f.fully_measured && (entries[i].measured || c.unseen || c.missing);
  }
  if (options.loop) f.before = f.range.length(), repeat(model);
  const Forecast* before = options.before;
  const bool goes_on = before && before->model && before->model->frames() > 0 && model.frames() > 0 &&
                       before->range.in == f.range.in && before->trials->trials() == options.trials &&
                       before->trials->seed() == options.seed;
  f.trials = std::make_shared<const Trials>(goes_on ? simulate_again(model, *before->model, *before->trials)
                                                    : simulate(model, options.trials, options.seed));
  f.model = std::make_shared<const Model>(std::move(model));
  f.thresholds = options.thresholds, f.calibration = book.calibration(), f.widening = book.widening();
  read_trials(f, program, options);
  f.seconds = watch.ms() / 1000;
  return f;
}

Forecast alone(const Forecast& f, const Program& program) {
  if (!f.model || f.model->lately.empty()) return f;
  Forecast own = f;
  Model model = *f.model;
  model.lately.clear();
  own.trials = std::make_shared<const Trials>(simulate(model, f.trials->trials(), f.trials->seed()));
  ForecastOptions options;
  options.workers = model.pace.workers;
  own.model = std::make_shared<const Model>(std::move(model));
  read_trials(own, program, options);
  return own;
}

}  // namespace gc
