// What the simulation draws: costs of frames from their pools, the seat's mood, what holds frames up from
// outside, and what keeps the display from looking. Every draw comes from a counter, never from a stream: it
// is the same whatever was simulated before it.
#pragma once
#include <algorithm>
#include <limits>

#include "base/chance.h"
#include "forecast/clockwork.h"
#include "forecast/simulate.h"

namespace gc {

/// What all trials of a model draw from.
class DrawTables {
 public:
  explicit DrawTables(const Model& model);
  /// What a trial draws the seat's speed in each stretch from. Stretches of one trial are slow or quick together.
  const std::vector<float>& moods_of(int trial) const;
  const std::vector<SkipCost>& skips() const { return skips_; }
  const FrameSample& dearest(std::size_t pool) const { return dearest_[pool]; }
  /// What a frame of the pool takes on the mean, ms.
  double mean_ms(std::size_t pool) const { return means_[pool]; }
  /// And of it for fetching.
  double mean_fetch_ms(std::size_t pool) const { return fetches_[pool]; }
  /// How many frames there are before a stretch in which its sources are opened: less than usual only near the first frame.
  Frames prepared_frames(std::size_t stretch) const { return prepared_[stretch].frames; }
  /// Share of the workers' time that these frames take, 0…1.
  double busy_before(std::size_t stretch) const { return prepared_[stretch].busy; }

 private:
  static constexpr std::size_t kLevels = 8;  // of the seat's speed through a whole playout
  std::vector<std::vector<float>> moods_;    ///< by level
  std::vector<SkipCost> skips_;       ///< for each pool
  std::vector<FrameSample> dearest_;  ///< of each pool: longest fetching, and what is more in all
  std::vector<double> means_, fetches_;
  struct Before {
    Frames frames = 0;
    double busy = 0;
  };
  std::vector<Before> prepared_;  ///< for each stretch
};

/// Costs of one trial, drawn as they are asked for.
class Draws {
 public:
  Draws(const Model& model, const DrawTables& tables, std::uint64_t seed, int trial);

  /// To the stretch that holds frame n, wherever it is.
  void go_to(Frames n);

  /// What frame n takes when `last` was fetched before it. Frames are asked for in order.
  StepOf<double> step(Frames last, Frames n) {
    while (n >= out_) enter(at_ + 1);
    if (const std::uint64_t run = number_of(n) / kRunOf; run != run_)
      run_ = run, run_at_ = below(mixed(seed_ + 0x51ed27f5ULL + run), size_);
    std::size_t k = run_at_ + static_cast<std::size_t>(number_of(n)) % kRunOf;
    while (k >= size_) k -= size_;
    const FrameSample sample = samples_[k];
    StepOf<double> s{static_cast<double>(sample.fetch_ms * mood_), 0, 0, 0};
    if (last < in_ || (skips_cost_ && last + 1 != n)) reach(s, last, n, draw_of(n));
    s.process = static_cast<double>(sample.process_ms * mood_);
    if (n >= prepares_from_) s.process += prepares_ms_;
    if (n >= held_up_) s.process += hold_up(n);
    return s;
  }
  // The samples were taken in the running pipeline: what lies between stages is in them.
  double begins(int) const { return 0; }

  /// Of the frame that was asked for last.
  const SkipCost* skip() const { return skip_; }
  bool skips_cost() const { return skips_cost_; }

  /// Whether frame n lies within a stretch that was entered and whose frames are all so light that none can
  /// be late while the read-ahead is full.
  bool light(Frames n) const { return light_ && n > in_ && n < out_; }
  /// The most that a frame of the present stretch takes.
  double most_ms() const {
    const FrameSample& f = tables_.dearest(stretch_->pool);
    return static_cast<double>((f.fetch_ms + f.process_ms) * mood_) + prepares_ms_;
  }
  /// How far frames of the present stretch go on like that from n: up to `out`, or to the first that is held
  /// up from outside.
  Frames undisturbed_until(Frames n, Frames out) {
    next_hold_up(n);
    return std::min({out, out_, held_up_});
  }

 private:
  // Frames in a row take neighbouring samples, as neighbours are alike.
  static constexpr std::uint64_t kRunOf = 8;
  static constexpr Frames kNever = std::numeric_limits<Frames>::max();

  std::uint64_t number_of(Frames n) const { return static_cast<std::uint64_t>(model_.first + n); }
  std::uint64_t draw_of(Frames n) const { return mixed(seed_ ^ number_of(n)); }
  void enter(std::size_t at);
  /// What opening the sources of a stretch takes: in its turn, or ahead of it. ms
  double entry_ms(const CostStretch& stretch) const;
  /// How much time there is before a stretch for opening its sources, of one processor.
  double prepared_ms(std::size_t at) const;
  /// Hold-ups from outside come at random, as often as the workers are busy: to the first of this stretch
  /// that befalls frame n or one after it, if that is made.
  void next_hold_up(Frames n) {
    while (held_up_ < n) draw_hold_up();
  }
  void draw_hold_up();
  /// For how long frame n is held up, ms.
  double hold_up(Frames n);
  /// What it takes besides to reach frame n from the last one that was fetched.
  void reach(StepOf<double>& s, Frames last, Frames n, std::uint64_t draw) const;

  const Model& model_;
  const DrawTables& tables_;
  const std::vector<float>& moods_;
  std::uint64_t seed_;
  std::uint64_t run_ = ~std::uint64_t{0}, run_at_ = 0;
  const Disturbance* outside_;
  double held_share_ = 0;  ///< of work: what the outside adds to it on the mean
  std::size_t at_ = 0;
  const CostStretch* stretch_ = nullptr;
  Frames in_ = 0, out_ = 0;  ///< its own
  Frames prepares_from_ = kNever;  ///< from here on sources of later stretches are opened meanwhile
  double prepares_ms_ = 0;         ///< what that adds to each frame
  Frames held_up_ = kNever;  ///< the next that is held up from outside
  double held_at_ = 0;       ///< when, counted in frames of the stretch
  std::uint64_t held_draw_ = 0;
  const FrameSample* samples_ = nullptr;
  std::size_t size_ = 1;
  const SkipCost* skip_ = nullptr;
  float mood_ = 1;  ///< of the seat in this stretch
  bool light_ = false, between_ = false, skips_cost_ = false;
};

/// Frames that lie ready while the display's thread is kept from looking for them. Nothing before the display
/// knows of that, so they are drawn apart from the pipeline: hold-ups come at random, as often as the workers
/// are busy. Drawn by block and trial.
class LateLooks {
 public:
  LateLooks(const Model& model, std::uint64_t seed);
  /// Frames of the block [in, out) that are dropped so in a trial. `late`: a bit for each frame that is not
  /// there anyway.
  std::vector<std::uint32_t> frames(Frames in, Frames out, std::size_t trial,
                                    const std::uint64_t* late) const;

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

}  // namespace gc
