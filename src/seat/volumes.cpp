#include "seat/volumes.h"

#include <fcntl.h>
#include <fmt/format.h>
#include <sys/stat.h>
#include <sys/sysmacros.h>
#include <unistd.h>

#include <cerrno>
#include <cstdlib>
#include <cstring>
#include <fstream>
#include <set>
#include <thread>

#include "base/clock.h"
#include "base/slow_volume.h"

namespace gc {
namespace {

bool on_network(const std::string& file_system) {
  static const std::set<std::string> kNames{"nfs", "nfs4", "cifs",      "smb3",
                                            "9p",  "ceph", "glusterfs", "fuse.sshfs"};
  return kNames.contains(file_system);
}

std::string type_of(const fs::path& folder, const std::string& file_system) {
  if (slow_volume_root(folder)) return "slow stand-in";
  if (on_network(file_system)) return "network";
  if (file_system == "tmpfs" || file_system == "ramfs") return "memory";
  struct stat s {};
  if (::stat(folder.c_str(), &s) != 0) return "unknown";
  // A partition's queue is that of its disk.
  for (const char* queue : {"queue/rotational", "../queue/rotational"}) {
    std::ifstream in(fmt::format("/sys/dev/block/{}:{}/{}", major(s.st_dev), minor(s.st_dev), queue));
    int rotates = -1;
    if (in >> rotates) return rotates ? "rotating" : "solid state";
  }
  return "unknown";
}

double percentile(std::vector<double> v, double share) {
  if (v.empty()) return 0;
  std::sort(v.begin(), v.end());
  return v[std::min(v.size() - 1, static_cast<std::size_t>(share * static_cast<double>(v.size())))];
}

/// One file under test. Gone from the folder as soon as it is open.
class TestFile {
 public:
  TestFile(const fs::path& folder, bool direct) : throttle_(throttle_of(folder)) {
    std::string name = (folder / ".glass-clock-speed-XXXXXX").string();
    file_ = ::mkostemp(name.data(), O_CLOEXEC | (direct ? O_DIRECT : 0));
    direct_ = direct;
    if (file_ < 0 && direct) {
      direct_ = false;
      name = (folder / ".glass-clock-speed-XXXXXX").string();
      file_ = ::mkostemp(name.data(), O_CLOEXEC);
    }
    if (file_ < 0) error_ = errno;
    else ::unlink(name.c_str());
  }
  ~TestFile() {
    if (file_ >= 0) ::close(file_);
  }
  TestFile(const TestFile&) = delete;
  TestFile& operator=(const TestFile&) = delete;

  bool open() const { return file_ >= 0; }
  bool direct() const { return direct_; }
  int error() const { return error_; }
  bool write(const void* from, std::size_t n, std::uint64_t at) {
    if (throttle_)
      if (const int e = throttle_->write(n)) return error_ = e, false;
    const ssize_t done = ::pwrite(file_, from, n, static_cast<off_t>(at));
    if (done == static_cast<ssize_t>(n)) return true;
    error_ = done < 0 ? errno : ENOSPC;
    return false;
  }
  bool read(void* to, std::size_t n, std::uint64_t at) {
    if (throttle_)
      if (const int e = throttle_->read(n)) return error_ = e, false;
    const ssize_t done = ::pread(file_, to, n, static_cast<off_t>(at));
    if (done == static_cast<ssize_t>(n)) return true;
    error_ = done < 0 ? errno : EIO;
    return false;
  }
  void sync() { ::fdatasync(file_); }
  /// Sends what the page cache holds of it away.
  void forget() { ::posix_fadvise(file_, 0, 0, POSIX_FADV_DONTNEED); }
  void through_page_cache() { ::fcntl(file_, F_SETFL, ::fcntl(file_, F_GETFL) & ~O_DIRECT); }

 private:
  std::shared_ptr<Throttle> throttle_;
  int file_ = -1, error_ = 0;
  bool direct_ = false;
};

using Block = std::unique_ptr<void, void (*)(void*)>;
Block block_of(std::size_t bytes) {
  Block b(std::aligned_alloc(4096, bytes), std::free);
  // Nothing that a drive could compress.
  std::uint64_t v = 0x9e3779b97f4a7c15ULL;
  for (std::size_t i = 0; i + 8 <= bytes; i += 8) {
    v ^= v << 13, v ^= v >> 7, v ^= v << 17;
    std::memcpy(static_cast<char*>(b.get()) + i, &v, 8);
  }
  return b;
}

}  // namespace

Result<VolumeSpeed> measure_volume(const fs::path& folder, const VolumeOptions& options,
                                   const KeepGoing& go_on) {
  const Volume volume = volume_of(folder);
  VolumeSpeed speed;
  speed.folder = folder.string();
  speed.file_system = volume.file_system, speed.bytes = volume.bytes, speed.free_bytes = volume.free_bytes;
  speed.type = type_of(folder, volume.file_system);
  speed.nearly_full = volume.bytes > 0 && volume.free_bytes < volume.bytes / 10;
  if (!volume.writable)
    return environment("may not be written to", folder.string(), "Choose another folder for the shelf.");
  if (speed.type == "network" && !options.network)
    return environment("is on a network and was not measured, so as not to load it unasked", folder.string(),
                       "Name it with --volume and add --network to measure it.");
  constexpr std::uint64_t kLeaveFree = std::uint64_t{1} << 30;
  if (volume.free_bytes < options.bytes + kLeaveFree)
    return environment("has too little space left to be measured", folder.string(),
                       "Free 1 GB or choose another volume.");
  const std::size_t chunk = std::max<std::size_t>(4096, (options.chunk + 4095) / 4096 * 4096);
  const Block block = block_of(chunk);
  const Stopwatch all;
  const double step_ms = options.seconds * 1000 / 5;
  TestFile file(folder, true);
  const auto failed = [&]() -> std::unexpected<Error> {
    const int e = file.error();
    if (e == ENOSPC)
      return environment("became full while it was being measured; the test file is gone again",
                         folder.string(), "Free some space there or choose another volume.");
    return environment(
        fmt::format("failed while it was being measured ({}); the test file is gone", std::strerror(e)),
        folder.string(), "Check that the drive is still connected, then measure again.");
  };
  if (!file.open()) return failed();
  speed.direct = file.direct();
  if (!speed.direct) speed.notes.push_back("the page cache could not be kept out; real speeds may be lower");

  // Several times through, the median counting: one pass may meet a busy moment.
  std::vector<double> writes, reads, latency;
  std::uint64_t length = 0;
  for (int pass = 0; pass < 3; ++pass) {
    Stopwatch watch;
    std::uint64_t done = 0;
    while (done + chunk <= options.bytes && (watch.ms() < step_ms / 3 || done < 4 * chunk)) {
      if (go_on && !go_on())
        return environment("was not measured to the end", folder.string(), "Measure again.");
      const Stopwatch one;
      if (!file.write(block.get(), chunk, done)) return failed();
      latency.push_back(one.ms());
      done += chunk;
    }
    file.sync();
    writes.push_back(static_cast<double>(done) / 1e3 / watch.ms());
    speed.written += done;
    length = std::max(length, done);
    file.forget();
    watch.restart();
    std::uint64_t read = 0;
    while (read + chunk <= done && (watch.ms() < step_ms / 3 || read < 4 * chunk)) {
      if (!file.read(block.get(), chunk, read)) return failed();
      read += chunk;
    }
    reads.push_back(static_cast<double>(read) / 1e3 / watch.ms());
  }
  speed.write_mb_s = percentile(writes, 0.5), speed.read_mb_s = percentile(reads, 0.5);
  speed.write_ms_50 = percentile(latency, 0.5), speed.write_ms_95 = percentile(latency, 0.95),
  speed.write_ms_99 = percentile(latency, 0.99);

  for (const int streams : {2, 4}) {
    std::atomic<std::uint64_t> moved{0};
    std::atomic<bool> bad{false};
    Stopwatch watch;
    std::vector<std::thread> readers;
    for (int i = 0; i < streams; ++i)
      readers.emplace_back([&, i] {
        const Block own = block_of(chunk);
        const std::uint64_t slots = length / chunk;
        for (std::uint64_t k = slots * static_cast<std::uint64_t>(i) / static_cast<std::uint64_t>(streams);
             watch.ms() < step_ms / 2 && !bad; k = (k + 1) % slots) {
          if (!file.read(own.get(), chunk, k * chunk)) bad = true;
          else moved += chunk;
        }
      });
    for (std::thread& t : readers) t.join();
    if (bad) return failed();
    speed.streams.push_back({streams, static_cast<double>(moved) / 1e3 / watch.ms()});
  }
  file.through_page_cache();
  for (int pass = 0; pass < 2; ++pass) {
    Stopwatch watch;
    std::uint64_t read = 0;
    while (read + chunk <= length && watch.ms() < step_ms / 2) {
      if (!file.read(block.get(), chunk, read)) return failed();
      read += chunk;
    }
    speed.cached_read_mb_s = static_cast<double>(read) / 1e3 / watch.ms();
  }
  if (speed.nearly_full)
    speed.notes.push_back(
        fmt::format("only {:.0f} GB of {:.0f} are free: drives get slower and renders end early",
                    static_cast<double>(speed.free_bytes) / 1e9, static_cast<double>(speed.bytes) / 1e9));
  if (volume.bytes > 0)
    speed.fills = {{1 - static_cast<double>(volume.free_bytes) / static_cast<double>(volume.bytes),
                    speed.write_mb_s, speed.read_mb_s}};
  speed.seconds = all.ms() / 1000;
  return speed;
}

void remember_fills(VolumeSpeed& now, const std::vector<VolumeSpeed>& before) {
  if (now.fills.empty()) return;
  const FillSpeed newest = now.fills.front();
  const auto twentieth = [](const FillSpeed& f) { return std::floor(f.full * 20); };
  for (const VolumeSpeed& v : before) {
    if (v.folder != now.folder) continue;
    for (const FillSpeed& f : v.fills)
      if (twentieth(f) != twentieth(newest)) now.fills.push_back(f);
    break;
  }
  std::sort(now.fills.begin(), now.fills.end(),
            [](const FillSpeed& a, const FillSpeed& b) { return a.full < b.full; });
  const FillSpeed& emptiest = now.fills.front();
  if (newest.write_mb_s < 0.8 * emptiest.write_mb_s)
    now.notes.push_back(fmt::format("at {:.0f} % full it writes {:.0f} MB/s; at {:.0f} % it wrote {:.0f}",
                                    newest.full * 100, newest.write_mb_s, emptiest.full * 100,
                                    emptiest.write_mb_s));
}

}  // namespace gc
