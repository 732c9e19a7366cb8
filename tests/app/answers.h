// How soon the interface thread answers while everything goes on at once on a drive that takes 300 ms for each
// access. For the window's tests and for the bench.
#pragma once
#include <QThread>

#include "base/slow_volume.h"
#include "media/synthetic.h"
#include "media/writer.h"
#include "window_fixture.h"

namespace gc {

struct Answers {
  int count = 0, over_50 = 0;
  double longest_ms = 0;
  double lost_ms = 0;             ///< what answers took beyond a tenth of a second, all together
  double longest_blocked_ms = 0;  ///< of one answer, standing still

  void add(const std::vector<Watchdog::Answer>& answers) {
    for (const auto& a : answers) {
      ++count, over_50 += a.ms > 50;
      longest_ms = std::max(longest_ms, a.ms), lost_ms += std::max(0.0, a.ms - 100);
      longest_blocked_ms = std::max(longest_blocked_ms, a.blocked_ms);
    }
  }
};

/// A thread with an event loop and nothing to do. How soon it answers in the same minute is the machine's part of the
/// waiting: other programs, and the work in the background.
class IdleLoop {
 public:
  IdleLoop() {
    object_.moveToThread(&thread_);
    thread_.start();
  }
  ~IdleLoop() {
    thread_.quit();
    thread_.wait();
  }
  QObject* object() { return &object_; }

 private:
  QThread thread_;
  QObject object_;
};

struct BusyAnswers {
  Answers window, idle;
};

/// A short timeline with its media, its shelf and itself on the slow drive.
inline fs::path on_a_slow_drive(const fs::path& folder, double latency_ms) {
  fs::create_directories(folder);
  auto w = MovieWriter::create((folder / "m.mov").string(), Form::motion_jpeg, 320, 180, {24, 1});
  EXPECT_TRUE(w);
  for (Frames i = 0; i < 24; ++i) EXPECT_TRUE((*w)->write(synthetic_frame("hands", i, 320, 180, 7, 0)));
  EXPECT_TRUE((*w)->finish());
  auto t = std::make_shared<Timeline>();
  t->name = "On a slow drive", t->width = 320, t->height = 180, t->folder = folder.string();
  auto m = std::make_shared<MediaSource>();
  m->id = "m", m->path = (folder / "m.mov").string(), m->url = "m.mov", m->name = "m", m->length = 24;
  t->sources["m"] = m;
  auto track = std::make_shared<Track>();
  track->id = "V1";
  for (int i = 0; i < 6; ++i) {
    auto s = std::make_shared<Segment>();
    s->id = s->name = "s" + std::to_string(i), s->duration = 36;
    if (i == 0) s->ref = "m", s->duration = 24;
    else s->content = Content::generator, s->ref = "solid", s->generator = {{"colour", {0.1 * i, 0.3, 0.2}}};
    s->stack = {Effect{s->id + "-grade", "cdl", {{"saturation", 1.1}}, true, true, {}, {}}};
    if (i % 2) s->stack.push_back(Effect{s->id + "-stated", "cost_card", {{"name", "stated"}, {"ms", 160}, {"width", 320}, {"height", 180}}, true, true, {}, {}});
    track->items.push_back(SegmentPtr(s));
  }
  t->tracks = {track};
  EXPECT_TRUE(save_timeline(*t, folder / "cut.otio"));
  EXPECT_TRUE(make_slow_volume(folder, {200, 200, latency_ms, 0, 0}));
  return folder / "cut.otio";
}

/// Opens, measures, edits, seeks, filters, saves, renders, undoes and closes, several of them at once. `said` gets a
/// sentence for everything that did not come about.
inline BusyAnswers answers_when_busy(const fs::path& folder, std::vector<std::string>& said) {
  const fs::path file = on_a_slow_drive(folder / "drive", 300);
  BusyAnswers answers;
  DeskOptions o;
  o.shelf = file.parent_path() / "shelf", o.notebook = folder / "notebook.sqlite";
  auto stores = Stores::open(o);
  if (!stores) return said.push_back(stores.error().text()), answers;
  Session session(*stores);
  MainWindow window(session);
  window.ask_unsaved = [] { return QMessageBox::Save; };
  window.show();
  const auto until = [&](const char* what, const std::function<bool()>& done, int ms) {
    if (!wait_for(done, ms)) said.push_back(std::string("did not come about: ") + what);
  };
  IdleLoop loop;
  {
    Watchdog dog(&session), idle(loop.object());
    const auto grade = [&](double saturation) {
      if (session.has_timeline())
        session.edit(with_param(*session.timeline(), "s2", "s2-grade", "saturation", saturation), "Grade");
    };
    session.open(QString::fromStdString(file.string()));
    until("opening", [&] { return session.has_timeline(); }, 60000);
    until("measuring", [&] { return session.work().kind == Work::Kind::measuring; }, 60000);
    // While it measures: edits, a save, seeks, a filter.
    for (int i = 0; i < 8; ++i) {
      grade(1.2 + 0.01 * i);
      window.set_playhead(7 * i, true);
      QTest::keyClick(&window, i % 2 ? Qt::Key_F : Qt::Key_3, i % 2 ? Qt::ControlModifier : Qt::NoModifier);
      QTest::keyClicks(window.findChild<Ledger*>()->filter(), "s");
      if (i % 3 == 0) session.save(session.file());
      QTest::qWait(120);
    }
    window.findChild<Ledger*>()->filter()->clear();
    until("measured", [&] { return session.current() && session.work().kind == Work::Kind::none && session.derived()->plan.before.fully_measured; }, 90000);
    until("a plan", [&] { return session.current() && !session.derived()->plan.remedies.empty(); }, 60000);
    session.carry_out_plan();
    until("rendering", [&] { return session.work().kind == Work::Kind::rendering; }, 60000);
    for (int i = 0; i < 6; ++i) {
      window.go_to(static_cast<Station>(i % kStations));
      session.undo();
      window.set_playhead(11 * i, true);
      grade(1.4 + 0.01 * i);
      session.save(session.file());
      QTest::qWait(250);
    }
    session.stop_work();
    session.play({0, 48}, PlayMode::on_the_clock);
    QTest::qWait(1500);
    session.stop_playing();
    until("the end of playing", [&] { return !session.playing(); }, 60000);
    grade(1.9);
    window.close();  // saves first
    until("closing", [&] { return !window.isVisible(); }, 60000);
    answers.window.add(dog.take()), answers.idle.add(idle.take());
  }
  const auto saved = load_timeline(file);
  const SegmentPtr s = saved ? find_segment(**saved, "s2") : nullptr;
  if (!s || s->stack[0].params["saturation"] != 1.9) said.push_back("the last edit was not saved");
  return answers;
}

}  // namespace gc
