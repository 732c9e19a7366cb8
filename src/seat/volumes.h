// What the volumes can do that could hold rendered media.
#pragma once
#include "seat/machine.h"
#include "seat/seat.h"

namespace gc {

struct VolumeOptions {
  std::uint64_t bytes = 96u << 20;  ///< written and read, at most, in each step
  double seconds = 6;               ///< for everything together, about
  std::size_t chunk = 1u << 20;     ///< bytes of a frame that will be kept there
  bool network = false;             ///< asked to measure network volumes too
};

struct StreamSpeed {
  int streams = 1;
  double mb_s = 0;
};

/// How fast the volume was when this share of it was taken.
struct FillSpeed {
  double full = 0;  ///< 0 to 1
  double write_mb_s = 0, read_mb_s = 0;
};

/// MB are 10^6 bytes. Direct: the page cache was kept out; else the label says so.
struct VolumeSpeed {
  std::string label;   ///< "A", "B": what stands for the folder in a profile
  std::string folder;  ///< left out of profiles unless asked for
  std::string type;    ///< "solid state", "rotating", "network", "memory", "slow stand-in" or "unknown"
  std::string file_system;
  std::uint64_t bytes = 0, free_bytes = 0;
  double write_mb_s = 0, read_mb_s = 0;
  double cached_read_mb_s = 0;                               ///< read again through the page cache
  std::vector<StreamSpeed> streams;                          ///< several readers at once, all together
  double write_ms_50 = 0, write_ms_95 = 0, write_ms_99 = 0;  ///< of one chunk
  bool direct = false;
  bool nearly_full = false;  ///< less than a tenth is free: drives get slower, renders end early
  /// This measurement and earlier ones at other degrees of fullness, emptiest first. Nothing is filled up to
  /// find out: what a volume does when it is nearly full is known once it was measured so.
  std::vector<FillSpeed> fills;
  double seconds = 0;
  std::uint64_t written = 0;
  std::vector<std::string> notes;
};

/// Measures the volume that holds `folder` with files that are gone afterwards, whatever happens. Refuses
/// volumes that may not be written to, have too little room (a gigabyte beyond the test stays free), or are
/// on a network without being asked to.
Result<VolumeSpeed> measure_volume(const fs::path& folder, const VolumeOptions& options = {},
                                   const KeepGoing& go_on = {});

/// Takes over what the same folder did at other degrees of fullness: one reading for each twentieth, the
/// newest. Adds a note when it has become slower than 0.8 times what it was with more room.
void remember_fills(VolumeSpeed& now, const std::vector<VolumeSpeed>& before);

}  // namespace gc
