#include "render/route.h"

#include <algorithm>

namespace gc {

const char* tap_name(TapKind kind) {
  switch (kind) {
    case TapKind::source: return "source";
    case TapKind::stack: return "stack";
    case TapKind::composition: return "composition";
    case TapKind::frame: return "frame";
  }
  return "";
}

const TapUse* tap_in(const TapPattern& taps, const Hash128& use) {
  const auto it = std::find_if(taps.begin(), taps.end(), [&](const TapUse& t) { return t.use == use; });
  return it == taps.end() ? nullptr : &*it;
}

void Route::set(std::size_t frame, FrameState state, const TapPattern& taps) {
  if (frame >= frames_.size()) frames_.resize(frame + 1);
  // The latest first: frames in a row are mostly alike.
  std::size_t n = patterns_.size();
  while (n > 0 && patterns_[n - 1] != taps) --n;
  if (n == 0) patterns_.push_back(taps), n = patterns_.size();
  frames_[frame] = {state, static_cast<std::uint32_t>(n - 1)};
}

std::size_t Route::count(FrameState state) const {
  return static_cast<std::size_t>(
      std::count_if(frames_.begin(), frames_.end(), [&](const Frame& f) { return f.state == state; }));
}

}  // namespace gc
