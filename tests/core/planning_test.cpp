// Plans: exact choice, clocks and budgets, the person's word, schedules, and plans as files.
#include "commands.h"
#include "desk/planning.h"
#include "desk/report.h"
#include "plan/night.h"
#include "plan/plan_score.h"
#include "remedies.h"

namespace gc {
namespace {

using testing::HasSubstr;

/// The 0-1 knapsack P01 of a well-known collection: capacity 165, best value 309 (from memory).
Mip knapsack() {
  const std::vector<double> weights{23, 31, 29, 44, 53, 38, 63, 85, 89, 82}, values{92, 57, 49, 68, 60, 43, 67, 84, 87, 72};
  Mip mip;
  Mip::Row room{-kNoLimit, 165, {}};
  for (std::size_t i = 0; i < weights.size(); ++i) room.terms.emplace_back(mip.add("x" + std::to_string(i), -values[i]), weights[i]);
  mip.rows.push_back(room);
  return mip;
}

TEST(Exactly, AKnownKnapsackIsSolved) {
  const MipAnswer a = solve(knapsack(), 5);
  ASSERT_TRUE(a.solved);
  EXPECT_TRUE(a.optimal);
  EXPECT_DOUBLE_EQ(a.value, -309);
  EXPECT_DOUBLE_EQ(a.bound, -309);
}

TEST(Exactly, WhatCannotBeMetHasNoAnswer) {
  Mip mip;
  mip.rows.push_back({2, kNoLimit, {{mip.add("x", 1), 1}}});
  EXPECT_FALSE(solve(mip, 5).solved);
}

/// Two other programs read the problem as it is written and find the same.
void expect_same_elsewhere(const Mip& mip, double value) {
  const test::TempFolder dir;
  test::put(dir / "p.lp", lp_text(mip));
  ASSERT_TRUE(test::shell("cd '" + dir.path().string() + "' && glpsol --lp p.lp -o g.txt >/dev/null && cbc p.lp solve solu c.txt >/dev/null"));
  const std::string g = *read_file(dir / "g.txt", 1 << 20), c = *read_file(dir / "c.txt", 1 << 20);
  EXPECT_NEAR(std::stod(g.substr(g.find(" = ") + 3)), value, 1e-4) << g.substr(0, 400);
  EXPECT_NEAR(std::stod(c.substr(c.find("value") + 5)), value, 1e-4) << c.substr(0, 200);
}

TEST(Exactly, GlpkAndCbcFindTheSameInTheExportedProblem) {
  expect_same_elsewhere(knapsack(), -309);
  const PlanCase c = random_plan_case(5, 30);
  SimulationJudge judge = c.judge();
  Chooser chooser(c.problem, judge);
  const Choice least = chooser.least_work({});
  expect_same_elsewhere(chooser.latest(), least.counts);
}

TEST(Exactly, WhatIsNoNumberIsNotAskedOfTheSolver) {
  Mip mip;
  mip.add("a", 1), mip.add("b", std::numeric_limits<double>::quiet_NaN());
  mip.rows.push_back({1, kNoLimit, {{0, 1}, {1, 1}}});
  EXPECT_FALSE(solve(mip, 1).solved);
  mip.columns[1].cost = 2;
  EXPECT_TRUE(solve(mip, 1).solved);
  mip.rows[0].low = std::numeric_limits<double>::quiet_NaN();
  EXPECT_FALSE(solve(mip, 1).solved);
}

// Every choice of 24 small random timelines; `gclk score --plans` does a thousand.
TEST(Exactly, EqualsEveryChoiceThereIs) {
  const PlanScore s = score_plans({.seed = 77, .small_cases = 24, .cases = 2, .large = {}}, {});
  EXPECT_EQ(s.brute_force_equal, 24);
  EXPECT_EQ(s.brute_force_cases, 24);
  EXPECT_LE(s.worst_gap, 0.01);
  ASSERT_EQ(s.peers.size(), 3u);
  for (const auto& [name, p] : s.peers) EXPECT_GE(p.time_ratio, 1 - 1e-9) << name;
  EXPECT_GE(s.prefix_ratio, 1);
  EXPECT_LT(s.prefix_ratio, 1.6) << "stopping anywhere leaves nearly the best";
}

// Stretches between which the pipeline rests are played apart; that must be what playing it all at once says.
TEST(Exactly, StretchesPlayedApartDropWhatTheWholeDrops) {
  for (const std::uint64_t seed : {1u, 2u, 3u, 4u, 5u, 6u}) {
    const PlanCase c = random_plan_case(seed, 24);
    SimulationJudge judge = c.judge();
    const std::vector<std::size_t> live(c.units.size(), 0);
    double apart = 0;
    for (const auto& [first, last] : judge.runs(live)) apart += judge.play(first, last, live).drops;
    const double together = judge.play(0, c.units.size() - 1, live).drops;
    EXPECT_NEAR(apart, together, std::max(2.0, 0.04 * together)) << seed;
  }
}

// Drops weighed against work, held against every choice there is.
TEST(Exactly, NothingIsABetterTradeThanTheOneChosen) {
  for (const std::uint64_t seed : {21u, 22u, 23u, 24u, 25u, 26u, 27u, 28u})
    for (const double drop_seconds : {0.2, 1.0, 5.0, 50.0}) {
      const PlanCase c = random_plan_case(seed, 10, 8);
      SimulationJudge judge = c.judge();
      Chooser chooser(c.problem, judge);
      Limits limits;
      limits.drop_seconds = drop_seconds;
      const Choice chosen = chooser.best_trade(limits);
      ASSERT_TRUE(chosen.possible);
      const auto badness = [&](const Choice& x) { return x.drops + x.counts / drop_seconds; };
      double least = kNoLimit;
      for (std::size_t set = 0; set < std::size_t{1} << c.problem.works.size(); ++set) {
        std::vector<bool> works;
        for (std::size_t i = 0; i < c.problem.works.size(); ++i) works.push_back(set >> i & 1);
        least = std::min(least, badness(chooser.with(works)));
      }
      // A tenth of a frame or one part in a hundred, as for the fewest drops.
      EXPECT_LE(badness(chosen), least + std::max(0.1, 0.01 * least)) << seed << " at " << drop_seconds;
      EXPECT_LE(chosen.bound, least + std::max(0.1, 0.01 * least)) << seed << " at " << drop_seconds;
    }
}

/// Each unit drops one frame while it is live, whatever its neighbours do.
class OneDropEach : public Judge {
 public:
  std::vector<std::pair<std::size_t, std::size_t>> runs(const std::vector<std::size_t>& ways) override {
    std::vector<std::pair<std::size_t, std::size_t>> all;
    for (std::size_t u = 0; u < ways.size(); ++u)
      if (ways[u] == 0) all.emplace_back(u, u);
    return all;
  }
  Judged play(std::size_t first, std::size_t, const std::vector<std::size_t>& ways) override {
    const double live = ways[first] == 0 ? 1 : 0;
    return {live, live};
  }
};

/// Works with times by which they are due; how many are done on time at most.
Choice most_on_time(const std::vector<double>& seconds, const std::vector<double>& due) {
  Problem p;
  Limits limits;
  limits.until = due;
  for (std::size_t i = 0; i < seconds.size(); ++i) {
    p.works.push_back({"w" + std::to_string(i), seconds[i], 0, 0, false, false, i});
    p.units.push_back({{{2, {}}, {0, {i}}}});
  }
  OneDropEach judge;
  Chooser chooser(p, judge);
  const Choice all = chooser.least_work(limits);
  return all.possible ? all : chooser.least_drops(limits);
}

// J. M. Moore, "An n job, one machine sequencing algorithm for minimizing the number of late jobs", 1968, with Hodgson's rule:
// times 7 8 4 6 6 due at 9 17 18 19 21. J. R. Jackson, 1955: all are on time exactly when they are in the order of their times.
TEST(Exactly, WhatIsDueFirstIsDoneFirstAndTheFewestAreLate) {
  EXPECT_NEAR(most_on_time({7, 8, 4, 6, 6}, {9, 17, 18, 19, 21}).drops, 2, 1e-6) << "two of five are late";
  EXPECT_NEAR(most_on_time({2, 3, 4}, {2, 5, 9}).drops, 0, 1e-6) << "just in time, each";
  EXPECT_NEAR(most_on_time({2, 3, 4}, {2, 4.9, 9}).drops, 1, 1e-6) << "the second is late, or the first is left out";
}

TEST(Exactly, MoreWorkIsNeverWorse) {
  for (const std::uint64_t seed : {11u, 12u, 13u}) {
    const PlanCase c = random_plan_case(seed, 10, 8);
    SimulationJudge judge = c.judge();
    Chooser chooser(c.problem, judge);
    for (std::size_t set = 0; set < std::size_t{1} << c.problem.works.size(); set += 3) {
      std::vector<bool> works;
      for (std::size_t i = 0; i < c.problem.works.size(); ++i) works.push_back(set >> i & 1);
      const double drops = chooser.with(works).drops;
      for (std::size_t i = 0; i < works.size(); ++i) {
        if (works[i]) continue;
        std::vector<bool> more = works;
        more[i] = true;
        EXPECT_LE(chooser.with(more).drops, drops + 0.5) << seed << " " << set << " " << i;
      }
    }
  }
}

// On a virtual clock, with edits and slow hours: the plan makes more reviews play than what people do by hand, and spends less.
TEST(Nights, ThePlanMakesMoreReviewsPlayForLessWork) {
  const NightScore s = score_nights(12, 5, {});
  EXPECT_EQ(s.nights, 12);
  ASSERT_EQ(s.ways.size(), 4u);
  const NightScore::Way& ours = s.ways.at("the plan");
  EXPECT_GT(ours.played, 0);
  for (const auto& [name, w] : s.ways) {
    EXPECT_LE(w.played, ours.played) << name;
    EXPECT_GE(w.drops, ours.drops) << name;
    EXPECT_LE(w.wasted, w.worked) << name;
  }
  EXPECT_EQ(to_json(score_nights(2, 5, {})), to_json(score_nights(2, 5, {}))) << "the same seed, the same nights";
}

TEST(Schedules, WhatOthersWaitForComesFirst) {
  const std::vector<Task> tasks{{"render", 1, {"bake"}}, {"bake", 1, {}}, {"other", 1, {}}};
  std::vector<std::string> ids;
  for (const Task& t : dependencies_first(tasks)) ids.push_back(t.id);
  EXPECT_EQ(ids, (std::vector<std::string>{"bake", "render", "other"}));
}

/// With a clock that changes to summer time in the night to 29 March 2026, at 2:00.
class ByTheClock : public testing::Test {
 protected:
  ByTheClock() {
    if (const char* was = std::getenv("TZ")) before_ = was;
    ::setenv("TZ", "CET-1CEST,M3.5.0,M10.5.0/3", 1), ::tzset();
  }
  ~ByTheClock() override {
    before_ ? ::setenv("TZ", before_->c_str(), 1) : ::unsetenv("TZ");
    ::tzset();
  }
  std::optional<std::string> before_;
  const std::int64_t evening_ = 1774720800;  // 2026-03-28 19:00 there
};

TEST_F(ByTheClock, TheNightOfTheChangeIsAnHourShorter) {
  EXPECT_EQ(clock_text(evening_, evening_), "19:00");
  const auto free = free_time(evening_, {{9 * 60, 18 * 60}}, 0.25);
  const std::int64_t nine = *clock_time("9:00", evening_);
  EXPECT_EQ(nine - evening_, 13 * 3600) << "not 14 hours";
  EXPECT_DOUBLE_EQ(work_until(free, 13 * 3600.0), 13 * 3600.0);
  EXPECT_DOUBLE_EQ(work_until(free, 15 * 3600.0), 13.5 * 3600.0) << "two hours of which a quarter counts";
  EXPECT_DOUBLE_EQ(done_at(free, 13.5 * 3600.0), 15 * 3600.0);
  EXPECT_EQ(clock_text(nine, evening_), "Sun 9:00");
}

TEST_F(ByTheClock, TimesAreReadAsPeopleWriteThem) {
  EXPECT_EQ(*clock_time("20:30", evening_) - evening_, 90 * 60);
  EXPECT_EQ(*clock_time("2026-03-28T20:30", evening_) - evening_, 90 * 60);
  for (const char* odd : {"", "25:00", "9", "9:60", "tomorrow", "9:00 or so", "2026-13-01T09:00"}) EXPECT_FALSE(clock_time(odd, evening_)) << odd;
}

TEST_F(ByTheClock, HoursThatPassMidnight) {
  const auto free = free_time(evening_, {{22 * 60, 6 * 60}}, 0, 2);
  EXPECT_DOUBLE_EQ(work_until(free, 3 * 3600.0), 3 * 3600.0);
  EXPECT_DOUBLE_EQ(work_until(free, 10 * 3600.0), 3 * 3600.0) << "22:00 to 6:00 is seven hours this night";
  EXPECT_DOUBLE_EQ(done_at(free, 3 * 3600.0 + 1), 10 * 3600.0 + 1);
}

class PlansOfTheDesk : public test::Remedies {
 protected:
  Plan plan(const PlanOptions& o = {}) { return make_plan(situation(), {0, 48}, o); }
  static std::vector<std::string> ids(const Plan& p) {
    std::vector<std::string> all;
    for (const Remedy& r : p.remedies) all.push_back(r.id);
    return all;
  }
};

TEST_F(PlansOfTheDesk, IsCarriedOutAndThenHolds) {
  const Plan p = plan();
  ASSERT_FALSE(p.remedies.empty());
  EXPECT_TRUE(p.fits);
  EXPECT_TRUE(p.holds) << p.after.expected_drops;
  EXPECT_LE(p.gap, 0.01);
  EXPECT_GE(p.render_seconds, p.bound_seconds - 1e-6);
  EXPECT_THAT(p.sentence, HasSubstr("Nothing that is judged is hidden."));
  for (const Remedy& r : p.remedies) {
    EXPECT_FALSE(r.reason.empty());
    EXPECT_LE(r.begins, r.ends);
  }
  const View v = view_of(timeline_, stores_);
  const auto done = carry_out(p, v, v, stores_, {});
  ASSERT_TRUE(done) << done.error().text();
  EXPECT_TRUE(done->left_out.empty());
  EXPECT_GT(done->made.frames, 0);
  const Plan after = plan();
  EXPECT_TRUE(after.remedies.empty()) << ids(after).front();
  EXPECT_EQ(done->timeline, timeline_) << "nothing is hidden, so no slip is open";
}

TEST_F(PlansOfTheDesk, ObeysTheWordAndSaysWhatItCosts) {
  const Plan free = plan();
  const std::string first = free.remedies.front().proposal.kind->name();
  PlanOptions o;
  o.forbids = {first}, o.words = true;
  const Plan without = plan(o);
  for (const Remedy& r : without.remedies) EXPECT_NE(r.proposal.kind->name(), first);
  EXPECT_GE(without.render_seconds, free.render_seconds - 1e-6) << "a ban never makes it cheaper";
  ASSERT_EQ(without.words.size(), 1u);
  EXPECT_EQ(without.words[0].word, "forbid " + first);
  EXPECT_NEAR(without.words[0].seconds, without.render_seconds - free.render_seconds, 0.02 * without.render_seconds) << "what the ban costs";
  PlanOptions pinned;
  pinned.pins = {"bake:comp"};
  const Plan with = plan(pinned);
  const auto bake = std::ranges::find_if(with.remedies, [](const Remedy& r) { return r.id == "bake:comp"; });
  ASSERT_NE(bake, with.remedies.end());
  EXPECT_TRUE(bake->pinned);
  PlanOptions segment;
  segment.pins = {"c"};
  for (const Remedy& r : plan(segment).remedies)
    if (r.pinned) EXPECT_TRUE(r.renders_frames()) << r.id << ": a segment that is pinned is rendered, and nothing besides";
  PlanOptions never;
  never.forbids = {"a"};
  for (const Remedy& r : plan(never).remedies) EXPECT_NE(r.segment, "a");
}

// A title over a part of a segment cuts it into three stretches, which are one line of the plan.
TEST_F(PlansOfTheDesk, AWordAboutALineIsAboutAllOfIt) {
  // Layers above it divide the segment, so that a line of the plan can be several renders that touch.
  auto t = std::make_shared<Timeline>(*timeline_);
  test::Build above(320, 180);
  above.track("V3").gap(10).solid("over", 4, 0.5, 0.5, 0.5, {test::an("transform", {{"scale", 0.2}})});
  t->tracks.push_back(above.done()->tracks[0]);
  timeline_ = t;
  const auto frames_before = [](const Plan& p, Frames end) {
    std::set<Frames> frames;
    for (const Remedy& r : p.remedies)
      for (Frames f = r.range.in; f < std::min(r.range.out, end); ++f) frames.insert(f);
    return frames.size();
  };
  PlanOptions o;
  o.kinds = {"render"};
  const std::size_t chosen = frames_before(plan(o), 24);
  EXPECT_GT(chosen, 0u);
  EXPECT_LT(chosen, 24u) << "the least is not all of it";
  o.forbids = {"render:0-24"};
  EXPECT_EQ(frames_before(plan(o), 24), 0u);
  o.forbids.clear(), o.pins = {"render:0-24"};
  EXPECT_EQ(frames_before(plan(o), 24), 24u);
}

TEST_F(PlansOfTheDesk, SaysByHowMuchItDoesNotFitAndWhatWouldDo) {
  const Plan all = plan();
  PlanOptions o;
  o.now = 1774720800, o.review_at = o.now + 1;  // a second from now
  const Plan late = plan(o);
  EXPECT_FALSE(late.fits);
  EXPECT_THAT(late.sentence, testing::Not(HasSubstr("Ready by")));
  EXPECT_LE(late.render_seconds, 1 + 1e-6);
  EXPECT_NEAR(late.short_seconds, all.render_seconds - 1, 0.1 * all.render_seconds);
  EXPECT_FALSE(late.ways_out.empty());
  PlanOptions small;
  small.disk_bytes = static_cast<double>(all.bytes) / 3;
  const Plan cramped = plan(small);
  EXPECT_LE(static_cast<double>(cramped.bytes), small.disk_bytes);
  EXPECT_FALSE(cramped.fits);
  EXPECT_GT(cramped.short_bytes, 0);
  PlanOptions night;
  night.now = o.now, night.review_at = o.now + 8 * 3600;
  const Plan ready = plan(night);
  EXPECT_TRUE(ready.fits);
  EXPECT_DOUBLE_EQ(ready.ready_probability, 1);
  EXPECT_THAT(ready.sentence, HasSubstr("Ready by "));
}

TEST_F(PlansOfTheDesk, TheFrontierFallsAndTheScheduleFollowsIt) {
  const Plan p = plan();
  ASSERT_GE(p.frontier.size(), 2u);
  for (std::size_t i = 1; i < p.frontier.size(); ++i) {
    EXPECT_GE(p.frontier[i].seconds, p.frontier[i - 1].seconds);
    EXPECT_LE(p.frontier[i].drops, p.frontier[i - 1].drops + 1e-6);
  }
  EXPECT_EQ(p.prefixes.front().seconds, 0);
  EXPECT_NEAR(p.prefixes.back().seconds, p.render_seconds, 1e-6);
}

TEST_F(PlansOfTheDesk, ScaleIsChosenOnlyWhereItIsAllowedAndTruthLetsIt) {
  PlanOptions o;
  o.kinds = {"scale"};
  const Plan scaled = plan(o);
  for (const Remedy& r : scaled.remedies) EXPECT_EQ(r.proposal.kind->name(), std::string("scale"));
  timeline_ = with_truth(*timeline_, {"a", "c", "c1", "c2"}, Truth::exact);
  EXPECT_TRUE(plan(o).remedies.empty());
}

TEST_F(PlansOfTheDesk, TheMoreADroppedFrameCountsTheMoreIsDone) {
  double seconds = -1;
  for (const double drop_seconds : {1e-3, 0.05, 1.0, 1e6}) {
    PlanOptions o;
    o.drop_seconds = drop_seconds;
    const Plan p = plan(o);
    EXPECT_GE(p.render_seconds, seconds - 1e-9) << drop_seconds;
    seconds = p.render_seconds;
    if (drop_seconds < 0.01) EXPECT_TRUE(p.remedies.empty());
  }
  EXPECT_GT(seconds, 0);
}

TEST_F(PlansOfTheDesk, WhatOnlyPlayingCanJudgeIsExactAndComesFirst) {
  // Both segments are too heavy.
  auto second = std::make_shared<Segment>(*find_segment(*timeline_, "c"));
  second->stack.push_back(find_segment(*timeline_, "a")->stack[1]);
  second->stack.back().id = "heavy too";
  timeline_ = with_segment(*timeline_, second);
  Situation s = situation();
  PlanOptions each;
  each.kinds = {"render"};
  const Plan usual = make_plan(s, {0, 48}, each);
  ASSERT_GE(usual.remedies.size(), 2u);
  const Remedy last = usual.remedies.back();
  ASSERT_NE(last.id, usual.remedies.front().id);
  const std::string watched = last.range.in < 24 ? "a" : "c";
  EXPECT_LT(s.truth(last.range), Truth::exact);
  Restless flickers;
  flickers.segment = watched, flickers.effect = "Secondary", flickers.frame = last.range.in;
  s.must_watch = {flickers};
  EXPECT_EQ(s.truth(last.range), Truth::exact);
  const Plan p = make_plan(s, {0, 48}, each);
  ASSERT_FALSE(p.remedies.empty());
  EXPECT_EQ(p.remedies.front().id, last.id);
  EXPECT_TRUE(p.remedies.front().must_watch);
  EXPECT_THAT(p.remedies.front().reason, HasSubstr("To be judged in real time (Secondary, at "));
  ASSERT_EQ(p.must_watch.size(), 1u);
  EXPECT_EQ(to_json(p)["must_watch"][0]["segment"], watched);
}

TEST_F(PlansOfTheDesk, EachPartIsReadyForItsOwnReview) {
  // Both segments are too heavy; the second one is watched first.
  auto second = std::make_shared<Segment>(*find_segment(*timeline_, "c"));
  second->stack.push_back(find_segment(*timeline_, "a")->stack[1]);
  second->stack.back().id = "heavy too";
  timeline_ = with_segment(*timeline_, second);
  PlanOptions o;
  o.kinds = {"render"}, o.now = 1'800'000'000;
  o.reviews = {{{0, 24}, o.now + 7200}, {{24, 48}, o.now + 3600}};
  const Plan p = plan(o);
  ASSERT_EQ(p.reviews.size(), 2u);
  EXPECT_EQ(p.reviews.front().range.in, 24) << "in the order of their times";
  ASSERT_GE(p.remedies.size(), 2u);
  EXPECT_GE(p.remedies.front().range.in, 24) << p.remedies.front().id;
  EXPECT_LT(p.remedies.back().range.in, 24);
  EXPECT_LE(p.reviews.front().ready_in, p.reviews.back().ready_in);
  EXPECT_TRUE(p.fits && p.holds);
  EXPECT_THAT(p.sentence, HasSubstr(" and by "));
  // What lies in none need not play.
  o.reviews = {{{24, 48}, o.now + 3600}};
  const Plan half = plan(o);
  EXPECT_TRUE(half.holds);
  for (const Remedy& r : half.remedies) EXPECT_GE(r.range.in, 24) << r.id;
  // No time for the first one.
  o.reviews = {{{0, 24}, o.now + 7200}, {{24, 48}, o.now + 1}};
  const Plan late = plan(o);
  EXPECT_FALSE(late.fits);
  EXPECT_GT(late.short_seconds, 0);
  for (const Remedy& r : late.remedies) EXPECT_LT(r.range.in, 24) << "there is time for the other one: " << r.id;
}

TEST_F(PlansOfTheDesk, WhatWasEditedMeanwhileIsLeftOut) {
  PlanOptions o;
  o.kinds = {"render"};
  const Plan p = plan(o);
  ASSERT_FALSE(p.ranges().empty());
  const View before = view_of(timeline_, stores_);
  const View now = view_of(with_param(*timeline_, "a", "soft", "sigma", 7), stores_);
  const auto done = carry_out(p, before, now, stores_, {});
  ASSERT_TRUE(done);
  EXPECT_EQ(view_of(now.timeline, stores_).seals[10], FrameState::live) << "segment a is another now";
}

TEST_F(PlansOfTheDesk, AFileIsComparedAndReadBack) {
  const View v = view_of(timeline_, stores_);
  const Plan p = plan();
  test::put(dir_ / "plan.json", plan_file(p, v).dump());
  EXPECT_EQ(*remedies_in(dir_ / "plan.json"), ids(p));
  const auto same = compared(p, v, dir_ / "plan.json");
  ASSERT_TRUE(same) << same.error().text();
  EXPECT_TRUE((*same)["added"].empty());
  EXPECT_DOUBLE_EQ((*same)["seconds"].get<double>(), 0);
  PlanOptions o;
  o.forbids = {p.remedies.front().id};
  const auto other = compared(plan(o), v, dir_ / "plan.json");
  ASSERT_TRUE(other);
  EXPECT_EQ((*other)["removed"][0], p.remedies.front().id);
  test::put(dir_ / "broken.json", "{\"glass_clock\": \"plan\"}");
  EXPECT_FALSE(remedies_in(dir_ / "broken.json"));
}

TEST(Wished, IsReadCheckedAndKept) {
  const auto w = wishes_from(*parse_json(R"({"by": "10:00", "disk_bytes": 5e9, "busy": ["9:00-18:30"], "pins": ["tap"], "drop_seconds": 60, "reviews": [{"in": 0, "out": 24, "by": "9:30"}]})", "t"), "t");
  ASSERT_TRUE(w) << w.error().text();
  EXPECT_EQ(w->busy.at(0).to, 18 * 60 + 30);
  EXPECT_EQ(to_json(*wishes_from(to_json(*w), "t")), to_json(*w));
  for (const char* odd : {"[]", R"({"by": "late"})", R"({"busy": ["all day"]})", R"({"disk_bytes": -1})", R"({"drop_seconds": 0})", R"({"reviews": [{"in": 5, "out": 5, "by": "9:30"}]})"})
    EXPECT_FALSE(wishes_from(*parse_json(odd, "t"), "t")) << odd;
}

class PlansByCommand : public test::Commands {};

TEST_F(PlansByCommand, TheDocumentHasWhatScriptsAskFor) {
  const test::Ran r = gclk("plan " + small() + " --by 10:00 --measure 2 --json");
  ASSERT_EQ(r.code, 0) << r.out;
  for (const char* key : {"review", "remedies", "bound_seconds", "gap", "holds_probability", "ready_at", "ready_probability", "frontier", "schedule"})
    EXPECT_TRUE(r.json().contains(key)) << key;
  EXPECT_EQ(gclk("plan " + small() + " --by soon").code, 3);
  EXPECT_EQ(gclk("plan " + small() + " --measure 2 --why nothing").code, 2);
}

}  // namespace
}  // namespace gc
