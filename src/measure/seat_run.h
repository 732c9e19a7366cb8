// Measuring the whole seat: quickly, within a minute, or in full.
#pragma once
#include "measure/calibrate.h"
#include "measure/codecs.h"

namespace gc {

struct SeatRunOptions {
  bool full = false;
  int workers = 2;
  double memory_left_gb = 4;
  std::vector<fs::path> volumes;  ///< folders on the volumes to measure
  bool network = false;
  std::vector<VolumeSpeed> known_volumes = {};  ///< as measured before, perhaps with more or less room
  int width = 1920, height = 1080;              ///< raster that cached media are tried at
  ProgramPtr program;  ///< a timeline whose frames they are tried on; none: made-up ones
  int screen_width = 0, screen_height = 0;
  std::uint64_t seed = 1;
};

struct SeatRunProgress {
  std::string what;
  double seconds = 0, limit_seconds = 0;
};

struct SeatRunReport {
  SeatProfile profile;
  CalibrateReport calibration;
  double seconds = 0;
  bool cancelled = false;
};

/// At most 60 s, or 6 min in full. Steps that fail are named in the profile's `unknown` and do not stop the
/// rest.
Result<SeatRunReport> measure_seat(Notebook& notebook, const SeatRunOptions& options,
                                   const std::function<bool(const SeatRunProgress&)>& progress);

/// What the notebook knows and what the system says, without measuring.
SeatProfile profile_of(const Notebook& notebook, double memory_left_gb);

}  // namespace gc
