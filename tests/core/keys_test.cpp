// Values with keys.
#include "timeline/keys.h"

#include "support.h"

namespace gc {
namespace {

Json keys(std::initializer_list<std::tuple<double, Json, const char*>> list) {
  Json all = Json::array();
  for (const auto& [at, value, way] : list) all.push_back({{"at", at}, {"value", value}, {"way", way}});
  return {{"keys", all}};
}

TEST(Keys, HoldStaysUntilTheNextKey) {
  const Json v = keys({{10, 1.0, "hold"}, {20, 5.0, "hold"}});
  EXPECT_EQ(value_at(v, 0), 1.0);
  EXPECT_EQ(value_at(v, 19), 1.0);
  EXPECT_EQ(value_at(v, 20), 5.0);
  EXPECT_EQ(value_at(v, 1000), 5.0);
}

TEST(Keys, LinearIsAStraightLine) {
  const Json v = keys({{0, 2.0, "linear"}, {24, 8.0, "linear"}});
  EXPECT_DOUBLE_EQ(value_at(v, 6).get<double>(), 3.5);
  EXPECT_DOUBLE_EQ(value_at(v, 12).get<double>(), 5.0);
}

// Worked example: scipy.interpolate.PchipInterpolator 1.10 (Fritsch and Butland, 1984) on the same points.
TEST(Keys, SmoothIsTheMonotoneCubicOfFritschAndButland) {
  const Json v = keys({{0, 0.0, "smooth"},
                       {10, 1.0, "smooth"},
                       {25, 1.5, "smooth"},
                       {40, 0.5, "smooth"},
                       {60, 0.25, "smooth"}});
  const std::pair<double, double> expected[] = {{3, 0.369613793},  {5, 0.593678161},  {12, 1.101997446},
                                                {20, 1.427841635}, {30, 1.264920361}, {33, 0.993403953},
                                                {50, 0.320595855}, {59, 0.250778821}};
  for (const auto& [at, value] : expected) EXPECT_NEAR(value_at(v, at).get<double>(), value, 1e-8) << at;
}

TEST(Keys, SmoothNeverLeavesTheRangeOfItsKeys) {
  const Json v = keys(
      {{0, 0.0, "smooth"}, {5, 1.0, "smooth"}, {6, 1.0, "smooth"}, {30, 0.2, "smooth"}, {31, 0.9, "smooth"}});
  for (double f = 0; f <= 31; f += 0.1) {
    const double x = value_at(v, f).get<double>();
    EXPECT_GE(x, -1e-12) << f;
    EXPECT_LE(x, 1 + 1e-12) << f;
  }
}

TEST(Keys, AListGoesEntryByEntry) {
  const Json v = keys({{0, {1.0, 10.0, 0.0}, "linear"}, {10, {2.0, 0.0, 0.0}, "linear"}});
  const Json half = value_at(v, 5);
  EXPECT_DOUBLE_EQ(half[0].get<double>(), 1.5);
  EXPECT_DOUBLE_EQ(half[1].get<double>(), 5.0);
  EXPECT_DOUBLE_EQ(half[2].get<double>(), 0.0);
}

TEST(Keys, SetAndTakenAwayAgain) {
  Json v = with_key(4.0, 10, 1.0);
  v = with_key(v, 0, 0.0);
  v = with_key(v, 10, 2.0, "hold");
  ASSERT_EQ(v["keys"].size(), 2u);
  EXPECT_EQ(v["keys"][0]["at"], 0);
  EXPECT_DOUBLE_EQ(value_at(v, 5).get<double>(), 1.0);
  v = without_key(v, 0);
  EXPECT_EQ(without_key(v, 10), Json(2.0)) << "the last key leaves its value";
}

TEST(Keys, WhatCannotBeUsedDoesNoHarm) {
  EXPECT_TRUE(value_at(Json{{"keys", Json::array()}}, 3).is_null());
  EXPECT_TRUE(value_at(Json{{"keys", {{{"at", "soon"}, {"value", 1}}}}}, 3).is_null());
  EXPECT_EQ(value_at(keys({{5, 1.0, "linear"}, {5, 3.0, "linear"}}), 5), 3.0)
      << "two keys on one frame: the later counts";
  EXPECT_EQ(value_at(Json("words"), 5), "words");
  const Json params = params_at({{"sigma", {{"keys", Json::array()}}}, {"amount", 2}}, 0);
  EXPECT_FALSE(params.contains("sigma"));
  EXPECT_EQ(params["amount"], 2);
}

TEST(Keys, MoveTheRenderedPictureAndOnlyItsFingerprint) {
  const Json slope = keys({{0, {1.0, 1.0, 1.0}, "linear"}, {10, {2.0, 1.0, 1.0}, "linear"}});
  MediaCatalog media;
  const ProgramPtr p =
      Program::compile(test::Build()
                           .track("V1")
                           .solid("a", 30, 0.25, 0.25, 0.25, {test::an("cdl", {{"slope", slope}})})
                           .done(),
                       media);
  EXPECT_THAT(test::pixel(test::frame_of(*p, 0), 5, 5), test::near({0.25f, 0.25f, 0.25f, 1}));
  EXPECT_THAT(test::pixel(test::frame_of(*p, 5), 5, 5), test::near({0.375f, 0.25f, 0.25f, 1}));
  EXPECT_THAT(test::pixel(test::frame_of(*p, 20), 5, 5), test::near({0.5f, 0.25f, 0.25f, 1}));
  EXPECT_NE(p->fingerprint(3), p->fingerprint(4));
  EXPECT_EQ(p->fingerprint(12), p->fingerprint(25)) << "after the last key nothing changes any more";
}

}  // namespace
}  // namespace gc
