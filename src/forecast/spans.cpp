#include "forecast/spans.h"

#include <algorithm>
#include <map>
#include <set>

namespace gc {

std::span<const IntervalCost> intervals_in(const Forecast& f, FrameRange range) {
  const auto first = std::ranges::upper_bound(f.intervals, range.in, {}, &IntervalCost::out);
  const auto last = std::ranges::lower_bound(first, f.intervals.end(), range.out, {}, &IntervalCost::in);
  return {first, last};
}

namespace {

/// The frames of a segment that is placed on the timeline.
FrameRange frames_of(const Program& program, const std::string& placed, FrameRange otherwise) {
  for (const CompiledSegmentPtr& s : program.segments())
    if (s->segment->id == placed) return {s->in, s->out};
  return otherwise;
}

void explain(Span& span, const Program& program, const Forecast& f, const ForecastOptions& options) {
  double fetch = 0, process = 0, read = 0, decode = 0, accelerator = 0, transfer = 0, frames = 0;
  std::map<int, StageCost> by_owner;
  std::set<std::string> seen;
  for (const IntervalCost& c : intervals_in(f, {span.in, span.out})) {
    const double n = static_cast<double>(std::min(span.out, c.out) - std::max(span.in, c.in));
    if (n <= 0) continue;
    frames += n;
    fetch += c.fetch_ms * n, process += c.process_ms * n, read += c.read_ms * n;
    for (const StageCost& s : c.stages) {
      const auto [it, fresh] = by_owner.try_emplace(s.owner, s);
      it->second.ms = fresh ? s.ms * n : it->second.ms + s.ms * n;
      it->second.turn_ms = fresh ? s.turn_ms * n : it->second.turn_ms + s.turn_ms * n;
      (s.kind == StageKind::transfer ? transfer : accelerator) += s.elsewhere ? s.ms * n : 0;
      if (s.kind == StageKind::decode) decode += s.ms * n;
      if (!s.segment.empty() && seen.insert(s.segment).second) span.segments.push_back(s.segment);
    }
  }
  if (frames == 0) return;
  for (auto& [owner, s] : by_owner)
    if (s.ms > span.blame.ms) span.blame = s;
  // The same figure as in the ledger: over the frames of the segment, not those of the span.
  for (const StageCost& s : stages_over(f, frames_of(program, span.blame.placed, {span.in, span.out})))
    if (s.owner == span.blame.owner) span.blame.ms = s.ms;
  if (span.verdict != Verdict::wavers && span.verdict != Verdict::spills) return;
  const Frames first = f.before - f.range.in;
  double missed = 0;
  for (const double n : f.trials->not_looked_for(first + span.in, first + span.out)) missed += n;
  if (missed / f.trials->trials() > span.expected_drops / 2) span.cause = Cause::outside;
  else if (fetch > (fetch + process) / options.workers)
    span.cause = read > 0.6 * fetch ? Cause::disk : Cause::decode;
  else if (2 * decode > fetch + process) span.cause = Cause::decode;
  else if (accelerator + transfer > process - accelerator - transfer)
    span.cause = transfer > accelerator ? Cause::transfer : Cause::accelerator;
  else span.cause = Cause::processor;
}

}  // namespace

std::pair<double, double> any_drops(const Forecast& f, FrameRange range) {
  const Frames first = f.before - f.range.in;
  const auto all = f.trials->drops(first + range.in, first + range.out);
  const auto missed = f.trials->not_looked_for(first + range.in, first + range.out);
  double late = 0, not_looked_for = 0;
  for (std::size_t t = 0; t < all.size(); ++t) late += all[t] > missed[t], not_looked_for += missed[t] > 0;
  const auto trials = static_cast<double>(all.size());
  return {late / trials, not_looked_for / trials};
}

Span span_of(FrameRange range, const Forecast& f) {
  Span s;
  s.in = range.in, s.out = range.out;
  const DropRange drops = f.simulated(range).widened(f.widening);
  s.expected_drops = drops.expected, s.drops_low = drops.low, s.drops_high = std::min(drops.high, static_cast<double>(range.length()));
  // What has been learnt of the forecast is of the timeline's own drops.
  const auto [late, not_looked_for] = any_drops(f, range);
  s.drop_probability = 1 - (1 - f.calibration(late)) * (1 - not_looked_for);
  s.sustained_rate = f.rate.fps() * (1 - s.expected_drops / static_cast<double>(range.length()));
  s.verdict = s.drop_probability >= f.thresholds.spills   ? Verdict::spills
              : s.drop_probability >= f.thresholds.wavers ? Verdict::wavers
                                                          : Verdict::holds;
  return s;
}

std::vector<FrameRange> said_runs(const Forecast& f) {
  const Frames length = f.range.length();
  std::vector<int> change(static_cast<std::size_t>(length) + 1, 0);
  for (int t = 0; t < f.trials->trials(); ++t)
    for (const FrameRange& r : drop_runs(f.trials->late(t, f.before, f.before + length), f.rate))
      ++change[static_cast<std::size_t>(r.in - f.before)], --change[static_cast<std::size_t>(r.out - f.before)];
  std::vector<FrameRange> said;
  int runs = 0;
  for (Frames n = 0; n < length; ++n) {
    runs += change[static_cast<std::size_t>(n)];
    if (2 * runs < f.trials->trials() || runs == 0) continue;
    const Frames at = f.range.in + n;
    if (!said.empty() && said.back().out == at) said.back().out = at + 1;
    else said.push_back({at, at + 1});
  }
  return said;
}

namespace {

/// Cuts what is no matter of speed out of the spans and gives it spans of its own.
void set_apart(std::vector<Span>& all, const Forecast& f, Verdict verdict, bool IntervalCost::* of) {
  std::vector<FrameRange> apart;
  for (const IntervalCost& c : f.intervals)
    if (c.*of) {
      if (!apart.empty() && apart.back().out == c.in) apart.back().out = c.out;
      else apart.push_back({c.in, c.out});
    }
  if (apart.empty()) return;
  std::vector<Span> spans;
  for (const Span& s : all) {
    Frames at = s.in;
    const auto rest = [&](Frames out) {
      if (out <= at) return;
      spans.push_back(span_of({at, out}, f));
      spans.back().verdict = s.verdict;
    };
    for (const FrameRange& u : apart) {
      if (u.out <= at || u.in >= s.out) continue;
      rest(u.in);
      at = std::min(u.out, s.out);
    }
    rest(s.out);
  }
  for (const FrameRange& u : apart) {
    Span s = span_of(u, f);
    s.verdict = verdict;
    spans.push_back(std::move(s));
  }
  std::sort(spans.begin(), spans.end(), [](const Span& x, const Span& y) { return x.in < y.in; });
  all = std::move(spans);
}

/// Spans said, and doubtful ones beside them: where drops are likely enough to be told and lie here in one trial and there
/// in another. What is left of a doubtful one next to a span said is that span's recovering, and none by itself.
std::vector<Span> spans_that_drop(const Forecast& f) {
  std::vector<Span> all;
  for (const FrameRange& r : f.said_runs) {
    Span s = span_of(r, f);
    if (s.verdict == Verdict::holds) s.verdict = Verdict::wavers;
    all.push_back(std::move(s));
  }
  constexpr double kDoubtful = 0.02;
  const auto doubtful = [&](FrameRange piece, bool beside) {
    if (piece.length() <= 0 || (beside && piece.length() < f.rate.nominal())) return;
    if (Span s = span_of(piece, f); s.verdict != Verdict::holds) all.push_back(std::move(s));
  };
  for (const FrameRange& r : missed_runs(f.miss, f.range.in, f.rate, kDoubtful)) {
    Frames at = r.in;
    bool beside = false;
    for (const FrameRange& there : f.said_runs) {
      if (there.out <= r.in || there.in >= r.out) continue;
      doubtful({at, there.in}, true);
      at = there.out, beside = true;
    }
    doubtful({at, r.out}, beside);
  }
  std::sort(all.begin(), all.end(), [](const Span& x, const Span& y) { return x.in < y.in; });
  return all;
}

}  // namespace

std::vector<Span> spans_of(const Forecast& f, const Program& program, const ForecastOptions& options) {
  std::vector<Span> all;
  const auto holds = [&](Frames in, Frames out) {
    if (in >= out) return;
    all.push_back(span_of({in, out}, f));
    all.back().verdict = Verdict::holds;
  };
  // Runs of drops, and what lies between them.
  Frames at = f.range.in;
  for (Span& s : spans_that_drop(f)) {
    holds(at, s.in);
    at = s.out;
    all.push_back(std::move(s));
  }
  holds(at, f.range.out);
  set_apart(all, f, Verdict::unseen, &IntervalCost::unseen);
  // What is missing as well cannot be rendered.
  set_apart(all, f, Verdict::missing, &IntervalCost::missing);
  for (Span& s : all) explain(s, program, f, options);
  return all;
}

}  // namespace gc
