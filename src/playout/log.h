// What became of every frame of a playout, and why.
#pragma once
#include "base/timecode.h"
#include "forecast/forecast.h"
#include "pipeline/pipeline.h"

namespace gc {

enum class PlayMode {
  on_the_clock,  ///< late frames are dropped
  every_frame,   ///< slower when it must be; nothing is dropped
};

/// How a finished frame's time was spent, ms.
struct Spent {
  double occupied = 0, waited = 0, fetch = 0, read = 0, accelerator = 0, transfer = 0, outside = 0;
  double decode = 0;  ///< on all processors
  double beside = 0;  ///< of it, what decoders' own threads did while no worker stood by
  bool faulted = false;  ///< memory had to come back from the drive
};
Spent spent_on(const FrameResult& frame);

/// One stage of one frame. Times in ms from the start of the clock.
struct StageSpan {
  StageKind kind = StageKind::display;
  std::int32_t owner = -1;
  float wall_ms = 0, cpu_ms = 0;
  float cost_ms = 0;  ///< as StageSample has it: with what a decoder's own threads worked on it
  double began_ms = 0;
};

/// What became of one frame. Times in ms from the start of the clock, those of its making only when it was
/// made.
struct FrameLog {
  Frames frame = 0;
  bool made =
      false;  ///< false: never started, because it could not arrive, or not finished in time to be seen
  bool presented = false, dropped = false, offline = false;
  FrameState state = FrameState::live;  ///< how it was had; live while it was not made
  bool repeated = false;  ///< at its time the picture before it stayed on the display
  bool decodes_between = false;
  int neighbours = 0;                          ///< other frames' pictures that it looks at
  double neighbour_ms = 0, neighbours_ms = 0;  ///< making one; and beyond the one that each frame adds
  std::int16_t worker = -1;
  double due_ms = 0;
  double looked_ms = 0;   ///< when the display's thread looked for it
  double decided_ms = 0;  ///< taken on by a worker
  double at_ms = 0;       ///< from when on there was room for it ahead of the clock
  double arrived_ms = 0;  ///< when it lay ready for the display
  double started_ms = 0, fetch_began_ms = 0, fetched_ms = 0, done_ms = 0;
  double steady_fetch_ms = 0;  ///< what fetching takes when it is reached from the frame before it
  double beside_ms = 0;        ///< what decoders' own threads work on such a frame besides
  double late_ms = 0;          ///< how long after it was due it was done
  Spent spent;                 ///< on what its time went
  double crowding = -1;  ///< share of its work that was done on cores that others worked on; −1: unknown
  Frames after = -1;     ///< position of the frame that was fetched before it
  Cause cause = Cause::none;
  std::vector<StageSpan> stages;

  double process_ms() const { return done_ms - fetched_ms; }
};

/// What a frame took by itself, ms: reached from the one before it, without what the outside took.
double own_ms(const FrameLog& frame);

/// Writes into a frame's log how it came about, when it lay ready for the display at `arrived_ms`, with the
/// clock started at `zero_ms`.
void note_making(FrameLog& log, const FrameResult& frame, double arrived_ms, double zero_ms);

struct SegmentPlay {
  std::string id;
  Frames frames = 0, dropped = 0;
  double sustained_rate = 0;
};

struct Playout {
  FrameRange range;
  Rate rate;
  Frames start = 0;  ///< timecode of the timeline's first frame
  std::optional<bool> drop_frame;
  Frames offline() const;  ///< frames shown without a picture; a dropped one counts as dropped only
  std::string timecode_of(Frames frame) const { return timecode(start + frame, rate, drop_frame); }
  PlayMode mode = PlayMode::on_the_clock;
  int workers = 2, horizon = 12, far = 0;  ///< as in Pace
  Frames frames = 0;                       ///< due
  Frames dropped = 0;
  Frames dropped_outside = 0;  ///< of them, those that the outside took
  double seconds = 0;          ///< clock time of the run, pre-roll not counted
  double preroll_seconds = 0;
  double rate_reached = 0;
  bool stopped = false;
  std::string failure;  ///< why a frame could not be made at all, the first time it happened
  Conditions around;            ///< what else went on meanwhile
  std::vector<CostKind> kinds;  ///< what the pacing rule was told beforehand, by position
  std::vector<FrameLog> log;    ///< by position in the order of playing
  std::vector<SegmentPlay> segments;

  /// 1 for each dropped frame of the range, 0 else.
  std::vector<float> missed() const;
  int count(Cause cause) const;  ///< dropped frames with this cause
};

/// Tells of every dropped frame without a cause why it was missed, from how the frames in work around its deadline spent
/// their time. What the timeline alone could not have kept up with is the timeline's, by what bound it. The outside is to
/// blame where, without what it took, there would have been time. Where the timeline is too heavy and the outside took time
/// besides, the timeline gets as many of the drops as it would have had alone: with a load of its own l and a load in all m,
/// 1 − 1/l of every 1 − 1/m.
void tell_causes(std::vector<FrameLog>& log, int workers, int horizon, double period_ms);

/// One sentence for each cause that dropped frames, most frames first, with what helps; those in `muted` (by
/// cause_name) are left out.
std::vector<std::string> warnings(const Playout& playout, const std::vector<std::string>& muted = {});

}  // namespace gc
