// The pacing rule: which frame to start next, and when. One piece of code, used by the player on the real
// clock and by the forecast in its simulation.
//
// Times are milliseconds from the moment the clock starts; frame n (from 0) is due at n × period. A frame is
// worth starting only when it can arrive, judged by the mean time a frame has lately occupied a worker and
// twice its mean deviation (the smoothing that Jacobson, 1988, uses for round-trip times). Work that is done
// once, like decoding up to the first frame after a cut, is no part of that mean; that skipped frames of a
// long-GOP source must be decoded all the same is, since else each skip would make the next frame late again.
// When frames cannot keep up, the rule falls back to an even cadence of m frames out of n, and climbs again
// as soon as there is slack.
#pragma once
#include <array>
#include <cstdint>

namespace gc {

struct Pace {
  int workers = 2;  ///< frames made at once
  int horizon = 8;  ///< frames that may be started ahead of the one that is due
  double period_ms = 1000.0 / 24;
};

/// Play `shown` frames out of every `of`, evenly spread.
struct Cadence {
  int shown = 1, of = 1;
  double share() const { return static_cast<double>(shown) / of; }
  /// Whether frame n is one of the shown: where (n + 1) shown / of passes a whole number. In 32 bits, which
  /// divide faster and hold for weeks of frames.
  bool has(std::int64_t n) const {
    return static_cast<std::uint32_t>(n + 1) * static_cast<std::uint32_t>(shown) %
               static_cast<std::uint32_t>(of) <
           static_cast<std::uint32_t>(shown);
  }
};

/// Skipping further than this, a reader goes to a key frame instead of decoding everything between; the
/// groups of pictures that cameras write are about as long.
inline constexpr std::int64_t kMostCatchUp = 12;

/// Fastest first.
inline constexpr std::array<Cadence, 15> kCadences{{{1, 1},
                                                    {5, 6},
                                                    {4, 5},
                                                    {3, 4},
                                                    {2, 3},
                                                    {3, 5},
                                                    {1, 2},
                                                    {2, 5},
                                                    {1, 3},
                                                    {1, 4},
                                                    {1, 5},
                                                    {1, 6},
                                                    {1, 8},
                                                    {1, 12},
                                                    {1, 24}}};

/// How a finished frame spent its worker's time, ms.
struct Occupancy {
  double waited = 0;  ///< for its turn to fetch
  double fetch = 0;   ///< of a frame that is reached from the one before it
  double process = 0;
  bool decodes_between = false;  ///< skipped frames cost a fetch too
};

struct FrameStart {
  std::int64_t frame = 0;
  double at_ms = 0;  ///< not before this time
};

class Pacer {
 public:
  explicit Pacer(Pace pace) : pace_(pace) {}

  /// The frame that a worker which is free at `free_ms` should make next.
  FrameStart next(double free_ms) {
    const double need = need_ms();
    const double slowest = horizon_ms(need);
    std::int64_t n = on_grid(last_ + 1);
    double at = later(free_ms, static_cast<double>(n) * pace_.period_ms - slowest);
    const double slack = static_cast<double>(n) * pace_.period_ms - at - need;
    if (slack < 0) {
      const int lower = sustainable();
      if (lower > cadence_) cadence_ = lower;
      n = on_grid(first_in_time(at + need));
      at = later(free_ms, static_cast<double>(n) * pace_.period_ms - slowest);
    } else if (cadence_ > 0) {
      if (slack > 1.5 * pace_.period_ms)
        if (const int better = sustainable(); better < cadence_) cadence_ = better;
      if (cadence_ > 0 && slack > 0.5 * pace_.horizon * pace_.period_ms) --cadence_;
    }
    last_ = n;
    return {n, at};
  }

  /// The frames before n have been started already, before the clock ran.
  void skip_to(std::int64_t n) { last_ = n - 1; }

  void finished(const Occupancy& o) {
    // Others' turns count as far as they were ordinary; behind someone who opens a file the wait says
    // nothing.
    const double turn = (pace_.workers - 1) * o.fetch;
    const double occupied_ms = (o.waited < turn ? o.waited : turn) + o.fetch + o.process;
    skip_ms_ = o.decodes_between ? o.fetch : 0;
    if (!seen_) {
      mean_ = before_ = occupied_ms, deviation_ = 0, seen_ = true;
      return;
    }
    // Two in a row that differ alike are a change of cost, and the rule follows at once.
    const bool dearer = occupied_ms > 1.4 * mean_ && before_ > 1.4 * mean_;
    const bool cheaper = occupied_ms < 0.65 * mean_ && before_ < 0.65 * mean_;
    const double apart = occupied_ms < before_ ? before_ - occupied_ms : occupied_ms - before_;
    if ((dearer || cheaper) && apart < 0.25 * (occupied_ms + before_)) {
      mean_ = (occupied_ms + before_) / 2, deviation_ = apart / 2;
      before_ = occupied_ms;
      return;
    }
    before_ = occupied_ms;
    // One frame that was held up from outside says little about the next.
    const double error = (occupied_ms < 3 * mean_ ? occupied_ms : 3 * mean_) - mean_;
    mean_ += 0.2 * error;
    deviation_ += 0.2 * ((error < 0 ? -error : error) - deviation_);
  }

  Cadence cadence() const { return kCadences[static_cast<std::size_t>(cadence_)]; }
  /// Whether both decide alike from here on: the same place and cadence, figures within `tolerance` ms.
  bool goes_on_like(const Pacer& o, double tolerance) const {
    const auto near = [&](double a, double b) { return (a < b ? b - a : a - b) <= tolerance; };
    return last_ == o.last_ && cadence_ == o.cadence_ && seen_ == o.seen_ && near(mean_, o.mean_) &&
           near(deviation_, o.deviation_) && near(before_, o.before_) && near(skip_ms_, o.skip_ms_);
  }

 private:
  static double later(double a, double b) { return a > b ? a : b; }
  double need_ms() const { return mean_ + 2 * deviation_; }
  /// First frame after the last one whose time has not come by `ready_ms`, when every frame that is skipped
  /// until then puts `ready_ms` off by another fetch: n × period ≥ ready + (n − last − 1) × skip.
  std::int64_t first_in_time(double ready_ms) const {
    const double skip = skip_ms_ < 0.9 * pace_.period_ms ? skip_ms_ : 0.9 * pace_.period_ms;
    const double n = (ready_ms - static_cast<double>(last_ + 1) * skip) / (pace_.period_ms - skip);
    // No skip costs more than a group: without this bound a slow decoder would be sent seconds ahead.
    const double bound = (ready_ms + static_cast<double>(kMostCatchUp) * skip) / pace_.period_ms;
    const std::int64_t first = static_cast<std::int64_t>(n < bound ? n : bound) + 1;
    return first > last_ + 1 ? first : last_ + 1;
  }
  /// A slow frame has to be started earlier than the buffer alone would have it.
  double horizon_ms(double need) const {
    return later(pace_.horizon * pace_.period_ms, need + 2 * pace_.period_ms);
  }
  std::int64_t on_grid(std::int64_t n) const {
    if (cadence_ == 0) return n;
    const Cadence c = cadence();
    while (!c.has(n)) ++n;
    return n;
  }
  /// Fastest cadence that the workers keep up with at the present cost of a frame.
  int sustainable() const {
    const double share = pace_.period_ms * pace_.workers / (mean_ > 0 ? mean_ : 1e-9);
    int i = 0;
    while (i + 1 < static_cast<int>(kCadences.size()) &&
           kCadences[static_cast<std::size_t>(i)].share() > share)
      ++i;
    return i;
  }

  Pace pace_;
  std::int64_t last_ = -1;
  int cadence_ = 0;
  double mean_ = 0, deviation_ = 0, before_ = 0, skip_ms_ = 0;
  bool seen_ = false;
};

}  // namespace gc
