// Whether the devices make the same picture of each effect.
#pragma once
#include <functional>

#include "effects/registry.h"

namespace gc {

struct Agreement {
  const EffectType* type = nullptr;
  bool ran_on_processor = false, ran_on_accelerator = false;
  double greatest = 0;                          ///< difference of a pixel value between the devices
  bool within = true;                           ///< of the tolerance that the effect declares
  std::string why_not;                          ///< why it did not run on the accelerator
  double processor_ms = 0, accelerator_ms = 0;  ///< of the second run, transfers left out
};

/// A parameter set that makes each effect show itself.
Json showing_params(const EffectType& type);

/// Renders every effect and generator at this raster on each device, from a synthetic picture.
/// @param lut a LUT file for the effects that need one; empty: they run with none
/// @param wanted which of them; empty: all
std::vector<Agreement> check_devices(int width, int height, const std::string& lut, const std::function<bool(const EffectType&)>& wanted = {});

/// One effect applied to a picture on the processor, with the neighbours it asks for. `ms`: what it took by
/// itself.
Image show_effect(const EffectType& type, const Json& params, const std::function<Image(Frames)>& picture,
                  Frames frame, double* ms = nullptr);

/// A small made-up LUT as .cube text: warm lights, cool shadows.
std::string made_up_cube(int edge);

}  // namespace gc
