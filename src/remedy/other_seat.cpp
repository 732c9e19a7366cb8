// Another seat does the rendering: the remedies travel in a file, and what was made comes back on a shared shelf or volume.
#include <fmt/format.h>

#include "remedy/kinds.h"

namespace gc {
namespace {

class OtherSeat : public RemedyKind {
 public:
  const char* name() const override { return "seat"; }
  const char* label() const override { return "Another seat"; }

  std::vector<Proposal> propose(const Situation& s, FrameRange range) const override {
    std::vector<Proposal> all;
    for (const Span& span : s.now->spans) {
      if (span.verdict == Verdict::holds || span.in >= range.out || span.out <= range.in) continue;
      Proposal p;
      p.at = {span.in, span.out}, p.subject.frames = {p.at}, p.subject.form = s.form;
      p.id = fmt::format("seat:{}-{}", span.in, span.out);
      p.sentence = fmt::format("{} frames rendered by another seat; nothing waits here.", p.at.length());
      const Timeline& t = *s.timeline;
      p.quote.bytes = form_frame_bytes(s.form, t.width, t.height) * static_cast<std::uint64_t>(p.at.length());
      p.quote.known = false;
      p.refused = "no other seat works on this shelf now; write the remedies with --out and carry them out there with --from.";
      all.push_back(std::move(p));
    }
    return all;
  }
  Supposed suppose(const Situation& s, const Proposal& p) const override {
    return {s.played, with_state(s.route, p.at, FrameState::sealed)};
  }
  std::optional<Making> making(const Proposal& p) const override { return Making{Making::What::frames, p.subject}; }
};

}  // namespace

const RemedyKind& other_seat_kind() {
  static const OtherSeat kind;
  return kind;
}

}  // namespace gc
