#include "audit/explain.h"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>

namespace gc {
namespace {

constexpr double kOff = 0.08;

struct Sums {
  double frames = 0, own = 0;
  struct Runs {
    double times = 0, ms = 0;
  };
  std::map<std::pair<int, StageKind>, Runs> stages;  ///< by owner
};

Sums measured_in(const Playout& p, const IntervalCost& c) {
  Sums s;
  for (const FrameLog& f : p.log) {
    if (!f.made || f.state == FrameState::remembered || f.frame < c.in || f.frame >= c.out) continue;
    ++s.frames;
    s.own += own_ms(f);
    for (const StageSpan& x : f.stages) {
      Sums::Runs& r = s.stages[{x.owner, x.kind}];
      ++r.times, r.ms += static_cast<double>(x.cost_ms);
    }
  }
  return s;
}

std::string name_of(const Program& program, const std::string& segment) {
  for (const auto& s : program.segments())
    if (s->segment->id == segment) return s->segment->name;
  return segment;
}

/// One for each segment, the one that differs most: a segment with a transition or keys has many stretches.
void add_worst(std::vector<CostDifference>& all, CostDifference one) {
  const auto off = [](const CostDifference& d) { return std::abs(d.measured_ms - d.forecast_ms); };
  const auto same = std::ranges::find(all, one.segment, &CostDifference::segment);
  if (same == all.end()) all.push_back(std::move(one));
  else if (off(one) > off(*same)) *same = std::move(one);
}

}  // namespace

Explanation explain(const Forecast& f, const Playout& p, const Program& program) {
  Explanation e;
  e.outside = p.dropped_outside;
  e.model = replay(record_of(p, program));
  for (const IntervalCost& c : f.intervals) {
    const Sums s = measured_in(p, c);
    const double forecast = c.fetch_ms + c.process_ms;
    if (s.frames < 6 || forecast <= 0 || std::abs(s.own / s.frames / forecast - 1) <= kOff) continue;
    CostDifference worst;
    double most = 0;
    if (!c.stages.empty())
      worst = {name_of(program, c.stages.front().segment), "a whole frame", forecast, s.own / s.frames};
    for (const StageCost& stage : c.stages) {
      // Once as often as in a frame by itself: after a skip, neighbours' stages run more often than they
      // cost.
      double told = 0, took = 0;
      for (const StageCost& same : c.stages) {
        if (same.owner != stage.owner) continue;
        const auto runs = s.stages.find({same.owner, same.kind});
        if (runs == s.stages.end()) continue;
        told += same.ms, took += runs->second.ms / runs->second.times;
      }
      if (std::abs(took - told) > most) {
        most = std::abs(took - told);
        worst = {name_of(program, stage.segment), stage.label, told, took};
      }
    }
    add_worst(e.costs, std::move(worst));
  }
  if (e.outside > 0)
    e.sentences.push_back(fmt::format(
        "{} of {} dropped frames were taken by other programs or the machine's host.", e.outside, p.dropped));
  for (const CostDifference& d : e.costs) {
    const std::string whose = d.segment.empty() ? "" : d.segment + ": ";
    e.sentences.push_back(fmt::format("{}{} was forecast at {:.1f} ms a frame and took {:.1f}.", whose,
                                      d.label, d.forecast_ms, d.measured_ms));
  }
  if (!e.model.agrees())
    e.sentences.push_back(
        fmt::format("With the times that frames really took, the model drops {} frames and {} were dropped: "
                    "that is the model's own error.",
                    e.model.modelled, e.model.observed));
  return e;
}

Result<fs::path> keep_replay(const Playout& p, const Program& program, const fs::path& folder) {
  std::error_code ignored;
  fs::create_directories(folder, ignored);  // where it fails, writing says so
  for (int i = 1;; ++i) {
    const fs::path file = folder / fmt::format("{}-{}.json", program.timeline()->name, i);
    if (fs::exists(file, ignored)) continue;
    if (auto r = save_record(record_of(p, program), file); !r) return std::unexpected(r.error());
    return file;
  }
}

Json to_json(const Explanation& e) {
  Json costs = Json::array();
  for (const CostDifference& d : e.costs)
    costs.push_back({{"segment", d.segment},
                     {"stage", d.label},
                     {"forecast_ms", d.forecast_ms},
                     {"measured_ms", d.measured_ms}});
  return {{"costs", costs},
          {"drops_outside", e.outside},
          {"model",
           {{"observed", e.model.observed}, {"modelled", e.model.modelled}, {"agrees", e.model.agrees()}}},
          {"sentences", e.sentences}};
}

Reliability reliability(const std::vector<AuditRun>& runs, const Program& program) {
  std::vector<double> probability;
  std::vector<int> outcome;
  for (const AuditRun& run : runs)
    for (FrameRange part : segment_ranges(program)) {
      part = {std::max(part.in, run.forecast.range.in), std::min(part.out, run.forecast.range.out)};
      if (part.length() <= 0) continue;
      probability.push_back(run.forecast.any_drop(part));
      outcome.push_back(drops_in(run.playout, part) > 0);
    }
  return reliability(probability, outcome);
}

}  // namespace gc
