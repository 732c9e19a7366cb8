#include "app/session.h"

#include <QMetaObject>
#include <QSettings>

#include "base/clock.h"
#include "base/log.h"
#include "desk/angles.h"
#include "desk/settled.h"
#include "media/compare.h"

namespace gc {
namespace {

constexpr int kKeepEditsMs = 3000;  ///< from an edit until it is kept for a crash
constexpr int kRecentFiles = 8;

QImage to_image(ScreenImage&& s) {
  // The image owns the pixels until it is dropped.
  auto* kept = new ScreenImage(std::move(s));
  return QImage(
      kept->bgra.data(), kept->width, kept->height, kept->width * 4, QImage::Format_RGB32,
      [](void* p) { delete static_cast<ScreenImage*>(p); }, kept);
}

QString text_of(const Error& error) { return QString::fromStdString(error.text()); }

}  // namespace

Session::Session(Stores stores, QObject* parent)
    : QObject(parent),
      stores_(std::move(stores)),
      quick_([this](const Error& e) { tell(e); }),
      labour_([this](const Error& e) {
        tell(e);
        // Whatever was being done is over.
        post([this] {
          if (work_.kind != Work::Kind::opening) set_work(Work::Kind::none, {}, 0);
        });
      }),
      player_([this](const Error& e) {
        tell(e);
        post([this] {
          playing_ = false;
          emit play_ended();
        });
      }),
      files_([this](const Error& e) { tell(e); }, TaskQueue::AtTheEnd::finish) {
  const auto [memory, free] = memory_now();
  cache_ = std::make_shared<MemoryCache>(
      cache_budget(memory, free, static_cast<std::uint64_t>(stores_.options.settings.memory_left_gb * 1e9)));
  keep_edits_.setSingleShot(true);
  keep_edits_.setInterval(kKeepEditsMs);
  connect(&keep_edits_, &QTimer::timeout, this, [this] {
    if (!changed()) return;
    files_.add([this, now = timeline(), file = fs::path(file_.toStdString()), origin = origin_,
                folder = recovery_folder(stores_)] {
      if (auto r = keep_recovery(folder, *now, file, origin); !r) tell(r.error());
    });
  });
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

Session::~Session() {
  quit_ = true;
  labour_stop_.request_stop();
  *stop_play_ = true;
  still_changed_.notify_all();
  stills_.join();
}

void Session::post(std::function<void()> f) {
  if (!quit_) QMetaObject::invokeMethod(this, std::move(f), Qt::QueuedConnection);
}

void Session::tell(const Error& error) {
  post([this, text = text_of(error)] { emit failed(text); });
}

// ---- Stills -------------------------------------------------------------------------------------------

void Session::still_loop() {
  for (;;) {
    std::optional<Still> wanted;
    {
      std::unique_lock lock(still_mutex_);
      still_changed_.wait(lock, [&] { return quit_ || still_; });
      if (quit_) return;
      wanted.swap(still_);
    }
    if (const auto threw = caught([&] { make_still(*wanted); })) tell(*threw);
  }
}

bool Session::still_superseded() {
  const std::lock_guard lock(still_mutex_);
  return quit_ || still_.has_value();
}

void Session::make_still(const Still& wanted) {
  const auto& [view, stores, frame, look] = wanted;
  const ProgramPtr program = view.played;
  constexpr double kAtOnce = 100;  // milliseconds in which a person takes a picture for immediate
  const auto show = [&, look = look, frame = frame](const Image& image, StillKind kind) {
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
      !program->recipe(frame, stores.shelf.get()).seal) {
    if (preview_of_ != program) {
      RenderOptions lower = program->options();
      lower.scale = 4, lower.draft = true;
      preview_of_ = program, preview_ = Program::compile(program->timeline(), *stores.media, lower);
    }
    StageLog log;
    show(render_frame(*preview_, frame, stores.shelf.get(), still_decoders_, log, cache_.get()),
         StillKind::preview);
    if (still_superseded()) return;
  }
  FrameNotes notes;
  // One picture for one person: every processor works on it.
  notes.tiles = stores.options.workers;
  if (!made) {
    StageLog log;
    const Stopwatch watch;
    made = std::make_shared<const Image>(
        render_frame(*program, frame, stores.shelf.get(), still_decoders_, log, cache_.get(), &notes));
    still_ms_[sort] = watch.ms();
    if (!notes.unseen && !notes.stand_in && notes.trouble.empty()) cache_->offer(key, made, watch.ms());
  }
  show(*made, notes.unseen ? StillKind::unseen : StillKind::sharp);
  if (!look.compare || still_superseded()) return;
  const Fidelity f = fidelity(view, stores, frame, 2);
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

void Session::show_frame(Frames frame) {
  if (!derived_ || playing_) return;
  const std::lock_guard lock(still_mutex_);
  still_.emplace(Still{derived_->view, stores_, frame, look_});
  still_changed_.notify_all();
}

void Session::set_look(LookOptions look) {
  const bool count = look.coverage && !look_.coverage;
  look_ = look;
  if (count) count_coverage();
}

// ---- Files --------------------------------------------------------------------------------------------

void Session::open(const QString& file, const QString& number) {
  stop_playing();
  stop_work();
  set_work(Work::Kind::opening, tr("Opening %1").arg(file), 0);
  quick_.add([this, file, which = number.toStdString(), book = elsewhere_book_, stores = stores_] {
    Hash128 origin;
    TimelinePtr timeline;
    const DerivedPtr derived = worked_out([&]() -> DerivedPtr {
      const fs::path path = file.toStdString();
      const auto text = read_file(path);
      const Result<TimelinePtr> found =
          text ? timeline_from_otio(*text, path.string(), fs::absolute(path).parent_path(),
                                    reading_with(stores.media, which))
               : std::unexpected(text.error());
      if (!found) {
        // Several in one file: the person chooses.
        QStringList names;
        if (text && which.empty())
          for (const std::string& n : timelines_in(*text)) names += QString::fromStdString(n);
        if (names.size() > 1) post([this, file, names] { emit several(file, names); });
        else tell(found.error());
        return nullptr;
      }
      origin = hash_text(*text), timeline = *found;
      return make_derived(timeline, stores, book, nullptr);
    });
    post([this, file, timeline, derived, origin] {
      set_work(Work::Kind::none, {}, 0);
      if (derived) timeline_is(timeline, timeline, derived, file, origin);
    });
  });
}

void Session::open_angles(const std::string& segment, const QString& file) {
  if (!history_) return;
  quick_.add([this, segment, file, timeline = history_->now()] {
    if (auto r = write_angles(*timeline, segment, file.toStdString()); !r) return tell(r.error());
    post([this, file] { open(file); });
  });
}

void Session::open_recovered(const RecoveryCopy& copy) {
  stop_playing();
  stop_work();
  const QString file = QString::fromStdString(copy.file);
  set_work(Work::Kind::opening, tr("Opening %1").arg(file), 0);
  quick_.add([this, file, copy, book = elsewhere_book_, stores = stores_] {
    const auto found = recover(copy, stores.media);
    // What the file holds now, for undoing back to it; it may be gone.
    const auto saved = found ? open_timeline(copy.file, stores.media, found->timeline->place) : std::unexpected(found.error());
    if (!found) tell(found.error());
    const DerivedPtr derived = worked_out(
        [&] { return found ? make_derived(found->timeline, stores, book, nullptr) : nullptr; });
    post([this, file, copy, found, saved, derived] {
      set_work(Work::Kind::none, {}, 0);
      if (!derived) return;
      timeline_is(found->timeline, saved ? *saved : std::make_shared<const Timeline>(), derived, file,
                  found->origin);
      // This program's own copy first; only then the other one may go.
      files_.add([this, copy, now = found->timeline, origin = found->origin,
                  folder = recovery_folder(stores_)] {
        if (auto r = keep_recovery(folder, *now, copy.file, origin); !r) return tell(r.error());
        std::error_code e;
        fs::remove(copy.copy, e);
      });
      emit timeline_changed();
    });
  });
}

void Session::look_for_recovery() {
  files_.add([this, folder = recovery_folder(stores_)] {
    const std::vector<RecoveryCopy> copies = gc::recoverable(folder);
    if (!copies.empty()) post([this, copies] { emit recoverable(copies); });
  });
}

void Session::discard_recovery(const RecoveryCopy& copy) {
  files_.add([copy] {
    std::error_code e;
    fs::remove(copy.copy, e);
  });
}

/// Another timeline is open. What is still being worked out for an older one is dropped when it comes.
void Session::timeline_is(TimelinePtr timeline, TimelinePtr saved, DerivedPtr derived, const QString& file,
                          const Hash128& origin) {
  history_.emplace(timeline, saved);
  ++opened_;
  noted_ = timeline;
  wishes_ = {}, wishes_given_ = false;
  quick_.add([this, timeline, opened = opened_] {
    const Wishes kept = wishes_of(*timeline);
    post([this, opened, kept] {
      // Another timeline was opened meanwhile, or the person was quicker than the file.
      if (opened != opened_ || wishes_given_) return;
      wishes_ = kept;
      emit derived_changed();
    });
  });
  latest_ = timeline.get();
  file_ = file, origin_ = origin;
  playout_.reset(), audit_.reset(), explanation_.reset();
  accepted_.reset(), resume_render_ = resume_measure_ = false;
  uncovered_.clear();  // counted of another timeline
  derived_ = std::move(derived);
  if (look_.coverage) count_coverage();
  advice_.reset();
  emit opened();
  emit derived_changed();
  show_frame(0);
  if (wants_advice_) work_out_advice();
  if (!derived_->plan.before.fully_measured) start_measuring(false);
}

int Session::save(const QString& file, bool over) {
  if (!history_) return 0;
  const bool own = file == file_;
  const int number = ++saves_;
  files_.add([this, number, file, over, own, now = timeline(), known = origin_, was = fs::path(file_.toStdString()),
              folder = recovery_folder(stores_)] {
    const fs::path path = file.toStdString();
    if (own && !over) {
      const auto there = read_file(path);
      // A save before this one, asked for when this was not yet done, wrote what is there.
      if (there && hash_text(*there) != known && hash_text(*there) != written_[path.string()]) {
        post([this, number, file] { emit changed_outside(file), emit not_saved(number); });
        return;
      }
    }
    const std::string text = timeline_to_otio(*now, fs::absolute(path).parent_path());
    if (auto r = write_file_atomic(path, text); !r) {
      tell(r.error());
      post([this, number] { emit not_saved(number); });
      return;
    }
    written_[path.string()] = hash_text(text);
    drop_recovery(folder, was);
    post([this, number, file, now, origin = hash_text(text)] {
      file_ = file, origin_ = origin;
      history_->mark_saved(now);
      // A copy may have been asked for while this save was on its way.
      if (changed()) keep_edits_.start();
      else give_up_edits();
      emit saved(number);
      emit timeline_changed();
    });
  });
  return number;
}

void Session::give_up_edits() {
  keep_edits_.stop();
  files_.add([file = fs::path(file_.toStdString()), folder = recovery_folder(stores_)] {
    drop_recovery(folder, file);
  });
}

void Session::note_recent(const QString& file) {
  files_.add([this, file] {
    QSettings settings;
    QStringList files = settings.value("recent").toStringList();
    if (!file.isEmpty()) {
      const QString whole = QString::fromStdString(fs::absolute(file.toStdString()).string());
      files.removeAll(whole);
      files.prepend(whole);
      while (files.size() > kRecentFiles) files.removeLast();
      settings.setValue("recent", files);
      settings.sync();
    }
    post([this, files] { emit recent_changed(files); });
  });
}

// ---- Edits, and what follows from them ----------------------------------------------------------------

void Session::derive(bool then_measure) {
  const TimelinePtr now = timeline();
  ++deriving_;
  quick_.add([this, now, then_measure, book = elsewhere_book_, before = derived_, stores = stores_] {
    // Of several edits in a row only the last one is worked out.
    const DerivedPtr derived = worked_out(
        [&] { return latest_ == now.get() ? make_derived(now, stores, book, before) : nullptr; });
    post([this, now, derived, book, then_measure] {
      --deriving_;
      if (!derived || now != timeline() || book != elsewhere_book_) return;  // something newer is on its way
      derived_ = derived;
      uncovered_.clear();  // counted of an older state
      advice_.reset();
      emit derived_changed();
      if (wants_advice_) work_out_advice();
      if (look_.coverage) count_coverage();
      queue_follows();
      if (then_measure && !derived_->plan.before.fully_measured && work_.kind == Work::Kind::none)
        start_measuring(false);
    });
  });
}

/// Pieces were sealed: the same timeline with what the shelf has now. One at a time; of those that come meanwhile
/// the last one counts.
void Session::seals_changed() {
  if (!derived_) return;
  seal_again_ = sealing_;
  if (std::exchange(sealing_, true)) return;
  quick_.add([this, before = derived_, book = elsewhere_book_, stores = stores_] {
    const TimelinePtr now = before->view.timeline;
    const DerivedPtr derived = worked_out(
        [&] { return latest_ == now.get() ? make_derived(now, stores, book, before) : nullptr; });
    post([this, now, derived, book] {
      sealing_ = false;
      if (derived && now == timeline() && book == elsewhere_book_ && deriving_ == 0) {
        derived_ = derived;
        emit derived_changed();
      }
      if (std::exchange(seal_again_, false)) seals_changed();
    });
  });
}

void Session::edited() {
  if (noted_ && noted_ != timeline())
    quick_.add([before = noted_, after = timeline()] {
      if (auto log = EditLog::open(EditLog::usual_file())) (void)log->note(*after, changes_between(*before, *after), seconds_now());
    });
  noted_ = timeline();
  latest_ = timeline().get();
  if (changed()) keep_edits_.start();
  else give_up_edits();
  emit timeline_changed();
  derive(true);
}

void Session::edit(TimelinePtr next, const QString& what) {
  if (!history_ || !next) return;
  history_->push(std::move(next), what.toStdString());
  edited();
}

void Session::undo() {
  if (!can_undo()) return;
  history_->undo();
  edited();
}

void Session::redo() {
  if (!can_redo()) return;
  history_->redo();
  edited();
}

void Session::set_settings(const Settings& settings) {
  stores_.options.settings = settings;
  files_.add([this, settings] {
    if (auto r = save_settings(settings); !r) tell(r.error());
  });
  if (!history_) return;
  emit timeline_changed();
  derive(true);
}

void Session::set_work(Work::Kind kind, const QString& text, double share) {
  work_ = {kind, text, share};
  emit work_changed();
}

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

}  // namespace gc
