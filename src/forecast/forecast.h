// Which frames will miss their deadline, how surely, and why.
#pragma once
#include <functional>
#include <optional>

#include "forecast/runs.h"
#include "forecast/simulate.h"
#include "render/cache.h"
#include "render/program.h"

namespace gc {

/// The last two are no degrees of slowness. `unseen`: cannot be shown live at all, only after rendering. `missing`:
/// cannot be shown at all, since media are missing.
enum class Verdict : std::uint8_t { holds, wavers, spills, unseen, missing };
const char* verdict_name(Verdict v);
/// "spills 97 %"; "unseen" and "no picture", which have no probability.
std::string verdict_text(Verdict v, double probability);
/// Whether it is a matter of speed at all.
inline bool is_of_speed(Verdict v) { return v != Verdict::unseen && v != Verdict::missing; }

/// Which resource limits playback.
enum class Cause : std::uint8_t {
  none,
  disk,
  decode,
  processor,
  accelerator,
  transfer,  ///< to the accelerator and back
  memory,    ///< that had to come back from the drive
  display,
  outside  ///< other programs, a hypervisor, the machine's own pauses
};
const char* cause_name(Cause c);

/// Where a span's time goes: one owner's stage, mean milliseconds a frame.
struct StageCost {
  int owner = -1;  ///< index into Program::owners
  StageKind kind = StageKind::display;
  std::string segment, effect, label;
  double ms = 0;
  bool estimated = false;  ///< never measured as it is
  bool elsewhere = false;  ///< on the accelerator, or on the way there
  std::string placed;      ///< as in Owner
  double turn_ms = 0;      ///< of it, for which the frame holds the turn to fetch
};

struct Forecast;
/// What each owner's stages take of frames [in, out), mean milliseconds a frame, in the order of stage kinds.
/// Over the frames of a segment this is the figure that ledger, balance, card and command line give.
std::vector<StageCost> stages_over(const Forecast& forecast, FrameRange frames);
/// Sum of what works for a segment: its own stages, and those of its layers where it is a composition.
double ms_of(const std::vector<StageCost>& stages, const std::string& placed);

/// Costs of the frames of one interval.
struct IntervalCost {
  Frames in = 0, out = 0;
  double fetch_ms = 0, process_ms = 0, read_ms = 0;  ///< means
  double load = 0;                     ///< mean time the pipeline needs for a frame ÷ frame budget
  double load_low = 0, load_high = 0;  ///< 5th and 95th percentile
  double live_load = 0;                ///< the same when nothing were sealed
  FrameState state = FrameState::live;  ///< of all its frames
  TapPattern taps;                      ///< what is fetched for each, as in Route
  bool measured = true;
  bool unseen = false;            ///< and not sealed
  bool missing = false;           ///< there is no picture, and it is not sealed
  std::vector<StageCost> stages;  ///< sum ≈ fetch + process

  bool is(FrameState s) const { return state == s; }
  /// Effects of a stack that rendered media stand for, the most of any segment.
  int rendered_effects() const {
    int most = 0;
    for (const TapUse& t : taps) most = std::max(most, static_cast<int>(t.after));
    return most;
  }
};

struct Span {
  Frames in = 0, out = 0;
  Verdict verdict = Verdict::holds;
  double drop_probability = 0;  ///< that any frame of it is dropped
  double expected_drops = 0;
  double drops_low = 0, drops_high = 0;  ///< where nine in ten playouts are expected; see DropRange
  double sustained_rate = 0;             ///< frames a second
  Cause cause = Cause::none;
  StageCost blame;  ///< the dearest stage
  std::vector<std::string> segments;
};

/// From which probability of any drop a span wavers or spills. They follow from what it costs to be wrong:
/// with a drop before the client m times as bad as a needless render, least is lost when a span counts as
/// doubtful from p = 1 / (1 + m) on, and as sure to drop from m / (1 + m) on.
struct Thresholds {
  double wavers = 0.10;
  double spills = 0.90;
  static Thresholds from_cost(double missed_drop) {
    return {1 / (1 + missed_drop), missed_drop / (1 + missed_drop)};
  }
};

struct Forecast {
  FrameRange range;
  Rate rate;
  double base = 1;       ///< of all costs: what the seat takes now against an undisturbed one; see Model
  double crowding = -1;  ///< of its cores when this was made
  double expected_drops = 0, drops_low = 0, drops_high = 0;
  double widening = 1;  ///< how many times as wide as the trials alone have it the ranges are
  std::vector<float> miss;  ///< for each frame of the range
  std::vector<IntervalCost> intervals;
  std::vector<Span> spans;  ///< covering the range
  /// Frames that lie in a run of drops in at least half of the trials. The spans of these frames are cut where frames are missing
  /// or unseen. The runs go on through them, as a playout's do.
  std::vector<FrameRange> said_runs;
  bool fully_measured = true;
  double seconds = 0;  ///< that the forecast took

  /// What the figures come from; null when put together by hand.
  std::shared_ptr<const Model> model;
  std::shared_ptr<const Trials> trials;
  Thresholds thresholds;
  Calibration calibration;  ///< what this seat's probabilities have been worth
  Frames before = 0;        ///< frames of the trials before the range's first one

  /// "Costs count 1.22 times, since others work on this seat's cores." Empty when they count as they are.
  std::string surcharge() const;
  int count(Verdict v) const;
  /// Drops among these frames as the trials alone have them: mean, 5th and 95th percentile.
  DropRange simulated(FrameRange frames) const;
  /// Probability that any of these frames is dropped.
  double any_drop(FrameRange frames) const;
  /// The same of the timeline's own drops alone, before it is held to what happened.
  double any_drop_simulated(FrameRange frames) const;
  /// The verdict of these frames by themselves; without cause and blame.
  Span over(FrameRange frames) const;
};

struct ForecastOptions {
  int workers = 2;
  int horizon = 12;
  int trials = 64;
  std::uint64_t seed = 1;
  Thresholds thresholds;
  double cost_scale = 1;  ///< of every cost, for a margin
  bool outside = true;    ///< with what the outside took of this seat lately
  bool loop = false;      ///< of a pass of a loop that follows another one, not of the first
  /// Of much the same frames, made before: what cannot have changed since is taken over from it. The forecast
  /// is the same as without.
  const Forecast* before = nullptr;
};

/// Marks the live frames that the memory cache has at this moment: to play one takes its display alone.
Route with_remembered(Route states, const Program& program, const MemoryCache& cache);
/// As if these frames were in this state. What is sealed stays so.
Route with_state(Route states, FrameRange frames, FrameState state);

/// Forecasts playback of `range` from its first frame. `sealed` says which frames rendered media answer.
Forecast forecast(const Program& program, const CostBook& book, const Route& sealed, FrameRange range,
                  const ForecastOptions& options);

/// The same of the timeline alone, with nothing taken by the outside: what a playout's own drops are held against.
Forecast alone(const Forecast& forecast, const Program& program);

/// Builds the model alone, for what-if questions that are asked many times.
Model model_of(const Program& program, const CostBook& book, const Route& sealed, FrameRange range,
               const ForecastOptions& options);

/// What the player is told of the frames of a range beforehand, so that it paces them rightly from the first.
std::vector<CostKind> kinds_of(const Program& program, const CostBook& book, const Route& sealed,
                               FrameRange range, const ForecastOptions& options);

}  // namespace gc
