// The player: plays a range against the clock, logs every deadline, and says why a frame was missed.
#pragma once
#include <atomic>
#include <functional>

#include "playout/display.h"
#include "playout/log.h"

namespace gc {

struct PlayOptions {
  PlayMode mode = PlayMode::on_the_clock;
  int workers = 2;
  int horizon = 12;
  bool backwards = false;
  int passes = 1;  ///< how often the range is played, one after the other without a break
  std::shared_ptr<Notebook> notebook = {};  ///< learns from every frame; none: nothing is learnt
  /// Filled by every-frame playback; frames that are in it are taken from it. None: frames are not kept.
  std::shared_ptr<MemoryCache> cache = {};
  std::vector<CostKind> kinds = {};  ///< of one pass, forwards, as kinds_of says; empty: it finds out itself
  Clock* clock = nullptr;            ///< null: the machine's
  int far = -1;                      ///< as in Pace; -1: as far as memory carries
  /// What makes the frames; null: the program does.
  std::function<std::unique_ptr<FrameMaker>()> maker = {};
};

/// What can be seen while it plays.
struct PlayState {
  Frames frame = 0;
  Frames dropped = 0;
  double rate = 0;        ///< frames presented over the last second
  double processor = 0;   ///< share of all processors that was busy over the last second
  double reads_mb_s = 0;  ///< what this program read from drives over the last second
};

/// Plays the range; returns when it is over or `stop` is set.
Playout play(const ProgramPtr& program, const SealLookup* seals, FrameRange range, const PlayOptions& options,
             Display& display, const std::atomic<bool>& stop,
             const std::function<void(const PlayState&)>& tell = {});

/// The stretch from `before_s` seconds before the playhead to `after_s` after it, within the timeline.
FrameRange around(Frames playhead, double before_s, double after_s, Rate rate, Frames duration);

}  // namespace gc
