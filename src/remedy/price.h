#pragma once
#include "base/rational.h"

namespace gc {

/// What a render takes, by costs alone and as a person is told.
struct RenderPrice {
  Frames frames = 0;
  double modelled_s = 0, said_s = 0;
};

}  // namespace gc
