// The queue, as the window asks for it: the plan is put into it, a renderer is started, and what becomes of both when the
// window closes.
#include <QCoreApplication>
#include <QProcess>

#include "app/session.h"
#include "desk/planning.h"
#include "desk/queueing.h"

namespace gc {
namespace {

/// Where nothing was ever queued, looking makes no queue.
bool queue_is_there() {
  std::error_code e;
  return fs::exists(data_folder() / "queue.sqlite", e);
}

Result<Journal> journal_of_this_window() {
  auto journal = Journal::open();
  if (!journal) return journal;
  if (auto r = journal->note_window(own_process(), true); !r) return std::unexpected(r.error());
  return journal;
}

}  // namespace

void Session::queue_plan() {
  if (!current() || elsewhere_ >= 0 || derived_->plan.remedies.empty()) return;
  quick_.add([this, d = derived_, stores = stores_, file = file_.toStdString()] {
    auto journal = journal_of_this_window();
    if (!journal) return tell(journal.error());
    const auto ids = enqueue(*journal, d->plan, d->view, stores, file);
    if (!ids) return tell(ids.error());
    const bool runs = !journal->holder().empty();
    const TimelinePtr was = d->view.timeline, slipped = with_slips_of(d->plan, was);
    post([this, runs, was, slipped] {
      // What the plan hides is told at once, not when the rest of it is done: nobody may be here then.
      if (slipped != was && timeline() == was) edit(slipped, tr("Slips of the plan"));
      start_renderer(runs);
      emit queue_changed();
    });
  });
}

void Session::queue_follows() {
  if (file_.isEmpty() || elsewhere_ >= 0) return;
  quick_.add([this, d = derived_, stores = stores_, file = file_.toStdString()] {
    if (latest_ != d->view.timeline.get() || !queue_is_there()) return;
    auto journal = Journal::open();
    if (!journal) return tell(journal.error());
    if (const auto changed = follow_edit(*journal, d->view, stores, file); !changed) tell(changed.error());
    else if (*changed > 0) post([this] { emit queue_changed(); });
  });
}

void Session::start_renderer(bool runs) {
  const QString program = renderer.isEmpty() ? QCoreApplication::applicationDirPath() + "/gclk" : renderer;
  if (!runs && !QProcess::startDetached(program, {"work"}))
    emit failed(tr("The renderer cannot be started: %1. The jobs wait; `gclk work` does them.").arg(program));
  look_at_queue();
}

void Session::go_on_with_queue() {
  quick_.add([this] {
    if (!queue_is_there()) return;
    auto journal = journal_of_this_window();
    if (!journal) return tell(journal.error());
    const std::vector<Job> jobs = journal->jobs();
    const bool left = std::ranges::any_of(jobs, [](const Job& j) { return j.open() && !j.paused; });
    if (left && journal->holder().empty()) post([this] { start_renderer(false); });
  });
}

void Session::leave_queue(bool goes_on, std::function<void()> then) {
  const std::optional<Accepted> rest = goes_on && work_.kind == Work::Kind::rendering ? accepted_ : std::nullopt;
  stop_work();
  quick_.add([this, goes_on, rest, then = std::move(then), stores = stores_, file = file_.toStdString()] {
    const auto left = [&]() -> Result<bool> {
      auto journal = Journal::open();
      if (!journal) return std::unexpected(journal.error());
      if (rest)
        if (const auto ids = enqueue(*journal, rest->plan, rest->of->view, stores, file); !ids) return std::unexpected(ids.error());
      if (auto r = journal->note_window(own_process(), false); !r) return std::unexpected(r.error());
      if (!goes_on && !journal->other_windows(own_process()) && !journal->stays())
        if (auto r = journal->ask_to_end(); !r) return std::unexpected(r.error());
      return !journal->holder().empty();
    }();
    // Who wants it to go on and cannot have it keeps the window.
    if (!left && goes_on) return tell(left.error());
    post([this, goes_on, then, runs = left.value_or(true)] {
      if (goes_on) start_renderer(runs);
      then();
    });
  });
}

void Session::look_at_queue(std::function<Result<void>(Journal&)> change) {
  quick_.add([this, change = std::move(change), notebook = stores_.notebook] {
    QueueSeen seen;
    if (!change && !queue_is_there()) {
      seen.readable = true;
    } else if (auto journal = Journal::open()) {
      if (change)
        if (auto r = change(*journal); !r) tell(r.error());
      seen = {true, journal->jobs(), journal->settings(), notebook->price_ratios(), !journal->holder().empty(), journal->stays(), journal->other_windows(own_process()),
              journal->why()};
    }
    post([this, seen = std::move(seen)]() mutable {
      queue_ = std::move(seen);
      emit queue_seen();
    });
  });
}

void Session::look_for_others() {
  quick_.add([this, stores = stores_] {
    const std::size_t before = stores.shelf->chunks();
    stores.shelf->look_again();
    if (stores.shelf->chunks() != before) post([this] { seals_changed(); });
  });
}

void Session::tell_queue() {
  quick_.add([] {
    // Nobody has to be told.
    if (!queue_is_there()) return;
    if (auto journal = Journal::open()) (void)journal->note_use(false);
  });
}

}  // namespace gc
