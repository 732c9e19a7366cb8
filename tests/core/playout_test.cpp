// The player on the scripted seat: the real player and pipeline on a clock of their own.
#include <random>
#include <thread>

#include "audit/explain.h"
#include "base/clock.h"
#include "forecast/forecast.h"
#include "measure/measure.h"
#include "playout/record.h"
#include "playout/trace.h"
#include "support.h"

namespace gc {
namespace {

using test::Build;
constexpr double kPeriod = 1000.0 / 24;

class Scripted : public testing::Test {
 protected:
  static ProgramPtr plain(Frames length) {
    MediaCatalog media;
    return Program::compile(Build(64, 36).track("V1").solid("s", length, 0.2, 0.3, 0.4).done(), media);
  }
  static PlayRecord script(Frames frames, double fetch, double process, int workers = 2) {
    PlayRecord r;
    r.workers = workers;
    r.costs.assign(static_cast<std::size_t>(frames), {fetch, 0, process, -2, false});
    return r;
  }
  static Playout run(const PlayRecord& r, PlayOptions o = {}) {
    const auto n = static_cast<Frames>(r.costs.size());
    return play_script(plain(n), r, {0, n}, std::move(o));
  }
  static std::vector<int> drops(const Playout& p) {
    std::vector<int> d;
    for (const FrameLog& l : p.log) d.push_back(l.dropped);
    return d;
  }
};

TEST_F(Scripted, AnEasyTimelineDropsNothing) {
  const Playout p = run(script(120, 3, 30));
  EXPECT_EQ(p.dropped, 0);
  EXPECT_EQ(p.frames, 120);
  EXPECT_NEAR(p.seconds, 119 * kPeriod / 1000, 0.05) << "the script's own time, not this machine's";
  for (const FrameLog& l : p.log) {
    EXPECT_TRUE(l.presented && l.made);
    EXPECT_LE(l.done_ms, l.due_ms);
  }
}

/// Costs that change along the way, with light and heavy stretches and long groups of pictures.
PlayRecord wild(unsigned seed) {
  std::mt19937 rng(seed);
  const auto unit = [&] { return std::uniform_real_distribution<double>(0, 1)(rng); };
  PlayRecord r;
  r.workers = 1 + static_cast<int>(seed % 4), r.horizon = 8 + static_cast<int>(seed % 9);
  bool gop = false;
  double load = 1;
  for (int i = 0; i < 400; ++i) {
    if (i % 40 == 0) gop = unit() < 0.4, load = 0.3 * std::pow(8, unit());
    const double all = load * r.workers * kPeriod * (0.85 + 0.3 * unit());
    const double fetch = std::min(0.3 * all, 30.0);
    r.costs.push_back({fetch, i % 40 == 0 ? 20 * unit() : 0, all - fetch, i - 1, gop});
    // Some stretches look at neighbours, and some are known beforehand, not always rightly.
    if (i % 120 >= 80) r.costs.back().neighbours = 4, r.costs.back().neighbour = 0.3 * all;
    if (seed % 3 != 0 && i % 40 == 0)
      r.kinds.push_back(
          {i, all * (0.7 + 0.6 * unit()), 0.1 * all, {fetch, gop, 0.3 * all, i % 120 >= 80 ? 4 : 0}});
  }
  return r;
}

class ModelAndPlayer : public testing::TestWithParam<unsigned> {};

TEST_P(ModelAndPlayer, AgreeToTheFrameWhenFramesTakeTheSame) {
  const PlayRecord r = wild(GetParam());
  MediaCatalog media;
  const ProgramPtr program =
      Program::compile(Build(64, 36).track("V1").solid("s", 400, 0, 0, 0).done(), media);
  const Playout p = play_script(program, r, {0, 400});
  const std::vector<Outcome> model = play_costs({r.workers, r.horizon, kPeriod}, r.costs, {}, r.kinds);
  for (std::size_t i = 0; i < model.size(); ++i)
    ASSERT_EQ(model[i].dropped, p.log[i].dropped) << "frame " << i << ", " << r.workers << " workers";
  EXPECT_GT(p.dropped, 0) << "else nothing was tried";
  const Playout again = play_script(program, r, {0, 400});
  for (std::size_t i = 0; i < model.size(); ++i) ASSERT_EQ(p.log[i].done_ms, again.log[i].done_ms) << i;
  // And what is recorded of it replays to the same.
  const Replay back = replay(record_of(p, *program));
  // A frame that was still in work at the end left no time.
  EXPECT_NEAR(static_cast<double>(back.observed), static_cast<double>(back.modelled), 1);
}

INSTANTIATE_TEST_SUITE_P(Seeds, ModelAndPlayer, testing::Range(1u, 13u));

TEST_F(Scripted, OverloadedItKeepsASteadyCadenceReachedWithinHalfASecond) {
  PlayRecord r = script(240, 1, 20);
  for (std::size_t i = 60; i < 180; ++i) r.costs[i].process = 2 * 2 * kPeriod - 1;  // load 2
  const Playout p = run(r);
  std::size_t first = 0;
  while (!p.log[first].dropped) ++first;
  EXPECT_GT(first, 60u) << "read-ahead carries the first of them";
  // From half a second after the first drop on every second frame, evenly, to the end of the heavy stretch.
  std::string pattern;
  for (std::size_t i = first; i < 215; ++i) pattern += p.log[i].dropped ? 'x' : '.';
  SCOPED_TRACE(pattern);
  int runs = 0;
  for (std::size_t i = first + 12; i + 2 < 180; ++i) {
    EXPECT_FALSE(p.log[i].dropped && p.log[i + 1].dropped && p.log[i + 2].dropped)
        << "a frozen picture at " << i;
    runs += p.log[i].dropped == p.log[i + 1].dropped;
  }
  EXPECT_LE(runs, 8) << "the cadence is even";
  // It climbs back as soon as there is slack: a second after the stretch nothing is dropped any more.
  for (std::size_t i = 204; i < 240; ++i) EXPECT_FALSE(p.log[i].dropped) << i;
}

TEST_F(Scripted, FramesThatCannotArriveAreNotStarted) {
  const Playout p = run(script(200, 1, 3 * 2 * kPeriod));
  Frames wasted = 0;
  for (const FrameLog& l : p.log) wasted += l.made && l.dropped;
  EXPECT_GT(p.dropped, 100);
  EXPECT_LE(wasted, 12);
}

TEST_F(Scripted, ADriveThatStopsForTwoSecondsIsSurvivedAndNamed) {
  PlayRecord r = script(240, 4, 20);
  r.stalls.push_back({80, 2000, Stall::On::read});
  const Playout p = run(r);
  EXPECT_GT(p.dropped, 24) << "two seconds less the read-ahead";
  EXPECT_LT(p.dropped, 49);
  EXPECT_GT(p.count(Cause::disk), 0.5 * static_cast<double>(p.dropped)) << "the drive is to blame";
  EXPECT_FALSE(p.log[200].dropped) << "and it plays on";
  const auto told = warnings(p);
  ASSERT_FALSE(told.empty());
  EXPECT_NE(told[0].find("drive"), std::string::npos) << told[0];
  EXPECT_LT(warnings(p, {"disk read"}).size(), told.size()) << "each warning can be turned off";
}

TEST_F(Scripted, WhatTheOutsideTakesIsNotTheTimelines) {
  PlayRecord r = script(240, 4, 20);
  for (const Frames at : {60, 61, 140, 141}) r.stalls.push_back({at, 700, Stall::On::process});
  const Playout p = run(r);
  EXPECT_GT(p.dropped, 4);
  EXPECT_GE(p.dropped_outside, 0.9 * static_cast<double>(p.dropped));
  PlayRecord heavy = script(240, 4, 100);
  const Playout own = run(heavy);
  EXPECT_GT(own.dropped, 20);
  EXPECT_LE(own.dropped_outside, 0.02 * static_cast<double>(own.dropped));
  EXPECT_EQ(own.count(Cause::processor), own.dropped);
}

TEST_F(Scripted, ADisplayThatBlocksIsNamed) {
  PlayRecord r = script(120, 4, 20);
  r.stalls.push_back({50, 400, Stall::On::display});
  const Playout p = run(r);
  EXPECT_NEAR(static_cast<double>(p.count(Cause::display)), 400 / kPeriod, 2);
  EXPECT_EQ(p.count(Cause::display), p.dropped);
  EXPECT_FALSE(p.log[80].dropped);
}

// Three pictures of 40 ms were decoded for a frame that others were skipped for: that is what it spent, its own share being one of
// them. Where a picture was decoded for another frame nothing was spent.
TEST(WhatFramesSpend, CountsEveryPictureThatWasDecoded) {
  FrameResult r;
  StageSample decode;
  decode.kind = StageKind::decode, decode.wall_ms = decode.cpu_ms = 120, decode.work_ms = 40;
  r.stages = {decode};
  EXPECT_FLOAT_EQ(static_cast<float>(spent_on(r).decode), 120);
  r.stages[0].wall_ms = r.stages[0].cpu_ms = 25;  // two threads worked beside each other
  EXPECT_FLOAT_EQ(static_cast<float>(spent_on(r).decode), 40);
  r.stages[0].wall_ms = r.stages[0].cpu_ms = 0;
  EXPECT_EQ(spent_on(r).decode, 0);
}

TEST_F(Scripted, EachCauseIsToldByWhatBoundTheFrames) {
  const std::pair<Stall::On, Cause> kEach[] = {{Stall::On::read, Cause::disk},
                                               {Stall::On::decode, Cause::decode},
                                               {Stall::On::process, Cause::processor},
                                               {Stall::On::accelerator, Cause::accelerator},
                                               {Stall::On::transfer, Cause::transfer}};
  for (const auto& [on, cause] : kEach) {
    PlayRecord r = script(200, 2, 10);
    const bool fetching = on == Stall::On::read || on == Stall::On::decode;
    // Decoding and processing are the frames' own work; the rest is waiting for someone.
    for (Frames i = 0; i < 200; ++i) {
      FrameCost& c = r.costs[static_cast<std::size_t>(i)];
      if (on == Stall::On::decode) c.fetch = 1.5 * kPeriod;
      else if (on == Stall::On::process) c.process = 3 * kPeriod;
      else r.stalls.push_back({i, (fetching ? 1.5 : 3) * kPeriod, on});
    }
    const Playout p = run(r);
    ASSERT_GT(p.dropped, 40) << cause_name(cause);
    EXPECT_GE(p.count(cause), p.dropped * 9 / 10) << cause_name(cause);
  }
  // Memory that has to come back now and then, and somebody else who takes the time.
  for (const Stall::On on : {Stall::On::memory, Stall::On::process}) {
    PlayRecord r = script(200, 2, 10);
    for (const Frames at : {60, 61, 120, 121}) r.stalls.push_back({at, 900, on});
    const Playout p = run(r);
    ASSERT_GT(p.dropped, 4);
    EXPECT_EQ(p.count(on == Stall::On::memory ? Cause::memory : Cause::outside), p.dropped);
  }
}

// Others have most of the processors while a source plays whose frames build on each other: four of five are skipped, and the
// fifth has five pictures to decode. Were none skipped it would hold, unless one picture alone takes too long.
TEST(Causes, WhatIsDecodedForSkippedFramesIsOfThoseWhoMadeThemSkip) {
  const auto told = [](double one_picture_ms) {
    std::vector<FrameLog> log(60);
    for (std::size_t i = 0; i < log.size(); ++i) {
      FrameLog& l = log[i];
      l.frame = static_cast<Frames>(i), l.due_ms = 40.0 * static_cast<double>(i);
      l.made = i % 5 == 0, l.dropped = !l.made;
      if (!l.made) continue;
      l.started_ms = l.fetch_began_ms = l.due_ms - 150, l.fetched_ms = l.due_ms - 40, l.done_ms = l.due_ms;
      l.spent.occupied = 150, l.spent.outside = 60, l.spent.fetch = 110, l.spent.decode = 55;
      l.steady_fetch_ms = one_picture_ms;
    }
    tell_causes(log, 2, 12, 40);
    return [log](Cause c) { return std::ranges::count_if(log, [&](const FrameLog& l) { return l.dropped && l.cause == c; }); };
  };
  EXPECT_EQ(told(11)(Cause::outside), 48);
  EXPECT_GT(told(55)(Cause::decode), 12);
}

// A timeline that is too heavy by itself, and somebody else who takes half as much again: its drops are what it drops alone.
TEST_F(Scripted, DropsThatOthersAddToAHeavySegmentAreTheirs) {
  PlayRecord r = script(600, 2, 10);
  for (FrameCost& c : r.costs) c.process = 3 * kPeriod;
  const Playout alone = run(r);
  for (Frames i = 0; i < 600; ++i) r.stalls.push_back({i, 1.5 * kPeriod, Stall::On::process});
  const Playout beside = run(r);
  ASSERT_GT(alone.dropped, 150);
  EXPECT_EQ(alone.count(Cause::outside), 0);
  ASSERT_GT(beside.dropped, alone.dropped + 50);
  EXPECT_NEAR(static_cast<double>(beside.count(Cause::processor)), static_cast<double>(alone.dropped), 0.1 * static_cast<double>(alone.dropped));
  EXPECT_EQ(beside.count(Cause::processor) + beside.count(Cause::outside), beside.dropped);
}

TEST_F(Scripted, WhatIsKnownBeforehandIsReadAheadForAndRecoveredFromAtOnce) {
  // Two seconds with room, one that takes half as much again as there is, light ones after it.
  PlayRecord r = script(160, 2, 20);
  for (std::size_t i = 60; i < 84; ++i) r.costs[i].process = 3 * kPeriod - 2;
  const Playout untold = run(r);
  r.kinds = {{0, 22, 1, {}}, {60, 3 * kPeriod, 1, {}}, {84, 22, 1, {}}};
  const Playout told = run(r);
  r.far = 24;
  const Playout far = run(r);
  EXPECT_GT(untold.dropped, 0);
  EXPECT_LE(told.dropped, untold.dropped);
  EXPECT_EQ(far.dropped, 0) << "the slack before it carries it";
  const std::vector<Outcome> model = play_costs({2, 12, kPeriod, 24}, r.costs, {}, r.kinds);
  for (std::size_t i = 0; i < model.size(); ++i) EXPECT_EQ(model[i].dropped, far.log[i].dropped) << i;
}

TEST_F(Scripted, EveryFrameModeDropsNothingAndTakesLonger) {
  PlayOptions o;
  o.mode = PlayMode::every_frame;
  const Playout p = run(script(100, 1, 4 * kPeriod), o);
  EXPECT_EQ(p.dropped, 0);
  EXPECT_GT(p.seconds, 1.7 * 100 * kPeriod / 1000);
}

TEST_F(Scripted, ALoopGoesOnWithoutABreak) {
  PlayOptions o;
  o.passes = 3;
  PlayRecord r = script(150, 2, 20);
  const Playout p = play_script(plain(50), r, {0, 50}, o);
  EXPECT_EQ(p.frames, 150);
  EXPECT_EQ(p.log[50].frame, 0);
  EXPECT_EQ(p.dropped, 0);
}

// Kendall's D/M/1: frames come at a fixed period, one server takes exponential times with mean 1/m. The mean
// wait is s / (m (1 − s)) with s = exp(−m T (1 − s)) (Kleinrock, Queueing Systems I, 1975, section 6.4; from
// memory).
TEST_F(Scripted, WaitsAsQueueingTheorySays) {
  std::mt19937 rng(5);
  const double mean = 0.6 * kPeriod;
  std::exponential_distribution<double> service(1 / mean);
  PlayRecord r = script(6000, 0, 0, 1);
  r.horizon = 400;
  for (FrameCost& c : r.costs) c.process = service(rng);
  const Playout p = run(r);
  ASSERT_EQ(p.dropped, 0);
  double wait = 0, frames = 0;
  for (std::size_t i = 1000; i < p.log.size(); ++i)
    wait += p.log[i].started_ms - (p.log[i].due_ms - 400 * kPeriod), ++frames;
  double s = 0.5;
  for (int i = 0; i < 200; ++i) s = std::exp(-kPeriod / mean * (1 - s));
  EXPECT_NEAR(wait / frames, s * mean / (1 - s), 0.15 * s * mean / (1 - s));
}

// Little (1961): the mean number of frames in work is their rate times the mean time that each is in work. Rate
// and time are those of the script, not of the log: a pipeline that lost frames, or held them for longer than
// their work takes, would not keep it.
TEST_F(Scripted, KeepsLittlesLawOfItsScript) {
  const Playout p = run(script(600, 5, 60));
  ASSERT_EQ(p.dropped, 0);
  const double begin = p.log[50].due_ms, end = p.log[550].due_ms;
  double number = 0, looks = 0;
  for (double t = begin; t < end; t += 3.7, ++looks)
    for (const FrameLog& l : p.log) number += l.fetch_began_ms <= t && t < l.done_ms;
  EXPECT_NEAR(number / looks, (5 + 60) / kPeriod, 0.03);
}

// What limits is the fetching, one frame at a time, or all work over the workers: a frame's load says at what rate
// the pipeline really runs flat out, for any number of workers. With one part that cannot be divided it gains no
// more than that leaves (Amdahl, 1967, for work that overlaps).
TEST_F(Scripted, RunsFlatOutAtTheRateThatItsLoadSays) {
  for (const auto& [fetch, process] : {std::pair{50.0, 40.0}, {20.0, 300.0}, {60.0, 400.0}})
    for (const int workers : {1, 2, 4, 8}) {
      const PlayRecord r = script(2000, fetch, process, workers);  // the twelve made before the clock hardly count
      const double load = load_of(fetch, process, workers, kPeriod);
      if (load < 1.05) continue;  // then the clock limits
      PlayOptions flat;
      flat.mode = PlayMode::every_frame;
      const Playout p = run(r, flat);
      EXPECT_NEAR(p.rate_reached, p.rate.fps() / load, 0.03 * p.rate.fps() / load)
          << fetch << " + " << process << " ms on " << workers;
    }
}

/// Frames that really keep a processor busy for as long as the script says.
class BusyMaker : public FrameMaker {
 public:
  explicit BusyMaker(const PlayRecord& script) : script_(script) {}
  std::unique_ptr<Work> fetch(Frames, FrameResult& r) override {
    const FrameCost& c = script_.costs[static_cast<std::size_t>(r.position)];
    const double began = real_clock().now();
    spend(c.fetch);
    r.steady_fetch_ms = real_clock().now() - began, r.decodes_between = c.decodes_between;
    return std::make_unique<Work>();
  }
  void process(Work&, FrameResult& r) override {
    spend(script_.costs[static_cast<std::size_t>(r.position)].process);
  }

 private:
  static void spend(double ms) {
    const CpuStopwatch watch;
    while (watch.ms() < ms) {
    }
  }
  const PlayRecord& script_;
};

// The model alone on trial on this very machine, while other threads take its processors away in bursts: with
// every time and gap as it was, it drops what was dropped.
TEST_F(Scripted, TheModelKnowsADisturbedPlayoutFromItsRecord) {
  const std::vector<double> loads{0.7, 1.3, 0.5, 1.1, 2.2, 0.4};
  PlayRecord r = script(0, 0, 0);
  for (const double load : loads)
    r.costs.insert(r.costs.end(), 25, {4, 0, load * 2 * kPeriod - 4, -2, false});
  const auto n = static_cast<Frames>(r.costs.size());
  std::atomic<bool> over{false};
  std::vector<std::jthread> others;
  for (int t = 0; t < 2; ++t)
    others.emplace_back([&over, t] {
      while (!over) {
        const CpuStopwatch watch;
        while (watch.ms() < 60 && !over) {
        }
        std::this_thread::sleep_for(std::chrono::milliseconds(150 + 70 * t));
      }
    });
  PlayOptions o;
  o.workers = 2;
  o.maker = [&] { return std::make_unique<BusyMaker>(r); };
  NullDisplay nowhere;
  const std::atomic<bool> stop{false};
  const ProgramPtr program = plain(n);
  const Playout p = play(program, nullptr, {0, n}, o, nowhere, stop);
  over = true;
  ASSERT_GT(p.dropped, 10);
  const PlayRecord record = record_of(p, *program);
  const std::vector<Outcome> model = play_costs({p.workers, p.horizon, kPeriod}, record.costs, record.begins);
  int differ = 0;
  for (std::size_t i = 0; i < model.size(); ++i) differ += model[i].dropped != p.log[i].dropped;
  // Two threads that come to one lock within microseconds may go either way, and all else follows: of 150 frames the fate of six.
  EXPECT_LE(differ, 6) << replay(record).modelled << " instead of " << p.dropped;
}

TEST_F(Scripted, GapsAndWhatWasKnownSurviveTheFile) {
  const test::TempFolder dir;
  PlayRecord r = wild(4);
  ASSERT_FALSE(r.kinds.empty());
  r.begins = {0.25, 1.5}, r.far = 20;
  FrameCost& c = r.costs[100];
  c.starting = 0.5, c.turn = 0.25, c.arriving = 0.125, c.handing = 2, c.looked = 7;
  c.neighbours = 4, c.neighbour = 12.5, c.all_neighbours = 50;
  ASSERT_TRUE(save_record(r, dir / "r.json"));
  const auto back = load_record(dir / "r.json");
  ASSERT_TRUE(back) << back.error().text();
  EXPECT_EQ(back->begins, r.begins);
  EXPECT_EQ(back->kinds, r.kinds);
  EXPECT_EQ(back->far, 20);
  const FrameCost& d = back->costs[100];
  EXPECT_EQ(std::tuple(d.starting, d.turn, d.arriving, d.handing, d.looked),
            std::tuple(0.5, 0.25, 0.125, 2.0, 7.0));
  EXPECT_EQ(std::tuple(d.neighbours, d.neighbour, d.all_neighbours), std::tuple(4, 12.5, 50.0));
  EXPECT_EQ(replay(*back).modelled, replay(r).modelled);
  for (const char* broken : {"begins_ms", "kinds"}) {
    Json j = to_json(r);
    if (broken == std::string("kinds")) j["kinds"][1]["from"] = -3;
    else j["begins_ms"][0] = "soon";
    const auto refused = record_from_json(j, "r.json");
    ASSERT_FALSE(refused) << broken;
    EXPECT_THAT(refused.error().text(), testing::HasSubstr("r.json"));
  }
  Json j = to_json(r);
  j["frames"][100]["neighbours"] = -2;
  EXPECT_FALSE(record_from_json(j, "r.json"));
}

// Four neighbours: frames in a row make one picture each, a frame after a gap all that nobody left behind.
TEST(Neighbours, AreMadeOnceInARowAndAllOfThemAfterASkip) {
  MediaCatalog media;
  const test::TempFolder dir;
  const std::string file = test::movie(dir / "m.mov", Form::vc3_hqx, 256, 144, 90);
  const ProgramPtr program = Program::compile(
      Build()
          .media("m", file, 90)
          .track("V1")
          .segment("s", "m", 0, 90,
                   {test::an("blur", {{"sigma", 6}}), test::an("temporal_nr", {{"frames", 2}})})
          .done(),
      media);
  const auto neighbours_ms = [&](Frames step) {
    std::vector<Frames> frames;
    for (Frames f = 10; frames.size() < 8; f += step) frames.push_back(f);
    double extra = 0, one = 0;
    for (const FrameResult& r : run_flat_out(program, nullptr, frames, 1)) {
      EXPECT_EQ(r.neighbours, 4);
      EXPECT_GT(r.neighbour_ms, 0);
      EXPECT_LE(r.neighbours_ms, r.done_ms - r.fetched_ms);
      if (r.frame > 10) extra += r.neighbours_ms, one += r.neighbour_ms;
    }
    return extra / one;
  };
  // One that was made in a lucky moment counts as cheap, may be let go of early and is then made again.
  EXPECT_NEAR(neighbours_ms(1), 0, 0.3);
  EXPECT_NEAR(neighbours_ms(2), 1, 0.3);
  EXPECT_NEAR(neighbours_ms(9), 4, 0.3);
}

// Deflicker above noise reduction: each picture of the former takes five of the source's, so a first frame takes seven of those.
TEST(Neighbours, OfEffectsAboveOneAnotherAreCountedLevelByLevel) {
  MediaCatalog media;
  const test::TempFolder dir;
  const std::string file = test::movie(dir / "m.mov", Form::vc3_hqx, 256, 144, 90);
  const auto notebook = *Notebook::open(dir / "notebook.sqlite");
  const ProgramPtr program = Program::compile(
      Build()
          .media("m", file, 90)
          .track("V1")
          .segment("s", "m", 0, 90, {test::an("blur", {{"sigma", 6}}), test::an("temporal_nr", {{"frames", 2}}), test::an("deflicker", {{"frames", 1}})})
          .done(),
      media);
  ASSERT_EQ(program->segments().front()->effects[2].window.length(), 3);
  // A model of stated costs: 10 ms below the noise reduction, which takes 5.
  std::map<std::string, float> ms{{"blur", 9}, {"temporal_nr", 5}, {"deflicker", 2}};
  for (const StageRef& r : program->stages(0)) {
    const std::string& effect = program->owners()[static_cast<std::size_t>(r.owner)].effect;
    const float each = effect.empty() ? (r.kind == StageKind::convert ? 1.0f : 0.0f) : ms[effect];
    notebook->add_stage(r, std::vector<StageSample>(8, {r.kind, r.key, each, each, r.owner, 0}));
  }
  const Forecast f = forecast(*program, *notebook, {}, {0, 90}, {});
  const CostPool& pool = f.model->pools[f.model->stretches.front().pool];
  EXPECT_NEAR(pool.neighbour_ms, 10 + 5, 0.1);
  EXPECT_EQ(pool.neighbours, 5) << "two at 5 ms and six at 10: 70 ms in all, 15 each";
  EXPECT_EQ(f.model->stretches.front().entry_neighbours, 2) << "the file begins there: one at 5 and three at 10";
  // Real frames, one worker: none in a row, one of each level for a frame that is skipped, all after a long skip.
  const auto skipped = [&](Frames step) {
    std::vector<Frames> frames;
    for (Frames n = 10; frames.size() < 8; n += step) frames.push_back(n);
    double extra = 0, one = 0, count = 0;
    for (const FrameResult& r : run_flat_out(program, nullptr, frames, 1))
      if (r.frame > 10) extra += r.neighbours_ms, one += r.neighbour_ms, count += r.neighbours / 7.0;
    return std::pair(extra / one, count);
  };
  EXPECT_NEAR(skipped(1).first, 0, 0.3);
  EXPECT_NEAR(skipped(2).first, 1, 0.3);
  const auto [extra, count] = skipped(9);
  EXPECT_NEAR(extra, count, 0.6);
  EXPECT_GT(count, 2) << "more than those of the upper one";
}

// Every picture of the source is there for four frames: three of four find all of their neighbours made, and what the fourth
// makes is what such frames take. Of a still nothing is ever made, and nothing is counted for it.
TEST(Neighbours, OfPicturesThatStayAreCountedAsOftenAsTheyAreMade) {
  MediaCatalog media;
  const test::TempFolder dir;
  const std::string file = test::movie(dir / "m.mov", Form::vc3_hqx, 256, 144, 30);
  const std::vector<Effect> stack{test::an("blur", {{"sigma", 6}}), test::an("temporal_nr", {{"frames", 2}})};
  const auto counted = [&](const ProgramPtr& program, int at_most) {
    std::vector<Frames> frames;
    for (Frames f = 20; f < 60; ++f) frames.push_back(f);
    double extra = 0, one = 0;
    for (const FrameResult& r : run_flat_out(program, nullptr, frames, 1)) {
      EXPECT_LE(r.neighbours, at_most);
      if (r.frame > 24) extra += r.neighbours_ms, one += r.neighbour_ms;
    }
    return one > 0 ? extra / one : 0;
  };
  Timeline quick = *Build().media("m", file, 30).track("V1").segment("s", "m", 0, 120, stack).done();
  quick.rate = {96, 1};
  const ProgramPtr slow = Program::compile(std::make_shared<const Timeline>(std::move(quick)), media);
  EXPECT_NEAR(counted(slow, 2), 0, 0.1) << "a quarter of a neighbour for each frame, made and expected";
  const ProgramPtr still = Program::compile(Build().track("V1").solid("s", 120, 0.2, 0.3, 0.4, stack).done(), media);
  EXPECT_NEAR(counted(still, 0), 0, 1e-9);
}

TEST(Neighbours, CostTheSimulationAsMuchAsTheyCostThePlayer) {
  Model m;
  m.pace = {2, 12, kPeriod};
  m.pools.push_back({{{2, static_cast<float>(1.6 * 2 * kPeriod)}}, {}, false});
  m.stretches.push_back({0, 480, 0, false, 0});
  const auto drops = [&] {
    double sum = 0;
    for (const auto n : simulate(m, 8, 1).drops(0, 480)) sum += n / 8.0;
    return sum;
  };
  const double alone = drops();
  m.pools[0].neighbours = 4, m.pools[0].neighbour_ms = static_cast<float>(0.7 * kPeriod);
  m.kinds = kinds_told(m);
  const double with = drops();
  EXPECT_GT(with, 1.2 * alone) << "every skip has to make up for what it left out";
  PlayRecord r;
  r.costs.assign(480, {2, 0, 1.6 * 2 * kPeriod, -2, false});
  for (FrameCost& c : r.costs) c.neighbours = 4, c.neighbour = 0.7 * kPeriod;
  r.kinds = m.kinds;
  MediaCatalog media;
  const ProgramPtr program =
      Program::compile(Build(64, 36).track("V1").solid("s", 480, 0, 0, 0).done(), media);
  const Playout p = play_script(program, r, {0, 480});
  EXPECT_NEAR(static_cast<double>(p.dropped), with, 0.03 * with + 2);
}

TEST(MonitorStandIn, ShowsAtItsOwnCadenceAndSaysWhatDidNotFit) {
  MonitorStandIn same(40, 3), slow(40.4, 3), fast(39.6, 3);
  for (int i = 0; i < 1000; ++i) {
    EXPECT_TRUE(same.present(i, {}, i * 40.0));
    slow.present(i, {}, i * 40.0), fast.present(i, {}, i * 40.0);
  }
  EXPECT_EQ(same.repeated(), 0);
  // A hundredth slower: about every hundredth picture finds no room. A hundredth faster: as many repeats.
  EXPECT_NEAR(static_cast<double>(slow.refused()), 10, 3);
  EXPECT_NEAR(static_cast<double>(fast.repeated()), 10, 1.5);
}

TEST_F(Scripted, TheLogGoesToOtherPrograms) {
  PlayRecord r = script(100, 3, 150);
  const ProgramPtr program = plain(100);
  const Playout p = play_script(program, r, {0, 100});
  ASSERT_GT(p.dropped, 3);
  const std::string csv = log_csv(p);
  EXPECT_EQ(std::count(csv.begin(), csv.end(), '\n'), 101) << "a heading and a line for each frame";
  EXPECT_NE(csv.find("\"dropped, not started\",processor"), std::string::npos);
  const Json trace = Json::parse(log_trace(p, *program).dump());
  int drops = 0;
  std::map<int, double> row;
  for (const Json& e : trace.at("traceEvents")) {
    drops += e.at("ph") == "i";
    if (e.at("ph") != "X" || e.at("cat") != "frame") continue;
    EXPECT_GE(e.at("ts").get<double>(), row[e.at("tid").get<int>()] - 1)
        << "a worker makes one frame at a time";
    row[e.at("tid").get<int>()] = e.at("ts").get<double>() + e.at("dur").get<double>();
  }
  EXPECT_EQ(drops, p.dropped);
  EXPECT_EQ(row.size(), 2u);
  Frames late = 0;
  while (!p.log[static_cast<std::size_t>(late)].dropped) ++late;
  const MissedFrame m = missed_frame(p, late);
  EXPECT_FALSE(m.bars.empty());
  EXPECT_GT(m.due_ms, m.from_ms);
  EXPECT_LT(m.due_ms, m.to_ms);
}

TEST_F(Scripted, ARecordIsWrittenAndReadBackAndABrokenOneIsRefused) {
  const test::TempFolder dir;
  PlayRecord r = wild(3);
  r.stalls.push_back({7, 12.5, Stall::On::decode});
  ASSERT_TRUE(save_record(r, dir / "r.json"));
  const auto back = load_record(dir / "r.json");
  ASSERT_TRUE(back) << back.error().text();
  EXPECT_EQ(back->costs.size(), r.costs.size());
  EXPECT_EQ(back->costs[41].process, r.costs[41].process);
  EXPECT_EQ(back->stalls[0].ms, 12.5);
  Json j = to_json(r);
  j["frames"][5]["fetch_ms"] = -4;
  EXPECT_NE(record_from_json(j, "r").error().what.find("frame 5"), std::string::npos);
  j = to_json(r), j["version"] = 9;
  EXPECT_FALSE(record_from_json(j, "r"));
  test::put(dir / "cut.json", to_json(r).dump().substr(0, 300));
  EXPECT_FALSE(load_record(dir / "cut.json"));
}

TEST(Around, StaysWithinTheTimeline) {
  EXPECT_EQ(around(100, 2, 3, {24, 1}, 1000).in, 52);
  EXPECT_EQ(around(100, 2, 3, {24, 1}, 1000).out, 172);
  EXPECT_EQ(around(10, 2, 3, {24, 1}, 50).in, 0);
  EXPECT_EQ(around(10, 2, 3, {24, 1}, 50).out, 50);
}

// The same draws, whatever was simulated before: an edit gives what simulating everything would.
TEST(SimulationAgain, EqualsSimulatingEverything) {
  std::mt19937 rng(3);
  const auto unit = [&] { return std::uniform_real_distribution<double>(0, 1)(rng); };
  Model m;
  m.pace = {2, 12, kPeriod}, m.mood.spread = 0.03;
  m.lately = {{0.0005, {20, 60}}, {}};
  for (std::uint32_t i = 0; i < 120; ++i) {
    CostPool pool;
    const double load = 0.3 * std::pow(6, unit());
    for (int k = 0; k < 40; ++k) {
      const double all = load * 2 * kPeriod * (0.9 + 0.2 * unit());
      pool.frames.push_back({static_cast<float>(0.2 * all), static_cast<float>(0.8 * all)});
    }
    pool.decodes_between = unit() < 0.3;
    m.pools.push_back(pool);
    m.stretches.push_back({i * 60, (i + 1) * 60, i, unit() < 0.5, static_cast<Frames>(unit() * 6)});
  }
  for (CostPool& pool : m.pools)
    if (unit() < 0.2) pool.neighbours = 4, pool.neighbour_ms = 0.5f * pool.frames[0].process_ms;
  m.kinds = kinds_told(m), m.pace.far = 24;
  const Trials before = simulate(m, 24, 9);
  for (const std::uint32_t at : {0u, 3u, 60u, 118u, 119u}) {
    Model edited = m;
    for (FrameSample& f : edited.pools[at].frames) f.process_ms *= at % 2 ? 0.4f : 1.7f;
    edited.kinds = kinds_told(edited);
    const Trials full = simulate(edited, 24, 9), again = simulate_again(edited, m, before);
    EXPECT_EQ(full.miss(), again.miss()) << at;
    EXPECT_EQ(full.drops(0, 7200), again.drops(0, 7200)) << at;
    EXPECT_EQ(full.drops(1000, 2345), again.drops(1000, 2345)) << at;
    if (at == 60) EXPECT_LT(again.simulated(), 7200 / 2) << "only what can have changed";
  }
  EXPECT_TRUE(simulate(Model{}, 4, 1).miss().empty()) << "a timeline of nothing";
  // Nothing changed: nothing to do. Shorter or longer: as far as it is the same.
  EXPECT_EQ(simulate_again(m, m, before).simulated(), 0);
  Model shorter = m;
  shorter.stretches.pop_back();
  shorter.kinds = kinds_told(shorter);
  EXPECT_EQ(simulate(shorter, 24, 9).miss(), simulate_again(shorter, m, before).miss());
  EXPECT_EQ(before.miss(), simulate_again(m, shorter, simulate(shorter, 24, 9)).miss());
}

TEST(Disturbances, AreAddedAsOftenAndAsLongAsTheyWere) {
  Model m;
  m.pace = {2, 12, kPeriod};
  m.pools.push_back({{{2, 70}}, {}, false});
  m.stretches.push_back({0, 2400, 0, false, 0});
  EXPECT_EQ(simulate(m, 16, 1).miss(), std::vector<float>(2400, 0.0f)) << "by itself it holds";
  m.lately = {{1.0 / 8000, {900}}};  // once in eight seconds of work, nearly a second
  const Trials t = simulate(m, 16, 1);
  double drops = 0;
  for (const auto n : t.drops(0, 2400)) drops += n / 16.0;
  EXPECT_GT(drops, 50) << "about 21 of them, each longer than the read-ahead";
  EXPECT_LT(drops, 24 * 24);
  m.lately.push_back({});  // and another playout was quiet: so are half of the trials
  const auto counts = simulate(m, 16, 1).drops(0, 2400);
  EXPECT_EQ(std::count(counts.begin(), counts.end(), 0u), 8);
}

// Common knowledge of Poisson processes: counts vary as much as their mean, and do not depend on whether the
// frames in between are simulated one by one.
TEST(Disturbances, ComeAtRandomAsOftenAsTheWorkersAreBusy) {
  constexpr Frames kFrames = 80000;
  constexpr double kOften = 1.0 / 8000;  // per ms of work
  struct Counted {
    double expected = 0, mean = 0, variance = 0;
  };
  const auto counted = [&](float frame_ms, float dearest_ms) {
    Model m;
    m.pace = {2, 12, kPeriod};
    m.pools.push_back({std::vector<FrameSample>(200, {0, frame_ms}), {}, false});
    // One that is dearer keeps the others from being passed over.
    m.pools[0].frames[7].process_ms = dearest_ms;
    m.stretches.push_back({0, kFrames, 0, false, 0});
    // A little longer than the read-ahead: that frame is late, and the other worker makes the rest.
    m.lately = {{kOften, {560}}};
    const auto drops = simulate(m, 64, 3).drops(0, kFrames);
    Counted c;
    c.expected = kFrames * kOften * static_cast<double>(frame_ms + (dearest_ms - frame_ms) / 200);
    for (const auto n : drops) c.mean += n / 64.0;
    for (const auto n : drops) c.variance += (n - c.mean) * (n - c.mean) / 63;
    return c;
  };
  const Counted light = counted(5, 5), twice = counted(10, 10), one_by_one = counted(5, 90);
  for (const Counted& c : {light, twice, one_by_one}) {
    EXPECT_NEAR(c.mean, c.expected, 0.08 * c.expected);
    EXPECT_GT(c.variance, 0.5 * c.mean);
    EXPECT_LT(c.variance, 1.7 * c.mean);
  }
  EXPECT_NEAR(twice.expected, 2 * light.expected, 1e-6);
}

}  // namespace
}  // namespace gc
