// Other machines, through Slurm's own programs and a folder that all of them see. No other server is needed.
#pragma once
#include <map>
#include <set>

#include "base/files.h"

namespace gc {

/// Slurm's sbatch, squeue, scancel and sinfo.
struct Cluster {
  fs::path programs;      ///< the folder that they are in; empty: PATH
  std::string partition;  ///< empty: the usual one
};

/// Tasks of an array that are not over, by their numbers.
struct ArrayState {
  std::set<int> waiting, running;
  bool over() const { return waiting.empty() && running.empty(); }
};

/// Submits a script as an array of tasks. Preempted tasks and those of lost nodes are queued again by Slurm itself.
/// @return Slurm's number of it
Result<std::string> submit_array(const Cluster& cluster, const fs::path& script, const std::set<int>& tasks, const fs::path& log_folder);
Result<ArrayState> state_of_array(const Cluster& cluster, const std::string& array);
Result<void> cancel_array(const Cluster& cluster, const std::string& array);

struct ClusterRoom {
  int nodes = 0, idle = 0;  ///< nodes that work, and those of them that do nothing now
  int waiting = 0;          ///< tasks of anybody's that wait
};
Result<ClusterRoom> room_of(const Cluster& cluster);

/// Pieces for one task.
struct Share {
  std::vector<std::size_t> pieces;  ///< by their places in what was given
  double seconds = 0;
};
/// Shares pieces out so that the last task ends early: longest first, each to whom it makes end first (Graham, 1969: at most
/// 4/3 − 1/(3 tasks) times the best there is). Shares without pieces are left out.
std::vector<Share> share_out(const std::vector<double>& seconds, int tasks);
/// What no sharing out can be better than: the mean, or the longest piece.
double least_makespan(const std::vector<double>& seconds, int tasks);

}  // namespace gc
