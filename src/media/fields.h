// One picture of two fields, by libavfilter's bwdif (w3fdif's spatial filter, yadif's temporal one).
#pragma once
#include "media/reader.h"

namespace gc {

class FieldFilter {
 public:
  FieldFilter();
  ~FieldFilter();
  /// The picture in the middle, with the lines of its second field filled in from around it in time and place. Either
  /// neighbour may be null at an end. The same whatever was asked for before; going forward is fast.
  /// @param n number of the middle picture, by which going forward is known
  Result<FramePtr> middle(Frames n, const FramePtr& before, const FramePtr& now, const FramePtr& after);

 private:
  struct Impl;
  std::unique_ptr<Impl> impl_;
};

}  // namespace gc
