// The pacing rule: which frame to start next, and when. One piece of code, used by the player on the real
// clock and by the forecast in its simulation.
//
// Times are milliseconds from the moment the clock starts; frame n (from 0) is due at n × period. A frame is
// worth starting only when it can arrive, judged by the mean time a frame has lately occupied a worker and
// twice its mean deviation (the smoothing that Jacobson, 1988, uses for round-trip times). Work that is done
// once, like decoding up to the first frame after a cut, is no part of that mean; what a skip adds to the
// next frame is counted apart, since else each skip would make the next frame late again. Where the kind of
// frames changes and the seat knows the new kind, the rule begins with what is known of it. When frames
// cannot keep up, the rule falls back to an even cadence of m frames out of n, and climbs again as soon as
// there is slack.
#pragma once
#include <array>
#include <cstdint>
#include <limits>
#include <span>

namespace gc {

struct Pace {
  int workers = 2;  ///< frames made at once
  int horizon = 8;  ///< frames that may be started ahead of the one that is due
  double period_ms = 1000.0 / 24;
  int far = 0;  ///< the same where frames too dear to be kept up with are known to follow; 0: no more
};

/// As far as memory carries: twice the horizon, if so many pictures of this raster take less than a gigabyte.
inline int far_of(int width, int height, int horizon) {
  const std::int64_t room =
      (std::int64_t{1} << 30) / (std::int64_t{4} * (width > 0 ? width : 1) * (height > 0 ? height : 1));
  return static_cast<int>(room < horizon ? horizon : room < 2 * horizon ? room : 2 * horizon);
}

/// Play `shown` frames out of every `of`, evenly spread.
struct Cadence {
  int shown = 1, of = 1;
  constexpr double share() const { return static_cast<double>(shown) / of; }
  /// Whether frame n is one of the shown: where (n + 1) shown / of passes a whole number.
  constexpr bool has(std::int64_t n) const { return (n + 1) * shown % of < shown; }
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

/// Of each cadence, the share of frames that are shown, and the frames skipped between two of them.
inline constexpr auto kShares = [] {
  std::array<double, kCadences.size()> shares{};
  for (std::size_t i = 0; i < shares.size(); ++i) shares[i] = kCadences[i].share();
  return shares;
}();
inline constexpr auto kGaps = [] {
  std::array<double, kCadences.size()> gaps{};
  for (std::size_t i = 0; i < gaps.size(); ++i) gaps[i] = 1 / kShares[i] - 1;
  return gaps;
}();

/// Of each cadence, how far it is from a frame to the next that is shown. All of them repeat within so many.
inline constexpr std::int64_t kCadenceRound = 120;
inline constexpr auto kToShown = [] {
  std::array<std::array<std::uint8_t, kCadenceRound>, kCadences.size()> steps{};
  for (std::size_t i = 0; i < steps.size(); ++i)
    for (std::int64_t n = 0; n < kCadenceRound; ++n) {
      std::uint8_t step = 0;
      while (!kCadences[i].has(n + step)) ++step;
      steps[i][static_cast<std::size_t>(n)] = step;
    }
  return steps;
}();

/// What each frame that is skipped adds to the next one that is made, ms: frames between key frames must be
/// decoded all the same, and an effect that looks at neighbours needs those that no frame before has left.
struct SkipCost {
  double decode = 0;
  double neighbour_fetch = 0, neighbour = 0;  ///< fetching a neighbour, and making it
  int neighbours = 0;                         ///< that a frame has

  SkipCost() = default;
  SkipCost(double fetch, bool decodes_between, double neighbour_ms, int how_many)
      : decode(decodes_between ? fetch : 0),
        neighbour_fetch(how_many > 0 && !decodes_between ? fetch : 0),
        neighbour(how_many > 0 ? neighbour_ms : 0),
        neighbours(how_many) {}
  bool any() const { return decode > 0 || neighbours > 0; }
  /// What skipping so many in a row adds, on the mean.
  double after(double skipped) const {
    const double most = static_cast<double>(kMostCatchUp), wide = neighbours;
    return (skipped < most ? skipped : most) * decode +
           (skipped < wide ? skipped : wide) * (neighbour_fetch + neighbour);
  }
  friend bool operator==(const SkipCost&, const SkipCost&) = default;
};

/// From frame `from` on, frames are of another kind, and this is what the seat knows of it.
struct CostKind {
  std::int64_t from = 0;
  double occupied_ms = 0;   ///< how long a frame occupies a worker, mean
  double deviation_ms = 0;  ///< mean, of single frames
  SkipCost skip;
  friend bool operator==(const CostKind&, const CostKind&) = default;
};
using Kinds = std::span<const CostKind>;

/// How a finished frame spent its worker's time, ms.
struct Occupancy {
  double waited = 0;      ///< for its turn to fetch
  double fetch = 0;       ///< of a frame that is reached from the one before it
  double process = 0;     ///< without what a skip before it added
  std::int64_t kind = 0;  ///< as it was decided
};

struct FrameStart {
  std::int64_t frame = 0;
  double at_ms = 0;       ///< not before this time
  std::int64_t kind = 0;  ///< first frame of its kind
};

class Pacer {
 public:
  explicit Pacer(Pace pace) : pace_(pace), per_period_(1 / pace.period_ms), ahead_(pace.horizon) {}

  /// The frame that a worker which is free at `free_ms` should make next. `kinds`, in order, say what is
  /// known beforehand; the same ones at every call.
  [[gnu::always_inline]] FrameStart next(double free_ms, Kinds kinds = {}) {
    enter(last_ + 1, kinds);
    std::int64_t n = on_grid(last_ + 1);
    while (enter(n, kinds)) n = on_grid(n);
    double at = later(free_ms, due(n) - horizon_ms(n));
    const double slack = due(n) - at - need_ms(n);
    if (slack < 0) {
      fall();
      n = on_grid(first_in_time(free_ms));
      // Another kind on the way may let a frame in sooner, but none before its own first.
      while (enter(n, kinds)) n = on_grid(first_in_time(free_ms));
      at = later(free_ms, due(n) - horizon_ms(n));
    } else if (cadence_ > 0) {
      if (slack > 1.5 * pace_.period_ms)
        if (const int better = sustainable(); better < cadence_) cadence_ = better;
      if (cadence_ > 0 && slack > 0.5 * pace_.horizon * pace_.period_ms) --cadence_;
    }
    last_ = n;
    return {n, at, kind_};
  }

  /// The frames before n have been started already, before the clock ran.
  void skip_to(std::int64_t n) { last_ = n - 1; }
  /// Goes on with other kinds, which are the same up to the frame decided last.
  void move_to(Kinds kinds) {
    const std::size_t i = begun(last_, kinds);
    leave_ = end_of(i, kinds), ahead_ = ahead_of(i, kinds);
  }

  /// `skip`: what skipping frames of its kind costs.
  [[gnu::always_inline]] void finished(const Occupancy& o, const SkipCost& skip = {}) {
    if (o.kind != kind_) return;  // of a kind that is over
    // Others' turns count as far as they were ordinary; behind someone who opens a file the wait says
    // nothing.
    const double turn = (pace_.workers - 1) * o.fetch;
    const double occupied_ms = (o.waited < turn ? o.waited : turn) + o.fetch + o.process;
    if (skips_ || skip.any()) skip_ = skip, skips_ = skip_.any();
    if (!seen_) {
      mean_ = before_ = occupied_ms, deviation_ = 0, seen_ = true;
      return;
    }
    // Two in a row that differ alike are a change of cost, and the rule follows at once.
    const double less = occupied_ms < before_ ? occupied_ms : before_;
    const bool dearer = less > 1.4 * mean_, cheaper = later(occupied_ms, before_) < 0.65 * mean_;
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

  /// Whether frame `next` was decided in good order: none is skipped, and it waits for its place in the
  /// read-ahead, not for a worker.
  bool at_ease(const FrameStart& next) const {
    return cadence_ == 0 && next.frame == last_ && next.at_ms == due(last_) - ahead_ * pace_.period_ms;
  }
  /// Whether all of that lasts while frames take at most `most_ms`, and none of them can be late.
  bool stays_at_ease(double most_ms) const {
    // The mean and its deviation are never more than the dearest of them.
    return most_ms <= pace_.workers * pace_.period_ms &&
           later(mean_, most_ms) + 2 * later(deviation_, most_ms) + 2 * pace_.period_ms <=
               ahead_ * pace_.period_ms;
  }
  /// Goes on at frame n of the same kind, as if those between had been decided like the last one.
  FrameStart pass_to(std::int64_t n) {
    last_ = n;
    return {n, due(n) - ahead_ * pace_.period_ms, kind_};
  }

  Cadence cadence() const { return kCadences[static_cast<std::size_t>(cadence_)]; }
  /// Whether both decide alike from here on: the same place and cadence, figures within `tolerance` ms.
  bool goes_on_like(const Pacer& o, double tolerance) const {
    const auto near = [&](double a, double b) { return (a < b ? b - a : a - b) <= tolerance; };
    return last_ == o.last_ && cadence_ == o.cadence_ && seen_ == o.seen_ && kind_ == o.kind_ &&
           leave_ == o.leave_ && ahead_ == o.ahead_ && near(mean_, o.mean_) &&
           near(deviation_, o.deviation_) && near(before_, o.before_) && near(skip_.decode, o.skip_.decode) &&
           near(skip_.neighbour_fetch, o.skip_.neighbour_fetch) && near(skip_.neighbour, o.skip_.neighbour) &&
           skip_.neighbours == o.skip_.neighbours;
  }

 private:
  static double later(double a, double b) { return a > b ? a : b; }
  double due(std::int64_t n) const { return static_cast<double>(n) * pace_.period_ms; }
  /// Within how long frame n will surely be done, once a worker takes it on.
  double need_ms(std::int64_t n) const {
    const double need = mean_ + 2 * deviation_;
    return n == last_ + 1 || !skips_ ? need : need + skip_.after(static_cast<double>(n - last_ - 1));
  }
  /// How many kinds have begun by a frame.
  static std::size_t begun(std::int64_t frame, Kinds kinds) {
    std::size_t low = 0, high = kinds.size();
    while (low < high) {
      const std::size_t mid = (low + high) / 2;
      if (kinds[mid].from <= frame) low = mid + 1;
      else high = mid;
    }
    return low;
  }
  static std::int64_t end_of(std::size_t begun, Kinds kinds) {
    return begun < kinds.size() ? kinds[begun].from : std::numeric_limits<std::int64_t>::max();
  }
  /// Frame n is the next: true when it is the first of its kind that is looked at.
  bool enter(std::int64_t n, Kinds kinds) {
    if (n < leave_) return false;
    const std::size_t i = begun(n, kinds);
    leave_ = end_of(i, kinds), ahead_ = ahead_of(i, kinds);
    if (i == 0) return false;
    const CostKind& kind = kinds[i - 1];
    kind_ = kind.from;
    mean_ = before_ = kind.occupied_ms, deviation_ = kind.deviation_ms, seen_ = true;
    skip_ = kind.skip, skips_ = skip_.any();
    // What is cheaper is played at its rate at once; what is dearer may use up what is made ahead first.
    if (const int faster = sustainable(); faster < cadence_) cadence_ = faster;
    return true;
  }
  /// Frames to be ahead in the kind before kinds[i]: more where it takes more time than there is, and before
  /// such a one.
  int ahead_of(std::size_t i, Kinds kinds) const {
    const double most = pace_.period_ms * pace_.workers;
    const bool more = pace_.far > pace_.horizon && i > 0 &&
                      (kinds[i - 1].occupied_ms > most || (i < kinds.size() && kinds[i].occupied_ms > most));
    return more ? pace_.far : pace_.horizon;
  }
  void fall() {
    if (const int lower = sustainable(); lower > cadence_) cadence_ = lower;
  }
  /// First frame after the last one whose time has not come when a worker takes it on at `free_ms`, with what
  /// skipping to it adds. Found from below: what a skip adds is bounded, so this ends.
  std::int64_t first_in_time(double free_ms) const {
    const std::int64_t least = last_ + 1 > kind_ ? last_ + 1 : kind_;
    std::int64_t n = least;
    for (;;) {
      const double ready = free_ms + need_ms(n);
      const std::int64_t m = ready < 0 ? least : static_cast<std::int64_t>(ready * per_period_) + 1;
      if (m <= n) return n;
      n = m;
      if (!skips_) return n;
    }
  }
  /// A slow frame has to be started earlier than the buffer alone would have it.
  double horizon_ms(std::int64_t n) const {
    return later(ahead_ * pace_.period_ms, need_ms(n) + 2 * pace_.period_ms);
  }
  std::int64_t on_grid(std::int64_t n) const {
    return n + kToShown[static_cast<std::size_t>(cadence_)][static_cast<std::size_t>(n % kCadenceRound)];
  }
  /// Fastest cadence that the workers keep up with at the present cost of a frame and of skipping.
  int sustainable() const {
    const double most = pace_.period_ms * pace_.workers;
    std::size_t i = 0;
    if (!skips_) {
      // All of those before it are too fast: counted without a branch.
      for (std::size_t k = 0; k + 1 < kCadences.size(); ++k) i += kShares[k] * mean_ > most;
      return static_cast<int>(i);
    }
    while (i + 1 < kCadences.size() && kShares[i] * (mean_ + skip_.after(kGaps[i])) > most) ++i;
    return static_cast<int>(i);
  }

  Pace pace_;
  double per_period_;
  std::int64_t last_ = -1;
  int cadence_ = 0;
  double mean_ = 0, deviation_ = 0, before_ = 0;
  SkipCost skip_;
  int ahead_ = 0;
  bool skips_ = false, seen_ = false;
  std::int64_t kind_ = 0, leave_ = std::numeric_limits<std::int64_t>::min();  ///< present kind; where it ends
};

}  // namespace gc
