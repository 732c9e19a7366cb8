// The score: the forecast on timelines that no one tuned it for, held against playouts.
#pragma once
#include "audit/explain.h"
#include "audit/figures.h"
#include "audit/random.h"
#include "plan/plan.h"
#include "queue/prerender.h"

namespace gc {

struct ScoreOptions {
  int timelines = 20;
  std::uint64_t seed = 1;
  int repeat = 3;  ///< playouts of each
  int again = 2;   ///< more of each, at most, in place of disturbed ones
  double measure_seconds = 20;
  ForecastOptions forecast;
  RandomOptions random;
  fs::path renders;  ///< folder for renders, whose said time is held against what they take; empty: none
  fs::path replays;  ///< folder for records of playouts that the model alone had wrong; empty: none are kept
  /// Told of each playout, for who wants to look into it. May be empty.
  std::function<Result<void>(std::uint64_t seed, const Program& program, const Forecast& said, const Playout& played, int which)> keep;
};

/// What was said of some frames, and what each playout did.
struct SpanScore {
  Span said;
  double load = 0;  ///< of segments: the greatest
  std::vector<int> drops;
  std::vector<Cause> causes;
};

struct TimelineScore {
  std::uint64_t seed = 0;
  Frames frames = 0;
  Held held;
  std::vector<bool> disturbed;  ///< of each playout; they count all the same
  double first_answer_s = 0;           ///< from opening it to a forecast by laws alone
  double measured_s = 0;               ///< and from there to the one that is held against the playouts
  double renders_s = 0;                ///< of that, how rendered media play and what encoding takes
  int kinds = 0, kinds_known = 0;      ///< of frames; within 5 % or settled by laws then
  double base = 1, crowding = -1;      ///< as in Forecast
  std::vector<std::vector<float>> moods;  ///< of each playout
  Matches quiet;                       ///< spans, undisturbed playouts alone: what the machine's state explains
  Matches heavy_effects, processor_sum;  ///< folklore, by the same own drops
  std::vector<double> rate_errors;     ///< of spilling spans, relative
  int parts = 0, parts_modelled = 0;   ///< segments replayed with the measured times, and those that agree
  double model_worst = 0;              ///< frames of drops that the model alone was off, at most, in a segment
  std::vector<std::string> disagreements;
  std::vector<SpanScore> spans, segments_said;
  std::vector<PriceRecord> renders;
};

struct Score {
  std::vector<TimelineScore> timelines;
  std::vector<Goal> goals;
};

/// Takes about a minute a timeline. Media go to `folder`. Stops between playouts when `progress` is false.
Result<Score> score(const std::shared_ptr<Notebook>& notebook, const ScoreOptions& options,
                    const fs::path& folder, const std::function<bool(const std::string&)>& progress,
                    const std::atomic<bool>& stop);

/// One timeline: forecast first, then the playouts in the same minute.
Result<TimelineScore> score_timeline(const ProgramPtr& program, std::uint64_t seed, Notebook& notebook, const ScoreOptions& options,
                             const std::atomic<bool>& stop);

/// How often segments dropped two frames or more that were said to with some probability, over all timelines.
Reliability score_reliability(const std::vector<TimelineScore>& timelines);

/// The figures of the table, from what was played.
std::vector<Goal> score_goals(const std::vector<TimelineScore>& timelines);

Json to_json(const Score& score);

}  // namespace gc
