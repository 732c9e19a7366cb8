// The main window's file: opening, saving, and what is asked before something would be lost.
#include <QCloseEvent>
#include <QFileDialog>
#include <QFileInfo>
#include <QMenu>
#include <QMessageBox>

#include "app/main_window.h"

namespace gc {

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

void MainWindow::closeEvent(QCloseEvent* e) {
  if (!may_close_ && session_.changed()) {
    // Nothing is waited for here: the window closes itself once what is to be saved is saved.
    e->ignore();
    when_saved([this] {
      may_close_ = true;
      close();
    });
    return;
  }
  session_.stop_playing();
  session_.stop_work();
  e->accept();
}

}  // namespace gc
