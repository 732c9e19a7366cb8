#include "forecast/simulate.h"

#include <tbb/parallel_for.h>

#include <algorithm>
#include <array>
#include <cmath>

namespace gc {
namespace {

constexpr Frames kBlock = 384;       // frames between two states that are kept
constexpr std::uint64_t kRunOf = 8;  // frames in a row take neighbouring samples, as neighbours are alike
constexpr double kMet = 1e-6;        // ms: states that differ by less go on alike

/// Steele, Lea and Flood (2014), the mixing function of SplitMix64: a draw from a counter.
std::uint64_t mixed(std::uint64_t x) {
  x += 0x9e3779b97f4a7c15ULL;
  x = (x ^ (x >> 30)) * 0xbf58476d1ce4e5b9ULL;
  x = (x ^ (x >> 27)) * 0x94d049bb133111ebULL;
  return x ^ (x >> 31);
}
std::size_t below(std::uint64_t draw, std::size_t n) {
  return static_cast<std::size_t>(((draw >> 32) * n) >> 32);
}

/// A worker and what its latest frame took.
struct Lane {
  double free_at = 0, done = 0;
  Occupancy spent;
  const SkipCost* skip = nullptr;  ///< of its kind of frames
  bool has = false;                ///< a frame whose end the rule has not been told
};

struct Fetch {
  double steady = 0, catch_up = 0;
  double neighbours = 0;  ///< processing that a skip added
  const SkipCost* skip = nullptr;
};

/// The pipeline's clockwork: one playout between two frames.
struct State {
  Pacer pacer;
  FrameStart next;  ///< decided, not carried out
  int worker = 0;   ///< who carries it out
  double fetch_free = 0;
  Frames last = -1;     ///< fetched last
  Frames expected = 0;  ///< first frame whose fate is not told yet
};

inline int earliest(const Lane* lanes, int workers) {
  if (workers == 2) return lanes[1].free_at < lanes[0].free_at;
  int w = 0;
  for (int i = 1; i < workers; ++i) w = lanes[i].free_at < lanes[w].free_at ? i : w;
  return w;
}

inline void tell(Pacer& pacer, Lane& lane) {
  if (lane.has) pacer.finished(lane.spent, *lane.skip);
  lane.has = false;
}

template <class Costs>
[[gnu::always_inline]] inline void decide(State& s, Lane* lanes, int workers, const Costs& costs) {
  s.worker = earliest(lanes, workers);
  Lane& lane = lanes[s.worker];
  if constexpr (Costs::kHandsOver) {
    for (;;) {
      Lane* first = nullptr;
      for (Lane* l = lanes; l < lanes + workers; ++l)
        if (l->has && l->done <= lane.free_at && (!first || l->done < first->done)) first = l;
      if (!first) break;
      tell(s.pacer, *first);
    }
  } else {
    tell(s.pacer, lane);
  }
  s.next = s.pacer.next(lane.free_at, costs.kinds());
}

/// Before the clock: the first frames are made as fast as they can be; it starts when all of them are there.
template <class Costs>
State begin(const Pace& pace, Lane* lanes, Frames count, Costs& costs) {
  State s{Pacer(pace), {}, 0, 0, -1, 0};
  const Frames first = std::min<Frames>(count, pace.horizon);
  for (Frames n = 0; n < first; ++n) {
    Lane& lane = lanes[earliest(lanes, pace.workers)];
    const Fetch fetch = costs.fetch(s.last, n);
    s.fetch_free = std::max(lane.free_at, s.fetch_free) + fetch.steady + fetch.catch_up;
    s.last = n;
    lane.free_at = s.fetch_free + costs.process(n) + fetch.neighbours;
  }
  for (int w = 0; w < pace.workers; ++w) lanes[w] = {}, lanes[w].free_at = costs.begins(w);
  s.fetch_free = 0, s.expected = first;
  s.pacer.skip_to(first);
  decide(s, lanes, pace.workers, costs);
  return s;
}

/// Frames so light that none can be late need not be played one by one while the read-ahead is full: goes to
/// just before the next ones that may be otherwise. Only the rule's mean of their costs misses their latest.
template <class Costs>
void pass_light(const Pace& pace, State& s, const Lane* lanes, Frames out, const Costs& costs) {
  const Frames n = s.next.frame;
  if (!s.pacer.at_ease(s.next) || s.last != n - 1 || s.fetch_free > s.next.at_ms) return;
  for (const Lane* l = lanes; l < lanes + pace.workers; ++l)
    if (l->free_at > s.next.at_ms + pace.period_ms) return;
  // After so many every worker has taken on one of them, which is then told like any other.
  const Frames to = costs.light_until(s.pacer, n, out) - pace.workers - 1;
  if (to <= n) return;
  s.next = s.pacer.pass_to(to);
  s.last = to - 1, s.expected = to;
}

/// On to frame `out`. `drop(n, late)` is told of each frame before it that is missed.
template <class Costs, class Drop>
void advance(const Pace& pace, State& state, Lane* lanes, Frames out, Costs& costs, Drop&& drop) {
  State s = state;  // where no pointer leads to, so that it stays in registers
  while (s.next.frame < out) {
    if constexpr (Costs::kPassesLight)
      if (costs.light(s.next.frame)) pass_light(pace, s, lanes, out, costs);
    const Frames n = s.next.frame;
    for (; s.expected < n; ++s.expected) drop(s.expected, 0.0f);
    s.expected = n + 1;
    const double started = s.next.at_ms + costs.starting(n);
    const double began = std::max(started, s.fetch_free) + costs.turn(n);
    const Fetch fetch = costs.fetch(s.last, n);
    const double fetched = began + fetch.steady + fetch.catch_up;
    s.fetch_free = fetched, s.last = n;
    const double process = costs.process(n);
    const double done = fetched + process + fetch.neighbours;
    lanes[s.worker] = {done + costs.handing(n),
                       done,
                       {began - started, fetch.steady, process, s.next.kind},
                       fetch.skip,
                       true};
    const double late = costs.late(n, done - static_cast<double>(n) * pace.period_ms);
    if (late > 0) drop(n, static_cast<float>(late));
    decide(s, lanes, pace.workers, costs);
  }
  for (; s.expected < out; ++s.expected) drop(s.expected, 0.0f);
  state = s;
}

struct GivenCosts {
  static constexpr bool kHandsOver = true;  ///< a worker may be done and not yet at its next frame
  static constexpr bool kPassesLight = false;
  const std::vector<FrameCost>& all;
  const std::vector<double>& first;
  double period_ms;
  Kinds told;
  std::vector<SkipCost> skips;  ///< for each frame

  const FrameCost& of(Frames n) const { return all[static_cast<std::size_t>(n)]; }
  Kinds kinds() const { return told; }
  Fetch fetch(Frames last, Frames n) const {
    const FrameCost& c = of(n);
    return {c.fetch, catch_up_of(all, last, n) + c.stall, neighbours_of(all, last, n),
            &skips[static_cast<std::size_t>(n)]};
  }
  double process(Frames n) const { return of(n).process; }
  double begins(int worker) const {
    return static_cast<std::size_t>(worker) < first.size() ? first[static_cast<std::size_t>(worker)] : 0;
  }
  double starting(Frames n) const { return of(n).starting; }
  double turn(Frames n) const { return of(n).turn; }
  double handing(Frames n) const { return of(n).handing; }
  /// A display's thread that comes a whole period late shows nothing, whatever lay ready.
  double late(Frames n, double late_ms) const {
    const double late = late_ms + of(n).arriving - of(n).looked;
    return of(n).looked >= period_ms ? std::max(late, kMet) : late;
  }
};

/// What a trial draws the seat's speed in each stretch from: one of the playouts that are known, which keeps
/// together what came together, or what measuring says of how it varies.
class Tempers {
 public:
  explicit Tempers(const Model& model) {
    // exp(mood · z) at evenly spread quantiles of the normal distribution, whose logistic approximation is
    // within 0.02 in between ±2.5 (Bowling and others, 2009).
    std::vector<float> normal(1024);
    for (std::size_t i = 0; i < normal.size(); ++i) {
      const double p = (static_cast<double>(i) + 0.5) / static_cast<double>(normal.size());
      normal[i] = static_cast<float>(model.scale * std::exp(model.mood * std::log(p / (1 - p)) / 1.702));
    }
    factors_.push_back(std::move(normal));
    for (std::vector<float> ratios : model.moods) {
      for (float& r : ratios) r *= static_cast<float>(model.scale);
      factors_.push_back(std::move(ratios));
    }
  }
  const std::vector<float>& of(int trial) const {
    const std::size_t i = static_cast<std::size_t>(trial) % (factors_.size() + kFromMeasuring - 1);
    return factors_[i < kFromMeasuring ? 0 : i - kFromMeasuring + 1];
  }

 private:
  static constexpr std::size_t kFromMeasuring = 2;  // such trials for each playout that is known
  std::vector<std::vector<float>> factors_;
};

/// Costs of one trial, drawn as they are asked for.
class DrawnCosts {
 public:
  static constexpr bool kHandsOver = false;
  static constexpr bool kPassesLight = true;
  DrawnCosts(const Model& model, const Tempers& tempers, const std::vector<SkipCost>& skips,
             const std::vector<FrameSample>& dearest, std::uint64_t seed, int trial)
      : model_(model),
        factors_(tempers.of(trial)),
        skips_(skips),
        dearest_(dearest),
        seed_(mixed(seed + static_cast<std::uint64_t>(trial) * 0x632be59bd9b4e019ULL)),
        outside_(model.lately.empty()
                     ? nullptr
                     : &model.lately[static_cast<std::size_t>(trial) % model.lately.size()]) {
    if (outside_ && outside_->per_busy_ms <= 0) outside_ = nullptr;
    enter(0);
  }
  Kinds kinds() const { return model_.kinds; }
  /// To the stretch that holds frame n, wherever it is.
  void go_to(Frames n) {
    const auto it = std::upper_bound(model_.stretches.begin(), model_.stretches.end(), n,
                                     [](Frames f, const CostStretch& s) { return f < s.out; });
    enter(static_cast<std::size_t>(std::min<std::ptrdiff_t>(
        it - model_.stretches.begin(), static_cast<std::ptrdiff_t>(model_.stretches.size()) - 1)));
  }

  /// Whether frame n lies within a stretch that was entered and whose frames are all light.
  bool light(Frames n) const { return light_ && n > stretch_->in && n < stretch_->out; }
  /// How far frames of the present stretch surely keep the read-ahead full: up to `out`, or to the first that
  /// may be held up from outside.
  Frames light_until(const Pacer& pacer, Frames n, Frames out) const {
    const double most = most_ms();
    if (!pacer.stays_at_ease(most)) return n;
    out = std::min(out, stretch_->out);
    if (!outside_) return out;
    const auto limit = static_cast<std::uint64_t>(most * outside_->per_busy_ms * 0x1p24) + 1;
    while (n < out && (mixed(seed_ ^ static_cast<std::uint64_t>(n)) & 0xffffff) >= limit) ++n;
    return n;
  }

  Fetch fetch(Frames last, Frames n) {
    while (n >= stretch_->out) enter(at_ + 1);
    const std::uint64_t draw = mixed(seed_ ^ static_cast<std::uint64_t>(n));
    if (const std::uint64_t run = static_cast<std::uint64_t>(n) / kRunOf; run != run_)
      run_ = run, run_draw_ = mixed(seed_ + 0x51ed27f5ULL + run);
    std::size_t k = below(run_draw_, size_) + static_cast<std::size_t>(n) % kRunOf;
    while (k >= size_) k -= size_;
    sample_ = samples_[k];
    Fetch f{sample_.fetch_ms * scale_, 0, 0, skip_};
    if (last < stretch_->in || (skips_cost_ && last + 1 != n)) reach(f, last, n, draw);
    outside_ms_ = 0;
    if (outside_) {
      const double busy =
          f.steady + f.catch_up + f.neighbours + static_cast<double>(sample_.process_ms * scale_);
      if (static_cast<double>(draw & 0xffffff) * 0x1p-24 < busy * outside_->per_busy_ms)
        outside_ms_ = outside_->ms[below(draw, outside_->ms.size())];
    }
    return f;
  }
  double process(Frames) const { return sample_.process_ms * scale_ + outside_ms_; }
  // The samples were taken in the running pipeline: what lies between stages is in them.
  double begins(int) const { return 0; }
  double starting(Frames) const { return 0; }
  double turn(Frames) const { return 0; }
  double handing(Frames) const { return 0; }
  double late(Frames, double late_ms) const { return late_ms; }

 private:
  void enter(std::size_t at) {
    at_ = at;
    stretch_ = &model_.stretches[at];
    const CostPool& pool = model_.pools[stretch_->pool];
    samples_ = pool.frames.data(), size_ = pool.frames.size(), between_ = pool.decodes_between;
    skip_ = &skips_[stretch_->pool], skips_cost_ = skip_->any();
    scale_ = factors_[below(mixed(seed_ ^ (0xabcdef0123ULL + static_cast<std::uint64_t>(stretch_->in) * 31)),
                            factors_.size())];
    light_ = dearest_[stretch_->pool].fetch_ms * scale_ <= model_.pace.period_ms &&
             most_ms() <= model_.pace.period_ms * model_.pace.workers;
  }
  double most_ms() const {
    const FrameSample& f = dearest_[stretch_->pool];
    return static_cast<double>((f.fetch_ms + f.process_ms) * scale_);
  }
  /// What it takes besides to reach frame n from the last one that was fetched.
  void reach(Fetch& f, Frames last, Frames n, std::uint64_t draw) const {
    const CostPool& pool = model_.pools[stretch_->pool];
    const bool enters = last < stretch_->in && stretch_->entry;
    const Frames skipped = n - std::max(last + 1, stretch_->in);
    const Frames wanting = enters ? pool.neighbours : std::min<Frames>(pool.neighbours, skipped);
    Frames decoded = between_ ? std::min(kMostCatchUp, skipped) : wanting;
    if (enters) {
      if (stretch_->opens && !pool.entries.empty())
        f.catch_up += pool.entries[below(mixed(draw), pool.entries.size())] * scale_;
      decoded += stretch_->entry_frames;
    }
    for (Frames i = 0; i < decoded; ++i)
      f.catch_up += samples_[below(mixed(draw + static_cast<std::uint64_t>(i) + 1), size_)].fetch_ms * scale_;
    f.neighbours = static_cast<double>(wanting) * static_cast<double>(pool.neighbour_ms * scale_);
  }

  const Model& model_;
  const std::vector<float>& factors_;
  const std::vector<SkipCost>& skips_;       ///< for each pool
  const std::vector<FrameSample>& dearest_;  ///< of each pool, by fetching and by both together
  std::uint64_t seed_;
  std::uint64_t run_ = ~std::uint64_t{0}, run_draw_ = 0;
  const Disturbance* outside_;
  std::size_t at_ = 0;
  const CostStretch* stretch_ = nullptr;
  bool light_ = false;
  const FrameSample* samples_ = nullptr;
  std::size_t size_ = 1;
  bool between_ = false, skips_cost_ = false;
  const SkipCost* skip_ = nullptr;
  float scale_ = 1, outside_ms_ = 0;  ///< the seat's mood in this stretch; what holds the frame up
  FrameSample sample_;
};

bool near(double a, double b) { return std::abs(a - b) < kMet; }
bool alike(const Lane& x, const Lane& y) {
  const Occupancy &a = x.spent, &b = y.spent;
  return near(a.waited, b.waited) && near(a.fetch, b.fetch) && near(a.process, b.process) &&
         a.kind == b.kind && near(x.skip->after(1), y.skip->after(1));
}

}  // namespace

std::vector<CostKind> kinds_of(const Model& model) {
  std::vector<CostKind> kinds, by_pool;
  for (const CostPool& pool : model.pools) {
    std::vector<float> totals, fetches;
    for (const FrameSample& f : pool.frames)
      totals.push_back(f.fetch_ms + f.process_ms), fetches.push_back(f.fetch_ms);
    const auto total = static_cast<double>(median_of(totals).median),
               fetch = static_cast<double>(median_of(fetches).median);
    double apart = 0;  // one that took far longer than others says nothing
    for (const float t : totals) apart += std::min(std::abs(static_cast<double>(t) - total), total);
    // Where fetching is what limits, each frame waits for the others' turns as well.
    by_pool.push_back(
        {0,
         model.scale * std::max(total, fetch * model.pace.workers),
         model.scale * apart / static_cast<double>(totals.size()),
         {fetch, pool.decodes_between, static_cast<double>(pool.neighbour_ms), pool.neighbours}});
  }
  for (std::size_t i = 0; i < model.stretches.size(); ++i) {
    const CostStretch& s = model.stretches[i];
    if (i > 0 && model.stretches[i - 1].pool == s.pool) continue;
    kinds.push_back(by_pool[s.pool]);
    kinds.back().from = s.in;
  }
  return kinds;
}

double catch_up_of(const std::vector<FrameCost>& costs, Frames last, Frames n) {
  const FrameCost& c = costs[static_cast<std::size_t>(n)];
  if (last == c.after) return c.catch_up;
  double ms = 0;
  for (Frames f = std::max(last + 1, n - kMostCatchUp); f < n && c.decodes_between; ++f)
    ms += costs[static_cast<std::size_t>(f)].fetch;
  if (!c.decodes_between) ms += static_cast<double>(std::min<Frames>(c.neighbours, n - last - 1)) * c.fetch;
  return ms;
}

double neighbours_of(const std::vector<FrameCost>& costs, Frames last, Frames n) {
  const FrameCost& c = costs[static_cast<std::size_t>(n)];
  if (last == c.after) return c.all_neighbours;
  return static_cast<double>(std::min<Frames>(c.neighbours, n - last - 1)) * c.neighbour;
}

std::vector<Outcome> play_costs(const Pace& pace, const std::vector<FrameCost>& costs,
                                const std::vector<double>& begins, Kinds kinds) {
  std::vector<Outcome> outcome(costs.size());
  const auto count = static_cast<Frames>(costs.size());
  std::vector<Lane> lanes(static_cast<std::size_t>(std::max(1, pace.workers)));
  GivenCosts given{costs, begins, pace.period_ms, kinds, {}};
  for (const FrameCost& c : costs)
    given.skips.emplace_back(c.fetch, c.decodes_between, c.neighbour, c.neighbours);
  State s = begin(pace, lanes.data(), count, given);
  advance(pace, s, lanes.data(), count, given, [&](Frames n, float late) {
    outcome[static_cast<std::size_t>(n)] = {true, late};
  });
  return outcome;
}

/// Dropped frames of a block: of the first trial, in order, of the second ...
struct Trials::Missed {
  std::vector<std::uint32_t> frames;
  std::vector<std::uint32_t> ends;  ///< for each trial, where its frames end

  auto first(std::size_t trial) const {
    return frames.begin() + static_cast<std::ptrdiff_t>(trial == 0 ? 0 : ends[trial - 1]);
  }
  auto end(std::size_t trial) const { return frames.begin() + static_cast<std::ptrdiff_t>(ends[trial]); }
  void add_trial(const std::vector<std::uint32_t>& of) {
    frames.insert(frames.end(), of.begin(), of.end());
    ends.push_back(static_cast<std::uint32_t>(frames.size()));
  }
};

/// Frames [in, out) in all trials.
struct Trials::Block {
  Frames in = 0, out = 0;
  std::vector<State> states;    ///< at `in`, one for each trial
  std::vector<Lane> lanes;      ///< workers of the first trial, of the second ...
  std::vector<SkipCost> skips;  ///< what `skip` of each of them means, for as long as this lives
  Missed late, not_looked_for;  ///< no frame is in both
};

std::vector<std::uint32_t> Trials::count(Missed Block::*which, Frames in, Frames out) const {
  std::vector<std::uint32_t> counts(static_cast<std::size_t>(trials_), 0);
  for (auto b = static_cast<std::size_t>(std::max<Frames>(0, in) / kBlock);
       b < blocks_.size() && blocks_[b]->in < out; ++b) {
    const Block& block = *blocks_[b];
    const Missed& missed = block.*which;
    const bool whole = block.in >= in && block.out <= out;
    for (std::size_t t = 0; t < counts.size(); ++t) {
      auto from = missed.first(t), to = missed.end(t);
      if (!whole) {
        from = std::lower_bound(from, to, static_cast<std::uint32_t>(std::max<Frames>(0, in)));
        to = std::lower_bound(from, to, static_cast<std::uint32_t>(out));
      }
      counts[t] += static_cast<std::uint32_t>(to - from);
    }
  }
  return counts;
}
std::vector<std::uint32_t> Trials::not_looked_for(Frames in, Frames out) const {
  return count(&Block::not_looked_for, in, out);
}
std::vector<std::uint32_t> Trials::drops(Frames in, Frames out) const {
  std::vector<std::uint32_t> counts = count(&Block::late, in, out);
  const std::vector<std::uint32_t> more = not_looked_for(in, out);
  for (std::size_t t = 0; t < counts.size(); ++t) counts[t] += more[t];
  return counts;
}

/// Frames that lie ready while the display's thread is kept from looking for them. Nothing before the display
/// knows of that, so they are drawn apart from the pipeline: hold-ups come at random, as often as the workers
/// are busy. Drawn by block and trial, they are the same whatever was simulated before.
class LateLooks {
 public:
  LateLooks(const Model& model, std::uint64_t seed) : model_(model), seed_(seed) {
    const double most = model.pace.workers * model.pace.period_ms;
    for (const CostPool& p : model.pools) {
      double sum = 0;
      for (const FrameSample& f : p.frames) sum += static_cast<double>(f.fetch_ms + f.process_ms);
      busy_.push_back(std::min(most, model.scale * sum / static_cast<double>(p.frames.size())));
    }
    // Only those matter that last until the next frame is due.
    for (const Disturbance& d : model.lately) {
      Process p;
      for (const float ms : d.looks_ms)
        if (static_cast<double>(ms) >= model.pace.period_ms) p.ms.push_back(ms);
      if (!p.ms.empty())
        p.per_busy_ms =
            d.looks_per_busy_ms * static_cast<double>(p.ms.size()) / static_cast<double>(d.looks_ms.size());
      processes_.push_back(std::move(p));
    }
  }

  /// Frames of the block [in, out) that are dropped so in a trial, beside those in `late`.
  std::vector<std::uint32_t> frames(Frames in, Frames out, std::size_t trial,
                                    const std::vector<std::uint32_t>& late) const {
    std::vector<std::uint32_t> all;
    if (processes_.empty()) return all;
    const Process& process = processes_[trial % processes_.size()];
    if (process.per_busy_ms <= 0) return all;
    std::uint64_t state =
        mixed(mixed(seed_ ^ 0x6c6f6f6bULL) + static_cast<std::uint64_t>(in) * 0x10001 + trial);
    const auto draw = [&] { return state = mixed(state); };
    const auto until_next = [&] { return -std::log((static_cast<double>(draw() >> 11) + 1) * 0x1p-53); };
    double left = until_next();
    auto s = std::upper_bound(model_.stretches.begin(), model_.stretches.end(), in,
                              [](Frames f, const CostStretch& x) { return f < x.out; });
    for (Frames n = in; s != model_.stretches.end() && n < out; ++s) {
      const double often = process.per_busy_ms * busy_[s->pool];
      for (const Frames end = std::min(s->out, out); n < end;) {
        if (left >= often * static_cast<double>(end - n)) {
          left -= often * static_cast<double>(end - n), n = end;
          break;
        }
        n += static_cast<Frames>(left / often);
        const double held = static_cast<double>(process.ms[below(draw(), process.ms.size())]);
        const Frames missed = std::min(static_cast<Frames>(held / model_.pace.period_ms), out - n);
        for (Frames i = 0; i < missed; ++i, ++n)
          if (!std::binary_search(late.begin(), late.end(), static_cast<std::uint32_t>(n)))
            all.push_back(static_cast<std::uint32_t>(n));
        left = until_next();
      }
    }
    return all;
  }

 private:
  struct Process {
    double per_busy_ms = 0;
    std::vector<float> ms;
  };
  const Model& model_;
  std::uint64_t seed_;
  std::vector<double> busy_;  ///< of each pool, ms of workers a frame
  std::vector<Process> processes_;
};

/// Makes the blocks of a simulation from first to last.
class Simulation {
 public:
  Simulation(const Model& model, int trials, std::uint64_t seed)
      : model_(model), tempers_(model), looks_(model, seed) {
    for (const CostPool& p : model.pools) {
      skips_.emplace_back(p.frames.front().fetch_ms, p.decodes_between, p.neighbour_ms, p.neighbours);
      FrameSample most;
      float total = 0;
      for (const FrameSample& f : p.frames)
        most.fetch_ms = std::max(most.fetch_ms, f.fetch_ms),
        total = std::max(total, f.fetch_ms + f.process_ms);
      most.process_ms = total - most.fetch_ms;
      dearest_.push_back(most);
    }
    result_.trials_ = trials, result_.seed_ = seed;
    result_.miss_.assign(static_cast<std::size_t>(model.frames()), 0);
  }

  Trials run() {
    if (model_.frames() == 0) return std::move(result_);
    const auto trials = static_cast<std::size_t>(result_.trials_);
    const std::size_t blocks = block_count();
    // Each trial goes through all of the timeline on one thread; its blocks are put together afterwards.
    std::vector<std::shared_ptr<Trials::Block>> made(blocks);
    for (std::size_t b = 0; b < blocks; ++b) made[b] = new_block(b);
    std::vector<std::vector<std::vector<std::uint32_t>>> drops(trials);
    tbb::parallel_for(std::size_t{0}, trials, [&](std::size_t t) {
      drops[t].resize(blocks);
      DrawnCosts costs(model_, tempers_, skips_, dearest_, result_.seed_, static_cast<int>(t));
      std::vector<Lane> lanes(workers());
      State s = begin(model_.pace, lanes.data(), model_.frames(), costs);
      for (std::size_t b = 0; b < blocks; ++b) {
        made[b]->states[t] = s;
        std::copy(lanes.begin(), lanes.end(),
                  made[b]->lanes.begin() + static_cast<std::ptrdiff_t>(t * workers()));
        advance(model_.pace, s, lanes.data(), made[b]->out, costs,
                [&, out = &drops[t][b]](Frames n, float) { out->push_back(static_cast<std::uint32_t>(n)); });
      }
    });
    for (std::size_t b = 0; b < blocks; ++b) {
      std::vector<std::vector<std::uint32_t>> of;
      for (std::size_t t = 0; t < trials; ++t) of.push_back(std::move(drops[t][b]));
      put(std::move(made[b]), of);
    }
    result_.simulated_ = model_.frames();
    return std::move(result_);
  }

  Trials again(const Model& model_before, const Trials& before) {
    // What is the same before the first change and after the last one is taken over.
    std::copy_n(before.miss_.begin(), std::min(before.miss_.size(), result_.miss_.size()),
                result_.miss_.begin());
    const auto [first, last] = changed_frames(model_before);
    std::size_t b = 0;
    for (; b < block_count() && b < before.blocks_.size() && block_out(b) <= first &&
           before.blocks_[b]->out == block_out(b);
         ++b)
      result_.blocks_.push_back(before.blocks_[b]);
    if (b == block_count()) return std::move(result_);
    // Reading ahead begins before the change: the state at this block's start knows nothing of it, since all
    // frames before that were decided from costs before it; unless one was decided that lies behind it.
    b = std::min(b, before.blocks_.size() - 1);
    const auto knows = [&, first = first](const State& s) { return s.next.frame >= first; };
    while (b > 0 && std::any_of(before.blocks_[b]->states.begin(), before.blocks_[b]->states.end(), knows))
      --b;
    result_.blocks_.resize(b);
    const Trials::Block& from = *before.blocks_[b];
    std::vector<State> states = from.states;
    for (State& s : states) s.pacer.move_to(model_.kinds);
    std::vector<Lane> lanes = from.lanes;
    for (std::size_t i = 0; i < lanes.size(); ++i) lanes[i].skip = &from.skips[i];
    if (b == 0) start_over(states, lanes);
    for (; b < block_count(); ++b) {
      const bool behind = static_cast<Frames>(b) * kBlock >= last && b < before.blocks_.size();
      if (behind && met(*before.blocks_[b], states, lanes)) break;
      std::shared_ptr<Trials::Block> block = new_block(b);
      block->states = states, block->lanes = lanes;
      std::vector<std::vector<std::uint32_t>> drops(states.size());
      tbb::parallel_for(std::size_t{0}, states.size(), [&](std::size_t t) {
        DrawnCosts costs(model_, tempers_, skips_, dearest_, result_.seed_, static_cast<int>(t));
        costs.go_to(std::min(states[t].next.frame, model_.frames() - 1));
        advance(model_.pace, states[t], lanes.data() + t * workers(), block->out, costs,
                [&](Frames n, float) { drops[t].push_back(static_cast<std::uint32_t>(n)); });
      });
      result_.simulated_ += block->out - block->in;
      put(std::move(block), drops);
    }
    for (; b < block_count(); ++b) result_.blocks_.push_back(before.blocks_[b]);
    return std::move(result_);
  }

 private:
  std::size_t workers() const { return static_cast<std::size_t>(std::max(1, model_.pace.workers)); }
  std::size_t block_count() const {
    return static_cast<std::size_t>((model_.frames() + kBlock - 1) / kBlock);
  }
  Frames block_out(std::size_t b) const {
    return std::min(model_.frames(), (static_cast<Frames>(b) + 1) * kBlock);
  }
  std::shared_ptr<Trials::Block> new_block(std::size_t b) const {
    auto block = std::make_shared<Trials::Block>();
    block->in = static_cast<Frames>(b) * kBlock, block->out = block_out(b);
    const auto trials = static_cast<std::size_t>(result_.trials_);
    block->states.assign(trials, {Pacer(model_.pace), {}, 0, 0, -1, 0});
    block->lanes.resize(trials * workers());
    return block;
  }
  void start_over(std::vector<State>& states, std::vector<Lane>& lanes) {
    std::fill(lanes.begin(), lanes.end(), Lane{});
    for (std::size_t t = 0; t < states.size(); ++t) {
      DrawnCosts costs(model_, tempers_, skips_, dearest_, result_.seed_, static_cast<int>(t));
      states[t] = begin(model_.pace, lanes.data() + t * workers(), model_.frames(), costs);
    }
  }

  void put(std::shared_ptr<Trials::Block> block, const std::vector<std::vector<std::uint32_t>>& drops) {
    for (const Lane& l : block->lanes) block->skips.push_back(l.skip ? *l.skip : SkipCost());
    for (std::size_t t = 0; t < drops.size(); ++t) {
      block->late.add_trial(drops[t]);
      block->not_looked_for.add_trial(looks_.frames(block->in, block->out, t, drops[t]));
    }
    std::fill(result_.miss_.begin() + block->in, result_.miss_.begin() + block->out, 0.0f);
    const float share = 1 / static_cast<float>(result_.trials_);
    for (const Trials::Missed* missed : {&block->late, &block->not_looked_for})
      for (const std::uint32_t n : missed->frames) result_.miss_[n] += share;
    result_.blocks_.push_back(std::move(block));
  }

  /// First frame of the kind that ends at or goes on across a frame.
  static Frames kind_before(const std::vector<CostKind>& kinds, Frames frame) {
    const auto it = std::lower_bound(kinds.begin(), kinds.end(), frame,
                                     [](const CostKind& k, Frames f) { return k.from < f; });
    return it == kinds.begin() ? frame : std::min<Frames>(frame, std::prev(it)->from);
  }

  /// Frames before `first` and from `second` on cost what they did, at the same place.
  std::pair<Frames, Frames> changed_frames(const Model& old) const {
    const auto same = [&](const CostStretch& a, const CostStretch& b) {
      CostStretch moved = b;
      moved.pool = a.pool;
      return a == moved && (model_.pools[a.pool] == old.pools[b.pool]);
    };
    const auto& now = model_.stretches;
    const auto& was = old.stretches;
    if (model_.pace.workers != old.pace.workers || model_.pace.horizon != old.pace.horizon ||
        model_.pace.period_ms != old.pace.period_ms || model_.pace.far != old.pace.far ||
        model_.scale != old.scale || model_.mood != old.mood || model_.moods != old.moods ||
        model_.lately != old.lately || now.empty() || was.empty())
      return {0, std::max(model_.frames(), old.frames())};
    std::size_t i = 0;
    while (i < now.size() && i < was.size() && same(now[i], was[i])) ++i;
    if (i == now.size() && i == was.size())
      return {model_.kinds == old.kinds ? model_.frames() : 0, model_.frames()};
    Frames first = i < now.size() ? now[i].in : model_.frames();
    // How far is read ahead in one kind of frames depends on the kind after it.
    first = std::min(kind_before(model_.kinds, first), kind_before(old.kinds, first));
    std::size_t tail = 0;
    while (tail < now.size() - i && tail < was.size() - std::min(i, was.size()) &&
           same(now[now.size() - 1 - tail], was[was.size() - 1 - tail]))
      ++tail;
    return {first, tail == now.size() ? 0 : now[now.size() - 1 - tail].out};
  }

  /// Whether every trial goes on from here as it did before.
  bool met(const Trials::Block& old, const std::vector<State>& states, const std::vector<Lane>& lanes) const {
    for (std::size_t t = 0; t < states.size(); ++t) {
      const State &a = states[t], &b = old.states[t];
      if (a.next.frame != b.next.frame || !near(a.next.at_ms, b.next.at_ms) || a.last != b.last ||
          a.expected != b.expected || !a.pacer.goes_on_like(b.pacer, kMet))
        return false;
      // Two free workers are as good as each other; and a turn that is long over is over.
      if (!near(std::max(a.fetch_free, a.next.at_ms), std::max(b.fetch_free, b.next.at_ms))) return false;
      std::vector<Lane> x(lanes.begin() + static_cast<std::ptrdiff_t>(t * workers()),
                          lanes.begin() + static_cast<std::ptrdiff_t>((t + 1) * workers()));
      std::vector<Lane> y(old.lanes.begin() + static_cast<std::ptrdiff_t>(t * workers()),
                          old.lanes.begin() + static_cast<std::ptrdiff_t>((t + 1) * workers()));
      for (std::size_t w = 0; w < y.size(); ++w) y[w].skip = &old.skips[t * workers() + w];
      std::swap(x[0], x[static_cast<std::size_t>(a.worker)]),
          std::swap(y[0], y[static_cast<std::size_t>(b.worker)]);
      const auto sooner = [](const Lane& p, const Lane& q) { return p.free_at < q.free_at; };
      std::sort(x.begin() + 1, x.end(), sooner), std::sort(y.begin() + 1, y.end(), sooner);
      for (std::size_t w = 1; w < x.size(); ++w)
        if (!near(x[w].free_at, y[w].free_at) || x[w].has != y[w].has || (x[w].has && !alike(x[w], y[w])))
          return false;
    }
    return true;
  }

  const Model& model_;
  Tempers tempers_;
  LateLooks looks_;
  std::vector<SkipCost> skips_;       ///< for each pool
  std::vector<FrameSample> dearest_;  ///< of each pool: longest fetching, and what is more in all
  Trials result_;
};

Trials simulate(const Model& model, int trials, std::uint64_t seed) {
  return Simulation(model, trials, seed).run();
}

Trials simulate_again(const Model& model, const Model& model_before, const Trials& before) {
  Simulation s(model, before.trials(), before.seed());
  return s.again(model_before, before);
}

}  // namespace gc
