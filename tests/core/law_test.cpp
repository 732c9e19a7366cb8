// Cost laws: the fit against known laws, its interval, what fades, and what a file may not say.
#include <random>

#include "measure/self_test.h"
#include "support.h"

namespace gc {
namespace {

const LawName& blur_name() {
  static const LawName name{"law-test", "Law test", StageKind::effect, {"Mpixel", "Mpixel × taps"}};
  return name;
}

/// 0.6 ms and 3 for each Mpixel and 0.4 for each Mpixel × tap, and 2.5 more for each Mpixel beyond `knee`.
double truth(const Terms& t, double knee = 1e9) {
  return 0.6 + 3 * static_cast<double>(t[0]) + 0.4 * static_cast<double>(t[1]) +
         2.5 * std::max(0.0, static_cast<double>(t[0]) - knee);
}

Terms place(double mpix, double taps) { return {static_cast<float>(mpix), static_cast<float>(mpix * taps)}; }

/// A law fed with samples of the truth × noise; a share of them three times as long, as when someone
/// disturbs.
CostLaw fed(std::mt19937& rng, double noise, double outliers, double knee = 1e9, int places = 24) {
  CostLaw law(blur_name());
  std::normal_distribution<double> n(0, noise);
  std::uniform_real_distribution<double> u(0, 1);
  for (int i = 0; i < places; ++i) {
    const Terms t = place(0.1 * std::pow(40, u(rng)), 3 + 60 * u(rng) * u(rng));
    std::vector<float> ms;
    const double here = std::exp(n(rng));  // what is the same for one run
    for (int k = 0; k < 7; ++k)
      ms.push_back(
          static_cast<float>(truth(t, knee) * here * std::exp(n(rng)) * (u(rng) < outliers ? 3 : 1)));
    law.add(t, ms, 1000, 1);
  }
  return law;
}

// Lawson and Hanson (1974): at the solution the gradient is nought where x is positive and not positive
// elsewhere.
TEST(NonNegativeFit, FulfilsItsConditionsOnRandomProblems) {
  std::mt19937 rng(5);
  std::normal_distribution<double> n;
  for (int problem = 0; problem < 200; ++problem) {
    const std::size_t m = 4 + rng() % 12, k = 1 + rng() % 4;
    std::vector<double> a(m * k), b(m), w(m, 1);
    for (double& v : a) v = n(rng);
    for (double& v : b) v = n(rng);
    const std::vector<double> x = non_negative_fit(a, b, w);
    for (std::size_t j = 0; j < k; ++j) {
      double gradient = 0;
      for (std::size_t i = 0; i < m; ++i) {
        double r = b[i];
        for (std::size_t l = 0; l < k; ++l) r -= a[i * k + l] * x[l];
        gradient += a[i * k + j] * r;
      }
      ASSERT_GE(x[j], 0);
      if (x[j] > 1e-9) ASSERT_NEAR(gradient, 0, 1e-5) << problem;
      else ASSERT_LE(gradient, 1e-5) << problem;
    }
  }
}

TEST(CostLaw, FindsAKnownLawAgainFromNoisySamplesWithOutliers) {
  std::mt19937 rng(1);
  const CostLaw law = fed(rng, 0.05, 0.15);
  std::vector<double> off;
  for (const double mpix : {0.2, 0.5, 1.1, 2.3, 3.5})
    for (const double taps : {4.0, 11.0, 27.0, 50.0})
      off.push_back(std::abs(law.predict(place(mpix, taps))->ms / truth(place(mpix, taps)) - 1));
  std::sort(off.begin(), off.end());
  EXPECT_LT(off[off.size() / 2], 0.05);
  EXPECT_LT(off[off.size() * 9 / 10], 0.12);
  EXPECT_LT(law.fit().cv_error, 0.1);
}

TEST(CostLaw, HasAKneeWhereCachesAreExceededAndNoneElsewhere) {
  std::mt19937 rng(2);
  const CostLaw bent = fed(rng, 0.01, 0, 1.0, 40);
  EXPECT_NEAR(bent.predict(place(3.2, 5))->ms, truth(place(3.2, 5), 1.0), 0.08 * truth(place(3.2, 5), 1.0));
  EXPECT_NEAR(bent.predict(place(0.4, 5))->ms, truth(place(0.4, 5), 1.0), 0.08 * truth(place(0.4, 5), 1.0));
  std::mt19937 again(2);
  EXPECT_LT(fed(again, 0.01, 0, 1e9, 40).fit().knee_ms, 0.6);
}

TEST(CostLaw, AnIntervalStatedAsNinetyPerCentHoldsAboutThat) {
  std::mt19937 rng(3);
  std::normal_distribution<double> n(0, 0.08);
  std::uniform_real_distribution<double> u(0, 1);
  int inside = 0, all = 0;
  for (int i = 0; i < 60; ++i) {
    const CostLaw law = fed(rng, 0.08, 0.05);
    for (int k = 0; k < 10; ++k) {
      const Terms t = place(0.15 + 3 * u(rng), 4 + 40 * u(rng));
      const double measured = truth(t) * std::exp(n(rng));
      const auto e = *law.predict(t);
      if (!e.inside) continue;
      inside += measured >= e.low && measured <= e.high, ++all;
    }
  }
  EXPECT_GT(all, 400);
  EXPECT_GT(static_cast<double>(inside) / all, 0.82);
  EXPECT_LT(static_cast<double>(inside) / all, 0.985);
}

TEST(CostLaw, WhatOthersDisturbedDoesNotMoveIt) {
  std::mt19937 rng(4);
  CostLaw law = fed(rng, 0.01, 0);
  const double before = law.predict(place(1, 9))->ms;
  const std::vector<float> slow(20, static_cast<float>(2 * before));
  law.add(place(1, 9), {}, 1000, 1, slow);
  EXPECT_NEAR(law.predict(place(1, 9))->ms, before, 0.03 * before);
  // Nor do forecasts draw from it: how crowded the cores are now is a factor of its own, and would count
  // twice.
  const std::span<const float> spread = law.spread();
  ASSERT_GT(spread.size(), 20u);
  EXPECT_LT(*std::max_element(spread.begin(), spread.end()), 1.2f);
}

TEST(CostLaw, WithoutAnyUndisturbedSampleTheUsualDisturbanceIsTakenOff) {
  CostLaw law(blur_name());
  for (const double mpix : {0.5, 1.0, 2.0}) {
    const std::vector<float> shared(6, static_cast<float>(13.5 * mpix));
    law.add(place(mpix, 5), {}, 1000, 1, shared);
  }
  EXPECT_NEAR(law.predict(place(1, 5))->ms, 10, 1);
}

TEST(CostLaw, OldSamplesFadeAndAnotherErasCountLittle) {
  CostLaw law(blur_name());
  for (int i = 1; i <= 8; ++i) {
    const std::vector<float> fast(8, static_cast<float>(i)), slow(8, static_cast<float>(2 * i));
    law.add(place(i, 5), fast, 0, 1);
    law.add(place(i, 5), slow, 0, 2);  // the same work in a new era
  }
  law.set_now(0, 2);
  EXPECT_NEAR(law.predict(place(4, 5))->ms, 8, 0.9);
  CostLaw faded(blur_name());
  for (int i = 1; i <= 6; ++i) {
    const std::vector<float> fast(8, static_cast<float>(i)), slow(8, 2.0f * static_cast<float>(i) + 1);
    faded.add(place(i, 5), fast, 0, 1);
    faded.add(place(i + 0.5, 5), slow, 8 * kFadeSeconds, 1);
  }
  EXPECT_GT(faded.predict(place(4, 5))->ms, 7) << "eight half-lives later the new ones decide";
}

TEST(CostLaw, BeyondWhatWasMeasuredTheIntervalGrows) {
  std::mt19937 rng(6);
  const CostLaw law = fed(rng, 0.03, 0);
  const auto in = *law.predict(place(1, 10)), out = *law.predict(place(30, 10));
  EXPECT_TRUE(in.inside);
  EXPECT_FALSE(out.inside);
  EXPECT_GT(out.width(), 1.5 * in.width());
}

TEST(CostLaw, ForgetsTheLeastWorthPlaceWhenThereAreTooMany) {
  CostLaw law(blur_name());
  for (int i = 0; i < 300; ++i) {
    const float ms[] = {1, 1, 1};
    law.add(place(0.01 * (i + 1), 5), ms, i, 1);
  }
  EXPECT_EQ(law.points().size(), CostLaw::kMostPoints);
}

TEST(CostLaw, GoesThroughAFileUnchanged) {
  std::mt19937 rng(7);
  const CostLaw law = fed(rng, 0.04, 0.1);
  const auto again = CostLaw::from_json(law.to_json());
  ASSERT_TRUE(again) << again.error().text();
  for (const double mpix : {0.3, 1.0, 2.5})
    EXPECT_NEAR(again->predict(place(mpix, 9))->ms, law.predict(place(mpix, 9))->ms,
                0.04 * law.predict(place(mpix, 9))->ms);
  EXPECT_EQ(again->name().label, "Law test");
}

TEST(CostLaw, RefusesImpossibleFiles) {
  std::mt19937 rng(8);
  const Json good = fed(rng, 0.04, 0).to_json();
  for (const auto& [where, value] : std::vector<std::pair<std::string, Json>>{{"/places/0/ms", -1},
                                                                              {"/places/0/ms", 1e300},
                                                                              {"/places/0/terms/0", -3},
                                                                              {"/places/0/terms", "many"},
                                                                              {"/terms", {1, 2}},
                                                                              {"/spread/0", 0},
                                                                              {"/law", ""}}) {
    Json bad = good;
    bad[Json::json_pointer(where)] = value;
    const auto law = CostLaw::from_json(bad);
    ASSERT_FALSE(law) << where << " = " << value;
    EXPECT_FALSE(law.error().remedy.empty());
  }
}

TEST(SelfTest, GoalsAreMissedWhenPredictionsAreOff) {
  std::vector<HeldOut> held;
  for (int i = 0; i < 40; ++i) {
    const double ms = 10 + i;
    held.push_back(
        {"blur", 1, ms, {ms * (i < 36 ? 1.02 : 1.1), ms * (i < 36 ? 0.9 : 1.06), ms * 1.12, true}});
    held.push_back({"", 3, ms, {ms * 1.3, ms, ms * 2, true}});
  }
  const std::vector<Goal> goals = law_goals(held);
  EXPECT_NEAR(goals[0].value, 2, 1e-6);
  EXPECT_TRUE(goals[0].met());
  EXPECT_FALSE(goals[2].met()) << "segments are 30 % off";
  EXPECT_NEAR(goals[4].value, 90, 1e-6);
  EXPECT_TRUE(goals[4].met());
  const std::vector<Goal> none = law_goals({});
  for (const Goal& g : none) EXPECT_FALSE(g.met()) << g.name << ": nothing held back proves nothing";
}

TEST(SelfTest, TheSortOfWorkThatErrsMostIsNamedFirst) {
  std::vector<HeldOut> held;
  for (int i = 0; i < 9; ++i) {
    held.push_back({"blur", 1, 10, {10.5, 9, 12, true}});
    held.push_back({"keyer", 1, 10, {i == 4 ? 6.0 : 9.0, 5, 12, true}});
    held.push_back({"", 2, 20, {40, 9, 90, true}});  // whole segments are no sort of work
  }
  const std::vector<LawError> e = law_errors(held);
  ASSERT_EQ(e.size(), 2u);
  EXPECT_EQ(e[0].law, "keyer");
  EXPECT_EQ(e[0].tries, 9);
  EXPECT_NEAR(e[0].worst, 0.4, 1e-9);
  EXPECT_NEAR(e[0].bias, -0.1, 1e-9) << "said to be cheaper than it is";
  EXPECT_NEAR(e[1].bias, 0.05, 1e-9);
}

}  // namespace
}  // namespace gc
