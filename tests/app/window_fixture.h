// The window on a timeline whose costs are stated, for tests that drive it with mouse and keys.
//
// The timeline is the demo's, with each heavy segment's effects replaced by one that takes a stated time of every
// frame, whatever the machine. So it is known which segments spill, by how much, and that the others hold with a
// wide margin: the light ones are 640 × 360 and take a tenth of what is there.
#pragma once
#include <gmock/gmock.h>
#include <gtest/gtest.h>
#include <sys/syscall.h>
#include <unistd.h>

#include <QApplication>
#include <QElapsedTimer>
#include <QMessageBox>
#include <QTemporaryDir>
#include <QTest>
#include <atomic>
#include <fstream>
#include <sstream>
#include <thread>

#include "app/main_window.h"
#include "base/clock.h"
#include "demo/demo.h"

namespace gc {

/// Whether a thread of this program stands still in the kernel (proc(5), syscall): for a lock, a drive, another thread. One
/// that works or waits for a processor does not, nor one that waits for events, as of the display. -1 is a page being read in.
inline bool stands_still(long thread) {
  std::ifstream in("/proc/self/task/" + std::to_string(thread) + "/syscall");
  long call = 0;
  if (!(in >> call)) return false;  // "running"
  return call != -1 && call != SYS_ppoll && call != SYS_epoll_pwait
#ifdef SYS_poll
         && call != SYS_poll && call != SYS_epoll_wait
#endif
      ;
}

/// Asks the interface thread for an answer again and again, from a thread of its own.
class Watchdog {
 public:
  struct Answer {
    double ms = 0;         ///< wall time
    double blocked_ms = 0; ///< of it, standing still, as it was seen every millisecond. Where the watchdog itself was held up
                           ///< it has seen only the ends of that time: no more than two milliseconds count.
  };
  explicit Watchdog(QObject* answers) : answers_(answers), thread_([this] { run(); }) {}
  ~Watchdog() {
    quit_ = true;
    thread_.join();
  }
  /// How often it has looked whether the interface thread stands still.
  int looks() const { return looks_; }
  /// Answers since the last call.
  std::vector<Answer> take() {
    const std::lock_guard lock(mutex_);
    return std::exchange(said_, {});
  }

 private:
  struct Asked {
    std::atomic<long> thread{0};  ///< who answered
    std::atomic<double> at_ms{0};
    std::atomic<bool> answered{false};
  };

  void run() {
    long answering = 0;
    while (!quit_) {
      // Kept alive by the answer, which may come after the watchdog has gone.
      const auto asked = std::make_shared<Asked>();
      const double began = now_ms();
      const auto answer = [asked] {
        asked->thread = ::syscall(SYS_gettid);
        // By its own clock: this thread may be held up before it looks.
        asked->at_ms = now_ms();
        asked->answered = true;
      };
      QMetaObject::invokeMethod(answers_, answer, Qt::QueuedConnection);
      double blocked = 0;
      for (double looked = began; !asked->answered && !quit_;) {
        std::this_thread::sleep_for(std::chrono::milliseconds(1));
        // The first answer only tells whom to look at.
        const bool still = answering && stands_still(answering);
        const double now = now_ms();
        ++looks_;
        if (still && !asked->answered) blocked += std::min(now - looked, 2.0);
        looked = now;
      }
      if (asked->answered) {
        answering = asked->thread;
        const std::lock_guard lock(mutex_);
        said_.push_back({asked->at_ms - began, blocked});
      }
      std::this_thread::sleep_for(std::chrono::milliseconds(2));
    }
  }

  QObject* answers_;
  std::atomic<int> looks_{0};
  std::mutex mutex_;
  std::vector<Answer> said_;
  std::atomic<bool> quit_{false};
  std::thread thread_;
};

/// Whether it happens in time. No test says how fast: a minute is for what never happens.
inline bool wait_for(const std::function<bool()>& done, int ms = 60000) {
  QElapsedTimer t;
  t.start();
  while (!done()) {
    if (t.elapsed() > ms) return false;
    QTest::qWait(20);
  }
  return true;
}

/// The segment that takes most.
inline constexpr const char* kHeaviest = "ky-09";
inline bool stated_heavy(const std::string& id) {
  return std::any_of(std::begin(kStated), std::end(kStated), [&](const StatedCost& s) { return id == s.segment; });
}

struct StatedTimeline {
  fs::path folder, file;
};

/// Made once for all tests of this program.
inline const StatedTimeline& stated() {
  static QTemporaryDir dir;
  static const StatedTimeline made = [] {
    DemoOptions o;
    // Two seconds of a heavy segment are more than the read-ahead carries.
    o.width = 640, o.height = 360, o.length = 0.5, o.stated = true;
    auto demo = make_demo(dir.path().toStdString(), o, {});
    EXPECT_TRUE(demo) << (demo ? "" : demo.error().text());
    return StatedTimeline{dir.path().toStdString(), demo ? demo->timeline : fs::path()};
  }();
  return made;
}

class TheWindow : public testing::Test {
 protected:
  void SetUp() override {
    ASSERT_TRUE(fs::exists(stated().file)) << "the timeline could not be made";
    const std::string name = testing::UnitTest::GetInstance()->current_test_info()->name();
    start(stated().file, stated().folder / ("shelf-" + name));
  }
  /// Opens a timeline in a window of its own.
  void start(const fs::path& file, const fs::path& shelf) {
    DeskOptions o;
    o.shelf = shelf;
    o.notebook = stated().folder / "notebook.sqlite";
    o.measure_seconds = 5;  // what is heavy is stated
    auto stores = Stores::open(o);
    ASSERT_TRUE(stores) << stores.error().text();
    // Errors would be message boxes that nobody closes.
    session = std::make_unique<Session>(*stores);
    window = std::make_unique<MainWindow>(*session);
    window->ask_unsaved = [] { return QMessageBox::Discard; };
    window->show();
    ASSERT_TRUE(QTest::qWaitForWindowExposed(window.get()));
    window->activateWindow();
    session->open(QString::fromStdString(file.string()));
    ASSERT_TRUE(wait_for([&] { return session->has_timeline(); }));
    ASSERT_TRUE(settled(120000));
    skyline = window->findChild<Skyline*>("skyline");
    ASSERT_TRUE(skyline);
    skyline->setFocus();
  }
  /// Until everything that follows from the present timeline is there and nothing runs.
  bool settled(int ms = 90000) {
    return wait_for(
        [&] {
          return session->current() && session->work().kind == Work::Kind::none &&
                 session->derived()->plan.before.fully_measured;
        },
        ms);
  }
  /// Plays, and waits until it is over. False when it never began or does not end.
  bool played(FrameRange range, PlayMode mode = PlayMode::on_the_clock) {
    session->play(range, mode);
    return session->playing() && wait_for([&] { return !session->playing(); }, 120000);
  }
  FrameRange frames_of(const std::string& id) {
    for (const auto& s : session->derived()->view.played->segments())
      if (s->segment->id == id) return {s->in, s->out};
    return {};
  }
  Frames main_in(const std::string& id) { return frames_of(id).in; }
  /// The plan's remedies with why each is in it, for what a failed test says.
  std::vector<std::string> remedies() {
    std::vector<std::string> all;
    for (const Remedy& r : session->derived()->plan.remedies) all.push_back(r.id + ": " + r.reason);
    return all;
  }
  QPushButton* button(const QString& name) { return window->findChild<QPushButton*>(name); }
  QPushButton* button(const char* name) { return window->findChild<QPushButton*>(name); }
  void key(Qt::Key k, Qt::KeyboardModifiers m = Qt::NoModifier) { QTest::keyClick(window.get(), k, m); }
  QString sentence() { return window->findChild<QLabel*>("sentence")->text(); }
  int in_state(FrameState s) {
    return static_cast<int>(session->derived()->view.seals.count(s));
  }
  int sealed() { return in_state(FrameState::sealed); }
  int broken() { return in_state(FrameState::broken); }
  /// Drops of the timeline itself among these frames of the last playout.
  Frames own_drops(FrameRange frames) {
    return std::ranges::count_if(session->playout()->log, [&](const FrameLog& l) {
      return l.dropped && l.cause != Cause::outside && l.frame >= frames.in && l.frame < frames.out;
    });
  }

  /// All drops among them, whoever caused them: on a busy machine others are named for what would drop anyway.
  Frames drops(FrameRange frames) {
    return std::ranges::count_if(session->playout()->log, [&](const FrameLog& l) {
      return l.dropped && l.frame >= frames.in && l.frame < frames.out;
    });
  }
  /// The first sealed frame of a segment whose cost is stated; −1: none yet.
  Frames first_sealed() {
    for (const StatedCost& s : kStated)
      for (Frames f = frames_of(s.segment).in; f < frames_of(s.segment).out; ++f)
        if (session->derived()->view.seals[static_cast<std::size_t>(f)] == FrameState::sealed) return f;
    return -1;
  }

  std::unique_ptr<Session> session;
  std::unique_ptr<MainWindow> window;
  Skyline* skyline = nullptr;
};

}  // namespace gc
