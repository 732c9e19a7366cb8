// A stand-in for a slow drive: any folder that holds the marker file. What is read and written below it goes
// at the rate that the marker gives, whatever the drive behind can do. For the demo, for tests and for trying
// out a drive before buying it.
#pragma once
#include <memory>
#include <mutex>
#include <optional>

#include "base/files.h"

namespace gc {

inline constexpr const char* kSlowVolumeMarker = ".slow-volume.json";

/// What the marker says. MB are 10^6 bytes.
struct SlowVolume {
  double read_mb_s = 100, write_mb_s = 100;
  double latency_ms = 0;     ///< of every access
  double full_after_mb = 0;  ///< writing more than this fails as on a full drive; 0: never
  double gone_after_mb = 0;  ///< after this much the drive is gone: everything fails; 0: never
};

Result<void> make_slow_volume(const fs::path& folder, const SlowVolume& speed);

/// Makes accesses wait their turn. Shared by everyone who uses the same slow volume.
class Throttle {
 public:
  explicit Throttle(const SlowVolume& speed) : speed_(speed) {}
  /// Sleeps for as long as the drive would take. 0, or the errno that the drive would give.
  int read(std::size_t bytes) { return pass(bytes, speed_.read_mb_s, 0); }
  int write(std::size_t bytes) { return pass(bytes, speed_.write_mb_s, speed_.full_after_mb); }

 private:
  int pass(std::size_t bytes, double mb_s, double limit_mb);
  SlowVolume speed_;
  std::mutex mutex_;
  double free_at_ms_ = 0, written_mb_ = 0, moved_mb_ = 0;
};

/// That of the nearest folder above with a marker; null on an ordinary drive.
std::shared_ptr<Throttle> throttle_of(const fs::path& path);
/// The folder itself.
std::optional<fs::path> slow_volume_root(const fs::path& path);

}  // namespace gc
