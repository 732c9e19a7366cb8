#include "effects/registry.h"

namespace gc {

const std::vector<const EffectType*>& effect_types() {
  static const std::vector<const EffectType*> all{
      &cdl_effect(),       &contrast_effect(),     &saturation_effect(),       &curves_effect(),
      &lut_effect(),       &colour_space_effect(), &secondary_effect(),        &spatial_nr_effect(),
      &strong_nr_effect(), &temporal_nr_effect(),  &deflicker_effect(),        &dust_effect(),
      &sharpen_effect(),   &blur_effect(),         &directional_blur_effect(), &defocus_effect(),
      &glow_effect(),      &lens_effect(),         &vignette_effect(),         &grain_effect(),
      &stylise_effect(),   &transform_effect(),    &shape_tracker(),           &cost_card_effect()};
  return all;
}

const EffectType* effect_type(const std::string& id) {
  for (const EffectType* t : effect_types())
    if (t->id == id) return t;
  return nullptr;
}

const std::vector<const EffectType*>& generator_types() {
  static const std::vector<const EffectType*> all{&solid_generator(), &gradient_generator(),
                                                  &noise_generator(), &particles_generator(),
                                                  &title_generator()};
  return all;
}

const EffectType* generator_type(const std::string& kind) {
  for (const EffectType* t : generator_types())
    if (t->id == kind) return t;
  return nullptr;
}

}  // namespace gc
