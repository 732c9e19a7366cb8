// What the skyline paints of a forecast that is put together by hand.
#include "app/skyline.h"
#include "app/style.h"
#include "window_fixture.h"

namespace gc {
namespace {

constexpr int kWide = 200, kHigh = 160;
constexpr double kTop = 2;  // load at the upper edge
constexpr int kLine = kHigh - static_cast<int>(kHigh / kTop);

IntervalCost costs(Frames in, Frames out, double load) {
  IntervalCost c;
  c.in = in, c.out = out;
  c.load = c.load_low = c.load_high = c.live_load = load;
  c.stages = {{0, StageKind::decode, "a", "", "Decode", 10 * load, false, false},
              {1, StageKind::effect, "a", "b", "Blur", 30 * load, false, false}};
  return c;
}
Span span(Frames in, Frames out, Verdict v) {
  Span s;
  s.in = in, s.out = out, s.verdict = v;
  return s;
}

/// A frame a pixel.
QImage painted(std::vector<IntervalCost> intervals, std::vector<Span> spans = {},
               const std::vector<IntervalCost>& full = {}) {
  Derived d;
  Forecast& f = d.plan.before;
  f.range = {0, kWide}, f.rate = {24, 1};
  f.miss.assign(kWide, 0);
  f.intervals = std::move(intervals), f.spans = std::move(spans);
  d.pyramid = LoadPyramid(f, full);
  QImage image(kWide, kHigh, QImage::Format_RGB32);
  paint_columns(image, d, 0, 1, kTop);
  return image;
}
bool is_copper(QRgb c) { return qRed(c) > qBlue(c) + 40; }
int copper_pixels(const QImage& image, int from = 0, int to = kHigh) {
  int n = 0;
  for (int y = from; y < to; ++y)
    for (int x = 0; x < image.width(); ++x) n += is_copper(image.pixel(x, y));
  return n;
}
/// How many pixels of column x are lighter than the ground, from the bottom up to the first that is not.
int height_of(const QImage& image, int x) {
  int high = 0;
  while (high < kHigh && qGreen(image.pixel(x, kHigh - 1 - high)) > look::kGround + 4) ++high;
  return high;
}
int pixels_lighter_than(const QImage& image, int grey, int from, int to) {
  int n = 0;
  for (int y = from; y < to; ++y)
    for (int x = 0; x < image.width(); ++x) n += qGreen(image.pixel(x, y)) > grey;
  return n;
}

TEST(SkylinePaint, ColourIsOnlyWhatStandsAboveTheBudgetLine) {
  const QImage image = painted({costs(0, 100, 0.6), costs(100, 200, 1.5)});
  EXPECT_EQ(copper_pixels(image, kLine, kHigh), 0) << "below the line everything is grey";
  EXPECT_NEAR(copper_pixels(image, 0, kLine), 100 * 0.5 * kHigh / kTop, 110) << "load 0.5 of 100 frames";
  for (int y = 0; y < kHigh; ++y)
    for (int x = 0; x < kWide; ++x) {
      const QRgb c = image.pixel(x, y);
      if (!is_copper(c)) {
        ASSERT_TRUE(qRed(c) == qGreen(c) && qGreen(c) == qBlue(c)) << x << ", " << y;
      }
    }
}

TEST(SkylinePaint, AColumnIsAsHighAsItsLoad) {
  for (const double load : {0.25, 0.5, 0.75, 1.0}) {
    const QImage image = painted({costs(0, kWide, load)});
    EXPECT_NEAR(height_of(image, 50), load * kHigh / kTop, 1.5) << load;
  }
}

TEST(SkylinePaint, StagesAreToldApartByTheirTone) {
  const QImage image = painted({costs(0, kWide, 0.8)});
  // A quarter of the work is decoding, at the foot; the effect lies on it.
  const auto mean = [&](double from, double to) {
    double sum = 0, n = 0;
    for (int up = static_cast<int>(from * kHigh / kTop) + 2; up < static_cast<int>(to * kHigh / kTop) - 2;
         ++up)
      for (int x = 0; x < kWide; ++x) sum += qGreen(image.pixel(x, kHigh - 1 - up)), ++n;
    return sum / n;
  };
  EXPECT_GT(std::abs(mean(0, 0.2) - mean(0.2, 0.8)), 10) << "in greys of 0 to 255";
}

TEST(SkylinePaint, UncertaintyIsAFringeAboveTheColumn) {
  IntervalCost sure = costs(0, 100, 0.5), unsure = costs(100, 200, 0.5);
  unsure.load_low = 0.4, unsure.load_high = 0.9;
  const QImage image = painted({sure, unsure});
  const auto fringe = [&](int from, int to) {
    int n = 0;
    for (int up = static_cast<int>(0.52 * kHigh / kTop); up < static_cast<int>(0.88 * kHigh / kTop); ++up)
      for (int x = from; x < to; ++x) n += qGreen(image.pixel(x, kHigh - 1 - up)) > look::kGround;
    return n;
  };
  EXPECT_EQ(fringe(0, 100), 0);
  EXPECT_GT(fringe(100, 200), 1000);
}

TEST(SkylinePaint, ASealIsALidAndTheFormerLoadAnOutline) {
  IntervalCost sealed = costs(0, kWide, 0.3);
  sealed.state = FrameState::sealed, sealed.live_load = 1.4;
  const QImage image = painted({sealed});
  EXPECT_EQ(copper_pixels(image), 0) << "it plays";
  const int lid = kHigh - 1 - static_cast<int>(0.3 * kHigh / kTop);
  EXPECT_GT(pixels_lighter_than(image, 220, lid - 6, lid), 2 * kWide);
  const int former = kHigh - 1 - static_cast<int>(1.4 * kHigh / kTop);
  EXPECT_GE(pixels_lighter_than(image, 100, former - 2, former + 2), kWide) << "one line across";
  // A broken one has a lid with gaps, on the full load.
  IntervalCost broken = costs(0, kWide, 1.4);
  broken.state = FrameState::broken;
  const QImage open = painted({broken});
  EXPECT_GT(copper_pixels(open), 0);
  const int above = kHigh - 1 - static_cast<int>(1.4 * kHigh / kTop);
  int covered = 0;
  for (int x = 0; x < kWide; ++x) covered += qGreen(open.pixel(x, above - 5)) > 220;
  EXPECT_NEAR(covered, kWide / 2, 12) << "as much gap as lid";
}

TEST(SkylinePaint, WhatIsUnseenIsEmptyAndOutlinedAsHighAsTheBudget) {
  IntervalCost c = costs(50, 150, 0.8);
  c.unseen = true;
  const QImage image =
      painted({costs(0, 50, 0.4), c, costs(150, 200, 0.4)}, {span(50, 150, Verdict::unseen)});
  EXPECT_EQ(height_of(image, 20), height_of(image, 180));
  int filled = 0, dashes = 0;
  for (int x = 55; x < 145; ++x) {
    filled += qGreen(image.pixel(x, kHigh - 20)) > look::kGround + 4;
    dashes += qGreen(image.pixel(x, kLine)) > 150;
  }
  EXPECT_EQ(filled, 0);
  EXPECT_NEAR(dashes, 45, 8) << "every other piece of the upper edge";
}

TEST(SkylinePaint, WhatABypassTookOffIsOutlinedInDots) {
  IntervalCost full = costs(0, kWide, 1.3);
  const QImage without = painted({costs(0, kWide, 0.5)}), with = painted({costs(0, kWide, 0.5)}, {}, {full});
  const int removed = kHigh - 1 - static_cast<int>(1.3 * kHigh / kTop);
  EXPECT_EQ(pixels_lighter_than(without, 100, removed - 2, removed + 3), 0);
  EXPECT_GT(pixels_lighter_than(with, 100, removed - 2, removed + 3), kWide / 3);
  EXPECT_EQ(copper_pixels(with), 0) << "what is not played is no overflow";
}

TEST(SkylinePaint, AWaveringColumnIsHatchedAtItsTop) {
  IntervalCost c = costs(0, kWide, 0.95);
  c.load_low = 0.9, c.load_high = 1.1;
  const QImage held = painted({c}, {span(0, kWide, Verdict::holds)}),
               wavers = painted({c}, {span(0, kWide, Verdict::wavers)});
  const int top = kHigh - static_cast<int>(0.95 * kHigh / kTop);
  const auto dark = [&](const QImage& image) {
    int n = 0;
    for (int y = top + 1; y < top + 9; ++y)
      for (int x = 0; x < kWide; ++x) n += qGreen(image.pixel(x, y)) <= look::kGround;
    return n;
  };
  EXPECT_EQ(dark(held), 0);
  EXPECT_NEAR(dark(wavers), 0.4 * 8 * kWide, 0.1 * 8 * kWide);
}

TEST(SkylinePaint, TwoHoursHideNoOverloadedSecond) {
  // One frame of 200 to a pixel is too heavy.
  Derived d;
  Forecast& f = d.plan.before;
  constexpr Frames kFrames = 40000;
  f.range = {0, kFrames}, f.rate = {24, 1};
  f.miss.assign(kFrames, 0);
  f.intervals = {costs(0, 20100, 0.4), costs(20100, 20101, 1.8), costs(20101, kFrames, 0.4)};
  d.pyramid = LoadPyramid(f, {});
  QImage image(kWide, kHigh, QImage::Format_RGB32);
  paint_columns(image, d, 0, static_cast<double>(kFrames) / kWide, kTop);
  EXPECT_GT(copper_pixels(image), 0);
}

}  // namespace
}  // namespace gc
