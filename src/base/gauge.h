// The core's speed at this moment. Where a core is shared (by two processors of this seat, or with a virtual
// machine's neighbour), arithmetic runs at about half its speed while they work, and nothing in /proc
// shows it. A few microseconds of known arithmetic do.
#pragma once

namespace gc {

/// How many times slower than at its best the core runs a fixed piece of arithmetic right now; 1 is best.
/// Takes about 20 µs (40 on a shared core). The first call in a process takes a few milliseconds to learn the
/// best.
double core_slowness();

/// From here on work counts as disturbed by others. Below lies what the clock does after wide vector work
/// (seen: 1.3), above what a neighbour on the core does (seen: 1.5 to 2.5).
inline constexpr double kSharedCore = 1.4;

/// While one lives on a thread, the stages that run on it note how fast the core was around them.
class GaugeScope {
 public:
  explicit GaugeScope(bool on = true);
  ~GaugeScope();
  GaugeScope(const GaugeScope&) = delete;
  GaugeScope& operator=(const GaugeScope&) = delete;

 private:
  bool before_;
};

/// The worse of two readings: the one that the last call on this thread left, and one taken now. 0 while no
/// scope is open.
float gauge_around();
/// Takes a reading without using it: what came before was no stage.
void gauge_again();

}  // namespace gc
