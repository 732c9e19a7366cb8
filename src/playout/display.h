// Where pictures go.
#pragma once
#include <cstdint>

#include "media/convert.h"
#include "timeline/timeline.h"

namespace gc {

/// present() is called from the player's thread at the moment a frame is due. It should not block; when it
/// does, the log says that the display was the cause.
class Display {
 public:
  virtual ~Display() = default;
  /// `at_ms`: by the player's clock. False when the display had no room for the picture.
  virtual bool present(Frames frame, ScreenImage&& picture, double at_ms) = 0;
};

/// Shows nothing. Playback costs the same up to the finished 8-bit picture.
class NullDisplay : public Display {
 public:
  bool present(Frames, ScreenImage&&, double) override { return true; }
};

/// Stands in for a hardware output: it takes a picture from its queue at every tick of a cadence of its own,
/// whether the player is in time or not. With nothing in the queue it repeats; with a full queue it refuses.
class MonitorStandIn : public Display {
 public:
  MonitorStandIn(double period_ms, int queue) : period_ms_(period_ms), room_(queue) {}
  bool present(Frames frame, ScreenImage&& picture, double at_ms) override;
  std::int64_t shown() const { return shown_; }
  std::int64_t repeated() const { return repeated_; }
  std::int64_t refused() const { return refused_; }

 private:
  double period_ms_;
  int room_, waiting_ = 0;
  double next_tick_ms_ = -1;  ///< −1 until the first picture has come
  std::int64_t shown_ = 0, repeated_ = 0, refused_ = 0;
};

}  // namespace gc
