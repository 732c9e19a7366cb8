// Colour spaces, through OpenColorIO with a small configuration that is carried inside the program.
#pragma once
#include <memory>
#include <string>
#include <vector>

#include "base/error.h"

namespace gc {

/// "Rec. 709" (display-referred, BT.1886), "Linear Rec. 709", "Rec. 2020", "PQ" (Rec. 2100, ST 2084),
/// "ACEScg", "ACEScct", "ACES2065-1".
const std::vector<std::string>& colour_spaces();
bool is_colour_space(const std::string& name);
/// Whether its values are proportional to light, without an upper bound.
bool is_light(const std::string& space);

/// Code points of ITU-T H.273 for primaries and transfer characteristics; BT.709 where a space has none.
struct ColourCodes {
  int primaries = 1, transfer = 1;
};
ColourCodes colour_codes(const std::string& space);

/// Ready to run from several threads at once.
class ColourTransform {
 public:
  virtual ~ColourTransform() = default;
  /// RGBA pixels, not premultiplied; alpha stays.
  virtual void apply(float* rgba, std::size_t pixels) const = 0;
  virtual bool identity() const = 0;
  /// The table of a transform that is one 3D LUT and nothing else: edge³ × 3 floats, blue fastest; empty
  /// otherwise.
  virtual const std::vector<float>& cube() const = 0;
  virtual int cube_edge() const = 0;
};
using ColourTransformPtr = std::shared_ptr<const ColourTransform>;

/// From one space to another; the same object for the same names.
Result<ColourTransformPtr> colour_transform(const std::string& from, const std::string& to);

/// A LUT file: .cube (1D, 3D), .clf and what else the library reads.
/// @param tetrahedral interpolation of 3D tables, else trilinear
Result<ColourTransformPtr> lut_transform(const std::string& path, bool tetrahedral);

}  // namespace gc
