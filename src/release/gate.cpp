#include "release/gate.h"

#include <fmt/format.h>

#include <algorithm>
#include <set>

#include "base/timecode.h"
#include "effects/registry.h"

namespace gc {
namespace {

/// "2026-11-26 03:59 UTC" for an ISO 8601 time; anything else as it is.
std::string to_the_minute(const std::string& iso) {
  if (iso.size() < 17 || iso[10] != 'T' || iso.back() != 'Z') return iso;
  return iso.substr(0, 10) + " " + iso.substr(11, 5) + " UTC";
}

void check_effects(const Program& program, const std::string& inside, Frames offset, Gate& gate) {
  for (const auto& s : program.segments()) {
    const Frames at = s->in + offset;
    if (s->inner) check_effects(*s->inner, fmt::format("In '{}': ", s->segment->name), at, gate);
    if (s->media.copy_size > 1)
      gate.items.push_back({GateKind::proxy, true, s->segment->id, at,
                            fmt::format("{}'{}' reads a proxy of 1/{} size, not the original: {}.", inside, s->segment->name,
                                        s->media.copy_size, s->path),
                            "Relink it to the original."});
    for (const Effect& e : s->segment->stack) {
      if (!e.enabled || e.type == "retime") continue;
      if (e.type == cost_card_effect().id || program.timeline()->cards.contains(e.type))
        gate.items.push_back(
            {GateKind::remark, true, s->segment->id, at,
             fmt::format("{}'{}' has a cost card in place of an effect; its picture is marked, not made.",
                         inside, s->segment->name),
             "Remove the card, or deliver from the program that has the effect."});
      else if (!effect_type(e.type))
        gate.items.push_back(
            {GateKind::remark, false, s->segment->id, at,
             fmt::format("{}'{}' has the effect '{}', which cannot be run here and is passed through.",
                         inside, s->segment->name, e.type.empty() ? "unnamed" : e.type),
             "Deliver it from the program that has the effect."});
    }
    for (const std::string& remark : s->remarks)
      if (remark.find("not an effect we can run") == std::string::npos)
        gate.items.push_back({GateKind::remark, false, s->segment->id, at,
                              fmt::format("{}'{}': {}", inside, s->segment->name, remark),
                              "Look at the segment."});
  }
}

}  // namespace

bool Gate::may_deliver() const {
  return std::none_of(items.begin(), items.end(), [](const GateItem& i) { return i.stops; });
}

int Gate::count(GateKind kind) const {
  return static_cast<int>(
      std::count_if(items.begin(), items.end(), [&](const GateItem& i) { return i.kind == kind; }));
}

std::string Gate::sentence() const {
  const auto stops = std::count_if(items.begin(), items.end(), [](const GateItem& i) { return i.stops; });
  if (stops == 0)
    return count(GateKind::broken_seal) > 0 ? "May be delivered. Broken seals are not used for the delivery."
                                            : "May be delivered. Nothing temporary is left.";
  return fmt::format("May not be delivered yet: {} thing{} to put right.", stops, stops == 1 ? "" : "s");
}

Gate check_gate(const Program& program, const Shelf* shelf) {
  Gate gate;
  const Timeline& t = *program.timeline();
  for (const MissingPicture& m : missing_pictures(program))
    gate.items.push_back(
        {GateKind::offline, true, m.segment, m.at.in,
         fmt::format("{}'{}' has no picture: {}", m.inside.empty() ? "" : fmt::format("In '{}': ", m.inside), m.name,
                     m.why),
         "Bring the file back, relink the segment or shorten it."});
  check_effects(program, "", 0, gate);
  for (const Slip& slip : t.slips) {
    if (!slip.open()) continue;
    if (!has_subject(t, slip)) {
      gate.items.push_back({GateKind::remark, false, slip.segment, 0,
                            fmt::format("A slip, open since {}, is of something that is not there: {}.", to_the_minute(slip.opened),
                                        slip_text(t, slip)),
                            "Nothing is changed by it."});
      continue;
    }
    std::string text = slip_text(t, slip);
    if (const SegmentPtr s = slip.kind == slip_kind::bypass ? find_segment(t, slip.segment) : nullptr)
      for (const Effect& e : s->stack)
        if (const EffectType* type = e.id == slip.effect ? effect_type(e.type) : nullptr)
          text = fmt::format("{} of '{}' is bypassed", type->label, s->name);
    text.front() = static_cast<char>(std::toupper(static_cast<unsigned char>(text.front())));
    gate.items.push_back({GateKind::open_slip, true, slip.segment, slip.in,
                          fmt::format("{} since {}{}{}.", text, to_the_minute(slip.opened), slip.who.empty() ? "" : ", by " + slip.who,
                                      slip.why.empty() ? "" : ": " + slip.why),
                          slip.kind == slip_kind::bypass ? "Lift the bypass." : "Lift it."});
  }
  if (shelf) {
    const Route states = shelf->route(program);
    std::set<std::string> told;
    for (const CompiledInterval& i : program.intervals())
      for (Frames f = i.in; f < i.out; ++f)
        if (const CompiledSegment* s = main_segment(program, f);
            s && states[static_cast<std::size_t>(f)] == FrameState::broken &&
            told.insert(s->segment->id).second)
          gate.items.push_back(
              {GateKind::broken_seal, false, s->segment->id, f,
               fmt::format("The seal of '{}' is broken since it was changed.", s->segment->name),
               "Run the plan again to make it play."});
  }
  for (const std::string& r : t.remarks)
    gate.items.push_back({GateKind::remark, false, "", 0, r, "Look at it in the program that wrote it."});
  for (GateItem& item : gate.items)
    for (const auto& s : program.segments())
      if (s->segment->id == item.segment && item.at == 0) item.at = s->in;
  return gate;
}

}  // namespace gc
