// The renderer: takes jobs of the queue one after another, each in a process of its own, so that a crash ends one job and
// nothing else; works when it may, and sleeps at once when somebody needs the machine.
#pragma once
#include <atomic>
#include <functional>

#include "queue/journal.h"

namespace gc {

struct RendererOptions {
  /// Starts the process that does a job; its process id.
  std::function<int(std::int64_t job)> start;
  bool until_empty = true;     ///< ends when nothing waits, or when a window asks it to; else goes on until it is stopped
  double most_seconds = 0;     ///< of work; 0: no limit
  double most_bytes = 0;       ///< to be written; a job that would take more is not begun; 0: no limit
  std::function<double()> without_input;  ///< seconds; empty: as the machine says
  std::function<double()> memory_stalled; ///< 0…1; empty: as the machine says
};

struct RendererReport {
  int done = 0, failed = 0;
  bool busy_elsewhere = false;  ///< another renderer has the seat
};

/// Runs until there is nothing to do, or it is stopped. A job whose process crashes is tried once more in a fresh one, then
/// set aside with what is known.
Result<RendererReport> run_renderer(Journal& journal, const RendererOptions& options, const std::atomic<bool>& stop);

/// Whether the queue may work now, at what share of the machine, and if not why.
struct Leave {
  double share = 1;
  std::string why;  ///< "you are working"; empty: it may
  bool give_memory_back = false;  ///< a job that sleeps keeps its memory, so it has to end and begin again later
};
/// @param memory_stalled share of the last seconds in which some process waited for memory
Leave may_work(const QueueSettings& settings, const Journal::Use& use, double without_input, bool mains, int minute_of_day, double memory_stalled = 0);

}  // namespace gc
