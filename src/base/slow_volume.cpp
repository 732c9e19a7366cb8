#include "base/slow_volume.h"

#include <cerrno>
#include <chrono>
#include <map>
#include <thread>

#include "base/clock.h"
#include "base/json.h"

namespace gc {

Result<void> make_slow_volume(const fs::path& folder, const SlowVolume& s) {
  std::error_code e;
  fs::create_directories(folder, e);
  return write_file_atomic(folder / kSlowVolumeMarker, Json({{"read_mb_s", s.read_mb_s},
                                                             {"write_mb_s", s.write_mb_s},
                                                             {"latency_ms", s.latency_ms},
                                                             {"full_after_mb", s.full_after_mb},
                                                             {"gone_after_mb", s.gone_after_mb}})
                                                           .dump(1));
}

int Throttle::pass(std::size_t bytes, double mb_s, double limit_mb) {
  double until = 0;
  {
    const std::lock_guard lock(mutex_);
    const double mb = static_cast<double>(bytes) / 1e6;
    moved_mb_ += mb;
    if (limit_mb > 0 && (written_mb_ += mb) > limit_mb) return ENOSPC;
    if (speed_.gone_after_mb > 0 && moved_mb_ > speed_.gone_after_mb) return EIO;
    const double now = now_ms();
    free_at_ms_ = std::max(now, free_at_ms_) + mb / mb_s * 1000;
    until = free_at_ms_ + speed_.latency_ms;
  }
  const double wait = until - now_ms();
  if (wait > 0) std::this_thread::sleep_for(std::chrono::duration<double, std::milli>(wait));
  return 0;
}

std::optional<fs::path> slow_volume_root(const fs::path& path) {
  std::error_code e;
  for (fs::path at = fs::absolute(path, e); !at.empty(); at = at.parent_path()) {
    if (fs::exists(at / kSlowVolumeMarker, e)) return at;
    if (at == at.parent_path()) break;
  }
  return std::nullopt;
}

std::shared_ptr<Throttle> throttle_of(const fs::path& path) {
  static std::mutex mutex;
  static std::map<fs::path, std::pair<fs::file_time_type, std::shared_ptr<Throttle>>> known;
  const auto root = slow_volume_root(path);
  if (!root) return nullptr;
  std::error_code e;
  const auto written = fs::last_write_time(*root / kSlowVolumeMarker, e);
  const std::lock_guard lock(mutex);
  auto& [time, throttle] = known[*root];
  if (throttle && time == written) return throttle;
  SlowVolume s;
  if (const auto text = read_file(*root / kSlowVolumeMarker))
    if (const auto j = parse_json(*text, kSlowVolumeMarker)) {
      s.read_mb_s = std::max(0.01, number_or(*j, "read_mb_s", s.read_mb_s));
      s.write_mb_s = std::max(0.01, number_or(*j, "write_mb_s", s.write_mb_s));
      s.latency_ms = std::max(0.0, number_or(*j, "latency_ms", 0));
      s.full_after_mb = number_or(*j, "full_after_mb", 0),
      s.gone_after_mb = number_or(*j, "gone_after_mb", 0);
    }
  time = written;
  throttle = std::make_shared<Throttle>(s);
  return throttle;
}

}  // namespace gc
