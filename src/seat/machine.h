// What this machine can do, measured: memory bandwidth, how long it keeps its speed, the accelerator.
#pragma once
#include <functional>
#include <string>

#include "base/error.h"
#include "base/json.h"

namespace gc {

/// Asked between steps; false stops.
using KeepGoing = std::function<bool()>;

/// MB (10^6 bytes) a second over all processors together, best of the runs, as STREAM counts them (McCalpin,
/// 1995): copy moves 16 bytes an element of 8 bytes, triad 24; what the write allocates is not counted.
struct MemoryBandwidth {
  double copy_mb_s = 0, triad_mb_s = 0;
  std::size_t array_bytes = 0;  ///< of each of the three arrays
};
/// Arrays of `megabytes` each; they should be at least four times the last-level cache.
MemoryBandwidth measure_memory(int threads, int megabytes, int runs = 8);

/// All processors at fixed arithmetic for `seconds`: does the speed last?
struct Endurance {
  double seconds = 0;
  double burst = 0,
         sustained = 0;  ///< work a second, relative to the best second; sustained: median of the last third
  double shared = 0;  ///< share of the time in which one processor alone found its core shared: by strangers
  /// Work of all processors at once ÷ (their number × work of one alone). Well below 1: the seat's own
  /// processors share cores, or the hypervisor lets them.
  double side_by_side = 1;
  double first_mhz = 0, last_mhz = 0;
  /// Sustained ÷ burst.
  double ratio() const { return burst > 0 ? sustained / burst : 1; }
};
Endurance measure_endurance(int threads, double seconds, const KeepGoing& go_on = {});

/// What frames do to each other: the median time of a frame of one sort of work when it is made alone, beside
/// frames of the same sort on all workers, and beside frames of the other sort.
struct Contention {
  std::string work;  ///< "waits for memory" or "computes"
  double alone_ms = 0, beside_same_ms = 0, beside_other_ms = 0;
  double same() const { return alone_ms > 0 ? beside_same_ms / alone_ms : 1; }
  double other() const { return alone_ms > 0 ? beside_other_ms / alone_ms : 1; }
};

/// The accelerator's transfers, MB a second each way, and whether it computes what it should. An error says
/// what a device that lists itself and does not work got wrong.
struct AcceleratorSpeed {
  std::string name;
  double up_mb_s = 0, down_mb_s = 0;
};
Result<AcceleratorSpeed> measure_accelerator();

}  // namespace gc
