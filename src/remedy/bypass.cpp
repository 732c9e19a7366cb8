// Leaving something out of playback: one effect, a type of effect everywhere, all of a segment or a track, all effects, or
// the picture.
#include <fmt/format.h>

#include "effects/registry.h"
#include "remedy/kinds.h"

namespace gc {
namespace {

class Bypass : public RemedyKind {
 public:
  const char* name() const override { return "bypass"; }
  const char* label() const override { return "Bypass"; }

  std::vector<Proposal> propose(const Situation& s, FrameRange range) const override {
    std::vector<Proposal> all;
    std::set<std::string> types, tracks;
    const auto add = [&](const std::string& id, const std::string& sentence, const std::string& hides, FrameRange at,
                         std::vector<std::string> segments, Subject subject) {
      Proposal p;
      p.id = "bypass:" + id, p.sentence = sentence, p.hides = hides, p.serves = Truth::timing;
      p.at = at, p.segments = std::move(segments), p.subject = std::move(subject);
      all.push_back(std::move(p));
    };
    for (const CompiledSegmentPtr& c : segments_in(*s.played, range)) {
      Subject of;
      of.segment = c->segment->id;
      std::vector<std::pair<double, const CompiledEffect*>> dearest;
      for (const CompiledEffect& e : c->effects) {
        if (!e.type || e.id.empty()) continue;
        types.insert(e.type->id);
        const StageCosts costs = s.notebook->stage(e.stage);
        double sum = 0;
        for (const float v : costs.ms) sum += static_cast<double>(v);
        dearest.emplace_back(costs.ms.empty() ? 0 : sum / static_cast<double>(costs.ms.size()), &e);
      }
      std::stable_sort(dearest.begin(), dearest.end(), [](const auto& a, const auto& b) { return a.first > b.first; });
      for (std::size_t i = 0; i < dearest.size(); ++i) {
        of.effect = dearest[i].second->id;
        add(c->segment->id + "/" + of.effect, fmt::format("{} of {} left out.", dearest[i].second->type->label, quoted(*c)),
            dearest[i].second->type->label, {c->in, c->out}, {c->segment->id}, of);
      }
      of.effect.clear();
      if (c->effects.size() > 1) add("segment:" + c->segment->id, "All effects of " + quoted(*c) + " left out.", "all its effects", {c->in, c->out}, {c->segment->id}, of);
    }
    const FrameRange whole{0, s.played->duration()};
    for (const std::string& type : types) {
      Subject of;
      of.type = type;
      std::vector<std::string> with;
      for (const CompiledSegmentPtr& c : s.played->segments())
        if (std::ranges::any_of(c->effects, [&](const CompiledEffect& e) { return e.type && e.type->id == type; })) with.push_back(c->segment->id);
      add("type:" + type, fmt::format("{} left out everywhere.", effect_type(type)->label), effect_type(type)->label, whole, with, of);
    }
    for (const TrackPtr& t : s.timeline->tracks) {
      if (!t->video || t->matte_only || s.timeline->tracks.size() < 2) continue;
      Subject of;
      of.track = t->id;
      add("track:" + t->id, fmt::format("Effects on track '{}' left out.", t->name.empty() ? t->id : t->name), "all effects of the track", whole, {}, of);
    }
    if (!types.empty()) add("all", "All effects left out.", "all effects", whole, {}, {});
    add("picture", "The picture off: time and sound alone.", "the picture", whole, {}, {});
    return all;
  }

  Supposed suppose(const Situation& s, const Proposal& p) const override { return with_slip_open(s, *slip(p)); }
  std::optional<Slip> slip(const Proposal& p) const override {
    Slip slip;
    const Subject& of = p.subject;
    if (!of.effect.empty()) slip.kind = slip_kind::bypass, slip.segment = of.segment, slip.effect = of.effect;
    else if (!of.segment.empty()) slip.kind = slip_kind::bypass_segment, slip.segment = of.segment;
    else if (!of.type.empty()) slip.kind = slip_kind::bypass_type, slip.subject = of.type;
    else if (!of.track.empty()) slip.kind = slip_kind::bypass_track, slip.subject = of.track;
    else slip.kind = p.id == "bypass:picture" ? slip_kind::picture_off : slip_kind::bypass_all;
    return slip;
  }
};

}  // namespace

const RemedyKind& bypass_kind() {
  static const Bypass kind;
  return kind;
}

}  // namespace gc
