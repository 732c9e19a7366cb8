// Two simple grades in one file, since both are a line of arithmetic: contrast about a pivot, and saturation
// about Rec. 709 luma.
#include "effects/registry.h"

#define GC_CLONES __attribute__((target_clones("avx2", "default")))

namespace gc {
namespace {

GC_CLONES void contrast_pixels(float* p, std::size_t n, float contrast, float pivot) {
  for (std::size_t i = 0; i < n; ++i)
    for (std::size_t c = 0; c < 3; ++c) {
      // On premultiplied pixels the pivot is that of the colour: pivot × alpha.
      float& v = p[4 * i + c];
      v = (v - pivot * p[4 * i + 3]) * contrast + pivot * p[4 * i + 3];
    }
}

GC_CLONES void saturate_pixels(float* p, std::size_t n, float amount) {
  for (std::size_t i = 0; i < n; ++i, p += 4) {
    const float luma = 0.2126f * p[0] + 0.7152f * p[1] + 0.0722f * p[2];
    for (int c = 0; c < 3; ++c) p[c] = luma + amount * (p[c] - luma);
  }
}

class Contrast : public EffectInstance {
 public:
  Contrast(double contrast, double pivot)
      : contrast_(static_cast<float>(contrast)), pivot_(static_cast<float>(pivot)) {}
  bool identity() const override { return contrast_ == 1; }
  void apply(Image& image) const override {
    contrast_pixels(image.data(), image.floats() / 4, contrast_, pivot_);
  }

 private:
  float contrast_, pivot_;
};

class Saturation : public EffectInstance {
 public:
  explicit Saturation(double amount) : amount_(static_cast<float>(amount)) {}
  bool identity() const override { return amount_ == 1; }
  void apply(Image& image) const override { saturate_pixels(image.data(), image.floats() / 4, amount_); }

 private:
  float amount_;
};

}  // namespace

const EffectType& contrast_effect() {
  static const EffectType type{"contrast",
                               "Contrast",
                               StageKind::grade,
                               {{"contrast", "Contrast", "", 0, 8, 1}, {"pivot", "Pivot", "", 0, 1, 0.435}},
                               false,
                               [](const Json& p, int, int) -> std::unique_ptr<EffectInstance> {
                                 return std::make_unique<Contrast>(param(contrast_effect(), p, "contrast"),
                                                                   param(contrast_effect(), p, "pivot"));
                               }};
  return type;
}

const EffectType& saturation_effect() {
  static const EffectType type{"saturation",
                               "Saturation",
                               StageKind::grade,
                               {{"amount", "Amount", "", 0, 8, 1}},
                               false,
                               [](const Json& p, int, int) -> std::unique_ptr<EffectInstance> {
                                 return std::make_unique<Saturation>(param(saturation_effect(), p, "amount"));
                               }};
  return type;
}

}  // namespace gc
