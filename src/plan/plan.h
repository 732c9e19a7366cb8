// The least work that makes a review play, in the time and on the disk there is, without hiding what is judged.
#pragma once
#include <set>

#include "plan/mip.h"
#include "plan/schedule.h"
#include "remedy/remedy.h"

namespace gc {

/// One line of a plan: something to be made, or a slip to be opened.
struct Remedy {
  std::string id;          ///< by which it is pinned or forbidden: "tap:ky-03:2", "render:240-480"
  Proposal proposal;       ///< what is to be done
  FrameRange range;        ///< frames of the timeline that it bears on, from the first to the last
  std::string segment;     ///< id of its main segment
  std::string segment_name;
  double render_seconds = 0, modelled_seconds = 0;  ///< as in Plan
  std::uint64_t bytes = 0;
  double drops_saved = 0;  ///< that would be dropped if this alone were left out
  std::string reason;      ///< one sentence
  bool pinned = false;
  bool must_watch = false;  ///< it bears on a segment that only playing can judge
  double begins = 0, ends = 0;  ///< seconds from when the plan was made
  bool renders_frames() const;  ///< else it makes a part of them, or opens a slip
};

/// So much is left when so much has been spent.
struct FrontierPoint {
  double seconds = 0;
  std::uint64_t bytes = 0;
  double drops = 0;
};

/// What one word of the person's costs: how much less work it would be without it.
struct WordCost {
  std::string word;       ///< "forbid proxy"
  double seconds = 0;     ///< less without it; negative: the plan would take more
  double drops = 0;       ///< fewer without it
};

/// A part of the timeline that somebody comes to watch.
struct Review {
  FrameRange range;
  std::int64_t at = 0;  ///< seconds since 1970
  // Of a plan:
  double ready_in = 0;           ///< seconds until what it needs is done
  double ready_probability = 1;  ///< that it is done by then
  double drops = 0;              ///< expected in it afterwards
};

struct Plan {
  std::vector<Remedy> remedies;  ///< in the order in which they are made
  Forecast before;
  Forecast after;  ///< as it will be once the plan has run
  double render_seconds = 0;  ///< as said: what costs say × how renders have lately gone on this seat
  double modelled_seconds = 0;
  std::uint64_t bytes = 0;
  Frames frames = 0;  ///< of finished pictures
  /// Of the drops that are left, those that only other programs on this machine cause; 0 also where fewer than one is left.
  double drops_by_others = 0;
  bool holds = true;     ///< whether nothing spills or wavers any more
  bool priced = true;    ///< whether it is known what a render takes on this seat
  std::string sentence;  ///< the answer on the first screen

  double bound_seconds = 0;  ///< no plan that holds takes less (as far as drops matter: no plan leaves fewer, `bound_drops`)
  double bound_drops = 0;
  double gap = 0;            ///< of this plan against the bound, relative
  int rounds = 0;            ///< of solving and playing
  double thought_seconds = 0;
  double holds_probability = 1;  ///< share of the trials in which nothing of the review is dropped afterwards
  double drop_seconds = kNoLimit;  ///< as asked: machine seconds that one dropped frame is as bad as
  std::vector<Restless> must_watch;  ///< segments that can be judged only in real time, with the place that shows why
  double margin = 0;             ///< how much dearer everything may be than today: the seat's slow days

  std::optional<std::int64_t> review_at;  ///< seconds since 1970; of several the last
  std::vector<Review> reviews;            ///< where there are several, in the order of their times
  std::int64_t made_at = 0;
  double ready_in = 0;             ///< seconds until all of it is done; kNever when it never is
  double ready_in_high = 0;        ///< the same in nine of ten cases
  double ready_probability = 1;    ///< that it is done by the review
  bool fits = true;                ///< whether what is needed can be done in time and on the disk there is
  double short_seconds = 0;        ///< machine time that is missing
  double short_bytes = 0;
  std::vector<std::string> ways_out;  ///< what would do, in sentences, when it does not fit
  std::vector<FrontierPoint> frontier;  ///< fewest drops for so many seconds, from nothing to all
  std::vector<FrontierPoint> prefixes;  ///< what is left after each remedy in turn, nothing done first
  std::vector<WordCost> words;
  std::string lp;  ///< the latest problem in LP format, when asked for

  /// Finished frames that are made.
  std::vector<FrameRange> ranges() const;
};

struct PlanOptions {
  double most_drops = 0.5;  ///< expected drops that may be left in the whole range
  double margin = 0.10;     ///< the plan must hold even when everything costs this much more, or as much as on the seat's own slow days
  std::optional<std::int64_t> review_at;  ///< when it must play, seconds since 1970
  /// Several reviews, one after another: each part is due by its own time, and what lies in none has no need to play.
  std::vector<Review> reviews;
  std::int64_t now = 0;     ///< seconds since 1970; 0: this moment
  double disk_bytes = kNoLimit;
  double most_seconds = kNoLimit;  ///< of machine time that may be spent
  /// How bad a dropped frame is: as many seconds of the machine. kNoLimit: none may be left, whatever it takes.
  double drop_seconds = kNoLimit;
  std::vector<BusyHours> busy;
  double idle_share = 0.3;
  std::set<std::string> pins, forbids;  ///< ids of remedies, kinds, segments, or "kind:segment"
  /// Kinds among which it chooses: those that hide nothing. "scale" hides, and is taken only where it is named here and
  /// truth allows it.
  std::set<std::string> kinds{"render", "tap", "bake", "mezzanine"};
  bool frontier = true;
  bool words = false;       ///< what each word costs
  bool lp = false;
  double thinking = 2;      ///< processor seconds for choosing
  /// The chance that a segment is changed before the review at an effect below the n-th of its stack, which a picture kept
  /// after n effects would not outlive.
  std::function<double(const std::string& segment, std::size_t below)> unsettled;
};

/// Makes a plan for frames of the situation's timeline.
Plan make_plan(const Situation& situation, FrameRange range, const PlanOptions& options);

/// Seconds as a person says them: "40 s", "3 min 20 s".
std::string duration_text(double seconds);
std::string bytes_text(std::uint64_t bytes);
/// "9:20", or with the day when it is not today's: "Tue 9:20". Of the seat's own clock.
std::string clock_text(std::int64_t at, std::int64_t now);
/// Seconds since 1970 of "10:00" (the next time that the clock says so) or "2026-11-30T10:00"; nothing when it is neither.
std::optional<std::int64_t> clock_time(const std::string& text, std::int64_t now);

}  // namespace gc
