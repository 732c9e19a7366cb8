// A cache pass after one stage: what lies above it stays live and can be changed without losing it. Of one segment, or
// after one type of effect wherever it is.
#include <fmt/format.h>

#include "effects/registry.h"
#include "remedy/kinds.h"
#include "render/parts.h"

namespace gc {
namespace {

class TapCache : public RemedyKind {
 public:
  const char* name() const override { return "tap"; }
  const char* label() const override { return "Cached stack"; }

  std::vector<Proposal> propose(const Situation& s, FrameRange range) const override {
    std::vector<Proposal> all;
    std::set<std::string> types;
    for (const CompiledSegmentPtr& c : segments_in(*s.rendered, range)) {
      if (c->content == Content::offline || c->content == Content::adjustment) continue;
      std::size_t dearest = 0;
      double most = 0;
      for (std::size_t i = 0; i < c->effects.size(); ++i) {
        const CompiledEffect& e = c->effects[i];
        if (e.type && e.type->stage == StageKind::repair) types.insert(e.type->id);
        const double ms = mean_stage_ms(*s.notebook, e.stage);
        if (ms > most) most = ms, dearest = i + 1;
      }
      // An effect that looks at neighbours is kept too: what is kept has none beyond the segment's ends.
      if (dearest > 0) dearest = std::max(dearest, static_cast<std::size_t>(c->last_temporal(c->effects.size()) + 1));
      // What would be cached below nothing is a pre-render.
      if (dearest == 0 || dearest == c->effects.size()) continue;
      all.push_back(of(s, {c}, dearest, fmt::format("tap:{}:{}", c->segment->id, dearest), ""));
      const CompiledEffect& e = c->effects[dearest - 1];
      all.back().sentence = fmt::format("{} kept after {}; {} effect{} above stay{} live.", quoted(*c), e.type ? e.type->label : "a transform",
                                        c->effects.size() - dearest, c->effects.size() - dearest == 1 ? "" : "s",
                                        c->effects.size() - dearest == 1 ? "s" : "");
      if (all.back().refused.empty() && is_trivial(s, *c)) all.back().refused = "its frames are so light that a cache gains nothing.";
    }
    for (const std::string& type : types) {
      std::vector<CompiledSegmentPtr> with;
      for (const CompiledSegmentPtr& c : s.rendered->segments())
        if (effects_up_to(*c, type) > 0 && effects_up_to(*c, type) < c->effects.size()) with.push_back(c);
      if (with.size() < 2) continue;
      all.push_back(of(s, with, 0, "tap:all:" + type, type));
      all.back().sentence = fmt::format("Everything kept after {}, {} segments; what lies above stays live.", effect_type(type)->label, with.size());
    }
    return all;
  }

  void would_make(const Situation& s, const Proposal& p, Frames frame, SupposedSeals& seals) const override {
    s.played->each_segment(frame, [&](const Program& program, const CompiledSegment& c, Frames f, const Hash128&) {
      if (std::ranges::find(p.segments, c.segment->id) == p.segments.end()) return;
      const std::size_t n = p.subject.type.empty() ? p.subject.after : effects_up_to(c, p.subject.type);
      const int reach = c.window.length();
      if (n == 0) return;
      const FrameRange made = frames_alone(*program.timeline(), c, n);
      for (Frames at = std::max(made.in, f - reach); at <= std::min(made.out - 1, f + reach); ++at)
        seals.add(program.tap_key(c, at, n), form(s, c, n), s.timeline->width, s.timeline->height);
    });
  }
  std::optional<Making> making(const Proposal& p) const override { return Making{Making::What::stack, p.subject}; }

 private:
  /// What names the pictures: as for the render itself.
  static Hash128 content(const Situation& s, const CompiledSegment& c, std::size_t n) {
    return s.rendered->tap_key(c, frames_alone(*s.timeline, c, n).in, n);
  }
  static Form form(const Situation& s, const CompiledSegment& c, std::size_t n) {
    bool alpha = !c.opaque;
    for (std::size_t i = 0; i < n; ++i) alpha = alpha || (c.effects[i].type && c.effects[i].type->places);
    return form_needed(*s.notebook, content(s, c, n), form_of_parts(*s.timeline, s.form, alpha));
  }

  static Proposal of(const Situation& s, const std::vector<CompiledSegmentPtr>& segments, std::size_t n, const std::string& id,
                     const std::string& type) {
    Proposal p;
    p.id = id;
    p.subject.type = type, p.subject.after = n, p.subject.form = s.form;
    p.at = {segments.front()->in, segments.front()->out};
    double seconds = 0, mb_s = 0;
    std::uint64_t bytes = 0;
    for (const CompiledSegmentPtr& c : segments) {
      const std::size_t count = type.empty() ? n : effects_up_to(*c, type);
      p.at.in = std::min(p.at.in, c->in), p.at.out = std::max(p.at.out, c->out);
      p.segments.push_back(c->segment->id);
      const Form as = form(s, *c, count);
      const std::uint64_t each = frame_bytes(*s.notebook, as, s.timeline->width, s.timeline->height, content(s, *c, count));
      const FrameRange made = frames_alone(*s.timeline, *c, count);
      for (Frames f = made.in; f < made.out && p.refused.empty(); ++f)
        if (c->missing_at(f, s.timeline->rate)) p.refused = "some of its frames have no picture.";
      if (s.shelf && s.shelf->find(s.rendered->tap_key(*c, made.in, count)) && s.shelf->find(s.rendered->tap_key(*c, made.out - 1, count))) continue;
      seconds += s.pricing().stack(*c, count, as);
      bytes += each * static_cast<std::uint64_t>(made.length());
      mb_s = std::max(mb_s, static_cast<double>(each) * s.timeline->rate.fps() / 1e6);
    }
    p.subject.segment = p.segments.size() == 1 ? p.segments.front() : "";
    if (bytes == 0 && p.refused.empty()) p.refused = "it is on the shelf already.";
    p.quote = quote_of(s, seconds, bytes, mb_s);
    return p;
  }
};

}  // namespace

std::size_t effects_up_to(const CompiledSegment& c, const std::string& type) {
  for (std::size_t i = c.effects.size(); i > 0; --i)
    if (c.effects[i - 1].type && c.effects[i - 1].type->id == type) return i;
  return 0;
}

const RemedyKind& tap_kind() {
  static const TapCache kind;
  return kind;
}

}  // namespace gc
