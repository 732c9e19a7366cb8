// Only a rectangle is made; the rest stays black. Proposed is the middle; any other is given by hand.
#include "remedy/kinds.h"

namespace gc {
namespace {

class RegionOnly : public RemedyKind {
 public:
  const char* name() const override { return "region"; }
  const char* label() const override { return "Region"; }

  std::vector<Proposal> propose(const Situation& s, FrameRange) const override {
    Proposal p;
    const Timeline& t = *s.timeline;
    p.id = "region:middle", p.sentence = "Only the middle of the picture made, half of each side.";
    p.hides = "everything outside the region", p.serves = Truth::timing;
    p.at = {0, s.played->duration()};
    p.subject.region = {t.width / 4, t.height / 4, std::max(1, t.width / 2), std::max(1, t.height / 2)};
    return {p};
  }
  Supposed suppose(const Situation& s, const Proposal& p) const override { return with_slip_open(s, *slip(p)); }
  std::optional<Slip> slip(const Proposal& p) const override {
    Slip slip;
    slip.kind = slip_kind::region;
    slip.region = {p.subject.region.x, p.subject.region.y, p.subject.region.width, p.subject.region.height};
    return slip;
  }
};

}  // namespace

const RemedyKind& region_kind() {
  static const RegionOnly kind;
  return kind;
}

}  // namespace gc
