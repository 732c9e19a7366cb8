// Tetrahedral look-up in a cube of colours.
#pragma once
#include <cstddef>

namespace gc {

/// @param cube edge³ entries of four floats (the last unused), red slowest, blue fastest
/// RGBA pixels, not premultiplied, clamped to 0…1 on the way in; alpha stays. The cell's six tetrahedra share
/// the diagonal from its darkest to its lightest corner, as OpenColorIO has them.
void tetrahedral_pixels(float* rgba, std::size_t pixels, const float* cube, int edge);

}  // namespace gc
