#include "forecast/simulate.h"

#include <tbb/parallel_for.h>

#include <algorithm>
#include <bit>
#include <cmath>

#include "forecast/eight_trials.h"

namespace gc {
namespace {

constexpr double kMet = 1e-6;  // ms: states that differ by less go on alike

bool near(double a, double b) { return std::abs(a - b) < kMet; }
bool alike(const WorkerOf<double>& x, const WorkerOf<double>& y) {
  const SpentOf<double>&a = x.spent, &b = y.spent;
  return near(a.waited, b.waited) && near(a.fetch, b.fetch) && near(a.process, b.process) &&
         a.kind == b.kind && near(x.skip[0]->after(1), y.skip[0]->after(1));
}

/// Of each frame of a block, in how many trials it is missed. Eight frames are counted at once, a byte for
/// each, as long as a byte holds them.
std::array<std::uint32_t, static_cast<std::size_t>(kBlock)> count_bits(const MissedBits& bits,
                                                                       std::size_t trials) {
  constexpr std::uint64_t kOnes = 0x0101010101010101, kEach = 0x8040201008040201;
  std::array<std::uint32_t, static_cast<std::size_t>(kBlock)> counts{};
  for (std::size_t from = 0; from < trials; from += 255) {
    std::array<std::uint64_t, static_cast<std::size_t>(kBlock) / 8> eight{};
    for (std::size_t t = from; t < std::min(trials, from + 255); ++t)
      for (std::size_t k = 0; k < eight.size(); ++k) {
        const std::uint64_t byte = bits.of(t)[k / 8] >> k % 8 * 8 & 0xff;
        eight[k] += ((byte * kOnes & kEach) + 0x7f * kOnes) >> 7 & kOnes;
      }
    for (std::size_t f = 0; f < counts.size(); ++f) counts[f] += eight[f / 8] >> f % 8 * 8 & 0xff;
  }
  return counts;
}

}  // namespace

std::vector<CostKind> kinds_told(const Model& model) {
  const double scale = model.scale * model.mood.base;
  std::vector<CostKind> kinds, by_pool(model.pools.size());
  const auto told = [&](std::size_t p) {
    const CostPool& pool = model.pools[p];
    std::vector<float> totals, fetches;
    for (const FrameSample& f : pool.frames)
      totals.push_back(f.fetch_ms + f.process_ms), fetches.push_back(f.fetch_ms);
    const auto total = static_cast<double>(median_of(totals).median),
               fetch = static_cast<double>(median_of(fetches).median);
    double apart = 0;  // one that took far longer than others says nothing
    for (const float t : totals) apart += std::min(std::abs(static_cast<double>(t) - total), total);
    // Where fetching is what limits, each frame waits for the others' turns as well.
    by_pool[p] = {0,
                  scale * std::max(total, fetch * model.pace.workers),
                  scale * apart / static_cast<double>(totals.size()),
                  {model.mood.base * fetch * (1 + static_cast<double>(pool.beside)), pool.decodes_between,
                   model.mood.base * static_cast<double>(pool.neighbour_ms), pool.neighbours}};
  };
  // Of a few pools the threads would cost more than the work.
  constexpr std::size_t kMany = 64;
  if (model.pools.size() >= kMany) tbb::parallel_for(std::size_t{0}, model.pools.size(), told);
  else
    for (std::size_t p = 0; p < model.pools.size(); ++p) told(p);
  for (std::size_t i = 0; i < model.stretches.size(); ++i) {
    const CostStretch& s = model.stretches[i];
    if (i > 0 && model.stretches[i - 1].pool == s.pool) continue;
    kinds.push_back(by_pool[s.pool]);
    kinds.back().from = s.in;
  }
  return kinds;
}

/// Frames of a block, in order, for the first trial, the second ...
struct Trials::Looks {
  std::vector<std::uint32_t> frames;
  std::vector<std::uint32_t> ends;  ///< for each trial, where its frames end

  void add_trial(const std::vector<std::uint32_t>& of) {
    frames.insert(frames.end(), of.begin(), of.end());
    ends.push_back(static_cast<std::uint32_t>(frames.size()));
  }
};

/// Frames [in, out) in all trials.
struct Trials::Block {
  Frames in = 0, out = 0;
  Boundary start;
  std::vector<SkipCost> skips;  ///< what `skip` of each of its crew means, for as long as this lives
  MissedBits late;
  Looks not_looked_for;  ///< no frame is in both
};

std::vector<std::uint32_t> Trials::not_looked_for(Frames in, Frames out) const {
  std::vector<std::uint32_t> counts(static_cast<std::size_t>(trials_), 0);
  each_block(in, out, [&](const Block& block) {
    auto f = block.not_looked_for.frames.begin();
    for (std::size_t t = 0; t < counts.size(); ++t)
      for (const auto end = block.not_looked_for.frames.begin() + block.not_looked_for.ends[t]; f != end; ++f)
        counts[t] +=
            *f >= static_cast<std::uint64_t>(std::max<Frames>(0, in)) && *f < static_cast<std::uint64_t>(out);
  });
  return counts;
}

std::vector<std::uint32_t> Trials::drops(Frames in, Frames out) const {
  std::vector<std::uint32_t> counts = not_looked_for(in, out);
  each_block(in, out, [&](const Block& block) {
    const Frames from = std::max(in, block.in) - block.in, to = std::min(out, block.out) - block.in;
    for (std::size_t w = 0; w < MissedBits::kWords; ++w) {
      const Frames first = static_cast<Frames>(w) * 64;
      if (first >= to || first + 64 <= from) continue;
      std::uint64_t asked = ~std::uint64_t{0};
      if (from > first) asked &= ~std::uint64_t{0} << (from - first);
      if (to < first + 64) asked &= ~std::uint64_t{0} >> (first + 64 - to);
      for (std::size_t t = 0; t < counts.size(); ++t)
        counts[t] += static_cast<std::uint32_t>(std::popcount(block.late.of(t)[w] & asked));
    }
  });
  return counts;
}

std::vector<Frames> Trials::late(int trial, Frames in, Frames out) const {
  std::vector<Frames> all;
  each_block(in, out, [&](const Block& block) {
    for (std::size_t w = 0; w < MissedBits::kWords; ++w)
      for (std::uint64_t bits = block.late.of(static_cast<std::size_t>(trial))[w]; bits != 0; bits &= bits - 1) {
        const Frames f = block.in + static_cast<Frames>(w) * 64 + std::countr_zero(bits);
        if (f >= in && f < std::min(out, block.out)) all.push_back(f);
      }
  });
  return all;
}

template <class Each>
void Trials::each_block(Frames in, Frames out, Each each) const {
  for (auto b = static_cast<std::size_t>(std::max<Frames>(0, in) / kBlock);
       b < blocks_.size() && blocks_[b]->in < out; ++b)
    each(*blocks_[b]);
}

/// Makes the blocks of a simulation from first to last.
class Simulation {
 public:
  Simulation(const Model& model, int trials, std::uint64_t seed)
      : model_(model), tables_(model), looks_(model, seed) {
    result_.trials_ = trials, result_.seed_ = seed;
    result_.miss_.assign(static_cast<std::size_t>(model.frames()), 0);
  }

  Trials run() {
    if (model_.frames() == 0) return std::move(result_);
    std::vector<std::shared_ptr<Trials::Block>> made(block_count());
    BlockRun run{0, made.size(), {}, {}};
    // Of a feature they are many megabytes, which are touched here for the first time.
    tbb::parallel_for(std::size_t{0}, made.size(), [&](std::size_t b) { made[b] = new_block(b); });
    for (const auto& block : made) run.at.push_back(&block->start), run.missed.push_back(&block->late);
    run.at.push_back(nullptr);
    start_over(made.front()->start);
    play(run);
    tbb::parallel_for(std::size_t{0}, made.size(), [&](std::size_t b) { finish(*made[b]); });
    for (auto& block : made) result_.blocks_.push_back(std::move(block));
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
    const auto knows = [&, first = first](const ClockworkOf<double>& s) {
      return s.next.frame >= static_cast<double>(first);
    };
    while (b > 0 &&
           std::any_of(before.blocks_[b]->start.states.begin(), before.blocks_[b]->start.states.end(), knows))
      --b;
    result_.blocks_.resize(b);
    const Trials::Block& from = *before.blocks_[b];
    Boundary now = from.start;
    for (ClockworkOf<double>& s : now.states) s.pacer.move_to(model_.kinds);
    for (std::size_t i = 0; i < now.crew.size(); ++i) now.crew[i].skip[0] = &from.skips[i];
    if (b == 0) start_over(now);
    for (; b < block_count(); ++b) {
      const bool behind = static_cast<Frames>(b) * kBlock >= last && b < before.blocks_.size();
      if (behind && met(*before.blocks_[b], now)) break;
      std::shared_ptr<Trials::Block> block = new_block(b);
      block->start = now;
      play({b, b + 1, {&block->start, &now}, {&block->late}});
      result_.simulated_ += block->out - block->in;
      finish(*block);
      result_.blocks_.push_back(std::move(block));
    }
    for (; b < block_count(); ++b) result_.blocks_.push_back(before.blocks_[b]);
    return std::move(result_);
  }

 private:
  std::size_t workers() const { return static_cast<std::size_t>(std::max(1, model_.pace.workers)); }
  std::size_t trials() const { return static_cast<std::size_t>(result_.trials_); }
  std::size_t block_count() const {
    return static_cast<std::size_t>((model_.frames() + kBlock - 1) / kBlock);
  }
  Frames block_out(std::size_t b) const {
    return std::min(model_.frames(), (static_cast<Frames>(b) + 1) * kBlock);
  }
  std::shared_ptr<Trials::Block> new_block(std::size_t b) const {
    auto block = std::make_shared<Trials::Block>();
    block->in = static_cast<Frames>(b) * kBlock, block->out = block_out(b);
    block->start.states.assign(trials(), ClockworkOf<double>(model_.pace));
    block->start.crew.resize(trials() * workers());
    block->late = MissedBits(trials());
    return block;
  }
  void start_over(Boundary& start) {
    for (std::size_t t = 0; t < trials(); ++t)
      start.states[t] = at_the_start(model_, tables_, result_.seed_, static_cast<int>(t),
                                     start.crew.data() + t * workers());
  }
  void play(const BlockRun& run) {
    tbb::parallel_for(std::size_t{0}, (trials() + kTogether - 1) / kTogether, [&](std::size_t group) {
      play_eight(model_, tables_, result_.seed_, group * kTogether, trials(), run);
    });
  }

  void finish(Trials::Block& block) {
    for (const WorkerOf<double>& l : block.start.crew)
      block.skips.push_back(l.skip[0] ? *l.skip[0] : SkipCost());
    std::array<std::uint32_t, static_cast<std::size_t>(kBlock)> missed = count_bits(block.late, trials());
    for (std::size_t t = 0; t < trials(); ++t)
      block.not_looked_for.add_trial(looks_.frames(block.in, block.out, t, block.late.of(t)));
    for (const std::uint32_t n : block.not_looked_for.frames)
      ++missed[n - static_cast<std::uint32_t>(block.in)];
    for (Frames n = block.in; n < block.out; ++n)
      result_.miss_[static_cast<std::size_t>(n)] =
          static_cast<float>(missed[static_cast<std::size_t>(n - block.in)]) /
          static_cast<float>(result_.trials_);
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
        model_.scale != old.scale || model_.mood != old.mood || model_.lately != old.lately || now.empty() || was.empty())
      return {0, std::max(model_.frames(), old.frames())};
    std::size_t i = 0;
    while (i < now.size() && i < was.size() && same(now[i], was[i])) ++i;
    if (i == now.size() && i == was.size())
      return {model_.kinds == old.kinds ? model_.frames() : 0, model_.frames()};
    Frames first = i < now.size() ? now[i].in : model_.frames();
    // How far is read ahead in one kind of frames depends on the kind after it.
    first = std::min(kind_before(model_.kinds, first), kind_before(old.kinds, first));
    // Sources are opened before the stretch that reads them.
    first = std::max<Frames>(0, std::min(first, (i < now.size() ? now[i].in : model_.frames()) - prepared_ahead(model_.pace.period_ms)));
    std::size_t tail = 0;
    while (tail < now.size() - i && tail < was.size() - std::min(i, was.size()) &&
           same(now[now.size() - 1 - tail], was[was.size() - 1 - tail]))
      ++tail;
    // What is left for opening a source depends on the stretches before it.
    const Frames changed_to = tail == now.size() ? 0 : now[now.size() - 1 - tail].out;
    return {first, std::min(model_.frames(), changed_to + prepared_ahead(model_.pace.period_ms))};
  }

  /// Whether every trial goes on from here as it did before.
  bool met(const Trials::Block& old, const Boundary& now) const {
    for (std::size_t t = 0; t < now.states.size(); ++t) {
      const ClockworkOf<double>&a = now.states[t], &b = old.start.states[t];
      if (a.next.frame != b.next.frame || !near(a.next.at_ms, b.next.at_ms) || a.last != b.last ||
          !a.pacer.goes_on_like(b.pacer, kMet))
        return false;
      // Two free workers are as good as each other; and a turn that is long over is over.
      if (!near(std::max(a.fetch_free, a.next.at_ms), std::max(b.fetch_free, b.next.at_ms))) return false;
      const auto from = static_cast<std::ptrdiff_t>(t * workers()),
                 to = static_cast<std::ptrdiff_t>((t + 1) * workers());
      std::vector<WorkerOf<double>> x(now.crew.begin() + from, now.crew.begin() + to);
      std::vector<WorkerOf<double>> y(old.start.crew.begin() + from, old.start.crew.begin() + to);
      for (std::size_t w = 0; w < y.size(); ++w) y[w].skip[0] = &old.skips[t * workers() + w];
      std::swap(x[0], x[static_cast<std::size_t>(a.worker)]);
      std::swap(y[0], y[static_cast<std::size_t>(b.worker)]);
      const auto sooner = [](const auto& p, const auto& q) { return p.free_at < q.free_at; };
      std::sort(x.begin() + 1, x.end(), sooner), std::sort(y.begin() + 1, y.end(), sooner);
      for (std::size_t w = 1; w < x.size(); ++w)
        if (!near(x[w].free_at, y[w].free_at) || x[w].has != y[w].has || (x[w].has && !alike(x[w], y[w])))
          return false;
    }
    return true;
  }

  const Model& model_;
  DrawTables tables_;
  LateLooks looks_;
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
