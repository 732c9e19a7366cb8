#include "app/main_window.h"

#include <QActionGroup>
#include <QCloseEvent>
#include <QDialog>
#include <QFileDialog>
#include <QFileInfo>
#include <QHBoxLayout>
#include <QInputDialog>
#include <QMenuBar>
#include <QMessageBox>
#include <QShortcut>
#include <QSplitter>
#include <QTextBrowser>
#include <QVBoxLayout>

#include "app/delivery_panel.h"
#include "app/plan_panel.h"
#include "app/queue_window.h"
#include "app/style.h"
#include "app/timeline_dialogs.h"
#include "base/clock.h"
#include "base/timecode.h"

namespace gc {

MainWindow::MainWindow(Session& session) : session_(session) {
  setObjectName("main");
  resize(1280, 800);
  make_layout();
  make_menus();
  connect(&session_, &Session::derived_changed, this, [this] {
    refresh_sentence();
    if (segment_.empty() && session_.derived() && !session_.derived()->plan.remedies.empty())
      choose_segment(session_.derived()->plan.remedies.front().segment);
    if (!session_.playing()) expect_picture(true), session_.show_frame(playhead_);
  });
  connect(&session_, &Session::timeline_changed, this, [this] {
    refresh_sentence();
    refresh_title();
    expect_picture(true);
  });
  connect(&session_, &Session::work_changed, this, [this] { refresh_sentence(); });
  connect(&session_, &Session::media_found, this, [this](const QString& folder, bool mirrored, const RelinkReport& r) { show_media_found(this, session_, folder, mirrored, r); });
  connect(&session_, &Session::remedy_supposed, this, [this](const std::shared_ptr<const Forecast>& then) { skyline_->set_supposed(then); });
  connect(&session_, &Session::queue_changed, this, [this] { show_queue(); });
  new UseTeller(session_, this);
  connect(&session_, &Session::opened, this, [this] {
    segment_.clear();
    marks_ = {};
    skyline_->set_marks(marks_);
    set_playhead(0, true);
    set_figures({});
    refresh_title();
    session_.note_recent(session_.file());
    skyline_->setFocus();
  });
  connect(&session_, &Session::saved, this, [this](int number) {
    refresh_title();
    session_.note_recent(session_.file());
    if (number != after_saving_.first) return;
    if (const auto then = std::exchange(after_saving_, {}).second; then && !session_.changed()) then();
  });
  connect(&session_, &Session::not_saved, this, [this](int number) {
    if (number == after_saving_.first) after_saving_ = {};
  });
  connect(&session_, &Session::changed_outside, this, [this](const QString& f) { changed_outside(f); });
  connect(&session_, &Session::recent_changed, this, [this](const QStringList& f) { show_recent(f); });
  connect(&session_, &Session::recoverable, this,
          [this](const std::vector<RecoveryCopy>& copies) { offer_recovery(copies.front()); });
  connect(&session_, &Session::several, this, [this](const QString& file, const QStringList& timelines) {
    auto* dialog = new QInputDialog(this);
    dialog->setObjectName("several");
    dialog->setAttribute(Qt::WA_DeleteOnClose);
    dialog->setWindowTitle(tr("Several timelines"));
    dialog->setLabelText(tr("%1 holds several timelines. Which one is to be opened?").arg(QFileInfo(file).fileName()));
    QStringList numbered;
    for (int i = 0; i < timelines.size(); ++i) numbered += QString("%1  %2").arg(i + 1).arg(timelines[i]);
    dialog->setComboBoxItems(numbered);
    connect(dialog, &QInputDialog::textValueSelected, this,
            [this, file](const QString& chosen) { session_.open(file, chosen.section(' ', 0, 0)); });
    dialog->open();
  });
  connect(&session_, &Session::failed, this, [this](const QString& message) {
    auto* box = new QMessageBox(QMessageBox::Warning, tr("Glass Clock"), message, QMessageBox::Ok, this);
    box->setObjectName("failure");
    box->setAttribute(Qt::WA_DeleteOnClose);
    box->open();
  });
  connect(&session_, &Session::picture, this,
          [this](const QImage& image, qint64 frame, bool live, StillKind kind) {
            if (!live && frame != playhead_) return;
            picture_->show_picture(image, frame, caption(frame), kind);
            viewer_->show_picture(image);
          });
  connect(&session_, &Session::compared, this, [this](const Comparison& c) {
    if (c.frame == playhead_) picture_->show_comparison(c);
  });
  connect(&session_, &Session::play_moved, this, [this] {
    if (!session_.playing()) return;
    const PlayState s = session_.play_state();
    set_playhead(s.frame, false);
    set_figures({tr("%1 fps").arg(s.rate, 0, 'f', 1), tr("%1 dropped").arg(s.dropped),
                          s.processor > 0 ? tr("processors %1 %, drives %2 MB/s")
                                                .arg(s.processor * 100, 0, 'f', 0)
                                                .arg(s.reads_mb_s, 0, 'f', 0)
                                          : QString()});
  });
  connect(&session_, &Session::play_ended, this, [this] {
    refresh_sentence();
    if (const auto& p = session_.playout())
      set_figures({tr("%1 fps").arg(p->rate_reached, 0, 'f', 1), tr("%1 dropped").arg(p->dropped), {}});
  });
  refresh_sentence();
  refresh_title();
  session_.note_recent({});
}

void MainWindow::make_layout() {
  auto* centre = new QWidget(this);
  setCentralWidget(centre);
  auto* across = new QHBoxLayout(centre);
  across->setContentsMargins(0, 0, 6, 6);
  across->setSpacing(6);

  auto* rail = new QWidget(centre);
  rail->setFixedWidth(104);
  auto* stops = new QVBoxLayout(rail);
  stops->setContentsMargins(0, 8, 0, 0);
  stops->setSpacing(2);
  for (int i = 0; i < kStations; ++i) {
    auto* b = rail_[i] =
        new QPushButton(QString("%1  %2").arg(i + 1).arg(station_name(static_cast<Station>(i))), rail);
    b->setObjectName("station-" + station_name(static_cast<Station>(i)).toLower());
    b->setProperty("rail", true);
    b->setCheckable(true);
    b->setAutoExclusive(true);
    b->setToolTip(tr("Go to %1 (%2)").arg(station_name(static_cast<Station>(i))).arg(i + 1));
    connect(b, &QPushButton::clicked, this, [this, i] { go_to(static_cast<Station>(i)); });
    stops->addWidget(b);
  }
  stops->addStretch(1);
  auto* queue = new QueueLine(session_, rail);
  connect(queue, &QueueLine::clicked, this, [this] { show_queue(); });
  stops->addWidget(queue);
  across->addWidget(rail);

  auto* down = new QVBoxLayout;
  down->setSpacing(6);
  across->addLayout(down, 1);
  skyline_ = new Skyline(session_, centre);
  skyline_->setFixedHeight(220);
  down->addWidget(skyline_);

  // The row is as high as three lines of the answer, whatever it says, so that nothing below it moves.
  auto* row = new QWidget(centre);
  auto* answer = new QHBoxLayout(row);
  answer->setContentsMargins(0, 0, 0, 0);
  row->setFixedHeight(3 * QFontMetrics(look::text_font(17, true)).lineSpacing() + 2);
  sentence_ = new TextBox("sentence", look::text_font(17, true), 3, row);
  work_text_ = new TextBox("work", look::text_font(12), 4, row);
  work_text_->setSizePolicy(QSizePolicy::Fixed, QSizePolicy::Fixed);
  work_text_->setFixedWidth(250);
  progress_ = new QProgressBar(centre);
  progress_->setRange(0, 1000);
  progress_->setFixedWidth(110);
  progress_->setFormat("%p %");
  stop_ = new QPushButton(tr("Stop"), centre);
  stop_->setObjectName("stop");
  stop_->setToolTip(tr("Stop this work; what is finished is kept (Esc)"));
  connect(stop_, &QPushButton::clicked, this, [this] { session_.stop_work(); });
  action_ = new QPushButton(centre);
  action_->setObjectName("carry-out");
  action_->setProperty("main", true);
  connect(action_, &QPushButton::clicked, this, [this] { session_.carry_out_plan(); });
  answer->addWidget(sentence_, 1);
  answer->addWidget(work_text_);
  answer->addWidget(progress_);
  answer->addWidget(stop_);
  answer->addWidget(action_);
  down->addWidget(row);

  auto* halves = new QSplitter(Qt::Horizontal, centre);
  auto* left = left_ = new QSplitter(Qt::Vertical, halves);
  ledger_ = new Ledger(session_, left);
  left->addWidget(ledger_);
  auto* right = right_ = new QSplitter(Qt::Vertical, halves);
  picture_ = new Picture(right);
  auto* below = new QWidget(right);
  auto* stack = new QVBoxLayout(below);
  stack->setContentsMargins(0, 0, 0, 0);
  stack->setSpacing(6);
  balance_ = new Balance(session_, below);
  balance_->setFixedHeight(80);
  stations_ = new Stations(session_, below);
  figures_ = new Figures(below);
  stack->addWidget(figures_);
  stack->addWidget(balance_);
  stack->addWidget(stations_, 1);
  right->addWidget(picture_);
  right->addWidget(below);
  right->setSizes({210, 250});
  right->setChildrenCollapsible(false);
  left->addWidget(stations_->remedies());
  left->setSizes({300, 180});
  left->setChildrenCollapsible(false);
  halves->addWidget(left);
  halves->addWidget(right);
  halves->setSizes({672, 488});
  halves->setStretchFactor(1, 1);
  halves->setChildrenCollapsible(false);
  down->addWidget(halves, 1);

  connect(skyline_, &Skyline::frame_chosen, this, [this](qint64 f) {
    set_playhead(f, true);
    if (!session_.derived()) return;
    if (const CompiledSegment* s = main_segment(*session_.derived()->view.played, f))
      choose_segment(s->segment->id);
  });
  connect(ledger_, &Ledger::segment_chosen, this, [this](const QString& id, qint64 in) {
    choose_segment(id.toStdString());
    set_playhead(in, true);
  });
  connect(stations_, &Stations::frame_chosen, this, [this](qint64 f) {
    set_playhead(f, true);
    if (!session_.derived()) return;
    if (const CompiledSegment* s = main_segment(*session_.derived()->view.played, f))
      choose_segment(s->segment->id);
  });
  viewer_ = new Viewer(this);
  go_to(Station::forecast);
}

void MainWindow::set_figures(const PlayFigures& figures) {
  figures_->set_figures(figures);
  viewer_->set_figures(figures);
  share_room();
}

void MainWindow::expect_picture(bool state_changed) {
  picture_->expect(playhead_, state_changed);
  viewer_->set_waiting(picture_->waiting());
}

void MainWindow::share_room() {
  const auto station = static_cast<Station>(stations_->currentIndex());
  const bool watching = station == Station::playout, seat = station == Station::seat, release = station == Station::release, plan = station == Station::plan;
  // The ledger is there where segments are chosen.
  left_->setVisible(!watching && !seat && !release && !plan);
  stations_->remedies()->setVisible(station == Station::forecast);
  figures_->setVisible(!seat && !release && !plan && (watching || !figures_->figures().empty()));
  const Qt::Orientation way = watching || release ? Qt::Horizontal : Qt::Vertical;
  // A person's own share stays until the room is laid out otherwise.
  const int layout = watching ? 1 : release ? 2 : 3;
  if (right_->property("layout").toInt() == layout) return;
  right_->setProperty("layout", layout);
  // Where one watches, the picture has the room, and what is said of it stands beside it; a delivery is judged by its list.
  right_->setOrientation(way);
  right_->setSizes(watching ? QList<int>{815, 355} : release ? QList<int>{420, 750} : QList<int>{140, 320});
  right_->setStretchFactor(0, watching ? 1 : 0);
  right_->setStretchFactor(1, watching ? 0 : 1);
}

void MainWindow::set_compare(CompareMode mode) {
  picture_->set_mode(mode);
  if (mode != CompareMode::off) set_figures({});
  LookOptions look = session_.look();
  look.compare = mode != CompareMode::off;
  session_.set_look(look);
  if (look.compare) session_.show_frame(playhead_);
}

void MainWindow::set_coverage(bool on) {
  LookOptions look = session_.look();
  look.coverage = on;
  session_.set_look(look);
  if (on) go_to(Station::timeline);
  expect_picture(true);
  session_.show_frame(playhead_);
}

void MainWindow::go_to(Station s) {
  stations_->setCurrentIndex(static_cast<int>(s));
  rail_[static_cast<int>(s)]->setChecked(true);
  // Where one watches, the picture is large; where one works on effects, they have the room.
  picture_->setVisible(s != Station::seat && s != Station::plan);  // a seat is judged by its numbers, a plan by its lines
  // A missed frame is explained by its own stages, a delivery by its list.
  balance_->setVisible(s == Station::timeline || s == Station::forecast);
  skyline_->set_after(s == Station::plan);
  session_.suppose_remedy("");
  share_room();
}

QString MainWindow::caption(Frames frame) const {
  if (!session_.derived()) return {};
  const Derived& d = *session_.derived();
  QString text = QString::fromStdString(timecode_at(*d.view.timeline, frame));
  if (const int scale = d.view.played->options().scale; scale > 1) text += tr("  scale 1/%1").arg(scale);
  if (const CompiledSegment* s = main_segment(*d.view.played, frame))
    text += "  " + QString::fromStdString(s->segment->name);
  if (static_cast<std::size_t>(frame) < d.view.seals.size() &&
      d.view.seals[static_cast<std::size_t>(frame)] == FrameState::sealed)
    text += tr("  sealed");
  else if (static_cast<std::size_t>(frame) < d.view.seals.size() && d.view.seals[static_cast<std::size_t>(frame)] == FrameState::half)
    text += tr("  half sealed");
  return text;
}

void MainWindow::set_playhead(Frames frame, bool seek) {
  const Frames last = session_.derived() ? session_.derived()->view.played->duration() - 1 : 0;
  playhead_ = std::clamp<Frames>(frame, 0, std::max<Frames>(0, last));
  skyline_->set_playhead(playhead_);
  stations_->set_playhead(playhead_);
  if (!seek) return;
  if (session_.playing()) session_.stop_playing();
  else set_figures({});  // figures of a playout do not belong to a still
  expect_picture(false);
  session_.show_frame(playhead_);
}

void MainWindow::choose_segment(const std::string& id) {
  segment_ = id;
  skyline_->set_segment(id);
  ledger_->select(id);
  balance_->set_segment(id);
  stations_->set_segment(id);
}

void MainWindow::refresh_sentence() {
  const Work& w = session_.work();
  const bool busy = w.kind != Work::Kind::none;
  work_text_->setVisible(busy);
  progress_->setVisible(busy);
  stop_->setVisible(w.kind == Work::Kind::measuring || w.kind == Work::Kind::rendering);
  work_text_->set_text(w.text);
  progress_->setValue(static_cast<int>(w.share * 1000));
  const bool plan = session_.current() && !session_.derived()->plan.remedies.empty();
  action_->setVisible(plan && w.kind != Work::Kind::rendering);
  action_->setText(tr("Carry it out  ⏎"));
  QString text;
  if (!session_.has_timeline())
    text = w.kind == Work::Kind::opening ? tr("Opening the timeline.")
                                         : tr("Open a timeline to see where it will drop frames.");
  else if (!session_.current()) text = tr("Working out what the change means.");
  else if (w.kind == Work::Kind::measuring && !session_.derived()->plan.before.fully_measured)
    text = tr("Measuring what frames cost on this seat. The answer comes within seconds.");
  else text = QString::fromStdString(session_.derived()->plan.sentence);
  sentence_->set_text(text);
  undo_->setEnabled(session_.can_undo());
  redo_->setEnabled(session_.can_redo());
  undo_->setText(session_.can_undo() ? tr("&Undo: %1").arg(session_.undo_text()) : tr("&Undo"));
  redo_->setText(session_.can_redo() ? tr("&Redo: %1").arg(session_.redo_text()) : tr("&Redo"));
}

void MainWindow::refresh_title() {
  const QString name =
      session_.has_timeline() ? QString::fromStdString(session_.timeline()->name) : QString();
  setWindowTitle(
      name.isEmpty()
          ? tr("Glass Clock")
          : QString("%1%2 – Glass Clock").arg(name, session_.changed() ? tr(" (changed)") : QString()));
}

void MainWindow::play(bool backwards) {
  if (!session_.current()) return;
  const FrameRange all = whole(session_.derived()->view);
  FrameRange range = marks_.length() > 0 ? marks_ : all;
  if (backwards) range.out = std::clamp<Frames>(playhead_ + 1, range.in + 1, range.out);
  else if (playhead_ > range.in && playhead_ < range.out - 1) range.in = playhead_;
  set_figures({tr("reading ahead"), {}, {}});
  start_playing(range, backwards);
}

void MainWindow::play_stretch() {
  if (!session_.current()) return;
  const Settings& s = session_.stores().options.settings;
  const Timeline& t = *session_.derived()->view.timeline;
  start_playing(around(playhead_, s.preroll_s, s.postroll_s, t.rate, whole(session_.derived()->view).out),
                false);
}

void MainWindow::start_playing(FrameRange range, bool backwards) {
  constexpr int kHours = 200'000;  // frames that a loop goes on for, until it is stopped
  const int passes = loop_action_->isChecked()
                         ? std::max<int>(2, kHours / std::max(1, static_cast<int>(range.length())))
                         : 1;
  session_.play(range, every_frame_ ? PlayMode::every_frame : PlayMode::on_the_clock, backwards, passes);
}

void MainWindow::step(Frames by) { set_playhead(playhead_ + by, true); }

void MainWindow::to_cut(int direction) {
  if (!session_.derived()) return;
  Frames best = direction < 0 ? 0 : session_.derived()->view.played->duration() - 1;
  for (const CompiledInterval& i : session_.derived()->view.played->intervals()) {
    if (direction < 0 && i.in < playhead_) best = std::max(best, i.in);
    if (direction > 0 && i.in > playhead_) best = std::min(best, i.in);
  }
  set_playhead(best, true);
}

void MainWindow::set_mark(bool in) {
  if (!session_.derived()) return;
  const Frames end = session_.derived()->view.played->duration();
  if (marks_.length() <= 0) marks_ = {0, end};
  if (in) marks_.in = playhead_;
  else marks_.out = playhead_ + 1;
  if (marks_.length() <= 0) marks_ = in ? FrameRange{playhead_, end} : FrameRange{0, playhead_ + 1};
  skyline_->set_marks(marks_);
}

void MainWindow::bypass_dearest() {
  if (!session_.current()) return;
  const Timeline& t = *session_.timeline();
  const SegmentPtr s = find_segment(t, segment_);
  if (!s) return;
  for (const Effect& e : s->stack)
    if (bypassed(t, s->id, e.id)) {
      session_.edit(with_bypass(t, s->id, e.id, false, now_utc()), tr("Lift the bypass"));
      return;
    }
  if (const Owner* dearest = session_.derived()->dearest_effect(s->id))
    session_.edit(with_bypass(t, s->id, dearest->effect, true, now_utc()),
                  tr("Bypass %1").arg(QString::fromStdString(dearest->label)));
}

void MainWindow::show_queue() {
  if (!queue_) queue_ = new QueueWindow(session_, this);
  session_.look_at_queue();
  queue_->show();
  queue_->raise();
}

}  // namespace gc
