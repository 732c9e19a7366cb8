// The main window's menus and keys.
#include <QActionGroup>
#include <QDialog>
#include <QMenuBar>
#include <QTextBrowser>
#include <QVBoxLayout>

#include "app/delivery_panel.h"
#include "app/main_window.h"
#include "app/plan_panel.h"
#include "app/timeline_dialogs.h"

namespace gc {

QAction* MainWindow::add(QMenu* menu, const QString& text, const QList<QKeySequence>& keys,
                         std::function<void()> does) {
  QAction* a = menu->addAction(text);
  a->setShortcuts(keys);
  connect(a, &QAction::triggered, this, [does = std::move(does)] { does(); });
  if (!keys.isEmpty()) {
    QStringList shown;
    for (const QKeySequence& k : keys) shown << k.toString(QKeySequence::NativeText);
    shortcuts_.emplace_back(shown.join(", "), QString(text).remove('&'));
  }
  return a;
}

void MainWindow::make_menus() {
  QMenu* file = menuBar()->addMenu(tr("&File"));
  add(file, tr("&Open timeline…"), {QKeySequence::Open}, [this] { open_dialog(); });
  recent_ = file->addMenu(tr("Open &recent"));
  add(file, tr("&Save"), {QKeySequence::Save}, [this] { save(false); });
  add(file, tr("Save &as…"), {QKeySequence("Ctrl+Shift+S")}, [this] { save(true); });
  file->addSeparator();
  add(file, tr("&Find missing media…"), {}, [this] { ask_where_media_are(this, session_); });
  add(file, tr("Raster and ra&te…"), {}, [this] { ask_raster_and_rate(this, session_); });
  file->addSeparator();
  add(file, tr("&Quit"), {QKeySequence("Ctrl+Q")}, [this] { close(); });
  QMenu* edit = menuBar()->addMenu(tr("&Edit"));
  undo_ = add(edit, tr("&Undo"), {QKeySequence::Undo}, [this] { session_.undo(); });
  redo_ = add(edit, tr("&Redo"), {QKeySequence("Ctrl+Shift+Z")}, [this] { session_.redo(); });
  edit->addSeparator();
  add(edit, tr("&Lift every slip"), {QKeySequence("Shift+B")}, [this] { session_.lift_all(); });
  add(edit, tr("&Judge the segment for the next truth: exact, picture, timing"), {QKeySequence("T")}, [this] {
    const SegmentPtr s = session_.timeline() ? find_segment(*session_.timeline(), segment_) : nullptr;
    if (s) session_.set_truth(segment_, s->truth == Truth::picture ? Truth::exact : s->truth == Truth::exact ? Truth::timing : Truth::picture);
  });
  add(edit, tr("&Bypass the dearest effect, or lift it"), {QKeySequence("B")}, [this] { bypass_dearest(); });
  add(edit, tr("Open or close a composition's &layers"), {QKeySequence("G")},
      [this] { ledger_->open_or_close(); });
  add(edit, tr("&Filter segments"), {QKeySequence("Ctrl+F")}, [this] { ledger_->filter()->setFocus(); });
  QMenu* work = menuBar()->addMenu(tr("&Work"));
  add(work, tr("&Carry out the plan"), {QKeySequence("Return"), QKeySequence("Enter")},
      [this] { session_.carry_out_plan(); });
  add(work, tr("Apply the chosen &remedy"), {QKeySequence("Ctrl+Return"), QKeySequence("Ctrl+Enter")}, [this] { stations_->apply_remedy(); });
  add(work, tr("&Queue the plan for idle time"), {QKeySequence("Shift+Return"), QKeySequence("Shift+Enter")}, [this] { session_.queue_plan(); });
  add(work, tr("Show the q&ueue"), {QKeySequence("Q")}, [this] { show_queue(); });
  add(work, tr("&Deliver and verify…"), {QKeySequence("Ctrl+D")}, [this] {
    go_to(Station::release);
    stations_->delivery()->ask_where();
  });
  add(work, tr("Deliver in idle time, by the queue…"), {QKeySequence("Shift+D")}, [this] {
    go_to(Station::release);
    stations_->delivery()->ask_where(DeliveryPanel::When::queued);
  });
  add(work, tr("Put the gate's chosen thing ri&ght"), {QKeySequence("Shift+R")}, [this] { stations_->delivery()->put_right(); });
  add(work, tr("Put everything that stops the delivery right"), {QKeySequence("Shift+A")}, [this] {
    go_to(Station::release);
    stations_->delivery()->put_all_right();
  });
  add(work, tr("P&in the chosen line of the plan"), {QKeySequence("Shift+P")}, [this] { stations_->plan()->pin(); });
  add(work, tr("F&orbid the chosen line of the plan"), {QKeySequence("Shift+N")}, [this] { stations_->plan()->forbid(); });
  add(work, tr("&Measure again"), {QKeySequence("M")}, [this] { session_.measure_again(); });
  add(work, tr("Measure the &seat, 1 min"), {QKeySequence("Ctrl+M")},
      [this] { session_.measure_seat(false); });
  add(work, tr("Measure the seat in &full, 6 min"), {QKeySequence("Ctrl+Shift+M")},
      [this] { session_.measure_seat(true); });
  add(work, tr("&Stop work or playback"), {QKeySequence("Esc")},
      [this] {
        if (viewer_->shows() != Viewer::Shows::nothing) viewer_->leave();
        else if (session_.playing()) session_.stop_playing();
        else session_.stop_work();
      });
  QMenu* play_menu = menuBar()->addMenu(tr("&Play"));
  add(play_menu, tr("&Play or stop"), {QKeySequence("Space")},
      [this] { session_.playing() ? session_.stop_playing() : play(false); });
  add(play_menu, tr("Play &backwards"), {QKeySequence("J")}, [this] { play(true); });
  add(play_menu, tr("&Stop"), {QKeySequence("K")}, [this] { session_.stop_playing(); });
  add(play_menu, tr("Play &forwards"), {QKeySequence("L")}, [this] { play(false); });
  every_frame_action_ = add(play_menu, tr("Play &every frame, slower"), {QKeySequence("E")},
                            [this] { every_frame_ = every_frame_action_->isChecked(); });
  every_frame_action_->setCheckable(true);
  loop_action_ = add(play_menu, tr("Play in a &loop"), {QKeySequence("R")}, [] {});
  loop_action_->setCheckable(true);
  add(play_menu, tr("Play from &pre-roll to post-roll"), {QKeySequence("A")}, [this] { play_stretch(); });
  play_menu->addSeparator();
  add(play_menu, tr("Mark &in"), {QKeySequence("I")}, [this] { set_mark(true); });
  add(play_menu, tr("Mark &out"), {QKeySequence("O")}, [this] { set_mark(false); });
  add(play_menu, tr("&Clear marks"), {QKeySequence("X")},
      [this] { marks_ = {}, skyline_->set_marks(marks_); });
  add(play_menu, tr("One frame back"), {QKeySequence("Left")}, [this] { step(-1); });
  add(play_menu, tr("One frame on"), {QKeySequence("Right")}, [this] { step(1); });
  add(play_menu, tr("Previous cut"), {QKeySequence("Shift+Left")}, [this] { to_cut(-1); });
  add(play_menu, tr("Next cut"), {QKeySequence("Shift+Right")}, [this] { to_cut(1); });
  add(play_menu, tr("First frame"), {QKeySequence("Home")}, [this] { set_playhead(0, true); });
  make_view_menu();
  QMenu* help = menuBar()->addMenu(tr("&Help"));
  add(help, tr("&Keyboard"), {QKeySequence("F1")}, [this] { show_shortcuts(); });
  // The same keys work where the picture has a screen of its own.
  for (const QMenu* menu : {work, play_menu, view_}) viewer_->addActions(menu->actions());
}

void MainWindow::make_view_menu() {
  QMenu* view = view_ = menuBar()->addMenu(tr("&View"));
  for (int i = 0; i < kStations; ++i)
    add(view, station_name(static_cast<Station>(i)), {QKeySequence(QString::number(i + 1))},
        [this, i] { go_to(static_cast<Station>(i)); });
  view->addSeparator();
  add(view, tr("Picture on the &whole screen; once more: with figures"), {QKeySequence("F")}, [this] { viewer_->next(); });
  one_to_one_ = add(view, tr("There, &pixel for pixel"), {QKeySequence("P")},
                    [this] { viewer_->set_one_to_one(one_to_one_->isChecked()); });
  one_to_one_->setCheckable(true);
  view->addSeparator();
  add(view, tr("Compare the remedy &beside the live picture"), {QKeySequence("C")}, [this] {
    set_compare(picture_->mode() == CompareMode::side_by_side ? CompareMode::off : CompareMode::side_by_side);
  });
  add(view, tr("Compare by a &wipe"), {QKeySequence("W")},
      [this] { set_compare(picture_->mode() == CompareMode::wipe ? CompareMode::off : CompareMode::wipe); });
  add(view, tr("Compare as a &difference"), {QKeySequence("D")}, [this] {
    set_compare(picture_->mode() == CompareMode::difference ? CompareMode::off : CompareMode::difference);
  });
  add(view, tr("Move the wipe left"), {QKeySequence("Ctrl+Left")},
      [this] { picture_->set_wipe(picture_->wipe() - 0.05); });
  add(view, tr("Move the wipe right"), {QKeySequence("Ctrl+Right")},
      [this] { picture_->set_wipe(picture_->wipe() + 0.05); });
  coverage_ = add(view, tr("Show and count &uncovered pixels"), {QKeySequence("U")},
                  [this] { set_coverage(coverage_->isChecked()); });
  coverage_->setCheckable(true);
  add(view, tr("An&gles of the segment side by side…"), {QKeySequence("Shift+G")},
      [this] { when_saved([this] { ask_where_angles_go(this, session_, segment_); }); });
  view->addSeparator();
  add(view, tr("Zoom in"), {QKeySequence("+"), QKeySequence("=")},
      [this] { skyline_->zoom(1.5, skyline_->x_of(static_cast<double>(playhead_))); });
  add(view, tr("Zoom out"), {QKeySequence("-")},
      [this] { skyline_->zoom(1 / 1.5, skyline_->x_of(static_cast<double>(playhead_))); });
  add(view, tr("Whole timeline"), {QKeySequence("0")}, [this] { skyline_->zoom_all(); });
  add(view, tr("Earlier"), {QKeySequence("PgUp")}, [this] { skyline_->pan(-skyline_->width() * 0.8); });
  add(view, tr("Later"), {QKeySequence("PgDown")}, [this] { skyline_->pan(skyline_->width() * 0.8); });
  make_settings_menu(menuBar()->addMenu(tr("&Settings")));
}

void MainWindow::make_settings_menu(QMenu* menu) {
  const auto choice = [&](const QString& title, const char* setting,
                          const QList<QPair<QString, const char*>>& words) {
    QMenu* sub = menu->addMenu(title);
    auto* group = new QActionGroup(sub);
    const Json now = to_json(session_.stores().options.settings);
    for (const auto& [label, word] : words) {
      QAction* a = sub->addAction(label);
      a->setCheckable(true);
      a->setChecked((now[setting].is_string() ? now[setting].get<std::string>() : now[setting].dump()) ==
                    word);
      group->addAction(a);
      connect(a, &QAction::triggered, this, [this, setting, word = word] {
        Settings s = session_.stores().options.settings;
        if (set_setting(s, setting, word)) session_.set_settings(s);
      });
    }
  };
  choice(tr("Playback &scale"), "scale",
         {{tr("Full"), "1"}, {tr("1/2"), "2"}, {tr("1/4"), "4"}, {tr("1/8"), "8"}, {tr("1/16"), "16"}});
  choice(tr("Effects in &playback run on the"), "playback",
         {{tr("Processor"), "processor"}, {tr("Accelerator"), "accelerator"}});
  choice(tr("Effects in &rendering run on the"), "rendering",
         {{tr("Processor"), "processor"}, {tr("Accelerator"), "accelerator"}});
  choice(tr("&Fields of interlaced media"), "fields",
         {{tr("Joined to one picture"), "join"}, {tr("Both seen at once"), "keep"}});
  choice(tr("P&recision in playback"), "precision", {{tr("Full"), "full"}, {tr("Half"), "half"}});
  choice(tr("S&caling in playback"), "scaling", {{tr("Full quality"), "full"}, {tr("Draft"), "draft"}});
}

void MainWindow::show_shortcuts() {
  auto* dialog = new QDialog(this);
  dialog->setObjectName("keyboard");
  dialog->setWindowTitle(tr("Keyboard"));
  dialog->setAttribute(Qt::WA_DeleteOnClose);
  dialog->resize(520, 620);
  auto* list = new QTextBrowser(dialog);
  QString html = "<table cellpadding='4'>";
  for (const auto& [keys, what] : shortcuts_)
    html += QString("<tr><td><b>%1</b></td><td>%2</td></tr>").arg(keys.toHtmlEscaped(), what.toHtmlEscaped());
  html += tr("<tr><td><b>Wheel</b></td><td>Zoom the skyline; with Shift, move along it</td></tr></table>");
  list->setHtml(html);
  auto* box = new QVBoxLayout(dialog);
  box->addWidget(list);
  dialog->open();
}

}  // namespace gc
