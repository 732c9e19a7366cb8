// Costs on another seat, from its profile; what it has no law of is taken over from here.
#pragma once
#include "measure/notebook.h"
#include "seat/profile.h"

namespace gc {

class ProfileBook : public CostBook {
 public:
  /// `ours` answers what the profile does not know, times the ratio between the two seats.
  ProfileBook(SeatProfile theirs, std::shared_ptr<const Notebook> ours);
  const SeatProfile& profile() const { return theirs_; }

  /// Whole frames were never measured there.
  std::vector<FrameSample> frames(const Hash128&) const override { return {}; }
  std::vector<float> entries(const Hash128& key) const override;
  double widening() const override { return widening_of({}, -1); }
  StageCosts stage(const StageRef& stage) const override;
  /// How much of a program's cost had to be taken over: laws that the other seat lacks, by name.
  std::vector<std::string> taken_over(std::span<const StageRef> stages) const;
  std::vector<std::string> taken_over(const Program& program) const;

 private:
  SeatProfile theirs_;
  std::shared_ptr<const Notebook> ours_;
  SeatRatio ratios_[kStageKinds];
};

}  // namespace gc
