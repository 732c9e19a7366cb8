// What the outside took of frames that were made in a row: for playouts, and for frames that are measured.
#pragma once
#include <optional>
#include <vector>

#include "measure/costs.h"
#include "pipeline/pipeline.h"

namespace gc {

/// Gathers what the outside took of frames, one by one.
class HoldUps {
 public:
  /// @param busy_ms of workers for this frame, without what the outside took
  void add(double busy_ms, double outside_ms) {
    busy_ms_ += busy_ms, ++frames_;
    if (outside_ms > kLeastOutsideMs) ms_.push_back(static_cast<float>(outside_ms));
  }
  double frames() const { return frames_; }
  /// Nothing of less than a second of work: that says nothing of how often.
  std::optional<Disturbance> seen() const {
    constexpr double kLeastMs = 1000;
    if (busy_ms_ < kLeastMs) return std::nullopt;
    return Disturbance{static_cast<double>(ms_.size()) / busy_ms_, ms_};
  }
  double busy_ms() const { return busy_ms_; }

 private:
  std::vector<float> ms_;
  double busy_ms_ = 0, frames_ = 0;
};

}  // namespace gc
