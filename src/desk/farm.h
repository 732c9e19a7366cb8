// Jobs of the queue done by other machines. A parcel is a folder that both sides see: the snapshot of the timeline, what each
// task has to make, and `incoming/`, where nodes put whole pieces. Only this seat takes pieces onto its shelf, each after its
// checksums.
#pragma once
#include "desk/desk.h"
#include "queue/cluster.h"
#include "queue/journal.h"
#include "queue/renderer.h"

namespace gc {

struct FarmOptions {
  Cluster cluster;
  fs::path shared;                           ///< a folder that this seat and the nodes see
  std::map<std::string, std::string> roots;  ///< how paths begin here → how they begin on the nodes
  std::string program;                       ///< gclk on the nodes; empty: where it is here
  int tasks = 0;                             ///< at most so many; 0: as many as nodes work
  int rounds = 3;     ///< what a node did not deliver is sent again so often, in all
  double look_s = 2;  ///< between two looks at the cluster
  std::string nodes;  ///< the nodes' seat profile, as find_profile() takes it; empty: they count as fast as this seat
};

struct FarmQuote {
  double here_s = 0, there_s = 0;  ///< said to take on this seat, and on the cluster without waiting for its other users
  int tasks = 0;
  ClusterRoom room;
  std::uint64_t bytes_back = 0;  ///< of pieces that move to this seat
};
/// What sending a job takes against doing it here.
Result<FarmQuote> quote_farm(const Job& job, const FarmOptions& options);

struct FarmReport {
  std::size_t pieces = 0, known = 0;  ///< taken onto the shelf; there already
  int sent_again = 0;                 ///< tasks whose node was lost, refused or delivered too little
  std::vector<std::string> refused;   ///< pieces and tasks, with why
  bool whole = false;                 ///< everything that the job is of is on the shelf
  bool cancelled = false;
  double seconds = 0;
};
/// Sends a job, takes what comes in, sends again what does not come. What came stays, however it ends. The parcel is removed
/// when everything came.
/// @param progress told frames done and all; false cancels, on the cluster too
Result<FarmReport> farm_out(const Job& job, const FarmOptions& options, const std::function<bool(Frames done, Frames all)>& progress);

/// Sends everything that waits in the queue, one job after another, while no other renderer has this seat. A job that does not
/// come whole waits again, for this seat too.
/// @param progress told the job, frames done and all; false stops
Result<RendererReport> run_on_cluster(Journal& journal, const FarmOptions& options, const std::function<bool(const Job&, Frames, Frames)>& progress);

/// A node's part: makes what task `number` of the parcel has to make, piece by piece. Refuses when the renderer is of another
/// version, when a medium has other content here, or when a device does not draw as it should. A task that is begun again
/// goes on after its last whole piece.
/// @return frames made now
Result<Frames> do_parcel(const fs::path& parcel, int number, const std::atomic<bool>& stop);

}  // namespace gc
