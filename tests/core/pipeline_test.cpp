// Frames in flight, the pacing rule, and the player on a real clock.
#include <sys/resource.h>

#include <latch>
#include <random>

#include "playout/player.h"
#include "support.h"

namespace gc {
namespace {

using test::Build;

TEST(Pacing, CadencesAreEvenlySpread) {
  for (const Cadence& c : kCadences) {
    int shown = 0, longest = 0, since = 0;
    for (std::int64_t n = 0; n < 10 * c.of; ++n) {
      if (c.has(n)) ++shown, since = 0;
      longest = std::max(longest, ++since);
    }
    EXPECT_EQ(shown, 10 * c.shown);
    EXPECT_LE(longest, (c.of + c.shown - 1) / c.shown + 1);
  }
}

/// Feeds the rule with frames that each occupy a worker for `cost` ms; returns which are started.
std::vector<std::int64_t> paced(double cost, int workers, int frames, double period = 40) {
  Pacer pacer({workers, 12, period});
  std::vector<double> free(static_cast<std::size_t>(workers), 0);
  std::vector<std::int64_t> started;
  for (;;) {
    auto& w = *std::min_element(free.begin(), free.end());
    const FrameStart s = pacer.next(w);
    if (s.frame >= frames) return started;
    EXPECT_GE(s.at_ms, w);
    if (!started.empty()) EXPECT_GT(s.frame, started.back());
    started.push_back(s.frame);
    pacer.finished({0, 0, cost});
    w = s.at_ms + cost;
  }
}

TEST(Pacing, KeepsEveryFrameBelowTheBudget) {
  // Without a pre-roll the very first frames are due before they can be made.
  EXPECT_GE(paced(75, 2, 500).size(), 497u);
}

TEST(Pacing, KeepsASteadyLowerRateAboveIt) {
  // Load 1.5 allows two frames of three; at least 95 % of that must be reached, evenly.
  const auto started = paced(120, 2, 1200);
  EXPECT_GE(static_cast<double>(started.size()), 0.95 * 800);
  for (std::size_t i = started.size() / 2; i < started.size(); ++i) EXPECT_LE(started[i] - started[i - 1], 3);
}

TEST(Pacing, NeverStopsAltogetherHoweverHeavyTheFrames) {
  const auto started = paced(900, 2, 1200);
  EXPECT_GT(started.size(), 40u);
  for (std::size_t i = started.size() / 2; i < started.size(); ++i)
    EXPECT_LE(started[i] - started[i - 1], 30);
}

TEST(Pacing, DoesNotSpiralWhenSkippedFramesMustBeDecoded) {
  // Decoding takes 17 of 40 ms and each frame 50 in all on two workers: it plays. One stall of a second must
  // not keep it from coming back to every frame.
  Pacer pacer({2, 12, 40});
  double free[2] = {}, fetch_free = 0;
  std::int64_t last = -1, late_at_end = 0;
  for (int i = 0; i < 600; ++i) {
    double& w = free[0] <= free[1] ? free[0] : free[1];
    const FrameStart s = pacer.next(w);
    const double began = std::max(s.at_ms, fetch_free),
                 catch_up = 17.0 * static_cast<double>(s.frame - last - 1) + (i == 100 ? 1000 : 0);
    fetch_free = began + 17 + catch_up;
    w = fetch_free + 33;
    pacer.finished({began - s.at_ms, 17, 33}, {17, true, 0, 0});
    if (i > 300) late_at_end += s.frame - last - 1;
    last = s.frame;
  }
  EXPECT_EQ(late_at_end, 0);
  EXPECT_EQ(pacer.cadence().shown, pacer.cadence().of);
}

TEST(Pacing, ASlowDecoderIsNotSentSecondsAhead) {
  // Decoding takes 38 of 40 ms for a while. After a stall of half a second no skip may be longer than the
  // stall, a group and the read-ahead together.
  Pacer pacer({2, 12, 40});
  double now = 0;
  std::int64_t last = -1, longest = 0;
  for (int i = 0; i < 200; ++i) {
    const FrameStart s = pacer.next(now);
    longest = std::max(longest, s.frame - last - 1);
    last = s.frame;
    now = s.at_ms + 38 + (i == 100 ? 500 : 0);
    pacer.finished({0, 38, 20}, {38, true, 0, 0});
  }
  EXPECT_LE(longest, 30);
}

TEST(Pacing, OneFrameHeldUpFromOutsideCostsFewFrames) {
  // Load 0.6 on two workers; frame 100 takes 700 ms because something else had the processor.
  Pacer pacer({2, 12, 40});
  double free[2] = {};
  std::int64_t last = -1, skipped = 0, late = 0;
  for (int i = 0; i < 500; ++i) {
    double& w = free[0] <= free[1] ? free[0] : free[1];
    const FrameStart s = pacer.next(w);
    const double cost = i == 100 ? 700 : 48;
    skipped += s.frame - last - 1, last = s.frame;
    w = s.at_ms + cost;
    late += w > static_cast<double>(s.frame) * 40;
    pacer.finished({0, 0, cost});
  }
  EXPECT_LE(skipped + late, 12) << "the read-ahead and the other worker carry most of it";
}

/// The rule for eight playouts at once decides what it decides for each of them alone, whatever befalls them.
TEST(Pacing, EightSideBySideDecideLikeEachAlone) {
  std::mt19937 rng(5);
  const auto unit = [&] { return std::uniform_real_distribution<double>(0, 1)(rng); };
  const std::vector<CostKind> kinds{{0, 60, 4, {}}, {90, 190, 20, {8, true, 0, 0}}, {200, 30, 2, {}}};
  const SkipCost long_gop(9, true, 0, 0), neighbours(6, false, 30, 4), none;
  const Pace pace{2, 12, 40, 24};
  std::vector<PacerOf<double>> alone(8, PacerOf<double>(pace));
  PacerOf<Eight> together(pace);
  double now[8] = {};
  StartOf<double> starts[8];
  int skipped = 0;
  for (int step = 0; step < 400; ++step) {
    Eight at{}, waited{}, fetch{}, process{}, kind{};
    EightTruths told{}, skips{};
    std::array<const SkipCost*, 8> skip{};
    for (int i = 0; i < 8; ++i) set(at, i, now[i]);
    const StartOf<Eight> all = together.next(at, kinds);
    for (int i = 0; i < 8; ++i) {
      PacerOf<double>& one = alone[static_cast<std::size_t>(i)];
      const double before = starts[i].frame;
      const StartOf<double> s = starts[i] = one.next(now[i], kinds);
      skipped += s.frame > before + 1;
      ASSERT_EQ(get(all.frame, i), s.frame) << "step " << step << ", playout " << i;
      ASSERT_EQ(get(all.at_ms, i), s.at_ms);
      ASSERT_EQ(get(all.kind, i), s.kind);
      const double cost =
          (s.frame < 90 || s.frame >= 200 ? 50 : 180) * (0.6 + 0.2 * i) * (0.9 + 0.2 * unit());
      now[i] = std::max(now[i], s.at_ms) + cost / 2 + (unit() < 0.01 ? 700 : 0);
      set(waited, i, 5 * unit()), set(fetch, i, 0.1 * cost), set(process, i, 0.9 * cost);
      set(kind, i, s.kind), set(told, i, unit() < 0.9);
      const std::size_t k = static_cast<std::size_t>(i);
      skip[k] = i % 3 == 0 ? &long_gop : i % 3 == 1 ? &neighbours : &none;
      set(skips, i, skip[k]->any());
      if (get(told, i))
        one.finished({get(waited, i), get(fetch, i), get(process, i), s.kind}, true, skip[k]->any(),
                     &skip[k]);
    }
    together.finished({waited, fetch, process, kind}, told, skips, skip.data());
  }
  EXPECT_GT(skipped, 100) << "something must have been at stake";
}

// Of each cadence the rule has to start exactly the frames that are shown.
TEST(Pacing, StartsTheFramesThatTheCadenceShows) {
  for (const double load : {1.15, 1.3, 1.45, 1.6, 1.9, 2.3, 2.8, 3.5, 4.5, 5.5, 7.5, 11.0, 20.0}) {
    const CostKind kind{0, 80 * load, 0, {}};
    Pacer pacer({2, 12, 40});
    double free[2] = {};
    std::int64_t last = -1;
    for (int i = 0; i < 300; ++i) {
      double& w = free[1] < free[0] ? free[1] : free[0];
      const Cadence before = pacer.cadence();
      const FrameStart s = pacer.next(w, Kinds(&kind, 1));
      // It may change with the frame that is decided, for those after it.
      EXPECT_TRUE(before.has(s.frame) || pacer.cadence().has(s.frame)) << load << ", frame " << s.frame;
      EXPECT_GT(s.frame, last);
      last = s.frame, w = std::max(w, s.at_ms) + 80 * load;
      pacer.finished({0, 0, 80 * load, s.kind});
    }
  }
}

class Playing : public testing::Test {
 protected:
  MediaCatalog media_;
  ProgramPtr light_ = Program::compile(Build(320, 180)
                                           .track("V1")
                                           .solid("a", 30, 0.2, 0.2, 0.2)
                                           .solid("b", 30, 0.6, 0.6, 0.6, {test::cdl("g", 1.2)})
                                           .done(),
                                       media_);
};

TEST_F(Playing, DeliversEveryFrameOnceWithItsStages) {
  std::mutex m;
  std::multiset<Frames> seen;
  std::size_t stages = 0;
  {
    std::vector<Frames> frames;
    for (Frames f = 0; f < 60; ++f) frames.push_back(f);
    Pipeline p(light_, nullptr, {3, 100, true, false, false}, frames, [&](FrameResult&& r) {
      const std::lock_guard lock(m);
      seen.insert(r.frame);
      stages += r.stages.size();
      EXPECT_LE(r.started_ms, r.fetched_ms);
      EXPECT_LE(r.fetched_ms, r.done_ms);
    });
    for (int i = 0; i < 200; ++i) {
      {
        const std::lock_guard lock(m);
        if (seen.size() == 60) break;
      }
      usleep(10000);
    }
  }
  EXPECT_EQ(seen.size(), 60u);
  EXPECT_EQ(std::set<Frames>(seen.begin(), seen.end()).size(), 60u);
  EXPECT_EQ(stages, 30u * 3 + 30u * 4)
      << "generator, display and what lies between; a grade on the second segment";
}

struct Recorder : Display {
  std::vector<Frames> shown;
  bool present(Frames f, ScreenImage&& s, double) override {
    EXPECT_EQ(s.width, 320);
    shown.push_back(f);
    return true;
  }
};

TEST_F(Playing, EveryFrameModeShowsAllInOrder) {
  Recorder display;
  const std::atomic<bool> stop{false};
  const Playout p = play(light_, nullptr, {10, 40}, {PlayMode::every_frame, 2, 12, false}, display, stop);
  EXPECT_EQ(p.dropped, 0);
  ASSERT_EQ(display.shown.size(), 30u);
  EXPECT_TRUE(std::is_sorted(display.shown.begin(), display.shown.end()));
  EXPECT_EQ(display.shown.front(), 10);
}

TEST_F(Playing, BackwardsRunsFromTheEnd) {
  Recorder display;
  const std::atomic<bool> stop{false};
  play(light_, nullptr, {0, 12}, {PlayMode::every_frame, 2, 12, true}, display, stop);
  EXPECT_EQ(display.shown.front(), 11);
  EXPECT_EQ(display.shown.back(), 0);
}

TEST_F(Playing, OnTheClockItLogsEveryFrameAndKeepsTime) {
  Recorder display;
  const std::atomic<bool> stop{false};
  const Playout p = play(light_, nullptr, {0, 48}, {PlayMode::on_the_clock, 2, 12, false}, display, stop);
  EXPECT_EQ(p.frames, 48);
  EXPECT_EQ(p.log.size(), 48u);
  EXPECT_GE(p.seconds, 47.0 / 24 - 0.01) << "never faster than the clock";
  Frames presented = 0;
  for (const FrameLog& l : p.log) presented += l.presented;
  EXPECT_EQ(presented + p.dropped, 48);
  ASSERT_EQ(p.segments.size(), 2u);
  EXPECT_EQ(p.segments[1].frames, 18);
}

TEST_F(Playing, StopsPromptly) {
  Recorder display;
  std::atomic<bool> stop{false};
  std::thread later([&] { usleep(300000), stop = true; });
  const Playout p = play(light_, nullptr, {0, 60}, {}, display, stop);
  later.join();
  EXPECT_TRUE(p.stopped);
  EXPECT_LT(p.frames, 60);
}

TEST_F(Playing, OfflineFramesAreLoggedAndAreNotDropsOfTheMachine) {
  const ProgramPtr gone = Program::compile(
      Build(320, 180).media("x", "/nowhere.mov").track("V1").segment("a", "x", 0, 24).done(), media_);
  NullDisplay display;
  const std::atomic<bool> stop{false};
  const Playout p = play(gone, nullptr, {0, 24}, {PlayMode::every_frame, 2, 12, false}, display, stop);
  EXPECT_EQ(p.dropped, 0);
  EXPECT_TRUE(std::all_of(p.log.begin(), p.log.end(), [](const FrameLog& l) { return l.offline; }));
}

/// Frames from 0 to 60 take 24 frame budgets a worker, those after it a third of one; both are known.
/// Notes the place in line of the threads that make frames.
class NotesItsPlace : public FrameMaker {
 public:
  explicit NotesItsPlace(std::vector<std::atomic<int>>& places) : places_(places) {}
  std::unique_ptr<Work> fetch(Frames, FrameResult&) override { return std::make_unique<Work>(); }
  void process(Work&, FrameResult& result) override { places_[static_cast<std::size_t>(result.frame)] = getpriority(PRIO_PROCESS, 0); }

 private:
  std::vector<std::atomic<int>>& places_;
};

// What is rendered makes way for what is played, though not for every other program on the machine.
TEST(Background, StandsALittleBehindInLineAndItsCallerDoesNot) {
  const int mine = getpriority(PRIO_PROCESS, 0);
  for (const bool background : {false, true}) {
    std::vector<std::atomic<int>> places(8);
    {
      PipelineOptions options;
      options.workers = 2, options.background = background;
      std::latch all(8);
      Pipeline p(std::make_unique<NotesItsPlace>(places), options, {0, 1, 2, 3, 4, 5, 6, 7}, [&](FrameResult&&) { all.count_down(); });
      p.consumed(8);
      all.wait();
    }
    for (const auto& place : places) EXPECT_EQ(place, background ? std::min(19, mine + 3) : mine);
    EXPECT_EQ(getpriority(PRIO_PROCESS, 0), mine);
  }
}

TEST(Pacing, KnownChangesOfCostAreFollowedAtTheirFirstFrame) {
  constexpr double kPeriod = 40;
  const std::vector<CostKind> kinds{{0, 1900, 5, {}}, {60, 13, 1, {}}};
  for (const bool told : {true, false}) {
    Pacer pacer({2, 12, kPeriod});
    double free[2] = {0, 0};
    std::int64_t first_light = 0, shown_light = 0;
    for (;;) {
      double& w = free[1] < free[0] ? free[1] : free[0];
      const FrameStart s = pacer.next(w, told ? Kinds(kinds) : Kinds());
      if (s.frame >= 100) break;
      const double cost = s.frame < 60 ? 1900 : 13;
      const double done = std::max(w, s.at_ms) + cost;
      if (s.frame >= 60 && done <= static_cast<double>(s.frame) * kPeriod) {
        if (shown_light++ == 0) first_light = s.frame;
      }
      w = done;
      pacer.finished({0, 0, cost, s.kind});
    }
    if (told) {
      EXPECT_LE(first_light, 72) << "within half a second of where it can";
      EXPECT_GE(shown_light, 28);
    } else {
      EXPECT_LT(shown_light, 28) << "who does not know finds out only from frames that are done";
    }
  }
}

// What a heavy segment takes says nothing of the short light ones after it, of which each is a kind of its own.
TEST(Pacing, NoLightSegmentAfterAHeavyOneIsSteppedOver) {
  const std::vector<CostKind> kinds{{0, 10, 1, {}}, {24, 2000, 50, {}}, {31, 5, 0, {}}, {34, 6, 0, {}}, {40, 5, 0, {}}, {90, 6, 0, {}}};
  Pacer pacer({2, 12, 40});
  double free[2] = {0, 0};
  std::set<std::int64_t> in_time;
  for (std::int64_t last = -1; last < 120;) {
    double& w = free[1] < free[0] ? free[1] : free[0];
    const FrameStart s = pacer.next(w, kinds);
    const double cost = s.frame < 24 ? 10 : s.frame < 31 ? 2000 : 6;
    w = std::max(w, s.at_ms) + cost;
    if (w <= static_cast<double>(s.frame) * 40) in_time.insert(s.frame);
    pacer.finished({0, 0, cost, s.kind});
    last = s.frame;
  }
  // Two frames of the heavy one are under way, from half a second before it on: 1.5 s of light ones are over when they are done.
  const auto light = std::ranges::find_if(in_time, [](std::int64_t f) { return f >= 31; });
  ASSERT_NE(light, in_time.end());
  EXPECT_LE(*light, 24 + 2000 / 40 + 2);
  for (std::int64_t f = *light; f < 120; ++f) EXPECT_TRUE(in_time.contains(f)) << f;
}

// A frame with four neighbours of 90 ms each, 100 ms besides: making every second frame costs as much as
// making all of them; the rule has to skip far to gain anything.
TEST(Pacing, SkippingThatCostsWhatItSavesIsNotDoneByHalves) {
  constexpr double kPeriod = 40;
  const SkipCost skip(5, false, 90, 4);
  EXPECT_DOUBLE_EQ(skip.after(1), 95);
  EXPECT_DOUBLE_EQ(skip.after(9), 380);
  const std::vector<CostKind> kinds{{0, 195, 4, skip}};
  Pacer pacer({2, 12, kPeriod});
  double free[2] = {0, 0};
  std::int64_t last = -1;
  int on_time = 0, made = 0;
  for (;;) {
    double& w = free[1] < free[0] ? free[1] : free[0];
    const FrameStart s = pacer.next(w, kinds);
    if (s.frame >= 480) break;
    const double done = std::max(w, s.at_ms) + 195 + skip.after(static_cast<double>(s.frame - last - 1));
    on_time += done <= static_cast<double>(s.frame) * kPeriod, ++made;
    last = s.frame, w = done;
    pacer.finished({0, 5, 190, s.kind}, skip);
  }
  EXPECT_GE(on_time, made * 9 / 10) << "what is started arrives";
  EXPECT_GE(on_time, 40) << "of 480, with room for one in 7.2";
}

}  // namespace
}  // namespace gc
