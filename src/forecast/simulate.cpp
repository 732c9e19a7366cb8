#include "forecast/simulate.h"

#include <tbb/parallel_for.h>

#include <algorithm>
#include <cmath>
#include <limits>

namespace gc {
namespace {

/// Marsaglia's xorshift (2003), 64 bits: fast, and good enough to pick samples.
struct Draw {
  std::uint64_t state;
  explicit Draw(std::uint64_t seed) : state(seed * 0x9e3779b97f4a7c15ULL + 0x2545f4914f6cdd1dULL) {
    next(), next();
  }
  std::uint64_t next() {
    state ^= state << 13, state ^= state >> 7, state ^= state << 17;
    return state;
  }
  double unit() { return (static_cast<double>(next() >> 11) + 0.5) * 0x1.0p-53; }
  /// Box and Muller (1958).
  double normal() { return std::sqrt(-2 * std::log(unit())) * std::cos(6.283185307179586 * unit()); }
  std::size_t below(std::size_t n) { return static_cast<std::size_t>(((next() >> 32) * n) >> 32); }
};

/// What fetching a frame takes: its own share, and catching up after a seek or a skip.
struct Fetch {
  double steady = 0, catch_up = 0;
  bool decodes_between = false;
};

/// The pipeline's clockwork. `fetch_of(last, n)` and `process_of(n)` give the costs of frame n when `last`
/// was fetched before it; `drop(n, late)` is told of each frame that is missed, in order of decision.
template <class FetchOf, class ProcessOf, class Drop>
void run(const Model& model, FetchOf&& fetch_of, ProcessOf&& process_of, Drop&& drop) {
  const Frames count = model.frames();
  const Pace& pace = model.pace;
  constexpr int kMostWorkers = 64;
  const int workers = std::clamp(pace.workers, 1, kMostWorkers);
  double free_at[kMostWorkers] = {};
  double fetch_free = 0;
  Frames last = -1;
  const auto earliest = [&] {
    return static_cast<int>(std::min_element(free_at, free_at + workers) - free_at);
  };

  // Before the clock: the first frames are made as fast as they can be; it starts when all of them are there.
  const Frames first = std::min<Frames>(count, pace.horizon);
  double zero = 0;
  for (Frames n = 0; n < first; ++n) {
    const int w = earliest();
    const Fetch fetch = fetch_of(last, n);
    const double fetched = std::max(free_at[w], fetch_free) + fetch.steady + fetch.catch_up;
    fetch_free = fetched, last = n;
    free_at[w] = fetched + process_of(n);
    zero = std::max(zero, free_at[w]);
  }
  for (int w = 0; w < workers; ++w) free_at[w] = 0;
  fetch_free = 0;

  Pacer pacer(pace);
  pacer.skip_to(first);
  // A finished frame is known to the rule only once its time has come.
  struct Finished {
    double at;
    Occupancy spent;
  };
  Finished pending[kMostWorkers];
  int waiting = 0;
  Frames expected = first;
  for (;;) {
    const int w = earliest();
    const double now = free_at[w];
    // In order of time, as the real workers report.
    for (;;) {
      int soonest = -1;
      for (int i = 0; i < waiting; ++i)
        if (pending[i].at <= now && (soonest < 0 || pending[i].at < pending[soonest].at)) soonest = i;
      if (soonest < 0) break;
      pacer.finished(pending[soonest].spent);
      pending[soonest] = pending[--waiting];
    }
    const FrameStart start = pacer.next(now);
    for (; expected < std::min<Frames>(start.frame, count); ++expected) drop(expected, 0.0f);
    if (start.frame >= count) return;
    expected = start.frame + 1;
    const double began = std::max(start.at_ms, fetch_free);
    const Fetch fetch = fetch_of(last, start.frame);
    const double fetched = began + fetch.steady + fetch.catch_up;
    fetch_free = fetched, last = start.frame;
    const double process = process_of(start.frame);
    const double done = fetched + process;
    free_at[w] = done;
    pending[waiting++] = {done, {began - start.at_ms, fetch.steady, process, fetch.decodes_between}};
    const double late = done - static_cast<double>(start.frame) * pace.period_ms;
    if (late > 0) drop(start.frame, static_cast<float>(late));
  }
}

}  // namespace

std::vector<Outcome> play_once(const Model& model, const std::vector<float>& fetch,
                               const std::vector<float>& process) {
  std::vector<Outcome> outcome(static_cast<std::size_t>(model.frames()));
  std::vector<std::uint8_t> between(outcome.size(), 0);
  for (const CostStretch& s : model.stretches)
    for (Frames f = s.in; f < s.out; ++f)
      between[static_cast<std::size_t>(f)] = model.pools[s.pool].decodes_between;
  run(
      model,
      [&](Frames last, Frames n) {
        Fetch cost{fetch[static_cast<std::size_t>(n)], 0, between[static_cast<std::size_t>(n)] != 0};
        for (Frames f = std::max(last + 1, n - kMostCatchUp); f < n && cost.decodes_between; ++f)
          cost.catch_up += fetch[static_cast<std::size_t>(f)];
        return cost;
      },
      [&](Frames n) { return static_cast<double>(process[static_cast<std::size_t>(n)]); },
      [&](Frames n, float late) {
        outcome[static_cast<std::size_t>(n)] = {true, late};
      });
  return outcome;
}

Trials simulate(const Model& model, int trials, std::uint64_t seed) {
  Trials result;
  result.trials = trials;
  const auto count = static_cast<std::size_t>(model.frames());
  result.miss.assign(count, 0);
  result.drops.resize(static_cast<std::size_t>(trials));
  tbb::parallel_for(0, trials, [&](int trial) {
    Draw draw(seed + static_cast<std::uint64_t>(trial) * 7919);
    std::vector<std::uint32_t>& drops = result.drops[static_cast<std::size_t>(trial)];
    std::size_t at = 0;  // the stretch of the latest frame
    FrameSample sample;
    double scale = model.scale * std::exp(model.mood * draw.normal());
    run(
        model,
        [&](Frames last, Frames n) {
          while (n >= model.stretches[at].out)
            ++at, scale = model.scale * std::exp(model.mood * draw.normal());
          const CostStretch& s = model.stretches[at];
          const CostPool& pool = model.pools[s.pool];
          sample = pool.frames[draw.below(pool.frames.size())];
          Fetch fetch{sample.fetch_ms * scale, 0, pool.decodes_between};
          Frames decoded = pool.decodes_between ? std::min(kMostCatchUp, n - std::max(last + 1, s.in)) : 0;
          if (last < s.in && s.entry) {
            if (!pool.entries.empty())
              fetch.catch_up += pool.entries[draw.below(pool.entries.size())] * scale;
            decoded += s.entry_frames;
          }
          for (Frames f = 0; f < decoded; ++f)
            fetch.catch_up += pool.frames[draw.below(pool.frames.size())].fetch_ms * scale;
          return fetch;
        },
        [&](Frames) { return sample.process_ms * scale; },
        [&](Frames n, float) { drops.push_back(static_cast<std::uint32_t>(n)); });
    std::sort(drops.begin(), drops.end());
  });
  for (const auto& drops : result.drops)
    for (const std::uint32_t n : drops) result.miss[n] += 1;
  for (float& m : result.miss) m /= static_cast<float>(trials);
  return result;
}

}  // namespace gc
