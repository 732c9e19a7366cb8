// Plans carried out for real on timelines that nobody tuned them for: does the review play then, and did it take what was said?
#pragma once
#include "desk/remedies.h"

namespace gc {

struct CarriedPlan {
  std::uint64_t timeline = 0;
  Frames frames = 0, dropped_before = 0;  ///< own drops of one playout
  int remedies = 0;
  std::string sentence;
  double said_s = 0, taken_s = 0;
  double said_bytes = 0, bytes = 0;
  bool holds = false;                     ///< it was said that all of it plays then
  std::vector<Frames> dropped_after;      ///< own drops of each playout
  std::vector<std::string> left;          ///< of these, in words: what of which segment dropped, and why
  std::string failed;                     ///< why it could not be carried out
  /// No playout dropped anything of its own.
  bool plays() const;
  /// Within 15 %, or a tenth of a second.
  bool seconds_within() const { return std::abs(said_s - taken_s) <= std::max(0.1, 0.15 * taken_s); }
  bool bytes_within() const { return std::abs(said_bytes - bytes) <= 0.15 * bytes; }
};

struct CarryScoreOptions {
  std::uint64_t seed = 1;
  int timelines = 6;
  int repeat = 2;        ///< playouts after
  bool foreign = false;  ///< of strangers' pictures
  double measure_seconds = 20;
};

/// Each timeline on a shelf of its own: measured, planned, played, the plan carried out, played again.
Result<std::vector<CarriedPlan>> carry_out_plans(const Stores& stores, const CarryScoreOptions& options, const fs::path& folder,
                                                 const std::function<bool(const std::string&)>& progress, const std::atomic<bool>& stop);

/// Met: five of six play, and both prices are within 15 % in nine of ten.
Json to_json(const std::vector<CarriedPlan>& all);

}  // namespace gc
