// What frames in flight do to each other on this seat.
#pragma once
#include "base/error.h"
#include "seat/machine.h"

namespace gc {

/// Runs made-up frames that mostly wait for memory and frames that mostly compute through the playing
/// pipeline: by one worker, by all of them, and mixed. Rounds go on for `seconds`, so that a stranger's busy
/// moment meets all three alike. Empty with one worker, or when stopped before the first round was over.
std::vector<Contention> measure_contention(int workers, double seconds, const KeepGoing& go_on = {});

}  // namespace gc
