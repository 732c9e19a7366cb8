// How the frames of a program are answered in playback: made live, or fetched from rendered media at some point of
// their making.
#pragma once
#include <compare>
#include <cstdint>
#include <vector>

#include "base/hash.h"
#include "base/rational.h"
#include "media/writer.h"

namespace gc {

/// Where a picture is taken: a source's, a segment's after the first effects of its stack, a composition's, or the
/// finished frame.
enum class TapKind : std::uint8_t { source, stack, composition, frame };
const char* tap_name(TapKind kind);  ///< "source", "stack", "composition", "frame"

/// What answers a frame. Broken: the shelf has this stretch as it was before a change, and it is made live. Half: some
/// of what the frame is made of is fetched, and the rest stays live. Remembered: memory holds it.
enum class FrameState : std::uint8_t { live, sealed, broken, remembered, half };

/// One picture that is fetched instead of being made.
struct TapUse {
  Hash128 use;  ///< whose it is, as use_of() names segments; zero for the finished frame
  TapKind kind = TapKind::frame;
  std::uint8_t after = 0;  ///< effects of the stack that it has
  Form form = Form::vc3_hqx;
  int width = 0, height = 0;  ///< as kept, pixels; 0: the program's raster
  auto operator<=>(const TapUse&) const = default;
};

/// Everything that is fetched for a frame, by use.
using TapPattern = std::vector<TapUse>;
/// What is fetched for this use; null when it is made live.
const TapUse* tap_in(const TapPattern& taps, const Hash128& use);

/// For each frame of a program what answers it. Frames beyond the end are live, so an empty route is one on which
/// everything is.
class Route {
 public:
  Route() = default;
  explicit Route(std::size_t frames) : frames_(frames) {}

  std::size_t size() const { return frames_.size(); }
  void resize(std::size_t frames) { frames_.resize(frames); }
  FrameState operator[](std::size_t frame) const { return frame < frames_.size() ? frames_[frame].state : FrameState::live; }
  /// What is fetched for a frame that is half sealed, or sealed in another form than the usual.
  const TapPattern& taps(std::size_t frame) const { return patterns_[frame < frames_.size() ? frames_[frame].pattern : 0]; }
  void set(std::size_t frame, FrameState state, const TapPattern& taps = {});
  /// Whether two frames are answered alike.
  bool alike(std::size_t a, std::size_t b) const { return at(a) == at(b); }
  std::size_t count(FrameState state) const;
  bool operator==(const Route&) const = default;

 private:
  struct Frame {
    FrameState state = FrameState::live;
    std::uint32_t pattern = 0;
    bool operator==(const Frame&) const = default;
  };
  Frame at(std::size_t frame) const { return frame < frames_.size() ? frames_[frame] : Frame{}; }

  std::vector<Frame> frames_;
  std::vector<TapPattern> patterns_{1};  ///< those that occur; the first is empty
};

}  // namespace gc
