// What somebody has watched: segments that only playing can judge, and which state of them was played without a drop.
#pragma once
#include "desk/desk.h"

namespace gc {

/// What was watched on this seat, and how restless pictures are, by what they show.
class WatchLog {
 public:
  static Result<WatchLog> open(const fs::path& file);
  static fs::path usual_file();  ///< watched.sqlite in the data folder

  Result<void> note(const Hash128& shown, const std::string& now_utc);
  /// When it was watched last, ISO 8601 UTC; empty: never.
  std::string watched(const Hash128& shown) const;
  Result<void> keep(const Hash128& shown, const Restless& found) const;
  /// As it was found; places and frames count from the segment's first frame.
  std::optional<Restless> found(const Hash128& shown) const;

 private:
  Database database_;
};

/// Names what a segment shows wherever it lies: its own picture and all that lies on and below it.
Hash128 shown_by(const Program& program, const CompiledSegment& segment);

/// Notes the segments that were played on the clock, forwards, at full size, with no frame dropped or missing, and shown as
/// they are delivered.
Result<void> note_watched(const View& view, const Playout& playout, WatchLog& log, const std::string& now_utc);

/// Segments that can be judged only in real time at full quality, with the place that shows best why. Looking takes a few
/// frames of each that was never looked at.
/// @param go_on asked between pictures; from false on only what was looked at before is known
std::vector<Restless> must_watch(const View& view, MediaCatalog& media, const WatchLog& log, const std::function<bool()>& go_on = {});
/// What is known of that without looking; quick.
std::vector<Restless> known_must_watch(const View& view, const Stores& stores);
/// Looks at segments that were never looked at, for so many seconds of the processor.
/// @return whether anything new was found
bool look_for_must_watch(const View& view, const Stores& stores, double seconds, const std::function<bool()>& go_on = {});

/// Those of them that nobody has watched since they last changed.
std::vector<Restless> unwatched(const View& view, MediaCatalog& media, const WatchLog& log, const std::function<bool()>& go_on = {});

}  // namespace gc
