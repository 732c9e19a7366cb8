#include "audit/figures.h"

#include <algorithm>
#include <cmath>
#include <limits>

namespace gc {
namespace {

constexpr double kNone = std::numeric_limits<double>::quiet_NaN();
/// From so many own drops on a segment counts as one that drops.
constexpr int kTwo = 2;

double share(double part, double of) { return of > 0 ? part / of : kNone; }

int own_drops(const Playout& p, FrameRange range) { return drops_in(p, range) - drops_in(p, range, Cause::outside); }

/// In what share of the trials two or more frames of a segment are dropped.
double two_or_more(const Forecast& f, FrameRange range) {
  const Frames first = f.before - f.range.in;
  const auto all = f.trials->drops(first + range.in, first + range.out);
  return static_cast<double>(std::ranges::count_if(all, [](std::uint32_t n) { return n >= kTwo; })) / static_cast<double>(std::max<std::size_t>(1, all.size()));
}

void segments(Held& h, const Forecast& f, const std::vector<Playout>& playouts, const Program& program) {
  double open = 0;
  const std::vector<FrameRange> parts = segment_ranges(program);
  for (const FrameRange& part : parts) {
    const double p = two_or_more(f, part);
    std::vector<bool> did;
    for (const Playout& played : playouts) did.push_back(own_drops(played, part) >= kTwo);
    for (std::size_t i = 0; i < did.size(); ++i) {
      h.segments.called += p >= 0.5, h.segments.observed += did[i], h.segments.right += p >= 0.5 && did[i];
      h.probability.push_back(p), h.outcome.push_back(did[i]);
      if (i == 0) continue;
      h.segments_limit.called += did[i - 1], h.segments_limit.observed += did[i], h.segments_limit.right += did[i - 1] && did[i];
    }
    // The variance of one outcome around the segment's own mean is what no forecast can know.
    const auto n = static_cast<double>(did.size());
    const double mean = static_cast<double>(std::count(did.begin(), did.end(), true)) / std::max(1.0, n);
    if (n > 1) open += mean * (1 - mean) * n / (n - 1);
  }
  h.brier_limit = parts.empty() ? 0 : open / static_cast<double>(parts.size());
}

void causes(Held& h, const Forecast& f, const Playout& p) {
  for (const FrameLog& l : p.log) {
    if (!l.dropped || l.cause == Cause::outside) continue;
    ++h.drops;
    for (const Span& s : f.spans)
      if (l.frame >= s.in && l.frame < s.out) h.causes_right += s.verdict != Verdict::holds && s.cause == l.cause;
  }
}

}  // namespace

Reliability reliability(const std::vector<double>& probability, const std::vector<int>& outcome) {
  constexpr int kBins = 10;
  Reliability r;
  for (int b = 0; b < kBins; ++b) r.bins.push_back({b / 10.0, (b + 1) / 10.0, 0, 0});
  for (std::size_t i = 0; i < probability.size(); ++i) {
    Reliability::Bin& bin = r.bins[static_cast<std::size_t>(std::min(kBins - 1, static_cast<int>(probability[i] * kBins)))];
    ++bin.segments, bin.dropped += outcome[i];
  }
  r.brier = brier(probability, outcome);
  return r;
}

Json to_json(const Reliability& r) {
  Json bins = Json::array();
  for (const Reliability::Bin& b : r.bins)
    bins.push_back({{"from", b.from}, {"to", b.to}, {"segments", b.segments}, {"dropped", b.dropped}});
  return {{"bins", bins}, {"brier", r.brier}};
}

void Matches::add(const std::vector<FrameRange>& said, const std::vector<FrameRange>& seen) {
  called += static_cast<int>(said.size()), observed += static_cast<int>(seen.size());
  right += static_cast<int>(matched(said, seen).size());
}

double Matches::f1() const {
  if (called == 0 && observed == 0) return kNone;
  return 2.0 * right / (called + observed);
}

bool Held::total_right() const {
  double mean = 0;
  for (const Frames n : own) mean += static_cast<double>(n) / static_cast<double>(own.size());
  return std::abs(expected - mean) <= std::max(3.0, 0.05 * mean);
}

int Held::in_range() const {
  return static_cast<int>(std::count_if(all.begin(), all.end(), [&](Frames n) {
    return static_cast<double>(n) >= std::floor(low) && static_cast<double>(n) <= std::ceil(high);
  }));
}

Held held_against(const Forecast& f, const Forecast& own, const std::vector<Playout>& playouts, const Program& program) {
  Held h;
  h.expected = own.expected_drops, h.low = f.drops_low, h.high = f.drops_high;
  std::vector<FrameRange> before;
  for (std::size_t i = 0; i < playouts.size(); ++i) {
    const Playout& p = playouts[i];
    h.own.push_back(p.dropped - p.dropped_outside), h.all.push_back(p.dropped);
    const std::vector<FrameRange> seen = spans_observed(p);
    h.spans.add(spans_called(own), seen);
    if (i > 0) h.spans_limit.add(before, seen);
    before = seen;
    causes(h, own, p);
    for (const float ratio : moods_of(f, p))
      if (ratio > 0) h.cost_ratios.push_back(static_cast<double>(ratio) / f.base);
  }
  segments(h, own, playouts, program);
  return h;
}

std::vector<Goal> figures_of(const std::vector<Held>& all) {
  Matches spans, spans_limit, segments, segments_limit;
  std::vector<double> probability, off;
  std::vector<int> outcome;
  double open = 0;
  int timelines = 0, totals = 0, playouts = 0, in_range = 0, drops = 0, right = 0;
  for (const Held& h : all) {
    spans.add(h.spans), spans_limit.add(h.spans_limit), segments.add(h.segments), segments_limit.add(h.segments_limit);
    probability.insert(probability.end(), h.probability.begin(), h.probability.end());
    outcome.insert(outcome.end(), h.outcome.begin(), h.outcome.end());
    open += h.brier_limit / static_cast<double>(all.size());
    if (!h.own.empty()) ++timelines, totals += h.total_right();
    playouts += static_cast<int>(h.all.size()), in_range += h.in_range();
    drops += h.drops, right += h.causes_right;
    for (const double r : h.cost_ratios) off.push_back(std::abs(r - 1));
  }
  std::sort(off.begin(), off.end());
  const double b = probability.empty() ? kNone : brier(probability, outcome);
  const double most = std::numeric_limits<double>::max();
  return {{"spans, one to one, F1", "", spans.f1(), std::max(0.95, std::isnan(spans_limit.f1()) ? 0 : spans_limit.f1()), 1},
          {"  the limit: one playout against the next", "", spans_limit.f1(), 0, 1},
          {"segments of two or more dropped frames, F1", "", segments.f1(), 0.95, 1},
          {"  the limit: one playout against the next", "", segments_limit.f1(), 0, 1},
          {"Brier score of that", "", b, 0, 0.06},
          {"  times what repeated playouts leave open", "×", open > 0 ? b / open : kNone, 0, 1.1},
          {"timelines whose total is within 5 % or 3 frames", "%", 100 * share(totals, timelines), 90, 100},
          {"playouts whose total lies in the stated range", "%", 100 * share(in_range, playouts), 85, 95},
          {"own drops whose cause was said", "%", 100 * share(right, drops), 90, 100},
          {"costs in playback against what was said, nine in ten within", "%",
           off.empty() ? kNone : 100 * off[static_cast<std::size_t>(0.9 * static_cast<double>(off.size() - 1))], 0, most}};
}

}  // namespace gc
