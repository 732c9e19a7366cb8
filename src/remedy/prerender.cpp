// Pre-render of a segment, a span or a range: everything in it becomes one decode.
#include <fmt/format.h>

#include "remedy/kinds.h"

namespace gc {
namespace {

class Prerender : public RemedyKind {
 public:
  const char* name() const override { return "render"; }
  const char* label() const override { return "Pre-render"; }

  std::vector<Proposal> propose(const Situation& s, FrameRange range) const override {
    std::vector<Proposal> all;
    for (const Span& span : s.now->spans)
      if (span.verdict != Verdict::holds && span.in < range.out && span.out > range.in)
        all.push_back(of(s, {span.in, span.out}, fmt::format("render:{}-{}", span.in, span.out),
                         fmt::format("The span of {} frames pre-rendered.", span.out - span.in)));
    for (const CompiledSegmentPtr& c : segments_in(*s.played, range)) {
      Proposal p = of(s, {c->in, c->out}, "render:" + c->segment->id, quoted(*c) + " pre-rendered.");
      p.segments = {c->segment->id}, p.subject.segment = c->segment->id;
      if (c->content == Content::offline) p.refused = "it has no picture.";
      else if (p.refused.empty() && is_trivial(s, *c)) p.refused = "its frames are so light that a pre-render gains nothing.";
      all.push_back(std::move(p));
    }
    return all;
  }

  Supposed suppose(const Situation& s, const Proposal& p) const override {
    Route route = s.route;
    for (const FrameRange& r : p.subject.frames) route = with_state(std::move(route), r, FrameState::sealed);
    return {s.played, std::move(route)};
  }
  std::optional<Making> making(const Proposal& p) const override { return Making{Making::What::frames, p.subject}; }

 private:
  /// Frames of a range without those in which media are missing: these cannot be made.
  static std::vector<FrameRange> pictured(const Situation& s, FrameRange range) {
    std::vector<FrameRange> all;
    for (const CompiledInterval& i : s.rendered->intervals()) {
      const FrameRange part{std::max(range.in, i.in), std::min(range.out, i.out)};
      if (part.length() <= 0 || i.missing) continue;
      if (!all.empty() && all.back().out == part.in) all.back().out = part.out;
      else all.push_back(part);
    }
    return all;
  }

  static Proposal of(const Situation& s, FrameRange at, const std::string& id, const std::string& sentence) {
    Proposal p;
    p.id = id, p.at = at, p.sentence = sentence;
    p.subject.frames = pictured(s, at), p.subject.form = s.form;
    const Timeline& t = *s.timeline;
    const Form form = form_that_keeps(s.form, false, t.width, t.height);
    std::vector<FrameRange> to_make;
    Frames frames = 0, without_picture = at.length();
    for (const FrameRange& r : p.subject.frames) {
      without_picture -= r.length();
      for (Frames f = r.in; f < r.out; ++f) {
        if (s.route[static_cast<std::size_t>(f)] == FrameState::sealed) continue;
        if (!to_make.empty() && to_make.back().out == f) ++to_make.back().out;
        else to_make.push_back({f, f + 1});
        ++frames;
      }
    }
    if (p.subject.frames.empty()) p.refused = "it has no picture.";
    else if (frames == 0) p.refused = "it is sealed already.";
    if (without_picture > 0) p.sentence += fmt::format(" {} of its frames have no picture and are left out.", without_picture);
    const std::uint64_t bytes = s.pricing().bytes(to_make, form);
    p.quote = quote_of(s, s.pricing().frames(to_make, s.form), bytes,
                       frames > 0 ? static_cast<double>(bytes) / static_cast<double>(frames) * t.rate.fps() / 1e6 : 0);
    return p;
  }
};

}  // namespace

const RemedyKind& prerender_kind() {
  static const Prerender kind;
  return kind;
}

}  // namespace gc
