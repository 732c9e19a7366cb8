// What remedies were said to cost and to bring, against what they took and brought, on timelines that nobody tuned them for.
#pragma once
#include "desk/remedies.h"

namespace gc {

struct RemedyScoreOptions {
  std::uint64_t seed = 1;
  int timelines = 10;
  int each = 5;          ///< remedies of a timeline, of different kinds
  bool foreign = false;  ///< timelines of strangers' pictures
  double measure_seconds = 12;
};

struct TriedRemedy {
  std::uint64_t timeline = 0;
  std::string id, kind;
  double said_s = 0, taken_s = 0;         ///< of rendering; 0: nothing was rendered
  double gain_said = 0, gain_seen = 0;    ///< frames, means
  /// Own drops of playouts: of the timeline as it is, just before it was applied and after it, and of the timeline with it.
  std::vector<double> drops_without, drops_with;
  std::string failed;                     ///< why it could not be applied
  /// Within 15 %, or a tenth of a second.
  bool price_within() const { return std::abs(said_s - taken_s) <= std::max(0.1, 0.15 * taken_s); }
  bool gain_within() const { return frames_within(gain_said, gain_seen); }
  /// Within two frames or 10 % of what was seen.
  static bool frames_within(double said, double seen) { return std::abs(said - seen) <= tolerance(seen); }
  static double tolerance(double seen) { return std::max(2.0, 0.1 * std::abs(seen)); }
  /// Whether these playouts tell the gain: its standard error is at most half of what is tolerated, or six playouts with it and as
  /// many without it have not told. What was said plays no part in it.
  bool gain_seen_well() const;
};

/// Each remedy on a shelf of its own: the timeline is played as it is and with the remedy, in turn, until the gain is told. A gain
/// is the difference of the means: what the forecast says is a mean, and one playout is not.
Result<std::vector<TriedRemedy>> try_remedies(const Stores& stores, const RemedyScoreOptions& options, const fs::path& folder,
                                              const std::function<bool(const std::string&)>& progress, const std::atomic<bool>& stop);

/// Beside what was asked: of playouts of the same timeline as it was before a remedy and after it, how many agree as closely as a
/// gain has to. A forecast of one playout's gain could be no better than that.
Json to_json(const std::vector<TriedRemedy>& tried);

}  // namespace gc
