// Frames made as fast as the machine can, handed over in order.
#pragma once
#include <functional>
#include <memory>

#include "measure/measure.h"

namespace gc {

struct FlatOut {
  int workers = 2;
  bool background = true;
  std::shared_ptr<Notebook> notebook = {};  ///< learns from every frame
  const SealLookup* rendered = nullptr;     ///< media that may stand for frames; null: everything is made
};

/// Makes frames of a program. `take` gets them in the order of `frames`, one at a time, from worker threads; what it
/// returns false for, or fails with, ends it within the time of the frames in flight. Whether all were taken.
Result<bool> make_frames(const ProgramPtr& program, const std::vector<Frames>& frames, const FlatOut& options,
                         const std::function<Result<bool>(FrameResult&)>& take);

}  // namespace gc
