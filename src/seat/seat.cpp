#include "seat/seat.h"

#include <fcntl.h>
#include <hwloc.h>
#include <sched.h>
#include <sys/statvfs.h>
#include <unistd.h>

#include <cerrno>
#include <cstdlib>
#include <cstring>
#include <fstream>
#include <memory>
#include <set>
#include <sstream>

#include "base/clock.h"

namespace gc {
namespace {

std::string processor_name() {
  std::ifstream in("/proc/cpuinfo");
  for (std::string line; std::getline(in, line);)
    if (line.starts_with("model name"))
      if (const auto colon = line.find(':'); colon != std::string::npos) return line.substr(colon + 2);
  return "unknown";
}

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
  if (best.mount.empty()) best.mount = "/";  // a changed root does not list itself
  struct statvfs s {};
  if (::statvfs(existing.c_str(), &s) == 0) {
    best.bytes = static_cast<std::uint64_t>(s.f_blocks) * s.f_frsize;
    best.free_bytes = static_cast<std::uint64_t>(s.f_bavail) * s.f_frsize;
  }
  best.writable = ::access(existing.c_str(), W_OK) == 0;
  return best;
}

Result<VolumeSpeed> measure_volume(const fs::path& folder, std::uint64_t bytes) {
  constexpr std::size_t kBlock = std::size_t{4} << 20;
  const Volume volume = volume_of(folder);
  if (!volume.writable)
    return environment("may not be written to", folder.string(), "Choose another folder for the shelf.");
  if (volume.free_bytes < bytes + (std::uint64_t{1} << 30))
    return environment("has too little space left to be measured", folder.string(),
                       "Free 1 GB or choose another volume.");
  std::unique_ptr<void, void (*)(void*)> block(std::aligned_alloc(4096, kBlock), std::free);
  std::memset(block.get(), 0x5a, kBlock);
  const fs::path file = folder / (".glass-clock-speed-" + std::to_string(::getpid()));
  VolumeSpeed speed;
  speed.direct = true;
  int fd = ::open(file.c_str(), O_RDWR | O_CREAT | O_TRUNC | O_DIRECT | O_CLOEXEC, 0600);
  if (fd < 0) {
    speed.direct = false;
    fd = ::open(file.c_str(), O_RDWR | O_CREAT | O_TRUNC | O_CLOEXEC, 0600);
  }
  if (fd < 0)
    return environment(std::string("cannot be measured: ") + std::strerror(errno), folder.string(),
                       "Choose another folder.");
  ::unlink(file.c_str());  // gone from now on, whatever happens
  bool failed = false;
  Stopwatch watch;
  for (std::uint64_t done = 0; done < bytes && !failed; done += kBlock)
    failed = ::write(fd, block.get(), kBlock) != static_cast<ssize_t>(kBlock);
  ::fsync(fd);
  speed.write_mb_s = static_cast<double>(bytes) / 1e3 / watch.ms();
  ::posix_fadvise(fd, 0, 0, POSIX_FADV_DONTNEED);
  ::lseek(fd, 0, SEEK_SET);
  watch.restart();
  for (std::uint64_t done = 0; done < bytes && !failed; done += kBlock)
    failed = ::read(fd, block.get(), kBlock) != static_cast<ssize_t>(kBlock);
  speed.read_mb_s = static_cast<double>(bytes) / 1e3 / watch.ms();
  ::close(fd);
  if (failed)
    return environment("failed while it was being measured", folder.string(),
                       "Check the drive and its free space.");
  return speed;
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
