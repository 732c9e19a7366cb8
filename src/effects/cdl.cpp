// Grade by ASC CDL 1.2: out = clamp(in × slope + offset) ^ power in each channel, then saturation about Rec.
// 709 luma.
#include "effects/cdl_kernel.h"
#include "effects/points.h"
#include "effects/registry.h"

namespace gc {

CdlValues cdl_values(const EffectType& type, const Json& p) {
  CdlValues v;
  v.saturation = param_f(type, p, "saturation");
  for (std::size_t c = 0; c < 3; ++c) {
    v.slope[c] = param_f(type, p, "slope", c);
    v.offset[c] = param_f(type, p, "offset", c);
    v.power[c] = param_f(type, p, "power", c);
  }
  return v;
}

bool is_identity(const CdlValues& v) {
  bool same = v.saturation == 1;
  for (int c = 0; c < 3; ++c) same = same && v.slope[c] == 1 && v.offset[c] == 0 && v.power[c] == 1;
  return same;
}

const std::vector<ParamSpec>& cdl_params() {
  static const std::vector<ParamSpec> params{{"slope", "Slope", "", 0, 16, 1, 3},
                                             {"offset", "Offset", "", -4, 4, 0, 3},
                                             {"power", "Power", "", 0.05, 16, 1, 3},
                                             {"saturation", "Saturation", "", 0, 8, 1}};
  return params;
}

namespace {

class Cdl : public PointInstance {
 public:
  Cdl(const EffectType& type, const Json& p, int, int) : values_(cdl_values(type, p)) {}
  bool identity() const override { return is_identity(values_); }
  void pixels(float* rgba, std::size_t n, int, int, const FrameContext&) const override {
    cdl_pixels(rgba, n, values_);
  }
  bool apply(cv::UMat& image, bool opaque, const FrameContext& at) const override {
    const CdlValues& v = values_;
    return run_point_kernel(R"(
  p.xyz = clamp(p.xyz * (float3)(a[0], a[1], a[2]) + (float3)(a[3], a[4], a[5]), 0.0f, 1.0f);
  const float3 lifted = pow(max(p.xyz, 1e-12f), (float3)(a[6], a[7], a[8]));
  p.xyz = select((float3)(0.0f), lifted, p.xyz > 0.0f);
  const float luma = 0.2126f * p.x + 0.7152f * p.y + 0.0722f * p.z;
  p.xyz = clamp(luma + a[9] * (p.xyz - luma), 0.0f, 1.0f);
)",
                            "", image, opaque, at,
                            {v.slope[0], v.slope[1], v.slope[2], v.offset[0], v.offset[1], v.offset[2],
                             v.power[0], v.power[1], v.power[2], v.saturation});
  }

 private:
  CdlValues values_;
};

}  // namespace

const EffectType& cdl_effect() {
  static const EffectType type = [] {
    EffectType t{"cdl", "CDL grade", StageKind::grade, cdl_params(), false, make_instance<Cdl, cdl_effect>};
    t.growth = {{"Mpixel × powers", "Mpixel saturated"},
                [](const EffectType& e, const Json& p, const WorkSize& at, Terms& out) {
                  const CdlValues v = cdl_values(e, p);
                  for (const float power : v.power) out[1] += static_cast<float>(power != 1 ? at.mpix : 0);
                  out[2] = static_cast<float>(v.saturation != 1 ? at.mpix : 0);
                }};
    t.point = t.accelerator = true;
    t.tolerance = 1e-4;
    t.family = "grade";
    return t;
  }();
  return type;
}

}  // namespace gc
