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
      if (e.type == cost_card_effect().id || program.timeline()->cards.contains(e.type)) {
        gate.items.push_back(
            {GateKind::card, true, s->segment->id, at,
             fmt::format("{}'{}' has a cost card in place of an effect; its picture is marked, not made.",
                         inside, s->segment->name),
             "Remove the card, or deliver from the program that has the effect."});
        gate.items.back().effect = e.id;
      } else if (!effect_type(e.type)) {
        gate.items.push_back(
            {GateKind::effect, true, s->segment->id, at,
             fmt::format("{}'{}' has the effect '{}', which cannot be run here: the picture is delivered without it.",
                         inside, s->segment->name, e.type.empty() ? "unnamed" : e.type),
             "Deliver it from the program that has the effect, or accept it."});
        gate.items.back().effect = e.id;
        gate.items.back().item = fmt::format("effect:{}:{}", s->segment->id, e.id);
        gate.items.back().of = hash_text(e.type + e.params.dump() + e.foreign.dump()).hex();
      }
    }
    for (const std::string& remark : s->remarks)
      if (remark.find("not an effect we can run") == std::string::npos)
        gate.items.push_back({GateKind::remark, false, s->segment->id, at,
                              fmt::format("{}'{}': {}", inside, s->segment->name, remark),
                              "Look at the segment."});
  }
}

/// Stretches where no segment shows anything.
void check_gaps(const Program& program, Gate& gate) {
  std::optional<FrameRange> gap;
  const auto close = [&] {
    if (!gap) return;
    const std::string first = timecode_at(*program.timeline(), gap->in), last = timecode_at(*program.timeline(), gap->out - 1);
    gate.items.push_back({GateKind::gap, true, "", gap->in,
                          gap->length() == 1 ? fmt::format("Nothing is there at {}: one black frame.", first)
                                             : fmt::format("Nothing is there from {} to {}: {} black frames.", first, last, gap->length()),
                          "Close the gap, or accept it as wanted."});
    gate.items.back().item = fmt::format("gap:{}-{}", gap->in, gap->out);
    gap.reset();
  };
  Frames at = 0;
  for (const CompiledInterval& i : program.intervals()) {
    if (i.in > at) gap = FrameRange{gap ? gap->in : at, i.in};
    if (i.layers.empty() && !i.missing) gap = FrameRange{gap ? gap->in : i.in, i.out};
    else close();
    at = i.out;
  }
  if (at < program.duration()) gap = FrameRange{gap ? gap->in : at, program.duration()};
  close();
}

std::string name_in(const Program& program, const std::string& segment) {
  for (const auto& s : program.segments())
    if (s->segment->id == segment) return s->segment->name;
  return segment;
}

void check_unwatched(const Program& program, const std::vector<Restless>& unwatched, Gate& gate) {
  for (const Restless& r : unwatched) {
    gate.items.push_back({GateKind::unwatched, true, r.segment, r.frame,
                          fmt::format("Nobody has watched '{}' playing since it last changed. {}: an even area around {}, {} changes by {:.1f} of 255 from one frame to the next.",
                                      name_in(program, r.segment), r.effect, r.x, r.y, r.change),
                          "Play it at full quality without a drop, or accept it."});
    gate.items.back().item = "unwatched:" + r.segment;
    gate.items.back().of = r.shown.hex();
  }
}

void check_uncovered(const Program& program, const std::vector<Coverage>& uncovered, Gate& gate) {
  for (const Coverage& c : uncovered) {
    const int i = program.interval_at(c.frame);
    if (i < 0 || program.intervals()[static_cast<std::size_t>(i)].layers.empty()) continue;  // a gap
    const std::string name = name_in(program, c.segment);
    const double share = 100.0 * static_cast<double>(c.pixels) / (static_cast<double>(program.timeline()->width) * program.timeline()->height);
    gate.items.push_back({GateKind::uncovered, true, c.segment, c.frame,
                          fmt::format("'{}' leaves {} pixels ({:.2g} %) uncovered: {} at the left, {} at the right, {} above, {} below.", name, c.pixels,
                                      share, c.left, c.right, c.top, c.bottom),
                          "Enlarge it, put something below it, or accept it as wanted."});
    gate.items.back().item = "uncovered:" + c.segment;
    gate.items.back().of = fmt::format("{} {} {} {} {}", c.pixels, c.left, c.right, c.top, c.bottom);
  }
}

void check_devices_agree(const Program& program, const std::string& inside, Frames offset, const std::vector<std::string>& differing, Gate& gate) {
  for (const auto& s : program.segments()) {
    const Frames at = s->in + offset;
    if (s->inner) check_devices_agree(*s->inner, fmt::format("In '{}': ", s->segment->name), at, differing, gate);
    for (const Effect& e : s->segment->stack) {
      const EffectType* type = e.enabled && std::ranges::find(differing, e.type) != differing.end() ? effect_type(e.type) : nullptr;
      if (!type) continue;
      gate.items.push_back({GateKind::device, true, s->segment->id, at,
                            fmt::format("{}{} of '{}' is drawn otherwise by the accelerator than by the processor, beyond what it may.", inside, type->label, s->segment->name),
                            "Render on the processor, or accept it."});
      gate.items.back().effect = e.id;
      gate.items.back().item = fmt::format("device:{}:{}", s->segment->id, e.id);
      gate.items.back().of = hash_text(e.type + e.params.dump()).hex();
    }
  }
}

}  // namespace

const char* name_of(GateKind kind) {
  switch (kind) {
    case GateKind::offline: return "offline";
    case GateKind::open_slip: return "open_slip";
    case GateKind::broken_seal: return "broken_seal";
    case GateKind::remark: return "remark";
    case GateKind::proxy: return "proxy";
    case GateKind::card: return "card";
    case GateKind::effect: return "effect";
    case GateKind::gap: return "gap";
    case GateKind::uncovered: return "uncovered";
    case GateKind::unwatched: return "unwatched";
    case GateKind::device: return "device";
    case GateKind::records: return "records";
  }
  return "";
}

TimelinePtr put_right(const Timeline& timeline, const GateItem& item, const std::string& now_utc) {
  if (item.kind == GateKind::open_slip) return with_lifted(timeline, [&](const Slip& s) { return s.id == item.slip; }, now_utc);
  if (item.kind != GateKind::card) return nullptr;
  const SegmentPtr s = find_segment(timeline, item.segment);
  if (!s) return nullptr;
  for (const Effect& e : s->stack) {
    if (e.id != item.effect) continue;
    if (e.type == cost_card_effect().id) return with_effect_removed(timeline, item.segment, item.effect, now_utc);
    auto copy = std::make_shared<Timeline>(timeline);
    return copy->cards.erase(e.type) > 0 ? copy : nullptr;
  }
  return nullptr;
}

Result<Acceptance> acceptance_of(const GateItem& item, const std::string& who, const std::string& why, const std::string& now_utc) {
  if (item.item.empty()) return usage(fmt::format("this cannot be accepted: {}", item.what), item.remedy);
  const auto said = [](const std::string& s) { return s.find_first_not_of(" \t\n") != std::string::npos; };
  if (!said(who) || !said(why)) return usage("nothing is accepted without a name and a reason", "Say who accepts it, and why: both stand in the report.");
  return Acceptance{item.item, item.of, now_utc, who, why};
}

bool Gate::may_deliver() const {
  return std::none_of(items.begin(), items.end(), [](const GateItem& i) { return i.stops; });
}

int Gate::count(GateKind kind) const {
  return static_cast<int>(
      std::count_if(items.begin(), items.end(), [&](const GateItem& i) { return i.kind == kind; }));
}

std::string Gate::sentence() const {
  const auto stops = std::count_if(items.begin(), items.end(), [](const GateItem& i) { return i.stops; });
  const auto accepted = std::count_if(items.begin(), items.end(), [](const GateItem& i) { return i.accepted.has_value(); });
  if (stops == 0 && accepted > 0) return fmt::format("May be delivered. {} thing{} accepted by hand.", accepted, accepted == 1 ? " is" : "s are");
  if (stops == 0)
    return count(GateKind::broken_seal) > 0 ? "May be delivered. Broken seals are not used for the delivery."
                                            : "May be delivered. Nothing temporary is left.";
  return fmt::format("May not be delivered yet: {} thing{} to put right.", stops, stops == 1 ? "" : "s");
}

Gate check_gate(const Program& program, const Shelf* shelf, const Inspection* found) {
  Gate gate;
  const Timeline& t = *program.timeline();
  for (const MissingPicture& m : missing_pictures(program))
    gate.items.push_back(
        {GateKind::offline, true, m.segment, m.at.in,
         fmt::format("{}'{}' has no picture: {}", m.inside.empty() ? "" : fmt::format("In '{}': ", m.inside), m.name,
                     m.why),
         "Bring the file back, relink the segment or shorten it."});
  check_effects(program, "", 0, gate);
  check_gaps(program, gate);
  if (found) {
    check_uncovered(program, found->uncovered, gate), check_unwatched(program, found->unwatched, gate);
    check_devices_agree(program, "", 0, found->differing, gate);
    for (const std::string& damage : found->damaged)
      gate.items.push_back({GateKind::records, true, "", 0, damage, "Move the file away and start again: what can be had of it is found again."});
  }
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
    gate.items.back().slip = slip.id;
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
  for (GateItem& item : gate.items)
    for (const Acceptance& a : t.acceptances)
      if (!item.item.empty() && a.item == item.item && a.of == item.of) item.accepted = a, item.stops = false;
  return gate;
}

}  // namespace gc
