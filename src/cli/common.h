// What the commands share: options, opening, and how results and errors are given.
#pragma once
#include "desk/report.h"

namespace gc {

struct Common {
  bool json = false;
  std::string file, range, shelf, notebook;
  DeskOptions desk() const;
};

/// Says what went wrong; the exit code.
int fail(const Error& e, bool json);
void put(const Json& j);

/// An opened timeline with its stores.
struct Opened {
  Stores stores;
  View view;
  FrameRange range;
};
Result<Opened> open(const Common& c);

/// Saves an edited timeline and says so.
int save_edit(const Common& c, const TimelinePtr& edited, Json result, const std::string& sentence);

/// The effects of a segment as a sentence for an error's remedy.
std::string effects_of(const Timeline& t, const std::string& segment);

/// A line of progress on a terminal's standard error, overwritten in place; nothing elsewhere.
void show_progress(const std::string& line);
void end_progress();

}  // namespace gc
