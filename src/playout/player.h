// The player: plays a range against the real clock, logs every deadline, and says why a frame was missed.
#pragma once
#include <atomic>
#include <functional>

#include "forecast/forecast.h"
#include "pipeline/pipeline.h"

namespace gc {

/// Where pictures go. present() is called from the player's thread at the moment a frame is due and must not
/// block.
class Display {
 public:
  virtual ~Display() = default;
  virtual void present(Frames frame, ScreenImage&& picture) = 0;
};

/// Shows nothing. Playback costs the same up to the finished 8-bit picture.
class NullDisplay : public Display {
 public:
  void present(Frames, ScreenImage&&) override {}
};

enum class PlayMode {
  on_the_clock,  ///< late frames are dropped
  every_frame,   ///< slower when it must be; nothing is dropped
};

/// What became of one frame.
struct FrameLog {
  Frames frame = 0;
  bool presented = false, dropped = false, offline = false, sealed = false;
  double due_ms = 0;      ///< from the start of the clock
  double done_ms = -1;    ///< −1: never started, because it could not arrive
  double late_ms = 0;     ///< how long after it was due it was done
  double outside_ms = 0;  ///< wall time of its processing that the thread did not get
  Cause cause = Cause::none;
};

struct SegmentPlay {
  std::string id;
  Frames frames = 0, dropped = 0;
  double sustained_rate = 0;
};

struct Playout {
  FrameRange range;
  Rate rate;
  PlayMode mode = PlayMode::on_the_clock;
  Frames frames = 0;  ///< due
  Frames dropped = 0;
  Frames dropped_outside = 0;  ///< of them, those that the outside took
  double seconds = 0;          ///< clock time of the run, pre-roll not counted
  double preroll_seconds = 0;
  double rate_reached = 0;
  bool stopped = false;
  std::vector<FrameLog> log;
  std::vector<SegmentPlay> segments;

  /// 1 for each dropped frame of the range, 0 else.
  std::vector<float> missed() const;
};

struct PlayOptions {
  PlayMode mode = PlayMode::on_the_clock;
  int workers = 2;
  int horizon = 12;
  bool backwards = false;
  std::shared_ptr<Notebook> notebook = {};  ///< learns from every frame; none: nothing is learnt
  std::shared_ptr<MemoryCache> cache = {};  ///< filled by every-frame playback; none: frames are not kept
};

/// What can be seen while it plays.
struct PlayState {
  Frames frame = 0;
  Frames dropped = 0;
  double rate = 0;  ///< frames presented over the last second
};

/// Plays the range once; returns when it is over or `stop` is set.
Playout play(const ProgramPtr& program, const SealLookup* seals, FrameRange range, const PlayOptions& options,
             Display& display, const std::atomic<bool>& stop,
             const std::function<void(const PlayState&)>& tell = {});

}  // namespace gc
