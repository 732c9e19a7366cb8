// What the commands share: options, opening, and how results and errors are given.
#pragma once
#include <CLI/CLI.hpp>
#include <atomic>

#include "desk/names.h"
#include "desk/report.h"

namespace gc {

struct Common {
  bool json = false;
  std::string file, timeline, range, shelf, notebook;
  DeskOptions desk() const;
};

/// Adds what every command takes: --json, --shelf and --notebook; with a file, that and --timeline.
void add_common(CLI::App* command, Common& c, bool file);

/// A segment and one of its effects as they were named on the command line.
struct Named {
  SegmentPtr segment;
  std::size_t effect = 0;
  const Effect& what() const { return segment->stack[effect]; }
};
Result<Named> named(const Timeline& timeline, const std::string& segment, const std::string& effect);

/// Says what went wrong; the exit code.
int fail(const Error& e, bool json);
void put(const Json& j);

/// Writes a file that is asked for; nothing that lies there is overwritten.
Result<void> write_out(const std::string& file, const std::string& text);

/// An opened timeline with its stores.
struct Opened {
  Stores stores;
  View view;
  FrameRange range;
};
Result<Opened> open(const Common& c);

/// Measures what its frames cost here, and says how far it is.
Result<MeasureReport> measure_now(const Opened& o, double seconds, bool again, const std::atomic<bool>& interrupted);

/// Only the timeline.
Result<TimelinePtr> load(const Common& c);

/// Saves an edited timeline and says so.
int save_edit(const Common& c, const TimelinePtr& edited, Json result, const std::string& sentence);

/// A line of progress on standard error: on a terminal overwritten in place, elsewhere a new line when a second has
/// passed and then every ten.
void show_progress(const std::string& line);
void end_progress();

}  // namespace gc
