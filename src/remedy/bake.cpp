// A composition rendered once, with its transparency, for every segment that shows it.
#include <fmt/format.h>

#include "remedy/kinds.h"
#include "render/parts.h"

namespace gc {
namespace {

class Bake : public RemedyKind {
 public:
  const char* name() const override { return "bake"; }
  const char* label() const override { return "Baked composition"; }

  std::vector<Proposal> propose(const Situation& s, FrameRange range) const override {
    std::set<std::string> seen;
    std::vector<Proposal> all;
    gather(s, *s.rendered, range, seen, all);
    return all;
  }

  void would_make(const Situation& s, const Proposal& p, Frames frame, SupposedSeals& seals) const override {
    s.played->each_segment(frame, [&](const Program& program, const CompiledSegment& c, Frames f, const Hash128&) {
      if (!c.inner || c.segment->ref != p.subject.composition) return;
      const int reach = c.window.length();
      for (Frames at = f - reach; at <= f + reach; ++at)
        seals.add(c.inner->composition_key(c.frame_at(at, program.timeline()->rate)), p.subject.form, s.timeline->width, s.timeline->height);
    });
  }
  std::optional<Making> making(const Proposal& p) const override { return Making{Making::What::composition, p.subject}; }

 private:
  static void gather(const Situation& s, const Program& program, FrameRange range, std::set<std::string>& seen, std::vector<Proposal>& all) {
    for (const CompiledSegmentPtr& c : program.segments()) {
      if (!c->inner || (&program == s.rendered.get() && (c->in >= range.out || c->out <= range.in))) continue;
      if (seen.insert(c->segment->ref).second) all.push_back(of(s, *c));
      gather(s, *c->inner, {0, c->inner->duration()}, seen, all);
    }
  }

  static Proposal of(const Situation& s, const CompiledSegment& c) {
    const Timeline& t = *s.timeline;
    Proposal p;
    p.subject.composition = c.segment->ref;
    const Hash128 content = c.inner->composition_key(0);
    p.subject.form = form_needed(*s.notebook, content, form_of_parts(t, s.form, !c.opaque));
    p.id = "bake:" + c.segment->ref;
    p.at = {s.rendered->duration(), 0};
    int uses = 0;
    for (const CompiledSegmentPtr& top : s.rendered->segments()) {
      const int n = shows(*top, c.segment->ref);
      if (n == 0) continue;
      uses += n;
      p.segments.push_back(top->segment->id);
      p.at.in = std::min(p.at.in, top->in), p.at.out = std::max(p.at.out, top->out);
    }
    p.sentence = fmt::format("The composition '{}' baked once for {} use{}.", t.compositions.at(c.segment->ref)->name, uses, uses == 1 ? "" : "s");
    RenderOptions full;
    full.device = s.rendered->options().device, full.rendering = true, full.join_fields = s.rendered->options().join_fields;
    const ProgramPtr part = Program::compile(alone(t, *t.compositions.at(c.segment->ref)), *s.media, full);
    const std::uint64_t each = frame_bytes(*s.notebook, p.subject.form, t.width, t.height, content);
    bool there = s.shelf != nullptr && c.inner->duration() > 0;
    for (Frames f = 0; f < c.inner->duration() && there; f += 24) there = s.shelf->find(c.inner->composition_key(f)).has_value();
    if (there) p.refused = "it is on the shelf already.";
    if (std::ranges::any_of(c.inner->intervals(), &CompiledInterval::missing)) p.refused = "something in it has no picture.";
    p.quote = quote_of(s, seconds_to_render(s, part, p.subject.form, content),
                       each * static_cast<std::uint64_t>(part->duration()), static_cast<double>(each) * t.rate.fps() / 1e6);
    return p;
  }
  static int shows(const CompiledSegment& s, const std::string& composition) {
    if (!s.inner) return 0;
    if (s.segment->ref == composition) return 1;
    int n = 0;
    for (const CompiledSegmentPtr& inside : s.inner->segments()) n += shows(*inside, composition);
    return n;
  }
};

}  // namespace

const RemedyKind& bake_kind() {
  static const Bake kind;
  return kind;
}

}  // namespace gc
