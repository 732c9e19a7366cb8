// The pacing rule: which frame to start next, and when. The player asks it on the real clock, the forecast asks
// the same code in its simulation. docs/model.md explains each part with an example.
//
// Times are milliseconds from the moment the clock starts. Frame n, from 0, is due at n × period.
//
// A frame is started only when it can arrive in time: the rule keeps a smoothed mean of the time that a frame
// occupies a worker, and the mean deviation from it, and counts with the mean plus twice the deviation. When
// frames cannot keep up, it falls to an even cadence of m frames out of n, and climbs again when there is time.
//
// The rule is a template. With Real = double it paces one playout. With Real = Eight it paces eight playouts side
// by side, each for itself, as the forecast plays them (base/side_by_side.h). A Truth is then eight answers, and
// `choose` takes for each playout one of two values. Frame numbers are whole numbers in floating point, exact up
// to 2^51.
#pragma once
#include <array>
#include <cstdint>
#include <limits>
#include <span>
#include <type_traits>

#include "base/side_by_side.h"

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

/// So many frames before a cut, as frames are fetched, the player begins to open what is read from there on: two seconds.
/// @param period_ms from one frame to the next
inline constexpr std::int64_t prepared_ahead(double period_ms) {
  const auto two_seconds = static_cast<std::int64_t>(2000 / period_ms + 0.5);
  return two_seconds < 48 ? 48 : two_seconds;
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

/// What skipping so many frames in a row adds to the next one that is made, on the mean.
template <class Real>
GC_INLINE Real skip_adds(Real skipped, Real decode, Real neighbour, Real neighbours) {
  return lesser(skipped, Real(static_cast<double>(kMostCatchUp))) * decode +
         lesser(skipped, neighbours) * neighbour;
}

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
    return skip_adds<double>(skipped, decode, neighbour_fetch + neighbour, neighbours);
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

/// A decision: the frame to start, the time before which it must not be started, and the first frame of the kind
/// that it belongs to.
template <class Real>
struct StartOf {
  Real frame{}, at_ms{}, kind{};
};
/// How a finished frame spent its worker's time, ms. `kind` is that of the decision to make it.
template <class Real>
struct SpentOf {
  Real waited{};   ///< for its turn to fetch
  Real fetch{};    ///< of a frame that is reached from the one before it
  Real process{};  ///< without what a skip before it added
  Real kind{};     ///< first frame of its kind
};

template <class Real>
class PacerOf {
 public:
  using Truth = TruthOf<Real>;
  using Start = StartOf<Real>;
  using Spent = SpentOf<Real>;

  explicit PacerOf(Pace pace)
      : ahead_(Real(pace.horizon)), leave_(Real(-kNever)), pace_(pace), per_period_(1 / pace.period_ms) {
    set_cadence(always<Real>(), Real{});
  }

  /// The frame that a worker which is free at `free_ms` should make next. `kinds`, in order, say what is
  /// known beforehand; the same ones at every call.
  GC_INLINE Start next(Real free_ms, Kinds kinds) {
    enter(last_ + 1.0, always<Real>(), kinds);
    // A slow cadence must not step over a cheaper kind: its first frame is looked at by its own figures.
    Real n = lesser(on_grid(last_ + 1.0), leave_);
    for (Truth again = enter(n, always<Real>(), kinds); any(again); again = enter(n, again, kinds))
      n = choose(again, lesser(on_grid(n), leave_), n);
    Real at = greater(free_ms, due(n) - horizon_ms(n));
    const Real slack = due(n) - at - need_ms(n);
    const Truth behind = slack < 0.0;
    const Truth ahead = other(behind) & (cadence_ > 0.0);
    if (const Truth much = ahead & (slack > 1.5 * pace_.period_ms); may_change(behind, much)) {
      const Real can = sustainable();
      const Truth changes = (behind & (can > cadence_)) | (much & (can < cadence_));
      if (any(changes)) set_cadence(changes, can);
    }
    if (any(behind)) {
      // What is known of this kind says nothing beyond its end: each kind is looked at in turn, from its first frame on.
      n = choose(behind, lesser(on_grid(first_in_time(free_ms)), leave_), n);
      for (Truth again = enter(n, behind, kinds); any(again); again = enter(n, again, kinds))
        n = choose(again, lesser(on_grid(first_in_time(free_ms)), leave_), n);
      at = choose(behind, greater(free_ms, due(n) - horizon_ms(n)), at);
    }
    if (const Truth climbs = ahead & (cadence_ > 0.0) & (slack > 0.5 * pace_.horizon * pace_.period_ms);
        any(climbs))
      set_cadence(climbs, cadence_ - 1.0);
    last_ = n;
    return {n, at, kind_};
  }

  /// The frames before n have been started already, before the clock ran.
  void skip_to(double n) { last_ = Real(n - 1); }

  /// Whether skipping costs anything as far as is known.
  Truth skips() const { return skips_; }
  /// A worker has finished a frame: the rule learns what it took. `whose`: in which of the playouts that is so.
  /// `skip`: for each playout, what skipping frames of that frame's kind costs; `skips` says where that is anything.
  GC_INLINE void finished(const Spent& spent, Truth whose, Truth skips, const SkipCost* const* skip) {
    whose = whose & (spent.kind == kind_);  // a frame of an earlier kind says nothing of this one
    // Waiting for the turn to fetch counts, but no more than the other workers' fetches take as a rule: behind one
    // that opens a file the wait is long once, and says nothing of the next frame.
    const Real turn = (pace_.workers - 1.0) * spent.fetch;
    const Real occupied_ms = lesser(spent.waited, turn) + spent.fetch + spent.process;
    if (const Truth learns = whose & (skips_ | skips); any(learns)) learn_skips(learns, skip);
    const Truth goes_on = whose & seen_;
    // Two in a row that differ alike are a change of cost, and the rule follows at once.
    const Real less = lesser(occupied_ms, before_), more = greater(occupied_ms, before_);
    const Real apart = more - less;
    const Truth changed =
        ((less > 1.4 * mean_) | (more < 0.65 * mean_)) & (apart < 0.25 * (occupied_ms + before_));
    // One frame that was held up from outside says little about the next.
    const Real error = lesser(occupied_ms, 3.0 * mean_) - mean_;
    const Real mean = choose(changed, (occupied_ms + before_) / 2.0, mean_ + 0.2 * error);
    const Real deviation =
        choose(changed, apart / 2.0, deviation_ + 0.2 * (greater(error, -error) - deviation_));
    mean_ = choose(whose, choose(goes_on, mean, occupied_ms), mean_);
    deviation_ = choose(whose, choose(goes_on, deviation, Real{}), deviation_);
    before_ = choose(whose, occupied_ms, before_);
    seen_ = seen_ | whose;
  }

  /// Whether playout i keeps up with ease at the decision `next`: no frame is skipped, and the frame waits for its
  /// place in the read-ahead, not for a worker.
  bool at_ease(const Start& next, int i) const {
    return get(cadence_, i) == 0 && get(next.frame, i) == get(last_, i) &&
           get(next.at_ms, i) == get(last_, i) * pace_.period_ms - get(ahead_, i) * pace_.period_ms;
  }
  /// Whether that goes on, with no frame late, for as long as frames take at most `most_ms`.
  bool stays_at_ease(double most_ms, int i) const {
    // The mean and its deviation are never more than the dearest of them.
    return most_ms <= pace_.workers * pace_.period_ms &&
           greater(get(mean_, i), most_ms) + 2 * greater(get(deviation_, i), most_ms) + 2 * pace_.period_ms <=
               get(ahead_, i) * pace_.period_ms;
  }
  /// Goes on at frame n of the same kind, as if every frame before it had been decided with the same ease.
  void pass_to(double n, Start& next, int i) {
    set(last_, i, n), set(next.frame, i, n);
    set(next.at_ms, i, n * pace_.period_ms - get(ahead_, i) * pace_.period_ms);
    set(next.kind, i, get(kind_, i));
  }

  Cadence cadence() const { return kCadences[static_cast<std::size_t>(cadence_)]; }
  /// From now on other kinds are known. They are the same up to the frame that was decided last.
  void move_to(Kinds kinds) {
    const std::size_t k = begun(last_, kinds);
    leave_ = end_of(k, kinds), ahead_ = ahead_of(k, kinds), begun_ = static_cast<double>(k);
  }
  /// Whether both decide alike from here on: the same place and cadence, figures within `tolerance` ms.
  bool goes_on_like(const PacerOf& other, double tolerance) const {
    bool alike = true;
    in_both(*this, other, [&](const auto& a, const auto& b) {
      if constexpr (std::is_same_v<decltype(a), const bool&>) alike = alike && a == b;
      else alike = alike && (a == b || (a < b ? b - a : a - b) <= tolerance);
    });
    return alike;
  }

  /// Takes playout i over from one that is kept by itself, or puts it there.
  void take(int i, const PacerOf<double>& from) {
    in_both(*this, from, [i](auto& here, const auto& there) { set(here, i, there); });
  }
  void put(int i, PacerOf<double>& to) const {
    in_both(*this, to, [i](const auto& here, auto& there) { there = get(here, i); });
  }

 private:
  template <class>
  friend class PacerOf;
  static constexpr double kNever = std::numeric_limits<double>::infinity();
  static constexpr int kCount = SideBySide<Real>::kCount;

  /// Everything that a playout has of its own.
  template <class A, class B, class Each>
  static void in_both(A& a, B& b, Each each) {
    each(a.last_, b.last_), each(a.kind_, b.kind_), each(a.leave_, b.leave_), each(a.ahead_, b.ahead_);
    each(a.begun_, b.begun_);
    each(a.cadence_, b.cadence_), each(a.shown_, b.shown_), each(a.of_, b.of_);
    each(a.per_shown_, b.per_shown_), each(a.per_of_, b.per_of_);
    each(a.share_, b.share_), each(a.faster_, b.faster_);
    each(a.mean_, b.mean_), each(a.deviation_, b.deviation_), each(a.before_, b.before_);
    each(a.decode_, b.decode_), each(a.neighbour_, b.neighbour_), each(a.neighbours_, b.neighbours_);
    each(a.skips_, b.skips_), each(a.seen_, b.seen_);
  }

  Real due(Real n) const { return n * pace_.period_ms; }
  /// Within how long frame n will surely be done, once a worker takes it on.
  GC_INLINE Real need_ms(Real n) const {
    const Real need = mean_ + 2.0 * deviation_;
    return any(skips_) ? need + skip_adds<Real>(n - last_ - 1.0, decode_, neighbour_, neighbours_) : need;
  }
  /// How many kinds have begun by a frame. `at_least`: as many are known to have begun.
  static std::size_t begun(double frame, Kinds kinds, std::size_t at_least = 0) {
    std::size_t k = at_least;
    while (k < kinds.size() && static_cast<double>(kinds[k].from) <= frame) ++k;
    return k;
  }
  static double end_of(std::size_t begun, Kinds kinds) {
    return begun < kinds.size() ? static_cast<double>(kinds[begun].from) : kNever;
  }
  /// Frame n is looked at next in the playouts `whose`. Where it is the first one looked at of a new kind, the rule
  /// takes over what is known of that kind. True for those playouts.
  GC_INLINE Truth enter(Real n, Truth whose, Kinds kinds) {
    whose = whose & (n >= leave_);
    return any(whose) ? enter_now(n, whose, kinds) : whose;
  }
  Truth enter_now(Real n, Truth whose, Kinds kinds) {
    for (int i = 0; i < kCount; ++i) {
      if (!get(whose, i)) continue;
      const std::size_t k = begun(get(n, i), kinds, static_cast<std::size_t>(get(begun_, i)));
      set(begun_, i, static_cast<double>(k));
      set(leave_, i, end_of(k, kinds)), set(ahead_, i, ahead_of(k, kinds));
      if (k == 0) {
        set(whose, i, false);
        continue;
      }
      const CostKind& kind = kinds[k - 1];
      set(kind_, i, static_cast<double>(kind.from));
      set(mean_, i, kind.occupied_ms), set(before_, i, kind.occupied_ms);
      set(deviation_, i, kind.deviation_ms), set(seen_, i, true);
      set_skip(i, kind.skip);
    }
    // A cheaper kind is played at its own rate at once. A dearer one may first use up what is made ahead.
    const Real faster = sustainable();
    if (any(whose & (faster < cadence_))) set_cadence(whose & (faster < cadence_), faster);
    return whose;
  }
  /// How many frames to be ahead in the kind before kinds[i]: `far` where that kind, or the one after it, takes more
  /// time than the workers have.
  int ahead_of(std::size_t i, Kinds kinds) const {
    const double most = pace_.period_ms * pace_.workers;
    const bool more = pace_.far > pace_.horizon && i > 0 &&
                      (kinds[i - 1].occupied_ms > most || (i < kinds.size() && kinds[i].occupied_ms > most));
    return more ? pace_.far : pace_.horizon;
  }
  void set_skip(int i, const SkipCost& skip) {
    set(decode_, i, skip.decode), set(neighbour_, i, skip.neighbour_fetch + skip.neighbour);
    set(neighbours_, i, skip.neighbours), set(skips_, i, skip.any());
  }
  void learn_skips(Truth whose, const SkipCost* const* skip) {
    for (int i = 0; i < kCount; ++i)
      if (get(whose, i)) set_skip(i, *skip[i]);
  }
  void set_cadence(Truth whose, Real to) {
    cadence_ = choose(whose, to, cadence_);
    for (int i = 0; i < kCount; ++i) {
      if (!get(whose, i)) continue;
      const Cadence& c = kCadences[static_cast<std::size_t>(get(to, i))];
      set(shown_, i, c.shown), set(of_, i, c.of);
      set(per_shown_, i, 1.0 / c.shown), set(per_of_, i, 1.0 / c.of);
      const auto k = static_cast<std::size_t>(get(to, i));
      // There is none slower than the last, and none faster than the first.
      set(share_, i, k + 1 < kCadences.size() ? kShares[k] : 0.0);
      set(faster_, i, k > 0 ? kShares[k - 1] : kNever);
    }
  }
  /// The first frame after the last one that can still arrive when a worker takes it on at `free_ms`. Skipping to it
  /// adds to what it needs, which may push it on; that is bounded, so the search ends.
  GC_INLINE Real first_in_time(Real free_ms) const {
    const Real least = greater(last_ + 1.0, kind_);
    Real n = least;
    for (;;) {
      const Real ready = free_ms + need_ms(n);
      const Real m = choose(ready < 0.0, least, whole(greater(ready, Real{}) * per_period_) + 1.0);
      const Truth later = m > n;
      n = choose(later, m, n);
      if (!any(later & skips_)) return n;
    }
  }
  /// A slow frame has to be started earlier than the buffer alone would have it.
  GC_INLINE Real horizon_ms(Real n) const {
    return greater(ahead_ * pace_.period_ms, need_ms(n) + 2.0 * pace_.period_ms);
  }
  /// The first frame from n on that the cadence shows. The k-th of them, from 1, is the last one before
  /// k · of / shown; whole numbers lie at least 1 / of apart there, half of which keeps rounding harmless.
  GC_INLINE Real on_grid(Real n) const {
    const Real k = whole((n * shown_ + 0.5) * per_of_) + 1.0;
    return whole((k * of_ - 0.5) * per_shown_);
  }
  /// Whether any playout may have to change its cadence: fall where it is `behind`, climb where it has `much` time.
  /// Most keep theirs, and this costs less than working the cadence out.
  GC_INLINE bool may_change(Truth behind, Truth much) const {
    if (any(skips_)) return any(behind | much);
    const double most = pace_.period_ms * pace_.workers;
    return any((behind & (share_ * mean_ > most)) | (much & other(faster_ * mean_ > most)));
  }
  /// Fastest cadence that the workers keep up with at the present cost of a frame and of skipping.
  GC_INLINE Real sustainable() const {
    const double most = pace_.period_ms * pace_.workers;
    const bool skip = any(skips_);
    Real i{};
    Truth too_fast = always<Real>();
    for (std::size_t k = 0; k + 1 < kCadences.size(); ++k) {
      Real ms = mean_;
      if (skip) ms = ms + skip_adds<Real>(Real(kGaps[k]), decode_, neighbour_, neighbours_);
      too_fast = too_fast & (kShares[k] * ms > most);
      i = i + choose(too_fast, Real(1), Real{});
    }
    return i;
  }

  Real last_ = Real(-1);
  Real kind_{}, ahead_, leave_;  ///< present kind; how far to be ahead in it, and where it ends
  Real begun_{};                 ///< kinds that have begun
  Real cadence_{}, shown_{}, of_{}, per_shown_{}, per_of_{};
  Real share_{}, faster_{};  ///< of all frames that the cadence shows, and the next faster one
  Real mean_{}, deviation_{}, before_{};
  Real decode_{}, neighbour_{}, neighbours_{};  ///< what skipping adds
  Truth skips_{}, seen_{};
  Pace pace_;
  double per_period_;
};

/// How a finished frame spent its worker's time, ms; see SpentOf.
struct Occupancy {
  double waited = 0, fetch = 0, process = 0;
  std::int64_t kind = 0;
};
struct FrameStart {
  std::int64_t frame = 0;
  double at_ms = 0;       ///< not before this time
  std::int64_t kind = 0;  ///< first frame of its kind
};

/// The rule of one playout, with frames counted in whole numbers.
class Pacer {
 public:
  explicit Pacer(Pace pace) : rule_(pace) {}
  FrameStart next(double free_ms, Kinds kinds = {}) {
    const StartOf<double> s = rule_.next(free_ms, kinds);
    return {static_cast<std::int64_t>(s.frame), s.at_ms, static_cast<std::int64_t>(s.kind)};
  }
  void finished(const Occupancy& o, const SkipCost& skip = {}) {
    const SkipCost* const skips[] = {&skip};
    rule_.finished({o.waited, o.fetch, o.process, static_cast<double>(o.kind)}, true, skip.any(), skips);
  }
  void skip_to(std::int64_t n) { rule_.skip_to(static_cast<double>(n)); }
  Cadence cadence() const { return rule_.cadence(); }

 private:
  PacerOf<double> rule_;
};

}  // namespace gc
