#include "effects/registry.h"

namespace gc {

const std::vector<const EffectType*>& effect_types() {
  static const std::vector<const EffectType*> all{
      &cdl_effect(),      &contrast_effect(), &saturation_effect(),       &spatial_nr_effect(),
      &blur_effect(),     &sharpen_effect(),  &directional_blur_effect(), &glow_effect(),
      &vignette_effect(), &transform_effect()};
  return all;
}

const EffectType* effect_type(const std::string& id) {
  for (const EffectType* t : effect_types())
    if (t->id == id) return t;
  return nullptr;
}

const EffectType* generator_type(const std::string& kind) {
  if (kind == title_generator().id) return &title_generator();
  if (kind == solid_generator().id) return &solid_generator();
  return nullptr;
}

}  // namespace gc
