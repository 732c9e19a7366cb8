// Every effect there is.
#pragma once
#include "effects/effect.h"

namespace gc {

/// In the order in which they are offered.
const std::vector<const EffectType*>& effect_types();
/// Null for an effect we do not have; it is then passed through.
const EffectType* effect_type(const std::string& id);

const EffectType& cdl_effect();
const EffectType& blur_effect();
const EffectType& spatial_nr_effect();
const EffectType& contrast_effect();
const EffectType& saturation_effect();
const EffectType& sharpen_effect();
const EffectType& directional_blur_effect();
const EffectType& glow_effect();
const EffectType& vignette_effect();
const EffectType& transform_effect();

/// Generators make a picture of their own: "title" and "solid". Null for others.
const EffectType* generator_type(const std::string& kind);
const EffectType& title_generator();
const EffectType& solid_generator();

}  // namespace gc
