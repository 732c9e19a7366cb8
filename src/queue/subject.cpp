#include "queue/subject.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/timecode.h"
#include "measure/encoding.h"
#include "render/parts.h"

namespace gc {
namespace {

/// The first segment anywhere that shows a composition.
const CompiledSegment* shows(const Program& program, const std::string& composition) {
  for (const auto& s : program.segments()) {
    if (!s->inner) continue;
    if (s->segment->ref == composition) return s.get();
    if (const CompiledSegment* inside = shows(*s->inner, composition)) return inside;
  }
  return nullptr;
}

/// Forms of limited range hold values beyond black and white too: ITU-R BT.709 leaves room below code 64 and above 940
/// of 1023, and as much for colour differences. Full range has none; a little overshoot of sharpening and scaling is
/// what a screen does not show either.
struct FormRoom {
  float low, high;    ///< of luma
  float blue, red;    ///< of B − Y and R − Y, either way
};
/// Whether none of so many premultiplied pixels lies outside. Every picture that is kept comes by here: nothing in it depends on
/// the pixel before, and nothing is divided, so that many are looked at at once.
__attribute__((target_clones("arch=x86-64-v3", "default"), optimize("O3"))) bool all_within(const float* p, std::size_t pixels, bool opaque, FormRoom room) {
  int outside = 0;
  for (std::size_t i = 0; i < pixels; ++i) {
    const float r = p[4 * i], g = p[4 * i + 1], b = p[4 * i + 2], a = opaque ? 1.0f : p[4 * i + 3];
    const float y = 0.2126f * r + 0.7152f * g + 0.0722f * b, by = b - y, ry = r - y;
    outside |= (a > 0) & ((y < room.low * a) | (y > room.high * a) | (by > room.blue * a) | (-by > room.blue * a) | (ry > room.red * a) | (-ry > room.red * a));
  }
  return outside == 0;
}
bool within_form(Form form, const Image& image) {
  const bool full = form == Form::motion_jpeg;
  const float most = full ? 0.52f : 0.56f;
  return all_within(image.data(), image.floats() / 4, image.opaque, {full ? -0.02f : -0.066f, full ? 1.02f : 1.088f, most * 1.8556f, most * 1.5748f});
}

RenderOptions full_quality(const Program& whole, Device device) {
  RenderOptions full;
  full.device = device, full.rendering = true, full.join_fields = whole.options().join_fields;
  return full;
}

/// What these pictures were seen to need, or else the form that is meant.
Form form_for(const Notebook* notebook, const Hash128& content, Form meant) {
  return notebook ? form_needed(*notebook, content, meant) : meant;
}

}  // namespace

RenderSubject finished_frames(const ProgramPtr& program, const std::vector<FrameRange>& ranges, Form form) {
  return {program, ranges, [program](Frames f) { return program->fingerprint(f); }, [program](Frames f) { return content_at(*program, f); }, form};
}

Result<RenderSubject> stack_of(const ProgramPtr& whole, MediaCatalog& media, const std::string& id, std::size_t after, Device device,
                               Form preferred, const Notebook* notebook) {
  CompiledSegmentPtr s;
  for (const CompiledSegmentPtr& each : whole->segments())
    if (each->segment->id == id) s = each;
  const std::string where = whole->timeline()->name;
  if (!s) return bad_input("there is no segment '" + id + "' on its tracks", where, "Name one that 'inspect' lists.");
  if (s->content == Content::offline || s->content == Content::adjustment)
    return bad_input(fmt::format("'{}' has no picture of its own", s->segment->name), where, "Choose another segment.");
  if (after < 1 || after > s->effects.size())
    return bad_input(fmt::format("'{}' has {} effects that run", s->segment->name, s->effects.size()), where,
                     "Name one of them.");
  bool alpha = !s->opaque;
  for (std::size_t i = 0; i < after; ++i) alpha = alpha || (s->effects[i].type && s->effects[i].type->places);
  RenderSubject r;
  r.program = Program::compile(alone_up_to(*whole->timeline(), *s, after), media, full_quality(*whole, device));
  r.ranges = {frames_alone(*whole->timeline(), *s, after)};
  r.key = [whole, s, after](Frames f) { return whole->tap_key(*s, f, after); };
  const Hash128 content = whole->tap_key(*s, r.ranges.front().in, after);
  r.content = [content](Frames) { return content; };
  r.form = form_for(notebook, content, form_of_parts(*r.program->timeline(), preferred, alpha));
  r.kind = TapKind::stack, r.after = static_cast<int>(after);
  return r;
}

Result<RenderSubject> composition_of(const ProgramPtr& whole, MediaCatalog& media, const std::string& id, FrameRange frames, Device device,
                                     Form preferred, const Notebook* notebook) {
  const Timeline& t = *whole->timeline();
  const CompiledSegment* s = shows(*whole, id);
  const auto composition = t.compositions.find(id);
  if (!s || composition == t.compositions.end())
    return bad_input(fmt::format("no segment shows a composition '{}'", id), t.name, "Name one that 'inspect' lists.");
  RenderSubject r;
  r.program = Program::compile(alone(t, *composition->second), media, full_quality(*whole, device));
  r.ranges = {frames.length() > 0 ? frames : FrameRange{0, r.program->duration()}};
  r.key = [inner = s->inner](Frames f) { return inner->composition_key(f); };
  const Hash128 content = s->inner->composition_key(0);
  r.content = [content](Frames) { return content; };
  r.form = form_for(notebook, content, form_of_parts(t, preferred, !s->opaque));
  r.kind = TapKind::composition, r.of = id;
  return r;
}

Result<void> fits_form(const RenderSubject& subject, const FrameResult& frame, std::optional<Form>& needed) {
  if (subject.kind == TapKind::frame) return {};
  const bool alpha = form_has_alpha(subject.form), lost = !frame.image.opaque && !alpha;
  if (!lost && (form_is_float(subject.form) || within_form(subject.form, frame.image))) return {};
  needed = form_of_light(alpha || lost);
  const Timeline& t = *subject.program->timeline();
  return bad_input(fmt::format("the picture at {} has {} that {} cannot keep", timecode_at(t, frame.frame), lost ? "transparency" : "values",
                               form_name(subject.form)),
                   t.name, "Pre-render the segment.");
}

}  // namespace gc
