// Two RGBA pixels side by side in one vector. The compiler turns these into whatever the processor has;
// functions that use them are compiled for several generations (GC_LANES) and chosen at start.
#pragma once
#include <cstddef>
#include <cstring>

// Chosen by what the processor can do (x86-64-v3 is AVX2 and FMA), not by its name.
#define GC_LANES __attribute__((target_clones("arch=x86-64-v3", "default")))
#define GC_INLINE inline __attribute__((always_inline))

namespace gc {

typedef float Lanes __attribute__((vector_size(32)));
typedef int LaneInts __attribute__((vector_size(32)));

typedef unsigned char LaneBytes __attribute__((vector_size(8)));

/// The same colour value and alpha value for both pixels.
GC_INLINE Lanes lanes(float colour, float alpha) {
  return Lanes{colour, colour, colour, alpha, colour, colour, colour, alpha};
}
GC_INLINE Lanes lanes(float r, float g, float b, float a) { return Lanes{r, g, b, a, r, g, b, a}; }
GC_INLINE Lanes load(const float* p) {
  Lanes v;
  std::memcpy(&v, p, sizeof v);
  return v;
}
GC_INLINE void store(float* p, Lanes v) { std::memcpy(p, &v, sizeof v); }
/// Each pixel's four values added up, in all four places.
GC_INLINE Lanes sum_of_pixel(Lanes v) {
  v += __builtin_shufflevector(v, v, 1, 0, 3, 2, 5, 4, 7, 6);
  return v + __builtin_shufflevector(v, v, 2, 3, 0, 1, 6, 7, 4, 5);
}

/// Calls `step(Lanes) -> Lanes` on all pixels; an odd last one goes through a padded pair.
template <class Step>
GC_INLINE void for_pixels(float* p, std::size_t pixels, Step step) {
  std::size_t i = 0;
  for (; i + 2 <= pixels; i += 2) store(p + 4 * i, step(load(p + 4 * i)));
  if (i < pixels) {
    float pair[8] = {};
    std::memcpy(pair, p + 4 * i, 16);
    store(pair, step(load(pair)));
    std::memcpy(p + 4 * i, pair, 16);
  }
}

}  // namespace gc
