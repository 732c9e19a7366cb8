// What went on around a measurement, and what the seat's costs belong to: a change of processor, kernel,
// driver or library starts a new era.
#pragma once
#include <string>

#include "base/json.h"

namespace gc {

/// Counters of the whole machine since its start, for the difference of two readings.
struct MachineTimes {
  double busy_s = 0, idle_s = 0;  ///< of all processors together
  double stolen_s = 0;            ///< that a hypervisor gave to others
  double own_s = 0;               ///< processor time of this process
  double stalled_s = 0;  ///< some task waited for a processor (PSI); 0 where the kernel does not tell
  double read_mb = 0;    ///< 10^6 bytes that this process had from drives
  double at_s = 0;
};
MachineTimes machine_times();

/// Shares of the machine between two readings, 0…1.
struct Conditions {
  double others = 0;   ///< processor time that other programs took
  double stolen = 0;   ///< that the hypervisor took
  double stalled = 0;  ///< of the time some task waited for a processor
  double mhz = 0;      ///< mean clock, 0 where the system does not tell
  /// Whether so much was taken that times say little about the machine.
  bool disturbed() const { return others + stolen > 0.15; }
};
Conditions conditions_between(const MachineTimes& before, const MachineTimes& after);
Json to_json(const Conditions& c);

/// What costs belong to: processor, kernel, libraries, accelerator driver, renderer version.
Json era_identity();
/// "The kernel changed from 6.1.0 to 6.1.1." Empty when they are the same.
std::string era_change(const Json& before, const Json& after);

}  // namespace gc
