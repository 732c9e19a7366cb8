// What would happen without some stages, answered from what is known, without measuring.
#pragma once
#include <set>

#include "forecast/forecast.h"

namespace gc {

/// The costs of another book with some stages left out. Whole frames are put together from stages.
class WithoutBook : public CostBook {
 public:
  WithoutBook(const CostBook& book, std::set<Hash128> left_out)
      : book_(book), left_out_(std::move(left_out)) {}
  std::vector<FrameSample> frames(const Hash128&) const override { return {}; }
  std::vector<float> entries(const Hash128& key) const override { return book_.entries(key); }
  StageCosts stage(const StageRef& stage) const override;
  std::vector<Disturbance> lately() const override { return book_.lately(); }
  Calibration calibration() const override { return book_.calibration(); }
  double widening() const override { return book_.widening(); }
  Mood mood(double spread) const override { return book_.mood(spread); }
  double crowding() const override { return book_.crowding(); }

 private:
  const CostBook& book_;
  std::set<Hash128> left_out_;
};

/// One effect of a span and what playing without it would bring.
struct StageGain {
  std::string segment, effect, label;
  double ms = 0;     ///< of a frame of the span, mean
  double drops = 0;  ///< of the span, without it
  Verdict verdict = Verdict::holds;
};

/// What the span would do without each of its effects, greatest gain first; at most `most` of them, the
/// dearest.
std::vector<StageGain> gains_of(const Program& program, const CostBook& book, const Route& sealed,
                                FrameRange span, const ForecastOptions& options, std::size_t most = 6);

/// The fewest effects without which the span holds; of equally many those that cost most. Empty when it holds
/// already, or when even without its six dearest it does not.
std::vector<StageGain> least_bypasses(const Program& program, const CostBook& book, const Route& sealed,
                                      FrameRange span, const ForecastOptions& options);

}  // namespace gc
