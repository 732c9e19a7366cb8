#include "forecast/what_if.h"

#include <algorithm>
#include <bit>

#include "base/mean.h"

namespace gc {
namespace {

struct Candidate {
  StageGain gain;
  std::set<Hash128> keys;  ///< of its stages in the span
};

/// Effects within the span, dearest first.
std::vector<Candidate> candidates(const Program& program, const CostBook& book, FrameRange span,
                                  std::size_t most) {
  std::map<std::string, Candidate> by_effect;
  for (const CompiledInterval& i : program.intervals()) {
    const Frames frames = std::min(span.out, i.out) - std::max(span.in, i.in);
    if (frames <= 0) continue;
    const double share = static_cast<double>(frames) / static_cast<double>(span.length());
    for (const StageRef& r : program.stages(i.in)) {
      const Owner& owner = program.owners()[static_cast<std::size_t>(r.owner)];
      if (owner.effect.empty()) continue;
      Candidate& c = by_effect[owner.effect];
      c.gain.segment = owner.segment, c.gain.effect = owner.effect, c.gain.label = owner.label;
      c.gain.ms += mean(book.stage(r).ms) * share;
      c.keys.insert(r.key);
    }
  }
  std::vector<Candidate> all;
  for (auto& [id, c] : by_effect) all.push_back(std::move(c));
  std::sort(all.begin(), all.end(),
            [](const Candidate& a, const Candidate& b) { return a.gain.ms > b.gain.ms; });
  if (all.size() > most) all.resize(most);
  return all;
}

/// The span as a whole, with a second before it so that it is met as in playing.
Span outcome(const Program& program, const CostBook& book, const Route& sealed, FrameRange span,
             const ForecastOptions& options) {
  const Frames lead = program.timeline()->rate.nominal();
  const Forecast f =
      forecast(program, book, sealed, {std::max<Frames>(0, span.in - lead), span.out}, options);
  return f.over(span);
}

}  // namespace

StageCosts WithoutBook::stage(const StageRef& stage) const {
  StageCosts c = book_.stage(stage);
  if (left_out_.contains(stage.key)) std::fill(c.ms.begin(), c.ms.end(), 0.0f);
  return c;
}

std::vector<StageGain> gains_of(const Program& program, const CostBook& book, const Route& sealed,
                                FrameRange span, const ForecastOptions& options, std::size_t most) {
  std::vector<StageGain> gains;
  for (Candidate& c : candidates(program, book, span, most)) {
    const Span s = outcome(program, WithoutBook(book, c.keys), sealed, span, options);
    c.gain.drops = s.expected_drops, c.gain.verdict = s.verdict;
    gains.push_back(c.gain);
  }
  std::stable_sort(gains.begin(), gains.end(),
                   [](const StageGain& a, const StageGain& b) { return a.drops < b.drops; });
  return gains;
}

std::vector<StageGain> least_bypasses(const Program& program, const CostBook& book, const Route& sealed,
                                      FrameRange span, const ForecastOptions& options) {
  const std::vector<Candidate> all = candidates(program, book, span, 6);
  const auto holds = [&](unsigned set) {
    std::set<Hash128> keys;
    for (std::size_t i = 0; i < all.size(); ++i)
      if (set >> i & 1U) keys.insert(all[i].keys.begin(), all[i].keys.end());
    return outcome(program, WithoutBook(book, keys), sealed, span, options).verdict == Verdict::holds;
  };
  const unsigned every = (1U << all.size()) - 1;
  if (holds(0) || !holds(every)) return {};
  // Smaller sets first, and of each size the dearest effects first, which are those with the low bits.
  std::vector<unsigned> sets;
  for (unsigned s = 1; s <= every; ++s) sets.push_back(s);
  std::stable_sort(sets.begin(), sets.end(),
                   [](unsigned a, unsigned b) { return std::popcount(a) < std::popcount(b); });
  for (const unsigned s : sets) {
    if (!holds(s)) continue;
    std::vector<StageGain> out;
    for (std::size_t i = 0; i < all.size(); ++i)
      if (s >> i & 1U) out.push_back(all[i].gain);
    return out;
  }
  return {};
}

}  // namespace gc
