#include "plan/judge.h"

#include <algorithm>
#include <map>

#include "forecast/forecast.h"

namespace gc {
namespace {

/// What is lighter than this, 95 frames of 100, makes up for what came before it.
constexpr double kLight = 0.85;
/// Frames before and after a stretch that are played along: what is read ahead, and what the stretch leaves behind.
constexpr Frames kLead = 36, kTail = 24;

/// The stretch that holds a frame.
std::size_t stretch_at(const Model& model, Frames frame) {
  const auto it = std::upper_bound(model.stretches.begin(), model.stretches.end(), frame,
                                   [](Frames f, const CostStretch& s) { return f < s.out; });
  return static_cast<std::size_t>(it - model.stretches.begin());
}

}  // namespace

StretchLoad load_in(const Model& model, FrameRange frames) {
  StretchLoad load;
  std::vector<double> all;
  double sum = 0, count = 0;
  const double scale = model.scale * model.mood.base;
  for (std::size_t i = stretch_at(model, frames.in); i < model.stretches.size() && model.stretches[i].in < frames.out; ++i) {
    const CostStretch& s = model.stretches[i];
    const auto n = static_cast<double>(std::min(frames.out, s.out) - std::max(frames.in, s.in));
    double mean = 0;
    for (const FrameSample& f : model.pools[s.pool].frames) {
      const double of = scale * load_of(static_cast<double>(f.fetch_ms), static_cast<double>(f.process_ms), model.pace.workers, model.pace.period_ms);
      all.push_back(of), mean += of / static_cast<double>(model.pools[s.pool].frames.size());
    }
    sum += mean * n, count += n;
  }
  load.mean = count > 0 ? sum / count : 0;
  if (!all.empty()) {
    const auto at = all.begin() + static_cast<std::ptrdiff_t>(0.95 * static_cast<double>(all.size() - 1));
    std::nth_element(all.begin(), at, all.end());
    load.high = *at;
  }
  return load;
}

SimulationJudge::SimulationJudge(std::vector<FrameRange> units, std::vector<std::vector<WayCosts>> ways, int trials, std::uint64_t seed)
    : units_(std::move(units)), ways_(std::move(ways)), trials_(trials), seed_(seed) {}

std::vector<std::pair<std::size_t, std::size_t>> SimulationJudge::runs(const std::vector<std::size_t>& ways) {
  std::vector<std::pair<std::size_t, std::size_t>> all;
  double behind = 0;  // frames of reading ahead that may be missing still
  bool open = false;
  for (std::size_t u = 0; u < units_.size(); ++u) {
    const WayCosts& c = ways_[u][ways[u]];
    const Pace& pace = c.model->pace;
    if (c.unseen || c.load_high > kLight) {
      if (open) all.back().second = u;
      else all.emplace_back(u, u);
      open = true, behind = std::max(pace.horizon, pace.far);
    } else if (open) {
      behind -= static_cast<double>(units_[u].length()) * (1 - c.load_high);
      open = behind > 0;
    }
  }
  return all;
}

Judged SimulationJudge::play(std::size_t first, std::size_t last, const std::vector<std::size_t>& ways) {
  const Frames end = units_.back().out;
  const FrameRange at{std::max<Frames>(0, units_[first].in - kLead), std::min(end, units_[last].out + kTail)};
  Judged judged;
  // Of the same seat, with pools and stretches of its own.
  const Model& seat = *ways_[first][ways[first]].model;
  Model model;
  model.pace = seat.pace, model.scale = seat.scale, model.mood = seat.mood, model.lately = seat.lately, model.first = at.in;
  std::map<std::pair<const Model*, std::uint32_t>, std::uint32_t> pools;
  const Model* before = nullptr;
  std::size_t u = first;
  while (u > 0 && units_[u].in > at.in) --u;
  for (; u < units_.size() && units_[u].in < at.out; ++u) {
    const FrameRange part{std::max(units_[u].in, at.in), std::min(units_[u].out, at.out)};
    if (part.length() <= 0) continue;
    // What lies around it is as light as can be: the answer is of these units alone.
    const bool inside = u >= first && u <= last;
    const WayCosts& c = inside ? ways_[u][ways[u]] : ways_[u].back();
    if (inside && c.unseen) judged.drops += static_cast<double>(units_[u].length()), judged.any = 1;
    for (std::size_t i = stretch_at(*c.model, part.in); i < c.model->stretches.size() && c.model->stretches[i].in < part.out; ++i) {
      const CostStretch& s = c.model->stretches[i];
      CostStretch cut = s;
      cut.in = std::max(s.in, part.in), cut.out = std::min(s.out, part.out);
      // Within one and the same stretch nothing is entered anew; where the way changes it is.
      if (cut.in > s.in) {
        const bool anew = before != c.model.get();
        cut.entry = anew, cut.entry_frames = 0;
        cut.entry_neighbours = anew ? c.model->pools[s.pool].neighbours : 0;
      }
      const auto [it, fresh] = pools.try_emplace({c.model.get(), s.pool}, static_cast<std::uint32_t>(model.pools.size()));
      if (fresh) model.pools.push_back(c.model->pools[s.pool]);
      cut.pool = it->second, cut.in -= at.in, cut.out -= at.in;
      model.stretches.push_back(cut);
      before = c.model.get();
    }
  }
  model.kinds = kinds_told(model);
  const Trials trials = simulate(model, trials_, seed_);
  double any = 0;
  for (const std::uint32_t n : trials.drops(units_[first].in - at.in, model.frames())) judged.drops += n / static_cast<double>(trials_), any += n > 0;
  judged.any = std::max(judged.any, any / trials_);
  return judged;
}

}  // namespace gc
