// The demo production, The Kiln Year: pictures, a timeline, and work heavy enough for this seat.
#pragma once
#include <functional>

#include "base/files.h"
#include "interchange/otio.h"

namespace gc {

struct DemoOptions {
  std::uint32_t seed = 1926;
  int width = 1280, height = 720;
  double length = 1.0;  ///< of the segments, for tests: 0.25 makes a quarter of the running time
  /// Heavy segments take a stated time of every frame, whatever the machine and however busy it is: nothing is
  /// measured, and what spills is known (`kStated`).
  bool stated = false;
};

/// A segment of the demo whose frames take a stated time: load = stated work ÷ (processors × frame budget). None is
/// near the budget, so that no minute of a shared machine decides what becomes of them.
struct StatedCost {
  const char* segment;
  double load;
};
inline constexpr StatedCost kStated[] = {{"ky-05", 1.9}, {"ky-09", 2.6}, {"ky-11", 1.7}, {"ky-16", 2.2}};

struct DemoReport {
  fs::path timeline;
  fs::path reel;  ///< a second timeline: every effect and way of layering in a segment of its own
  int segments = 0, sources = 0;
  double seconds_of_picture = 0, seconds_taken = 0;
  bool media_made = false;  ///< false when they were there already
  std::string scaling;      ///< what the heavy segments were scaled by, a sentence
  std::vector<std::pair<std::string, double>> settled;  ///< heavy segments with the load each was found to have
};

/// Makes the media (when they are not there), measures the seat briefly, scales the heavy effects so that
/// some spans hold, some waver and some spill here, and writes FOLDER/the-kiln-year.otio. `progress` gets 0…1
/// and what is done.
Result<DemoReport> make_demo(const fs::path& folder, const DemoOptions& options,
                             const std::function<void(double, const std::string&)>& progress);

}  // namespace gc
