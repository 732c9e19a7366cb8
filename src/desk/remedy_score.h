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
  double gain_said = 0, gain_seen = 0;    ///< frames
  std::string failed;                     ///< why it could not be applied
  /// Within 15 %, or a tenth of a second.
  bool price_within() const { return std::abs(said_s - taken_s) <= std::max(0.1, 0.15 * taken_s); }
  /// Within two frames or 10 %.
  bool gain_within() const { return std::abs(gain_said - gain_seen) <= std::max(2.0, 0.1 * std::abs(gain_seen)); }
};

/// Each remedy on a shelf of its own: the timeline is played as it is, the remedy applied, and played again.
Result<std::vector<TriedRemedy>> try_remedies(const Stores& stores, const RemedyScoreOptions& options, const fs::path& folder,
                                              const std::function<bool(const std::string&)>& progress, const std::atomic<bool>& stop);

Json to_json(const std::vector<TriedRemedy>& tried);

}  // namespace gc
