// A playout's log for other programs: a table, and a trace file in the open trace-event format.
#pragma once
#include "playout/log.h"

namespace gc {

/// One line for each frame, RFC 4180: number, timecode, what became of it, cause, and its times in ms.
std::string log_csv(const Playout& playout);

/// Trace-event format, JSON object form (published as "Trace Event Format"): complete events ("X") of every
/// stage on its worker's row, times in microseconds; each dropped frame an instant event ("i") at its
/// deadline.
Json log_trace(const Playout& playout, const Program& program);

/// The stages of the frames that were in work when the frame at `position` missed its deadline, for drawing:
/// that frame and those before it that occupied a worker or the fetching turn while it could have been made.
struct MissedFrame {
  Frames position = 0, frame = 0;
  double from_ms = 0, to_ms = 0;  ///< what to draw
  double due_ms = 0;
  Cause cause = Cause::none;
  struct Bar {
    int worker = 0;
    Frames frame = 0;
    StageKind kind = StageKind::display;
    double began_ms = 0, ended_ms = 0;
    bool waiting = false;  ///< for its turn to fetch
    bool own = false;      ///< of the missed frame itself
  };
  std::vector<Bar> bars;
};
MissedFrame missed_frame(const Playout& playout, Frames position);

}  // namespace gc
