// Calibration: small made-up timelines run through the playing pipeline, at places where the cost laws are
// least sure, until the laws are good or the time is spent.
#pragma once
#include <functional>
#include <random>

#include "measure/measure.h"

namespace gc {

struct CalibrateOptions {
  double seconds = 30;
  int workers = 2;
  std::uint64_t seed = 1;
  /// Effects run on the accelerator, and only those that can. One that does not work leaves nothing to try.
  bool accelerator = false;
  /// Pixels of the largest raster, in millions. Small ones are quick, but large ones show where caches end.
  double most_mpix = 2.1;
  /// Nothing is learnt: the laws of a notebook that knows its seat are tried on work that they never saw.
  bool only_tries = false;
  std::vector<std::string> only;  ///< ids of effects and generators; empty: all
};

struct CalibrateProgress {
  double seconds = 0, limit_seconds = 0;
  int runs = 0, frames = 0;
  std::string what;
};

/// A stage or a segment that was held back, with what the laws said of it afterwards.
struct HeldOut {
  std::string law;  ///< empty: a whole segment
  int stages = 1;
  double measured_ms = 0;
  CostEstimate predicted;
  Terms terms{};  ///< of a stage
  double error() const { return std::abs(predicted.ms / measured_ms - 1); }
};

struct CalibrateReport {
  int runs = 0, frames = 0, laws = 0;
  double seconds = 0;
  bool cancelled = false;
  double disturbed = 0;  ///< share of the runs that others disturbed; nothing was learnt from them
  std::vector<std::string> not_sure;   ///< laws whose error on places left out is above 15 % in nine of ten
  std::vector<std::string> not_known;  ///< work of which too little was seen for a law
  std::vector<HeldOut> held_out;
};

/// Fills the notebook's laws. Stops in time, or when `progress` returns false; what was learnt until then is
/// kept, and the next call goes on from there. Needs some tens of MB for made-up media in the cache folder,
/// which are removed.
Result<CalibrateReport> calibrate(Notebook& notebook, const CalibrateOptions& options,
                                  const std::function<bool(const CalibrateProgress&)>& progress);

/// Parameters somewhere in their ranges at which the effect shows. `lut`: a file for those that need one.
Json any_params(std::mt19937_64& rng, const EffectType& type, const std::string& lut);

}  // namespace gc
