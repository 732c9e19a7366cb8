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

/// Bytes installed and available right now.
std::pair<std::uint64_t, std::uint64_t> memory_now();
/// As the system gives it.
std::string processor_name();
/// Looks at the machine; takes a few milliseconds (the first look at an accelerator longer) and measures
/// nothing.
Seat look_at_seat();
/// The volume that holds a path.
Volume volume_of(const fs::path& path);

Json to_json(const Seat& seat);

}  // namespace gc
