// Running an effect on the other device. An edit: the delivery is made so too, within the effect's stated tolerance.
#include <fmt/format.h>

#include "effects/registry.h"
#include "remedy/kinds.h"
#include "render/device.h"
#include "render/played.h"

namespace gc {
namespace {

class OtherDevice : public RemedyKind {
 public:
  const char* name() const override { return "device"; }
  const char* label() const override { return "Other device"; }

  std::vector<Proposal> propose(const Situation& s, FrameRange range) const override {
    std::vector<Proposal> all;
    for (const CompiledSegmentPtr& c : segments_in(*s.played, range))
      for (const CompiledEffect& e : c->effects) {
        if (!e.type || e.id.empty() || !e.type->accelerator) continue;
        Proposal p;
        const Device other = e.device == Device::processor ? Device::accelerator : Device::processor;
        p.id = fmt::format("device:{}/{}", c->segment->id, e.id);
        p.sentence = fmt::format("{} of {} on the {}.", e.type->label, quoted(*c), other == Device::accelerator ? "accelerator" : "processor");
        p.at = {c->in, c->out}, p.segments = {c->segment->id};
        p.subject.segment = c->segment->id, p.subject.effect = e.id, p.subject.device = other;
        if (other == Device::accelerator && !accelerator_available()) p.refused = "this seat has no accelerator.";
        all.push_back(std::move(p));
      }
    return all;
  }
  Supposed suppose(const Situation& s, const Proposal& p) const override {
    const TimelinePtr then = edit(s, p);
    if (!then) return {};
    Supposed supposed;
    supposed.program = played_program(then, *s.media, s.played->options());
    if (s.shelf) supposed.route = s.shelf->route(*supposed.program);
    return supposed;
  }
  TimelinePtr edit(const Situation& s, const Proposal& p) const override {
    return with_effect_device(*s.timeline, p.subject.segment, p.subject.effect,
                              p.subject.device == Device::accelerator ? "accelerator" : "processor");
  }
};

}  // namespace

const RemedyKind& device_kind() {
  static const OtherDevice kind;
  return kind;
}

}  // namespace gc
