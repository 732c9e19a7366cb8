// Given costs, played once: what is measured or scripted goes through the clockwork without a draw.
#include <cmath>

#include "forecast/clockwork.h"
#include "forecast/simulate.h"

namespace gc {
namespace {

constexpr double kLate = 1e-6;  // ms: a frame that nobody looked for is late, whenever it was done

struct GivenCosts {
  const std::vector<FrameCost>& all;
  const std::vector<double>& first;

  StepOf<double> step(Frames last, Frames n) const {
    const FrameCost& c = all[static_cast<std::size_t>(n)];
    return {c.fetch, catch_up_of(all, last, n) + c.stall, c.process, neighbours_of(all, last, n)};
  }
  double begins(int worker) const {
    return static_cast<std::size_t>(worker) < first.size() ? first[static_cast<std::size_t>(worker)] : 0;
  }
};

/// A worker may be done and not yet at its next frame: the rule hears of frames in the order in which they
/// are done.
void decide_as_done(ClockworkOf<double>& s, std::vector<WorkerOf<double>>& crew, Kinds kinds) {
  s.worker = earliest(crew.data(), static_cast<int>(crew.size()));
  const double now = crew[static_cast<std::size_t>(s.worker)].free_at;
  for (;;) {
    WorkerOf<double>* first = nullptr;
    for (WorkerOf<double>& l : crew)
      if (l.has && l.done <= now && (!first || l.done < first->done)) first = &l;
    if (!first) break;
    s.pacer.finished(first->spent, true, first->skips, first->skip.data());
    first->has = false;
  }
  s.next = s.pacer.next(now, kinds);
}

}  // namespace

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
  std::vector<WorkerOf<double>> crew(static_cast<std::size_t>(std::max(1, pace.workers)));
  std::vector<SkipCost> skips;
  for (const FrameCost& c : costs) skips.emplace_back(c.fetch + c.beside, c.decodes_between, c.neighbour, c.neighbours);
  GivenCosts given{costs, begins};
  ClockworkOf<double> s = before_the_clock(pace, crew.data(), count, given);
  Frames expected = std::min<Frames>(count, pace.horizon);  // first frame whose fate is not told yet
  for (decide_as_done(s, crew, kinds); s.next.frame < static_cast<double>(count);
       decide_as_done(s, crew, kinds)) {
    const auto n = static_cast<Frames>(s.next.frame);
    for (; expected < n; ++expected) outcome[static_cast<std::size_t>(expected)].dropped = true;
    expected = n + 1;
    const FrameCost& c = costs[static_cast<std::size_t>(n)];
    WorkerOf<double>& worker = crew[static_cast<std::size_t>(s.worker)];
    const double done_late = carry_out(pace, s, crew.data(), given.step(static_cast<Frames>(s.last), n),
                                       c.starting, c.turn, c.handing);
    worker.spent.process += c.beside;
    worker.skip[0] = &skips[static_cast<std::size_t>(n)], worker.skips = worker.skip[0]->any();
    double late = done_late + c.arriving - c.looked;
    // A display's thread that comes a whole period late shows nothing, whatever lay ready.
    if (c.looked >= pace.period_ms) late = std::max(late, kLate);
    if (late > 0) outcome[static_cast<std::size_t>(n)] = {true, static_cast<float>(late)};
  }
  for (; expected < count; ++expected) outcome[static_cast<std::size_t>(expected)].dropped = true;
  return outcome;
}

}  // namespace gc
