// Plan, queue and release in the window: what a person does there with keys and mouse, and what comes of it.
#include <QMenu>
#include <QScrollBar>
#include <QSlider>

#include "app/delivery_panel.h"
#include "app/news.h"
#include "app/plan_panel.h"
#include "app/queue_window.h"
#include "app/stations.h"
#include "window_fixture.h"

namespace gc {
namespace {

class AtTheStations : public TheWindow {};

TEST_F(AtTheStations, ARemedyInThePlanLeadsToItsPlaceAndTheNumbersAddUp) {
  key(Qt::Key_4);
  StationPanel* plan = window->findChild<Stations*>()->panel(Station::plan);
  const Plan p = session->derived()->plan;
  ASSERT_EQ(plan->table()->rowCount(), static_cast<int>(p.remedies.size()));
  double seconds = 0;
  std::uint64_t bytes = 0;
  for (std::size_t i = 0; i < p.remedies.size(); ++i) {
    plan->table()->setCurrentCell(static_cast<int>(i), 0);
    EXPECT_EQ(window->playhead(), p.remedies[i].range.in);
    seconds += p.remedies[i].render_seconds, bytes += p.remedies[i].bytes;
  }
  EXPECT_NEAR(seconds, p.render_seconds, 1e-6);
  EXPECT_EQ(bytes, p.bytes);
  EXPECT_LE(p.after.expected_drops, p.before.expected_drops);
}

TEST_F(AtTheStations, ThePlanObeysABanAndForgetsItAgain) {
  key(Qt::Key_4);
  StationPanel* plan = window->findChild<Stations*>()->panel(Station::plan);
  ASSERT_GT(plan->table()->rowCount(), 1);
  EXPECT_FALSE(window->findChild<Ledger*>()->isVisible()) << "the room is the plan's";
  const std::string id = session->derived()->plan.remedies.front().id;
  const double before = session->derived()->plan.render_seconds;
  plan->table()->setCurrentCell(0, 0);
  key(Qt::Key_N, Qt::ShiftModifier);
  const auto has = [&] {
    return std::any_of(session->derived()->plan.remedies.begin(), session->derived()->plan.remedies.end(), [&](const Remedy& r) { return r.id == id; });
  };
  ASSERT_TRUE(wait_for([&] { return session->current() && !has(); }));
  EXPECT_EQ(session->wishes().forbids.count(id), 1u);
  auto* words = window->findChild<QPushButton*>("no-words");
  EXPECT_EQ(words->text(), "Take back 1 word");
  QTest::mouseClick(words, Qt::LeftButton);
  ASSERT_TRUE(wait_for([&] { return session->current() && has(); }));
  EXPECT_NEAR(session->derived()->plan.render_seconds, before, 1e-6);
  // Pinned, it says so.
  plan->table()->setCurrentCell(0, 0);
  key(Qt::Key_P, Qt::ShiftModifier);
  ASSERT_TRUE(wait_for([&] { return session->current() && session->derived()->plan.remedies.front().pinned; }));
  session->set_wishes({});
}

TEST_F(AtTheStations, AClickInTheFrontierChoosesHowMuchTimeIsSpent) {
  key(Qt::Key_4);
  auto* frontier = window->findChild<Frontier*>("frontier");
  const Plan whole = session->derived()->plan;
  ASSERT_GT(whole.frontier.size(), 2u);
  QTest::mouseClick(frontier, Qt::LeftButton, Qt::NoModifier, frontier->place(whole.frontier[1]).toPoint());
  ASSERT_TRUE(wait_for([&] { return session->current() && session->derived()->plan.render_seconds < whole.render_seconds - 1e-6; }));
  EXPECT_LE(session->derived()->plan.render_seconds, whole.frontier[1].seconds + 1e-3);
  EXPECT_FALSE(session->derived()->plan.fits);
  EXPECT_THAT(window->findChild<Stations*>()->panel(Station::plan)->sentence().toStdString(), testing::HasSubstr("It does not fit"));
  session->set_wishes({});
  ASSERT_TRUE(wait_for([&] { return session->current() && session->derived()->plan.fits; }));
}

TEST_F(AtTheStations, ADroppedFrameIsWeighedAgainstTheMachinesTimeByKeys) {
  key(Qt::Key_4);
  auto* weight = window->findChild<QSlider*>("drop-weight");
  auto* said = window->findChild<QLabel*>("drop-weight-said");
  EXPECT_EQ(said->text(), "any work: none may drop");
  const double before = session->derived()->plan.render_seconds;
  weight->setFocus();
  for (int i = 0; i < 4; ++i) QTest::keyClick(weight, Qt::Key_Left);
  ASSERT_TRUE(wait_for([&] { return session->current() && session->wishes().drop_seconds == 1.0 && session->derived()->plan.drop_seconds == 1.0; }));
  EXPECT_LE(session->derived()->plan.render_seconds, before + 1e-6);
  EXPECT_TRUE(said->text().startsWith("1.0 s of the machine's time")) << said->text().toStdString();
  session->set_wishes({});
  ASSERT_TRUE(wait_for([&] { return session->current() && session->derived()->plan.drop_seconds == kNoLimit; }));
}

TEST_F(AtTheStations, PartsAreWatchedAtTimesOfTheirOwn) {
  key(Qt::Key_4);
  auto* by = window->findChild<QLineEdit*>("review-at");
  by->setFocus();
  by->selectAll();
  QTest::keyClicks(by, "0-48@9:30, 48-96@10:00");
  QTest::keyClick(by, Qt::Key_Return);
  ASSERT_TRUE(wait_for([&] { return session->current() && session->derived()->plan.reviews.size() == 2; }));
  EXPECT_EQ(session->wishes().reviews.at(1).range, (FrameRange{48, 96}));
  session->set_wishes({});
  ASSERT_TRUE(wait_for([&] { return session->current() && session->derived()->plan.reviews.empty(); }));
}

TEST_F(AtTheStations, AReviewIsGivenByTheClockAndTheSentenceSaysWhenItIsReady) {
  key(Qt::Key_4);
  auto* by = window->findChild<QLineEdit*>("review-at");
  by->setFocus();
  by->selectAll();
  QTest::keyClicks(by, "soon");
  QTest::keyClick(by, Qt::Key_Tab);
  EXPECT_EQ(by->text(), "") << "that is no time";
  by->setFocus();
  by->selectAll();
  QTest::keyClicks(by, clock_text(std::time(nullptr) + 7200, std::time(nullptr)).substr(clock_text(std::time(nullptr) + 7200, std::time(nullptr)).find_last_of(' ') + 1).c_str());
  QTest::keyClick(by, Qt::Key_Tab);
  ASSERT_TRUE(wait_for([&] { return session->current() && session->derived()->plan.review_at; }));
  EXPECT_THAT(session->derived()->plan.sentence, testing::HasSubstr("Ready by "));
  session->set_wishes({});
  ASSERT_TRUE(wait_for([&] { return session->current() && !session->derived()->plan.review_at; }));
}

TEST_F(AtTheStations, TheQueueIsOneKeyAwayAndItsJobsAreOrderedPausedAndCancelled) {
  auto journal = *Journal::open();
  Job j;
  j.timeline = "Another timeline", j.file = "/other.otio", j.price = {48, 4, 4};
  j.remedy = "render:0-48", j.what = "First";
  ASSERT_TRUE(journal.add(j));
  j.remedy = "bake:smoke", j.what = "Second";
  const std::int64_t second = *journal.add(j);
  key(Qt::Key_Q);
  auto* queue = window->findChild<QueueWindow*>("queue");
  ASSERT_TRUE(queue && queue->isVisible());
  ASSERT_TRUE(wait_for([&] { return queue->table()->rowCount() == 2; }));
  EXPECT_THAT(queue->sentence().toStdString(), testing::AllOf(testing::HasSubstr("2 to be done"), testing::HasSubstr("No renderer runs")));
  queue->table()->selectRow(1);
  QTest::mouseClick(queue->findChild<QPushButton*>("queue-first"), Qt::LeftButton);
  EXPECT_TRUE(wait_for([&] { return queue->table()->item(0, 2)->text() == "Second"; }));
  auto* pause = queue->findChild<QPushButton*>("queue-pause");
  QTest::mouseClick(pause, Qt::LeftButton);
  EXPECT_TRUE(wait_for([&] { return pause->text() == "Resume the queue"; }));
  EXPECT_TRUE(journal.settings().paused);
  QTest::mouseClick(pause, Qt::LeftButton);
  EXPECT_TRUE(wait_for([&] { return pause->text() == "Pause the queue"; }));
  queue->table()->selectRow(0);
  QTest::mouseClick(queue->findChild<QPushButton*>("queue-cancel"), Qt::LeftButton);
  EXPECT_TRUE(wait_for([&] { return journal.job(second)->state == JobState::cancelled; }));
  queue->close();
  // From every station what is left is in sight, and a click shows it again.
  auto* line = window->findChild<QueueLine*>("queue-line");
  ASSERT_TRUE(wait_for([&] { return line->isVisible() && line->text().contains("1 left"); })) << line->text().toStdString();
  EXPECT_TRUE(line->text().contains("not running"));
  QTest::mouseClick(line, Qt::LeftButton);
  EXPECT_TRUE(queue->isVisible());
  queue->close();
  for (const Job& left : journal.jobs()) (void)journal.cancel(left.id);
  EXPECT_TRUE(wait_for([&] { return !line->isVisible(); }));
}

TEST(NewsOfTheQueue, IsToldOnceWhenItHappens) {
  Session::QueueSeen before, now;
  before.readable = now.readable = true;
  Job j;
  j.id = 1, j.timeline = "The Kiln Year", j.price = {48, 600, 600}, j.state = JobState::working;
  before.jobs = now.jobs = {j};
  EXPECT_TRUE(news_between(before, now, {}, 0).empty());
  now.jobs[0].state = JobState::done;
  auto news = news_between(before, now, {}, 0);
  ASSERT_EQ(news.size(), 1u);
  EXPECT_EQ(news[0].title, "The Kiln Year is rendered");
  EXPECT_TRUE(news_between(now, now, {}, 0).empty()) << "not again";
  now.jobs[0].state = JobState::failed, now.jobs[0].trouble = "The volume is full.";
  news = news_between(before, now, {}, 0);
  ASSERT_EQ(news.size(), 1u);
  EXPECT_TRUE(news[0].pressing);
  EXPECT_EQ(news[0].text, "The volume is full.");
  // Ten minutes of work and a review in eleven; then a job more.
  now = before;
  EXPECT_TRUE(news_between(before, now, 660, 0).empty());
  j.id = 2, now.jobs.push_back(j);
  news = news_between(before, now, 660, 0);
  ASSERT_EQ(news.size(), 1u);
  EXPECT_EQ(news[0].title, "The review is in danger");
  EXPECT_TRUE(news[0].text.contains("9 min")) << news[0].text.toStdString();
}

TEST_F(AtTheStations, TheReleaseSaysWhatADeliveryTakesAndRefusesWhatTheGateRefuses) {
  key(Qt::Key_6);
  auto* delivery = window->findChild<DeliveryPanel*>("delivery");
  ASSERT_TRUE(wait_for([&] { return delivery->said().contains("frames:"); })) << delivery->said().toStdString();
  // The stated costs are cards in place of effects, which no delivery can make.
  EXPECT_FALSE(session->derived()->gate.may_deliver());
  EXPECT_FALSE(window->findChild<QPushButton*>("deliver")->isEnabled());
  EXPECT_FALSE(window->findChild<QPushButton*>("queue-delivery")->isVisible()) << "first things are put right";
  // Each place with its picture.
  RowTable* places = window->findChild<Stations*>()->panel(Station::release)->table();
  const auto pictured = [&](int row) { return places->item(row, 0) && places->item(row, 0)->data(Qt::DecorationRole).isValid(); };
  for (int row = 0; row < places->rowCount(); ++row) {
    ASSERT_TRUE(wait_for([&] { return pictured(row); })) << row;
    EXPECT_GE(places->rowHeight(row), 45) << row;
  }
  const std::string rdd36 = delivery->said().toStdString();
  window->findChild<QComboBox*>("delivery-form")->setCurrentIndex(5);
  EXPECT_EQ(delivery->form(), "vc3-sq");
  ASSERT_TRUE(wait_for([&] { return delivery->said().toStdString() != rdd36; })) << "another form, another size";
}

TEST_F(AtTheStations, WhatStopsTheDeliveryIsPutRightByOneKeyAndOneWord) {
  key(Qt::Key_6);
  const TimelinePtr before = session->timeline();
  ASSERT_GT(session->gate().count(GateKind::card), 0) << "the stated costs";
  // A gap at the end, which no key can know to be wanted.
  auto gap = std::make_shared<Timeline>(*before);
  Track track = *gap->tracks.front();
  track.items.insert(track.items.begin(), Gap{12});
  gap->tracks.front() = std::make_shared<Track>(track);
  session->edit(gap, "Twelve frames of black");
  ASSERT_TRUE(wait_for([&] { return session->current() && session->gate().count(GateKind::gap) == 1; }));
  key(Qt::Key_A, Qt::ShiftModifier);
  auto* dialog = window->findChild<QDialog*>("who-accepts");
  ASSERT_TRUE(dialog) << "one question for what is left";
  EXPECT_FALSE(dialog->findChild<QPushButton*>("accept")->isEnabled()) << "nobody has said anything";
  QTest::keyClicks(dialog->findChild<QLineEdit*>("who"), "Ines Tal");
  QTest::keyClicks(dialog->findChild<QLineEdit*>("why"), "it begins in black");
  QTest::mouseClick(dialog->findChild<QPushButton*>("accept"), Qt::LeftButton);
  ASSERT_TRUE(wait_for([&] { return session->current() && session->gate().may_deliver(); })) << session->gate().sentence();
  EXPECT_EQ(session->gate().count(GateKind::card), 0);
  EXPECT_THAT(session->gate().sentence(), testing::HasSubstr("accepted by hand"));
  // Now it may be left to the queue.
  const auto* queue = window->findChild<QPushButton*>("queue-delivery");
  ASSERT_TRUE(wait_for([&] { return queue->isVisible() && queue->isEnabled(); }));
  const fs::path to = stated().folder / "out" / "kiln.mov";
  session->queue_delivery(QString::fromStdString(to.string()), "vc3-sq");
  auto* delivery = window->findChild<DeliveryPanel*>("delivery");
  ASSERT_TRUE(wait_for([&] { return delivery->said().contains("of the queue"); })) << delivery->said().toStdString();
  auto journal = *Journal::open();
  const std::vector<Job> jobs = journal.jobs();
  const auto job = std::ranges::find_if(jobs, [](const Job& j) { return j.remedy == "delivery"; });
  ASSERT_NE(job, jobs.end());
  EXPECT_EQ(job->what, "kiln.mov");
  EXPECT_TRUE(*journal.cancel(job->id));
  while (session->timeline() != before) session->undo();
  ASSERT_TRUE(wait_for([&] { return session->current(); }));
}

TEST_F(AtTheStations, APlaybackScaleIsChosenInTheMenuAndNeverReachesTheDelivery) {
  const Hash128 delivered = session->derived()->view.delivered->fingerprint(10);
  const auto choose = [&](const QString& label) {
    for (QAction* a : window->findChildren<QAction*>())
      if (a->isCheckable() && a->text() == label) return a->trigger();
    ADD_FAILURE() << label.toStdString();
  };
  choose("1/4");
  ASSERT_TRUE(wait_for(
      [&] { return session->current() && session->derived()->view.played->options().scale == 4; }));
  EXPECT_EQ(session->derived()->view.delivered->options().scale, 1);
  EXPECT_EQ(session->derived()->view.delivered->fingerprint(10), delivered);
  EXPECT_EQ(session->derived()->view.played->width() * 4, session->derived()->view.delivered->width());
  QMenu* scales = nullptr;
  for (QMenu* m : window->findChildren<QMenu*>())
    if (m->title() == "Playback &scale") scales = m;
  ASSERT_TRUE(scales);
  scales->actions().front()->trigger();
  ASSERT_TRUE(wait_for(
      [&] { return session->current() && session->derived()->view.played->options().scale == 1; }));
}

TEST_F(AtTheStations, AMediumSaysWhatItsCopiesWouldBring) {
  key(Qt::Key_2);
  auto* stations = window->findChild<Stations*>();
  ASSERT_TRUE(stations);
  StationPanel* panel = stations->panel(Station::timeline);
  panel->table()->setFocus();
  panel->table()->selectRow(0);
  ASSERT_TRUE(wait_for([&] { return panel->sentence().contains("light copy") && panel->sentence().contains("1/2 size"); })) << panel->sentence().toStdString();
  EXPECT_THAT(panel->sentence().toStdString(), testing::HasSubstr("hides detail, noise and fine keys"));
  EXPECT_TRUE(panel->sentence().startsWith("The Kiln Year")) << "below what is said of the timeline";
}

TEST_F(AtTheStations, AnglesAreOpenedSideBySideInANewFileOnly) {
  QString said;
  const auto c = QObject::connect(session.get(), &Session::failed, [&](const QString& text) { said = text; });
  const QTemporaryDir dir;
  const QString file = dir.filePath("angles.otio");
  const std::string one = session->derived()->view.played->segments().front()->segment->id;
  session->open_angles(one, file);
  ASSERT_TRUE(wait_for([&] { return !said.isEmpty(); }));
  EXPECT_TRUE(said.contains("angle")) << said.toStdString();
  EXPECT_FALSE(QFile::exists(file));
  QObject::disconnect(c);
}

}  // namespace
}  // namespace gc
