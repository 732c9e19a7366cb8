#include "forecast/eight_trials.h"

// Chosen by what the processor can do, not by its name.
#define GC_CLONES __attribute__((target_clones("arch=x86-64-v3", "default")))

namespace gc {
namespace {

using State = ClockworkOf<Eight>;
using Worker = WorkerOf<Eight>;

class EightTrials {
 public:
  EightTrials(const Model& model, const DrawTables& tables, std::uint64_t seed, std::size_t trial,
              std::size_t trials, const BlockRun& run)
      : model_(model), first_trial_(trial), run_(run) {
    for (std::size_t i = 0; i < kTogether; ++i) {
      draws_.emplace_back(model, tables, seed, static_cast<int>(trial + i));
      block_[i] = run.first;
      live_[i] = trial + i < trials && run.first < run.last;
      all_live_ += live_[i];
    }
  }

  int workers() const { return model_.pace.workers; }
  const Pace& pace() const { return model_.pace; }
  Kinds kinds() const { return model_.kinds; }

  void take(State& s, Worker* crew) {
    const Boundary& from = *run_.at.front();
    for (std::size_t i = 0; i < kTogether; ++i) {
      if (!live_[i]) {
        for (int w = 0; w < workers(); ++w) crew[w].skip[i] = draws_[i].skip();
        continue;
      }
      const std::size_t t = first_trial_ + i;
      s.take(static_cast<int>(i), from.states[t]);
      for (int w = 0; w < workers(); ++w)
        crew[w].take(static_cast<int>(i),
                      from.crew[t * static_cast<std::size_t>(workers()) + static_cast<std::size_t>(w)]);
      if (const Frames n = frame(s, i); n > 0) draws_[i].go_to(std::min(n, model_.frames() - 1));
      enter_block(i);
      last_[i] = static_cast<Frames>(get(s.last, static_cast<int>(i)));
    }
  }

  /// Notes how late the frames were that each trial made last, and draws what the next ones take. False when
  /// all trials are at their end.
  GC_INLINE bool reach(State& s, Worker* crew) {
    for (std::size_t i = 0; i < kTogether; ++i) {
      if (!live_[i]) continue;
      const int k = static_cast<int>(i);
      if (const std::uint64_t f = static_cast<std::uint64_t>(last_[i]) - in_[i]; made_)
        missed_[i][f / 64] &= ~(std::uint64_t{!(get(late, k) > 0)} << f % 64);
      Frames n = frame(s, i);
      if (n >= out_[i]) {
        cross(s, crew, i);
        if (!live_[i]) continue;
      }
      if (draws_[i].light(n) && s.pacer.at_ease(s.next, k)) {
        pass_light(s, crew, i);
        n = frame(s, i);
      }
      const StepOf<double> d = draws_[i].step(last_[i], n);
      last_[i] = n;
      set(step.fetch, k, d.fetch), set(step.catch_up, k, d.catch_up);
      set(step.process, k, d.process), set(step.neighbours, k, d.neighbours);
      Worker& worker = crew[static_cast<std::size_t>(get(s.worker, k))];
      worker.skip[i] = draws_[i].skip();
      set(worker.skips, k, draws_[i].skips_cost());
    }
    made_ = true;
    return all_live_ > 0;
  }
  StepOf<Eight> step;
  Eight late;  ///< how long after its time the frame was done that each trial made last

 private:
  static Frames frame(const State& s, std::size_t i) {
    return static_cast<Frames>(get(s.next.frame, static_cast<int>(i)));
  }
  void enter_block(std::size_t i) {
    const Frames in = static_cast<Frames>(block_[i]) * kBlock;
    in_[i] = static_cast<std::uint64_t>(in), out_[i] = std::min(model_.frames(), in + kBlock);
    missed_[i] = run_.missed[block_[i] - run_.first]->of(first_trial_ + i);
    // What is made before the clock starts is there, and after the end nothing is missed.
    in_time(i, in, std::min<Frames>(out_[i], pace().horizon));
    in_time(i, out_[i], in + kBlock);
  }
  /// Frames [from, to) of its block are all there in time.
  void in_time(std::size_t i, Frames from, Frames to) {
    while (from < to) {
      const std::uint64_t f = static_cast<std::uint64_t>(from) - in_[i];
      const auto count = std::min<std::uint64_t>(64 - f % 64, static_cast<std::uint64_t>(to - from));
      missed_[i][f / 64] &= ~(~std::uint64_t{0} >> (64 - count) << f % 64);
      from += static_cast<Frames>(count);
    }
  }
  /// Out of its block, and perhaps out of the ones after it: leaves its state there.
  [[gnu::noinline]] void cross(State& s, Worker* crew, std::size_t i) {
    const int k = static_cast<int>(i);
    while (live_[i] && frame(s, i) >= out_[i]) {
      ++block_[i];
      if (Boundary* b = run_.at[block_[i] - run_.first]) {
        const std::size_t t = first_trial_ + i;
        s.put(k, b->states[t]);
        for (int w = 0; w < workers(); ++w)
          crew[w].put(k, b->crew[t * static_cast<std::size_t>(workers()) + static_cast<std::size_t>(w)]);
      }
      if (block_[i] == run_.last) live_[i] = false, --all_live_;
      else enter_block(i);
    }
  }
  /// Frames so light that none can be late need not be played one by one while the read-ahead is full: goes
  /// to just before the next ones that may be otherwise. Only the rule's mean of their costs misses their
  /// latest.
  [[gnu::noinline]] void pass_light(State& s, const Worker* crew, std::size_t i) {
    const int k = static_cast<int>(i);
    const double at = get(s.next.at_ms, k);
    const Frames n = frame(s, i);
    if (last_[i] != n - 1 || get(s.fetch_free, k) > at) return;
    for (int w = 0; w < workers(); ++w)
      if (get(crew[w].free_at, k) > at + pace().period_ms) return;
    if (!s.pacer.stays_at_ease(draws_[i].most_ms(), k)) return;
    // After so many every worker has taken on one of them, which is then told like any other.
    const Frames to = draws_[i].undisturbed_until(n, out_[i]) - workers() - 1;
    if (to <= n) return;
    s.pacer.pass_to(static_cast<double>(to), s.next, k);
    set(s.last, k, static_cast<double>(to - 1)), last_[i] = to - 1;
    in_time(i, n, to);
  }

  const Model& model_;
  std::size_t first_trial_;
  const BlockRun& run_;
  std::vector<Draws> draws_;
  std::size_t block_[kTogether] = {};
  Frames out_[kTogether] = {};
  std::uint64_t in_[kTogether] = {};
  std::uint64_t* missed_[kTogether] = {};
  Frames last_[kTogether] = {};  ///< what each made last
  bool made_ = false;            ///< that they made any since they were taken over
  bool live_[kTogether] = {};
  int all_live_ = 0;
};

GC_CLONES void play(EightTrials& trials, State& s, Worker* crew) {
  while (trials.reach(s, crew)) {
    trials.late = carry_out(trials.pace(), s, crew, trials.step, Nothing{}, Nothing{}, Nothing{});
    decide(s, crew, trials.workers(), trials.kinds());
  }
}

}  // namespace

ClockworkOf<double> at_the_start(const Model& model, const DrawTables& tables, std::uint64_t seed, int trial,
                                 WorkerOf<double>* crew) {
  Draws draws(model, tables, seed, trial);
  ClockworkOf<double> s = before_the_clock(model.pace, crew, model.frames(), draws);
  decide(s, crew, model.pace.workers, model.kinds);
  return s;
}

void play_eight(const Model& model, const DrawTables& tables, std::uint64_t seed, std::size_t trial,
                std::size_t trials, const BlockRun& run) {
  EightTrials eight(model, tables, seed, trial, trials, run);
  State s(model.pace);
  std::vector<Worker> crew(static_cast<std::size_t>(std::max(1, model.pace.workers)));
  eight.take(s, crew.data());
  play(eight, s, crew.data());
}

}  // namespace gc
