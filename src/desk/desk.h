// The desk: one timeline opened on this seat, with everything that belongs to it. Windows and commands ask
// it.
#pragma once
#include "audit/audit.h"
#include "desk/settings.h"
#include "interchange/otio.h"
#include "measure/measure.h"
#include "plan/plan.h"
#include "queue/prerender.h"
#include "release/gate.h"

namespace gc {

struct DeskOptions {
  fs::path shelf;     ///< folder; empty: the default one
  fs::path notebook;  ///< file; empty: the default one
  int workers = 0;    ///< 0: as many as the seat has
  int horizon = 12;
  int trials = 64;
  double measure_seconds = 20;  ///< that a look at a timeline's frames takes at most when it begins by itself
  Settings settings = load_settings();
};

struct View;

/// What the seat keeps: the same for every timeline that is opened on it.
struct Stores {
  std::shared_ptr<Notebook> notebook;
  std::shared_ptr<Shelf> shelf;
  std::shared_ptr<MediaCatalog> media = std::make_shared<MediaCatalog>();
  DeskOptions options;

  static Result<Stores> open(DeskOptions options);
  ForecastOptions forecast_options() const;
  /// With what the seat knows of the frames in `range` of the view; in `states`, where they are not the
  /// view's own.
  PlayOptions play_options(PlayMode mode, const View& view, FrameRange range) const;
  PlayOptions play_options(PlayMode mode, const View& view, FrameRange range, const Route& states) const;
  /// @param view of which rendered media are measured as they play; it must outlive the measuring. Null: live frames only
  MeasureOptions measure_options(double seconds, bool again, const View* view = nullptr) const;
  /// The form in which pictures of a timeline are kept: its own, else the seat's.
  Form form_for(const Timeline& timeline) const { return form_named(timeline.render_form).value_or(options.settings.render_form); }
  PrerenderOptions prerender_options(const RenderPrice& price, const Timeline& timeline) const {
    return {options.workers, true, options.settings.rendering, notebook, price, form_for(timeline)};
  }
};

/// Reads a timeline; what the file does not state is asked of its media. `which`: of several in one file.
ReadOptions reading_with(const std::shared_ptr<MediaCatalog>& media, const std::string& which = {});
Result<TimelinePtr> open_timeline(const fs::path& file, const std::shared_ptr<MediaCatalog>& media,
                                  const std::string& which = {});

/// A timeline value and what follows from it. Made anew after every edit; never changed.
struct View {
  TimelinePtr timeline;
  ProgramPtr played;     ///< open slips applied
  ProgramPtr delivered;  ///< the timeline itself
  Route seals;

  std::string name_of(const std::string& segment) const;
};
View view_of(const TimelinePtr& timeline, const Stores& stores);

/// How near a remedy's picture comes to the live one.
struct Fidelity {
  std::string remedy;  ///< "sealed media", "with bypasses" or "scale 1/2"
  double psnr_db = 0, ssim = 0;
  Image live, other;  ///< both at the full raster
  std::string text() const;
};
/// The frame's sealed picture where there is one, else the picture with the open bypasses, else the picture
/// at a playback scale; against the picture at full quality with nothing bypassed.
Fidelity fidelity(const View& view, const Stores& stores, Frames frame, int scale);

inline FrameRange whole(const View& v) { return {0, v.played->duration()}; }

/// Frames for "IN-OUT", each a frame count or a timecode of the timeline; either may be left out. "marker:NAME": what the
/// marker stands for. Empty text: all.
Result<FrameRange> parse_range(const std::string& text, const View& view);

/// Records what an audit found.
Result<void> remember(const Audit& audit, const View& view, Notebook& notebook);
/// "Of 43 spans called to drop, 41 did." Empty before any was called.
std::string track_record(const Notebook& notebook);

}  // namespace gc
