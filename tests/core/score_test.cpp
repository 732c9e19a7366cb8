// The score's figures, random timelines, what-if questions, and why forecast and playout disagree.
#include "audit/score.h"

#include "audit/speed.h"
#include "desk/report.h"
#include "effects/registry.h"
#include "forecast/what_if.h"
#include "render/agree.h"
#include "support.h"

namespace gc {
namespace {

using test::Build;

/// Costs by the kind of stage and the effect's parameter "sigma": what a test wants them to be.
class MadeUpBook : public CostBook {
 public:
  std::map<std::string, float> by_law;  ///< ms of a frame, by the law's id
  std::vector<FrameSample> frames(const Hash128&) const override { return {}; }
  std::vector<float> entries(const Hash128&) const override { return {}; }
  StageCosts stage(const StageRef& s) const override {
    StageCosts c;
    const auto it = s.law ? by_law.find(s.law->id) : by_law.end();
    c.ms.assign(8, it == by_law.end() ? 0.5f : it->second);
    c.origin = Origin::law, c.error = 0.05;
    return c;
  }
};

class WhatIf : public testing::Test {
 protected:
  WhatIf() {
    options_.workers = 2, options_.trials = 16;
    program_ = Program::compile(
        Build(320, 180)
            .track("V1")
            .solid("light", 60, 0.2, 0.2, 0.2)
            .solid("heavy", 120, 0.6, 0.6, 0.6,
                   {test::cdl("grade", 1.2), test::blur("soft", 4), {"look", "stylise", {{"radius", 4}}}})
            .solid("after", 60, 0.2, 0.2, 0.2)
            .done(),
        media_);
    const auto law = [](const char* id) {
      const EffectType& t = *effect_type(id);
      return cost_law(t, showing_params(t), false)->id;
    };
    blur_ = law("blur"), stylise_ = law("stylise");
  }
  FrameRange span(const CostBook& book) const {
    const Forecast f = forecast(*program_, book, {}, {0, 240}, options_);
    for (const Span& s : f.spans)
      if (s.verdict == Verdict::spills) return {s.in, s.out};
    return {};
  }
  MediaCatalog media_;
  ProgramPtr program_;
  ForecastOptions options_;
  std::string blur_, stylise_;
};

TEST_F(WhatIf, ASpanIsToldWhatItWouldDoWithoutEachEffect) {
  MadeUpBook book;
  book.by_law = {{blur_, 30}, {stylise_, 90}};
  const FrameRange s = span(book);
  ASSERT_GT(s.length(), 40) << "load 1.45 over five seconds";
  const auto gains = gains_of(*program_, book, {}, s, options_);
  ASSERT_EQ(gains.size(), 3u);
  EXPECT_EQ(gains[0].effect, "look") << "the greatest gain first";
  EXPECT_EQ(gains[0].verdict, Verdict::holds);
  EXPECT_NEAR(gains[0].ms, 90, 1);
  EXPECT_EQ(gains.back().effect, "grade");
  EXPECT_GT(gains.back().drops, 10);
}

TEST_F(WhatIf, TheFewestBypassesAreFound) {
  MadeUpBook book;
  book.by_law = {{blur_, 50}, {stylise_, 90}};
  auto least = least_bypasses(*program_, book, {}, span(book), options_);
  ASSERT_EQ(least.size(), 1u);
  EXPECT_EQ(least[0].effect, "look");
  book.by_law = {{blur_, 100}, {stylise_, 110}};  // either alone is too much
  least = least_bypasses(*program_, book, {}, span(book), options_);
  EXPECT_EQ(least.size(), 2u);
  book.by_law = {};
  EXPECT_TRUE(least_bypasses(*program_, book, {}, {60, 180}, options_).empty()) << "it holds already";
}

// Least expected loss: with a missed drop m times as bad as a needless render, doubt begins at 1 / (1 + m).
TEST(Thresholds, FollowFromWhatBeingWrongCosts) {
  EXPECT_DOUBLE_EQ(Thresholds::from_cost(9).wavers, 0.1);
  EXPECT_DOUBLE_EQ(Thresholds::from_cost(9).spills, 0.9);
  EXPECT_DOUBLE_EQ(Thresholds::from_cost(1).wavers, 0.5);
  EXPECT_LT(Thresholds::from_cost(99).wavers, 0.011);
}

// Others hold the workers up for half of their time. Own drops are those that the timeline would have had without them, so that is
// what they are held against.
TEST_F(WhatIf, OwnDropsAreSaidOfTheTimelineAlone) {
  class Disturbed : public MadeUpBook {
   public:
    std::vector<Disturbance> lately() const override { return {Disturbance{0.01, {50.0f}}}; }
  } book;
  book.by_law = {{stylise_, 130.0f}};
  ForecastOptions o = options_;
  const Forecast all = forecast(*program_, book, {}, {0, 240}, o);
  o.outside = false;
  const Forecast without = forecast(*program_, book, {}, {0, 240}, o), own = alone(all, *program_);
  ASSERT_GT(without.expected_drops, 5);
  EXPECT_GT(all.expected_drops, without.expected_drops + 10);
  EXPECT_EQ(own.miss, without.miss);
  EXPECT_DOUBLE_EQ(held_against(all, own, {}, *program_).expected, without.expected_drops);
  ASSERT_EQ(own.spans.size(), without.spans.size());
  for (std::size_t i = 0; i < own.spans.size(); ++i) EXPECT_EQ(own.spans[i].in, without.spans[i].in);
}

// Four frames of a heavy stretch are missing. The person sees them as a span of their own, but a playout has one run there.
TEST_F(WhatIf, ARunGoesOnThroughFramesThatAreMissing) {
  const Effect look{"look", "stylise", {{"radius", 4}}};
  const TimelinePtr t = Build(320, 180)
                            .media("gone", "/nowhere/gone.mov", 24)
                            .track("V1")
                            .solid("before", 60, 0.6, 0.6, 0.6, {look})
                            .segment("away", "gone", 0, 4)
                            .solid("after", 60, 0.6, 0.6, 0.6, {look})
                            .done();
  MadeUpBook book;
  book.by_law = {{stylise_, 130.0f}};
  const Forecast f = forecast(*Program::compile(t, media_), book, {}, {0, 124}, options_);
  ASSERT_EQ(f.count(Verdict::missing), 1);
  EXPECT_EQ(f.count(Verdict::spills), 2);
  const std::vector<FrameRange> called = spans_called(f);
  ASSERT_EQ(called.size(), 1u);
  EXPECT_LT(called[0].in, 30);
  EXPECT_GT(called[0].out, 110);
  // Where nothing else drops there is nothing to be called.
  Forecast missing = f;
  std::erase_if(missing.spans, [](const Span& s) { return s.verdict != Verdict::missing; });
  EXPECT_TRUE(spans_called(missing).empty());
}

TEST(Figures, SpansMatchOneToOneByIntersectionOverUnion) {
  Matches m;
  m.add({{0, 100}, {200, 300}, {400, 420}}, {{40, 110}, {290, 380}, {500, 510}});
  EXPECT_EQ(m.right, 1) << "60 of 110; 10 of 180 are too few";
  EXPECT_NEAR(m.f1(), 1.0 / 3, 1e-9);
  EXPECT_TRUE(std::isnan(Matches{}.f1())) << "nothing said, nothing seen: nothing measured";
  Matches all;
  all.add({{0, 1000}}, {{0, 60}, {100, 160}, {300, 380}, {800, 900}});
  EXPECT_EQ(all.f1(), 0) << "one call over everything is no forecast";
  Matches twice;
  twice.add({{0, 50}, {50, 100}}, {{0, 100}});
  EXPECT_EQ(twice.right, 1) << "one played span is one";
}

TEST(Figures, ARunIsWhereASecondHoldsEnoughDrops) {
  EXPECT_TRUE(drop_runs({10}, {24, 1}).empty()) << "one drop is no run";
  EXPECT_TRUE(drop_runs({10, 34}, {24, 1}).empty()) << "two, a second apart";
  EXPECT_EQ(drop_runs({10, 33}, {24, 1}), (std::vector<FrameRange>{{10, 34}}));
  EXPECT_EQ(drop_runs({10, 12, 14, 50, 70, 72}, {24, 1}), (std::vector<FrameRange>{{10, 15}, {50, 73}})) << "what played for a second parts them";
  EXPECT_EQ(drop_runs({10, 12, 14, 37}, {24, 1}), (std::vector<FrameRange>{{10, 38}})) << "nearer than a second is one";
  EXPECT_TRUE(drop_runs({10, 12}, {50, 1}).empty()) << "8 % of 50 are four";
}

TEST(Figures, TotalsAndRangesAreHeldAsTheyAreDefined) {
  Held h;
  h.expected = 104, h.low = 96.4, h.high = 107.2, h.own = {98, 102}, h.all = {99, 109};
  EXPECT_TRUE(h.total_right()) << "4 of 100";
  h.expected = 106;
  EXPECT_FALSE(h.total_right());
  EXPECT_EQ(h.in_range(), 1);
  h.expected = 3, h.own = {0};
  EXPECT_TRUE(h.total_right()) << "within 3 frames";
  for (const Goal& g : figures_of({}))
    if (g.most < 1e17) EXPECT_FALSE(g.met()) << g.name << ": nothing was measured";
}

// The diagram is over all timelines; the slowest first answer counts, and measuring as if it had been thirty kinds.
TEST(Figures, ProbabilitiesAndWaitsAreOfAllThatWasScored) {
  std::vector<TimelineScore> all(2);
  all[0].held.probability = {0.05, 0.95, 1}, all[0].held.outcome = {0, 1, 1};
  all[1].held.probability = {0.08, 0.5}, all[1].held.outcome = {1, 0};
  const Reliability r = score_reliability(all);
  ASSERT_EQ(r.bins.size(), 10u);
  EXPECT_EQ(r.bins[0].segments, 2);
  EXPECT_EQ(r.bins[0].dropped, 1);
  EXPECT_EQ(r.bins[5].segments, 1);
  EXPECT_EQ(r.bins[5].dropped, 0);
  EXPECT_EQ(r.bins[9].segments, 2);
  EXPECT_EQ(r.bins[9].dropped, 2);
  EXPECT_EQ(score_reliability({}).bins[9].segments, 0);

  all[0].first_answer_s = 0.4, all[0].measured_s = 6, all[0].kinds = 8, all[0].kinds_known = 8;
  all[1].first_answer_s = 5.5, all[1].measured_s = 9, all[1].kinds = 12, all[1].kinds_known = 9;
  const auto goal = [&](const char* starts) {
    for (const Goal& g : score_goals(all))
      if (g.name.starts_with(starts)) return g;
    return Goal{};
  };
  EXPECT_DOUBLE_EQ(goal("first answer").value, 5.5);
  EXPECT_FALSE(goal("first answer").met());
  EXPECT_DOUBLE_EQ(goal("firm answer").value, 30 * 15.0 / 20);
  EXPECT_TRUE(goal("firm answer").met());
  all[0].renders_s = 3, all[1].renders_s = 2;
  EXPECT_DOUBLE_EQ(goal("firm answer").value, 30 * 10.0 / 20 + 2.5) << "renders are tried once, however many kinds there are";
  EXPECT_DOUBLE_EQ(goal("  kinds known").value, 85);
  all.clear();
  for (const char* name : {"first answer", "firm answer", "  kinds known"}) EXPECT_FALSE(goal(name).met()) << "nothing was scored";
}

class RandomTimelines : public testing::Test {
 protected:
  // Their media take seconds to write and are the same for all.
  static void SetUpTestSuite() { media_folder_ = new test::TempFolder; }
  static void TearDownTestSuite() { delete media_folder_; }
  static const fs::path& media() { return media_folder_->path(); }
  test::TempFolder dir_;

 private:
  static inline test::TempFolder* media_folder_ = nullptr;
};

TEST_F(RandomTimelines, AreTheSameForTheSameSeedAndOtherwiseDiffer) {
  MadeUpBook book;
  RandomOptions o;
  o.segments = 3;
  const auto a = random_timeline(o, book, media()), b = random_timeline(o, book, media());
  ASSERT_TRUE(a) << a.error().text();
  ASSERT_TRUE(b);
  MediaCatalog catalog;
  const auto keys = [&](const TimelinePtr& t) {
    const ProgramPtr p = Program::compile(t, catalog);
    std::vector<Hash128> k;
    for (const CompiledInterval& i : p->intervals()) k.push_back(frame_key(p->stages(i.in)));
    return k;
  };
  EXPECT_EQ(keys(*a), keys(*b));
  o.seed = 2;
  const auto other = random_timeline(o, book, media());
  ASSERT_TRUE(other);
  EXPECT_NE(keys(*a), keys(*other));
}

TEST_F(RandomTimelines, HaveAllThatTimelinesHave) {
  MadeUpBook book;
  std::set<std::string> has;
  for (std::uint64_t seed = 1; seed <= 24; ++seed) {
    RandomOptions o;
    o.seed = seed;
    const auto t = random_timeline(o, book, media());
    ASSERT_TRUE(t) << t.error().text();
    // It is written and read back like any other.
    ASSERT_TRUE(save_timeline(**t, dir_ / "t.otio"));
    const auto read = load_timeline(dir_ / "t.otio", {});
    ASSERT_TRUE(read) << read.error().text();
    for (const TrackPtr& track : (*read)->tracks)
      for (const Item& item : track->items) {
        if (std::get_if<Transition>(&item)) has.insert("transition");
        const auto* s = std::get_if<SegmentPtr>(&item);
        if (!s) continue;
        const Segment& g = **s;
        if (g.content == Content::generator) has.insert("generator");
        if (g.content == Content::composition) has.insert("composition");
        if (g.content == Content::adjustment) has.insert("adjustment");
        if (g.content == Content::source && is_sequence((*read)->sources.at(g.ref)->path)) has.insert("sequence");
        if (!g.matte.track.empty()) has.insert("matte");
        if (g.blend != "normal") has.insert("blend");
        if (g.between == Between::blend) has.insert("frames between frames");
        if (g.opacity.is_object()) has.insert("keys");
        if (g.speed.num < 0) has.insert("backwards");
      }
  }
  EXPECT_EQ(has, (std::set<std::string>{"transition", "generator", "composition", "adjustment", "sequence", "matte", "blend", "frames between frames", "keys", "backwards"}));
}

TEST_F(RandomTimelines, SpreadTheirLoadsAndHaveManyCloseToOne) {
  MadeUpBook book;
  for (const EffectType* t : effect_types())
    if (const LawName* law = cost_law(*t, showing_params(*t), false)) book.by_law[law->id] = 9;
  int segments = 0, close = 0;
  double least = 1e9, most = 0;
  std::set<std::string> used;
  for (std::uint64_t seed = 1; seed <= 5; ++seed) {
    RandomOptions o;
    o.seed = seed;
    const auto t = random_timeline(o, book, media());
    ASSERT_TRUE(t) << t.error().text();
    MediaCatalog catalog;
    const ProgramPtr p = Program::compile(*t, catalog);
    ForecastOptions f;
    f.trials = 4;
    for (const IntervalCost& c : forecast(*p, book, {}, {0, p->duration()}, f).intervals) {
      ++segments, close += c.load > 0.7 && c.load < 1.4;
      least = std::min(least, c.load), most = std::max(most, c.load);
    }
    for (const auto& s : p->segments())
      for (const Effect& e : s->segment->stack) used.insert(e.type);
  }
  EXPECT_GE(close, segments / 5);
  EXPECT_LT(least, 0.6);
  EXPECT_GT(most, 1.2);
  EXPECT_LT(most, 5) << "up to 4, and a transition has two of them";
  EXPECT_GE(used.size(), 12u) << "all sorts of effects";
}

TEST_F(RandomTimelines, AreScoredAgainstRealPlayouts) {
  auto notebook = *Notebook::open(dir_ / "n.sqlite");
  // Effects without a law are not used: a few are learnt.
  CalibrateOptions learn;
  learn.seconds = 6, learn.most_mpix = 0.3, learn.only = {"blur", "contrast", "spatial_nr", "gradient"};
  ASSERT_TRUE(calibrate(*notebook, learn, {}));
  ScoreOptions o;
  o.timelines = 1, o.repeat = 2, o.again = 0, o.measure_seconds = 3;
  o.forecast.trials = 16, o.random.segments = 2, o.random.least_frames = 48, o.random.most_frames = 60;
  std::vector<Frames> kept;
  o.keep = [&](std::uint64_t seed, const Program& program, const Forecast& said, const Playout& played, int which) -> Result<void> {
    EXPECT_EQ(seed, o.seed);
    EXPECT_EQ(which, static_cast<int>(kept.size()));
    EXPECT_EQ(said.range.length(), program.duration());
    kept.push_back(static_cast<Frames>(played.log.size()));
    return {};
  };
  const std::atomic<bool> stop{false};
  const auto s = score(notebook, o, media(), {}, stop);
  ASSERT_TRUE(s) << s.error().text();
  ASSERT_EQ(s->timelines.size(), 1u);
  EXPECT_EQ(kept, std::vector<Frames>(2, s->timelines[0].frames)) << "every playout can be looked into";
  const TimelineScore& t = s->timelines[0];
  EXPECT_EQ(t.held.own.size(), 2u);
  EXPECT_EQ(t.held.probability.size(), t.held.outcome.size());
  EXPECT_GE(t.parts, 4) << "two playouts of two segments";
  const Json j = to_json(*s);
  for (const char* key : {"span_f1", "span_precision", "span_recall", "brier", "drops_forecast",
                          "drops_observed", "playout_vs_playout_f1", "rate_error", "cause_agreement",
                          "model_only_error", "folklore", "timelines"})
    EXPECT_TRUE(j.contains(key)) << key;
  EXPECT_FALSE(notebook->lately().empty()) << "what the outside took is remembered";
}

TEST(Explained, ACostThatWasWrongIsNamedAndTheModelIsNotBlamed) {
  MediaCatalog media;
  const ProgramPtr p = Program::compile(
      Build(64, 36).track("V1").solid("s", 200, 0, 0, 0, {test::blur("b", 2)}).done(), media);
  MadeUpBook book;  // every stage half a millisecond
  const Forecast f = forecast(*p, book, {}, {0, 200}, {});
  PlayRecord r;
  r.costs.assign(200, {1, 0, 120, -2, false});
  const Playout played = play_script(p, r, {0, 200});
  ASSERT_GT(played.dropped, 20);
  const Explanation e = explain(f, played, *p);
  EXPECT_FALSE(e.costs.empty());
  EXPECT_TRUE(e.model.agrees()) << "with the measured times it drops the same";
  EXPECT_EQ(e.outside, 0);
  EXPECT_NEAR(e.costs[0].measured_ms, 121, 1) << "a script has no stages: the whole frame is told";
  // Neighbours that a skip left to be made run stages more often; that does not make the stage dearer.
  Playout staged = played;
  for (FrameLog& l : staged.log)
    for (const StageCost& c : f.intervals[0].stages)
      for (int i = 0; i < (c.effect.empty() ? 1 : 4); ++i)
        // As if threads of its own had done it: nobody waited.
        l.stages.push_back({c.kind, c.owner, 0.1f, 0, c.kind == StageKind::display ? 118.0f : 0.5f, 0});
  const Explanation by_stage = explain(f, staged, *p);
  ASSERT_EQ(by_stage.costs.size(), 1u);
  EXPECT_EQ(by_stage.costs[0].label, "Display");
  EXPECT_NEAR(by_stage.costs[0].measured_ms, 118, 0.1);
  ASSERT_EQ(by_stage.sentences.size(), 1u);
  EXPECT_TRUE(by_stage.sentences[0].starts_with("Display was forecast at ")) << by_stage.sentences[0];
  const Reliability rel = reliability({{f, played}}, *p);
  EXPECT_EQ(rel.bins[0].segments, 1);
  EXPECT_EQ(rel.bins[0].dropped, 1);
  EXPECT_DOUBLE_EQ(rel.brier, 1) << "said 0, and it dropped";
}

TEST(Speed, IsPrintedAsGoals) {
  const auto goals = speed_goals(2);
  ASSERT_EQ(goals.size(), 4u);
  EXPECT_GT(goals[0].value, 0);
  EXPECT_LT(goals[1].value, goals[0].value) << "only what changed is simulated again";
  EXPECT_GE(goals[2].value, 95) << "the scripted seat is the same on every day";
  EXPECT_GT(goals[3].value, 0) << "logging is never free";
}

// Outcomes drawn with a known distortion of what was said: the fit finds it (Cox, 1958).
TEST(Calibrations, FindAKnownDistortionAndMoveNothingWithoutEvidence) {
  std::mt19937 rng(3);
  std::uniform_real_distribution<double> unit(0.02, 0.98), even(0, 1);
  std::vector<Said> said;
  const auto truth = [](double p) { return 1 / (1 + std::exp(-(-0.8 + 1.6 * std::log(p / (1 - p))))); };
  for (int i = 0; i < 40; ++i) said.push_back({0.5f, i % 2 == 0});
  EXPECT_EQ(calibration_of(said).outcomes, 0) << "too few";
  EXPECT_EQ(calibration_of(said)(0.37), 0.37);
  said.clear();
  for (int i = 0; i < 200; ++i) said.push_back({0.02f, false});
  EXPECT_EQ(calibration_of(said).outcomes, 0) << "nothing ever happened";
  said.clear();
  for (int i = 0; i < 4000; ++i) {
    const double p = unit(rng);
    said.push_back({static_cast<float>(p), even(rng) < truth(p)});
  }
  const Calibration c = calibration_of(said);
  for (const double p : {0.1, 0.3, 0.5, 0.7, 0.9}) EXPECT_NEAR(c(p), truth(p), 0.04) << p;
  EXPECT_LT(c(0), c(0.5));
}

TEST(Calibrations, AreKeptByTheNotebookAndUsedByTheForecast) {
  const test::TempFolder dir;
  auto book = *Notebook::open(dir / "n.sqlite");
  MediaCatalog media;
  const ProgramPtr program =
      Program::compile(test::Build(64, 36).track("V1").solid("s", 240, 0.2, 0.3, 0.4).done(), media);
  // At the edge: about half of the trials drop.
  std::vector<FrameSample> edge;
  for (int i = 0; i < 64; ++i) edge.push_back({1, 86.5f + static_cast<float>(i % 9) - 4});
  book->add_frames(frame_key(program->stages(0)), edge);
  const auto said = [&] { return forecast(*program, *book, {}, {0, 240}, {}).any_drop({0, 240}); };
  const double before = said();
  ASSERT_GT(before, 0.02);
  ASSERT_LT(before, 0.99);
  std::vector<Said> outcomes;
  for (int i = 0; i < 200; ++i) outcomes.push_back({i % 2 ? static_cast<float>(before) : 0.05f, i % 10 == 1});
  book->add_outcomes(outcomes);
  EXPECT_EQ(said(), before) << "one playout, however long, is one bad minute";
  for (const Said& s : outcomes) book->add_outcomes({&s, 1});
  EXPECT_LT(said(), before) << "it was said too often";
  const Forecast f = forecast(*program, *book, {}, {0, 240}, {});
  EXPECT_EQ(f.any_drop_simulated({0, 240}), before) << "what is learnt from stays what the simulation said";
  book.reset();
  EXPECT_EQ((*Notebook::open(dir / "n.sqlite"))->calibration().outcomes, 400);
}

// Exchangeable draws: by the conformal rule (Tibshirani and others, 2019) the next one lies in the range nine times in ten, however
// wrong the simulation's own width is.
TEST(Ranges, HoldNineInTenWhateverTheSimulationsWidthIs) {
  std::mt19937 rng(11);
  const DropRange said{40, 34, 47};  // 5th and 95th percentile, or so the simulation says
  for (const double spread : {2.0, 4.0, 10.0}) {
    std::normal_distribution<double> drops(40, spread);
    std::vector<RangeNeeded> needed;
    for (int i = 0; i < 400; ++i) needed.push_back({said.needed(drops(rng)), 0.1});
    const DropRange held = said.widened(widening_of(needed, 0.1));
    int inside = 0;
    for (int i = 0; i < 4000; ++i) {
      const double d = drops(rng);
      inside += d >= held.low && d <= held.high;
    }
    EXPECT_NEAR(inside / 4000.0, 0.9, 0.04) << spread;
  }
}

TEST(Ranges, AreAsWideAsTheyHadToBeOnCoresSoCrowded) {
  EXPECT_DOUBLE_EQ(widening_of({}, 0.1), 0.9) << "nothing is known yet, and the cores are quiet";
  EXPECT_DOUBLE_EQ(widening_of({}, 0.35), 1.35);
  EXPECT_DOUBLE_EQ(widening_of({}, 0.8), 1.8);
  EXPECT_DOUBLE_EQ(widening_of({}, -1), 1.5) << "nor is it known how crowded they are";
  EXPECT_DOUBLE_EQ(widening_of({{45, 0.1}}, 0.1), 0.9 * 20 / 19) << "one playout that went astray is no record";
  const std::vector<RangeNeeded> night(10, {45, 0.9});
  EXPECT_EQ(widening_of(night, 0.9), 4) << "half of them are, and wider says nothing";
  EXPECT_LT(widening_of(night, 0.1), 1) << "a crowded night is no quiet morning";
  EXPECT_DOUBLE_EQ(widening_of(std::vector<RangeNeeded>(60, {0.2, 0.1}), 0.1), 0.9 * 13 / 19) << "number 73 of 80";
}

TEST(Ranges, ReachExactlyWhatTheyWereWidenedToAndNeverBelowNothing) {
  const DropRange said{20, 12, 30}, sure{5, 5, 5}, none{0, 0, 0};
  EXPECT_DOUBLE_EQ(said.widened(1).low, 12);
  EXPECT_DOUBLE_EQ(said.widened(1).high, 30);
  EXPECT_DOUBLE_EQ(said.widened(said.needed(44)).high, 44);
  EXPECT_DOUBLE_EQ(said.widened(said.needed(3)).low, 3);
  EXPECT_DOUBLE_EQ(said.widened(9).low, 0);
  EXPECT_DOUBLE_EQ(sure.widened(sure.needed(8)).high, 8) << "a range without width learns too";
  EXPECT_DOUBLE_EQ(none.widened(3).high, 0) << "what surely plays is said to play";
}

TEST(Ranges, AreLearntFromPlayoutsKeptAndUsedByTheForecast) {
  const test::TempFolder dir;
  auto book = *Notebook::open(dir / "n.sqlite");
  MediaCatalog media;
  const ProgramPtr program = Program::compile(test::Build(64, 36).track("V1").solid("s", 240, 0.2, 0.3, 0.4).done(), media);
  std::vector<FrameSample> heavy;
  for (int i = 0; i < 64; ++i) heavy.push_back({1, 110.0f + static_cast<float>(i % 9) - 4});
  book->add_frames(frame_key(program->stages(0)), heavy);
  const Forecast before = forecast(*program, *book, {}, {0, 240}, {});
  ASSERT_GT(before.expected_drops, 10);
  const DropRange alone = before.simulated({0, 240});
  EXPECT_LT(before.drops_low, alone.low) << "a fresh seat knows little of itself";
  EXPECT_GT(before.drops_high, alone.high);
  // Sixty playouts that dropped what was said.
  Playout p;
  p.range = {0, 240}, p.frames = 240, p.dropped = std::lround(before.expected_drops);
  for (int i = 0; i < 60; ++i) ASSERT_TRUE(note_playout(before, p, *program, *book));
  const Forecast after = forecast(*program, *book, {}, {0, 240}, {});
  EXPECT_EQ(after.expected_drops, before.expected_drops);
  EXPECT_GT(after.drops_low, before.drops_low);
  EXPECT_LT(after.drops_high, before.drops_high);
  book.reset();
  EXPECT_EQ((*Notebook::open(dir / "n.sqlite"))->widening(), after.widening);
}

// What an earlier version of the simulation said stays in the notebook, and is no evidence of what this one says.
TEST(Ranges, AndProbabilitiesAreHeldToWhatThisSimulationSaid) {
  const test::TempFolder dir;
  auto book = *Notebook::open(dir / "n.sqlite");
  const double fresh = book->widening();
  for (int i = 0; i < 60; ++i) ASSERT_TRUE(book->add_range({4, -1}));
  for (int i = 0; i < 200; ++i) {
    const Said said{0.95f, i % 2 == 0};
    ASSERT_TRUE(book->add_outcomes({&said, 1}));
  }
  ASSERT_GT(book->widening(), fresh);
  ASSERT_EQ(book->calibration().outcomes, 200);
  book.reset();
  {
    auto d = Database::open(dir / "n.sqlite", std::vector<const char*>(Notebook::kVersion, "SELECT 1"), "notebook");
    ASSERT_TRUE(d);
    ASSERT_TRUE(d->run("UPDATE ranged SET simulation = simulation - 1; UPDATE outcome SET simulation = simulation - 1"));
  }
  book = *Notebook::open(dir / "n.sqlite");
  EXPECT_EQ(book->widening(), fresh);
  EXPECT_EQ(book->calibration().outcomes, 0);
  ASSERT_TRUE(book->add_range({1, -1}));
  book.reset();
  auto d = Database::open(dir / "n.sqlite", std::vector<const char*>(Notebook::kVersion, "SELECT 1"), "notebook");
  ASSERT_TRUE(d);
  Statement q = d->prepare("SELECT count(*) FROM ranged");
  ASSERT_TRUE(q.step());
  EXPECT_EQ(q.integer(0), 60) << "the latest sixty are kept, whoever said them";
}

// The first pass starts with frames made before its clock; a further pass follows on the end of the last.
TEST(Loops, FurtherPassesAreForecastApartFromTheFirst) {
  const test::TempFolder dir;
  auto book = *Notebook::open(dir / "n.sqlite");
  MediaCatalog media;
  const ProgramPtr program = Program::compile(test::Build(64, 36)
                                                  .track("V1")
                                                  .solid("heavy", 30, 0, 0, 0)
                                                  .solid("light", 6, 1, 1, 1, {test::cdl("g", 1.2)})
                                                  .done(),
                                              media);
  const double period = program->timeline()->rate.frame_ms();
  const auto measured = [&](Frames at, double ms) {
    book->add_frames(frame_key(program->stages(at)),
                     std::vector<FrameSample>(64, {1, static_cast<float>(ms)}));
  };
  measured(0, 2.9 * period), measured(32, 0.3 * period);
  ForecastOptions o;
  const Forecast first = forecast(*program, *book, {}, {0, 36}, o);
  o.loop = true;
  const Forecast further = forecast(*program, *book, {}, {0, 36}, o);
  EXPECT_LT(first.expected_drops, 1);
  EXPECT_GT(further.expected_drops, 4);
  EXPECT_EQ(further.miss.size(), 36u);
  // The player on the scripted seat does the same.
  PlayRecord r;
  for (int pass = 0; pass < 2; ++pass)
    for (Frames i = 0; i < 36; ++i) r.costs.push_back({1, 0, (i < 30 ? 2.9 : 0.3) * period, -2, false});
  r.far = 24;
  PlayOptions twice;
  twice.passes = 2, twice.kinds = kinds_of(*program, *book, {}, {0, 36}, {});
  const Playout p = play_script(program, r, {0, 36}, twice);
  double drops = 0;
  for (std::size_t i = 36; i < 72; ++i) drops += p.log[i].dropped;
  EXPECT_NEAR(further.expected_drops, drops, 2);
}

/// A picture of 480 frames, each of which takes so long, with a millisecond of fetching.
ProgramPtr steady(Notebook& book, float process_ms) {
  MediaCatalog media;
  const ProgramPtr program =
      Program::compile(Build(64, 36).track("V1").solid("s", 480, 0.2, 0.3, 0.4).done(), media);
  book.add_frames(frame_key(program->stages(0)), std::vector<FrameSample>(64, {1, process_ms}));
  return program;
}

TEST(Moods, OfPlayoutsMakeTheForecastAsUnsureAsTheSeatIs) {
  const test::TempFolder dir;
  auto book = *Notebook::open(dir / "n.sqlite");
  // With room of an eighth: sure to hold, unless the seat is slower than it was when it was measured.
  const ProgramPtr program = steady(*book, 72);
  const auto said = [&] { return forecast(*program, *book, {}, {0, 480}, {}).any_drop({0, 480}); };
  EXPECT_EQ(said(), 0);
  EXPECT_EQ(book->mood(0.02), usual_mood(-1, 0.02)) << "nothing was played";
  std::vector<float> ratios;
  for (int i = 0; i < 15; ++i) ratios.push_back(i % 3 == 0 ? 1.2f : i % 3 == 1 ? 1 : 1 / 1.2f);
  // A third of their stretches was slow.
  for (int i = 0; i < 6; ++i) book->add_moods(ratios);
  EXPECT_GT(said(), 0.05);
  EXPECT_LT(said(), 0.35);
  const Mood before = book->mood(0.02);
  EXPECT_NEAR(before.base, 1, 0.02);
  EXPECT_GT(before.spread, 0.08);
  // What is beyond all reason says nothing of the seat: this is 2.5, 0.4 and 1, each brought near the middle one.
  book->add_moods(std::vector<float>{40, 0.001f, 1});
  EXPECT_NEAR(book->mood(0.02).base, before.base, 0.03);
  const Mood kept = book->mood(0.02);
  book.reset();
  EXPECT_EQ((*Notebook::open(dir / "n.sqlite"))->mood(0.02), kept);
}

// A playout whose stretches all were slow says that the next may be; one of a single stretch says less.
TEST(Moods, OfWholePlayoutsMakeTheNextOneDearerAndLessSure) {
  const auto after = [](std::size_t stretches) {
    const test::TempFolder dir;
    auto book = *Notebook::open(dir / "n.sqlite");
    book->add_moods(std::vector<float>(stretches, 1.4f));
    return book->mood(0.02);
  };
  const Mood none = usual_mood(-1, 0.02), one = after(1), many = after(8);
  EXPECT_NEAR(many.base, (4 + 1.25) / 5, 0.001) << "beside the usual, which counts as four playouts, and a quarter more at most";
  EXPECT_GT(one.base, none.base);
  EXPECT_LT(one.base, many.base - 0.03);
  EXPECT_GT(many.level, none.level + 0.02);
  EXPECT_LT(many.spread, none.spread) << "within itself it was even";
}

// What a playout took says most of one that begins when the cores are as crowded.
TEST(Moods, AreThoseOfPlayoutsThatBeganAsCrowdedAsNow) {
  const test::TempFolder dir;
  auto book = *Notebook::open(dir / "n.sqlite");
  for (int i = 0; i < 16; ++i) {
    const bool crowded = i / 4 % 2 == 0;  // the latest four were not
    book->add_moods(std::vector<float>(6, crowded ? 1.5f : 1.0f), crowded ? 0.9 : 0.1);
  }
  EXPECT_EQ(book->crowding(), -1);
  EXPECT_LT(book->mood(0).base, 1.1) << "of now nothing is known: the latest count";
  for (int i = 0; i < 30; ++i) book->note_crowding(0.8);
  EXPECT_GT(book->mood(0).base, 1.2);
  EXPECT_GT(book->mood(0).level, 0.05);
  for (int i = 0; i < 30; ++i) book->note_crowding(0.05);
  book->note_crowding(-1);
  EXPECT_NEAR(book->mood(0).base, 1, 0.01);
  EXPECT_NEAR(book->crowding(), 0.05, 0.02);
  const double now = book->crowding();
  book.reset();
  EXPECT_EQ((*Notebook::open(dir / "n.sqlite"))->crowding(), now) << "the next command knows it too";
}

// A seat that was crowded whenever it played is quiet now: nobody has seen that, and what shared cores cost is known.
TEST(Moods, OfACrowdedSeatAreNoForecastOfAQuietOne) {
  const test::TempFolder dir;
  auto book = *Notebook::open(dir / "n.sqlite");
  for (int i = 0; i < 10; ++i) book->add_moods(std::vector<float>(6, 1.34f), 0.95);
  for (int i = 0; i < 60; ++i) book->note_crowding(0.95);
  EXPECT_NEAR(book->mood(0).base, 1.33, 0.015) << "as crowded as it then was";
  for (int i = 0; i < 60; ++i) book->note_crowding(0);
  EXPECT_NEAR(book->mood(0).base, 1, 0.01) << "and never below what quiet cores take";
  // What is seen then counts besides what is usual: this seat does not get quicker.
  for (int i = 0; i < 10; ++i) book->add_moods(std::vector<float>(6, 1.34f), 0);
  EXPECT_NEAR(book->mood(0).base, 1 + 0.25 * 0.46, 0.02) << "the latest ones count nearly as much as the usual";
}

// Costs that are known are of cores that nobody else works on. Before any playout has told better, the
// forecast takes them for as much dearer as the cores are crowded.
TEST(Moods, BeforeAnyPlayoutCrowdedCoresMakeTheForecastDearer) {
  const test::TempFolder dir;
  auto book = *Notebook::open(dir / "n.sqlite");
  const ProgramPtr program = steady(*book, 80);
  const auto made = [&] { return forecast(*program, *book, {}, {0, 480}, {}); };
  EXPECT_EQ(made().expected_drops, 0);
  const double load = made().intervals.front().load;
  EXPECT_LT(load, 1);
  book->note_crowding(1);
  const Forecast f = made();
  EXPECT_GT(f.expected_drops, 10);
  EXPECT_NEAR(f.intervals.front().load, load * crowded(1), 0.02) << "what is shown is what is forecast";
  EXPECT_EQ(f.crowding, 1);
  // The person is told, in words and in figures.
  EXPECT_THAT(f.surcharge(), testing::AllOf(testing::HasSubstr("1.3"), testing::HasSubstr("100 %")));
  EXPECT_TRUE(Forecast().surcharge().empty());
  const Json j = to_json(f);
  EXPECT_NEAR(j["costs_over_known"].get<double>(), crowded(1), 0.02);
  EXPECT_EQ(j["cores_shared"], 1);
  EXPECT_TRUE(to_json(Forecast())["cores_shared"].is_null());
}

// A slow trial is slow from end to end; where stretches differ they do so by chance.
TEST(Moods, StretchesAreSlowTogetherOrByChance) {
  Model m;
  m.pace = {2, 12, 40};
  m.pools.push_back({{{1, 72}}, {}, false});
  for (Frames i = 0; i < 8; ++i) m.stretches.push_back({i * 480, (i + 1) * 480, 0, false, 0});
  m.kinds = kinds_told(m);
  const auto slow_stretches = [&] {
    const Trials t = simulate(m, 64, 5);
    std::vector<int> slow(64, 0);
    for (const CostStretch& s : m.stretches) {
      const auto drops = t.drops(s.in, s.out);
      for (std::size_t i = 0; i < slow.size(); ++i) slow[i] += drops[i] > 0;
    }
    return slow;
  };
  const auto some = [](const std::vector<int>& slow) { return std::ranges::count_if(slow, [](int n) { return n > 0 && n < 8; }); };
  m.mood = {1.05, 0.2, 0};
  std::vector<int> slow = slow_stretches();
  EXPECT_EQ(some(slow), 0);
  EXPECT_GT(std::ranges::count(slow, 8), 10) << "of some trials all of it";
  EXPECT_GT(std::ranges::count(slow, 0), 10) << "of others nothing";
  m.mood = {1.05, 0, 0.2};
  slow = slow_stretches();
  EXPECT_GT(some(slow), 50);
}

// A second passed while a frame was made, half of it with somebody else at work; six tenths of it went into neighbours.
TEST(Moods, WhatTheOutsideTookOfNeighboursIsNotTakenOffTwice) {
  FrameLog l;
  l.fetched_ms = 0, l.done_ms = 1000, l.spent.outside = 500, l.neighbours_ms = 600, l.steady_fetch_ms = 5, l.beside_ms = 3;
  EXPECT_DOUBLE_EQ(own_ms(l), 5 + 3 + 500 * 0.4);
  l.neighbours_ms = -60;
  EXPECT_DOUBLE_EQ(own_ms(l), 5 + 3 + 500 + 60) << "what another frame has made would have been its own to make";
  l.spent.outside = 2000, l.neighbours_ms = 600;
  EXPECT_DOUBLE_EQ(own_ms(l), 5 + 3);
}

TEST(Moods, AreNotedByStretchWithoutWhatTheOutsideTook) {
  const test::TempFolder dir;
  auto book = *Notebook::open(dir / "n.sqlite");
  Forecast f;
  f.range = {0, 60}, f.rate = {24, 1};
  for (Frames in : {0, 30}) {
    IntervalCost c;
    c.in = in, c.out = in + 30, c.fetch_ms = 5, c.process_ms = 35;
    f.intervals.push_back(c);
  }
  Playout p;
  p.range = f.range, p.frames = 60;
  for (Frames i = 0; i < 60; ++i) {
    FrameLog l;
    l.frame = i, l.made = true, l.steady_fetch_ms = 5;
    // A tenth more than was forecast; one frame in ten is held up besides.
    l.fetched_ms = 100, l.done_ms = 139;
    if (i % 10 == 0) l.spent.outside = 400, l.done_ms += 400;
    p.log.push_back(l);
  }
  for (int i = 0; i < 10; ++i) ASSERT_TRUE(book->add_moods(moods_of(f, p), f.crowding));
  EXPECT_THAT(moods_of(f, p), testing::ElementsAre(testing::FloatNear(1.1f, 1e-3f), testing::FloatNear(1.1f, 1e-3f)));
  EXPECT_NEAR(book->mood(0).base, 1.03, 0.01) << "two stretches tell less than five";
}

// What kept the display's thread from looking is remembered: how often and for how long, each hold-up once.
TEST(Disturbances, OfTheDisplayAreNotedOnceEach) {
  const test::TempFolder dir;
  auto book = *Notebook::open(dir / "n.sqlite");
  Playout p;
  p.range = {0, 300}, p.frames = 300, p.rate = {25, 1};
  for (Frames i = 0; i < 300; ++i) {
    FrameLog l;
    l.frame = i, l.made = true, l.due_ms = static_cast<double>(i) * 40, l.looked_ms = l.due_ms + 0.1;
    l.done_ms = 10;
    p.log.push_back(l);
  }
  const auto hold = [&](std::size_t i, double ms) {
    const double until = p.log[i].due_ms + ms;
    for (; p.log[i].due_ms < until; ++i) p.log[i].looked_ms = until;
  };
  hold(50, 90), hold(120, 12), hold(200, 2);
  hold(250, 60), p.log[250].cause = Cause::display;  // it blocked
  note_disturbance(p, *book);
  book.reset();
  const auto lately = (*Notebook::open(dir / "n.sqlite"))->lately();
  ASSERT_EQ(lately.size(), 1u);
  EXPECT_EQ(lately[0].looks_ms, (std::vector<float>{90, 12}));
  EXPECT_NEAR(lately[0].looks_per_busy_ms, 2.0 / 3000, 1e-9);
  EXPECT_EQ(lately[0].per_busy_ms, 0);
}

// Drops that the outside alone brought are no evidence against what was said of the timeline.
TEST(Calibrations, LearnNothingFromWhatTheOutsideDropped) {
  const test::TempFolder dir;
  auto book = *Notebook::open(dir / "n.sqlite");
  MediaCatalog media;
  const ProgramPtr program =
      Program::compile(test::Build(64, 36).track("V1").solid("s", 60, 0.2, 0.3, 0.4).done(), media);
  book->add_frames(frame_key(program->stages(0)), std::vector<FrameSample>(64, {1, 20}));
  const Forecast f = forecast(*program, *book, {}, {0, 60}, {});
  Playout p;
  p.range = {0, 60}, p.frames = 60, p.rate = {24, 1};
  p.log.resize(60);
  for (Frames i = 0; i < 60; ++i) p.log[static_cast<std::size_t>(i)].frame = i;
  for (int i = 0; i < 60; ++i) note_outcomes(f, p, *program, *book);
  p.log[7].dropped = true, p.log[7].cause = Cause::outside;
  for (int i = 0; i < 60; ++i) note_outcomes(f, p, *program, *book);
  EXPECT_EQ(book->calibration().outcomes, 0);
  p.log[9].dropped = true, p.log[9].cause = Cause::processor;
  for (int i = 0; i < 30; ++i) note_outcomes(f, p, *program, *book);
  EXPECT_EQ(book->calibration().outcomes, 90) << "60 that held and 30 that dropped by themselves";
}

// A player and a model that do not agree leave what they did not agree on.
TEST(Replays, AreKeptUnderANameOfTheirOwn) {
  const test::TempFolder dir;
  MediaCatalog media;
  const ProgramPtr program =
      Program::compile(Build(64, 36).track("V1").solid("s", 100, 0.2, 0.3, 0.4).done(), media);
  PlayRecord r;
  r.costs.assign(100, {2, 0, 120, -2, false});
  const Playout p = play_script(program, r, {0, 100});
  const auto first = keep_replay(p, *program, dir / "replays"),
             second = keep_replay(p, *program, dir / "replays");
  ASSERT_TRUE(first && second);
  EXPECT_NE(*first, *second) << "nothing that was kept is written over";
  const auto record = load_record(*first);
  ASSERT_TRUE(record);
  EXPECT_EQ(replay(*record).observed, p.dropped);
  EXPECT_TRUE(replay(*record).agrees());
  test::put(dir / "file", "");
  const auto refused = keep_replay(p, *program, dir / "file");
  ASSERT_FALSE(refused) << "a file stands where the folder should be";
  EXPECT_FALSE(refused.error().text().empty());
}

TEST(Kinds, BeginWhereFramesChangeAndSayWhatIsUsual) {
  const test::TempFolder dir;
  auto book = *Notebook::open(dir / "n.sqlite");
  MediaCatalog media;
  const ProgramPtr program = Program::compile(
      Build(64, 36).track("V1").solid("a", 40, 0, 0, 0).solid("b", 40, 0, 0, 0, {test::cdl("g", 1.2)}).done(),
      media);
  std::vector<FrameSample> heavy(63, {1, 99});
  heavy.push_back({1, 4000});
  book->add_frames(frame_key(program->stages(0)), std::vector<FrameSample>(64, {1, 9}));
  book->add_frames(frame_key(program->stages(50)), heavy);
  const auto kinds = kinds_of(*program, *book, {}, {0, 80}, {});
  ASSERT_EQ(kinds.size(), 2u);
  EXPECT_EQ(kinds[0].from, 0);
  EXPECT_EQ(kinds[1].from, 40);
  EXPECT_NEAR(kinds[0].occupied_ms, 10, 0.01);
  EXPECT_NEAR(kinds[1].occupied_ms, 100, 0.01) << "one that took far longer says nothing";
  EXPECT_LT(kinds[1].deviation_ms, 3);
  const auto later = kinds_of(*program, *book, {}, {30, 80}, {});
  EXPECT_EQ(later[1].from, 10) << "counted from the first frame that is played";
}

}  // namespace
}  // namespace gc
