// What rendering takes on this seat as it is now, by what its stages cost.
#pragma once
#include <functional>
#include <mutex>
#include <optional>
#include <unordered_map>

#include "forecast/forecast.h"
#include "measure/encoding.h"

namespace gc {

/// What a piece takes besides its frames: its room and records, and for its bytes to be read back and made durable. As measured
/// on this seat; before that as seen on this program's own renders, 0.1 to 0.2 s with files synced to a local drive. And its
/// file, file_ms(), as crowded as the seat is.
/// @param bytes of the whole piece
double piece_ms(const Notebook& notebook, Form form, int width, int height, double bytes, double base);
/// Pieces that an interval of so many frames is cut into: as cut_in_pieces() does.
Frames pieces_in(Frames frames);

/// Milliseconds of one stage on the mean; 0 when nothing is known.
double mean_stage_ms(const Notebook& notebook, const StageRef& stage);

/// Prices of a program's frames, which are made flat out over all workers: one at a time fetched, one at a time encoded on
/// a worker's own time. Every range begins with opening its sources and decoding up to its first frame.
class Pricing {
 public:
  /// @param rendered program at full quality
  Pricing(const ProgramPtr& rendered, const Notebook& notebook, FrameRange range, ForecastOptions options);

  /// Seconds for finished frames, by costs alone.
  /// @param content what encoding them goes by; nothing: what each frame starts from
  double frames(const std::vector<FrameRange>& ranges, Form form, const std::optional<Hash128>& content = {}) const;
  /// The same without what pieces take, each frame costing what `code` says of its content.
  double frames_as(const std::vector<FrameRange>& ranges, const std::function<EncodeCost(const Hash128& content)>& code) const;
  /// What encoding a frame takes, as crowded as the seat is.
  EncodeCost encode(Form form, const Hash128& content) const;
  /// As crowded as the seat is.
  double base() const { return costs_.base; }
  /// Bytes of finished frames.
  std::uint64_t bytes(const std::vector<FrameRange>& ranges, Form form) const;
  std::uint64_t bytes_as(const std::vector<FrameRange>& ranges, const std::function<std::uint64_t(const Hash128& content)>& each) const;
  /// Seconds for a segment's picture after the first effects of its stack.
  double stack(const CompiledSegment& segment, std::size_t effects, Form form) const;
  /// Costs of all frames, live and at full quality.
  const Forecast& costs() const { return costs_; }

 private:
  double entry_ms(const IntervalCost& c, Frames at) const;
  /// Of the pieces that an interval is cut into, ms.
  double pieces_ms(Frames frames, Form form, const Hash128& content) const;

  ProgramPtr program_;
  const Notebook& notebook_;
  int workers_;
  Forecast costs_;
  mutable std::mutex mutex_;
  mutable std::unordered_map<Hash128, EncodeCost> encode_;  ///< asked before
};

}  // namespace gc
