// What the window's work may never do: lose what a person made, be in the way, or hold the window up.
#include <fstream>
#include <future>

#include "answers.h"

namespace gc {
namespace {

// ---- Saving, closing, crashing --------------------------------------------------------------------------

class Unsaved : public TheWindow {
 protected:
  /// A copy of the timeline, since these change the file.
  void SetUp() override {
    file = stated().folder / (std::string(testing::UnitTest::GetInstance()->current_test_info()->name()) + ".otio");
    fs::copy_file(stated().file, file, fs::copy_options::overwrite_existing);
    start(file, stated().folder / "shelf-unsaved");
  }
  void change(double saturation) {
    session->edit(with_param(*session->timeline(), "ky-03", "ky-03-grade", "saturation", saturation), "Grade");
  }
  double in_file() {
    const auto t = load_timeline(file);
    const SegmentPtr s = t ? find_segment(**t, "ky-03") : nullptr;
    return s && !s->stack.empty() ? number_or(s->stack.back().params, "saturation", -1) : -1;
  }
  std::vector<fs::path> copies() {
    std::vector<fs::path> all;
    std::error_code e;
    for (const auto& entry : fs::directory_iterator(recovery_folder(session->stores()), e)) {
      if (entry.path().extension() != ".json") continue;  // it is being written
      const auto text = read_file(entry.path());
      const auto j = text ? parse_json(*text, "copy") : std::unexpected(text.error());
      if (j && text_or(*j, "file", "") == file.string()) all.push_back(entry.path());
    }
    return all;
  }
  fs::path file;
};

TEST_F(Unsaved, ChangesAreAskedAboutBeforeClosing) {
  change(1.5);
  int asked = 0;
  window->ask_unsaved = [&] { return ++asked, QMessageBox::Cancel; };
  window->close();
  EXPECT_TRUE(window->isVisible());
  EXPECT_EQ(asked, 1);
  window->ask_unsaved = [&] { return ++asked, QMessageBox::Save; };
  window->close();
  EXPECT_TRUE(wait_for([&] { return !window->isVisible(); }));
  EXPECT_EQ(in_file(), 1.5);
  EXPECT_EQ(asked, 2);
}

TEST_F(Unsaved, TheNewestStateWinsHoweverManySavesAreAskedFor) {
  for (int i = 0; i < 20; ++i) change(1.0 + 0.01 * i), session->save(session->file());
  change(1.77);
  window->ask_unsaved = [] { return QMessageBox::Save; };
  window->close();
  ASSERT_TRUE(wait_for([&] { return !window->isVisible(); }));
  EXPECT_EQ(in_file(), 1.77);
}

TEST_F(Unsaved, AFileThatSomebodyElseChangedIsNotOverwrittenUnasked) {
  change(1.5);
  const std::string theirs = *read_file(file) + "\n";
  std::ofstream(file) << theirs;
  int asked = 0;
  window->ask_outside = [&] { return ++asked, QMessageBox::Cancel; };
  key(Qt::Key_S, Qt::ControlModifier);
  ASSERT_TRUE(wait_for([&] { return asked == 1; }));
  EXPECT_EQ(*read_file(file), theirs);
  EXPECT_TRUE(session->changed());
  window->ask_outside = [&] { return ++asked, QMessageBox::Save; };
  key(Qt::Key_S, Qt::ControlModifier);
  ASSERT_TRUE(wait_for([&] { return !session->changed(); }));
  EXPECT_EQ(in_file(), 1.5);
}

TEST_F(Unsaved, EditsAreKeptForACrashAndOfferedAtTheNextStart) {
  EXPECT_TRUE(copies().empty());
  change(1.62);
  ASSERT_TRUE(wait_for([&] { return copies().size() == 1; })) << "within ten seconds of an edit";
  // The program is killed: nothing of it is left but this copy, of a process that is gone.
  const fs::path copy = copies()[0];
  Json j = Json::parse(*read_file(copy));
  session->give_up_edits();
  ASSERT_TRUE(wait_for([&] { return copies().empty(); }));
  window.reset(), session.reset();
  const std::string own = own_process();
  j["process"] = own.substr(0, own.rfind(' ')) + " 1";
  const fs::path left = copy.parent_path() / "unsaved-of-a-killed-program.json";
  std::ofstream(left) << j.dump();
  // The next start.
  DeskOptions o;
  o.shelf = stated().folder / "shelf-unsaved", o.notebook = stated().folder / "notebook.sqlite";
  session = std::make_unique<Session>(*Stores::open(o));
  window = std::make_unique<MainWindow>(*session);
  window->ask_unsaved = [] { return QMessageBox::Discard; };
  int asked = 0;
  window->ask_recover = [&] { return ++asked, QMessageBox::Open; };
  window->show();
  session->look_for_recovery();
  ASSERT_TRUE(wait_for([&] { return session->has_timeline(); }));
  EXPECT_EQ(asked, 1);
  EXPECT_EQ(number_or(find_segment(*session->timeline(), "ky-03")->stack.back().params, "saturation", 0), 1.62);
  EXPECT_TRUE(session->changed()) << "it is not saved yet";
  EXPECT_EQ(session->file().toStdString(), file.string());
  ASSERT_TRUE(wait_for([&] { return !fs::exists(left); }));
  EXPECT_EQ(copies().size(), 1u) << "this program keeps a copy of its own";
  session->save(session->file());
  ASSERT_TRUE(wait_for([&] { return !session->changed(); }));
  EXPECT_EQ(in_file(), 1.62);
  EXPECT_TRUE(wait_for([&] { return copies().empty(); })) << "what is saved needs no copy";
}

// ---- Work that makes way --------------------------------------------------------------------------------

TEST_F(TheWindow, AStopIsNeverLostWhileARenderWaitsInLine) {
  // The render waits behind a measurement, and is stopped before it began.
  session->measure_again();
  ASSERT_EQ(session->work().kind, Work::Kind::measuring);
  session->carry_out_plan();
  ASSERT_EQ(session->work().kind, Work::Kind::rendering);
  key(Qt::Key_Escape);
  EXPECT_EQ(session->work().kind, Work::Kind::none);
  EXPECT_FALSE(wait_for([&] { return session->work().kind == Work::Kind::rendering || sealed() > 0; }, 4000))
      << "it began all the same";
  // And closing waits for no render: what the shelf holds then is less than the plan has.
  const Frames planned = session->derived()->plan.frames;
  const fs::path folder = session->stores().options.shelf;
  session->carry_out_plan();
  ASSERT_TRUE(wait_for([&] { return session->work().share > 0; }));
  window.reset(), session.reset();
  EXPECT_LT((*Shelf::open(folder))->look({Selection::What::all, "", 0, {}}).frames, planned);
}

TEST_F(TheWindow, ARenderMakesWayForPlaybackAndGoesOnWithTheAcceptedPlan) {
  const std::vector<FrameRange> accepted = session->derived()->plan.ranges();
  session->carry_out_plan();
  ASSERT_TRUE(wait_for([&] { return sealed() > 0; }, 120000));
  ASSERT_EQ(session->work().kind, Work::Kind::rendering);
  // It stands still while this plays.
  session->play({0, 24}, PlayMode::on_the_clock);
  ASSERT_TRUE(session->playing());
  ASSERT_TRUE(wait_for([&] { return session->play_state().frame > 2; }));
  const int at_the_start = static_cast<int>(session->stores().shelf->chunks());
  // Meanwhile a segment outside the accepted plan is changed, and the plan of now is another one.
  session->edit(with_bypass(*session->timeline(), kHeaviest, std::string(kHeaviest) + "-stated", true, "now"),
                "Bypass");
  session->undo();
  std::string outside;
  for (const auto& s : session->derived()->view.played->segments())
    if (!s->segment->stack.empty() && s->segment->stack.back().type == "cdl" &&
        std::ranges::none_of(accepted, [&](const FrameRange& r) { return r.in < s->live_out && r.out > s->live_in; }))
      outside = s->segment->id;
  ASSERT_FALSE(outside.empty());
  session->edit(with_param(*session->timeline(), outside, outside + "-grade", "saturation", 1.3), "Grade");
  ASSERT_TRUE(wait_for([&] { return !session->playing(); }));
  EXPECT_EQ(static_cast<int>(session->stores().shelf->chunks()), at_the_start);
  ASSERT_TRUE(wait_for([&] { return session->work().kind == Work::Kind::rendering; }));
  ASSERT_TRUE(settled(240000));
  for (const FrameRange& r : accepted)
    for (Frames f = r.in; f < r.out; ++f)
      ASSERT_EQ(session->derived()->view.seals[static_cast<std::size_t>(f)], FrameState::sealed) << f;
}

TEST_F(TheWindow, OpeningAnotherTimelineEndsTheRenderOfTheOldOne) {
  session->carry_out_plan();
  ASSERT_TRUE(wait_for([&] { return session->work().share > 0; }));
  session->play({0, 12}, PlayMode::on_the_clock);  // it would resume afterwards
  session->open(QString::fromStdString((stated().folder / "effects-reel.otio").string()));
  ASSERT_TRUE(wait_for([&] { return session->timeline() && !find_segment(*session->timeline(), kHeaviest); }));
  EXPECT_FALSE(wait_for([&] { return session->work().kind == Work::Kind::rendering; }, 3000));
  EXPECT_FALSE(session->playing());
  EXPECT_FALSE(session->playout()) << "a playout of the old one is not the new one's";
}

TEST_F(TheWindow, MeasuringKeepsTheForecastOfTheChosenSeat) {
  ASSERT_TRUE(wait_for([&] { return !session->other_seats().empty(); }));
  session->measure_again();
  session->forecast_on(0);
  ASSERT_TRUE(wait_for([&] { return session->elsewhere() == 0 && session->current(); }));
  ASSERT_TRUE(wait_for([&] { return session->work().kind == Work::Kind::none; }, 90000));
  ASSERT_TRUE(wait_for([&] { return session->current(); }));
  EXPECT_TRUE(QString::fromStdString(session->derived()->plan.sentence).startsWith("On '"))
      << session->derived()->plan.sentence;
  session->forecast_on(-1);
  ASSERT_TRUE(wait_for([&] { return session->elsewhere() == -1 && session->current(); }));
}

// ---- The interface thread -------------------------------------------------------------------------------

/// On a drive that takes 300 ms for each access. What counts is how long the interface thread was seen to stand still:
/// that it waits for a processor is the machine's doing. A quarter of a second is tolerated, since who holds a lock may wait for
/// a processor too (seen: 102 ms beside a full machine, 9 as a rule). One access takes longer. A lock held during one does so as a rule. (The bench has
/// the wall time, on a quiet machine.)
TEST(TheInterfaceThread, AnswersWhileEverythingGoesOnOnASlowDrive) {
  const QTemporaryDir folder;
  std::vector<std::string> said;
  const auto [busy, idle] = answers_when_busy(folder.path().toStdString(), said);
  std::printf("longest answer %.0f ms, %d of %d over 50 ms, longest blocked %.0f ms; of an idle loop meanwhile: %.0f ms, %d of %d\n",
              busy.longest_ms, busy.over_50, busy.count, busy.longest_blocked_ms, idle.longest_ms, idle.over_50, idle.count);
  for (const std::string& s : said) ADD_FAILURE() << s;
  EXPECT_GT(busy.count, 200);
  EXPECT_LT(busy.longest_blocked_ms, 250);
}

/// The watchdog sees a thread that waits, and does not take work for waiting.
TEST(TheInterfaceThread, IsSeenWhenItWaits) {
  QObject here;
  Watchdog dog(&here);
  const auto longest = [&](const std::function<void()>& busy) {
    // It knows whom to look at from the first answer on.
    wait_for([&] { return !dog.take().empty(); });
    busy();
    double blocked = 0;
    std::size_t answers = 0;  // the first may still be of before
    wait_for([&] {
      for (const auto& a : dog.take()) blocked = std::max(blocked, a.blocked_ms), ++answers;
      return answers >= 2;
    });
    return blocked;
  };
  // Until it was looked at so often, a millisecond apart at least: a watchdog that is held up looks less often.
  const auto sleep_for_looks = [&](int looks) {
    for (const int before = dog.looks(); dog.looks() < before + looks;) std::this_thread::sleep_for(std::chrono::milliseconds(100));
  };
  EXPECT_GT(longest([&] { sleep_for_looks(200); }), 100);
  EXPECT_GT(longest([&] {
    std::promise<void> elsewhere;
    std::jthread there([&] { sleep_for_looks(200), elsewhere.set_value(); });
    elsewhere.get_future().wait();
  }), 100);
  EXPECT_LT(longest([] { for (const Stopwatch watch; watch.ms() < 300;) {} }), 100);
}

}  // namespace
}  // namespace gc
