// A LUT from a file, and the transform between two colour spaces. Files are read by OpenColorIO; a plain cube
// with tetrahedral interpolation runs in a kernel of our own, everything else in the library.
#include <cstdlib>

#include "effects/lut_kernel.h"
#include "effects/points.h"
#include "effects/registry.h"
#include "media/colour.h"

namespace gc {
namespace {

class Transformed : public PointInstance {
 public:
  Transformed(Result<ColourTransformPtr> t, bool tetrahedral, float mix) : mix_(mix) {
    if (!t) {
      trouble_ = t.error().text();
      return;
    }
    run_ = *t;
    if (!run_ || !tetrahedral || run_->cube().empty()) return;
    edge_ = run_->cube_edge();
    const std::size_t entries = run_->cube().size() / 3;
    cube_.reset(static_cast<float*>(std::aligned_alloc(64, (entries * 16 + 63) / 64 * 64)));
    for (std::size_t i = 0; i < entries; ++i)
      for (std::size_t c = 0; c < 4; ++c) cube_.get()[4 * i + c] = c < 3 ? run_->cube()[3 * i + c] : 0;
  }
  bool identity() const override { return trouble_.empty() && (!run_ || run_->identity() || mix_ == 0); }
  std::string trouble() const override { return trouble_; }
  bool on_accelerator() const override { return !run_ || cube_; }
  void pixels(float* rgba, std::size_t n, int, int, const FrameContext&) const override {
    if (!run_) return;
    if (mix_ == 1) return transform(rgba, n);
    thread_local std::vector<float> before;
    before.assign(rgba, rgba + 4 * n);
    transform(rgba, n);
    for (std::size_t i = 0; i < 4 * n; ++i) rgba[i] = before[i] + (rgba[i] - before[i]) * mix_;
  }
  bool apply(cv::UMat& image, bool opaque, const FrameContext& at) const override {
    if (!run_) return true;
    if (!cube_) return false;
    const std::vector<float> table(cube_.get(), cube_.get() + run_->cube().size() / 3 * 4);
    return run_point_kernel(R"(
  const int edge = (int)a[0];
  const float3 at = clamp(p.xyz, 0.0f, 1.0f) * (edge - 1);
  const int3 i = min(convert_int3(at), edge - 2);
  const float3 f = at - convert_float3(i);
  const int sr = edge * edge, sg = edge, sb = 1;
  __global const float4* cube = (__global const float4*)table + i.x * sr + i.y * sg + i.z * sb;
  const float high = max(f.x, max(f.y, f.z)), low = min(f.x, min(f.y, f.z));
  const float middle = max(min(f.x, f.y), min(max(f.x, f.y), f.z));
  const int first = f.x >= f.y && f.x >= f.z ? sr : f.y >= f.z ? sg : sb;
  const int last = f.z <= f.x && f.z <= f.y ? sb : f.y <= f.x ? sg : sr;
  const float4 v0 = cube[0], v1 = cube[first], v2 = cube[sr + sg + sb - last], v3 = cube[sr + sg + sb];
  const float4 v = v0 + (v1 - v0) * high + (v2 - v1) * middle + (v3 - v2) * low;
  p.xyz += (v.xyz - p.xyz) * a[1];
)",
                            "", image, opaque, at, {static_cast<float>(edge_), mix_}, table);
  }

 private:
  void transform(float* rgba, std::size_t n) const {
    if (cube_) tetrahedral_pixels(rgba, n, cube_.get(), edge_);
    else run_->apply(rgba, n);
  }

  struct Free {
    void operator()(float* p) const { std::free(p); }
  };
  ColourTransformPtr run_;
  std::string trouble_;
  std::unique_ptr<float, Free> cube_;
  int edge_ = 0;
  float mix_ = 1;
};

std::unique_ptr<EffectInstance> make_lut(const Json& p, int, int) {
  const bool tetrahedral = text_or(p, "interpolation", "tetrahedral") != "trilinear";
  const std::string path = text_or(p, "path", "");
  if (path.empty()) return std::make_unique<Transformed>(ColourTransformPtr(), tetrahedral, 0.0f);
  return std::make_unique<Transformed>(lut_transform(path, tetrahedral), tetrahedral,
                                       param_f(lut_effect(), p, "mix"));
}

std::unique_ptr<EffectInstance> make_space(const Json& p, int, int) {
  return std::make_unique<Transformed>(
      colour_transform(text_or(p, "from", "Rec. 709"), text_or(p, "to", "Rec. 709")), false, 1.0f);
}

}  // namespace

const EffectType& lut_effect() {
  static const EffectType type = [] {
    EffectType t{"lut",
                 "LUT",
                 StageKind::grade,
                 {{"path", "File", "", 0, 0, 0, 1, false, true},
                  {"interpolation", "Interpolation", "tetrahedral or trilinear", 0, 0, 0, 1, true, true},
                  {"mix", "Mix", "", 0, 1, 1}},
                 false,
                 make_lut};
    t.point = t.accelerator = true;
    t.tolerance = 1e-5;
    t.family = "grade";
    return t;
  }();
  return type;
}

const EffectType& colour_space_effect() {
  static const EffectType type = [] {
    EffectType t{"colour_space",
                 "Colour-space transform",
                 StageKind::grade,
                 {{"from", "From", "", 0, 0, 0, 1, true, true}, {"to", "To", "", 0, 0, 0, 1, true, true}},
                 false,
                 make_space};
    t.point = true;
    t.processor_only = "OpenColorIO gives shaders for screens, not kernels for OpenCL";
    t.family = "grade";
    return t;
  }();
  return type;
}

std::unique_ptr<EffectInstance> make_colour_transform(ColourTransformPtr transform) {
  return std::make_unique<Transformed>(std::move(transform), false, 1.0f);
}

}  // namespace gc
