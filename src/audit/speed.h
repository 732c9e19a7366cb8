// How fast the forecast itself is, and how well the player keeps up.
#pragma once
#include "measure/self_test.h"

namespace gc {

/// A forecast of two hours (172 800 frames in 2 400 stretches, 64 trials) from made-up costs with loads from
/// 0.2 to 4; the same again after one edit; and the rate that the player reaches on the scripted seat at load
/// 1.5 against frames made flat out. Medians of three.
std::vector<Goal> speed_goals(int workers);

}  // namespace gc
