// A full-size copy of a source in a form that is light to decode and to seek in. It hides nothing at a good enough level.
#include <fmt/format.h>

#include "remedy/kinds.h"

namespace gc {
namespace {

class Mezzanine : public RemedyKind {
 public:
  const char* name() const override { return "mezzanine"; }
  const char* label() const override { return "Mezzanine"; }

  std::vector<Proposal> propose(const Situation& s, FrameRange range) const override {
    std::vector<Proposal> all;
    for (const CompiledSegmentPtr& c : sources_in(*s.rendered, range)) {
      Proposal p = copy_of(s, *c, 1, "mezzanine:" + c->segment->ref);
      p.sentence = fmt::format("A light copy of {} at full size, {}.", s.timeline->sources.at(c->segment->ref)->name, form_name(p.subject.form));
      if (p.refused.empty() && c->media.alone) p.refused = "it is light to decode and to seek in as it is.";
      all.push_back(std::move(p));
    }
    return all;
  }
  void would_make(const Situation& s, const Proposal& p, Frames frame, SupposedSeals& seals) const override {
    s.played->each_segment(frame, [&](const Program& program, const CompiledSegment& c, Frames f, const Hash128&) {
      if (c.content != Content::source || c.segment->ref != p.subject.source) return;
      const int reach = c.window.length() + 1;
      for (Frames at = f - reach; at <= f + reach; ++at) {
        const SourcePosition n = c.position_at(at, program.timeline()->rate);
        for (const Frames each : {n.frame, n.frame + 1})
          seals.add(Program::source_key(c.media, c.joins_fields, each, 1), p.subject.form, c.media.width, c.media.height);
      }
    });
  }
  std::optional<Making> making(const Proposal& p) const override { return Making{Making::What::source, p.subject}; }
};

}  // namespace

const RemedyKind& mezzanine_kind() {
  static const Mezzanine kind;
  return kind;
}

}  // namespace gc
