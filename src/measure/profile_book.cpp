#include "measure/profile_book.h"

#include <algorithm>
#include <cmath>
#include <set>

namespace gc {

ProfileBook::ProfileBook(SeatProfile theirs, std::shared_ptr<const Notebook> ours)
    : theirs_(std::move(theirs)), ours_(std::move(ours)) {
  SeatProfile here;
  if (ours_)
    for (CostLaw& law : ours_->laws()) {
      const std::string id = law.name().id;
      here.laws.insert_or_assign(id, std::move(law));
    }
  for (const auto& [id, law] : theirs_.laws) (void)law.fit();  // asked from several threads later
  for (int k = 0; k < kStageKinds; ++k) ratios_[k] = ratio_between(here, theirs_, static_cast<StageKind>(k));
}

std::vector<float> ProfileBook::entries(const Hash128& key) const {
  std::vector<float> ms = ours_ ? ours_->entries(key) : std::vector<float>();
  for (float& v : ms) v *= static_cast<float>(ratios_[static_cast<std::size_t>(StageKind::decode)].factor);
  return ms;
}

StageCosts ProfileBook::stage(const StageRef& stage) const {
  StageCosts c;
  if (!stage.law) return c;
  if (const CostLaw* law = theirs_.law(stage.law->id))
    if (const auto e = law->predict(stage.terms)) {
      c.origin = Origin::law, c.inside = e->inside;
      c.error = std::sqrt(e->high / std::max(1e-9, e->low)) - 1;
      for (const float r : law->spread()) c.ms.push_back(r * static_cast<float>(e->ms));
      if (c.ms.size() < 8) c.ms.assign(8, static_cast<float>(e->ms));
      return c;
    }
  if (!ours_) return c;
  c = ours_->stage(stage);
  if (c.ms.empty()) return c;
  const SeatRatio& r = ratios_[static_cast<std::size_t>(stage.kind)];
  c.origin = Origin::scaled;
  // Wider: how far single laws lie from the ratio adds to what is not known here.
  c.error += std::expm1(1.645 * r.spread);
  constexpr std::size_t kDraws = 15;
  std::vector<float> drawn;
  std::sort(c.ms.begin(), c.ms.end());
  for (std::size_t i = 0; i < kDraws; ++i) {
    // Quantiles of both spreads, one against the other, so that wide stays wide and the middle the middle.
    const double z = (static_cast<double>(i) - (kDraws - 1) / 2.0) / (kDraws / 4.0);
    const float own = c.ms[(7 * i + 3) % kDraws * c.ms.size() / kDraws];
    drawn.push_back(own * static_cast<float>(r.factor * std::exp(z * r.spread)));
  }
  c.ms = std::move(drawn);
  return c;
}

std::vector<std::string> ProfileBook::taken_over(std::span<const StageRef> stages) const {
  std::set<std::string> names;
  for (const StageRef& s : stages)
    if (s.law && !theirs_.law(s.law->id)) names.insert(s.law->label);
  return {names.begin(), names.end()};
}

std::vector<std::string> ProfileBook::taken_over(const Program& program) const {
  std::vector<StageRef> all;
  for (const CompiledInterval& i : program.intervals())
    for (const StageRef& s : program.stages(i.in)) all.push_back(s);
  return taken_over(all);
}

}  // namespace gc
