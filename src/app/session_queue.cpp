// The queue, as the window asks for it: the plan is put into it, and a renderer is started that outlives the window.
#include <QCoreApplication>
#include <QProcess>

#include "app/session.h"
#include "desk/queueing.h"

namespace gc {

void Session::queue_plan() {
  if (!current() || elsewhere_ >= 0 || derived_->plan.remedies.empty()) return;
  quick_.add([this, d = derived_, stores = stores_, file = file_.toStdString()] {
    auto journal = Journal::open();
    if (!journal) return tell(journal.error());
    const auto ids = enqueue(*journal, d->plan, d->view, stores, file);
    if (!ids) return tell(ids.error());
    const bool runs = !journal->holder().empty();
    post([this, runs] { start_renderer(runs); });
  });
}

void Session::queue_follows() {
  if (file_.isEmpty() || elsewhere_ >= 0) return;
  quick_.add([this, d = derived_, stores = stores_, file = file_.toStdString()] {
    if (latest_ != d->view.timeline.get() || !fs::exists(data_folder() / "queue.sqlite")) return;
    auto journal = Journal::open();
    if (!journal) return tell(journal.error());
    if (const auto changed = follow_edit(*journal, d->view, stores, file); !changed) tell(changed.error());
    else if (*changed > 0) post([this] { emit queue_changed(); });
  });
}

void Session::start_renderer(bool runs) {
  // Beside this program, where both are built and installed.
  const QString renderer = QCoreApplication::applicationDirPath() + "/gclk";
  if (!runs && !QProcess::startDetached(renderer, {"work"}))
    emit failed(tr("The renderer cannot be started: %1. The jobs wait; `gclk work` does them.").arg(renderer));
  emit queue_changed();
}

void Session::look_at_queue(std::function<Result<void>(Journal&)> change) {
  quick_.add([this, change = std::move(change)] {
    QueueSeen seen;
    std::error_code e;
    // Looking makes no queue where there is none.
    if (!change && !fs::exists(data_folder() / "queue.sqlite", e)) {
      seen.readable = true;
    } else if (auto journal = Journal::open()) {
      if (change)
        if (auto r = change(*journal); !r) tell(r.error());
      seen = {true, journal->jobs(), journal->settings(), !journal->holder().empty(), journal->why()};
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
    // Where nothing was ever queued, nobody has to be told.
    std::error_code e;
    if (!fs::exists(data_folder() / "queue.sqlite", e)) return;
    if (auto journal = Journal::open()) (void)journal->note_use(false);
  });
}

}  // namespace gc
