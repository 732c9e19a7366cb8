// Settledness: how likely a segment stays as it is, from how often it was edited and where in its stack.
#pragma once
#include <filesystem>

#include "base/database.h"
#include "timeline/timeline.h"

namespace gc {

namespace fs = std::filesystem;

/// Something of a segment that an edit changed.
struct Change {
  std::string segment;
  std::size_t effect = 0;  ///< place in its stack of the lowest effect that is another now; 0 where the source or its timing changed
  bool operator==(const Change&) const = default;
};
/// Segments of both timelines whose picture an edit changed. What was only moved or renamed is not among them.
std::vector<Change> changes_between(const Timeline& before, const Timeline& after);

/// Every edit of this seat, kept by timeline, segment and effect.
class EditLog {
 public:
  static Result<EditLog> open(const fs::path& file);
  static fs::path usual_file();  ///< edits.sqlite in the data folder
  /// What was edited at the same place within ten minutes counts once: a slider that is dragged is one edit.
  Result<void> note(const Timeline& timeline, const std::vector<Change>& changes, double now_s);
  /// Locked by hand: it counts as settled, whatever was edited before; or not any more.
  Result<void> lock(const Timeline& timeline, const std::string& segment, bool locked);
  bool locked(const Timeline& timeline, const std::string& segment) const;

  /// The chance that a segment is changed at an effect below `below` within some hours: edits come at random, as often as
  /// they came in the latest fortnight, 1 − exp(−edits ÷ hours looked at × hours to come). A day is looked at at least.
  /// @param below a place in the stack: what lies there or above is not asked for; very large: the whole stack
  double chance(const Timeline& timeline, const std::string& segment, std::size_t below, double hours, double now_s) const;

 private:
  Database database_;
};

}  // namespace gc
