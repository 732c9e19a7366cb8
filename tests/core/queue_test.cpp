// The queue: what is done in which order, when it may work, and that nothing is lost whoever is killed.
#include <signal.h>
#include <sys/wait.h>

#include <atomic>
#include <numeric>
#include <thread>

#include "commands.h"
#include "base/clock.h"
#include "base/crash.h"
#include "desk/queueing.h"
#include "queue/flat_out.h"
#include "queue/hush.h"
#include "queue/renderer.h"
#include "release/verification.h"

namespace gc {
namespace {

using testing::HasSubstr;

class Queued : public testing::Test {
 protected:
  Queued() : journal_(*Journal::open(dir_ / "queue.sqlite")) {}
  std::int64_t add(const std::string& remedy, int priority = 0, const std::string& file = "/cut.otio") {
    Job j;
    j.timeline = "Cut", j.file = file, j.remedy = remedy, j.priority = priority, j.price = {24, 1, 2};
    j.making.what = Making::What::stack, j.making.subject.segment = "a", j.making.subject.after = 2, j.making.subject.form = Form::rdd36;
    return *journal_.add(j);
  }
  std::vector<std::string> order() {
    std::vector<std::string> all;
    for (const Job& j : journal_.jobs())
      if (j.state == JobState::waiting) all.push_back(j.remedy);
    return all;
  }
  /// Runs the renderer until nothing waits, with a process for each job that does as it is told.
  RendererReport work(const std::function<void(std::int64_t)>& in_child) {
    RendererOptions o;
    o.without_input = [] { return 1e9; };
    o.start = [&](std::int64_t id) {
      const pid_t pid = ::fork();
      if (pid == 0) in_child(id), ::_exit(0);
      return static_cast<int>(pid);
    };
    std::atomic<bool> stop{false};
    const auto r = run_renderer(journal_, o, stop);
    EXPECT_TRUE(r) << (r ? "" : r.error().text());
    return r ? *r : RendererReport{};
  }
  test::TempFolder dir_;
  Journal journal_;
};

TEST_F(Queued, AJobIsWhatWasAskedForAfterEveryRestart) {
  const std::int64_t id = add("tap:a:2");
  journal_ = *Journal::open(dir_ / "queue.sqlite");
  const auto j = journal_.job(id);
  ASSERT_TRUE(j);
  EXPECT_EQ(j->remedy, "tap:a:2");
  EXPECT_EQ(j->making.what, Making::What::stack);
  EXPECT_EQ(j->making.subject.after, 2u);
  EXPECT_EQ(j->making.subject.form, Form::rdd36);
  EXPECT_EQ(j->price.frames, 24);
  EXPECT_EQ(journal_.check(), "ok");
}

TEST_F(Queued, OrderPrioritiesAndThisOneNow) {
  add("one"), add("two");
  const std::int64_t three = add("three");
  add("urgent", 1, "/other.otio");
  EXPECT_EQ(order(), (std::vector<std::string>{"urgent", "one", "two", "three"}));
  EXPECT_TRUE(*journal_.move(three, true));
  EXPECT_EQ(order().front(), "three");
  EXPECT_TRUE(*journal_.move(three, false));
  EXPECT_EQ(*journal_.forget_waiting("/cut.otio"), 3);
  EXPECT_EQ(order(), (std::vector<std::string>{"urgent"}));
  EXPECT_FALSE(*journal_.cancel(999));
}

TEST_F(Queued, ACrashIsTriedOnceMoreAndThenSetAsideWhileTheRestGoesOn) {
  const std::int64_t bad = add("bad"), good = add("good");
  const RendererReport r = work([&](std::int64_t id) {
    Journal own = *Journal::open(dir_ / "queue.sqlite");
    (void)own.progress(id, 7);
    if (id == bad) ::signal(SIGSEGV, SIG_DFL), ::raise(SIGSEGV);
    (void)own.end(id, JobState::done, "", 1);
  });
  EXPECT_EQ(r.done, 1);
  EXPECT_EQ(r.failed, 1);
  EXPECT_EQ(journal_.job(good)->state, JobState::done);
  const Job failed = *journal_.job(bad);
  EXPECT_EQ(failed.state, JobState::failed);
  EXPECT_EQ(failed.tries, 2);
  EXPECT_THAT(failed.trouble, HasSubstr("signal 11"));
  EXPECT_THAT(failed.trouble, HasSubstr("at frame 7 of 24"));
}

TEST_F(Queued, AFrameThatCrashesIsSetAsideWithWhatIsKnownAndTheRestIsDone) {
  Job j;
  j.timeline = "Cut", j.file = "/cut.otio", j.remedy = "render:100-196", j.snapshot = "/snapshot.otio", j.price = {96, 9, 9}, j.bytes = 960;
  j.making.subject.form = Form::vc3_hqx, j.making.subject.frames = {{100, 196}};
  const std::int64_t id = *journal_.add(j);
  const RendererReport r = work([&](std::int64_t of) {
    Journal own = *Journal::open(dir_ / "queue.sqlite");
    const CrashTeller tells(own.crash_file(of));
    const Job doing_now = *own.job(of);
    for (const FrameRange& frames : doing_now.making.subject.frames)
      for (Frames f = frames.in; f < frames.out; ++f) {
        const DoingScope frame("", f);
        const DoingScope stage("Glow");
        if (f == 150) ::raise(SIGSEGV);
      }
    (void)own.end(of, JobState::done, "", 1);
  });
  EXPECT_EQ(r.done, 1);
  EXPECT_EQ(r.failed, 1);
  const Job rest = *journal_.job(id);
  EXPECT_EQ(rest.state, JobState::done);
  EXPECT_EQ(rest.making.subject.frames, (std::vector<FrameRange>{{100, 138}, {163, 196}}));
  EXPECT_EQ(rest.price.frames, 71);
  const Job bad = journal_.jobs().front().id == id ? journal_.jobs().back() : journal_.jobs().front();
  EXPECT_EQ(bad.state, JobState::failed);
  EXPECT_EQ(bad.making.subject.frames, (std::vector<FrameRange>{{138, 163}}));
  EXPECT_EQ(bad.price.frames, 25);
  EXPECT_THAT(bad.trouble, testing::AllOf(HasSubstr("signal 11"), HasSubstr("in 'Glow', of frame 150"), HasSubstr("/snapshot.otio")));
  EXPECT_FALSE(fs::exists(journal_.crash_file(id)));
}

TEST_F(Queued, ADeliveryThatCrashesIsSetAsideAsAWhole) {
  Job j;
  j.file = "/cut.otio", j.delivery = "{}", j.price = {96, 9, 9};
  j.making.subject.form = Form::vc3_hqx, j.making.subject.frames = {{100, 196}};
  const std::int64_t id = *journal_.add(j);
  for (const bool aside : {false, true}) {
    ASSERT_TRUE(*journal_.take(own_process()));
    EXPECT_EQ(*journal_.failed(id, "It crashed.", 150), aside);
  }
  EXPECT_EQ(journal_.jobs().size(), 1u) << "a part of a delivery is none";
  EXPECT_EQ(journal_.job(id)->state, JobState::failed);
}

TEST_F(Queued, ALimitOfBytesIsKept) {
  for (const std::uint64_t bytes : {400u, 500u, 300u}) {
    Job j;
    j.price = {8, 1, 1}, j.bytes = bytes, j.making.subject.form = Form::vc3_hqx;
    ASSERT_TRUE(journal_.add(j));
  }
  RendererOptions o;
  o.without_input = [] { return 1e9; }, o.most_bytes = 1000;
  o.start = [&](std::int64_t id) {
    const pid_t pid = ::fork();
    if (pid != 0) return static_cast<int>(pid);
    (void)Journal::open(dir_ / "queue.sqlite")->end(id, JobState::done, "", 1);
    ::_exit(0);
  };
  const std::atomic<bool> stop{false};
  const auto r = run_renderer(journal_, o, stop);
  ASSERT_TRUE(r);
  EXPECT_EQ(r->done, 2) << "the third would take it to 1200";
  EXPECT_EQ(journal_.jobs().front().state, JobState::waiting);
}

TEST(TheQueuesOutlook, CountsWhatIsLeftAndSaysWhenAsARange) {
  Job a, b, paused, failed;
  a.state = JobState::working, a.price = {100, 50, 50}, a.done = 40, a.began = "2026-03-28T10:00:00Z";
  b.price = {60, 20, 20};
  paused.paused = true, paused.price = {10, 5, 5};
  failed.state = JobState::failed;
  // Ten earlier renders: the first took half of what was said, the last twice as much.
  const QueueOutlook o = outlook({a, b, paused, failed}, {0.5, 0.8, 0.9, 1, 1, 1, 1, 1.1, 1.2, 1.4, 2}, *seconds_of_utc("2026-03-28T10:00:20Z"));
  EXPECT_EQ(o.open, 2);
  EXPECT_EQ(o.failed, 1);
  EXPECT_EQ(o.frames_left, 120);
  EXPECT_DOUBLE_EQ(o.seconds_left, 30 + 20);
  EXPECT_DOUBLE_EQ(*o.frames_a_second, 2);
  EXPECT_DOUBLE_EQ(o.soonest_s, 50 * 0.8);
  EXPECT_DOUBLE_EQ(o.latest_s, 50 * 1.4);
  EXPECT_THAT(o.sentence(1'774'692'020, true), testing::AllOf(HasSubstr("2 to be done, 120 frames"), HasSubstr("at 2.0 frames a second"), HasSubstr("if nothing holds it up")));
  EXPECT_EQ(o.sentence(1'774'692'020, false), "2 to be done, 120 frames, about 50 s of work.");
  EXPECT_EQ(outlook({paused}, {}, 0).sentence(0, true), "Nothing waits.");
}

TEST_F(Queued, OneRendererForASeat) {
  add("one");
  ASSERT_TRUE(*journal_.lease(own_process()));
  EXPECT_TRUE(*journal_.lease(own_process())) << "it is mine already";
  // Another process, alive: process 1 of this machine.
  std::istringstream me(own_process());
  std::string host, boot;
  me >> host >> boot;
  std::ifstream stat("/proc/1/stat");
  std::string field, start;
  for (int i = 0; i < 22 && stat >> field; ++i) start = field;
  EXPECT_FALSE(*journal_.lease(host + " " + boot + " 1 " + start));
  ASSERT_TRUE(journal_.release(own_process()));
  EXPECT_EQ(journal_.holder(), "");
  EXPECT_TRUE(*journal_.lease(host + " " + boot + " 999999999 1")) << "nobody has it";
  EXPECT_EQ(journal_.holder(), "") << "a process that is gone holds nothing";
}

TEST_F(Queued, SleepsWhileSomebodyWorksAndGoesOnWithTheSameProcess) {
  const std::int64_t id = add("one");
  std::atomic<double> idle{1e9};
  std::atomic<int> child{0};
  RendererOptions o;
  o.without_input = [&] { return idle.load(); };
  o.start = [&](std::int64_t) {
    const pid_t pid = ::fork();
    if (pid == 0) {
      while (!fs::exists(dir_ / "finish")) ::usleep(5000);
      Journal own = *Journal::open(dir_ / "queue.sqlite");
      (void)own.end(id, JobState::done, "", 1);
      ::_exit(0);
    }
    child = pid;
    return static_cast<int>(pid);
  };
  const auto state = [&] {
    std::ifstream stat("/proc/" + std::to_string(child.load()) + "/stat");
    std::string all((std::istreambuf_iterator<char>(stat)), {});
    const std::size_t at = all.rfind(')');
    return at == std::string::npos ? '?' : all[at + 2];
  };
  // However slow the machine is, it comes to be so; how soon is for the bench.
  const auto until = [&](const std::function<bool()>& so) {
    for (int i = 0; i < 3000 && !so(); ++i) ::usleep(10000);
    return so();
  };
  std::atomic<bool> stop{false};
  std::thread renderer([&] { EXPECT_TRUE(run_renderer(journal_, o, stop)); });
  Journal looking = *Journal::open(dir_ / "queue.sqlite");
  EXPECT_TRUE(until([&] { return child != 0 && state() != 'T'; }));
  idle = 0.1;
  EXPECT_TRUE(until([&] { return state() == 'T'; })) << "stopped by a key press";
  EXPECT_TRUE(until([&] { return looking.why() == "you are working"; }));
  idle = 60;
  EXPECT_TRUE(until([&] { return state() != 'T'; }));
  {
    const Hush hush(dir_ / "queue.sqlite");
    EXPECT_TRUE(until([&] { return state() == 'T'; })) << "playing comes first";
    EXPECT_EQ(looking.why(), "something is played or measured");
    ::usleep(2500000);  // longer than one word of it counts
    EXPECT_TRUE(until([&] { return state() == 'T'; })) << "for as long as it is played";
  }
  test::put(dir_ / "finish", "");
  EXPECT_TRUE(until([&] { return looking.job(id)->state == JobState::done; })) << "a playout that ended is over within seconds";
  renderer.join();
  EXPECT_EQ(looking.job(id)->tries, 1) << "no piece was lost for it";
}

/// Knows no rendered media; counts the frames that were begun.
class Begun : public SealLookup {
 public:
  std::optional<SealHit> find(const Hash128&) const override {
    ++frames;
    return std::nullopt;
  }
  void report_broken(const SealHit&) const override {}
  mutable std::atomic<int> frames{0};
};

// An encoder takes one frame at a time: no worker may wait for it that could make the next one.
TEST(Renders, MakeFurtherFramesWhileOneIsEncoded) {
  MediaCatalog media;
  const ProgramPtr p = Program::compile(test::Build(64, 36).track("V1").solid("s", 24, 0.2, 0.3, 0.4).done(), media);
  const Begun begun;
  FlatOut flat;
  flat.workers = 2, flat.rendered = &begun;
  std::vector<Frames> all(24), taken;
  std::iota(all.begin(), all.end(), Frames{0});
  bool went_on = false;
  const auto made = make_frames(p, all, flat, [&](FrameResult& f) -> Result<bool> {
    taken.push_back(f.frame);
    // However slow the machine is: the other worker comes to begin its third frame.
    for (int i = 0; f.frame == 0 && i < 3000 && !went_on; ++i) went_on = begun.frames >= 4, ::usleep(10000);
    return true;
  });
  ASSERT_TRUE(made);
  EXPECT_TRUE(*made);
  EXPECT_TRUE(went_on);
  EXPECT_EQ(taken, all) << "in order, one at a time";
}

TEST(Hushes, MakeNoQueueWhereNothingWasEverQueued) {
  const test::TempFolder dir;
  { const Hush hush(dir / "queue.sqlite"); }
  EXPECT_FALSE(fs::exists(dir / "queue.sqlite"));
}

TEST_F(Queued, APausedOrCancelledJobIsNotWorkedOn) {
  const std::int64_t one = add("one"), two = add("two");
  ASSERT_TRUE(*journal_.pause(one, true));
  ASSERT_TRUE(*journal_.cancel(two));
  std::vector<std::int64_t> done;
  work([&](std::int64_t) {});
  EXPECT_EQ(journal_.job(one)->state, JobState::waiting);
  EXPECT_EQ(journal_.job(one)->tries, 0);
  EXPECT_EQ(journal_.job(two)->state, JobState::cancelled);
}

TEST_F(Queued, GivesItsMemoryBackWhenOthersWaitForSomeAndGoesOnAfterwards) {
  const std::int64_t id = add("one");
  int started = 0;
  pid_t first = 0;
  RendererOptions o;
  o.without_input = [] { return 1e9; };
  // Memory is short as long as the first process is there.
  o.memory_stalled = [&] { return first > 0 && ::kill(first, 0) == 0 ? 0.4 : 0.0; };
  o.start = [&](std::int64_t job) {
    const pid_t pid = ::fork();
    if (pid == 0) {
      if (started == 0) for (;;) ::pause();
      Journal own = *Journal::open(dir_ / "queue.sqlite");
      (void)own.end(job, JobState::done, "", 1);
      ::_exit(0);
    }
    if (++started == 1) first = pid;
    return static_cast<int>(pid);
  };
  const std::atomic<bool> stop{false};
  const auto r = run_renderer(journal_, o, stop);
  ASSERT_TRUE(r);
  EXPECT_EQ(started, 2) << "it ended, and began again";
  EXPECT_EQ(r->done, 1);
  EXPECT_EQ(journal_.job(id)->state, JobState::done);
}

TEST(MayWork, FollowsTheSettings) {
  using When = QueueSettings::When;
  const Journal::Use nobody;
  QueueSettings s;
  EXPECT_EQ(may_work(s, nobody, 60, true, 0).share, 1);
  EXPECT_EQ(may_work(s, nobody, 4, true, 0).why, "you are working");
  EXPECT_EQ(may_work(s, {2, 1e9}, 60, true, 0).why, "you are working") << "in the window";
  EXPECT_EQ(may_work(s, {1e9, 0.5}, 60, true, 0).why, "something is played or measured");
  EXPECT_EQ(may_work(s, nobody, 60, true, 0, 0.05).share, 1);
  EXPECT_EQ(may_work(s, nobody, 60, true, 0, 0.2).why, "memory is short");
  s.while_working = 0.25;
  EXPECT_EQ(may_work(s, nobody, 1, true, 0).share, 0.25);
  s.when = When::always;
  EXPECT_EQ(may_work(s, nobody, 0, true, 0).share, 1);
  s.mains_only = true;
  EXPECT_EQ(may_work(s, nobody, 0, false, 0).why, "the machine runs on battery");
  EXPECT_EQ(may_work(s, nobody, 0, true, 0).share, 1);
  s.when = When::hours, s.hours = "22:00-6:00";
  EXPECT_EQ(may_work(s, nobody, 0, true, 23 * 60).share, 1);
  EXPECT_EQ(may_work(s, nobody, 0, true, 5 * 60 + 59).share, 1);
  EXPECT_EQ(may_work(s, nobody, 0, true, 6 * 60).share, 0);
  s.when = When::never;
  EXPECT_EQ(may_work(s, nobody, 1e9, true, 0).share, 0);
  s.paused = true;
  EXPECT_EQ(may_work(s, nobody, 1e9, true, 0).why, "paused");
}

TEST_F(Queued, SettingsAreCheckedAndKept) {
  QueueSettings s;
  for (const auto& [name, value] : std::vector<std::pair<std::string, std::string>>{{"when", "hours"}, {"idle", "30"}, {"hours", "22:00-6:00"}, {"power", "mains"}, {"while-working", "0.5"}, {"after-window", "go-on"}, {"paused", "yes"}})
    EXPECT_TRUE(Journal::set(s, name, value)) << name;
  for (const auto& [name, value] : std::vector<std::pair<std::string, std::string>>{{"when", "soon"}, {"idle", "0"}, {"idle", "601"}, {"while-working", "2"}, {"paused", "maybe"}, {"hours", "at night"}, {"hours", "22:00-22:00"}, {"hours", "22:61-6:00"}, {"hours", "1:00-2:00 or so"}, {"after-window", "both"}, {"colour", "grey"}})
    EXPECT_FALSE(Journal::set(s, name, value)) << name;
  ASSERT_TRUE(journal_.set_settings(s));
  const QueueSettings kept = Journal::open(dir_ / "queue.sqlite")->settings();
  EXPECT_EQ(kept.when, QueueSettings::When::hours);
  EXPECT_EQ(kept.idle_s, 30);
  EXPECT_TRUE(kept.mains_only);
  EXPECT_EQ(kept.after_window, QueueSettings::AfterWindow::go_on);
  EXPECT_DOUBLE_EQ(kept.while_working, 0.5);
  EXPECT_TRUE(kept.paused);
}

TEST_F(Queued, WindowsOfOtherProgramsAreKnownWhileThoseAreAlive) {
  const std::string here = own_process();
  const pid_t pid = ::fork();
  if (pid == 0) {
    (void)Journal::open(dir_ / "queue.sqlite")->note_window(own_process(), true);
    for (;;) ::pause();
  }
  ASSERT_TRUE(journal_.note_window(here, true));
  const auto until = [&](bool others) {
    for (int i = 0; i < 1000 && journal_.other_windows(here) != others; ++i) std::this_thread::sleep_for(std::chrono::milliseconds(10));
    return journal_.other_windows(here) == others;
  };
  EXPECT_TRUE(until(true));
  ::kill(pid, SIGKILL);
  ::waitpid(pid, nullptr, 0);
  EXPECT_TRUE(until(false)) << "it ended without a word";
  ASSERT_TRUE(journal_.note_window(here, false));
  EXPECT_FALSE(journal_.other_windows("somebody else"));
}

TEST_F(Queued, ARendererEndsWhenItIsAskedToUnlessItWasStartedToStay) {
  Job j;
  j.price = {8, 1, 1}, j.making.subject.form = Form::vc3_hqx;
  const std::int64_t id = *journal_.add(j);
  RendererOptions o;
  o.without_input = [] { return 1e9; };
  o.start = [&](std::int64_t) {
    const pid_t pid = ::fork();
    if (pid == 0) for (;;) ::pause();
    (void)Journal::open(dir_ / "queue.sqlite")->ask_to_end();
    return static_cast<int>(pid);
  };
  std::atomic<bool> stop{false};
  ASSERT_TRUE(run_renderer(journal_, o, stop));
  EXPECT_EQ(journal_.job(id)->state, JobState::waiting);
  EXPECT_TRUE(journal_.holder().empty());
  o.until_empty = false;
  o.start = [&](std::int64_t) {
    Journal own = *Journal::open(dir_ / "queue.sqlite");
    EXPECT_TRUE(own.stays());
    (void)own.ask_to_end();
    const pid_t pid = ::fork();
    if (pid != 0) return static_cast<int>(pid);
    // Longer than it takes to notice; done all the same.
    std::this_thread::sleep_for(std::chrono::milliseconds(1200));
    (void)Journal::open(dir_ / "queue.sqlite")->end(id, JobState::done, "", 1);
    ::_exit(0);
  };
  std::jthread ends([&] {
    Journal own = *Journal::open(dir_ / "queue.sqlite");
    while (own.job(id)->state != JobState::done) std::this_thread::sleep_for(std::chrono::milliseconds(20));
    stop = true;
  });
  ASSERT_TRUE(run_renderer(journal_, o, stop));
  EXPECT_EQ(journal_.job(id)->state, JobState::done);
}

class QueueByCommand : public test::Commands {
 protected:
  QueueByCommand() { EXPECT_EQ(gclk("queue set when always").code, 0); }
  /// A timeline with a segment that drops on any seat.
  std::string heavy() {
    test::movie(dir_ / "m.mov", Form::vc3_sq, 256, 144, 60);
    Effect card = test::an("Slow spell", Json::object());
    card.id = "heavy";
    auto t = std::make_shared<Timeline>(*test::Build().media("m", "m.mov", 60).track("V1").segment("a", "m", 0, 48, {card, test::cdl("g", 1.1)}).done());
    t->cards["Slow spell"] = {120, 256, 144, "processor"};
    const fs::path file = dir_ / "heavy.otio";
    EXPECT_TRUE(save_timeline(*t, file));
    return "'" + file.string() + "'";
  }
  Json jobs() { return gclk("queue --json").json()["jobs"]; }
};

TEST_F(QueueByCommand, APlanIsQueuedDoneAndThenPlays) {
  const std::string cut = heavy();
  const test::Ran added = gclk("queue add " + cut + " --measure 2 --json");
  ASSERT_EQ(added.code, 0) << added.out;
  ASSERT_GE(added.json()["added"].size(), 1u);
  EXPECT_EQ(jobs()[0]["state"], "waiting");
  // Adding again replaces what waits.
  EXPECT_EQ(gclk("queue add " + cut + " --measure 2 --json").json()["added"].size(), jobs().size());
  ASSERT_EQ(gclk("work --json").json()["failed"], 0);
  for (const Json& j : jobs()) EXPECT_EQ(j["state"], "done") << j.dump();
  const Json after = gclk("plan " + cut + " --measure 2 --json").json();
  EXPECT_TRUE(after["remedies"].empty()) << after["sentence"];
  EXPECT_EQ(gclk("queue log 99").code, 2);
}

TEST_F(QueueByCommand, ADeliveryIsOfTheTimelineAsItWasWhenItWasQueued) {
  test::movie(dir_ / "m.mov", Form::vc3_sq, 256, 144, 60);
  const TimelinePtr t = test::Build(256, 144).media("m", "m.mov", 60).track("V1").segment("a", "m", 0, 24, {test::cdl("g", 1.1)}).done();
  const fs::path file = dir_ / "cut.otio", to = dir_ / "out" / "kiln.mov";
  ASSERT_TRUE(save_timeline(*t, file));
  const std::string cut = "'" + file.string() + "'";
  const test::Ran queued = gclk("deliver " + cut + " --to '" + to.string() + "' --form vc3-hq --queue --json");
  ASSERT_EQ(queued.code, 0) << queued.out;
  EXPECT_EQ(jobs()[0]["what"], "kiln.mov");
  // It is edited meanwhile, and another plan is queued: the delivery waits on.
  ASSERT_TRUE(save_timeline(*test::Build(256, 144).media("m", "m.mov", 60).track("V1").segment("a", "m", 0, 12, {}).done(), file));
  EXPECT_EQ(gclk("queue add " + cut + " --measure 1").code, 0);
  // Done again, as after a stop while it was read back, it is not made anew: the file that lies there is its own.
  const std::string one = "work --one " + queued.json()["job"].dump();
  ASSERT_EQ(gclk(one).code, 0);
  const auto written = fs::last_write_time(to);
  EXPECT_EQ(gclk(one).code, 0);
  EXPECT_EQ(fs::last_write_time(to), written);
  ASSERT_EQ(gclk("work --json").json()["failed"], 0) << jobs().dump(1);
  EXPECT_EQ(jobs()[0]["state"], "done");
  EXPECT_EQ(jobs()[0]["frames_done"], 24);
  const auto reader = FrameReader::open(to.string());
  ASSERT_TRUE(reader);
  EXPECT_EQ((*reader)->info().frames, 24);
  EXPECT_TRUE(fs::exists(manifest_of(to))) << "it was read back";
  // The same once more finds an earlier delivery there, and says so.
  ASSERT_TRUE(save_timeline(*t, file));
  ASSERT_EQ(gclk("deliver " + cut + " --to '" + to.string() + "' --form vc3-hq --queue").code, 0);
  EXPECT_EQ(gclk("work --json").json()["failed"], 1);
  EXPECT_THAT(jobs()[0]["trouble"].get<std::string>(), testing::HasSubstr("--replace"));
  // What may not be delivered is not queued.
  ASSERT_TRUE(save_timeline(*with_bypass(*t, "a", "g", true, "now"), file));
  EXPECT_EQ(gclk("deliver " + cut + " --to '" + (dir_ / "other.mov").string() + "' --queue").code, 1);
}

// What an edit makes useless goes from the queue, and nothing else does.
TEST_F(QueueByCommand, AnEditLeavesInTheQueueWhatIsStillWanted) {
  const fs::path file = dir_ / "cut.otio";
  test::movie(dir_ / "m.mov", Form::vc3_sq, 256, 144, 60);
  const TimelinePtr t = test::Build(256, 144).media("m", "m.mov", 60).track("V1").segment("a", "m", 0, 24, {test::cdl("ga", 1.1)})
                            .segment("b", "m", 24, 24, {test::cdl("gb", 1.1)}).done();
  ASSERT_TRUE(save_timeline(*t, file));
  DeskOptions o;
  o.shelf = dir_ / "shelf", o.notebook = dir_ / "notebook.sqlite", o.settings = {};
  const Stores stores = *Stores::open(o);
  const TimelinePtr opened = *open_timeline(file, stores.media);
  auto journal = *Journal::open(dir_ / "own-queue.sqlite");
  const auto add = [&](Making::What what, const std::string& segment, std::vector<FrameRange> frames) {
    Job j;
    j.file = file.string(), j.snapshot = snapshot_of(opened)->string(), j.price = {24, 2, 2}, j.bytes = 1000;
    j.making.what = what, j.making.subject.segment = segment, j.making.subject.after = 1, j.making.subject.frames = std::move(frames);
    return *journal.add(j);
  };
  const std::int64_t both = add(Making::What::frames, "", {{12, 36}}), first = add(Making::What::frames, "", {{0, 24}});
  const std::int64_t tap = add(Making::What::stack, "a", {}), other = add(Making::What::stack, "b", {}), copy = add(Making::What::source, "", {});
  const auto after = [&](const TimelinePtr& edited) { return *follow_edit(journal, view_of(edited, stores), stores, file); };
  EXPECT_EQ(after(opened), 0) << "nothing was changed";
  // 'a' is graded anew.
  EXPECT_EQ(after(with_param(*opened, "a", "ga", "saturation", 1.4)), 3);
  EXPECT_EQ(journal.job(first)->state, JobState::cancelled);
  EXPECT_EQ(journal.job(tap)->state, JobState::cancelled);
  EXPECT_EQ(journal.job(other)->state, JobState::waiting);
  EXPECT_EQ(journal.job(copy)->state, JobState::waiting);
  const Job narrowed = *journal.job(both);
  EXPECT_EQ(narrowed.state, JobState::waiting);
  EXPECT_EQ(narrowed.making.subject.frames, (std::vector<FrameRange>{{24, 36}}));
  EXPECT_EQ(narrowed.price.frames, 12);
  EXPECT_DOUBLE_EQ(narrowed.price.said_s, 1);
  EXPECT_EQ(narrowed.bytes, 500u);
}

TEST_F(QueueByCommand, AnEditByCommandIsFollowed) {
  const std::string cut = heavy();
  ASSERT_EQ(gclk("queue add " + cut + " --measure 2").code, 0);
  ASSERT_EQ(jobs()[0]["state"], "waiting");
  ASSERT_EQ(gclk("bypass " + cut + " a heavy").code, 0);
  EXPECT_EQ(jobs()[0]["state"], "cancelled");
}

// Whoever is killed at whatever moment: the next start finds the work undone and does it, and nothing half made is there.
TEST_F(QueueByCommand, AKilledRendererLosesNothing) {
  const std::string cut = heavy();
  ASSERT_EQ(gclk("queue add " + cut + " --measure 2").code, 0);
  for (int round = 0; round < 3; ++round) {
    const pid_t pid = ::fork();
    if (pid == 0) {
      ::setenv("XDG_CACHE_HOME", (dir_ / "cache").c_str(), 1), ::setenv("XDG_CONFIG_HOME", (dir_ / "config").c_str(), 1);
      ::setenv("XDG_DATA_HOME", (dir_ / "data").c_str(), 1);
      ::execl(GCLK_BINARY, GCLK_BINARY, "work", static_cast<char*>(nullptr));
      ::_exit(9);
    }
    ::usleep(300000 + static_cast<useconds_t>(round) * 250000);
    ::kill(pid, SIGKILL);
    ::waitpid(pid, nullptr, 0);
    EXPECT_EQ(Journal::open(dir_ / "data" / "glass-clock" / "queue.sqlite")->check(), "ok");
  }
  ASSERT_EQ(gclk("work --json").json()["failed"], 0);
  for (const Json& j : jobs()) EXPECT_EQ(j["state"], "done") << j.dump();
  EXPECT_TRUE(gclk("plan " + cut + " --measure 2 --json").json()["remedies"].empty());
  EXPECT_EQ(gclk("shelf --verify --json").code, 0);
}

}  // namespace
}  // namespace gc
