// What all kinds of remedies share: supposing, pricing, ranking.
#include <fmt/format.h>

#include <algorithm>
#include <cmath>

#include "measure/measure.h"
#include "remedy/remedy.h"

namespace gc {

Truth Situation::truth(FrameRange range) const {
  Truth strictest = Truth::timing;
  for (const CompiledSegmentPtr& s : segments_in(*played, range)) strictest = std::max(strictest, s->segment->truth);
  return strictest;
}

std::optional<SealHit> SupposedSeals::find(const Hash128& name) const {
  if (const auto it = names_.find(name); it != names_.end()) return it->second;
  return shelf_ ? shelf_->find(name) : std::nullopt;
}

Route with_supposed(const Situation& s, FrameRange range,
                    const std::function<void(SupposedSeals& seals, Frames frame)>& suppose) {
  Route route = s.route;
  route.resize(static_cast<std::size_t>(s.played->duration()));
  for (const CompiledInterval& i : s.played->intervals()) {
    const FrameRange part{std::max(i.in, range.in), std::min(i.out, range.out)};
    if (part.length() <= 0) continue;
    SupposedSeals seals(s.shelf);
    const Frames middle = part.in + part.length() / 2;
    suppose(seals, middle);
    const FrameRecipe recipe = s.played->recipe(middle, &seals);
    const TapPattern taps = recipe.pattern();
    for (Frames f = part.in; f < part.out; ++f) {
      const auto n = static_cast<std::size_t>(f);
      if (route[n] == FrameState::sealed) continue;
      if (recipe.seal) route.set(n, FrameState::sealed);
      else if (!taps.empty()) route.set(n, FrameState::half, taps);
    }
  }
  return route;
}

double encode_ms(const Situation& s, Form form, int width, int height) {
  // The seat knows VC-3 HQX at rasters that it has sealed; other forms by what they took against it on pictures with
  // grain, measured with this program's own encoders on one thread.
  static const std::map<Form, double> kAgainstHqx{
      {Form::vc3_lb, 0.8},   {Form::vc3_sq, 0.9},  {Form::vc3_hq, 1.0},      {Form::vc3_hqx, 1.0}, {Form::vc3_444, 1.7},
      {Form::v210, 0.25},    {Form::vc5, 0.9},     {Form::ffv1, 1.6},        {Form::ffv1_444, 2.2}, {Form::ffv1_alpha, 2.8},
      {Form::rdd36, 1.6},    {Form::rdd36_alpha, 2.8}, {Form::motion_jpeg, 0.5}, {Form::h264_intra, 1.2}};
  const Timeline& t = *s.timeline;
  const std::vector<float> ms = s.notebook->encode(encode_key(t.width, t.height));
  if (ms.empty()) return 0;
  double sum = 0;
  for (const float v : ms) sum += static_cast<double>(v);
  const auto factor = kAgainstHqx.find(form);
  return sum / static_cast<double>(ms.size()) * (factor == kAgainstHqx.end() ? 1 : factor->second) *
         (static_cast<double>(width) * height / (static_cast<double>(t.width) * t.height));
}

namespace {

/// What a piece takes besides its frames: its room, reading it back, and making it durable. Seen on this program's own
/// renders, 0.1 to 0.2 s with files synced to a local drive.
constexpr double kPieceMs = 150, kFramesOfPiece = 24;

/// Opening sources and decoding up to a range's first frame.
double entry_ms(const Forecast& costs, const IntervalCost& c, Frames at) {
  for (const CostStretch& s : costs.model->stretches) {
    if (at - costs.range.in < s.in || at - costs.range.in >= s.out) continue;
    const CostPool& pool = costs.model->pools[s.pool];
    double open = 0;
    for (const float v : pool.entries) open += static_cast<double>(v) / static_cast<double>(pool.entries.size());
    return open + static_cast<double>(s.entry_frames) * c.fetch_ms;
  }
  return 0;
}

}  // namespace

double seconds_to_render(const Situation& s, const ProgramPtr& program, const std::vector<FrameRange>& ranges, Form form) {
  if (ranges.empty()) return 0;
  FrameRange all = ranges.front();
  for (const FrameRange& r : ranges) all.in = std::min(all.in, r.in), all.out = std::max(all.out, r.out);
  ForecastOptions costs_only = s.forecast;
  costs_only.trials = 1, costs_only.before = nullptr, costs_only.cost_scale = 1;
  const Forecast costs = gc::forecast(*program, *s.notebook, {}, all, costs_only);
  const Timeline& t = *program->timeline();
  const double encode = costs.base * encode_ms(s, form, t.width, t.height);
  double ms = 0;
  for (const FrameRange& r : ranges) {
    bool first = true;
    for (const IntervalCost& c : costs.intervals) {
      const double n = static_cast<double>(std::min(r.out, c.out) - std::max(r.in, c.in));
      if (n <= 0) continue;
      double process = c.process_ms;
      for (const StageCost& stage : c.stages)
        if (stage.kind == StageKind::display) process -= stage.ms;  // no screen is there to make a picture for
      ms += n * std::max({encode, c.fetch_ms, (c.fetch_ms + std::max(0.0, process) + encode) / s.forecast.workers});
      ms += kPieceMs * n / kFramesOfPiece;
      if (first) ms += entry_ms(costs, c, r.in);
      first = false;
    }
  }
  return ms / 1000;
}

Quote quote_of(const Situation& s, double modelled_seconds, std::uint64_t bytes, double read_mb_s) {
  Quote q;
  q.modelled_seconds = modelled_seconds, q.seconds = modelled_seconds * s.notebook->price_factor();
  q.bytes = bytes, q.read_mb_s = read_mb_s;
  q.known = encode_ms(s, s.form, s.timeline->width, s.timeline->height) > 0;
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

double drops_saved(const Situation& s, const Proposal& p) {
  const Supposed then = p.kind->suppose(s, p);
  if (!then.program) return 0;
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
