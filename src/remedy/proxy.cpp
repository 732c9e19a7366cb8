// A smaller copy of a source, played in its place while its slip is open. The delivery always reads the original.
#include <fmt/format.h>

#include "remedy/kinds.h"
#include "render/copies.h"
#include "render/played.h"

namespace gc {
namespace {

class Proxy : public RemedyKind {
 public:
  const char* name() const override { return "proxy"; }
  const char* label() const override { return "Proxy"; }

  std::vector<Proposal> propose(const Situation& s, FrameRange range) const override {
    std::vector<Proposal> all;
    for (const CompiledSegmentPtr& c : sources_in(*s.rendered, range))
      for (const int size : {2, 4, 8, 16}) {
        Proposal p = copy_of(s, *c, size, fmt::format("proxy:{}:{}", c->segment->ref, size));
        if (p.refused == "it is on the shelf already.") p.refused.clear(), p.quote.seconds = p.quote.modelled_seconds = 0;
        p.sentence = fmt::format("{} played from a copy of 1/{} size.", s.timeline->sources.at(c->segment->ref)->name, size);
        p.hides = "detail, noise and fine keys", p.serves = size == 2 ? Truth::picture : Truth::timing;
        all.push_back(std::move(p));
      }
    return all;
  }

  Supposed suppose(const Situation& s, const Proposal& p) const override {
    Supposed then = with_slip_open(s, *slip(p));
    if (!then.program) return then;
    Situation as = s;
    as.played = then.program, as.route = then.route;
    then.route = with_supposed(as, p.at, [&](SupposedSeals& seals, Frames frame) {
      as.played->each_segment(frame, [&](const Program& program, const CompiledSegment& c, Frames f, const Hash128&) {
        if (c.content != Content::source || c.segment->ref != p.subject.source) return;
        const CopyForm form = copy_form(c.media, p.subject.size, s.form);
        const int reach = c.window.length() + 1;
        for (Frames at = f - reach; at <= f + reach; ++at) {
          const SourcePosition n = c.position_at(at, program.timeline()->rate);
          for (const Frames each : {n.frame, n.frame + 1})
            seals.add(Program::source_key(c.media, c.joins_fields, each, p.subject.size), form.form, form.width, form.height);
        }
      });
    });
    return then;
  }
  std::optional<Making> making(const Proposal& p) const override { return Making{Making::What::source, p.subject}; }
  std::optional<Slip> slip(const Proposal& p) const override {
    Slip slip;
    slip.kind = slip_kind::proxy, slip.subject = p.subject.source, slip.size = p.subject.size;
    return slip;
  }
};

}  // namespace

const RemedyKind& proxy_kind() {
  static const Proxy kind;
  return kind;
}

}  // namespace gc
