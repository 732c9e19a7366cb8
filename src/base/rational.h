// Rational rates and frame counts. The model knows no floating-point seconds.
#pragma once
#include <cstdint>
#include <numeric>
#include <string>

namespace gc {

using Frames = std::int64_t;

/// Frames [in, out).
struct FrameRange {
  Frames in = 0, out = 0;
  Frames length() const { return out - in; }
  bool operator==(const FrameRange&) const = default;
};

/// A ratio of two integers, always reduced, denominator positive.
struct Ratio {
  std::int64_t num = 1;
  std::int64_t den = 1;

  static Ratio of(std::int64_t n, std::int64_t d);
  /// Nearest ratio with a denominator of at most 1001.
  static Ratio near(double value);
  double value() const { return static_cast<double>(num) / static_cast<double>(den); }
  bool operator==(const Ratio&) const = default;
};

/// Frames per second as a ratio: 24/1, 24000/1001, ...
struct Rate {
  std::int64_t num = 24;
  std::int64_t den = 1;

  /// The trade's rate nearest to a decimal number (23.976 is 24000/1001); other numbers become a ratio.
  static Rate near(double fps);
  double fps() const { return static_cast<double>(num) / static_cast<double>(den); }
  double frame_ms() const { return 1000.0 * static_cast<double>(den) / static_cast<double>(num); }
  /// Whole frames a second that timecode counts in: 24 for 24000/1001, 30 for 30000/1001.
  std::int64_t nominal() const { return (num + den / 2) / den; }
  bool operator==(const Rate&) const = default;
};

/// count × a/b rounded down, without overflow for every count below 2^62.
Frames scale_floor(Frames count, std::int64_t a, std::int64_t b);

/// The frame of a source that is shown `offset` timeline frames after a segment's start: the source frame
/// whose period contains the start of the timeline frame. Between rates this rounding holds everywhere: down, in time.
/// @param source_in where in the source the segment starts, source frames; it may fall within one
Frames source_frame(Ratio source_in, Frames offset, Ratio speed, Rate source, Rate timeline);
inline Frames source_frame(Frames source_in, Frames offset, Ratio speed, Rate source, Rate timeline) {
  return source_frame(Ratio{source_in, 1}, offset, speed, source, timeline);
}

/// Where between two source frames a timeline frame falls.
struct SourcePosition {
  Frames frame = 0;     ///< the earlier of the two, as source_frame() says
  double fraction = 0;  ///< 0 on it, towards 1 on the next
};
SourcePosition source_position(Ratio source_in, Frames offset, Ratio speed, Rate source, Rate timeline);
inline SourcePosition source_position(Frames source_in, Frames offset, Ratio speed, Rate source, Rate timeline) {
  return source_position(Ratio{source_in, 1}, offset, speed, source, timeline);
}

/// Converts a count of frames at one rate to the nearest count at another.
Frames rescale(Frames count, Rate from, Rate to);

}  // namespace gc
