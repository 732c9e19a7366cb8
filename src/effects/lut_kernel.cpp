#include "effects/lut_kernel.h"

#include <algorithm>

#define GC_CLONES __attribute__((target_clones("arch=x86-64-v3", "default")))

namespace gc {
namespace {

typedef float Four __attribute__((vector_size(16)));
constexpr std::size_t kRun = 64;

/// Cells and weights of a run of pixels, worked out side by side.
struct Run {
  int cell[kRun], first[kRun], second[kRun];
  float most[kRun], middle[kRun], least[kRun];
};

GC_CLONES void locate(const float* p, std::size_t n, int edge, Run& run) {
  const float top = static_cast<float>(edge - 1);
  const int sr = 4 * edge * edge, sg = 4 * edge, sb = 4;
  for (std::size_t i = 0; i < n; ++i) {
    const float r = std::min(std::max(p[4 * i], 0.0f), 1.0f) * top,
                g = std::min(std::max(p[4 * i + 1], 0.0f), 1.0f) * top,
                b = std::min(std::max(p[4 * i + 2], 0.0f), 1.0f) * top;
    // Bounded below too: what is not a number must not point outside the cube.
    const int ir = std::max(0, std::min(static_cast<int>(r), edge - 2)),
              ig = std::max(0, std::min(static_cast<int>(g), edge - 2)),
              ib = std::max(0, std::min(static_cast<int>(b), edge - 2));
    const float fr = r - static_cast<float>(ir), fg = g - static_cast<float>(ig),
                fb = b - static_cast<float>(ib);
    run.cell[i] = ir * sr + ig * sg + ib * sb;
    // The way from the dark corner to the light one goes along the greatest fraction first, the least last.
    const float high = std::max(fr, std::max(fg, fb)), low = std::min(fr, std::min(fg, fb));
    run.most[i] = high;
    run.least[i] = low;
    run.middle[i] = std::max(std::min(fr, fg), std::min(std::max(fr, fg), fb));
    const bool r_high = fr >= fg && fr >= fb, g_high = !r_high && fg >= fb;
    run.first[i] = r_high ? sr : g_high ? sg : sb;
    const bool b_low = fb <= fr && fb <= fg, g_low = !b_low && fg <= fr;
    const int last = b_low ? sb : g_low ? sg : sr;
    run.second[i] = sr + sg + sb - last;
  }
}

}  // namespace

GC_CLONES void tetrahedral_pixels(float* rgba, std::size_t pixels, const float* cube, int edge) {
  Run run;
  const int far = 4 * (edge * edge + edge + 1);
  for (std::size_t at = 0; at < pixels; at += kRun) {
    const std::size_t n = std::min(kRun, pixels - at);
    float* p = rgba + 4 * at;
    locate(p, n, edge, run);
    for (std::size_t i = 0; i < n; ++i) {
      const float* c = cube + run.cell[i];
      const Four v0 = *reinterpret_cast<const Four*>(c),
                 v1 = *reinterpret_cast<const Four*>(c + run.first[i]),
                 v2 = *reinterpret_cast<const Four*>(c + run.second[i]),
                 v3 = *reinterpret_cast<const Four*>(c + far);
      const Four v = v0 + (v1 - v0) * run.most[i] + (v2 - v1) * run.middle[i] + (v3 - v2) * run.least[i];
      p[4 * i] = v[0], p[4 * i + 1] = v[1], p[4 * i + 2] = v[2];
    }
  }
}

}  // namespace gc
