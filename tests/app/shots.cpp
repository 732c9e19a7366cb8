// Makes the screenshots in docs/screenshots from the demo production: the real window, worked as a person
// would.
#include <QApplication>
#include <QElapsedTimer>
#include <QPainter>
#include <QSettings>
#include <QTest>
#include <cstdio>
#include <filesystem>

#include "app/application.h"
#include "app/main_window.h"
#include "app/queue_window.h"
#include "app/style.h"
#include "demo/demo.h"
#include "desk/angles.h"

using namespace gc;

namespace {

bool wait_until(const std::function<bool()>& done, int ms) {
  QElapsedTimer t;
  t.start();
  while (!done()) {
    if (t.elapsed() > ms) return false;
    QTest::qWait(30);
  }
  return true;
}

void shoot(MainWindow& w, const QString& folder, const QString& name) {
  QTest::qWait(250);
  const QString file = folder + "/" + name + ".png";
  w.grab().save(file);
  std::printf("%s\n", file.toUtf8().constData());
  std::fflush(stdout);
}

/// Every effect's frame of the effects reel on one sheet, each with its name.
bool contact_sheet(const fs::path& reel, const QString& folder) {
  auto timeline = load_timeline(reel);
  if (!timeline) return false;
  MediaCatalog media;
  RenderOptions o;
  o.rendering = true;
  const ProgramPtr program = Program::compile(*timeline, media, o);
  struct Cell {
    QString name;
    Frames frame;
  };
  std::vector<Cell> cells;
  for (const auto& s : program->segments()) {
    const std::string& id = s->segment->id;
    if (id.starts_with("under-") || id.starts_with("matte-") || id.ends_with("-from")) continue;
    const bool meets = id.ends_with("-to");
    cells.push_back(
        {QString::fromStdString(meets ? id.substr(0, id.size() - 3) + " (transition)" : s->segment->name),
         meets ? s->in : s->in + 14});
  }
  std::sort(cells.begin(), cells.end(), [](const Cell& a, const Cell& b) { return a.frame < b.frame; });
  constexpr int kAcross = 6, kWide = 256, kHigh = 144, kText = 24, kGap = 6;
  const int rows = (static_cast<int>(cells.size()) + kAcross - 1) / kAcross;
  QImage sheet(kAcross * (kWide + kGap) + kGap, rows * (kHigh + kText + kGap) + kGap, QImage::Format_RGB32);
  sheet.fill(qRgb(30, 30, 30));
  QPainter p(&sheet);
  p.setRenderHint(QPainter::SmoothPixmapTransform);
  p.setFont(look::text_font(14));
  Decoders decoders;
  int n = 0;
  for (const Cell& c : cells) {
    StageLog log;
    ScreenImage screen;
    to_screen(render_frame(*program, c.frame, nullptr, decoders, log), screen);
    const QImage image(screen.bgra.data(), screen.width, screen.height, QImage::Format_RGB32);
    const int x = kGap + n % kAcross * (kWide + kGap), y = kGap + n / kAcross * (kHigh + kText + kGap);
    p.drawImage(QRect(x, y, kWide, kHigh),
                image.scaled(kWide, kHigh, Qt::IgnoreAspectRatio, Qt::SmoothTransformation));
    p.setPen(look::grey(look::kText));
    p.drawText(QRect(x, y + kHigh, kWide, kText), Qt::AlignVCenter | Qt::AlignLeft, c.name);
    ++n;
  }
  p.end();
  const QString file = folder + "/effects.png";
  std::printf("%s\n", file.toUtf8().constData());
  return sheet.save(file);
}

/// Four cameras of one moment side by side: what it takes to watch them so.
void angles_of_a_moment(MainWindow& w, Session& session, const fs::path& work, const QString& folder) {
  const Timeline& cut = *session.timeline();
  for (const auto& s : session.derived()->view.played->segments()) {
    if (s->content != Content::source || s->segment->duration < 30) continue;
    Segment moment = *s->segment;
    moment.angles = {{"A", moment.ref}}, moment.angle = "A";
    for (const auto& [id, m] : cut.sources)
      if (id != moment.ref && moment.angles.size() < 4 && m->length > moment.source_in + moment.duration) moment.angles[std::string(1, static_cast<char>('A' + moment.angles.size()))] = id;
    const TimelinePtr with = with_segment(cut, std::make_shared<Segment>(moment));
    const fs::path file = work / "a-moment-angles.otio";
    std::error_code e;
    fs::remove(file, e);
    if (auto r = write_angles(*with, moment.id, file); !r) {
      std::printf("%s\n", r.error().text().c_str());
      return;
    }
    session.open(QString::fromStdString(file.string()));
    wait_until([&] { return session.timeline() && session.timeline()->tracks.size() == 4; }, 20000);
    wait_until([&] { return session.work().kind == Work::Kind::none && session.current(); }, 120000);
    w.go_to(Station::forecast);
    QTest::qWait(800);
    return shoot(w, folder, "3c-angles");
  }
}

/// Jobs of made-up timelines: done, failed, at work, waiting and paused.
void queue_in_every_state(MainWindow& w, Session& session, const QString& folder) {
  auto journal = Journal::open();
  if (!journal) return;
  const std::string me = own_process();
  const auto add = [&](const char* timeline, const char* remedy, const char* what, Frames frames, double seconds) {
    Job j;
    j.timeline = timeline, j.file = std::string("/volumes/") + timeline + ".otio", j.remedy = remedy, j.what = what;
    j.price = {frames, seconds, seconds}, j.bytes = 40'000'000;
    return journal->add(j).value_or(0);
  };
  const std::int64_t done = add("The Kiln Year", "bake:shelf", "Shelf of bowls", 96, 8);
  (void)journal->take(me), (void)journal->progress(done, 96), (void)journal->end(done, JobState::done, "", 7.4);
  const std::int64_t failed = add("Ash Glaze, teaser", "render:120-240", "Title over smoke", 120, 31);
  (void)journal->take(me), (void)journal->progress(failed, 48);
  (void)journal->end(failed, JobState::failed, "The volume is full: 3.1 GB short. Free some space; the two pieces before are kept.", 12);
  const std::int64_t working = add("The Kiln Year", "tap:firing:1", "Firing, long watch", 96, 140);
  add("The Kiln Year", "render:552-620", "Dust, slow haze", 68, 90);
  const std::int64_t paused = add("Ash Glaze, teaser", "mezzanine:rain", "rain-window.mp4", 480, 60);
  (void)journal->pause(paused, true);
  (void)journal->take(me), (void)journal->progress(working, 31);
  // Where no window manager does it, keys would go nowhere.
  w.activateWindow();
  w.setFocus();
  QTest::qWait(200);
  QTest::keyClick(&w, Qt::Key_Q);
  auto* queue = w.findChild<QueueWindow*>("queue");
  wait_until([&] { return queue && queue->table()->rowCount() >= 5; }, 10000);
  QTest::qWait(300);
  const QString file = folder + "/4d-queue.png";
  std::printf("%s\n", file.toUtf8().constData());
  if (queue) queue->grab().save(file), queue->close();
  w.activateWindow();
  QTest::qWait(200);
  for (const Job& j : journal->jobs()) (void)journal->cancel(j.id);
  session.look_at_queue();
}

}  // namespace

int main(int argc, char** argv) {
  if (!qEnvironmentVariableIsSet("QT_QPA_PLATFORM")) qputenv("QT_QPA_PLATFORM", "offscreen");
  Application app(argc, argv);
  QApplication::setOrganizationName("glass-clock");
  QApplication::setApplicationName("glass-clock-shots");
  look::apply(app);
  const QString folder = argc > 1 ? argv[1] : "docs/screenshots";
  const double length = argc > 2 ? std::atof(argv[2]) : 1.0;
  fs::create_directories(folder.toStdString());
  const fs::path work = cache_folder() / "shots";
  DemoOptions demo;
  demo.length = length;
  auto made = make_demo(work, demo, [](double, const std::string&) {});
  if (!made) {
    std::fprintf(stderr, "%s\n", made.error().text().c_str());
    return 4;
  }
  if (!contact_sheet(made->reel, folder)) return 4;
  if (argc > 3) return 0;  // the sheet alone
  // As when it is opened for the first time: nothing of it is rendered.
  const auto shelf = ScratchFolder::make(work, "shelf-");
  if (!shelf) return 4;
  DeskOptions options;
  options.shelf = shelf->path(), options.notebook = work / "notebook.sqlite";
  auto stores = Stores::open(options);
  if (!stores) return 4;
  // The demo's slow drive was seen before, so that measuring the seat looks at it again.
  SeatProfile seen = known_profile(*stores);
  seen.volumes = {VolumeSpeed{}};
  seen.volumes[0].folder = (work / "slow-drive").string();
  (void)keep_profile(seen);
  Session session(*stores);
  MainWindow w(session);
  QObject::connect(&session, &Session::failed,
                   [](const QString& why) { std::fprintf(stderr, "%s\n", why.toUtf8().constData()); });
  w.show();
  session.open(QString::fromStdString(made->timeline.string()));
  if (!wait_until([&] { return session.has_timeline(); }, 20000)) return 4;
  wait_until([&] { return session.work().kind == Work::Kind::measuring; }, 1500);
  wait_until([&] { return session.work().kind == Work::Kind::none && session.current(); }, 90000);
  wait_until(
      [&] {
        return session.derived() && session.derived()->plan.before.fully_measured &&
               session.derived()->plan.remedies.size() > 0;
      },
      20000);
  auto* skyline = w.findChild<Skyline*>("skyline");
  auto* ledger = w.findChild<Ledger*>();
  ledger->table()->setFocus();
  ledger->table()->setCurrentIndex(ledger->table()->model()->index(0, 0));
  w.go_to(Station::forecast);
  // What would help takes a crowded seat a while.
  auto* stations = w.findChild<Stations*>();
  wait_until([&] { return stations->remedies()->rowCount() > 0; }, 60000);
  shoot(w, folder, "3-forecast");
  // A span that does not hold, and what would help.
  QTableWidget* spans = stations->panel(Station::forecast)->table();
  const Span* spilling = nullptr;
  for (const Span& s : session.derived()->plan.before.spans)
    if (!spilling || s.expected_drops > spilling->expected_drops) spilling = &s;
  for (int row = 0; row < spans->rowCount(); ++row)
    if (spans->item(row, 0)->data(Qt::UserRole).toLongLong() == spilling->in) spans->setCurrentCell(row, 0);
  wait_until([&] { return stations->remedies()->rowCount() > 0; }, 60000);
  // One is looked at: the skyline shows what it would leave.
  stations->remedies()->setFocus();
  stations->remedies()->setCurrentCell(1, 0);
  wait_until([&] { return skyline->supposed() != nullptr; }, 20000);
  QTest::qWait(300);
  shoot(w, folder, "3b-remedies");
  skyline->setFocus();
  // The seat as it is after a minute of measuring, with this timeline open.
  session.measure_seat(false);
  wait_until([&] { return session.work().kind == Work::Kind::measuring; }, 5000);
  wait_until([&] { return session.work().kind == Work::Kind::none && session.current(); }, 90000);
  w.go_to(Station::seat);
  wait_until([&] { return session.advice() != nullptr; }, 20000);
  shoot(w, folder, "1-seat");
  w.findChild<SeatPanel*>()->show_page(SeatPanel::Page::media);
  shoot(w, folder, "1b-seat-media");
  w.findChild<SeatPanel*>()->show_page(SeatPanel::Page::advice);
  w.go_to(Station::timeline);
  shoot(w, folder, "2-timeline");
  w.go_to(Station::plan);
  // With a review a quarter of an hour from now.
  const std::int64_t now = session.derived()->plan.made_at;
  Wishes review;
  review.by = clock_text(now + 900, now).substr(clock_text(now + 900, now).find_last_of(' ') + 1);
  session.set_wishes(review);
  wait_until([&] { return session.current() && session.derived()->plan.review_at; }, 30000);
  stations->panel(Station::plan)->table()->selectRow(0);
  QTest::qWait(300);
  shoot(w, folder, "4-plan");
  queue_in_every_state(w, session, folder);
  // The worst span, played as it is: its first missed frames.
  const Span* worst = nullptr;
  for (const Span& s : session.derived()->plan.before.spans)
    if (!worst || s.expected_drops > worst->expected_drops) worst = &s;
  session.play({std::max<Frames>(0, worst->in - 24), worst->out}, PlayMode::on_the_clock);
  wait_until([&] { return !session.playing() && session.playout(); }, 30000);
  w.go_to(Station::playout);
  QTest::qWait(300);
  shoot(w, folder, "5c-missed");
  w.go_to(Station::plan);
  // What was just played is learnt from first.
  wait_until([&] { return session.current() && session.work().kind == Work::Kind::none; }, 60000);
  skyline->setFocus();
  QTest::keyClick(&w, Qt::Key_Return);
  wait_until([&] { return session.work().kind == Work::Kind::rendering && session.work().share > 0.3; },
             120000);
  shoot(w, folder, "4c-running");
  session.set_wishes({});
  wait_until([&] { return session.work().kind == Work::Kind::none && session.current(); }, 300000);
  QTest::qWait(800);
  w.go_to(Station::playout);
  w.set_playhead(0, true);
  skyline->setFocus();
  QTest::keyClick(&w, Qt::Key_Space);
  wait_until([&] { return session.playing(); }, 5000);
  QTest::qWait(6000);
  shoot(w, folder, "5-playing");
  wait_until([&] { return !session.playing(); }, 200000);
  shoot(w, folder, "5b-playout");
  // A changed grade breaks its own seal.
  const std::string changed = session.derived()->view.timeline ? [&] {
    for (const auto& s : session.derived()->view.played->segments())
      for (const Effect& e : s->segment->stack)
        if (e.type == "cdl" && session.derived()->view.seals[static_cast<std::size_t>(s->in)] == FrameState::sealed) return s->segment->id + "|" + e.id;
    return std::string();
  }() : std::string();
  if (const auto bar = changed.find('|'); bar != std::string::npos) {
    session.edit(
        with_param(*session.timeline(), changed.substr(0, bar), changed.substr(bar + 1), "saturation", 1.3),
        "Change saturation");
    wait_until([&] { return session.current() && session.work().kind == Work::Kind::none; }, 60000);
    ledger->select(changed.substr(0, bar));
  }
  // Delivered from what is rendered and what is not, and read back.
  w.go_to(Station::release);
  wait_until([&] { return session.current() && session.gate_is_whole(); }, 120000);
  std::vector<GateItem> to_accept;
  for (const GateItem& i : session.gate().items)
    if (i.stops && !i.item.empty()) to_accept.push_back(i);
  if (!to_accept.empty()) session.accept(to_accept, "Ines Tal", "seen in the screening room");
  wait_until([&] { return session.current() && session.gate_is_whole(); }, 120000);
  std::error_code gone;
  fs::remove_all(work / "delivered", gone);
  session.deliver(QString::fromStdString((work / "delivered" / "the-kiln-year.mov").string()), "vc3-hqx");
  wait_until([&] { return session.delivery_said().startsWith("Delivered"); }, 300000);
  wait_until([&] { return session.work().kind == Work::Kind::none && session.current(); }, 60000);
  w.go_to(Station::seat);
  w.findChild<SeatPanel*>()->show_page(SeatPanel::Page::shelf);
  wait_until([&] { return session.shelf() != nullptr; }, 20000);
  w.findChild<SeatPanel*>()->shelf()->table()->selectRow(0);
  QTest::qWait(300);
  shoot(w, folder, "1e-seat-shelf");
  w.findChild<SeatPanel*>()->show_page(SeatPanel::Page::advice);
  // And a bypass, which the gate will not let pass.
  QTest::keyClick(&w, Qt::Key_B);
  wait_until([&] { return session.current(); }, 60000);
  w.go_to(Station::release);
  wait_until([&] { return session.current() && session.gate_is_whole(); }, 120000);
  shoot(w, folder, "6-release");
  // What the bypass hides, held against the live picture.
  auto* picture = w.findChild<Picture*>("picture");
  w.go_to(Station::playout);
  for (const auto& s : session.derived()->view.played->segments())
    if (!s->segment->stack.empty() &&
        bypassed(*session.timeline(), s->segment->id, s->segment->stack.front().id))
      emit skyline->frame_chosen(s->in + 20);
  skyline->setFocus();
  QTest::keyClick(&w, Qt::Key_W);
  wait_until([&] { return picture->comparison().frame == w.playhead(); }, 20000);
  shoot(w, folder, "7-compare");
  QTest::keyClick(&w, Qt::Key_W);
  angles_of_a_moment(w, session, work, folder);
  // The reel: an unseen span, and a sliver that nothing covers.
  session.open(QString::fromStdString(made->reel.string()));
  wait_until([&] { return session.timeline() && session.timeline()->name.find("reel") != std::string::npos; },
             20000);
  wait_until([&] { return session.work().kind == Work::Kind::none && session.current(); }, 120000);
  const auto at = [&](const std::string& id) -> Frames {
    for (const auto& s : session.derived()->view.played->segments())
      if (s->segment->id == id) return s->in + 12;
    return 0;
  };
  ledger->select("slow-flow");
  emit skyline->frame_chosen(at("slow-flow"));
  w.go_to(Station::forecast);
  wait_until([&] { return picture->kind() == StillKind::unseen; }, 20000);
  shoot(w, folder, "8-unseen");
  emit skyline->frame_chosen(at("fx-secondary"));
  w.go_to(Station::timeline);
  wait_until([&] { return !picture->waiting() && picture->kind() == StillKind::sharp; }, 20000);
  shoot(w, folder, "2b-effects");
  emit skyline->frame_chosen(at("sliver"));
  QTest::keyClick(&w, Qt::Key_U);
  wait_until([&] { return !session.uncovered().empty(); }, 60000);
  wait_until([&] { return !picture->waiting() && picture->kind() == StillKind::sharp; }, 20000);
  shoot(w, folder, "9-uncovered");
  return 0;
}
