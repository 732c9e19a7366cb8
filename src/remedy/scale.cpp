// A lower playback scale, of the whole timeline or of a span; it changes only at cuts.
#include <fmt/format.h>

#include "remedy/kinds.h"

namespace gc {
namespace {

class Scale : public RemedyKind {
 public:
  const char* name() const override { return "scale"; }
  const char* label() const override { return "Playback scale"; }

  std::vector<Proposal> propose(const Situation& s, FrameRange range) const override {
    std::vector<Proposal> all;
    std::vector<FrameRange> places{{0, s.played->duration()}};
    for (const Span& span : s.now->spans)
      if (span.verdict != Verdict::holds && span.in < range.out && span.out > range.in) {
        // From cut to cut.
        FrameRange at{span.in, span.out};
        for (const CompiledInterval& i : s.played->intervals()) {
          if (at.in > i.in && at.in < i.out) at.in = i.in;
          if (at.out > i.in && at.out < i.out) at.out = i.out;
        }
        if (at.in != 0 || at.out != s.played->duration()) places.push_back(at);
      }
    for (const FrameRange& at : places)
      for (const int size : {2, 4, 8, 16}) {
        Proposal p;
        const bool whole = at.in == 0 && at.out == s.played->duration();
        p.id = whole ? fmt::format("scale:{}", size) : fmt::format("scale:{}:{}-{}", size, at.in, at.out);
        p.sentence = whole ? fmt::format("Everything played at 1/{} of each side.", size)
                           : fmt::format("{} frames played at 1/{} of each side.", at.length(), size);
        p.at = at, p.subject.size = size, p.subject.frames = {at};
        p.hides = "detail, noise and fine keys", p.serves = size == 2 ? Truth::picture : Truth::timing;
        for (const CompiledSegmentPtr& c : segments_in(*s.played, at)) p.segments.push_back(c->segment->id);
        all.push_back(std::move(p));
      }
    return all;
  }

  Supposed suppose(const Situation& s, const Proposal& p) const override { return with_slip_open(s, *slip(p)); }
  std::optional<Slip> slip(const Proposal& p) const override {
    Slip slip;
    slip.kind = slip_kind::scale, slip.size = p.subject.size;
    const bool whole = p.id.find('-') == std::string::npos;
    if (!whole) slip.in = p.at.in, slip.out = p.at.out;
    return slip;
  }
};

}  // namespace

const RemedyKind& scale_kind() {
  static const Scale kind;
  return kind;
}

}  // namespace gc
