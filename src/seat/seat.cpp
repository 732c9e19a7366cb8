#include "seat/seat.h"

#include <hwloc.h>
#include <sched.h>
#include <sys/statvfs.h>
#include <unistd.h>

#include <cstdlib>
#include <fstream>
#include <set>
#include <sstream>

#include "render/device.h"

namespace gc {
namespace {

std::uint64_t meminfo(const std::string& key) {
  std::ifstream in("/proc/meminfo");
  std::string name, unit;
  std::uint64_t kib = 0;
  for (std::string line; std::getline(in, line);) {
    std::istringstream fields(line);
    if (fields >> name >> kib >> unit && name == key + ":") return kib * 1024;
  }
  return 0;
}

void topology(Seat& seat) {
  hwloc_topology_t t;
  if (hwloc_topology_init(&t) != 0) return;
  if (hwloc_topology_load(t) == 0) {
    const int cores = hwloc_get_nbobjs_by_type(t, HWLOC_OBJ_CORE);
    if (cores > 0) seat.cores = cores;
    for (const hwloc_obj_type_t type : {HWLOC_OBJ_L3CACHE, HWLOC_OBJ_L2CACHE})
      if (const hwloc_obj_t cache = hwloc_get_obj_by_type(t, type, 0);
          cache && seat.last_level_cache_bytes == 0)
        seat.last_level_cache_bytes = cache->attr->cache.size;
  }
  hwloc_topology_destroy(t);
}

std::vector<Volume> mounted() {
  static const std::set<std::string> kStorage{"ext2", "ext3", "ext4",  "xfs",    "btrfs", "zfs",
                                              "f2fs", "vfat", "exfat", "ntfs",   "ntfs3", "fuseblk",
                                              "nfs",  "nfs4", "cifs",  "overlay"};
  std::vector<Volume> all;
  std::set<std::string> devices;
  std::ifstream in("/proc/self/mounts");
  std::string device, mount, type, options;
  for (std::string line; std::getline(in, line);) {
    std::istringstream fields(line);
    if (!(fields >> device >> mount >> type >> options) || !kStorage.contains(type)) continue;
    if (device.starts_with("/") && !devices.insert(device).second)
      continue;  // the same volume seen again elsewhere
    struct statvfs s {};
    if (::statvfs(mount.c_str(), &s) != 0 || s.f_blocks == 0) continue;
    all.push_back({mount, type, static_cast<std::uint64_t>(s.f_blocks) * s.f_frsize,
                   static_cast<std::uint64_t>(s.f_bavail) * s.f_frsize, ::access(mount.c_str(), W_OK) == 0});
  }
  return all;
}

}  // namespace

std::pair<std::uint64_t, std::uint64_t> memory_now() {
  return {meminfo("MemTotal"), meminfo("MemAvailable")};
}

std::string processor_name() {
  std::ifstream in("/proc/cpuinfo");
  for (std::string line; std::getline(in, line);)
    if (line.starts_with("model name"))
      if (const auto colon = line.find(':'); colon != std::string::npos) return line.substr(colon + 2);
  return "unknown";
}

Seat look_at_seat() {
  Seat seat;
  seat.processor = processor_name();
  cpu_set_t set;
  CPU_ZERO(&set);
  if (sched_getaffinity(0, sizeof set, &set) == 0) seat.processors = std::max(1, CPU_COUNT(&set));
  seat.cores = seat.processors;
  topology(seat);
  seat.memory_bytes = meminfo("MemTotal");
  seat.memory_free_bytes = meminfo("MemAvailable");
  double load[1] = {};
  if (getloadavg(load, 1) == 1) seat.load_1min = load[0];
  seat.volumes = mounted();
  seat.accelerator = accelerator_name();
  return seat;
}

Volume volume_of(const fs::path& path) {
  fs::path existing = fs::absolute(path);
  std::error_code e;
  while (!fs::exists(existing, e) && existing.has_parent_path() && existing != existing.parent_path())
    existing = existing.parent_path();
  Volume best;
  std::ifstream in("/proc/self/mounts");
  std::string device, mount, type;
  for (std::string line; std::getline(in, line);) {
    std::istringstream fields(line);
    if (!(fields >> device >> mount >> type)) continue;
    const std::string p = existing.string();
    if (p.starts_with(mount) && (mount == "/" || p.size() == mount.size() || p[mount.size()] == '/') &&
        mount.size() >= best.mount.size())
      best.mount = mount, best.file_system = type;
  }
  if (best.mount.empty()) best.mount = std::string(1, '/');  // a changed root does not list itself
  struct statvfs s {};
  if (::statvfs(existing.c_str(), &s) == 0) {
    best.bytes = static_cast<std::uint64_t>(s.f_blocks) * s.f_frsize;
    best.free_bytes = static_cast<std::uint64_t>(s.f_bavail) * s.f_frsize;
  }
  best.writable = ::access(existing.c_str(), W_OK) == 0;
  return best;
}

Json to_json(const Seat& s) {
  Json volumes = Json::array();
  for (const Volume& v : s.volumes)
    volumes.push_back({{"mount", v.mount},
                       {"file_system", v.file_system},
                       {"bytes", v.bytes},
                       {"free_bytes", v.free_bytes},
                       {"writable", v.writable}});
  return {{"processor", s.processor},
          {"processors", s.processors},
          {"cores", s.cores},
          {"memory_bytes", s.memory_bytes},
          {"memory_free_bytes", s.memory_free_bytes},
          {"last_level_cache_bytes", s.last_level_cache_bytes},
          {"accelerator", s.accelerator},
          {"load_1min", s.load_1min},
          {"volumes", volumes}};
}

}  // namespace gc
