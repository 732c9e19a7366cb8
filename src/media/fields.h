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

  /// Whether frame n is the next one going forward.
  bool follows(Frames n) const;

 private:
  struct Impl;
  std::unique_ptr<Impl> impl_;
};

/// The same for frames whose order of asking is not quite that of the file, as when several threads ask: each is joined
/// by a filter that is just there, if one is. Any thread may ask; one at a time is served.
class FieldJoiner {
 public:
  /// @param waited_ms what the others took meanwhile is added to it
  Result<FramePtr> middle(Frames n, const FramePtr& before, const FramePtr& now, const FramePtr& after, double& waited_ms);

 private:
  static constexpr std::size_t kFilters = 3;
  std::mutex mutex_;
  FieldFilter filters_[kFilters];
  std::size_t oldest_ = 0;
};

}  // namespace gc
