// Grade by ASC CDL 1.2, run by OpenColorIO: out = clamp(in × slope + offset) ^ power in each channel, then saturation
// about Rec. 709 luma.
#include <OpenColorIO/OpenColorIO.h>

#include <cmath>

#include "effects/registry.h"

namespace OCIO = OCIO_NAMESPACE;

namespace gc {
namespace {

class Cdl : public EffectInstance {
 public:
  Cdl(const EffectType& type, const Json& p) {
    double sop[9];
    for (std::size_t i = 0; i < 3; ++i) sop[i] = param(type, p, "slope", i), sop[3 + i] = param(type, p, "offset", i), sop[6 + i] = param(type, p, "power", i);
    const double saturation = param(type, p, "saturation");
    identity_ = saturation == 1;
    for (int i = 0; i < 9; ++i) identity_ = identity_ && sop[i] == (i >= 3 && i < 6 ? 0.0 : 1.0);
    OCIO::CDLTransformRcPtr cdl = OCIO::CDLTransform::Create();
    cdl->setStyle(OCIO::CDL_ASC);
    cdl->setSOP(sop);
    cdl->setSat(saturation);
    processor_ = OCIO::Config::CreateRaw()->getProcessor(cdl)->getDefaultCPUProcessor();
  }
  bool identity() const override { return identity_; }
  void apply(Image& image) const override {
    if (!image.opaque) unpremultiply(image);
    OCIO::PackedImageDesc pixels(image.data(), image.width(), image.height(), 4);
    processor_->apply(pixels);
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

  OCIO::ConstCPUProcessorRcPtr processor_;
  bool identity_ = false;
};

}  // namespace

const EffectType& cdl_effect() {
  static const EffectType type{
      "cdl",
      "CDL grade",
      StageKind::grade,
      {{"slope", "Slope", "", 0, 16, 1, 3}, {"offset", "Offset", "", -4, 4, 0, 3}, {"power", "Power", "", 0.05, 16, 1, 3}, {"saturation", "Saturation", "", 0, 8, 1}},
      false,
      [](const Json& p, int, int) -> std::unique_ptr<EffectInstance> { return std::make_unique<Cdl>(cdl_effect(), p); }};
  return type;
}

}  // namespace gc
