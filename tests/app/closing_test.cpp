// The window closes while work is left: what is asked, what becomes of it, and that all of it is done and right in the end.
#include <signal.h>

#include <QCheckBox>
#include <QComboBox>
#include <QSpinBox>
#include <set>
#include <sstream>

#include "app/queue_window.h"
#include "render/renderer.h"
#include "window_fixture.h"

namespace gc {
namespace {

class Closing : public TheWindow {
 protected:
  void SetUp() override {
    journal_.emplace(*Journal::open());
    QueueSettings s;
    // Tests wait for nobody to go away.
    s.when = QueueSettings::When::always;
    ASSERT_TRUE(journal_->set_settings(s));
    TheWindow::SetUp();
    if (HasFatalFailure()) return;
    session->renderer = GCLK_BINARY;
    plan_ = session->derived();
    ASSERT_GT(plan_->plan.remedies.size(), 0u);
  }
  void TearDown() override {
    for (const Job& j : journal_->jobs()) (void)journal_->cancel(j.id);
    wait_for([&] { return journal_->holder().empty(); });
    destroy();
    journal_.reset();
    for (const char* name : {"queue.sqlite", "queue.sqlite-wal", "queue.sqlite-shm"}) fs::remove(data_folder() / name);
  }
  QDialog* box() { return window->findChild<QMessageBox*>("work-left"); }
  void answer(const char* word) {
    ASSERT_TRUE(wait_for([&] { return box() != nullptr; }));
    for (QPushButton* b : box()->findChildren<QPushButton*>())
      if (b->text() == word) return QTest::mouseClick(b, Qt::LeftButton);
    FAIL() << "no button says " << word;
  }
  int in(JobState state) const {
    const auto all = journal_->jobs();
    return static_cast<int>(std::ranges::count_if(all, [&](const Job& j) { return j.state == state; }));
  }
  int open_jobs() const { return in(JobState::waiting) + in(JobState::working); }
  Frames frames_done() const {
    Frames n = 0;
    for (const Job& j : journal_->jobs()) n += j.done;
    return n;
  }
  /// Queues the plan by key, and waits until a renderer has something finished and more to do.
  void queue_and_wait() {
    key(Qt::Key_Return, Qt::ShiftModifier);
    ASSERT_TRUE(wait_for([&] { return !journal_->holder().empty() && frames_done() > 0; }, 120000));
    ASSERT_GT(open_jobs(), 0) << "nothing is left to be done without the window";
    // The window has to know of it, too.
    session->look_at_queue();
    ASSERT_TRUE(wait_for([&] { return !session->queue().jobs.empty() && session->queue().runs; }));
    if (auto* queue = window->findChild<QueueWindow*>("queue")) queue->close();
  }
  /// The window and all that it holds.
  void destroy() { window.reset(), session.reset(); }
  static pid_t process_of(const std::string& who) {
    std::istringstream fields(who);
    std::string host, boot;
    pid_t pid = 0;
    fields >> host >> boot >> pid;
    return pid;
  }
  /// Every frame that the plan renders, fetched from a shelf: by what its picture is.
  std::map<Frames, Hash128> pictures(const View& view, const Shelf& shelf) {
    std::map<Frames, Hash128> all;
    Decoders decoders;
    StageLog log;
    const Route route = shelf.route(*view.played);
    for (Frames f = 0; f < view.played->duration(); ++f)
      if (route[static_cast<std::size_t>(f)] == FrameState::sealed) {
        const Image image = render_frame(*view.played, f, &shelf, decoders, log);
        all[f] = hash_bytes(image.data(), image.floats() * sizeof(float));
      }
    return all;
  }

  std::optional<Journal> journal_;
  DerivedPtr plan_;
};

TEST_F(Closing, TheRendererLivesOnIsKilledAndAllIsDoneAfterTheNextStart) {
  queue_and_wait();
  window->close();
  ASSERT_NO_FATAL_FAILURE(answer("Cancel"));
  QTest::qWait(200);
  EXPECT_TRUE(window->isVisible());
  window->close();
  ASSERT_TRUE(wait_for([&] { return box() != nullptr; }));
  EXPECT_THAT(static_cast<QMessageBox*>(box())->text().toStdString(), testing::HasSubstr("of the queue"));
  ASSERT_NO_FATAL_FAILURE(answer("Go on"));
  ASSERT_TRUE(wait_for([&] { return !window->isVisible(); }));
  destroy();
  const std::string renderer = journal_->holder();
  ASSERT_FALSE(renderer.empty()) << "it ended with the window";
  const Frames before = frames_done();
  EXPECT_TRUE(wait_for([&] { return frames_done() > before || open_jobs() == 0; }, 120000)) << "nothing is done without the window";
  ::kill(process_of(renderer), SIGKILL);
  ASSERT_TRUE(wait_for([&] { return journal_->holder().empty(); }));
  EXPECT_EQ(journal_->check(), "ok");
  ASSERT_GT(open_jobs(), 0) << "all was done before the renderer was killed: the test needs more work";

  const fs::path shelf = stated().folder / "shelf-TheRendererLivesOnIsKilledAndAllIsDoneAfterTheNextStart";
  start(stated().file, shelf);
  ASSERT_FALSE(HasFatalFailure());
  session->renderer = GCLK_BINARY;
  session->go_on_with_queue();
  ASSERT_TRUE(wait_for([&] { return open_jobs() == 0; }, 240000)) << "work does not go on by itself";
  EXPECT_EQ(in(JobState::failed), 0);
  EXPECT_EQ(in(JobState::done), static_cast<int>(plan_->plan.remedies.size()));

  // The same plan, carried out in one go on a shelf of its own. A stated cost changes no picture, so it need not be paid again.
  DeskOptions o;
  o.shelf = stated().folder / "shelf-in-one-go", o.notebook = stated().folder / "notebook.sqlite";
  auto stores = Stores::open(o);
  ASSERT_TRUE(stores);
  TimelinePtr cheap = plan_->view.timeline;
  for (const StatedCost& s : kStated)
    for (const Effect& e : find_segment(*cheap, s.segment)->stack)
      if (e.type == "cost_card") cheap = with_param(*cheap, s.segment, e.id, "ms", 0.0);
  const View reference = view_of(cheap, *stores);
  ASSERT_TRUE(carry_out(plan_->plan, reference, reference, *stores, [](const PrerenderProgress&) { return true; }));
  const auto opened = Shelf::open(shelf);
  ASSERT_TRUE(opened);
  const auto made = pictures(plan_->view, **opened), in_one_go = pictures(reference, *stores->shelf);
  EXPECT_GT(made.size(), 24u);
  EXPECT_EQ(made, in_one_go);
}

TEST_F(Closing, TheRendererStopsWhereThatIsSaidAndGoesOnAtTheNextStart) {
  queue_and_wait();
  window->close();
  ASSERT_TRUE(wait_for([&] { return box() != nullptr; }));
  auto* always = box()->findChild<QCheckBox*>();
  ASSERT_TRUE(always);
  always->setChecked(true);
  ASSERT_NO_FATAL_FAILURE(answer("Stop"));
  ASSERT_TRUE(wait_for([&] { return !window->isVisible(); }));
  destroy();
  EXPECT_TRUE(wait_for([&] { return journal_->holder().empty(); })) << "it goes on";
  EXPECT_EQ(journal_->settings().after_window, QueueSettings::AfterWindow::stop);
  ASSERT_GT(open_jobs(), 0);
  EXPECT_EQ(in(JobState::working), 0) << "what was worked on waits again";
  start(stated().file, stated().folder / "shelf-TheRendererStopsWhereThatIsSaidAndGoesOnAtTheNextStart");
  ASSERT_FALSE(HasFatalFailure());
  session->renderer = GCLK_BINARY;
  session->go_on_with_queue();
  ASSERT_TRUE(wait_for([&] { return !journal_->holder().empty(); }));
  session->look_at_queue();
  ASSERT_TRUE(wait_for([&] { return session->queue().runs; }));
  // It is asked no more.
  window->close();
  EXPECT_TRUE(wait_for([&] { return !window->isVisible(); }));
  EXPECT_EQ(box(), nullptr);
  EXPECT_TRUE(wait_for([&] { return journal_->holder().empty(); }));
}

TEST_F(Closing, APlanThatTheWindowCarriesOutBecomesJobs) {
  session->carry_out_plan();
  ASSERT_TRUE(wait_for([&] { return session->work().kind == Work::Kind::rendering; }));
  window->close();
  ASSERT_TRUE(wait_for([&] { return box() != nullptr; }));
  EXPECT_THAT(static_cast<QMessageBox*>(box())->text().toStdString(), testing::HasSubstr("being carried out"));
  ASSERT_NO_FATAL_FAILURE(answer("Go on"));
  ASSERT_TRUE(wait_for([&] { return !window->isVisible(); }));
  EXPECT_EQ(journal_->jobs().empty(), false);
  EXPECT_TRUE(wait_for([&] { return !journal_->holder().empty() || open_jobs() == 0; }));
}

TEST_F(Closing, NothingIsAskedWhereNothingIsLeft) {
  window->close();
  EXPECT_FALSE(window->isVisible());
  EXPECT_EQ(box(), nullptr);
}

TEST_F(Closing, TheQueuesRulesAreSetInItsWindow) {
  key(Qt::Key_Q);
  auto* queue = window->findChild<QueueWindow*>("queue");
  ASSERT_TRUE(queue);
  // Where no window manager does it, keys would go to the main window.
  queue->activateWindow();
  ASSERT_TRUE(QTest::qWaitForWindowActive(queue));
  auto* when = queue->findChild<QComboBox*>("queue-when");
  auto* idle = queue->findChild<QSpinBox*>("queue-idle");
  // What is set already is shown.
  ASSERT_TRUE(wait_for([&] { return when->currentText() == "always"; }));
  EXPECT_FALSE(idle->isVisible()) << "it does not matter then";
  when->setFocus();
  QTest::keyClick(when, Qt::Key_Home);
  ASSERT_TRUE(wait_for([&] { return journal_->settings().when == QueueSettings::When::idle; }));
  ASSERT_TRUE(wait_for([&] { return idle->isVisible(); }));
  idle->setFocus();
  idle->selectAll();
  QTest::keyClicks(idle, "90");
  QTest::keyClick(idle, Qt::Key_Tab);
  EXPECT_TRUE(wait_for([&] { return journal_->settings().idle_s == 90; }));
  auto* after = queue->findChild<QComboBox*>("queue-after-window");
  after->setFocus();
  QTest::keyClick(after, Qt::Key_End);
  EXPECT_TRUE(wait_for([&] { return journal_->settings().after_window == QueueSettings::AfterWindow::stop; }));
  EXPECT_EQ(journal_->settings().idle_s, 90) << "the other settings stay";
  queue->close();
}

}  // namespace
}  // namespace gc
