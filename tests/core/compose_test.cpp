// What a timeline's layers make together.
#include "render/coverage.h"
#include "support.h"

namespace gc {
namespace {

using test::an;
using test::Build;
using test::frame_of;
using test::near;
using test::pixel;

class Compose : public testing::Test {
 protected:
  ProgramPtr program(Build& b, const RenderOptions& o = {}) { return Program::compile(b.done(), media_, o); }
  std::vector<float> at(Build& b, Frames f = 2, int x = 20, int y = 20) {
    return pixel(frame_of(*program(b), f), x, y);
  }
  MediaCatalog media_;
  test::TempFolder folder_;
};

TEST_F(Compose, TracksStackUpwardWithOpacityAndBlendMode) {
  Build b;
  b.track("V1").solid("low", 10, 0.5, 0.5, 0.5);
  b.track("V2").solid("high", 10, 1, 0, 0).with([](Segment& s) { s.opacity = 0.5; });
  EXPECT_THAT(at(b), near({0.75f, 0.25f, 0.25f, 1}));
  b.with([](Segment& s) { s.blend = "multiply", s.opacity = 1.0; });
  EXPECT_THAT(at(b), near({0.5f, 0, 0, 1}));
}

TEST_F(Compose, ADisabledTrackOrSegmentAndAGapShowWhatIsBelow) {
  Build b;
  b.track("V1").solid("low", 10, 0.2, 0.4, 0.6);
  b.track("V2").gap(5).solid("high", 5, 1, 0, 0);
  EXPECT_THAT(at(b, 2), near({0.2f, 0.4f, 0.6f, 1}));
  EXPECT_THAT(at(b, 7), near({1, 0, 0, 1}));
  b.with([](Segment& s) { s.enabled = false; });
  EXPECT_THAT(at(b, 7), near({0.2f, 0.4f, 0.6f, 1}));
}

TEST_F(Compose, AnAdjustmentWorksOnEverythingBelowAndNothingAbove) {
  Build b;
  b.track("V1").solid("low", 10, 0.2, 0.4, 0.6);
  b.track("V2").adjustment("grade", 10, {an("cdl", {{"slope", {2, 1, 1}}})});
  b.track("V3").solid("top", 5, 0.1, 0.1, 0.1);
  EXPECT_THAT(at(b, 7), near({0.4f, 0.4f, 0.6f, 1}));
  EXPECT_THAT(at(b, 2), near({0.1f, 0.1f, 0.1f, 1}));
}

TEST_F(Compose, AnAdjustmentsOpacityIsHowMuchOfItCounts) {
  Build b;
  b.track("V1").solid("low", 10, 0.2, 0.4, 0.6);
  b.track("V2").adjustment("grade", 10, {an("cdl", {{"slope", {2, 1, 1}}})}).with([](Segment& s) {
    s.opacity = 0.5;
  });
  EXPECT_THAT(at(b, 7), near({0.3f, 0.4f, 0.6f, 1}));
}

TEST_F(Compose, AMatteTrackShapesAnotherAndIsNotSeenItself) {
  Build b;
  b.track("V1").solid("low", 10, 0, 0, 0);
  b.track("M").matte_only().solid("half", 10, 0.5, 0.5, 0.5);
  b.track("V2").solid("high", 10, 1, 1, 1).with([](Segment& s) { s.matte = {"M", true, false}; });
  EXPECT_THAT(at(b), near({0.5f, 0.5f, 0.5f, 1}));
  b.with([](Segment& s) { s.matte = {"none", true, false}; });
  EXPECT_THAT(at(b), near({0, 0, 0, 1})) << "a matte that is not there hides its layer";
  b.with([](Segment& s) { s.matte = {"none", true, true}; });
  EXPECT_THAT(at(b), near({1, 1, 1, 1})) << "and inverted it hides nothing";
}

TEST_F(Compose, AMatteThatMovesMovesTheFingerprint) {
  Build b;
  b.track("V1").solid("low", 10, 0, 0, 0);
  b.track("M").matte_only().generator("noise", "fractal_noise", 10, {{"speed", 0.5}});
  b.track("V2").solid("high", 10, 1, 1, 1).with([](Segment& s) { s.matte = {"M", true, false}; });
  const ProgramPtr p = program(b);
  EXPECT_NE(p->fingerprint(2), p->fingerprint(3));
  EXPECT_GT(test::greatest_difference(frame_of(*p, 2), frame_of(*p, 3)), 0.01);
}

TEST_F(Compose, AHiddenLayerCostsNothing) {
  Build b;
  b.track("V1").solid("low", 10, 0.2, 0.2, 0.2);
  const std::size_t alone = program(b)->stages(2).size();
  b.track("V2").solid("high", 10, 1, 0, 0, {test::blur("b", 9)}).with([](Segment& s) { s.opacity = 0.0; });
  EXPECT_EQ(program(b)->stages(2).size(), alone);
}

TEST_F(Compose, EffectsThatChangeNothingCostNothing) {
  Build b;
  b.track("V1").solid("low", 10, 0.2, 0.2, 0.2);
  const std::size_t alone = program(b)->stages(2).size();
  Build all;
  all.track("V1").solid(
      "low", 10, 0.2, 0.2, 0.2,
      {an("cdl", {}), an("blur", {{"sigma", 0}}), an("contrast", {}), an("saturation", {}), an("curves", {}),
       an("lut", {}), an("colour_space", {}), an("secondary", {}), an("transform", {}),
       an("stylise", {{"radius", 0}}), an("grain", {{"amount", 0}}), an("lens", {{"k1", 0}}),
       an("temporal_nr", {{"strength", 0}}), an("shape_tracker", {})});
  EXPECT_EQ(program(all)->stages(2).size(), alone);
}

TEST_F(Compose, CompositionsNestAndAreShared) {
  Build inner;
  inner.track("c1").solid("x", 10, 0.4, 0, 0);
  const auto tracks = inner.done()->tracks;
  Build middle;
  middle.track("m1").use("first", "inner", 10);
  middle.track("m2").use("second", "inner", 10).with([](Segment& s) { s.blend = "plus"; });
  Build b;
  b.composition("inner", tracks).composition("middle", middle.done()->tracks);
  b.track("V1").use("a", "middle", 10).track("V2").use("b", "middle", 10).with([](Segment& s) {
    s.opacity = 0.5;
  });
  EXPECT_THAT(at(b), near({0.8f, 0, 0, 1}));
}

TEST_F(Compose, AtALowerScaleThePictureIsTheSameOnlySmaller) {
  Build b(256, 144);
  b.track("V1").generator("g", "gradient", 10, {{"angle", 30}},
                          {an("blur", {{"sigma", 8}}), an("vignette", {{"amount", 0.7}})});
  RenderOptions half;
  half.scale = 2;
  const ProgramPtr full = program(b), small = program(b, half);
  const Image a = frame_of(*full, 3), c = frame_of(*small, 3);
  EXPECT_EQ(c.width(), 128);
  EXPECT_EQ(c.height(), 72);
  for (const auto& [x, y] : {std::pair{20, 20}, {64, 36}, {100, 60}})
    EXPECT_THAT(pixel(c, x, y), near(pixel(a, 2 * x, 2 * y), 0.01f));
  EXPECT_EQ(full->fingerprint(3), small->fingerprint(3)) << "a seal stands for the full picture";
  EXPECT_NE(full->picture_key(3), small->picture_key(3));
}

TEST_F(Compose, ARegionHasExactlyThePixelsOfTheWholePicture) {
  Build b(256, 144);
  b.track("V1").generator(
      "g", "fractal_noise", 10, {{"size", 40}},
      {an("vignette", {{"amount", 0.7}}), an("blur", {{"sigma", 3}}), an("sharpen", {{"sigma", 2}}),
       an("spatial_nr", {{"radius", 2}}), an("grain", {{"amount", 0.1}})});
  b.track("V2").generator("p", "particles", 10, {{"count", 200}}, {an("transform", {{"rotation", 20}})});
  RenderOptions region;
  region.region = Region{60, 40, 80, 50};
  const Image whole = frame_of(*program(b), 3), part = frame_of(*program(b, region), 3);
  ASSERT_EQ(part.width(), 256);
  for (int y = 40; y < 90; ++y)
    for (int x = 60; x < 140; ++x)
      ASSERT_THAT(pixel(part, x, y), near(pixel(whole, x, y), 2e-5f)) << x << " " << y;
  EXPECT_THAT(pixel(part, 10, 10), near({0, 0, 0, 1}));
}

TEST_F(Compose, TheSliverThatNothingCoversIsCountedWhereItIs) {
  Build b(256, 144);
  b.track("V1")
      .solid("bowl", 10, 0, 0, 0, {an("transform", {{"x", 0.5 + 2.0 / 256}})})
      .solid("kiln", 10, 0.5, 0.5, 0.5);
  const auto found = coverage(*program(b));
  ASSERT_EQ(found.size(), 1u);
  EXPECT_EQ(found[0].segment, "bowl");
  EXPECT_EQ(found[0].pixels, 2 * 144);
  EXPECT_EQ(found[0].left, 2);
  EXPECT_EQ(found[0].right, 0);
}

TEST_F(Compose, WhatIsUncoveredCanBeSeenOnBlackAndOnWhite) {
  for (const float v : {0.0f, 1.0f}) {
    Image picture = Image::filled(64, 36, v, v, v, 1);
    picture.opaque = false;
    for (int y = 0; y < 36; ++y)
      for (int c = 0; c < 4; ++c) picture.row(y)[c] = 0;  // one column
    const Image shown = with_coverage_shown(picture);
    int contrary = 0;
    for (int y = 0; y < 36; ++y)
      for (int x = 0; x < 4; ++x) contrary += std::abs(pixel(shown, x, y)[0] - v) > 0.9f;
    EXPECT_GT(contrary, 36) << "on " << v;
    EXPECT_THAT(pixel(shown, 30, 20), near({v, v, v, 1}));
  }
}

TEST_F(Compose, AWorkingSpaceChangesHowItMixesNotWhatAPlainPictureIs) {
  Build b;
  b.spaces("ACEScg", "Rec. 709");
  const std::string still = (folder_ / "grey.png").string();
  ASSERT_TRUE(
      test::shell("ffmpeg -y -f lavfi -i color=black:s=256x144 -vf "
                  "format=gbrp,geq=r=128:g=64:b=32,format=rgb24 -frames:v 1 " +
                  still));
  b.media("m", still).track("V1").segment("a", "m", 0, 10);
  const Image through = frame_of(*program(b), 2);
  EXPECT_THAT(pixel(through, 20, 20), near({128 / 255.0f, 64 / 255.0f, 32 / 255.0f, 1}, 2e-4f));
  EXPECT_THAT(program(b)->segments()[0]->effects[0].stage.kind, StageKind::convert);
}

TEST_F(Compose, AFileThatNobodyKnowsLeavesItsMark) {
  Build b;
  b.track("V1").solid("a", 10, 0.3, 0.3, 0.3,
                      {an("com.other.sparkle", {{"level", 3}}), an("blur", {{"sigma", 999}})});
  const ProgramPtr p = program(b);
  const auto& remarks = p->segments()[0]->remarks;
  ASSERT_EQ(remarks.size(), 2u);
  EXPECT_THAT(remarks[0], testing::HasSubstr("com.other.sparkle"));
  EXPECT_THAT(remarks[1], testing::HasSubstr("outside 0 to 60"));
  EXPECT_THAT(at(b), near({0.3f, 0.3f, 0.3f, 1})) << "passed through";
}

TEST_F(Compose, ACostCardStandsForAnEffectThatCannotRunHere) {
  Build b(320, 180);
  b.track("V1").solid("a", 10, 0.3, 0.3, 0.3, {an("com.other.sparkle", {{"level", 3}})});
  b.timeline().cards["com.other.sparkle"] = {40, 640, 360, "processor"};  // 10 ms at a quarter of the pixels
  const ProgramPtr p = program(b);
  ASSERT_EQ(p->segments()[0]->effects.size(), 1u);
  EXPECT_TRUE(p->segments()[0]->remarks.empty());
  Decoders d;
  StageLog log;
  const Image image = render_frame(*p, 2, nullptr, d, log);
  const auto cost =
      std::find_if(log.begin(), log.end(), [](const StageSample& s) { return s.kind == StageKind::effect; });
  ASSERT_NE(cost, log.end());
  EXPECT_GE(cost->wall_ms, 10);
  EXPECT_THAT(pixel(image, 100, 60), near({0.3f, 0.3f, 0.3f, 1})) << "the picture passes";
  EXPECT_NE(pixel(image, 100, 178)[0], 0.3f) << "and is marked along its foot";
  EXPECT_THAT(p->owners()[static_cast<std::size_t>(cost->owner)].label, testing::HasSubstr("cost card"));
}

}  // namespace
}  // namespace gc
