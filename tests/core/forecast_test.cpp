// The simulator against closed forms, and what is made of its trials.
#include "forecast/forecast.h"

#include "forecast/pyramid.h"
#include "support.h"

namespace gc {
namespace {

Model constant(double fetch, double process, Frames frames, int workers = 1, int horizon = 12,
               double period = 40) {
  Model m;
  m.pace = {workers, horizon, period};
  m.pools.push_back({{{static_cast<float>(fetch), static_cast<float>(process)}}, {}, false});
  m.stretches.push_back({0, frames, 0, false, 0});
  return m;
}

Frames dropped(const std::vector<Outcome>& o) {
  return std::count_if(o.begin(), o.end(), [](const Outcome& x) { return x.dropped; });
}
std::vector<Outcome> play(const Model& m) {
  const FrameSample& s = m.pools[0].frames[0];
  return play_costs(m.pace,
                    std::vector<FrameCost>(static_cast<std::size_t>(m.frames()),
                                           {s.fetch_ms, 0, s.process_ms, -2, m.pools[0].decodes_between}));
}

// Lindley-type recursion for one server with a horizon of H frames, max-plus form: done(n) = max(done(n−1),
// (n−H) T) + c. With constant c > T the read-ahead is used up after (H − 1) c / (c − T) frames; no frame
// before it may be late.
TEST(Simulator, FirstLateFrameIsThatOfTheClosedForm) {
  for (const double c : {44.0, 50.0, 60.0, 90.0}) {
    const auto outcome = play(constant(0, c, 600));
    const auto first =
        std::find_if(outcome.begin(), outcome.end(), [](const Outcome& o) { return o.dropped; }) -
        outcome.begin();
    EXPECT_NEAR(static_cast<double>(first), std::floor((12 - 1) * c / (c - 40)) + 1, 1.0) << c;
  }
}

// Two machines in line, the second with several servers: throughput is that of the slower, max(f, (f + p) /
// W).
TEST(Simulator, HoldsExactlyUpToTheBottleneck) {
  EXPECT_EQ(dropped(play(constant(39, 30, 2000, 2))), 0) << "decoding alone almost fills the budget";
  EXPECT_GT(dropped(play(constant(41.5, 30, 4000, 2))), 0);
  EXPECT_EQ(dropped(play(constant(5, 74, 2000, 2))), 0);
  EXPECT_GT(dropped(play(constant(5, 78, 4000, 2))), 0);
}

TEST(Simulator, ReachesTheHighestRateThatCanBeKept) {
  for (const double load : {1.25, 1.5, 2.0, 3.0}) {
    const Frames n = 3000;
    const double reached =
        1 - static_cast<double>(dropped(play(constant(0, load * 40, n)))) / static_cast<double>(n);
    EXPECT_GE(reached, 0.95 / load) << load;
    EXPECT_LE(reached, 1.02 / load) << load;
  }
}

TEST(Simulator, ReadAheadCarriesAShortHeavyStretch) {
  Model m = constant(0, 20, 300);
  m.pools.push_back({{{0, 60}}, {}, false});
  m.stretches = {{0, 100, 0, false, 0}, {100, 115, 1, false, 0}, {115, 300, 0, false, 0}};
  EXPECT_EQ(simulate(m, 16, 1).miss()[112], 0) << "15 frames at load 1.5 cost 7.5 periods of 12";
  m.stretches = {{0, 100, 0, false, 0}, {100, 160, 1, false, 0}, {160, 300, 0, false, 0}};
  const Trials t = simulate(m, 16, 1);
  EXPECT_EQ(t.miss()[105], 0);
  EXPECT_GT(t.drops(0, 300)[0], 5u);
  EXPECT_EQ(t.miss()[200], 0) << "and it recovers";
}

TEST(Simulator, SkippedFramesOfALongGopAreDecodedAllTheSame) {
  Model intra = constant(30, 60, 1500, 2), gop = intra;
  gop.pools[0].decodes_between = true;
  EXPECT_GT(dropped(play(gop)), dropped(play(intra)));
}

TEST(Simulator, IsTheSameForTheSameSeed) {
  Model m = constant(2, 30, 500, 1);
  m.pools[0].frames = {{2, 25}, {2, 45}, {2, 60}};
  EXPECT_EQ(simulate(m, 32, 5).miss(), simulate(m, 32, 5).miss());
  EXPECT_NE(simulate(m, 32, 5).miss(), simulate(m, 32, 6).miss());
}

TEST(MissedRuns, JoinNeighboursAndLeaveLonelyFramesOut) {
  std::vector<float> miss(240, 0);
  miss[5] = 1;
  for (int i = 60; i < 90; i += 2) miss[static_cast<std::size_t>(i)] = 1;
  for (int i = 100; i < 110; ++i) miss[static_cast<std::size_t>(i)] = 1;
  const auto runs = missed_runs(miss, 1000, {24, 1});
  ASSERT_EQ(runs.size(), 1u);
  EXPECT_EQ(runs[0], (FrameRange{1060, 1110}));
}

/// A timeline with one light and one heavy segment whose costs are written into a notebook.
class Forecasting : public testing::Test {
 protected:
  Forecasting() {
    auto n = Notebook::open(dir_ / "n.sqlite");
    notebook_ = *n;
    timeline_ = test::Build()
                    .track("V1")
                    .solid("light", 120, 0, 0, 0)
                    .solid("heavy", 96, 0, 0, 0, {test::blur("b", 5)})
                    .solid("after", 120, 0, 0, 0)
                    .done();
    program_ = Program::compile(timeline_, media_);
    learn(program_->stages(0), {{1, 20}, {1, 22}, {1, 21}, {1, 23}});
    learn(program_->stages(130), {{1, 110}, {1, 114}, {1, 118}, {1, 112}});
    learn(program_->sealed_stages(), {{3, 8}, {3, 9}, {4, 8}, {3, 8}});
  }
  void learn(const std::vector<StageRef>& stages, std::vector<FrameSample> samples) {
    std::vector<FrameSample> many;
    for (int i = 0; i < 10; ++i) many.insert(many.end(), samples.begin(), samples.end());
    notebook_->add_frames(frame_key(stages), many);
    for (const StageRef& s : stages) {
      std::vector<StageSample> one(20, StageSample{s.kind, s.key, s.kind == StageKind::effect ? 90.0f : 5.0f,
                                                   s.kind == StageKind::effect ? 90.0f : 5.0f, s.owner});
      notebook_->add_stage(s, one);
    }
  }
  test::TempFolder dir_;
  MediaCatalog media_;
  std::shared_ptr<Notebook> notebook_;
  TimelinePtr timeline_;
  ProgramPtr program_;
  ForecastOptions options_;
};

TEST_F(Forecasting, NamesTheSpanTheCauseAndTheBlame) {
  const Forecast f = forecast(*program_, *notebook_, {}, {0, 336}, options_);
  EXPECT_TRUE(f.fully_measured);
  ASSERT_EQ(f.count(Verdict::spills), 1);
  const auto span = *std::find_if(f.spans.begin(), f.spans.end(),
                                  [](const Span& s) { return s.verdict == Verdict::spills; });
  EXPECT_GE(span.in, 120);
  EXPECT_LE(span.out, 240);
  EXPECT_EQ(span.cause, Cause::processor);
  EXPECT_EQ(span.blame.effect, "b");
  EXPECT_EQ(span.blame.segment, "heavy");
  EXPECT_GT(span.drop_probability, 0.95);
  // Load 1.37 over 96 frames: 26 frames' worth of work too much, less the read-ahead of 12.
  EXPECT_NEAR(f.expected_drops, 16, 9);
  Frames covered = 0;
  for (const Span& s : f.spans) covered += s.out - s.in;
  EXPECT_EQ(covered, 336);
}

TEST_F(Forecasting, SealedFramesHoldAndTheFormerLoadIsKept) {
  SealStates sealed(336, 0);
  std::fill(sealed.begin() + 120, sealed.begin() + 216, 1);
  const Forecast f = forecast(*program_, *notebook_, sealed, {0, 336}, options_);
  EXPECT_EQ(f.count(Verdict::spills), 0);
  EXPECT_LT(f.expected_drops, 0.5);
  const auto& c = f.intervals[1];
  EXPECT_TRUE(c.sealed);
  EXPECT_LT(c.load, 0.3);
  EXPECT_GT(c.live_load, 1.2);
}

TEST_F(Forecasting, WhatWasNeverMeasuredIsEstimatedAndMarked) {
  const TimelinePtr changed = with_param(*timeline_, "heavy", "b", "sigma", 10);
  const ProgramPtr p = Program::compile(changed, media_);
  const Forecast f = forecast(*p, *notebook_, {}, {0, 336}, options_);
  EXPECT_FALSE(f.fully_measured);
  EXPECT_FALSE(f.intervals[1].measured);
  EXPECT_GT(f.intervals[1].process_ms, 1.3 * 90) << "a larger blur costs more";
  EXPECT_LT(f.intervals[1].process_ms, 2.2 * 90 + 15) << "and at most in proportion to its taps";
}

TEST_F(Forecasting, ThePyramidSumsUpAsALoopWould) {
  const Forecast f = forecast(*program_, *notebook_, {}, {0, 336}, options_);
  const LoadPyramid pyramid(f, {});
  for (Frames in = 0; in < 330; in += 13)
    for (Frames out = in + 1; out <= 336; out += 29) {
      float most = 0, least = 1e9f, miss = 0;
      for (Frames n = in; n < out; ++n)
        for (const IntervalCost& c : f.intervals)
          if (n >= c.in && n < c.out)
            most = std::max(most, static_cast<float>(c.load)),
            least = std::min(least, static_cast<float>(c.load)),
            miss = std::max(miss, f.miss[static_cast<std::size_t>(n)]);
      const LoadSummary s = pyramid.over(in, out);
      ASSERT_EQ(s.load, most);
      ASSERT_EQ(s.least, least);
      ASSERT_EQ(s.miss, miss);
    }
  EXPECT_EQ(pyramid.over(400, 500).interval, -1);
}

TEST_F(Forecasting, TheNotebookIsThereAgainTheNextDay) {
  ASSERT_TRUE(notebook_->save());
  auto again = Notebook::open(dir_ / "n.sqlite");
  ASSERT_TRUE(again);
  EXPECT_EQ((*again)->frames(frame_key(program_->sealed_stages())).size(), 40u);
  const Forecast a = forecast(*program_, *notebook_, {}, {0, 336}, options_),
                 b = forecast(*program_, **again, {}, {0, 336}, options_);
  EXPECT_EQ(a.miss, b.miss);
}

// Order statistics: for 100 samples the 95 % interval of the median is from about the 40th to the 61st.
TEST(Median, HasAnIntervalFromOrderStatistics) {
  std::vector<float> v;
  for (int i = 1; i <= 100; ++i) v.push_back(static_cast<float>(i));
  const MedianEstimate m = median_of(v);
  EXPECT_NEAR(m.median, 50.5, 1e-6);
  EXPECT_NEAR(m.low, 41, 1.1);
  EXPECT_NEAR(m.high, 60, 1.1);
  EXPECT_GT(median_of({1, 2}).relative_error(), 1e6);
}

}  // namespace
}  // namespace gc
