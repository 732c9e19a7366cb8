// What the session has done in the background: measuring, rendering, playing, looking at the seat.
#include <QGuiApplication>
#include <QScreen>

#include "app/session.h"
#include "base/clock.h"
#include "base/log.h"
#include "desk/planning.h"
#include "desk/relink.h"
#include "desk/watched.h"
#include "measure/seat_run.h"
#include "queue/hush.h"
#include "render/track.h"

namespace gc {

std::stop_token Session::begin_labour(Work::Kind kind, const QString& text) {
  set_work(kind, text, 0);
  return labour_stop_.get_token();
}

/// Labour has ended by itself or by a stop; a stop has said so already.
void Session::end_labour(const std::stop_token& of) {
  if (!of.stop_requested() && work_.kind != Work::Kind::opening) set_work(Work::Kind::none, {}, 0);
}

/// Stops all labour that was begun or waits. What comes now is not stopped by it.
void Session::make_way() {
  labour_stop_.request_stop();
  labour_stop_ = {};
  if (work_.kind != Work::Kind::opening && work_.kind != Work::Kind::none) set_work(Work::Kind::none, {}, 0);
}

void Session::stop_work() {
  accepted_.reset();
  resume_render_ = resume_measure_ = false;
  make_way();
}

void Session::look_at_profile() {
  quick_.add([this, stores = stores_] {
    SeatProfile p = known_profile(stores);
    std::vector<News> news = stores.notebook->news();
    std::vector<SeatProfile> shipped = invented_seats();
    post([this, p = std::move(p), news = std::move(news), shipped = std::move(shipped)]() mutable {
      profile_ = std::move(p), news_ = std::move(news);
      if (seats_.empty()) seats_ = std::move(shipped);
      emit seat_changed();
      if (wants_advice_) work_out_advice();
    });
  });
}

void Session::want_advice(bool wanted) {
  const bool fresh = wanted && !wants_advice_;
  wants_advice_ = wanted;
  if (fresh && !advice_) work_out_advice();
}

void Session::work_out_advice() {
  if (!derived_ || !profile_ || elsewhere_ >= 0) return;
  quick_.add([this, d = derived_, profile = *profile_, seats = seats_, stores = stores_] {
    if (quit_) return;
    Advice a = advise(*d->view.played, stores.notebook, profile, d->view.seals, {stores.forecast_options(), seats});
    post([this, d, a = std::move(a)] {
      if (d != derived_) return;  // of an older state
      advice_ = a;
      emit seat_changed();
    });
  });
}

void Session::explain_span(FrameRange span) {
  if (!derived_ || elsewhere_ >= 0) return;
  quick_.add([this, d = derived_, span, stores = stores_] {
    if (quit_) return;
    const ForecastOptions o = stores.forecast_options();
    const Route& states = d->view.seals;
    const auto gains = gains_of(*d->view.played, *stores.notebook, states, span, o);
    const auto least = least_bypasses(*d->view.played, *stores.notebook, states, span, o);
    post([this, d, span, gains, least] {
      if (d == derived_) emit span_explained(span, gains, least);
    });
  });
}

void Session::measure_seat(bool full) {
  if (playing_ || work_.kind != Work::Kind::none) return;
  const std::stop_token stop = begin_labour(Work::Kind::measuring, tr("Measuring this seat"));
  SeatRunOptions o;
  o.full = full, o.workers = stores_.options.workers;
  o.memory_left_gb = stores_.options.settings.memory_left_gb;
  o.volumes = {stores_.shelf->folder()};
  if (profile_) o.known_volumes = profile_->volumes;
  if (derived_) {
    o.program = derived_->view.delivered;
    o.width = derived_->view.timeline->width, o.height = derived_->view.timeline->height;
  }
  if (const QScreen* screen = QGuiApplication::primaryScreen())
    o.screen_width = screen->size().width(), o.screen_height = screen->size().height();
  labour_.add([this, o, stop, notebook = stores_.notebook]() mutable {
    const Hush hush;
    // And those that were measured before, as long as they are there.
    std::error_code e;
    for (const VolumeSpeed& v : o.known_volumes)
      if (!v.folder.empty() && fs::exists(v.folder, e) && !fs::equivalent(v.folder, o.volumes.front(), e))
        o.volumes.emplace_back(v.folder);
    auto r = gc::measure_seat(*notebook, o, [&](const SeatRunProgress& p) {
      const QString text = tr("%1; at most %2 s left")
                               .arg(QString::fromStdString(p.what))
                               .arg(std::max(0.0, p.limit_seconds - p.seconds), 0, 'f', 0);
      post([this, stop, text, share = p.seconds / p.limit_seconds] {
        if (!stop.stop_requested()) set_work(Work::Kind::measuring, text, std::min(1.0, share));
      });
      return !stop.stop_requested();
    });
    Result<void> kept;
    if (r) kept = keep_profile(r->profile);
    post([this, r, kept, stop] {
      end_labour(stop);
      if (!r) emit failed(QString::fromStdString(r.error().text()));
      else if (!kept) emit failed(QString::fromStdString(kept.error().text()));
      look_at_profile();
      if (history_) derive(false);
    });
  });
}

void Session::forecast_on(int other) {
  if (other >= static_cast<int>(seats_.size())) return;
  elsewhere_ = other;
  emit seat_changed();
  if (other < 0) {
    elsewhere_book_ = nullptr;
    if (history_) derive(false);
    return;
  }
  ++deriving_;  // until there is something of that seat to show
  quick_.add([this, other, seat = seats_[static_cast<std::size_t>(other)], notebook = stores_.notebook] {
    const auto book = worked_out([&] { return std::make_shared<const ProfileBook>(seat, notebook); });
    post([this, other, book] {
      --deriving_;
      if (elsewhere_ != other || !book) return;
      elsewhere_book_ = book;
      if (history_) derive(false);
    });
  });
}

void Session::save_seat(const QString& file) {
  quick_.add([this, file, stores = stores_] {
    if (auto r = save_profile(known_profile(stores), file.toStdString()); !r) tell(r.error());
  });
}

void Session::load_seat(const QString& file) {
  quick_.add([this, file] {
    auto p = load_profile(file.toStdString());
    post([this, p] {
      if (!p) {
        emit failed(QString::fromStdString(p.error().text()));
        return;
      }
      seats_.push_back(*p);
      advice_.reset();
      forecast_on(static_cast<int>(seats_.size()) - 1);
    });
  });
}

void Session::count_coverage() {
  if (!derived_) return;
  labour_.add([this, d = derived_, stop = labour_stop_.get_token()] {
    if (stop.stop_requested()) return;
    auto found = coverage(*d->view.delivered, [&] { return !stop.stop_requested(); });
    post([this, d, stop, found = std::move(found)] {
      if (d != derived_ || stop.stop_requested()) return;  // of an older state, or not all of it
      uncovered_ = found;
      emit coverage_counted();
    });
  });
}

void Session::track(const std::string& segment, const std::string& effect, Frames from) {
  if (!history_ || work_.kind != Work::Kind::none) return;
  const std::stop_token stop = begin_labour(Work::Kind::measuring, tr("Following the shape"));
  labour_.add([this, segment, effect, from, stop, now = timeline(), media = stores_.media] {
    auto report = track_shape(now, *media, segment, effect, from, [&](double share) {
      post([this, stop, share] {
        if (!stop.stop_requested()) set_work(Work::Kind::measuring, tr("Following the shape"), share);
      });
      return !stop.stop_requested();
    });
    post([this, report, now, stop] {
      end_labour(stop);
      if (!report) emit failed(QString::fromStdString(report.error().text()));
      else if (now == timeline() && !stop.stop_requested())
        edit(report->timeline, tr("Follow the shape over %1 frames").arg(report->frames));
    });
  });
}

void Session::look_for_media(const QString& folder, bool mirrored) {
  if (!history_ || work_.kind != Work::Kind::none) return;
  const std::stop_token stop = begin_labour(Work::Kind::measuring, tr("Looking for media"));
  labour_.add([this, folder, mirrored, stop, now = timeline(), media = stores_.media] {
    const fs::path where = folder.toStdString();
    const auto stopped = [stop] { return stop.stop_requested(); };
    auto report = relink(now, *media, where, mirrored ? RelinkBy::mirrored : RelinkBy::name, stopped);
    if (report && !mirrored && !report->not_found.empty())
      if (auto more = relink(report->timeline, *media, where, RelinkBy::content, stopped)) {
        report->timeline = more->timeline, report->not_found = more->not_found;
        report->found.insert(report->found.end(), more->found.begin(), more->found.end());
      }
    post([this, folder, mirrored, report, now, stop] {
      end_labour(stop);
      if (!report) return emit failed(QString::fromStdString(report.error().text()));
      if (now == timeline() && !stop.stop_requested()) emit media_found(folder, mirrored, *report);
    });
  });
}

void Session::take_media(const RelinkReport& report) {
  if (!history_ || report.found.empty()) return;
  // Edits that were made while somebody looked at what was found stay.
  TimelinePtr now = timeline();
  for (const Relinked& r : report.found) {
    const auto& m = report.timeline->sources.at(r.source);
    if (const TimelinePtr next = with_media(*now, r.source, m->path, m->url)) now = next;
  }
  edit(now, tr("Relink %1 media").arg(report.found.size()));
}

void Session::set_counted_in(int width, int height, Rate rate, bool drop_frame) {
  if (!history_) return;
  quick_.add([this, width, height, rate, drop_frame, now = timeline(), media = stores_.media] {
    Result<TimelinePtr> at = now;
    if (rate != now->rate) at = with_rate(*now, rate, reading_with(media));
    if (!at) return tell(at.error());
    auto t = std::make_shared<Timeline>(**at);
    t->width = width, t->height = height, t->drop_frame = drop_frame;
    post([this, now, t] {
      if (now == timeline()) edit(t, tr("Raster and rate"));
    });
  });
}

void Session::measure_again() { start_measuring(true); }

void Session::start_measuring(bool again) {
  if (!derived_ || playing_ || work_.kind != Work::Kind::none || elsewhere_ >= 0) return;
  const std::stop_token stop =
      begin_labour(Work::Kind::measuring, tr("Measuring what frames cost here"));
  labour_.add([this, d = derived_, again, stop, stores = stores_] {
    if (stop.stop_requested()) return;
    const Hush hush;
    Stopwatch since_shown;
    MeasureOptions options = stores.measure_options(stores.options.measure_seconds, again, &d->view);
    options.stop = stop;
    auto r = measure(d->view.played, *stores.notebook, options, [&, this](const MeasureProgress& p) {
      // What is known so far is shown every few seconds, between two runs, where it disturbs nothing.
      if (since_shown.ms() > 2500 && latest_ == d->view.timeline.get()) {
        const DerivedPtr so_far = make_derived(d->view.timeline, stores, nullptr, d);
        post([this, so_far] {
          // Another seat may have been chosen meanwhile, whose forecast this is not.
          if (so_far->view.timeline != timeline() || elsewhere_ >= 0 || deriving_ > 0) return;
          derived_ = so_far;
          emit derived_changed();
        });
        since_shown.restart();
      }
      const double share = std::max(p.wanted > 0 ? static_cast<double>(p.known) / p.wanted : 0,
                                    std::min(1.0, p.seconds / p.limit_seconds));
      const QString text = tr("Measuring %1: %2 of %3 kinds of frames known, at most %4 s left")
                               .arg(QString::fromStdString(p.what))
                               .arg(p.known)
                               .arg(p.wanted)
                               .arg(std::max(0.0, p.limit_seconds - p.seconds), 0, 'f', 0);
      post([this, stop, share, text] {
        if (!stop.stop_requested()) set_work(Work::Kind::measuring, text, share);
      });
      return !stop.stop_requested();
    });
    // Which segments only playing can judge, while the machine is at it.
    constexpr double kLooking = 3;
    if (!stop.stop_requested()) look_for_must_watch(d->view, stores, kLooking, [&] { return !stop.stop_requested(); });
    // And what the plan's renders take, by a few frames of each that nobody has looked at.
    const auto tried = tried_plan(d->view, stores, whole(d->view), plan_options(*d->view.timeline, stores), [&] { return stop.stop_requested(); });
    post([this, r, stop, trouble = tried ? std::optional<Error>() : std::optional(tried.error())] {
      if (!r) emit failed(QString::fromStdString(r.error().text()));
      else if (trouble) emit failed(QString::fromStdString(trouble->text()));
      derive(false);
      look_at_profile();  // it has laws that it did not have
      end_labour(stop);
    });
  });
}

void Session::carry_out_plan() {
  if (!current() || elsewhere_ >= 0 || derived_->plan.remedies.empty() || work_.kind == Work::Kind::rendering)
    return;
  stop_playing();
  stop_work();  // measuring makes way
  accepted_ = Accepted{derived_, derived_->plan};
  start_rendering();
}

/// What the person accepted, whatever the plan has become since: of a timeline that was changed meanwhile, the
/// frames that are still as they were. What is sealed already is left out by rendering itself.
void Session::start_rendering() {
  if (!accepted_ || !derived_) return;
  const std::stop_token stop = begin_labour(Work::Kind::rendering, tr("Pre-rendering"));
  labour_.add([this, accepted = *accepted_, now = derived_, stop, stores = stores_] {
    if (stop.stop_requested()) return;
    int sealed = 0;
    const Result<CarriedOut> r = gc::carry_out(accepted.plan, accepted.of->view, now->view, stores,
                       [&, this](const PrerenderProgress& p) {
                         const QString text = tr("Pre-rendering: %1 of %2 frames, %3 left")
                                                  .arg(p.done)
                                                  .arg(p.total)
                                                  .arg(QString::fromStdString(duration_text(p.seconds_left)));
                         const double share = static_cast<double>(p.done) / static_cast<double>(p.total);
                         const bool piece = std::exchange(sealed, p.pieces) != p.pieces;
                         post([this, stop, text, share, piece] {
                           if (!stop.stop_requested()) set_work(Work::Kind::rendering, text, share);
                           if (piece) seals_changed();
                         });
                         return !stop.stop_requested();
                       });
    // Slips that the plan opens are an edit like any other.
    const TimelinePtr slipped = r && r->timeline != now->view.timeline ? r->timeline : nullptr;
    post([this, failure = r ? std::optional<Error>() : std::optional(r.error()), of = now->view.timeline, slipped, stop] {
      if (failure) emit failed(QString::fromStdString(failure->text()));
      if (!stop.stop_requested()) accepted_.reset();
      if (slipped && timeline() == of) edit(slipped, tr("Slips of the plan"));
      // Frames of which part is rendered now are measured as they play; not where somebody stopped it or plays.
      derive(!stop.stop_requested());
      end_labour(stop);
    });
  });
}

void Session::play(FrameRange range, PlayMode mode, bool backwards, int passes) {
  if (!current() || playing_ || range.length() <= 0) return;
  // Playing comes first; work in the background makes way and goes on afterwards.
  resume_measure_ = work_.kind == Work::Kind::measuring;
  resume_render_ = work_.kind == Work::Kind::rendering && accepted_;
  make_way();
  playing_ = true;
  stop_play_ = std::make_shared<std::atomic<bool>>(false);
  {
    const std::lock_guard lock(play_mutex_);
    play_state_ = {};
  }
  const bool may_remember = frames_kept_;
  frames_kept_ = frames_kept_ || mode == PlayMode::every_frame;
  // On another seat the skyline's forecast is not this one's.
  player_.add([this, d = derived_, range, mode, backwards, passes, elsewhere = elsewhere_ >= 0, may_remember,
               stop = stop_play_, opened = opened_, stores = stores_] {
    // What made way ends within a frame's time. Until then it would be played beside.
    labour_.wait_until_idle();
    const Hush hush;
    // Frames that were played before, every one of them, may still be in memory. Asking for each takes a
    // while on a long timeline, and playing waits for it.
    const Route& own = d->view.seals;
    const Route states = may_remember ? with_remembered(own, *d->view.played, *cache_) : own;
    PlayOptions options = stores.play_options(mode, d->view, range, states);
    options.backwards = backwards, options.passes = passes;
    options.cache = cache_;
    Playout p = gc::play(d->view.played, stores.shelf.get(), range, options, *this, *stop,
                         [this](const PlayState& s) {
                           {
                             const std::lock_guard lock(play_mutex_);
                             play_state_ = s;
                           }
                           post([this] { emit play_moved(); });
                         });
    std::optional<Audit> a;
    std::optional<Explanation> e;
    Result<void> noted;
    // A forecast is of playing once. The skyline's is from nothing.
    if (!p.stopped && p.mode == PlayMode::on_the_clock && !options.backwards && options.passes == 1) {
      const Forecast f =
          range == whole(d->view) && !elsewhere && states == own
              ? d->plan.before
              : forecast(*d->view.played, *stores.notebook, states, range, stores.forecast_options());
      a = audit(f, alone(f, *d->view.played), p);
      noted = remember(*a, d->view, *stores.notebook);
      if (noted) noted = note_playout(f, p, *d->view.played, *stores.notebook);
      e = explain(f, p, *d->view.played);
      if (!e->model.agrees())
        if (auto kept = keep_replay(p, *d->view.played, data_folder() / "replays"); !kept) tell(kept.error());
    } else {
      noted = note_disturbance(p, *stores.notebook);
    }
    if (!noted) tell(noted.error());
    if (auto log = WatchLog::open(WatchLog::usual_file()))
      if (auto kept = note_watched(d->view, p, *log, now_utc()); !kept) tell(kept.error());
    if (!p.failure.empty()) post([this, why = QString::fromStdString(p.failure)] { emit failed(why); });
    post([this, opened, p = std::move(p), a, e]() mutable {
      played(opened, std::move(p), std::move(a), std::move(e));
    });
  });
}

void Session::played(int opened, Playout playout, std::optional<Audit> audit,
                     std::optional<Explanation> explanation) {
  playing_ = false;
  if (opened != opened_) {  // of a timeline that is not open any more
    emit play_ended();
    return;
  }
  playout_ = std::move(playout);
  gate_of_.reset();  // what was played may have been watched
  if (audit) audit_ = std::move(audit), explanation_ = std::move(explanation);
  emit play_ended();
  emit derived_changed();
  if (std::exchange(resume_render_, false)) start_rendering();
  else if (std::exchange(resume_measure_, false)) start_measuring(false);
  if (look_.coverage && uncovered_.empty()) count_coverage();
}

void Session::stop_playing() { *stop_play_ = true; }

void Session::look_at_shelf() {
  with_shelf([](Shelf&, const std::vector<ProgramPtr>&) { return Result<void>{}; });
}

void Session::with_shelf(std::function<Result<void>(Shelf&, const std::vector<ProgramPtr>& open)> change) {
  quick_.add([this, d = derived_, stores = stores_, change = std::move(change)] {
    std::vector<ProgramPtr> open;
    if (d) open = {d->view.played, d->view.delivered};
    const std::uint64_t before = stores.shelf->bytes();
    const std::size_t pieces = stores.shelf->chunks();
    if (auto r = change(*stores.shelf, open); !r) tell(r.error());
    const bool other = stores.shelf->bytes() != before || stores.shelf->chunks() != pieces;
    auto report = worked_out([&] { return std::optional(shelf_report(*stores.shelf, d ? &d->view : nullptr)); });
    post([this, report = std::move(report), other]() mutable {
      shelf_report_ = std::move(report);
      emit shelf_changed();
      if (other) seals_changed();
    });
  });
}

void Session::clean_shelf(const Selection& what) {
  with_shelf([what](Shelf& shelf, const std::vector<ProgramPtr>& open) -> Result<void> {
    if (auto r = shelf.clean(what, open); !r) return std::unexpected(r.error());
    return {};
  });
}

void Session::restore_shelf() {
  with_shelf([](Shelf& shelf, const std::vector<ProgramPtr>&) -> Result<void> {
    if (auto r = shelf.restore(); !r) return std::unexpected(r.error());
    return {};
  });
}

void Session::pin_on_shelf(const Selection& what, bool pinned) {
  with_shelf([what, pinned](Shelf& shelf, const std::vector<ProgramPtr>&) -> Result<void> {
    if (auto r = shelf.pin(what, pinned); !r) return std::unexpected(r.error());
    return {};
  });
}

void Session::set_shelf_budget(double gb) {
  with_shelf([gb](Shelf& shelf, const std::vector<ProgramPtr>&) -> Result<void> {
    ShelfVolume own = shelf.volumes().front();
    own.budget.reset();
    if (gb > 0) own.budget = static_cast<std::uint64_t>(gb * 1e9);
    return shelf.set_volume(own);
  });
}

}  // namespace gc
