// Seat profiles at the desk: this seat's, those that ship, and files from elsewhere.
#pragma once
#include <fmt/format.h>

#include "desk/desk.h"
#include "forecast/advice.h"

namespace gc {

/// This seat as it was last measured, with the laws that the notebook has now.
SeatProfile known_profile(const Stores& stores);
/// Keeps what was measured beside the laws (volumes, media, memory ...) for the next start.
Result<void> keep_profile(const SeatProfile& profile);
fs::path kept_profile_file();

/// A thin laptop, a tower with an accelerator, a render node: made up, to try a timeline on.
std::vector<SeatProfile> invented_seats();
/// A file, "this", or the name of a seat that ships.
Result<SeatProfile> find_profile(const std::string& name);

struct SeatRow {
  std::string what, first, second;
  double ratio = 0;  ///< how many times as fast the second is; 0: no speed
};
std::vector<SeatRow> compare_seats(const SeatProfile& first, const SeatProfile& second);

Json to_json(const Advice& advice);

/// An error as a share of what is measured: "4.2 %". Beyond ten times it says no more than that it is unknown.
inline std::string error_text(double share) {
  return share < 10 ? fmt::format("{:.1f} %", share * 100) : std::string("unknown");
}

}  // namespace gc
