// What a plan chooses among, apart from timelines and shelves: places that can be played in several ways, the works that
// these ways need, and a judge that plays what was chosen.
//
//   Problem p;
//   p.works = {{.id = "render", .seconds = 4}, {.id = "tap", .seconds = 2}};
//   p.units = {{.ways = {{1.4, {}}, {0.9, {1}}, {0.2, {0}}}}};   // live, with the cached stack, rendered
//   Chooser chooser(p, judge);
//   Choice c = chooser.least_work({});   // the least that leaves nothing that drops
#pragma once
#include <cstdint>
#include <limits>
#include <map>
#include <string>
#include <vector>

#include "plan/mip.h"

namespace gc {

/// How a place may be played.
struct Way {
  double load = 0;                  ///< mean load of its frames: says which of two ways is the lighter
  std::vector<std::size_t> works;   ///< that have to be done for it; none: as it is
};

/// A stretch of the timeline in which everything costs alike. Ways from the heaviest to the lightest.
struct Unit {
  std::vector<Way> ways;
};

/// Something to be made, or a slip to be opened.
struct WorkItem {
  std::string id;
  double seconds = 0;      ///< of the machine
  double bytes = 0;
  double weight = 0;       ///< seconds that it counts as: more for what will likely be changed again. 0: `seconds`
  bool must = false;       ///< the person's word: it is made
  bool never = false;      ///< the person's word: it is not
  std::size_t due = 0;     ///< the first of the times in Limits::until by which it has to be done
  double counts() const { return weight > 0 ? weight : seconds; }
};

struct Problem {
  std::vector<Unit> units;
  std::vector<WorkItem> works;
};

/// What playing says of a stretch.
struct Judged {
  double drops = 0;     ///< expected
  double any = 0;       ///< probability that any frame of it is dropped
};

/// Plays units in the ways chosen. The same for the same question. Lighter ways never make more drops.
class Judge {
 public:
  virtual ~Judge() = default;
  /// Stretches of units that do not affect each other when played so: between them the pipeline rests. Those in which
  /// nothing can be dropped are left out. First and last unit of each, in order.
  virtual std::vector<std::pair<std::size_t, std::size_t>> runs(const std::vector<std::size_t>& ways) = 0;
  /// Plays units first to last; only their ways are looked at.
  virtual Judged play(std::size_t first, std::size_t last, const std::vector<std::size_t>& ways) = 0;
};

struct Limits {
  double seconds = kNoLimit, bytes = kNoLimit;
  /// Of several times by which works are due, in order: seconds of work that can be done until each. Works done in the order
  /// of their times are all on time exactly when none of these sums is overdrawn (J. R. Jackson, 1955).
  std::vector<double> until;
  double thinking = 5;  ///< processor seconds after which the best so far is given
  double drop_seconds = kNoLimit;  ///< for best_trade: as many seconds of the machine as one dropped frame is as bad as
};

struct Choice {
  bool possible = false;            ///< within limits and the person's word
  std::vector<bool> works;          ///< which are done
  std::vector<std::size_t> ways;    ///< of each unit, the lightest that the works allow
  double seconds = 0, bytes = 0, counts = 0;
  double drops = 0;                 ///< by the judge
  double bound = 0;                 ///< what is least cannot be less: `counts` of the least work, drops of the least drops
  double gap = 0;                   ///< (found − bound) ÷ found, at least 0
  int rounds = 0;                   ///< of solving and playing
};

/// Chooses exactly: an integer program says what is least, the judge plays it, and what drops comes back as a condition
/// that the next answer meets (J. N. Hooker, G. Ottosson, "Logic-based Benders decomposition", 2003). When nothing comes
/// back any more, no choice is better. Conditions hold for every question about the same problem, so asking again is cheap.
///
/// It rests on two things that simulation bears out, but for a few of a thousand cases: a lighter way never makes more drops,
/// and units played heavy together drop at least what they drop each by itself, since they share one read-ahead. What these
/// few would do needlessly is taken off again at the end.
class Chooser {
 public:
  /// @param wavers probability of a drop from which a stretch counts as one that may drop
  Chooser(const Problem& problem, Judge& judge, double wavers = 0.1);

  /// The least work after which nothing drops that can be helped. Where even the lightest ways drop, that is forgiven.
  Choice least_work(const Limits& limits);
  /// The fewest drops within limits; of equals the least work.
  Choice least_drops(const Limits& limits);
  /// What is least in all within limits: work, and drops as `limits.drop_seconds` weighs them. `bound` and `gap` are of that
  /// sum, in drops.
  Choice best_trade(const Limits& limits);
  /// What is left when these works are done and no others.
  Choice with(const std::vector<bool>& works);

  /// Whether no stretch of it may drop that could be helped.
  bool holds(const Choice& choice);
  /// A choice's works in the order in which they take most from what drops for their time, so that whoever stops has the
  /// best. What must be made comes first.
  std::vector<std::size_t> in_order(const Choice& choice);
  /// The latest problem that was solved, for other solvers.
  const Mip& latest() const { return latest_; }
  /// The problem, for searches of the person's word without it; conditions stay.
  Problem& problem() { return problem_; }

 private:
  /// At least one of the units is played in a lighter way than this, or so many drops are left.
  struct Condition {
    std::vector<std::pair<std::size_t, std::size_t>> ways;  ///< unit and way
    double drops = 0;
    bool bad = false;  ///< it does not hold
  };
  Judged played(std::size_t first, std::size_t last, const std::vector<std::size_t>& ways);
  bool bad(std::size_t first, std::size_t last, const Judged& j);
  Choice finish(const std::vector<bool>& works);
  /// Conditions from playing a choice; false when there was nothing new.
  bool learn(const std::vector<std::size_t>& ways, bool hold);
  /// Finds the few units of a stretch that make it bad, everything else being as light as can be, half by half so that long
  /// stretches take little playing; each becomes a condition. Whether there were any.
  bool blame(const std::vector<std::size_t>& ways, std::size_t first, std::size_t last);
  Mip program(const Limits& limits, bool hold) const;
  Choice search(const Limits& limits, bool hold);
  /// The same without works that playing does not need: now and then a unit that would drop by itself does not among others,
  /// since what is read ahead there is paced otherwise.
  Choice without_needless(Choice choice);
  /// Drops that a counted second is as bad as.
  double work_as_drops(const Limits& limits) const;

  Problem problem_;
  Judge& judge_;
  double wavers_;
  std::vector<bool> touched_;          ///< units that lie in a stretch that drops when nothing is done
  std::vector<std::size_t> lightest_;  ///< way of each unit
  std::vector<std::vector<double>> alone_;  ///< of each unit and way, drops when everything else is as light as can be
  std::vector<Condition> conditions_;
  std::map<std::pair<std::size_t, std::vector<std::size_t>>, Judged> known_;
  Mip latest_;
};

}  // namespace gc
