// Pictures of another size than the raster are scaled quickly (bilinear) instead of well (bicubic).
#include "remedy/kinds.h"

namespace gc {
namespace {

class DraftScaling : public RemedyKind {
 public:
  const char* name() const override { return "draft"; }
  const char* label() const override { return "Draft scaling"; }

  std::vector<Proposal> propose(const Situation& s, FrameRange) const override {
    Proposal p;
    p.id = "draft:all", p.sentence = "Everything that is scaled is scaled quickly.";
    p.hides = "fine detail of what is scaled", p.serves = Truth::picture;
    p.at = {0, s.played->duration()};
    if (s.played->options().draft) p.refused = "it is scaled so already.";
    return {p};
  }
  Supposed suppose(const Situation& s, const Proposal& p) const override { return with_slip_open(s, *slip(p)); }
  std::optional<Slip> slip(const Proposal&) const override {
    Slip slip;
    slip.kind = slip_kind::draft;
    return slip;
  }
};

}  // namespace

const RemedyKind& draft_kind() {
  static const DraftScaling kind;
  return kind;
}

}  // namespace gc
