// How a layer meets what is below it. Formulas: Porter and Duff, "Compositing Digital Images" (1984), and the
// W3C recommendation "Compositing and Blending Level 1", for premultiplied pixels:
//   co = cs × αs × (1 − αb) + αs × αb × B(cb, cs) + (1 − αs) × αb × cb,   αo = αs + αb × (1 − αs)
#pragma once
#include <optional>
#include <string>
#include <vector>

#include "media/image.h"

namespace gc {

enum class Blend {
  normal,
  multiply,
  screen,
  overlay,
  darken,
  lighten,
  colour_dodge,
  colour_burn,
  hard_light,
  soft_light,
  difference,
  exclusion,
  hue,
  saturation,
  colour,
  luminosity,
  plus  ///< Porter and Duff's sum of both, not limited to 1
};

const std::vector<std::string>& blend_names();
std::optional<Blend> blend_named(const std::string& name);

/// The layer at `opacity` on the canvas of the same size.
void composite(Image& canvas, const Image& layer, float opacity, Blend mode);

/// layer × the matte's alpha, or × its Rec. 709 luma (premultiplied, so luma × alpha); inverted: × 1 − that.
void apply_matte(Image& layer, const Image& matte, bool luma, bool inverted);

/// Dip to a colour and back: `t` from 0 (only a) over 0.5 (only the colour) to 1 (only b), into a.
void dip(Image& a, const Image& b, float t, const float rgb[3]);

/// Wipe from a to b, into a. The edge moves along `angle` (degrees, 0 to the right, 90 downward); `softness`
/// is its width as part of the way. Places are those of the raster.
void wipe(Image& a, const Image& b, float t, float angle, float softness, int left, int top, int width,
          int height);

}  // namespace gc
