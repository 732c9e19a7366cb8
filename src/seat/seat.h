// What this machine is. (What it can do is learnt by measuring; see measure/notebook.h.)
#pragma once
#include <cstdint>
#include <string>
#include <vector>

#include "base/files.h"
#include "base/json.h"

namespace gc {

struct Volume {
  std::string mount;        ///< where it is mounted
  std::string file_system;  ///< "ext4", ...
  std::uint64_t bytes = 0, free_bytes = 0;
  bool writable = false;
};

struct Seat {
  std::string processor;  ///< name as the system gives it
  int processors = 1;     ///< that this process may use
  int cores = 1;          ///< physical, on the whole machine
  std::uint64_t memory_bytes = 0, memory_free_bytes = 0;
  std::uint64_t last_level_cache_bytes = 0;
  std::string accelerator;  ///< empty: none found
  double load_1min = 0;     ///< of everything on the machine, as processes waiting to run
  std::vector<Volume> volumes;
};

/// Looks at the machine; takes a few milliseconds and measures nothing.
Seat look_at_seat();
/// The volume that holds a path.
Volume volume_of(const fs::path& path);

/// Sequential write and read of one file in `folder`, in MB (10^6 bytes) a second, with direct I/O where the
/// file system has it. Removes the file. `direct` says whether the page cache was kept out.
struct VolumeSpeed {
  double write_mb_s = 0, read_mb_s = 0;
  bool direct = false;
};
Result<VolumeSpeed> measure_volume(const fs::path& folder, std::uint64_t bytes = 64u << 20);

Json to_json(const Seat& seat);

}  // namespace gc
