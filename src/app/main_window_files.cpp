// The main window's file: opening, saving, and what is asked before something would be lost.
#include <QCheckBox>
#include <QCloseEvent>
#include <QDateTime>
#include <QFileDialog>
#include <QFileInfo>
#include <QMenu>
#include <QMessageBox>

#include "app/main_window.h"
#include "app/news.h"
#include "app/text.h"
#include "desk/queueing.h"

namespace gc {
namespace {

/// What would be left to render if the window closed now, and what can become of it.
struct WorkLeft {
  bool any = false;
  QString amount, goes_on, stops;  ///< sentences
};

WorkLeft work_left(const Session& session) {
  using When = QueueSettings::When;
  const Session::QueueSeen& q = session.queue();
  const bool renders = session.work().kind == Work::Kind::rendering;
  const QueueOutlook ahead = outlook(q.jobs, q.ratios, static_cast<double>(QDateTime::currentSecsSinceEpoch()));
  // Nobody asks about what does not depend on this window, or is not to be done now.
  const bool elsewhere = q.settings.paused || q.settings.when == When::never || q.stays || q.other_windows;
  const int open = elsewhere ? 0 : ahead.open;
  if (open == 0 && !renders) return {};
  WorkLeft left;
  left.any = true;
  if (renders) left.amount = MainWindow::tr("The plan is being carried out. ");
  if (open > 0)
    left.amount += (open == 1 ? MainWindow::tr("One job of the queue is left, about %2 of work. ") : MainWindow::tr("%1 jobs of the queue are left, about %2 of work. ").arg(open))
                       .replace("%2", text(duration_text(ahead.seconds_left)));
  QString when = MainWindow::tr("whenever nobody uses the machine");
  if (q.settings.when == When::always) when = MainWindow::tr("at once");
  if (q.settings.when == When::hours) when = MainWindow::tr("at %1").arg(text(q.settings.hours));
  left.goes_on = MainWindow::tr("a renderer does it %1. `gclk queue` shows how far it is.").arg(when);
  left.stops = MainWindow::tr("nothing finished is lost. ") +
               (open > 0 ? MainWindow::tr("The queue goes on when Glass Clock is opened again.") : MainWindow::tr("What is left is planned again when the timeline is opened."));
  return left;
}

}  // namespace

void MainWindow::show_recent(const QStringList& files) {
  recent_->clear();
  recent_->setEnabled(!files.isEmpty());
  for (const QString& f : files)
    connect(recent_->addAction(f), &QAction::triggered, this,
            [this, f] { when_saved([this, f] { session_.open(f); }); });
}

void MainWindow::open_dialog() {
  auto* dialog = new QFileDialog(this, tr("Open a timeline"), QFileInfo(session_.file()).absolutePath(),
                                 tr("OpenTimelineIO timelines (*.otio);;All files (*)"));
  dialog->setAttribute(Qt::WA_DeleteOnClose);
  connect(dialog, &QFileDialog::fileSelected, this,
          [this](const QString& f) { when_saved([this, f] { session_.open(f); }); });
  dialog->open();
}

void MainWindow::save(bool as) {
  if (!session_.has_timeline()) return;
  if (!as && !session_.file().isEmpty()) {
    session_.save(session_.file());
    return;
  }
  auto* dialog = new QFileDialog(this, tr("Save the timeline"), session_.file(),
                                 tr("OpenTimelineIO timelines (*.otio)"));
  dialog->setAcceptMode(QFileDialog::AcceptSave);
  dialog->setDefaultSuffix("otio");
  dialog->setAttribute(Qt::WA_DeleteOnClose);
  connect(dialog, &QFileDialog::fileSelected, this, [this](const QString& f) { session_.save(f); });
  dialog->open();
}

void MainWindow::ask(const char* name, const QString& title, const QString& question,
                     const QList<QPair<int, QString>>& buttons, int usual, const std::function<int()>& instead,
                     std::function<void(int)> then) {
  if (instead) return then(instead());
  auto* box = new QMessageBox(QMessageBox::Question, title, question, QMessageBox::NoButton, this);
  box->setObjectName(name);
  box->setAttribute(Qt::WA_DeleteOnClose);
  for (const auto& [button, words] : buttons) {
    auto* b = box->addButton(static_cast<QMessageBox::StandardButton>(button));
    if (!words.isEmpty()) b->setText(words);
  }
  box->setDefaultButton(static_cast<QMessageBox::StandardButton>(usual));
  connect(box, &QMessageBox::finished, this, [then = std::move(then)](int answer) { then(answer); });
  box->open();
}

void MainWindow::when_saved(std::function<void()> then) {
  if (!session_.changed()) return then();
  ask("unsaved", tr("Unsaved changes"),
      tr("The timeline has changes that are not saved. Save them before it is closed?"),
      {{QMessageBox::Save, {}}, {QMessageBox::Discard, {}}, {QMessageBox::Cancel, {}}}, QMessageBox::Save,
      ask_unsaved, [this, then = std::move(then)](int answer) {
        if (answer == QMessageBox::Save) {
          after_saving_ = {0, then};
          after_saving_.first = session_.save(session_.file());
        } else if (answer == QMessageBox::Discard) {
          session_.give_up_edits();
          then();
        }
      });
}

void MainWindow::changed_outside(const QString& file) {
  ask("changed-outside", tr("Changed by another program"),
      tr("%1 was changed by another program since it was opened here. Saving over it would lose that change.")
          .arg(file),
      {{QMessageBox::SaveAll, tr("Save as another file")},
       {QMessageBox::Save, tr("Save over it")},
       {QMessageBox::Cancel, {}}},
      QMessageBox::SaveAll, ask_outside, [this, file](int answer) {
        if (answer == QMessageBox::Save) session_.save(file, true);
        if (answer == QMessageBox::SaveAll) save(true);
      });
}

void MainWindow::offer_recovery(const RecoveryCopy& copy) {
  ask("recovery", tr("Unsaved changes were kept"),
      tr("Glass Clock ended before the changes of '%1' were saved. They were kept as of %2 UTC.\n%3")
          .arg(QString::fromStdString(copy.name),
               QString::fromStdString(copy.at.substr(0, 16)).replace('T', ' '),
               QString::fromStdString(copy.file)),
      {{QMessageBox::Open, tr("Open with the changes")},
       {QMessageBox::Discard, tr("Give the changes up")},
       {QMessageBox::Cancel, tr("Ask again later")}},
      QMessageBox::Open, ask_recover, [this, copy](int answer) {
        if (answer == QMessageBox::Open) when_saved([this, copy] { session_.open_recovered(copy); });
        if (answer == QMessageBox::Discard) session_.discard_recovery(copy);
      });
}

void MainWindow::when_work_is_settled(std::function<void()> then) {
  const WorkLeft left = work_left(session_);
  if (!left.any) return then();
  using After = QueueSettings::AfterWindow;
  const After after = session_.queue().settings.after_window;
  const auto leave = [this, then = std::move(then)](bool goes_on) { session_.leave_queue(goes_on, then); };
  if (after != After::ask) {
    const bool goes_on = after == After::go_on;
    tell_desktop({goes_on ? tr("Rendering goes on") : tr("Rendering stops"), left.amount + (goes_on ? left.goes_on : left.stops)});
    return leave(goes_on);
  }
  auto* box = new QMessageBox(QMessageBox::Question, tr("Work is left"), left.amount + tr("Shall it be done without this window?"), QMessageBox::NoButton, this);
  box->setObjectName("work-left");
  box->setAttribute(Qt::WA_DeleteOnClose);
  box->setInformativeText(tr("<b>Go on</b>: %1<br><b>Stop</b>: %2").arg(left.goes_on, left.stops));
  auto* on = box->addButton(tr("Go on"), QMessageBox::AcceptRole);
  auto* stop = box->addButton(tr("Stop"), QMessageBox::DestructiveRole);
  box->addButton(QMessageBox::Cancel);
  box->setDefaultButton(on);
  auto* always = new QCheckBox(tr("Do the same every time; the queue's window (Q) has the setting"), box);
  box->setCheckBox(always);
  connect(box, &QMessageBox::finished, this, [this, box, on, stop, always, leave] {
    const bool goes_on = box->clickedButton() == on;
    if (!goes_on && box->clickedButton() != stop) return;
    if (always->isChecked())
      session_.look_at_queue([goes_on](Journal& j) {
        QueueSettings s = j.settings();
        s.after_window = goes_on ? After::go_on : After::stop;
        return j.set_settings(s);
      });
    leave(goes_on);
  });
  box->open();
}

void MainWindow::closeEvent(QCloseEvent* e) {
  if (!may_close_ && (session_.changed() || work_left(session_).any)) {
    // Nothing is waited for here: the window closes itself once everything is settled.
    e->ignore();
    when_saved([this] {
      when_work_is_settled([this] {
        may_close_ = true;
        close();
      });
    });
    return;
  }
  session_.stop_playing();
  session_.stop_work();
  e->accept();
}

}  // namespace gc
