#include "forecast/forecast.h"

#include <fmt/format.h>
#include <tbb/parallel_for.h>

#include <algorithm>
#include <cmath>
#include <set>
#include <span>
#include <unordered_map>

#include "base/clock.h"
#include "base/mean.h"
#include "effects/registry.h"

namespace gc {
namespace {

constexpr std::size_t kComposed = 96;  // draws when a frame's cost is put together from its stages

double mean(const std::vector<float>& v) {
  double sum = 0;
  for (const float x : v) sum += x;
  return v.empty() ? 0 : sum / static_cast<double>(v.size());
}

/// Frames in a row with one sort of cost.
struct Alike {
  Frames in = 0, out = 0;
  int interval = 0;
  FrameState state = FrameState::live;
  TapPattern taps;
};
bool is_live(const Alike& r) { return r.state != FrameState::sealed && r.state != FrameState::remembered; }

std::vector<Alike> alike_frames(const Program& program, const Route& route, FrameRange range) {
  std::vector<Alike> parts;
  for (std::size_t i = 0; i < program.intervals().size(); ++i) {
    const CompiledInterval& interval = program.intervals()[i];
    const Frames in = std::max(range.in, interval.in), out = std::min(range.out, interval.out);
    for (Frames at = in; at < out;) {
      const auto n = static_cast<std::size_t>(at);
      Frames end = at + 1;
      while (end < out && route.alike(static_cast<std::size_t>(end), n)) ++end;
      parts.push_back({at, end, static_cast<int>(i), route[n], route.taps(n)});
      at = end;
    }
  }
  return parts;
}

/// Whether a source is read at this interval that was not read just before it.
bool opens_source(const Program& program, int interval) {
  const auto sources = [&](int i) {
    std::set<std::string> ids;
    if (i < 0) return ids;
    const CompiledInterval& at = program.intervals()[static_cast<std::size_t>(i)];
    // Frames that a file does not have are not read from it.
    const auto reads = [&](const CompiledSegment& s) { return s.content != Content::source || !s.missing_at(at.in, program.timeline()->rate); };
    for (const CompiledLayer& l : at.layers) {
      if (reads(*l.from)) ids.insert(l.from->segment->id);
      if (l.to && reads(*l.to)) ids.insert(l.to->segment->id);
    }
    return ids;
  };
  const auto before = sources(interval - 1);
  for (const std::string& id : sources(interval))
    if (!before.contains(id)) return true;
  return false;
}

/// Calls `see` for each segment of an interval whose source is read at a frame, with the frame of the source. What lies
/// above rendered media is not read.
template <class F>
void each_source(const Program& program, const CompiledInterval& interval, Frames at, const TapPattern& taps,
                 const Hash128& outer, const F& see) {
  const auto look = [&](const CompiledSegment& s) {
    const Hash128 use = use_of(outer, s);
    if (tap_in(taps, use)) return;
    const Frames n = s.frame_at(at, program.timeline()->rate);
    if (s.content == Content::source && s.media.has(n)) see(s, n);
    if (s.inner)
      if (const int i = s.inner->interval_at(n); i >= 0)
        each_source(*s.inner, s.inner->intervals()[static_cast<std::size_t>(i)], n, taps, use, see);
  };
  for (const CompiledLayer& l : interval.layers) {
    look(*l.from);
    if (l.to) look(*l.to);
  }
}

/// Frames to decode before the first one of an interval when its sources are newly read there. The dearest
/// source counts: the others wait for it in the same turn, but as a rule only one opens at a cut.
Frames frames_to_reach(const Program& program, const CompiledInterval& interval, Frames at, const TapPattern& taps) {
  Frames most = 0;
  each_source(program, interval, at, taps, {},
              [&](const CompiledSegment& s, Frames n) { most = std::max(most, frames_before(s.media, n)); });
  return most;
}

/// How much the seat's speed differs from one measuring run to the next, relative: the pooled deviation of
/// the medians of ten neighbouring samples from the median of all samples of their kind, beyond what such
/// medians vary by themselves (π / 2 times as much as means; common knowledge of the normal distribution).
double mood_of(const std::vector<const CostPool*>& pools) {
  constexpr std::size_t kBlock = 10;
  struct Part {
    double sum = 0, count = 0;
  };
  std::vector<Part> parts(pools.size());
  tbb::parallel_for(std::size_t{0}, pools.size(), [&](std::size_t i) {
    auto& [sum, count] = parts[i];
    std::vector<float> totals;
    for (const FrameSample& f : pools[i]->frames) totals.push_back(f.fetch_ms + f.process_ms);
    if (totals.size() < 2 * kBlock) return;
    const double all = median_of(totals).median;
    if (all <= 0) return;
    for (std::size_t at = 0; at + kBlock <= totals.size(); at += kBlock) {
      const std::vector<float> block(totals.begin() + static_cast<std::ptrdiff_t>(at),
                                     totals.begin() + static_cast<std::ptrdiff_t>(at + kBlock));
      const double middle = median_of(block).median, d = std::log(middle / all);
      std::vector<float> apart;
      for (const float t : block) apart.push_back(std::abs(t - static_cast<float>(middle)));
      const double single = 1.4826 * static_cast<double>(median_of(apart).median) / all;
      sum += std::min(0.09, d * d) - 1.5708 * std::min(0.09, single * single) / kBlock, count += 1;
    }
  });
  double sum = 0, count = 0;
  for (const Part& p : parts) sum += p.sum, count += p.count;
  // In whole steps: one more kind of frames should not change what is drawn for all others.
  return count > 0 ? std::clamp(std::round(std::sqrt(std::max(0.0, sum / count)) * 200) / 200, 0.01, 0.2)
                   : 0.03;
}

/// The seat's speed varies more than half a minute of measuring shows where others work on its cores: from stretch to stretch,
/// and in the mean of a whole playout. Seen in first playouts with 0.84 to 0.96 of the work on shared cores: 7 % from stretch to
/// stretch, means 0.93, 0.95, 0.97 and 1.02 of what was measured before. In whole steps, as the base.
std::pair<double, double> with_strangers(double mood, double crowding) {
  const auto steps = [](double v) { return std::round(v * 200) / 200; };
  const double c = std::max(0.0, crowding);
  return {steps(std::hypot(mood, 0.06 * c)), steps(std::hypot(mood / 2, 0.05 * c))};
}

/// What the seat takes now against what is known of its costs, which is of cores that nobody else works on:
/// as playouts went, or by how crowded it is. In whole steps, so that edits can be forecast from the state
/// before.
double base_of(const Moods& moods, double crowding) {
  double sum = 0, count = 0;
  for (const std::vector<float>& playout : moods)
    for (const float r : playout) sum += static_cast<double>(r), ++count;
  return std::round(50 * (count > 0 ? sum / count : crowded(crowding))) / 50;
}

bool has_long_gop(const Program& program, const CompiledInterval& interval, const TapPattern& taps) {
  bool is = false;
  each_source(program, interval, interval.in, taps, {}, [&](const CompiledSegment& s, Frames) { is = is || !s.media.intra; });
  return is;
}

/// The neighbours that an effect of some layer looks at, the most of all, and what making one takes: the
/// content and the effects below that one. `ms` gives a stage's cost.
template <class F>
std::pair<int, double> neighbours_in(const Program& program, const CompiledInterval& interval, const TapPattern& taps, F&& ms) {
  int most = 0;
  double cost = 0;
  for (const CompiledLayer& l : interval.layers)
    for (const CompiledSegment* s : {l.from.get(), l.to.get()}) {
      const int j = s ? s->last_temporal(s->effects.size()) : -1;
      if (j < 0) continue;
      const TapUse* tap = tap_in(taps, use_of({}, *s));
      const int rendered = tap && tap->kind == TapKind::stack ? tap->after : 0;
      if (rendered > j) continue;
      most = std::max(most, s->effects[static_cast<std::size_t>(j)].window.length() - 1);
      if (tap && tap->kind != TapKind::source) {
        for (const StageRef& r : program.rendered_stages(*tap))
          if (r.in_order == 0) cost += ms(r);
      } else {
        cost += ms(s->convert);
        if (s->content == Content::source && s->decode.in_order == 0) cost += ms(s->decode);
      }
      for (int i = rendered; i < j; ++i)
        cost += ms(s->effects[static_cast<std::size_t>(i)].stage_at(interval.in - s->in));
    }
  return {most, cost};
}

/// Gathers pools of costs, each kind of frame once.
class Pools {
 public:
  Pools(const Program& program, const CostBook& book, Model& model)
      : program_(program), book_(book), model_(model) {}

  struct Entry {
    std::uint32_t pool = 0;
    bool measured = true;
    std::vector<StageCost> stages;
  };

  const Entry& live(int interval, const TapPattern& taps = {}) {
    const CompiledInterval& i = program_.intervals()[static_cast<std::size_t>(interval)];
    return entry(program_.stages(i.in, taps), has_long_gop(program_, i, taps), interval, taps);
  }
  const Entry& sealed(const TapPattern& taps) {
    return entry(taps.empty() ? program_.sealed_stages() : program_.stages(0, taps), false, -1, taps);
  }
  const Entry& remembered() { return entry({program_.display_stage()}, false, -2, {}); }
  const Entry& of(const Alike& part) {
    return part.state == FrameState::sealed       ? sealed(part.taps)
           : part.state == FrameState::remembered ? remembered()
                                                  : live(part.interval, part.taps);
  }

 private:
  /// What the book says of a stage. The same stages come again in most intervals, and each answer takes sorting samples.
  struct Costs {
    StageCosts of;
    double mean = 0;
  };
  const Costs& costs_of(const StageRef& stage) {
    const auto [it, fresh] = costs_.try_emplace(stage.key);
    if (fresh) it->second.of = book_.stage(stage), it->second.mean = mean(it->second.of.ms);
    return it->second;
  }

  const Entry& entry(const std::vector<StageRef>& stages, bool between, int interval, const TapPattern& taps) {
    if (const auto it = known_.find({interval, taps}); it != known_.end()) return it->second;
    Entry e;
    const Hash128 key = frame_key(stages);
    CostPool pool;
    pool.frames = book_.frames(key);
    pool.entries = book_.entries(key);
    pool.decodes_between = between;
    std::vector<const std::vector<float>*> samples;
    std::vector<float> shares;
    double in_turn = 0, beside = 0;
    for (const StageRef& s : stages) {
      const Costs& costs = costs_of(s);
      const bool estimated = costs.of.origin != Origin::measured;
      const Owner& owner = program_.owners()[static_cast<std::size_t>(s.owner)];
      const double share = turn_share(s, model_.pace.workers);
      e.stages.push_back({s.owner, s.kind, owner.segment, owner.effect, owner.label, costs.mean, estimated,
                          s.elsewhere, owner.placed, costs.mean * share});
      shares.push_back(static_cast<float>(share));
      in_turn += costs.mean * share, beside += share > 0 ? costs.mean * (1 - share) : 0;
      samples.push_back(&costs.of.ms);
    }
    if (in_turn > 0) pool.beside = static_cast<float>(beside / in_turn);
    if (pool.frames.size() < 4 && !taps.empty() && interval >= 0)
      pool.frames = as_live_but_for(stages, live(interval), program_.stages(program_.intervals()[static_cast<std::size_t>(interval)].in));
    if (pool.frames.size() < 4) {
      e.measured = covered(book_, stages);
      pool.frames.clear();
      std::uint64_t state = 0x9e3779b97f4a7c15ULL;
      for (std::size_t n = 0; n < kComposed; ++n) {
        FrameSample f;
        for (std::size_t i = 0; i < stages.size(); ++i) {
          if (samples[i]->empty()) continue;
          state = state * 6364136223846793005ULL + 1442695040888963407ULL;
          const float v = (*samples[i])[static_cast<std::size_t>(state >> 33) % samples[i]->size()];
          f.fetch_ms += v * shares[i], f.process_ms += v * (1 - shares[i]);
        }
        pool.frames.push_back(f);
      }
    }
    if (interval >= 0) {
      const auto [most, ms] = neighbours_in(program_, program_.intervals()[static_cast<std::size_t>(interval)], taps,
                                            [&](const StageRef& s) { return costs_of(s).mean; });
      pool.neighbours = most, pool.neighbour_ms = static_cast<float>(ms);
    }
    e.pool = static_cast<std::uint32_t>(model_.pools.size());
    model_.pools.push_back(std::move(pool));
    return known_.emplace(std::pair(interval, taps), std::move(e)).first->second;
  }

  /// Frames of which some is fetched, from frames that were measured live: what is left out comes off each of them, what is
  /// fetched goes on. Frames in the running pipeline take more or less than their stages together, and so this is that of
  /// both. Empty where none were measured, or where most of the work is left out.
  std::vector<FrameSample> as_live_but_for(std::vector<StageRef> with, const Entry& live, const std::vector<StageRef>& without) {
    if (book_.frames(frame_key(without)).size() < 4) return {};
    FrameSample change;
    double all = 0, off = 0;
    const auto add = [&](const StageRef& s, float sign) {
      const auto ms = static_cast<float>(costs_of(s).mean), share = static_cast<float>(turn_share(s, model_.pace.workers));
      change.fetch_ms += sign * ms * share, change.process_ms += sign * ms * (1 - share);
      if (sign < 0) off += static_cast<double>(ms);
    };
    for (const StageRef& s : without) {
      all += costs_of(s).mean;
      const auto same = std::find_if(with.begin(), with.end(), [&](const StageRef& w) { return w.key == s.key; });
      if (same == with.end()) add(s, -1);
      else with.erase(same);
    }
    for (const StageRef& s : with) add(s, 1);
    constexpr double kMost = 0.6;
    if (off > kMost * all) return {};
    std::vector<FrameSample> frames = model_.pools[live.pool].frames;
    for (FrameSample& f : frames) {
      f.fetch_ms = std::max(0.02f, f.fetch_ms + change.fetch_ms);
      f.process_ms = std::max(0.1f, f.process_ms + change.process_ms);
    }
    return frames;
  }

  const Program& program_;
  const CostBook& book_;
  Model& model_;
  std::map<std::pair<int, TapPattern>, Entry> known_;
  std::unordered_map<Hash128, Costs> costs_;
};

Model build(const Program& program, const CostBook& book, const std::vector<Alike>& parts, FrameRange range,
            const ForecastOptions& options, std::vector<Pools::Entry>* entries,
            std::vector<Pools::Entry>* live_entries) {
  Model model;
  model.first = range.in;
  model.scale = options.cost_scale;
  model.pace = {options.workers, options.horizon, program.timeline()->rate.frame_ms(),
                far_of(program.width(), program.height(), options.horizon)};
  Pools pools(program, book, model);
  const Alike* before = nullptr;
  for (const Alike& part : parts) {
    const Pools::Entry& e = pools.of(part);
    if (entries) entries->push_back(e), live_entries->push_back(pools.live(part.interval));
    const Frames in = part.in - range.in, out = part.out - range.in;
    if (part.state == FrameState::sealed) {
      // Every sealed piece is a file of its own, opened in its turn.
      constexpr Frames kPiece = 24;
      for (Frames at = in; at < out; at += kPiece)
        model.stretches.push_back({at, std::min(out, at + kPiece), e.pool, true, 0});
    } else if (part.state == FrameState::remembered) {
      model.stretches.push_back({in, out, e.pool, false, 0});
    } else {
      const bool entry = !before || !is_live(*before) ||
                         (before->interval != part.interval && opens_source(program, part.interval));
      model.stretches.push_back(
          {in, out, e.pool, entry,
           entry
               ? frames_to_reach(program, program.intervals()[static_cast<std::size_t>(part.interval)], part.in, part.taps)
               : 0});
    }
    before = &part;
  }
  // From the frames as they are made live, whatever is fetched: so a remedy changes what it is of and nothing else.
  std::set<std::uint32_t> made;
  for (const Alike& part : parts) made.insert(pools.live(part.interval).pool);
  std::vector<const CostPool*> live;
  for (const std::uint32_t pool : made) live.push_back(&model.pools[pool]);
  model.mood = mood_of(live), model.moods = book.moods();
  std::tie(model.mood, model.level) = with_strangers(model.mood, book.crowding());
  model.base = base_of(model.moods, book.crowding());
  model.kinds = kinds_told(model);
  if (options.outside) model.lately = book.lately();
  return model;
}

/// A second pass after the first. Its files are open already, and nothing was made ahead of its clock.
void repeat(Model& model) {
  const Frames length = model.frames();
  const std::size_t stretches = model.stretches.size(), kinds = model.kinds.size();
  for (std::size_t i = 0; i < stretches; ++i) {
    CostStretch s = model.stretches[i];
    s.in += length, s.out += length, s.opens = false;
    model.stretches.push_back(s);
  }
  for (std::size_t i = 0; i < kinds; ++i) {
    model.kinds.push_back(model.kinds[i]);
    model.kinds.back().from += length;
  }
}

IntervalCost cost_of(const Alike& part, const CostPool& pool, const CostPool& live, const Pools::Entry& entry,
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

/// Intervals that hold frames of a range.
std::span<const IntervalCost> intervals_in(const Forecast& f, FrameRange range) {
  const auto first = std::ranges::upper_bound(f.intervals, range.in, {}, &IntervalCost::out);
  const auto last = std::ranges::lower_bound(first, f.intervals.end(), range.out, {}, &IntervalCost::in);
  return {first, last};
}

/// The frames of a segment that is placed on the timeline.
FrameRange frames_of(const Program& program, const std::string& placed, FrameRange otherwise) {
  for (const CompiledSegmentPtr& s : program.segments())
    if (s->segment->id == placed) return {s->in, s->out};
  return otherwise;
}

void explain(Span& span, const Program& program, const Forecast& f, const ForecastOptions& options) {
  double fetch = 0, process = 0, read = 0, decode = 0, accelerator = 0, transfer = 0, frames = 0;
  std::map<int, StageCost> by_owner;
  std::set<std::string> seen;
  for (const IntervalCost& c : intervals_in(f, {span.in, span.out})) {
    const double n = static_cast<double>(std::min(span.out, c.out) - std::max(span.in, c.in));
    if (n <= 0) continue;
    frames += n;
    fetch += c.fetch_ms * n, process += c.process_ms * n, read += c.read_ms * n;
    for (const StageCost& s : c.stages) {
      const auto [it, fresh] = by_owner.try_emplace(s.owner, s);
      it->second.ms = fresh ? s.ms * n : it->second.ms + s.ms * n;
      it->second.turn_ms = fresh ? s.turn_ms * n : it->second.turn_ms + s.turn_ms * n;
      (s.kind == StageKind::transfer ? transfer : accelerator) += s.elsewhere ? s.ms * n : 0;
      if (s.kind == StageKind::decode) decode += s.ms * n;
      if (!s.segment.empty() && seen.insert(s.segment).second) span.segments.push_back(s.segment);
    }
  }
  if (frames == 0) return;
  for (auto& [owner, s] : by_owner)
    if (s.ms > span.blame.ms) span.blame = s;
  // The same figure as in the ledger: over the frames of the segment, not those of the span.
  for (const StageCost& s : stages_over(f, frames_of(program, span.blame.placed, {span.in, span.out})))
    if (s.owner == span.blame.owner) span.blame.ms = s.ms;
  if (span.verdict != Verdict::wavers && span.verdict != Verdict::spills) return;
  const Frames first = f.before - f.range.in;
  double missed = 0;
  for (const double n : f.trials->not_looked_for(first + span.in, first + span.out)) missed += n;
  if (missed / f.trials->trials() > span.expected_drops / 2) span.cause = Cause::outside;
  else if (fetch > (fetch + process) / options.workers)
    span.cause = read > 0.6 * fetch ? Cause::disk : Cause::decode;
  else if (2 * decode > fetch + process) span.cause = Cause::decode;
  else if (accelerator + transfer > process - accelerator - transfer)
    span.cause = transfer > accelerator ? Cause::transfer : Cause::accelerator;
  else span.cause = Cause::processor;
}

/// In what share of the trials frames of a range are dropped because they are late, and because the display
/// is kept from looking for them.
std::pair<double, double> any_drops(const Forecast& f, FrameRange range) {
  const Frames first = f.before - f.range.in;
  const auto all = f.trials->drops(first + range.in, first + range.out);
  const auto missed = f.trials->not_looked_for(first + range.in, first + range.out);
  double late = 0, not_looked_for = 0;
  for (std::size_t t = 0; t < all.size(); ++t) late += all[t] > missed[t], not_looked_for += missed[t] > 0;
  const auto trials = static_cast<double>(all.size());
  return {late / trials, not_looked_for / trials};
}

Span span_of(FrameRange range, const Forecast& f) {
  Span s;
  s.in = range.in, s.out = range.out;
  const DropRange drops = f.simulated(range).widened(f.widening);
  s.expected_drops = drops.expected, s.drops_low = drops.low, s.drops_high = std::min(drops.high, static_cast<double>(range.length()));
  // What has been learnt of the forecast is of the timeline's own drops.
  const auto [late, not_looked_for] = any_drops(f, range);
  s.drop_probability = 1 - (1 - f.calibration(late)) * (1 - not_looked_for);
  s.sustained_rate = f.rate.fps() * (1 - s.expected_drops / static_cast<double>(range.length()));
  s.verdict = s.drop_probability >= f.thresholds.spills   ? Verdict::spills
              : s.drop_probability >= f.thresholds.wavers ? Verdict::wavers
                                                          : Verdict::holds;
  return s;
}

}  // namespace

namespace {

/// Cuts what is no matter of speed out of the spans and gives it spans of its own.
void set_apart(Forecast& f, Verdict verdict, bool IntervalCost::* of) {
  std::vector<FrameRange> apart;
  for (const IntervalCost& c : f.intervals)
    if (c.*of) {
      if (!apart.empty() && apart.back().out == c.in) apart.back().out = c.out;
      else apart.push_back({c.in, c.out});
    }
  if (apart.empty()) return;
  std::vector<Span> spans;
  for (const Span& s : f.spans) {
    Frames at = s.in;
    const auto rest = [&](Frames out) {
      if (out <= at) return;
      spans.push_back(span_of({at, out}, f));
      spans.back().verdict = s.verdict, spans.back().said = s.said;
    };
    for (const FrameRange& u : apart) {
      if (u.out <= at || u.in >= s.out) continue;
      rest(u.in);
      at = std::min(u.out, s.out);
    }
    rest(s.out);
  }
  for (const FrameRange& u : apart) {
    Span s = span_of(u, f);
    s.verdict = verdict;
    spans.push_back(std::move(s));
  }
  std::sort(spans.begin(), spans.end(), [](const Span& x, const Span& y) { return x.in < y.in; });
  f.spans = std::move(spans);
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

std::vector<FrameRange> missed_runs(const std::vector<float>& miss, Frames first, Rate rate, double density) {
  std::vector<FrameRange> runs;
  const auto count = static_cast<Frames>(miss.size());
  const Frames second = std::max<Frames>(2, rate.nominal());
  // A window of a second slides over the frames; where it holds enough misses, its missed frames belong to a
  // part.
  double sum = 0;
  std::vector<std::uint8_t> dense(miss.size(), 0);
  Frames marked = 0;
  for (Frames end = 0; end < count; ++end) {
    sum += miss[static_cast<std::size_t>(end)];
    const Frames begin = end - second + 1;
    if (begin > 0) sum -= miss[static_cast<std::size_t>(begin - 1)];
    if (sum < density * static_cast<double>(second) - 1e-6) continue;
    for (Frames f = std::max({Frames{0}, begin, marked}); f <= end; ++f)
      dense[static_cast<std::size_t>(f)] = 1;
    marked = end + 1;
  }
  for (Frames f = 0; f < count; ++f) {
    if (!dense[static_cast<std::size_t>(f)] || miss[static_cast<std::size_t>(f)] < 0.01f) continue;
    if (!runs.empty() && first + f - runs.back().out < second) runs.back().out = first + f + 1;
    else runs.push_back({first + f, first + f + 1});
  }
  return runs;
}

std::vector<FrameRange> drop_runs(const std::vector<Frames>& dropped, Rate rate) {
  constexpr double kDensity = 0.08;
  const Frames second = std::max<Frames>(2, rate.nominal());
  const auto enough = static_cast<std::size_t>(std::max(2.0, std::ceil(kDensity * static_cast<double>(second) - 1e-6)));
  std::vector<FrameRange> runs;
  std::size_t in_run = 0;  // those before it are told already
  for (std::size_t first = 0; first + enough <= dropped.size(); ++first) {
    const std::size_t last = first + enough - 1;
    if (dropped[last] - dropped[first] >= second) continue;
    for (in_run = std::max(in_run, first); in_run <= last; ++in_run) {
      const Frames f = dropped[in_run];
      if (!runs.empty() && f - runs.back().out < second) runs.back().out = f + 1;
      else runs.push_back({f, f + 1});
    }
  }
  return runs;
}

namespace {

/// Frames that lie in a run of drops in at least half of the trials.
std::vector<FrameRange> said_runs(const Forecast& f) {
  const Frames length = f.range.length();
  std::vector<int> change(static_cast<std::size_t>(length) + 1, 0);
  for (int t = 0; t < f.trials->trials(); ++t)
    for (const FrameRange& r : drop_runs(f.trials->late(t, f.before, f.before + length), f.rate))
      ++change[static_cast<std::size_t>(r.in - f.before)], --change[static_cast<std::size_t>(r.out - f.before)];
  std::vector<FrameRange> said;
  int runs = 0;
  for (Frames n = 0; n < length; ++n) {
    runs += change[static_cast<std::size_t>(n)];
    if (2 * runs < f.trials->trials() || runs == 0) continue;
    const Frames at = f.range.in + n;
    if (!said.empty() && said.back().out == at) said.back().out = at + 1;
    else said.push_back({at, at + 1});
  }
  return said;
}

/// Spans said, and doubtful ones beside them: where drops are likely enough to be told and lie here in one trial and there
/// in another. What is left of a doubtful one next to a span said is that span's recovering, and none by itself.
std::vector<Span> spans_that_drop(const Forecast& f) {
  std::vector<Span> all;
  const std::vector<FrameRange> said = said_runs(f);
  for (const FrameRange& r : said) {
    Span s = span_of(r, f);
    s.said = true;
    if (s.verdict == Verdict::holds) s.verdict = Verdict::wavers;
    all.push_back(std::move(s));
  }
  constexpr double kDoubtful = 0.02;
  const auto doubtful = [&](FrameRange piece, bool beside) {
    if (piece.length() <= 0 || (beside && piece.length() < f.rate.nominal())) return;
    if (Span s = span_of(piece, f); s.verdict != Verdict::holds) all.push_back(std::move(s));
  };
  for (const FrameRange& r : missed_runs(f.miss, f.range.in, f.rate, kDoubtful)) {
    Frames at = r.in;
    bool beside = false;
    for (const FrameRange& there : said) {
      if (there.out <= r.in || there.in >= r.out) continue;
      doubtful({at, there.in}, true);
      at = there.out, beside = true;
    }
    doubtful({at, r.out}, beside);
  }
  std::sort(all.begin(), all.end(), [](const Span& x, const Span& y) { return x.in < y.in; });
  return all;
}

}  // namespace

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
  return build(program, book, alike_frames(program, sealed, range), range, options, nullptr, nullptr);
}

std::vector<CostKind> kinds_of(const Program& program, const CostBook& book, const Route& sealed,
                               FrameRange range, const ForecastOptions& options) {
  return model_of(program, book, sealed, range, options).kinds;
}

Forecast forecast(const Program& program, const CostBook& book, const Route& sealed, FrameRange range,
                  const ForecastOptions& options) {
  const Stopwatch watch;
  Forecast f;
  f.range = {std::clamp<Frames>(range.in, 0, program.duration()),
             std::clamp<Frames>(range.out, 0, program.duration())};
  f.rate = program.timeline()->rate;
  const std::vector<Alike> parts = alike_frames(program, sealed, f.range);
  std::vector<Pools::Entry> entries, live;
  Model model = build(program, book, parts, f.range, options, &entries, &live);
  f.base = model.base, f.crowding = book.crowding();
  f.intervals.resize(parts.size());
  tbb::parallel_for(std::size_t{0}, parts.size(), [&](std::size_t i) {
    f.intervals[i] = cost_of(parts[i], model.pools[entries[i].pool], model.pools[live[i].pool], entries[i], options, model.base,
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
  f.miss.assign(f.trials->miss().begin() + static_cast<std::ptrdiff_t>(f.before), f.trials->miss().end());
  const DropRange drops = f.simulated(f.range).widened(f.widening);
  f.expected_drops = drops.expected, f.drops_low = drops.low, f.drops_high = std::min(drops.high, static_cast<double>(f.range.length()));

  // Runs of drops first, then what lies between them.
  std::vector<Span> missed = spans_that_drop(f);
  Frames at = f.range.in;
  for (Span& s : missed) {
    if (s.in > at) f.spans.push_back(span_of({at, s.in}, f)), f.spans.back().verdict = Verdict::holds;
    at = s.out;
    f.spans.push_back(std::move(s));
  }
  if (at < f.range.out)
    f.spans.push_back(span_of({at, f.range.out}, f)), f.spans.back().verdict = Verdict::holds;
  set_apart(f, Verdict::unseen, &IntervalCost::unseen);
  // What is missing as well cannot be rendered.
  set_apart(f, Verdict::missing, &IntervalCost::missing);
  for (Span& s : f.spans) explain(s, program, f, options);
  f.seconds = watch.ms() / 1000;
  return f;
}

}  // namespace gc
