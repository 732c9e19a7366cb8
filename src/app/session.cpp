#include "app/session.h"

#include <fmt/format.h>

#include <QGuiApplication>
#include <QMetaObject>
#include <QScreen>

#include "base/clock.h"
#include "measure/seat_run.h"
#include "media/compare.h"
#include "render/track.h"

namespace gc {
namespace {

QImage to_image(ScreenImage&& s) {
  // The image owns the pixels until it is dropped.
  auto* kept = new ScreenImage(std::move(s));
  return QImage(
      kept->bgra.data(), kept->width, kept->height, kept->width * 4, QImage::Format_RGB32,
      [](void* p) { delete static_cast<ScreenImage*>(p); }, kept);
}

}  // namespace

Session::Session(Stores stores, QObject* parent) : QObject(parent), stores_(std::move(stores)) {
  const auto [memory, free] = memory_now();
  cache_ = std::make_shared<MemoryCache>(
      cache_budget(memory, free, static_cast<std::uint64_t>(stores_.options.settings.memory_left_gb * 1e9)));
  stills_ = std::thread([this] { still_loop(); });
  quick_.add([this] {
    const Seat seat = look_at_seat();
    post([this, seat] {
      seat_ = seat;
      emit derived_changed();
    });
  });
  look_at_profile();
}

void Session::look_at_profile() {
  quick_.add([this] {
    SeatProfile p = known_profile(stores_);
    std::vector<News> news = stores_.notebook->news();
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
  quick_.add([this, d = derived_, profile = *profile_, seats = seats_] {
    if (quit_) return;
    Advice a = advise(*d->view.played, stores_.notebook, profile, d->view.states(),
                      {stores_.forecast_options(), seats});
    post([this, d, a = std::move(a)] {
      if (d != derived_) return;  // of an older state
      advice_ = a;
      emit seat_changed();
    });
  });
}

void Session::explain_span(FrameRange span) {
  if (!derived_ || elsewhere_ >= 0) return;
  quick_.add([this, d = derived_, span] {
    if (quit_) return;
    const ForecastOptions o = stores_.forecast_options();
    const SealStates states = d->view.states();
    const auto gains = gains_of(*d->view.played, *stores_.notebook, states, span, o);
    const auto least = least_bypasses(*d->view.played, *stores_.notebook, states, span, o);
    post([this, d, span, gains, least] {
      if (d == derived_) emit span_explained(span, gains, least);
    });
  });
}

void Session::measure_seat(bool full) {
  if (playing_ || work_.kind != Work::Kind::none) return;
  stop_work_ = false;
  set_work(Work::Kind::measuring, tr("Measuring this seat"), 0);
  SeatRunOptions o;
  o.full = full, o.workers = stores_.options.workers,
  o.memory_left_gb = stores_.options.settings.memory_left_gb;
  o.volumes = {stores_.shelf->folder()};
  // And those that were measured before, as long as they are there.
  std::error_code e;
  if (profile_) o.known_volumes = profile_->volumes;
  if (profile_)
    for (const VolumeSpeed& v : profile_->volumes)
      if (!v.folder.empty() && fs::exists(v.folder, e) && !fs::equivalent(v.folder, o.volumes.front(), e))
        o.volumes.emplace_back(v.folder);
  if (derived_) {
    o.program = derived_->view.delivered;
    o.width = derived_->view.timeline->width, o.height = derived_->view.timeline->height;
  }
  if (const QScreen* screen = QGuiApplication::primaryScreen())
    o.screen_width = screen->size().width(), o.screen_height = screen->size().height();
  labour_.add([this, o] {
    auto r = gc::measure_seat(*stores_.notebook, o, [this](const SeatRunProgress& p) {
      const QString text = tr("%1; at most %2 s left")
                               .arg(QString::fromStdString(p.what))
                               .arg(std::max(0.0, p.limit_seconds - p.seconds), 0, 'f', 0);
      post([this, text, share = p.seconds / p.limit_seconds] {
        if (work_.kind == Work::Kind::measuring) set_work(Work::Kind::measuring, text, std::min(1.0, share));
      });
      return !stop_work_ && !quit_;
    });
    Result<void> kept;
    if (r) kept = keep_profile(r->profile);
    post([this, r, kept] {
      set_work(Work::Kind::none, {}, 0);
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
  elsewhere_book_ = other < 0 ? nullptr
                              : std::make_shared<const ProfileBook>(seats_[static_cast<std::size_t>(other)],
                                                                    stores_.notebook);
  emit seat_changed();
  if (history_) derive(false);
}

void Session::save_seat(const QString& file) {
  quick_.add([this, file] {
    if (auto r = save_profile(known_profile(stores_), file.toStdString()); !r)
      post([this, r] { emit failed(QString::fromStdString(r.error().text())); });
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

Session::~Session() {
  quit_ = stop_work_ = stop_play_ = true;
  still_changed_.notify_all();
  stills_.join();
  if (player_.joinable()) player_.join();
}

void Session::post(std::function<void()> f) {
  if (!quit_) QMetaObject::invokeMethod(this, std::move(f), Qt::QueuedConnection);
}

void Session::still_loop() {
  for (;;) {
    Still wanted;
    {
      std::unique_lock lock(still_mutex_);
      still_changed_.wait(lock, [&] { return quit_ || still_; });
      if (quit_) return;
      wanted = std::move(*still_);
      still_.reset();
    }
    make_still(wanted.view.played, wanted.frame, wanted.look, wanted.view);
  }
}

bool Session::still_superseded() {
  const std::lock_guard lock(still_mutex_);
  return quit_ || still_.has_value();
}

void Session::make_still(const ProgramPtr& program, Frames frame, LookOptions look, const View& view) {
  constexpr double kAtOnce = 100;  // milliseconds in which a person takes a picture for immediate
  const auto show = [&](const Image& image, StillKind kind) {
    ScreenImage screen;
    if (look.coverage) to_screen(with_coverage_shown(image), screen);
    else to_screen(image, screen);
    const QImage shown = to_image(std::move(screen));
    post([this, shown, program, frame, kind] {
      // A still of an older state of the timeline is never shown.
      if (derived_ && program == derived_->view.played && !playing_) emit picture(shown, frame, false, kind);
    });
  };
  const Hash128 key = Hasher().add(program->picture_key(frame)).done();
  MemoryCache::Picture made = cache_->find(key);
  const Hash128 sort = frame_key(program->stages(frame));
  const auto took = still_ms_.find(sort);
  if (!made && program->options().scale == 1 && (took == still_ms_.end() || took->second > kAtOnce) &&
      !program->recipe(frame, stores_.shelf.get()).seal) {
    if (preview_of_ != program) {
      RenderOptions lower = program->options();
      lower.scale = 4, lower.draft = true;
      preview_of_ = program, preview_ = Program::compile(program->timeline(), *stores_.media, lower);
    }
    StageLog log;
    show(render_frame(*preview_, frame, stores_.shelf.get(), still_decoders_, log, cache_.get()),
         StillKind::preview);
    if (still_superseded()) return;
  }
  FrameNotes notes;
  // One picture for one person: every processor works on it.
  notes.tiles = stores_.options.workers;
  if (!made) {
    StageLog log;
    const Stopwatch watch;
    made = std::make_shared<const Image>(
        render_frame(*program, frame, stores_.shelf.get(), still_decoders_, log, cache_.get(), &notes));
    still_ms_[sort] = watch.ms();
    if (!notes.unseen && notes.trouble.empty()) cache_->offer(key, made, watch.ms());
  }
  show(*made, notes.unseen ? StillKind::unseen : StillKind::sharp);
  if (!look.compare || still_superseded()) return;
  const Fidelity f = fidelity(view, stores_, frame, 2);
  Comparison c;
  c.frame = frame;
  const auto shown = [](const Image& image) {
    ScreenImage screen;
    to_screen(image, screen);
    return to_image(std::move(screen));
  };
  c.live = shown(f.live), c.other = shown(f.other), c.difference = shown(difference(f.live, f.other, 8));
  c.text = QString::fromStdString(f.text());
  post([this, c, program] {
    if (derived_ && program == derived_->view.played && !playing_) emit compared(c);
  });
}

void Session::set_look(LookOptions look) {
  const bool count = look.coverage && !look_.coverage;
  look_ = look;
  if (count) count_coverage();
}

void Session::count_coverage() {
  if (!derived_) return;
  labour_.add([this, d = derived_] {
    auto found = coverage(*d->view.delivered, [this] { return !quit_; });
    post([this, d, found = std::move(found)] {
      if (d != derived_) return;  // counted of an older state
      uncovered_ = found;
      emit coverage_counted();
    });
  });
}

void Session::set_settings(const Settings& settings) {
  stores_.options.settings = settings;
  quick_.add([this, settings] {
    if (auto r = save_settings(settings); !r)
      post([this, r] { emit failed(QString::fromStdString(r.error().text())); });
  });
  if (!history_) return;
  emit timeline_changed();
  derive(true);
}

void Session::track(const std::string& segment, const std::string& effect, Frames from) {
  if (!history_ || work_.kind != Work::Kind::none) return;
  stop_work_ = false;
  set_work(Work::Kind::measuring, tr("Following the shape"), 0);
  labour_.add([this, segment, effect, from, now = timeline()] {
    auto report = track_shape(now, *stores_.media, segment, effect, from, [this](double share) {
      post([this, share] { set_work(Work::Kind::measuring, tr("Following the shape"), share); });
      return !stop_work_ && !quit_;
    });
    post([this, report, now] {
      set_work(Work::Kind::none, {}, 0);
      if (!report) emit failed(QString::fromStdString(report.error().text()));
      else if (now == timeline())
        edit(report->timeline, tr("Follow the shape over %1 frames").arg(report->frames));
    });
  });
}

void Session::set_work(Work::Kind kind, const QString& text, double share) {
  work_ = {kind, text, share};
  emit work_changed();
}

void Session::open(const QString& file) {
  stop_playing();
  stop_work_ = true;
  set_work(Work::Kind::opening, tr("Opening %1").arg(file), 0);
  quick_.add([this, file, book = elsewhere_book_] {
    auto timeline = load_timeline(file.toStdString());
    DerivedPtr derived = timeline ? make_derived(*timeline, book, nullptr) : nullptr;
    post([this, file, timeline, derived] {
      set_work(Work::Kind::none, {}, 0);
      if (!timeline) {
        emit failed(QString::fromStdString(timeline.error().text()));
        return;
      }
      history_.emplace(
          *timeline);  // what is still being worked out for an older one is dropped when it comes
      file_ = file;
      playout_.reset(), audit_.reset(), explanation_.reset();
      uncovered_.clear();  // counted of another timeline
      derived_ = derived;
      if (look_.coverage) count_coverage();
      advice_.reset();
      emit opened();
      emit derived_changed();
      show_frame(0);
      if (wants_advice_) work_out_advice();
      if (!derived_->plan.before.fully_measured) start_measuring(false);
    });
  });
}

void Session::save(const QString& file) {
  if (!history_) return;
  const TimelinePtr now = timeline();
  quick_.add([this, file, now] {
    auto r = save_timeline(*now, file.toStdString());
    post([this, r, file, now] {
      if (!r) {
        emit failed(QString::fromStdString(r.error().text()));
        return;
      }
      file_ = file;
      if (now == timeline()) history_->mark_saved();
      emit saved();
      emit timeline_changed();
    });
  });
}

DerivedPtr Session::make_derived(const TimelinePtr& timeline, std::shared_ptr<const ProfileBook> elsewhere,
                                 const DerivedPtr& before) const {
  auto d = std::make_shared<Derived>();
  d->view = view_of(timeline, stores_);
  if (elsewhere) {
    // Nothing can be carried out on another seat; what is shown is how the timeline would play there.
    d->plan.before = gc::forecast_on(*d->view.played, *elsewhere, d->view.states(), whole(d->view),
                                     stores_.forecast_options());
    d->plan.before.fully_measured = true;
    d->plan.after = d->plan.before;
    const int not_holding = d->plan.before.count(Verdict::spills) + d->plan.before.count(Verdict::wavers);
    d->plan.sentence =
        not_holding == 0
            ? fmt::format("On '{}' the whole timeline plays.", elsewhere->profile().name)
            : fmt::format("On '{}' {} span{} would not hold; about {:.0f} frames would be dropped.",
                          elsewhere->profile().name, not_holding, not_holding == 1 ? "" : "s",
                          d->plan.before.expected_drops);
  } else {
    PlanOptions options = stores_.plan_options();
    if (before) options.forecast.before = &before->plan.before;
    d->plan = make_plan(*d->view.played, *stores_.notebook, d->view.states(), whole(d->view), options);
  }
  std::vector<IntervalCost> full;
  if (d->view.played != d->view.delivered) {
    ForecastOptions costs_only = stores_.forecast_options();
    costs_only.trials = 1;
    full = forecast(*d->view.delivered, *stores_.notebook, {}, whole(d->view), costs_only).intervals;
  }
  d->pyramid = LoadPyramid(d->plan.before, full);
  d->gate = check_gate(*d->view.delivered, stores_.shelf.get());
  d->shelf_bytes = stores_.shelf->bytes();
  d->track_record = track_record(*stores_.notebook);
  for (const auto& s : d->view.played->segments()) {
    double most = -1;
    for (const CompiledEffect& e : s->effects)
      if (const double ms = median_of(stores_.notebook->stage_samples(e.stage.key)).median; ms > most)
        most = ms, d->dearest[s->segment->id] = e.stage.owner;
  }
  return d;
}

const Owner* Derived::dearest_effect(const std::string& segment) const {
  const auto it = dearest.find(segment);
  return it == dearest.end() ? nullptr : &view.played->owners()[static_cast<std::size_t>(it->second)];
}

void Session::derive(bool then_measure) {
  const TimelinePtr now = timeline();
  ++deriving_;
  quick_.add([this, now, then_measure, book = elsewhere_book_, before = derived_] {
    DerivedPtr derived = make_derived(now, book, before);
    post([this, now, derived, then_measure] {
      --deriving_;
      if (now != timeline()) return;  // a newer edit is on its way
      derived_ = derived;
      uncovered_.clear();  // counted of an older state
      advice_.reset();
      emit derived_changed();
      if (wants_advice_) work_out_advice();
      if (look_.coverage) count_coverage();
      if (then_measure && !derived_->plan.before.fully_measured && work_.kind == Work::Kind::none)
        start_measuring(false);
    });
  });
}

void Session::edit(TimelinePtr next, const QString& what) {
  if (!history_ || !next) return;
  history_->push(std::move(next), what.toStdString());
  emit timeline_changed();
  derive(true);
}

void Session::undo() {
  if (!can_undo()) return;
  history_->undo();
  emit timeline_changed();
  derive(true);
}

void Session::redo() {
  if (!can_redo()) return;
  history_->redo();
  emit timeline_changed();
  derive(true);
}

void Session::measure_again() { start_measuring(true); }

void Session::start_measuring(bool again) {
  if (!derived_ || playing_ || work_.kind != Work::Kind::none || elsewhere_ >= 0) return;
  stop_work_ = false;
  set_work(Work::Kind::measuring, tr("Measuring what frames cost here"), 0);
  const DerivedPtr d = derived_;
  labour_.add([this, d, again] {
    Stopwatch since_shown;
    auto r =
        measure(d->view.played, *stores_.notebook, stores_.measure_options(20, again),
                [&, this](const MeasureProgress& p) {
                  // What is known so far is shown every few seconds, between two runs, where it disturbs
                  // nothing.
                  if (since_shown.ms() > 2500) {
                    const DerivedPtr so_far = make_derived(d->view.timeline, nullptr, d);
                    post([this, so_far] {
                      if (so_far->view.timeline != timeline()) return;
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
                  post([this, share, text] {
                    if (work_.kind == Work::Kind::measuring) set_work(Work::Kind::measuring, text, share);
                  });
                  return !stop_work_.load();
                });
    post([this, r] {
      if (!r) emit failed(QString::fromStdString(r.error().text()));
      derive(false);
      look_at_profile();  // it has laws that it did not have
      if (work_.kind == Work::Kind::measuring) set_work(Work::Kind::none, {}, 0);
    });
  });
}

void Session::carry_out_plan() {
  if (!current() || derived_->plan.remedies.empty() || work_.kind == Work::Kind::rendering) return;
  stop_playing();
  const std::vector<FrameRange> ranges = derived_->plan.ranges();
  stop_work_ = true;  // measuring makes way
  start_rendering(ranges);
}

void Session::start_rendering(std::vector<FrameRange> ranges) {
  set_work(Work::Kind::rendering, tr("Pre-rendering"), 0);
  const DerivedPtr d = derived_;
  labour_.add([this, d, ranges] {
    stop_work_ = false;
    auto r = prerender(d->view.played, *stores_.shelf, ranges, stores_.prerender_options(),
                       [this](const PrerenderProgress& p) {
                         const QString text = tr("Pre-rendering: %1 of %2 frames, %3 left")
                                                  .arg(p.done)
                                                  .arg(p.total)
                                                  .arg(QString::fromStdString(duration_text(p.seconds_left)));
                         const double share = static_cast<double>(p.done) / static_cast<double>(p.total);
                         post([this, text, share] {
                           if (work_.kind == Work::Kind::rendering)
                             set_work(Work::Kind::rendering, text, share);
                         });
                         return !stop_work_.load();
                       });
    post([this, r] {
      if (!r) emit failed(QString::fromStdString(r.error().text()));
      derive(false);
      if (work_.kind == Work::Kind::rendering) set_work(Work::Kind::none, {}, 0);
    });
  });
}

void Session::stop_work() {
  stop_work_ = true;
  resume_render_.clear();
  resume_measure_ = false;
}

void Session::play(FrameRange range, PlayMode mode, bool backwards, int passes) {
  if (!current() || playing_ || range.length() <= 0) return;
  // Playing comes first; work in the background makes way and goes on afterwards.
  if (work_.kind == Work::Kind::measuring) resume_measure_ = true;
  if (work_.kind == Work::Kind::rendering) resume_render_ = derived_->plan.ranges();
  stop_work_ = true;
  if (player_.joinable()) player_.join();
  playing_ = true;
  stop_play_ = false;
  play_state_ = {};
  const DerivedPtr d = derived_;
  const bool elsewhere = elsewhere_ >= 0;  // then the skyline's forecast is not this seat's
  const bool may_remember = frames_kept_;
  frames_kept_ = frames_kept_ || mode == PlayMode::every_frame;
  player_ = std::thread([this, d, range, mode, backwards, passes, elsewhere, may_remember] {
    // Frames that were played before, every one of them, may still be in memory. Asking for each takes a
    // while on a long timeline, and playing waits for it.
    const SealStates own = d->view.states(),
                     states = may_remember ? with_remembered(own, *d->view.played, *cache_) : own;
    PlayOptions options = stores_.play_options(mode, d->view, range, states);
    options.backwards = backwards, options.passes = passes;
    options.cache = cache_;
    Playout p = gc::play(d->view.played, stores_.shelf.get(), range, options, *this, stop_play_,
                         [this](const PlayState& s) {
                           {
                             const std::lock_guard lock(play_mutex_);
                             play_state_ = s;
                           }
                           post([this] { emit play_moved(); });
                         });
    std::optional<Audit> a;
    std::optional<Explanation> e;
    note_disturbance(p, *stores_.notebook);
    // A forecast is of playing once. The skyline's is from nothing.
    if (!p.stopped && p.mode == PlayMode::on_the_clock && !options.backwards && options.passes == 1) {
      const Forecast f =
          range == whole(d->view) && !elsewhere && states == own
              ? d->plan.before
              : forecast(*d->view.played, *stores_.notebook, states, range, stores_.forecast_options());
      a = audit(f, p);
      remember(*a, d->view, *stores_.notebook);
      note_outcomes(f, p, *d->view.played, *stores_.notebook);
      note_moods(f, p, *stores_.notebook);
      e = explain(f, p, *d->view.played);
      if (!e->model.agrees())
        if (auto kept = keep_replay(p, *d->view.played, data_folder() / "replays"); !kept)
          post([this, kept] { emit failed(QString::fromStdString(kept.error().text())); });
    }
    post([this, p = std::move(p), a, e] {
      playing_ = false;
      playout_ = p;
      if (a) audit_ = a, explanation_ = e;
      emit play_ended();
      emit derived_changed();
      if (!resume_render_.empty()) start_rendering(std::exchange(resume_render_, {}));
      else if (std::exchange(resume_measure_, false)) start_measuring(false);
    });
  });
}

void Session::stop_playing() { stop_play_ = true; }

PlayState Session::play_state() const {
  const std::lock_guard lock(play_mutex_);
  return play_state_;
}

bool Session::present(Frames frame, ScreenImage&& screen, double) {
  QImage image = to_image(std::move(screen));
  bool waiting = false;
  {
    const std::lock_guard lock(play_mutex_);
    waiting = pending_picture_.has_value();
    pending_picture_ = std::move(image);
    pending_frame_ = frame;
  }
  // Never more than one picture on its way: a slow screen skips, it does not lag.
  if (waiting) return true;
  post([this] {
    std::optional<QImage> now;
    Frames at = 0;
    {
      const std::lock_guard lock(play_mutex_);
      now.swap(pending_picture_);
      at = pending_frame_;
    }
    if (now) emit picture(*now, at, true, StillKind::sharp);
  });
  return true;
}

void Session::show_frame(Frames frame) {
  if (!derived_ || playing_) return;
  const std::lock_guard lock(still_mutex_);
  still_ = Still{derived_->view, frame, look_};
  still_changed_.notify_all();
}

}  // namespace gc
