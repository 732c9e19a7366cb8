// Plans that become jobs of the queue, and a job as its process does it.
#pragma once
#include "desk/remedies.h"
#include "queue/journal.h"

namespace gc {

/// Puts everything that a plan makes into the queue, with a snapshot of the timeline as it is. What waited for the same file
/// before is replaced: what no longer matches goes, and what is on the shelf already is not made again.
/// @param file the person's timeline
Result<std::vector<std::int64_t>> enqueue(Journal& journal, const Plan& plan, const View& view, const Stores& stores, const fs::path& file, int priority = 0);

/// The timeline as a file of the queue's own: media by their whole paths, so that it may lie anywhere.
Result<fs::path> snapshot_of(const TimelinePtr& timeline);

/// A job's timeline opened with the shelf and the notebook that it names.
struct OpenedJob {
  Stores stores;
  View view;
  /// For what is to be rendered of it.
  Situation situation() const;
};
Result<OpenedJob> open_job(const Job& job);

/// After a change of a timeline: jobs whose pictures nobody will see any more are cancelled, also the one that is worked on;
/// what nobody will see of others is left out. Deliveries and copies of sources stay. How many jobs were changed.
Result<int> follow_edit(Journal& journal, const View& now, const Stores& stores, const fs::path& file);

/// Does a job in this process and says how it ended. Stopped, the job waits again and goes on from its last whole piece.
Result<void> do_job(Journal& journal, std::int64_t id, const std::atomic<bool>& stop);

/// How far the queue is, and when it will be done.
struct QueueOutlook {
  int open = 0, failed = 0;
  Frames frames_left = 0;
  double seconds_left = 0;                  ///< of work, as it is said
  double soonest_s = 0, latest_s = 0;       ///< the same, as likely as not within: one in ten is below, one in ten above
  std::optional<double> frames_a_second;    ///< of the job that is worked on, since it began
  /// "4 to be done, 212 frames, about 3 min of work at 1.2 frames a second; ends between 18:40 and 18:44 if nothing holds it up."
  /// Without when it ends where nothing is being done.
  std::string sentence(std::int64_t now, bool works) const;
};
/// Paused jobs are not in it. `ratios` as Notebook::price_ratios().
QueueOutlook outlook(const std::vector<Job>& jobs, const std::vector<double>& ratios, double seconds_now);

/// Removes snapshots that no job needs any more.
void sweep_snapshots(const Journal& journal);

}  // namespace gc
