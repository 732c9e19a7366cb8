// Every effect there is.
#pragma once
#include "effects/effect.h"
#include "media/colour.h"

namespace gc {

/// In the order in which they are offered.
const std::vector<const EffectType*>& effect_types();
/// Null for an effect we do not have; it is then passed through.
const EffectType* effect_type(const std::string& id);

// Grade
const EffectType& cdl_effect();
const EffectType& contrast_effect();
const EffectType& saturation_effect();
const EffectType& curves_effect();
const EffectType& lut_effect();
const EffectType& colour_space_effect();
const EffectType& secondary_effect();
// Repair
const EffectType& spatial_nr_effect();
const EffectType& strong_nr_effect();
const EffectType& temporal_nr_effect();
const EffectType& deflicker_effect();
const EffectType& dust_effect();
// Detail and optics
const EffectType& sharpen_effect();
const EffectType& blur_effect();
const EffectType& directional_blur_effect();
const EffectType& defocus_effect();
const EffectType& glow_effect();
const EffectType& lens_effect();
const EffectType& vignette_effect();
const EffectType& grain_effect();
const EffectType& stylise_effect();
const EffectType& transform_effect();
// Analysis, and what stands for others
const EffectType& shape_tracker();
const EffectType& cost_card_effect();

/// Generators make a picture of their own. Null for a kind we do not have.
const std::vector<const EffectType*>& generator_types();
const EffectType* generator_type(const std::string& kind);
const EffectType& solid_generator();
const EffectType& gradient_generator();
const EffectType& noise_generator();
const EffectType& particles_generator();
const EffectType& title_generator();

/// The parameters of a CDL, shared by the grades that have one inside.
const std::vector<ParamSpec>& cdl_params();
struct CdlValues;
CdlValues cdl_values(const EffectType& type, const Json& params);
bool is_identity(const CdlValues& values);

/// A point operation that applies a colour transform, for the input and output of a timeline.
std::unique_ptr<EffectInstance> make_colour_transform(ColourTransformPtr transform);

}  // namespace gc
