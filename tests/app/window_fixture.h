// The window on the demo, for tests that drive it with mouse and keys.
#pragma once
#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include <QApplication>
#include <QElapsedTimer>
#include <QMessageBox>
#include <QTemporaryDir>
#include <QTest>

#include "app/main_window.h"
#include "base/clock.h"
#include "demo/demo.h"

namespace gc {

/// Notes the longest step of the interface thread, in its own processor time: what other programs take is not
/// counted.
class WatchedApplication : public QApplication {
 public:
  using QApplication::QApplication;
  bool notify(QObject* o, QEvent* e) override {
    if (++depth_ > 1) {
      const bool r = QApplication::notify(o, e);
      --depth_;
      return r;
    }
    const CpuStopwatch watch;
    const bool r = QApplication::notify(o, e);
    --depth_;
    if (watch.ms() > 100) long_steps.push_back(watch.ms());
    if (watch.ms() > longest_ms)
      longest_ms = watch.ms(),
      longest_what = QString("%1 in %2 %3").arg(e->type()).arg(o->metaObject()->className(), o->objectName());
    return r;
  }
  double longest_ms = 0;
  std::vector<double> long_steps;  ///< those longer than a tenth of a second
  double paint_ms = 0;             ///< of the whole window, the dearest of a few times over the run
  QString longest_what;

 private:
  int depth_ = 0;
};

inline WatchedApplication* app = nullptr;

inline bool wait_for(const std::function<bool()>& done, int ms) {
  QElapsedTimer t;
  t.start();
  while (!done()) {
    if (t.elapsed() > ms) return false;
    QTest::qWait(20);
  }
  return true;
}

/// The demo is made once for all tests of this program.
inline const DemoReport& demo() {
  static QTemporaryDir dir;
  static const DemoReport report = [] {
    DemoOptions o;
    // Two seconds of a heavy segment are more than the read-ahead carries, whatever the minute.
    o.width = 640, o.height = 360, o.length = 0.5;
    auto made = make_demo(dir.path().toStdString(), o, {});
    EXPECT_TRUE(made) << (made ? "" : made.error().text());
    return *made;
  }();
  return report;
}

class TheWindow : public testing::Test {
 protected:
  void SetUp() override {
    DeskOptions o;
    o.shelf = demo().timeline.parent_path() /
              ("shelf-" + std::string(testing::UnitTest::GetInstance()->current_test_info()->name()));
    o.notebook = demo().timeline.parent_path() / "notebook.sqlite";
    auto stores = Stores::open(o);
    ASSERT_TRUE(stores);
    session = std::make_unique<Session>(*stores);
    window = std::make_unique<MainWindow>(*session);
    window->ask_unsaved = [] { return QMessageBox::Discard; };
    window->show();
    ASSERT_TRUE(QTest::qWaitForWindowExposed(window.get()));
    window->activateWindow();
    session->open(QString::fromStdString(demo().timeline.string()));
    ASSERT_TRUE(wait_for([&] { return session->has_timeline(); }, 30000));
    ASSERT_TRUE(settled(90000));
    skyline = window->findChild<Skyline*>("skyline");
    skyline->setFocus();
  }
  void TearDown() override {
    if (!window) return;
    const CpuStopwatch watch;
    window->grab();
    app->paint_ms = std::max(app->paint_ms, watch.ms());
  }
  /// Until everything that follows from the present timeline is there and nothing runs.
  bool settled(int ms = 60000) {
    return wait_for(
        [&] {
          return session->current() && session->work().kind == Work::Kind::none &&
                 session->derived()->plan.before.fully_measured;
        },
        ms);
  }
  QPushButton* button(const QString& name) { return window->findChild<QPushButton*>(name); }
  Frames main_in(const std::string& id) {
    for (const auto& s : session->derived()->view.played->segments())
      if (s->segment->id == id) return s->in;
    return 0;
  }
  QPushButton* button(const char* name) { return window->findChild<QPushButton*>(name); }
  void key(Qt::Key k, Qt::KeyboardModifiers m = Qt::NoModifier) { QTest::keyClick(window.get(), k, m); }
  QString sentence() { return window->findChild<QLabel*>("sentence")->text(); }
  int sealed() {
    return static_cast<int>(std::count(session->derived()->view.seals.begin(),
                                       session->derived()->view.seals.end(), SealState::sealed));
  }
  int broken() {
    return static_cast<int>(std::count(session->derived()->view.seals.begin(),
                                       session->derived()->view.seals.end(), SealState::broken));
  }

  std::unique_ptr<Session> session;
  std::unique_ptr<MainWindow> window;
  Skyline* skyline = nullptr;
};

}  // namespace gc
