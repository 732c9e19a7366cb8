// Deliveries of timelines that nobody tuned them for: did they take as long and become as big as was said?
#pragma once
#include "desk/desk.h"

namespace gc {

struct MadeDelivery {
  std::uint64_t timeline = 0;
  std::string form;
  Frames frames = 0;
  std::optional<double> said_s;  ///< none: the seat did not know
  double taken_s = 0;
  double said_bytes = 0, bytes = 0;
  std::string failed;            ///< why there is none
  /// Within 15 %, or a tenth of a second.
  bool seconds_within() const { return failed.empty() && said_s && std::abs(*said_s - taken_s) <= std::max(0.1, 0.15 * taken_s); }
  bool bytes_within() const { return failed.empty() && std::abs(said_bytes - bytes) <= 0.15 * bytes; }
};

struct DeliveryScoreOptions {
  std::uint64_t seed = 1;
  int timelines = 10;
  int forms = 2;         ///< of each timeline; they go round among all forms
  double measure_seconds = 10;
  Frames frames = 144;   ///< of each timeline, from its middle, at most
  bool foreign = false;  ///< of strangers' pictures
};

/// A part of each timeline is delivered from its sources, with nothing rendered before. What the gate lets a person accept is accepted.
/// Deliveries that failed count among those that are not within.
Result<std::vector<MadeDelivery>> make_deliveries(const Stores& stores, const DeliveryScoreOptions& options, const fs::path& folder,
                                                  const std::function<bool(const std::string&)>& progress, const std::atomic<bool>& stop);

/// Met: the time is within 15 % in nine of ten.
Json to_json(const std::vector<MadeDelivery>& all);

}  // namespace gc
