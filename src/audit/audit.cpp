#include "audit/audit.h"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>

#include "base/timecode.h"
#include "measure/hold_ups.h"

namespace gc {
namespace {

Frames overlap(FrameRange a, FrameRange b) {
  return std::max<Frames>(0, std::min(a.out, b.out) - std::max(a.in, b.in));
}

}  // namespace

std::vector<FrameRange> spans_called(const Forecast& f) {
  std::vector<FrameRange> spans;
  std::copy_if(f.said_runs.begin(), f.said_runs.end(), std::back_inserter(spans), [&](FrameRange run) {
    return std::any_of(f.spans.begin(), f.spans.end(), [&](const Span& s) { return is_of_speed(s.verdict) && overlap({s.in, s.out}, run) > 0; });
  });
  return spans;
}

std::vector<FrameRange> spans_observed(const Playout& p) {
  std::vector<Frames> dropped;
  for (const FrameLog& l : p.log)
    if (l.dropped && l.cause != Cause::outside) dropped.push_back(l.frame);
  std::sort(dropped.begin(), dropped.end());
  return drop_runs(dropped, p.rate);
}

std::vector<std::pair<std::size_t, std::size_t>> matched(const std::vector<FrameRange>& a, const std::vector<FrameRange>& b) {
  struct Pair {
    double share;
    std::size_t a, b;
  };
  std::vector<Pair> all;
  for (std::size_t i = 0; i < a.size(); ++i)
    for (std::size_t j = 0; j < b.size(); ++j) {
      const auto common = static_cast<double>(overlap(a[i], b[j]));
      const double share = common / (static_cast<double>(a[i].length() + b[j].length()) - common);
      if (share >= 0.5) all.push_back({share, i, j});
    }
  std::stable_sort(all.begin(), all.end(), [](const Pair& x, const Pair& y) { return x.share > y.share; });
  std::vector<std::pair<std::size_t, std::size_t>> pairs;
  for (const Pair& p : all)
    if (std::none_of(pairs.begin(), pairs.end(), [&](const auto& taken) { return taken.first == p.a || taken.second == p.b; }))
      pairs.emplace_back(p.a, p.b);
  return pairs;
}

Result<void> note_disturbance(const Playout& p, Notebook& notebook) {
  double crowding = 0, looked_at = 0;
  for (const FrameLog& f : p.log)
    if (f.made && f.crowding >= 0) crowding += f.crowding, ++looked_at;
  if (looked_at > 0) notebook.note_crowding(crowding / looked_at, 0.7);
  HoldUps outside;
  std::vector<float> looks_ms;
  double looked = -1e9;
  Cause before = Cause::none;
  for (const FrameLog& f : p.log) {
    // Frames that are looked for at the same moment were late from the same hold-up; a display that blocks is
    // no outside.
    const double late = f.looked_ms - f.due_ms;
    if (p.mode == PlayMode::on_the_clock && late > kLeastOutsideMs && f.looked_ms > looked + 1 &&
        f.cause != Cause::display && before != Cause::display)
      looks_ms.push_back(static_cast<float>(late));
    looked = f.looked_ms, before = f.cause;
    if (!f.made) continue;
    outside.add(f.fetched_ms - f.fetch_began_ms + f.process_ms() + f.beside_ms - f.spent.outside, f.spent.outside);
  }
  auto d = outside.seen();
  if (!d) return {};
  d->looks_per_busy_ms = static_cast<double>(looks_ms.size()) / outside.busy_ms(), d->looks_ms = std::move(looks_ms);
  d->shared = p.around.others + p.around.stolen;
  notebook.note_shared(p.around);
  return notebook.add_disturbance(*d);
}

std::vector<FrameRange> segment_ranges(const Program& program) {
  std::vector<FrameRange> parts;
  const CompiledSegment* before = nullptr;
  for (const CompiledInterval& i : program.intervals()) {
    const CompiledSegment* main = main_segment(program, i.in);
    if (!parts.empty() && main == before) parts.back().out = i.out;
    else parts.push_back({i.in, i.out});
    before = main;
  }
  return parts;
}

int drops_in(const Playout& p, FrameRange r, Cause cause) {
  return static_cast<int>(std::count_if(p.log.begin(), p.log.end(), [&](const FrameLog& l) {
    return l.dropped && l.frame >= r.in && l.frame < r.out && (cause == Cause::none || l.cause == cause);
  }));
}

std::vector<float> moods_of(const Forecast& f, const Playout& p) {
  constexpr double kLeast = 8;  // frames
  std::vector<float> ratios;
  for (const IntervalCost& c : f.intervals) {
    double frames = 0, own = 0;
    for (const FrameLog& l : p.log)
      if (l.made && l.state != FrameState::remembered && l.frame >= c.in && l.frame < c.out) ++frames, own += own_ms(l);
    if (frames >= kLeast && c.measured && c.fetch_ms + c.process_ms > 0)
      ratios.push_back(static_cast<float>(own / frames / (c.fetch_ms + c.process_ms) * f.base));
  }
  return ratios;
}

Result<void> note_outcomes(const Forecast& f, const Playout& p, const Program& program, Notebook& notebook) {
  std::vector<Said> said;
  for (FrameRange part : segment_ranges(program)) {
    part = {std::max(part.in, f.range.in), std::min(part.out, f.range.out)};
    if (part.length() <= 0) continue;
    // What the outside alone dropped says nothing of what was said of the timeline.
    const int drops = drops_in(p, part), own = drops - drops_in(p, part, Cause::outside);
    if (drops == 0 || own > 0) said.push_back({static_cast<float>(f.any_drop_simulated(part)), own > 0});
  }
  return notebook.add_outcomes(said);
}

Result<void> note_playout(const Forecast& f, const Playout& p, const Program& program, Notebook& notebook) {
  if (auto r = note_disturbance(p, notebook); !r) return r;
  if (auto r = note_outcomes(f, p, program, notebook); !r) return r;
  // Where hardly a drop is expected a range has no width that could be learnt.
  if (const DropRange said = f.simulated(f.range); said.expected >= 1 && p.range == f.range)
    if (auto r = notebook.add_range({said.needed(static_cast<double>(p.dropped)), f.crowding}); !r) return r;
  return notebook.add_moods(moods_of(f, p), f.crowding);
}

Audit audit(const Forecast& f, const Forecast& own, const Playout& p) {
  Audit a;
  a.drops_forecast = f.expected_drops, a.drops_low = f.drops_low, a.drops_high = f.drops_high;
  a.drops_observed = p.dropped, a.drops_outside = p.dropped_outside;
  a.spans_forecast = spans_called(own), a.spans_observed = spans_observed(p);
  const auto pairs = matched(a.spans_forecast, a.spans_observed);
  a.matched = static_cast<int>(pairs.size());
  if (!a.spans_forecast.empty()) a.span_precision = static_cast<double>(a.matched) / static_cast<double>(a.spans_forecast.size());
  if (!a.spans_observed.empty()) a.span_recall = static_cast<double>(a.matched) / static_cast<double>(a.spans_observed.size());
  a.span_f1 = a.span_precision + a.span_recall > 0
                  ? 2 * a.span_precision * a.span_recall / (a.span_precision + a.span_recall)
                  : 0;
  const auto tell = [&](FrameRange r, const char* what) {
    a.disagreements.push_back(
        fmt::format("{} to {}: {}", p.timecode_of(r.in),
                                          p.timecode_of(r.out), what));
  };
  const auto touches = [](FrameRange r, const std::vector<FrameRange>& others) {
    return std::any_of(others.begin(), others.end(), [&](FrameRange o) { return overlap(r, o) > 0; });
  };
  for (std::size_t i = 0; i < a.spans_forecast.size(); ++i)
    if (std::none_of(pairs.begin(), pairs.end(), [&](const auto& k) { return k.first == i; }))
      tell(a.spans_forecast[i], touches(a.spans_forecast[i], a.spans_observed) ? "called to drop, and dropped elsewhere or for another length." : "called to drop, and played.");
  for (std::size_t i = 0; i < a.spans_observed.size(); ++i)
    if (std::none_of(pairs.begin(), pairs.end(), [&](const auto& k) { return k.second == i; }))
      tell(a.spans_observed[i], touches(a.spans_observed[i], a.spans_forecast) ? "dropped, and was called elsewhere or for another length." : "dropped, and was not called.");
  const std::string spans =
      a.spans_forecast.empty() && a.spans_observed.empty()
          ? "no span was called to drop, and none did"
          : fmt::format("{} of {} spans called were right, {} of {} observed were called", a.matched,
                        a.spans_forecast.size(), a.matched, a.spans_observed.size());
  a.sentence = fmt::format(
      "Forecast {:.0f} dropped frame{} ({:.0f} to {:.0f}), observed {}{}; {}.", a.drops_forecast,
      std::lround(a.drops_forecast) == 1 ? "" : "s", a.drops_low, a.drops_high, a.drops_observed,
      a.drops_outside > 0 ? fmt::format(", of them {} taken by other programs", a.drops_outside) : "", spans);
  return a;
}

double brier(const std::vector<double>& probability, const std::vector<int>& outcome) {
  double sum = 0;
  for (std::size_t i = 0; i < probability.size(); ++i)
    sum += (probability[i] - outcome[i]) * (probability[i] - outcome[i]);
  return probability.empty() ? 0 : sum / static_cast<double>(probability.size());
}

Interval01 wilson(int k, int n, double z) {
  if (n <= 0) return {};
  const double p = static_cast<double>(k) / n, z2 = z * z;
  const double centre = (p + z2 / (2 * n)) / (1 + z2 / n);
  const double half = z / (1 + z2 / n) * std::sqrt(p * (1 - p) / n + z2 / (4.0 * n * n));
  return {std::max(0.0, centre - half), std::min(1.0, centre + half)};
}

}  // namespace gc
