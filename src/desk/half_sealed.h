// A segment whose picture below its grade is rendered, and what a new grade leaves of that.
#pragma once
#include <atomic>

#include "desk/desk.h"

namespace gc {

struct HalfSealed {
  std::string segment;    ///< its id; empty: no segment has a grade above another effect
  std::size_t after = 0;  ///< effects that are rendered
  int frames = 0;         ///< answered so after the first grade
  int kept = 0;           ///< still answered so after the second
  double psnr_db = 0;     ///< of one of them against the live picture
};

/// Renders a segment's picture below its grade, grades it twice, and looks what is left of the render.
/// @param wanted the segment that is tried first, by its grade `grade`; where it has nothing below that, others
Result<HalfSealed> half_sealed(const View& view, Stores& stores, const std::string& wanted, const std::string& grade,
                               const std::atomic<bool>& stop);

}  // namespace gc
