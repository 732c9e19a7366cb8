// The pipeline's clockwork in model form: workers that take turns at fetching, and the pacing rule that says
// what they make next. Written once for one playout (Real = double) and for eight side by side
// (base/side_by_side.h).
#pragma once
#include <algorithm>
#include <array>

#include "pipeline/pacing.h"
#include "timeline/timeline.h"

namespace gc {

/// A worker: when it is free, and what its latest frame took.
template <class Real>
struct WorkerOf {
  Real free_at{}, done{};
  SpentOf<Real> spent;
  TruthOf<Real> has{};    ///< its latest frame is done, and the rule has not been told yet
  TruthOf<Real> skips{};  ///< skipping frames of that kind adds something; `skip` says what
  std::array<const SkipCost*, SideBySide<Real>::kCount> skip{};

  /// Takes playout i over from one that is kept by itself; `put` writes it back.
  void take(int i, const WorkerOf<double>& from) {
    in_both(*this, from, [i](auto& here, const auto& there) { set(here, i, there); });
    skip[static_cast<std::size_t>(i)] = from.skip[0];
  }
  void put(int i, WorkerOf<double>& to) const {
    in_both(*this, to, [i](const auto& here, auto& there) { there = get(here, i); });
    to.skip[0] = skip[static_cast<std::size_t>(i)];
  }

 private:
  template <class A, class B, class Each>
  static void in_both(A& a, B& b, Each each) {
    each(a.free_at, b.free_at), each(a.done, b.done);
    each(a.spent.waited, b.spent.waited), each(a.spent.fetch, b.spent.fetch);
    each(a.spent.process, b.spent.process), each(a.spent.kind, b.spent.kind);
    each(a.has, b.has), each(a.skips, b.skips);
  }
};

/// One playout between two frames.
template <class Real>
struct ClockworkOf {
  explicit ClockworkOf(const Pace& pace) : pacer(pace) {}

  PacerOf<Real> pacer;
  StartOf<Real> next{};  ///< decided, not carried out
  Real worker{};         ///< who carries it out
  Real fetch_free{};
  Real last = Real(-1);  ///< fetched last

  void take(int i, const ClockworkOf<double>& from) {
    pacer.take(i, from.pacer);
    in_both(*this, from, [i](auto& here, const auto& there) { set(here, i, there); });
  }
  void put(int i, ClockworkOf<double>& to) const {
    pacer.put(i, to.pacer);
    in_both(*this, to, [i](const auto& here, auto& there) { there = get(here, i); });
  }

 private:
  template <class A, class B, class Each>
  static void in_both(A& a, B& b, Each each) {
    each(a.next.frame, b.next.frame), each(a.next.at_ms, b.next.at_ms), each(a.next.kind, b.next.kind);
    each(a.worker, b.worker), each(a.fetch_free, b.fetch_free), each(a.last, b.last);
  }
};

/// No gap between stages: drawn costs have those gaps in them, recorded ones have them apart.
struct Nothing {};
template <class Real>
GC_INLINE Real operator+(Real x, Nothing) {
  return x;
}

/// What a frame takes, ms: fetching when it is reached from the one before it, and what a skip or a cut adds
/// to fetching and to processing.
template <class Real>
struct StepOf {
  Real fetch{}, catch_up{}, process{}, neighbours{};
};

/// The number of the worker that is free first; of equally free ones the lowest.
template <class Real>
GC_INLINE Real earliest(const WorkerOf<Real>* crew, int workers) {
  Real who{}, when = crew[0].free_at;
  for (int w = 1; w < workers; ++w) {
    const TruthOf<Real> sooner = crew[w].free_at < when;
    who = choose(sooner, Real(w), who), when = choose(sooner, crew[w].free_at, when);
  }
  return who;
}

/// The worker that is free first tells the rule what its latest frame took, and is told what to make next.
template <class Real>
GC_INLINE void decide(ClockworkOf<Real>& s, WorkerOf<Real>* crew, int workers, Kinds kinds) {
  s.worker = earliest(crew, workers);
  Real free_at = crew[0].free_at;
  SpentOf<Real> spent = crew[0].spent;
  TruthOf<Real> has = crew[0].has, skips = crew[0].skips;
  for (int w = 1; w < workers; ++w) {
    const TruthOf<Real> his = s.worker == Real(w);
    const WorkerOf<Real>& l = crew[w];
    free_at = choose(his, l.free_at, free_at);
    spent.waited = choose(his, l.spent.waited, spent.waited);
    spent.fetch = choose(his, l.spent.fetch, spent.fetch);
    spent.process = choose(his, l.spent.process, spent.process);
    spent.kind = choose(his, l.spent.kind, spent.kind);
    has = choose(his, l.has, has), skips = choose(his, l.skips, skips);
  }
  std::array<const SkipCost*, SideBySide<Real>::kCount> skip{};
  if (any(skips | s.pacer.skips()))
    for (std::size_t i = 0; i < skip.size(); ++i)
      skip[i] = crew[static_cast<std::size_t>(get(s.worker, static_cast<int>(i)))].skip[i];
  s.pacer.finished(spent, has, skips, skip.data());
  s.next = s.pacer.next(free_at, kinds);
}

/// Carries the decision out: the frame takes its worker and its turn to fetch. Returns how long after its due time it
/// is done, ms; negative when it is early.
/// `starting`, `turn` and `handing` as in FrameCost, or Nothing.
template <class Real, class Gap>
GC_INLINE Real carry_out(const Pace& pace, ClockworkOf<Real>& s, WorkerOf<Real>* crew,
                         const StepOf<Real>& step, Gap starting, Gap turn, Gap handing) {
  const Real n = s.next.frame;
  const Real started = s.next.at_ms + starting;
  const Real began = greater(started, s.fetch_free) + turn;
  const Real fetched = began + step.fetch + step.catch_up;
  const Real done = fetched + step.process + step.neighbours;
  s.fetch_free = fetched, s.last = n;
  for (int w = 0; w < pace.workers; ++w) {
    const TruthOf<Real> his = s.worker == Real(w);
    WorkerOf<Real>& l = crew[w];
    l.free_at = choose(his, done + handing, l.free_at), l.done = choose(his, done, l.done);
    l.spent.waited = choose(his, began - started, l.spent.waited);
    l.spent.fetch = choose(his, step.fetch, l.spent.fetch);
    l.spent.process = choose(his, step.process, l.spent.process);
    l.spent.kind = choose(his, s.next.kind, l.spent.kind);
    l.has = l.has | his;
  }
  return done - n * pace.period_ms;
}

/// Before the clock: the first frames are made as fast as they can be; it starts when all of them are there.
/// Nothing is decided yet.
template <class Costs>
ClockworkOf<double> before_the_clock(const Pace& pace, WorkerOf<double>* crew, Frames count, Costs& costs) {
  ClockworkOf<double> s(pace);
  const Frames first = std::min<Frames>(count, pace.horizon);
  for (Frames n = 0; n < first; ++n) {
    WorkerOf<double>& worker = crew[static_cast<std::size_t>(earliest(crew, pace.workers))];
    const StepOf<double> step = costs.step(static_cast<Frames>(s.last), n);
    s.fetch_free = std::max(worker.free_at, s.fetch_free) + step.fetch + step.catch_up;
    s.last = static_cast<double>(n);
    worker.free_at = s.fetch_free + step.process + step.neighbours;
  }
  for (int w = 0; w < pace.workers; ++w) crew[w] = {}, crew[w].free_at = costs.begins(w);
  s.fetch_free = 0;
  s.pacer.skip_to(static_cast<double>(first));
  return s;
}

}  // namespace gc
