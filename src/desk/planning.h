// Planning a timeline that is open: the person's word about it, carrying a plan out, and plans as files.
#pragma once
#include "desk/desk.h"
#include "queue/carry_out.h"

namespace gc {

/// What a person has said about the review of one timeline. Kept beside the notebook, never in the timeline's file.
struct Wishes {
  std::string by;                    ///< "10:00" or "2026-11-30T10:00"; empty: no clock
  struct Part {
    FrameRange range;
    std::string by;
  };
  std::vector<Part> reviews;         ///< parts of it that are watched at times of their own; then `by` counts for nothing
  std::optional<double> disk_bytes, most_seconds;  ///< that may be written, and spent
  std::vector<BusyHours> busy;       ///< when somebody works at the machine
  double idle_share = 0.3;
  std::optional<double> drop_seconds;  ///< machine seconds that one dropped frame is as bad as; none: none may be left
  std::set<std::string> pins, forbids, allow;  ///< ids of remedies, kinds, segments
};
Json to_json(const Wishes& w);
/// Errors name the field that cannot be understood.
Result<Wishes> wishes_from(const Json& j, const std::string& where);
Result<Wishes> read_wishes(const fs::path& file);
/// Where the wishes for a timeline are kept.
fs::path wishes_file(const Timeline& timeline);
/// Those that are kept; none when there are none, or none that can be read.
Wishes wishes_of(const Timeline& timeline);
Result<void> keep_wishes(const Timeline& timeline, const Wishes& wishes);

/// A part and its time as a person writes it: "0-240@10:00", frames or timecodes.
Result<Wishes::Part> part_from(const std::string& text, const View& view);
std::string text_of(const Wishes::Part& part, const View& view);

/// Options for planning as the wishes have it.
Result<PlanOptions> plan_options(const Wishes& wishes);
/// With how likely each segment is changed again before the review.
void know_settledness(PlanOptions& options, const Timeline& timeline);
PlanOptions plan_options(const Timeline& timeline, const Stores& stores);

/// The plan. Where it would render what nobody has looked at yet, a few frames of each are tried first, for about four seconds
/// at a time, and the plan is made again with what they took, three times at most: its times and sizes are then known by sight.
Result<Plan> tried_plan(const View& view, const Stores& stores, FrameRange range, const PlanOptions& options,
                        const std::function<bool()>& stopped);

/// With the slips that a plan opens, for who has only the rest of it done elsewhere; the same timeline when it opens none.
TimelinePtr with_slips_of(const Plan& plan, TimelinePtr timeline);

struct CarriedOut {
  PrerenderReport made;   ///< of everything together
  TimelinePtr timeline;   ///< with the slips that the plan opens; the same when it opens none
  std::vector<std::string> left_out;  ///< ids of what is not there any more
};
/// Makes what a plan has, in its order. What the timeline was changed in since is left out; what is on the shelf already
/// stays. `progress` as in prerender(), over the whole plan.
Result<CarriedOut> carry_out(const Plan& plan, const View& accepted, const View& now, const Stores& stores,
                             const std::function<bool(const PrerenderProgress&)>& progress);

/// A plan as a file that another seat carries out, or that another plan is compared with.
Json plan_file(const Plan& plan, const View& view);
/// Ids of the remedies in such a file.
Result<std::vector<std::string>> remedies_in(const fs::path& file);
/// What of a plan is new, gone or other than in a file: `{added[], removed[], seconds, bytes, drops_after}`, the last three
/// as this plan − the other.
Result<Json> compared(const Plan& plan, const View& view, const fs::path& other);

}  // namespace gc
