#include "playout/trace.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/timecode.h"

namespace gc {
namespace {

const char* fate(const FrameLog& f) {
  if (f.dropped) return !f.made ? "dropped, not started" : "dropped, late";
  return f.repeated ? "repeated" : "presented";
}

}  // namespace

std::string log_csv(const Playout& p) {
  std::string out =
      "frame,timecode,fate,cause,due_ms,taken_on_ms,started_ms,fetch_began_ms,fetched_ms,done_ms,late_ms,"
      "outside_ms,worker,sealed,offline\r\n";
  for (const FrameLog& f : p.log)
    out += fmt::format(
        "{},{},\"{}\",{},{:.3f},{:.3f},{:.3f},{:.3f},{:.3f},{:.3f},{:.3f},{:.3f},{},{:d},{:d}\r\n", f.frame,
        p.timecode_of(f.frame), fate(f), f.dropped ? cause_name(f.cause) : "", f.due_ms, f.decided_ms,
        f.started_ms, f.fetch_began_ms, f.fetched_ms, f.done_ms, f.late_ms, f.spent.outside, f.worker,
        f.state == FrameState::sealed, f.offline);
  return out;
}

Json log_trace(const Playout& p, const Program& program) {
  Json events = Json::array();
  // Rows need names, and times that are not negative: pre-roll lies before the clock's zero.
  double earliest = 0;
  for (const FrameLog& f : p.log)
    if (f.made) earliest = std::min(earliest, f.started_ms);
  const auto us = [&](double ms) { return (ms - earliest) * 1000; };
  for (int w = 0; w < p.workers; ++w)
    events.push_back({{"name", "thread_name"},
                      {"ph", "M"},
                      {"pid", 1},
                      {"tid", w + 1},
                      {"args", {{"name", fmt::format("Worker {}", w + 1)}}}});
  for (const FrameLog& f : p.log) {
    if (f.dropped)
      events.push_back({{"name", fmt::format("frame {} dropped: {}", f.frame, cause_name(f.cause))},
                        {"cat", "drop"},
                        {"ph", "i"},
                        {"s", "p"},
                        {"pid", 1},
                        {"tid", 0},
                        {"ts", us(f.due_ms)}});
    if (!f.made) continue;
    events.push_back(
        {{"name", fmt::format("frame {}", f.frame)},
         {"cat", "frame"},
         {"ph", "X"},
         {"pid", 1},
         {"tid", f.worker + 1},
         {"ts", us(f.started_ms)},
         {"dur", (f.done_ms - f.started_ms) * 1000},
         {"args", {{"due", us(f.due_ms)}, {"waited_for_turn_ms", f.fetch_began_ms - f.started_ms}}}});
    for (const StageSpan& s : f.stages) {
      const bool known = s.owner >= 0 && static_cast<std::size_t>(s.owner) < program.owners().size();
      events.push_back({{"name", known ? program.owners()[static_cast<std::size_t>(s.owner)].label
                                       : std::string(stage_name(s.kind))},
                        {"cat", stage_name(s.kind)},
                        {"ph", "X"},
                        {"pid", 1},
                        {"tid", f.worker + 1},
                        {"ts", us(s.began_ms)},
                        {"dur", static_cast<double>(s.wall_ms) * 1000},
                        {"args", {{"processor_ms", s.cpu_ms}}}});
    }
  }
  return {{"traceEvents", events}, {"displayTimeUnit", "ms"}};
}

MissedFrame missed_frame(const Playout& p, Frames position) {
  MissedFrame m;
  const FrameLog& of = p.log[static_cast<std::size_t>(position)];
  m.position = position, m.frame = of.frame, m.due_ms = of.due_ms, m.cause = of.cause;
  const double period = p.rate.frame_ms();
  const bool made = of.made;
  m.to_ms = (made ? std::max(of.done_ms, of.due_ms) : of.due_ms) + period / 2;
  m.from_ms = (made ? std::min(of.started_ms, of.due_ms - period) : of.due_ms - 3 * period) - period / 2;
  const Frames first = std::max<Frames>(0, position - 4 * p.horizon);
  for (Frames i = first; i < std::min<Frames>(p.frames, position + 4 * p.horizon); ++i) {
    const FrameLog& f = p.log[static_cast<std::size_t>(i)];
    if (!f.made || f.done_ms < m.from_ms || f.started_ms > m.to_ms) continue;
    const bool own = i == position;
    if (f.fetch_began_ms - f.started_ms > 0.2)
      m.bars.push_back({f.worker, f.frame, StageKind::read, f.started_ms, f.fetch_began_ms, true, own});
    for (const StageSpan& s : f.stages)
      m.bars.push_back(
          {f.worker, f.frame, s.kind, s.began_ms, s.began_ms + static_cast<double>(s.wall_ms), false, own});
  }
  return m;
}

}  // namespace gc
