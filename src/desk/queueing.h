// Plans that become jobs of the queue, and a job as its process does it.
#pragma once
#include "desk/desk.h"
#include "queue/journal.h"

namespace gc {

/// Puts everything that a plan makes into the queue, with a snapshot of the timeline as it is. What waited for the same file
/// before is replaced: what no longer matches goes, and what is on the shelf already is not made again.
/// @param file the person's timeline
Result<std::vector<std::int64_t>> enqueue(Journal& journal, const Plan& plan, const View& view, const Stores& stores, const fs::path& file, int priority = 0);

/// Does a job in this process and says how it ended. Stopped, the job waits again and goes on from its last whole piece.
Result<void> do_job(Journal& journal, std::int64_t id, const std::atomic<bool>& stop);

/// Removes snapshots that no job needs any more.
void sweep_snapshots(const Journal& journal);

}  // namespace gc
