// What all kinds of remedies share: supposing, pricing, ranking.
#include <fmt/format.h>

#include <algorithm>
#include <cmath>

#include "remedy/remedy.h"

namespace gc {

namespace {

/// Whether something inside of a composition is judged exactly.
bool exact_inside(const CompiledSegment& s) {
  return s.inner && std::ranges::any_of(s.inner->segments(), [](const CompiledSegmentPtr& c) { return c->segment->truth == Truth::exact || exact_inside(*c); });
}

}  // namespace

Truth Situation::truth(FrameRange range) const {
  Truth strictest = Truth::timing;
  for (const CompiledSegmentPtr& s : segments_in(*played, range)) {
    strictest = std::max(strictest, s->segment->truth);
    if (exact_inside(*s)) strictest = Truth::exact;
    const bool watched = std::any_of(must_watch.begin(), must_watch.end(), [&](const Restless& r) { return r.segment == s->segment->id; });
    if (watched) strictest = Truth::exact;
  }
  return strictest;
}

std::optional<SealHit> SupposedSeals::find(const Hash128& name) const {
  if (const auto it = names_.find(name); it != names_.end()) return it->second;
  return shelf_ ? shelf_->find(name) : std::nullopt;
}

namespace {

/// Whether an effect looks from a frame beyond the ends of its segment, where less of it may be rendered.
bool looks_beyond(const CompiledInterval& interval, Frames frame) {
  const auto looks = [&](const CompiledSegmentPtr& c) { return c && (frame - c->window.before < c->in || frame + c->window.after >= c->out); };
  return std::ranges::any_of(interval.layers, [&](const CompiledLayer& l) { return looks(l.from) || looks(l.to); });
}

}  // namespace

Route with_supposed(const Situation& s, FrameRange range,
                    const std::function<void(SupposedSeals& seals, Frames frame)>& suppose) {
  Route route = s.route;
  route.resize(static_cast<std::size_t>(s.played->duration()));
  for (const CompiledInterval& i : s.played->intervals()) {
    const FrameRange part{std::max(i.in, range.in), std::min(i.out, range.out)};
    if (part.length() <= 0) continue;
    const auto look = [&](Frames frame) {
      SupposedSeals seals(s.shelf);
      suppose(seals, frame);
      return s.played->recipe(frame, &seals);
    };
    const Frames middle = part.in + part.length() / 2;
    std::optional<FrameRecipe> usual;
    for (Frames f = part.in; f < part.out; ++f) {
      const auto n = static_cast<std::size_t>(f);
      if (route[n] == FrameState::sealed) continue;
      const bool alone = looks_beyond(i, f);
      if (!alone && !usual) usual = look(looks_beyond(i, middle) ? f : middle);
      const FrameRecipe recipe = alone ? look(f) : *usual;
      if (recipe.seal) route.set(n, FrameState::sealed);
      else if (const TapPattern taps = recipe.pattern(); !taps.empty()) route.set(n, FrameState::half, taps);
    }
  }
  return route;
}

const Pricing& Situation::pricing() const {
  if (!pricing_) pricing_ = std::make_shared<const Pricing>(rendered, *notebook, FrameRange{0, rendered->duration()}, forecast);
  return *pricing_;
}

Situation situation_for(const ProgramPtr& played, const Notebook& notebook, const Shelf* shelf, MediaCatalog& media, const Route& route,
                        const ForecastOptions& options, Device rendering, Form form, const Forecast* before) {
  Situation s;
  s.timeline = played->timeline(), s.played = played, s.route = route;
  s.rendered = s.delivered = program_rendered(played, rendering, media);
  s.notebook = &notebook, s.shelf = shelf, s.media = &media;
  s.forecast = options, s.form = form;
  ForecastOptions first = options;
  first.before = before;
  s.now = std::make_shared<const Forecast>(gc::forecast(*played, notebook, route, {0, played->duration()}, first));
  return s;
}

ProgramPtr program_rendered(const ProgramPtr& program, Device device, MediaCatalog& media) {
  const RenderOptions& o = program->options();
  const bool unseen = std::any_of(program->intervals().begin(), program->intervals().end(),
                                  [](const CompiledInterval& i) { return i.unseen; });
  // Some of its frames may play at another scale.
  const bool uniform = std::all_of(program->intervals().begin(), program->intervals().end(),
                                   [&](const CompiledInterval& i) { return &program->playing(i.in) == program.get(); });
  if (o.full_quality() && uniform && o.device == device && (o.rendering || !unseen)) return program;
  RenderOptions full;
  full.device = device, full.rendering = true, full.join_fields = o.join_fields;
  return Program::compile(program->timeline(), media, full);
}

Supposed RemedyKind::suppose(const Situation& s, const Proposal& p) const {
  return {s.played, with_supposed(s, p.at, [&](SupposedSeals& seals, Frames frame) { would_make(s, p, frame, seals); })};
}

Route with_rendered(const Situation& s, const std::vector<Proposal>& proposals) {
  Situation with = s;
  FrameRange all{s.played->duration(), 0};
  for (const Proposal& p : proposals) {
    const auto making = p.kind->making(p);
    if (making && making->what == Making::What::frames)
      for (const FrameRange& r : making->subject.frames) with.route = with_state(std::move(with.route), r, FrameState::sealed);
    else all.in = std::min(all.in, p.at.in), all.out = std::max(all.out, p.at.out);
  }
  return with_supposed(with, all, [&](SupposedSeals& seals, Frames frame) {
    for (const Proposal& p : proposals)
      if (frame >= p.at.in && frame < p.at.out) p.kind->would_make(s, p, frame, seals);
  });
}

double seconds_to_render(const Situation& s, const ProgramPtr& program, Form form, const Hash128& content) {
  const FrameRange whole{0, program->duration()};
  const Timeline& t = *program->timeline();
  const bool known = !s.notebook->encode(encode_key(form, t.width, t.height, content)).empty();
  return whole.length() > 0 ? Pricing(program, *s.notebook, whole, s.forecast).frames({whole}, form, known ? std::optional(content) : std::nullopt) : 0;
}

Quote quote_of(const Situation& s, double modelled_seconds, std::uint64_t bytes, double read_mb_s) {
  Quote q;
  q.modelled_seconds = modelled_seconds, q.seconds = modelled_seconds * s.notebook->price_factor();
  q.bytes = bytes, q.read_mb_s = read_mb_s;
  q.known = encode_cost(*s.notebook, *s.timeline, s.form, s.timeline->width, s.timeline->height).wall_ms > 0;
  if (s.shelf) q.volume = s.shelf->volumes().front().folder;
  return q;
}

std::vector<CompiledSegmentPtr> segments_in(const Program& program, FrameRange range) {
  std::vector<CompiledSegmentPtr> all;
  for (const CompiledSegmentPtr& s : program.segments())
    if (s->in < range.out && s->out > range.in) all.push_back(s);
  return all;
}

bool is_trivial(const Situation& s, const CompiledSegment& segment) {
  // A twentieth of the frame budget, with everything that belongs to it.
  const std::vector<StageCost> stages = stages_over(*s.now, {segment.in, segment.out});
  return ms_of(stages, segment.segment->id) < s.now->rate.frame_ms() / 20;
}

std::string quoted(const CompiledSegment& s) { return "'" + s.segment->name + "'"; }

namespace {

/// The frames that a change at `at` may cause drops in or save them from: on each side up to where the pipeline is at rest,
/// since for two seconds nothing is dropped in any trial.
FrameRange reach_of(const Forecast& now, FrameRange at) {
  const Frames rest = 2 * now.rate.nominal();
  const auto drops = [&](Frames f) { return now.miss[static_cast<std::size_t>(f - now.range.in)] > 0; };
  FrameRange reach{std::max(now.range.in, at.in), std::min(now.range.out, at.out)};
  for (Frames quiet = 0; reach.in > now.range.in && quiet < rest;) quiet = drops(--reach.in) ? 0 : quiet + 1;
  for (Frames quiet = 0; reach.out < now.range.out && quiet < rest;) quiet = drops(reach.out++) ? 0 : quiet + 1;
  return reach;
}

}  // namespace

double drops_saved(const Situation& s, const Proposal& p) {
  const Supposed then = p.kind->suppose(s, p);
  if (!then.program) return 0;
  const FrameRange reach = reach_of(*s.now, p.at);
  if (reach.length() <= 0) return 0;
  if (2 * reach.length() < s.now->range.length()) {
    // Both sides in the same frames, so that they draw the same costs.
    ForecastOptions once = s.forecast;
    once.loop = false;
    const auto drops = [&](const Program& program, const Route& route) { return gc::forecast(program, *s.notebook, route, reach, once).expected_drops; };
    return drops(*s.played, s.route) - drops(*then.program, then.route);
  }
  ForecastOptions options = s.forecast;
  options.before = then.program == s.played ? s.now.get() : nullptr;
  const Forecast f = gc::forecast(*then.program, *s.notebook, then.route, s.now->range, options);
  return s.now->expected_drops - f.expected_drops;
}

namespace {

/// A form that the drive cannot feed as fast as it plays.
void refuse_what_cannot_be_read(const Situation& s, Proposal& p) {
  if (!s.shelf || p.quote.read_mb_s <= 0 || !p.refused.empty()) return;
  double fastest = 0;
  bool known = true;
  for (const ShelfVolume& v : s.shelf->volumes()) known = known && v.read_mb_s > 0, fastest = std::max(fastest, v.read_mb_s);
  if (known && fastest < 1.2 * p.quote.read_mb_s)
    p.refused = fmt::format("the cure becomes the illness: it needs {:.0f} MB/s to play, and the shelf's fastest volume reads {:.0f}.",
                            p.quote.read_mb_s, fastest);
}

}  // namespace

std::vector<Proposal> remedies_for(const Situation& s, FrameRange range) {
  std::vector<Proposal> all;
  for (const RemedyKind* kind : remedy_kinds())
    for (Proposal& p : kind->propose(s, range)) {
      p.kind = kind;
      if (p.refused.empty() && s.truth(p.at) > p.serves)
        p.refused = fmt::format("a segment there is judged for {}; this hides {}.", truth_name(s.truth(p.at)), p.hides);
      refuse_what_cannot_be_read(s, p);
      if (p.refused.empty()) p.drops_saved = drops_saved(s, p);
      all.push_back(std::move(p));
    }
  std::stable_sort(all.begin(), all.end(), [](const Proposal& a, const Proposal& b) {
    if (a.refused.empty() != b.refused.empty()) return a.refused.empty();
    // What takes no time still takes a person's attention.
    return a.drops_saved / (a.quote.seconds + 0.5) > b.drops_saved / (b.quote.seconds + 0.5);
  });
  return all;
}

std::optional<Proposal> proposal_of(const Situation& s, const std::string& id) {
  for (const RemedyKind* kind : remedy_kinds())
    if (id.starts_with(std::string(kind->name()) + ":"))
      for (Proposal& p : kind->propose(s, {0, s.played->duration()}))
        if (p.id == id) {
          p.kind = kind;
          if (p.refused.empty() && s.truth(p.at) > p.serves)
            p.refused = fmt::format("a segment there is judged for {}; this hides {}.", truth_name(s.truth(p.at)), p.hides);
          refuse_what_cannot_be_read(s, p);
          return p;
        }
  return std::nullopt;
}

}  // namespace gc
