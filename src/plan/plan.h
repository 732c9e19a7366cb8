// The least work that makes a range play. This slice knows one remedy: the pre-render.
#pragma once
#include "forecast/forecast.h"
#include "queue/prerender.h"

namespace gc {

/// One pre-render: a stretch of the timeline and what it takes.
struct Remedy {
  FrameRange range;
  std::string segment;  ///< id of its main segment
  std::string segment_name;
  double render_seconds = 0, modelled_seconds = 0;  ///< as in Plan
  std::uint64_t bytes = 0;
  double drops_saved = 0;  ///< expected drops of the span without any remedy
  std::string reason;      ///< one sentence
};

struct Plan {
  std::vector<Remedy> remedies;  ///< in the order in which they are made
  Forecast before;
  Forecast after;  ///< as it will be once the plan has run
  double render_seconds = 0;  ///< as said: what costs say × how renders have lately gone on this seat
  double modelled_seconds = 0;
  std::uint64_t bytes = 0;
  Frames frames = 0;
  RenderPrice price() const { return {frames, modelled_seconds, render_seconds}; }
  bool holds = true;     ///< whether nothing spills or wavers any more
  bool priced = true;    ///< whether it is known what a pre-render takes on this seat
  std::string sentence;  ///< the answer on the first screen
  std::vector<FrameRange> ranges() const;
};

struct PlanOptions {
  ForecastOptions forecast;
  double most_drops = 0.5;  ///< expected drops that may be left in the whole range
  double margin = 0.10;     ///< the plan must hold even when everything costs this much more
  Device rendering = Device::processor;           ///< the setting for rendering
  std::shared_ptr<MediaCatalog> media = nullptr;  ///< null: files are looked at anew
};

/// Chooses stretches to pre-render so that no span of the range spills or wavers, also on a slower day (the
/// margin), with the least render time that a backward elimination finds: everything in the bad spans first,
/// then stretch after stretch is left out again, dearest first, as long as playback still holds.
Plan make_plan(const Program& program, const Notebook& notebook, const Route& sealed, FrameRange range,
               const PlanOptions& options);

/// Seconds as a person says them: "40 s", "3 min 20 s".
std::string duration_text(double seconds);
std::string bytes_text(std::uint64_t bytes);

}  // namespace gc
