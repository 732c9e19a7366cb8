// Grade by ASC CDL 1.2: out = clamp(in × slope + offset) ^ power in each channel, then saturation about Rec.
// 709 luma.
#include "effects/cdl_kernel.h"
#include "effects/registry.h"

namespace gc {
namespace {

class Cdl : public EffectInstance {
 public:
  Cdl(const EffectType& type, const Json& p) {
    values_.saturation = static_cast<float>(param(type, p, "saturation"));
    identity_ = values_.saturation == 1;
    for (std::size_t c = 0; c < 3; ++c) {
      values_.slope[c] = static_cast<float>(param(type, p, "slope", c));
      values_.offset[c] = static_cast<float>(param(type, p, "offset", c));
      values_.power[c] = static_cast<float>(param(type, p, "power", c));
      identity_ = identity_ && values_.slope[c] == 1 && values_.offset[c] == 0 && values_.power[c] == 1;
    }
  }
  bool identity() const override { return identity_; }
  void apply(Image& image) const override {
    if (!image.opaque) unpremultiply(image);
    cdl_pixels(image.data(), image.floats() / 4, values_);
    if (!image.opaque) premultiply(image);
  }

 private:
  static void unpremultiply(Image& image) {
    float* p = image.data();
    for (std::size_t i = 0; i < image.floats(); i += 4)
      if (const float a = p[i + 3]; a > 0)
        for (std::size_t c = 0; c < 3; ++c) p[i + c] /= a;
  }
  static void premultiply(Image& image) {
    float* p = image.data();
    for (std::size_t i = 0; i < image.floats(); i += 4)
      for (std::size_t c = 0; c < 3; ++c) p[i + c] *= p[i + 3];
  }

  CdlValues values_;
  bool identity_ = false;
};

}  // namespace

const EffectType& cdl_effect() {
  static const EffectType type{"cdl",
                               "CDL grade",
                               StageKind::grade,
                               {{"slope", "Slope", "", 0, 16, 1, 3},
                                {"offset", "Offset", "", -4, 4, 0, 3},
                                {"power", "Power", "", 0.05, 16, 1, 3},
                                {"saturation", "Saturation", "", 0, 8, 1}},
                               false,
                               [](const Json& p, int, int) -> std::unique_ptr<EffectInstance> {
                                 return std::make_unique<Cdl>(cdl_effect(), p);
                               }};
  return type;
}

}  // namespace gc
