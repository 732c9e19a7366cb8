#include "desk/desk.h"

#include <fmt/format.h>

#include <cmath>

#include "base/clock.h"
#include "base/timecode.h"
#include "desk/handover.h"
#include "interchange/markers.h"
#include "media/compare.h"

#include "render/device.h"
#include "render/played.h"

namespace gc {

Result<Stores> Stores::open(DeskOptions options) {
  (void)accelerator_available();  // before there are workers
  Stores s;
  if (options.workers <= 0) options.workers = default_workers();
  if (options.notebook.empty()) options.notebook = data_folder() / "notebook.sqlite";
  if (options.shelf.empty()) options.shelf = cache_folder() / "shelf";
  s.options = options;
  auto notebook = Notebook::open(options.notebook);
  if (!notebook) return std::unexpected(notebook.error());
  s.notebook = *notebook;
  remember_identities(s.notebook);
  auto shelf = Shelf::open(options.shelf);
  if (!shelf) return std::unexpected(shelf.error());
  s.shelf = *shelf;
  return s;
}

ReadOptions reading_with(const std::shared_ptr<MediaCatalog>& media, const std::string& which) {
  const auto ask = [media](const std::string& path) -> std::optional<MediaFacts> {
    const auto info = media->info(path);
    if (!info) return {};
    const int width = static_cast<int>(std::lround(info->upright_width() * info->upright_aspect()));
    return MediaFacts{info->rate, info->frames, width, info->upright_height(), info->timecode, info->still};
  };
  return {ask, which};
}

Result<TimelinePtr> open_timeline(const fs::path& file, const std::shared_ptr<MediaCatalog>& media,
                                  const std::string& which) {
  auto t = load_timeline(file, reading_with(media, which));
  if (t) *t = with_files_found(*t, *media);
  return t;
}

MeasureOptions Stores::measure_options(double seconds, bool again, const View* view) const {
  return {seconds, 0.05, options.workers, again, {}, shelf->folder(), view ? shelf.get() : nullptr, view ? &view->seals : nullptr};
}

ForecastOptions Stores::forecast_options() const {
  ForecastOptions o;
  o.workers = options.workers, o.horizon = options.horizon, o.trials = options.trials;
  o.thresholds = Thresholds::from_cost(options.settings.missed_drop_cost);
  return o;
}

std::string View::name_of(const std::string& id) const {
  const SegmentPtr s = find_segment(*timeline, id);
  return s ? s->name : id;
}

PlayOptions Stores::play_options(PlayMode mode, const View& view, FrameRange range) const {
  return play_options(mode, view, range, view.seals);
}

PlayOptions Stores::play_options(PlayMode mode, const View& view, FrameRange range,
                                 const Route& states) const {
  PlayOptions o;
  o.mode = mode, o.workers = options.workers, o.horizon = options.horizon, o.notebook = notebook;
  o.kinds = kinds_of(*view.played, *notebook, states, range, forecast_options());
  return o;
}

View view_of(const TimelinePtr& timeline, const Stores& stores) {
  View v;
  v.timeline = timeline;
  const RenderOptions how = stores.options.settings.playback_options();
  v.played = played_program(timeline, *stores.media, how);
  const bool slips = std::any_of(timeline->slips.begin(), timeline->slips.end(), [](const Slip& s) { return s.open(); });
  const bool same = !slips && how.full_quality() && how.device == Device::processor;
  RenderOptions whole;
  whole.join_fields = how.join_fields;
  v.delivered = same ? v.played : Program::compile(timeline, *stores.media, whole);
  stores.shelf->look_again();
  v.seals = stores.shelf->route(*v.played);
  return v;
}

std::string Fidelity::text() const {
  if (!std::isfinite(psnr_db)) return fmt::format("{}: equal to the live picture", remedy);
  return fmt::format("{}: PSNR {:.1f} dB, SSIM {:.4f}", remedy, psnr_db, ssim);
}

Fidelity fidelity(const View& view, const Stores& stores, Frames frame, int scale) {
  const TimelinePtr &played = view.played->timeline(), &whole = view.delivered->timeline();
  RenderOptions full, small;
  full.rendering = small.rendering = true;
  full.join_fields = small.join_fields = stores.options.settings.join_fields;
  const ProgramPtr live = Program::compile(whole, *stores.media, full),
                   now = played == whole ? live : Program::compile(played, *stores.media, full);
  Fidelity f;
  Decoders decoders;
  StageLog log;
  f.live = render_frame(*live, frame, nullptr, decoders, log);
  if (now->recipe(frame, stores.shelf.get()).seal) {
    f.remedy = "sealed media";
    f.other = render_frame(*now, frame, stores.shelf.get(), decoders, log);
  } else if (now->fingerprint(frame) != live->fingerprint(frame)) {
    f.remedy = "with bypasses";
    f.other = render_frame(*now, frame, nullptr, decoders, log);
  } else {
    f.remedy = fmt::format("scale 1/{}", scale);
    small.scale = scale;
    f.other =
        enlarged(render_frame(*Program::compile(played, *stores.media, small), frame, nullptr, decoders, log),
                 f.live.width(), f.live.height());
  }
  f.psnr_db = psnr(f.live, f.other), f.ssim = ssim(f.live, f.other);
  return f;
}

Result<FrameRange> parse_range(const std::string& text, const View& view) {
  FrameRange r = whole(view);
  if (text.empty()) return r;
  constexpr std::string_view kMarker = "marker:";
  if (text.starts_with(kMarker)) {
    const std::string name = text.substr(kMarker.size());
    const auto marked = marked_range(*view.timeline, name);
    if (!marked || marked->in < 0 || marked->in >= r.out)
      return usage(fmt::format("no marker, or more than one, is called '{}'", name), "`gclk markers` lists them.");
    return FrameRange{marked->in, std::min(marked->out, r.out)};
  }
  const auto dash = text.find('-');
  const auto part = [&](const std::string& p, Frames fallback) -> std::optional<Frames> {
    if (p.empty()) return fallback;
    const auto f = parse_timecode(p, view.timeline->rate, view.timeline->drop_frame);
    // A timecode counts from the timeline's start, a plain number from its first frame.
    return f && p.find(':') != std::string::npos ? std::optional(*f - view.timeline->start) : f;
  };
  const auto in = part(text.substr(0, dash), r.in),
             out = dash == std::string::npos ? std::optional(r.out) : part(text.substr(dash + 1), r.out);
  if (!in || !out || *in < 0 || *out > r.out || *in >= *out)
    return usage(fmt::format("'{}' is no range of this timeline", text),
                 fmt::format("Give IN-OUT as frames 0 to {} or as timecodes {} to {}.", r.out,
                             timecode_at(*view.timeline, 0),
                             timecode_at(*view.timeline, r.out)));
  return FrameRange{*in, *out};
}

Result<void> remember(const Audit& a, const View& view, Notebook& notebook) {
  return notebook.add_audit({view.timeline->name, now_utc(), a.drops_forecast, static_cast<double>(a.drops_observed),
                      a.span_f1, static_cast<int>(a.spans_forecast.size()), a.matched});
}

std::string track_record(const Notebook& notebook) {
  int called = 0, right = 0;
  const std::vector<AuditRecord> all = notebook.audits();
  for (const AuditRecord& r : all) called += r.spans_called, right += r.spans_right;
  if (called == 0) return "";
  const Interval01 w = wilson(right, called);
  return fmt::format("Of {} span{} called to drop, {} did ({:.0f} to {:.0f} % at 95 % confidence).", called,
                     called == 1 ? "" : "s", right, w.low * 100, w.high * 100);
}

}  // namespace gc
