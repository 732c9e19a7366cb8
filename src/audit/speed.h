// How fast the forecast itself is, and how well the player keeps up.
#pragma once
#include "forecast/forecast.h"
#include "measure/self_test.h"

namespace gc {

/// A forecast of two hours (172 800 frames in 2 400 stretches, 64 trials) from made-up costs with loads from
/// 0.2 to 4; the same again after one edit; and the rate that the player reaches on the scripted seat at load
/// 1.5 against frames made flat out. Medians of three.
std::vector<Goal> speed_goals(int workers);

/// A light timeline played once by itself and once while `stress-ng` (Debian's) keeps every processor busy:
/// which of the drops are said to be the outside's. Empty where that program is missing. About 20 s.
std::vector<Goal> outside_goals(const ForecastOptions& options, Notebook& notebook);

}  // namespace gc
