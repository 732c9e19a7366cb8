// The views by themselves: what the skyline paints of a forecast that is put together by hand, and what each
// view does under the mouse.
#include <QHeaderView>
#include <QMenu>
#include <QScrollBar>
#include <QSlider>
#include <QTextBrowser>
#include <QWheelEvent>

#include "app/delivery_panel.h"
#include "app/plan_panel.h"
#include "app/news.h"
#include "app/queue_window.h"
#include "app/stations.h"
#include "app/style.h"
#include "window_fixture.h"

namespace gc {
namespace {

// ---- The skyline's columns ------------------------------------------------------------------------------

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

// ---- The views in the window ----------------------------------------------------------------------------

class Views : public TheWindow {
 protected:
  void wheel(int delta, double x, Qt::KeyboardModifiers m = Qt::NoModifier) {
    const QPointF at(x, 80);
    QWheelEvent e(at, skyline->mapToGlobal(at), {}, {0, delta}, Qt::NoButton, m, Qt::NoScrollPhase, false);
    QApplication::sendEvent(skyline, &e);
  }
  QTreeView* ledger() { return window->findChild<Ledger*>()->table(); }
  QString cell(int row, LedgerModel::Column c) { return ledger()->model()->index(row, c).data().toString(); }
  void sort_by(LedgerModel::Column c) {
    QHeaderView* head = ledger()->header();
    QTest::mouseClick(
        head->viewport(), Qt::LeftButton, Qt::NoModifier,
        QPoint(head->sectionViewportPosition(c) + head->sectionSize(c) / 2, head->height() / 2));
  }
};

TEST_F(Views, TheWheelZoomsTheSkylineAroundThePointer) {
  const double x = 0.6 * skyline->width(), all = skyline->frames_per_pixel();
  const Frames under = skyline->frame_at(x);
  for (int i = 0; i < 4; ++i) wheel(240, x);
  EXPECT_LT(skyline->frames_per_pixel(), all / 2);
  EXPECT_NEAR(static_cast<double>(skyline->frame_at(x)), static_cast<double>(under), 1.0);
  // With shift it moves; it never leaves the timeline.
  const Frames left = skyline->frame_at(0);
  wheel(-240, x, Qt::ShiftModifier);
  EXPECT_GT(skyline->frame_at(0), left);
  for (int i = 0; i < 200; ++i) wheel(240, x, Qt::ShiftModifier);
  EXPECT_EQ(skyline->frame_at(0), 0);
  for (int i = 0; i < 40; ++i) wheel(-240, x);
  EXPECT_DOUBLE_EQ(skyline->frames_per_pixel(), all) << "no further out than the whole";
  EXPECT_EQ(skyline->frame_at(skyline->width() + 500.0), session->derived()->view.played->duration() - 1);
}

TEST_F(Views, ThePlayheadFollowsAClickAndADragInTheSkyline) {
  const auto at = [&](Frames f) {
    return QPoint(static_cast<int>(std::ceil(skyline->x_of(static_cast<double>(f)))), 90);
  };
  QTest::mousePress(skyline, Qt::LeftButton, Qt::NoModifier, at(50));
  EXPECT_NEAR(static_cast<double>(window->playhead()), 50, 1);
  QTest::mouseMove(skyline, at(120));
  QMouseEvent drag(QEvent::MouseMove, QPointF(at(120)), skyline->mapToGlobal(QPointF(at(120))), Qt::NoButton,
                   Qt::LeftButton, Qt::NoModifier);
  QApplication::sendEvent(skyline, &drag);
  EXPECT_NEAR(static_cast<double>(window->playhead()), 120, 1);
  QTest::mouseRelease(skyline, Qt::LeftButton, Qt::NoModifier, at(120));
  // The segment under it is chosen everywhere.
  const CompiledSegment* main = main_segment(*session->derived()->view.played, window->playhead());
  ASSERT_TRUE(main);
  EXPECT_EQ(window->findChild<Ledger*>()->selected(), main->segment->id);
  EXPECT_TRUE(window->findChild<Balance*>()->summary().startsWith("load"));
}

TEST_F(Views, HoverSaysLoadProbabilityAndStagesOfTheFrame) {
  const Forecast& f = session->derived()->plan.before;
  for (const IntervalCost& c : f.intervals) {
    const std::string text = skyline->describe(c.in).toStdString();
    EXPECT_THAT(text, testing::HasSubstr("frame " + std::to_string(c.in)));
    EXPECT_THAT(text, testing::HasSubstr(QString::number(c.load, 'f', 2).toStdString()));
    EXPECT_THAT(text, testing::HasSubstr("missed with"));
    for (const StageCost& s : c.stages)
      if (s.ms >= 0.5) EXPECT_THAT(text, testing::HasSubstr(s.label));
  }
  EXPECT_TRUE(skyline->describe(f.range.out + 5).isEmpty());
}

TEST_F(Views, TheLedgerRanksBySizeOfTheNumberNotByItsText) {
  for (const auto c : {LedgerModel::kMs, LedgerModel::kLoad, LedgerModel::kDrops}) {
    sort_by(c);
    const auto order = ledger()->header()->sortIndicatorOrder();
    double before = cell(0, c).toDouble();
    for (int r = 1; r < ledger()->model()->rowCount(); ++r) {
      const double now = cell(r, c).toDouble();
      EXPECT_TRUE(order == Qt::DescendingOrder ? now <= before : now >= before)
          << cell(r, c).toStdString() << " in row " << r;
      before = now;
    }
  }
  // By timecode it is in the order of the timeline.
  sort_by(LedgerModel::kIn);
  if (ledger()->header()->sortIndicatorOrder() == Qt::DescendingOrder) sort_by(LedgerModel::kIn);
  for (int r = 1; r < ledger()->model()->rowCount(); ++r)
    EXPECT_LE(cell(r - 1, LedgerModel::kIn), cell(r, LedgerModel::kIn));
}

TEST_F(Views, TheLedgerAgreesWithTheForecast) {
  const Derived& d = *session->derived();
  const std::vector<LedgerRow> rows = ledger_rows(d);
  ASSERT_EQ(rows.size(), d.view.played->segments().size());
  for (const LedgerRow& r : rows) {
    double drops = 0;
    for (Frames n = r.in; n < r.out; ++n) drops += d.plan.before.miss[static_cast<std::size_t>(n)];
    EXPECT_NEAR(r.drops, drops, 1e-4) << r.name.toStdString();
    EXPECT_GE(r.probability, 0);
    EXPECT_LE(r.probability, 1);
    // Never graver than the skyline is anywhere over it.
    Verdict gravest = Verdict::holds;
    for (const Span& s : d.plan.before.spans)
      if (s.in < r.out && s.out > r.in) gravest = std::max(gravest, s.verdict);
    EXPECT_LE(r.verdict, gravest) << r.name.toStdString();
  }
}

TEST_F(Views, AFilterNarrowsTheLedgerAndIsTakenBack) {
  const int all = ledger()->model()->rowCount();
  key(Qt::Key_F, Qt::ControlModifier);
  QLineEdit* filter = window->findChild<Ledger*>()->filter();
  EXPECT_TRUE(filter->hasFocus());
  QTest::keyClicks(filter, "no such segment anywhere");
  EXPECT_EQ(ledger()->model()->rowCount(), 0);
  filter->clear();
  EXPECT_EQ(ledger()->model()->rowCount(), all);
  // What is written in any column counts.
  QTest::keyClicks(filter, cell(0, LedgerModel::kIn));
  EXPECT_EQ(ledger()->model()->rowCount(), 1);
  filter->clear();
}

TEST(PictureView, ThePictureIsMarkedUntilItIsTheFrameAskedFor) {
  Picture picture;
  picture.resize(480, 270);
  QImage white(480, 270, QImage::Format_RGB32);
  white.fill(Qt::white);
  picture.show_picture(white, 10, "frame 10");
  const auto middle = [&] { return qGreen(picture.grab().toImage().pixel(240, 135)); };
  EXPECT_EQ(middle(), 255);
  picture.expect(10, false);
  EXPECT_FALSE(picture.waiting()) << "it is there already";
  picture.expect(11, false);
  EXPECT_TRUE(picture.waiting());
  EXPECT_LT(middle(), 140) << "an old picture does not pass for the new one";
  picture.show_picture(white, 11, "frame 11");
  EXPECT_EQ(middle(), 255);
  picture.expect(11, true);
  EXPECT_LT(middle(), 140) << "after an edit the same frame is another picture";
}

TEST(FiguresView, RateAndDropsAreReadableFromTwoMetres) {
  Figures figures;
  figures.resize(310, figures.height());
  const auto tall = [&](int from, int to) {
    const QImage image = figures.grab().toImage();
    int top = -1, bottom = -1;
    for (int y = from; y < to; ++y)
      for (int x = 0; x < image.width(); ++x)
        if (qGreen(image.pixel(x, y)) > 180) top = top < 0 ? y : top, bottom = y;
    return top < 0 ? 0 : bottom - top + 1;
  };
  EXPECT_EQ(tall(0, 110), 0);
  figures.set_figures({"23.98 fps", "127 dropped", {}});
  // Letters of a 200th of the distance can be read (common practice, no source): 10 mm at two metres, which
  // are 30 pixels of a desk's screen of 96 to the inch when it is at half that distance.
  EXPECT_GE(tall(0, 55), 28);
  EXPECT_GE(tall(60, 110), 28);
  figures.set_figures({});
  EXPECT_EQ(tall(0, 110), 0);
}

class ViewerTest : public testing::Test {
 protected:
  ViewerTest() {
    main.resize(400, 300);
    main.show();
    viewer.next();
    viewer.resize(640, 480);
    picture = QImage(320, 180, QImage::Format_RGB32);
    for (int y = 0; y < 180; ++y)
      for (int x = 0; x < 320; ++x) picture.setPixel(x, y, (x + y) % 2 ? qRgb(255, 255, 255) : qRgb(0, 0, 0));
    viewer.show_picture(picture);
  }
  QWidget main;
  Viewer viewer{&main};
  QImage picture;
};

TEST_F(ViewerTest, PixelForPixelResamplesNothing) {
  viewer.set_one_to_one(true);
  EXPECT_EQ(viewer.place(), QRect(160, 150, 320, 180));
  const QImage seen = viewer.grab().toImage().convertToFormat(QImage::Format_RGB32);
  ASSERT_EQ(seen.size(), QSize(640, 480));
  EXPECT_EQ(seen.copy(160, 150, 320, 180), picture);
}

TEST_F(ViewerTest, FittedItIsAsLargeAsTheScreenAllowsOnANeutralSurround) {
  EXPECT_EQ(viewer.place(), QRect(0, 60, 640, 360));
  const QImage seen = viewer.grab().toImage();
  for (const QPoint at : {QPoint(3, 3), QPoint(320, 30), QPoint(600, 470)}) {
    const QRgb p = seen.pixel(at);
    EXPECT_EQ(qRed(p), qGreen(p));
    EXPECT_EQ(qGreen(p), qBlue(p));
    EXPECT_GT(qRed(p), 20);
    EXPECT_LT(qRed(p), 100);
  }
}

TEST_F(ViewerTest, AnOldPictureIsDarkenedUntilTheOneAskedForComes) {
  viewer.set_one_to_one(true);
  const QImage sharp = viewer.grab().toImage();
  viewer.set_waiting(true);
  EXPECT_LT(qGreen(viewer.grab().toImage().pixel(161, 150)), qGreen(sharp.pixel(161, 150)));
  viewer.show_picture(picture);
  EXPECT_EQ(viewer.grab().toImage(), sharp);
}

TEST_F(ViewerTest, FiguresComeOnASecondPressAndAThirdLeaves) {
  EXPECT_EQ(viewer.shows(), Viewer::Shows::picture);
  viewer.set_figures({"24.0 fps", "3 dropped", {}});
  const QImage without = viewer.grab().toImage();
  viewer.next();
  EXPECT_EQ(viewer.shows(), Viewer::Shows::picture_and_figures);
  EXPECT_NE(viewer.grab().toImage(), without);
  viewer.next();
  EXPECT_EQ(viewer.shows(), Viewer::Shows::nothing);
  EXPECT_FALSE(viewer.isVisible());
}

TEST_F(ViewerTest, ALargerPictureIsMovedWithTheMouseButNotOffTheScreen) {
  QImage large(1280, 720, QImage::Format_RGB32);
  large.fill(Qt::white);
  viewer.show_picture(large);
  viewer.set_one_to_one(true);
  EXPECT_EQ(viewer.place().topLeft(), QPoint(-320, -120));
  QTest::mousePress(&viewer, Qt::LeftButton, {}, {100, 100});
  QTest::mouseMove(&viewer, {5000, 5000});
  QMouseEvent move(QEvent::MouseMove, QPointF(5000, 130), QPointF(5000, 130), Qt::NoButton, Qt::LeftButton, {});
  QCoreApplication::sendEvent(&viewer, &move);
  EXPECT_EQ(viewer.place().topLeft(), QPoint(0, -90));
}

TEST(PictureView, TheWipeShowsLiveOnTheLeftAndTheRemedyOnTheRight) {
  Picture picture;
  picture.resize(400, 225);
  Comparison c;
  c.frame = 5;
  for (auto [image, grey] : {std::pair{&c.live, 200}, {&c.other, 60}, {&c.difference, 120}})
    *image = QImage(400, 225, QImage::Format_RGB32), image->fill(qRgb(grey, grey, grey));
  picture.show_picture(c.live, 5, {});
  picture.set_mode(CompareMode::wipe);
  picture.show_comparison(c);
  picture.set_wipe(0.25);
  const auto at = [&](int x) { return qGreen(picture.grab().toImage().pixel(x, 112)); };
  EXPECT_EQ(at(50), 200);
  EXPECT_EQ(at(150), 60);
  EXPECT_EQ(at(350), 60);
  picture.set_wipe(3);
  EXPECT_EQ(picture.wipe(), 1) << "it stays within the picture";
  EXPECT_EQ(at(350), 200);
  picture.set_mode(CompareMode::difference);
  EXPECT_EQ(at(200), 120);
  // A comparison of another frame is never shown.
  picture.show_picture(c.live, 6, {});
  EXPECT_EQ(at(200), 200);
}

TEST(Rows, LeadToTheirFrameAndARefreshKeepsTheChoice) {
  RowTable table({"At", "What"}, {1}, false, nullptr);
  std::vector<qint64> asked;
  QObject::connect(&table, &RowTable::frame_chosen, [&](qint64 f) { asked.push_back(f); });
  const std::vector<RowTable::Row> rows{
      {{"01", "first"}, 12, {}}, {{"02", "none"}, -1, {}}, {{"03", "x"}, 40, "tip"}};
  table.set_rows(rows);
  EXPECT_TRUE(asked.empty()) << "filling it chooses nothing";
  table.setCurrentCell(2, 0);
  table.setCurrentCell(1, 0);
  table.setCurrentCell(0, 1);
  EXPECT_EQ(asked, (std::vector<qint64>{40, 12}));
  EXPECT_EQ(table.item(2, 1)->toolTip(), "tip");
  table.set_rows(rows);
  EXPECT_EQ(table.currentRow(), 0);
  table.set_rows({rows[0]});
  EXPECT_EQ(table.rowCount(), 1);
}

TEST_F(Views, NothingOfTheWindowIsColouredButOverload) {
  // Whatever is shown beside the picture is neutral: red, green and blue are equal but for what stands above
  // the budget line, which is copper.
  key(Qt::Key_3);
  QTest::qWait(100);
  window->findChild<Picture*>("picture")->hide();
  const QImage image = window->grab().toImage();
  window->findChild<Picture*>("picture")->show();
  int other = 0;
  for (int y = 0; y < image.height(); ++y)
    for (int x = 0; x < image.width(); ++x) {
      const QRgb c = image.pixel(x, y);
      const int least = std::min({qRed(c), qGreen(c), qBlue(c)}),
                most = std::max({qRed(c), qGreen(c), qBlue(c)});
      // Copper and its mixtures with greys at smoothed edges have red first and blue last.
      other += most - least > 24 && !(qRed(c) >= qGreen(c) && qGreen(c) >= qBlue(c));
    }
  EXPECT_LE(other, image.width() * image.height() / 10000);
}

TEST_F(Views, NoWordsAreCutAtTheSmallestScreen) {
  window->resize(1280, 800);
  for (int station = 0; station < kStations; ++station) {
    key(static_cast<Qt::Key>(Qt::Key_1 + station));
    QTest::qWait(150);
    for (const QLabel* l : window->findChildren<QLabel*>()) {
      if (!l->isVisible() || l->text().isEmpty() || l->textFormat() == Qt::RichText) continue;
      const QRect room = l->contentsRect();
      const QRect needed = l->fontMetrics().boundingRect(
          QRect(0, 0, room.width(), 10000), l->wordWrap() ? Qt::TextWordWrap : Qt::TextSingleLine, l->text());
      EXPECT_LE(needed.width(), room.width() + 1)
          << station_name(static_cast<Station>(station)).toStdString() << ": " << l->text().toStdString();
      EXPECT_LE(needed.height(), room.height() + 1)
          << station_name(static_cast<Station>(station)).toStdString() << ": " << l->text().toStdString();
    }
    for (const QPushButton* b : window->findChildren<QPushButton*>())
      if (b->isVisible())
        EXPECT_LE(b->fontMetrics().horizontalAdvance(QString(b->text()).remove('&')), b->width())
            << b->text().toStdString();
  }
}

TEST_F(Views, NoContentEverChangesTheWindowsSize) {
  window->resize(1280, 800);
  QTest::qWait(50);
  auto* stations = window->findChild<Stations*>();
  QString words = "Some frames were late since other programs held this seat up for a while. ";
  while (words.size() < 4000) words += words;
  for (int station = 0; station < kStations; ++station) {
    const std::string name = station_name(static_cast<Station>(station)).toStdString();
    key(static_cast<Qt::Key>(Qt::Key_1 + station));
    QTest::qWait(100);
    for (TextBox* box : window->findChildren<TextBox*>())
      if (box->isVisible()) box->set_text(words);
    std::vector<RowTable::Row> rows(200, RowTable::Row{{"01:00:00:00", words.left(300), words, words, words}, 3, {}});
    stations->panel(static_cast<Station>(station))->set_rows(rows);
    QTest::qWait(100);
    EXPECT_EQ(window->size(), QSize(1280, 800)) << name;
    EXPECT_LE(window->minimumSizeHint().height(), 800) << name;
    EXPECT_LE(window->minimumSizeHint().width(), 1280) << name;
    for (const QWidget* w : window->findChildren<QWidget*>()) {
      const QWidget* in = w->parentWidget();
      if (!w->isVisible() || w->isWindow() || !in) continue;
      // What lies in a scrolling area can be reached by scrolling.
      bool scrolls = false;
      for (const QWidget* up = in; up; up = up->parentWidget())
        scrolls = scrolls || (up->parentWidget() && qobject_cast<const QAbstractScrollArea*>(up->parentWidget()));
      if (scrolls) continue;
      EXPECT_TRUE(in->rect().adjusted(-1, -1, 1, 1).contains(w->geometry()))
          << name << ": " << w->metaObject()->className() << " " << w->objectName().toStdString() << " is cut by "
          << in->metaObject()->className() << " " << in->objectName().toStdString();
    }
    for (const TextBox* box : window->findChildren<TextBox*>())
      if (box->isVisible())
        EXPECT_GE(box->viewport()->height() + box->verticalScrollBar()->maximum(),
                  box->label()->fontMetrics()
                      .boundingRect(QRect(0, 0, box->viewport()->width(), 1'000'000), Qt::TextWordWrap, box->text())
                      .height())
            << name << ": " << box->label()->objectName().toStdString() << " cannot be read to its end";
  }
}

TEST_F(Views, ACompositionCostsWhatItsLayersCostAndOpensToThem) {
  const std::vector<LedgerRow> rows = ledger_rows(*session->derived());
  const auto of = std::ranges::find_if(rows, [](const LedgerRow& r) { return !r.layers.empty(); });
  ASSERT_NE(of, rows.end());
  ASSERT_EQ(of->layers.size(), 2u);
  double layers = 0;
  for (const LedgerRow& l : of->layers) {
    EXPECT_GT(l.ms, 0) << l.name.toStdString();
    layers += l.ms;
  }
  EXPECT_GE(of->ms, layers) << "and its own grade";
  // Ranked by it, above what costs less.
  sort_by(LedgerModel::kMs);
  if (ledger()->header()->sortIndicatorOrder() == Qt::AscendingOrder) sort_by(LedgerModel::kMs);
  QModelIndex at;
  for (int r = 0; r < ledger()->model()->rowCount(); ++r)
    if (cell(r, LedgerModel::kName) == of->name) at = ledger()->model()->index(r, 0);
  ASSERT_TRUE(at.isValid());
  if (at.row() > 0) EXPECT_GE(cell(at.row() - 1, LedgerModel::kMs).toDouble(), cell(at.row(), LedgerModel::kMs).toDouble());
  // A key opens it, and a layer leads to the composition.
  ASSERT_EQ(ledger()->model()->rowCount(at), 2);
  ledger()->setCurrentIndex(at);
  ledger()->setFocus();
  key(Qt::Key_G);
  EXPECT_TRUE(ledger()->isExpanded(at));
  QTest::keyClick(ledger(), Qt::Key_Down);
  EXPECT_TRUE(ledger()->currentIndex().parent().isValid());
  EXPECT_EQ(window->findChild<Ledger*>()->selected(), of->id);
  EXPECT_EQ(window->playhead(), of->in);
}

TEST_F(Views, OneNumberForOneThing) {
  // The card of a span, the balance of its segment and the ledger say the same of the stage that is to blame.
  const Derived& d = *session->derived();
  const Span* worst = nullptr;
  for (const Span& s : d.plan.before.spans)
    if (s.verdict == Verdict::spills && (!worst || s.expected_drops > worst->expected_drops)) worst = &s;
  ASSERT_TRUE(worst);
  EXPECT_TRUE(stated_heavy(worst->blame.placed)) << worst->blame.placed;
  key(Qt::Key_3);
  const QString ms = QString::number(worst->blame.ms, 'f', 0);
  EXPECT_THAT(window->findChild<QLabel*>("span-card")->text().toStdString(),
              testing::HasSubstr(ms.toStdString() + " ms a frame"));
  const FrameRange frames = frames_of(worst->blame.placed);
  double balance = 0;
  for (const StageCost& s : stages_over(d.plan.before, frames))
    if (s.owner == worst->blame.owner) balance = s.ms;
  EXPECT_DOUBLE_EQ(balance, worst->blame.ms);
  for (const LedgerRow& r : ledger_rows(d))
    if (r.id == worst->blame.placed) EXPECT_GE(r.ms, worst->blame.ms);
}

TEST_F(Views, ThePlayoutListsMissedFramesOnceThereAreAny) {
  key(Qt::Key_5);
  StationPanel* panel = window->findChild<Stations*>()->panel(Station::playout);
  EXPECT_FALSE(panel->table()->isVisible()) << "headings over nothing say nothing";
  EXPECT_THAT(panel->sentence().toStdString(), testing::HasSubstr("Space plays"));
  const FrameRange heavy = frames_of(kHeaviest);
  ASSERT_TRUE(played(heavy));
  // At load 2.6, with 24 frames made ahead at most, at least a sixth of 36 frames cannot be there in time.
  EXPECT_GE(session->playout()->dropped, heavy.length() / 6);
  EXPECT_TRUE(panel->table()->isVisible());
  EXPECT_EQ(panel->table()->rowCount(), session->playout()->dropped);
}

TEST_F(Views, EveryKeyIsListedOnceAndDoesOneThing) {
  std::map<QString, QString> used;
  for (const QAction* a : window->findChildren<QAction*>())
    for (const QKeySequence& k : a->shortcuts()) {
      EXPECT_FALSE(used.contains(k.toString()))
          << k.toString().toStdString() << " is for " << a->text().toStdString() << " and "
          << used[k.toString()].toStdString();
      used[k.toString()] = a->text();
    }
  EXPECT_GT(used.size(), 40u);
  key(Qt::Key_F1);
  auto* dialog = window->findChild<QDialog*>("keyboard");
  ASSERT_TRUE(dialog);
  const QString listed = dialog->findChild<QTextBrowser*>()->toPlainText();
  for (const auto& [keys, what] : used)
    EXPECT_TRUE(listed.contains(QKeySequence(keys).toString(QKeySequence::NativeText)) &&
                listed.contains(QString(what).remove('&')))
        << what.toStdString();
  dialog->close();
}

TEST_F(Views, KeysStepFromCutToCutAndBypassTheDearestEffect) {
  std::vector<Frames> cuts;
  for (const auto& s : session->derived()->view.played->segments())
    if (s->in > 0) cuts.push_back(s->in);
  std::sort(cuts.begin(), cuts.end());
  key(Qt::Key_Home);
  EXPECT_EQ(window->playhead(), 0);
  key(Qt::Key_Right, Qt::ShiftModifier);
  EXPECT_EQ(window->playhead(), cuts.front());
  key(Qt::Key_Right, Qt::ShiftModifier);
  key(Qt::Key_Left, Qt::ShiftModifier);
  EXPECT_EQ(window->playhead(), cuts.front());
  // B takes the dearest effect of the chosen segment out of playback, and puts it back.
  const Remedy worst = session->derived()->plan.remedies.front();
  window->set_playhead(worst.range.in + 1, true);
  window->findChild<Ledger*>()->select(worst.segment);
  emit window->findChild<Ledger*>()->segment_chosen(QString::fromStdString(worst.segment), worst.range.in);
  const Owner* dearest = session->derived()->dearest_effect(worst.segment);
  ASSERT_TRUE(dearest);
  const std::string effect = dearest->effect;
  skyline->setFocus();
  key(Qt::Key_B);
  ASSERT_TRUE(wait_for([&] { return session->current() && !session->timeline()->slips.empty(); }, 20000));
  EXPECT_TRUE(bypassed(*session->timeline(), worst.segment, effect));
  key(Qt::Key_B);
  ASSERT_TRUE(wait_for(
      [&] { return session->current() && !bypassed(*session->timeline(), worst.segment, effect); }, 20000));
}

TEST_F(Views, ARemedyInThePlanLeadsToItsPlaceAndTheNumbersAddUp) {
  key(Qt::Key_4);
  StationPanel* plan = window->findChild<Stations*>()->panel(Station::plan);
  const Plan p = session->derived()->plan;
  ASSERT_EQ(plan->table()->rowCount(), static_cast<int>(p.remedies.size()));
  double seconds = 0;
  std::uint64_t bytes = 0;
  for (std::size_t i = 0; i < p.remedies.size(); ++i) {
    plan->table()->setCurrentCell(static_cast<int>(i), 0);
    EXPECT_EQ(window->playhead(), p.remedies[i].range.in);
    seconds += p.remedies[i].render_seconds, bytes += p.remedies[i].bytes;
  }
  EXPECT_NEAR(seconds, p.render_seconds, 1e-6);
  EXPECT_EQ(bytes, p.bytes);
  EXPECT_LE(p.after.expected_drops, p.before.expected_drops);
}

TEST_F(Views, ThePlanObeysABanAndForgetsItAgain) {
  key(Qt::Key_4);
  StationPanel* plan = window->findChild<Stations*>()->panel(Station::plan);
  ASSERT_GT(plan->table()->rowCount(), 1);
  EXPECT_FALSE(window->findChild<Ledger*>()->isVisible()) << "the room is the plan's";
  const std::string id = session->derived()->plan.remedies.front().id;
  const double before = session->derived()->plan.render_seconds;
  plan->table()->setCurrentCell(0, 0);
  key(Qt::Key_N, Qt::ShiftModifier);
  const auto has = [&] {
    return std::any_of(session->derived()->plan.remedies.begin(), session->derived()->plan.remedies.end(), [&](const Remedy& r) { return r.id == id; });
  };
  ASSERT_TRUE(wait_for([&] { return session->current() && !has(); }, 30000));
  EXPECT_EQ(session->wishes().forbids.count(id), 1u);
  auto* words = window->findChild<QPushButton*>("no-words");
  EXPECT_EQ(words->text(), "Take back 1 word");
  QTest::mouseClick(words, Qt::LeftButton);
  ASSERT_TRUE(wait_for([&] { return session->current() && has(); }, 30000));
  EXPECT_NEAR(session->derived()->plan.render_seconds, before, 1e-6);
  // Pinned, it says so.
  plan->table()->setCurrentCell(0, 0);
  key(Qt::Key_P, Qt::ShiftModifier);
  ASSERT_TRUE(wait_for([&] { return session->current() && session->derived()->plan.remedies.front().pinned; }, 30000));
  session->set_wishes({});
}

TEST_F(Views, AClickInTheFrontierChoosesHowMuchTimeIsSpent) {
  key(Qt::Key_4);
  auto* frontier = window->findChild<Frontier*>("frontier");
  const Plan whole = session->derived()->plan;
  ASSERT_GT(whole.frontier.size(), 2u);
  QTest::mouseClick(frontier, Qt::LeftButton, Qt::NoModifier, frontier->place(whole.frontier[1]).toPoint());
  ASSERT_TRUE(wait_for([&] { return session->current() && session->derived()->plan.render_seconds < whole.render_seconds - 1e-6; }, 30000));
  EXPECT_LE(session->derived()->plan.render_seconds, whole.frontier[1].seconds + 1e-3);
  EXPECT_FALSE(session->derived()->plan.fits);
  EXPECT_THAT(window->findChild<Stations*>()->panel(Station::plan)->sentence().toStdString(), testing::HasSubstr("It does not fit"));
  session->set_wishes({});
  ASSERT_TRUE(wait_for([&] { return session->current() && session->derived()->plan.fits; }, 30000));
}

TEST_F(Views, ADroppedFrameIsWeighedAgainstTheMachinesTimeByKeys) {
  key(Qt::Key_4);
  auto* weight = window->findChild<QSlider*>("drop-weight");
  auto* said = window->findChild<QLabel*>("drop-weight-said");
  EXPECT_EQ(said->text(), "any work: none may drop");
  const double before = session->derived()->plan.render_seconds;
  weight->setFocus();
  for (int i = 0; i < 4; ++i) QTest::keyClick(weight, Qt::Key_Left);
  ASSERT_TRUE(wait_for([&] { return session->current() && session->wishes().drop_seconds == 1.0 && session->derived()->plan.drop_seconds == 1.0; }, 30000));
  EXPECT_LE(session->derived()->plan.render_seconds, before + 1e-6);
  EXPECT_TRUE(said->text().startsWith("1.0 s of the machine's time")) << said->text().toStdString();
  session->set_wishes({});
  ASSERT_TRUE(wait_for([&] { return session->current() && session->derived()->plan.drop_seconds == kNoLimit; }, 30000));
}

TEST_F(Views, PartsAreWatchedAtTimesOfTheirOwn) {
  key(Qt::Key_4);
  auto* by = window->findChild<QLineEdit*>("review-at");
  by->setFocus();
  by->selectAll();
  QTest::keyClicks(by, "0-48@9:30, 48-96@10:00");
  QTest::keyClick(by, Qt::Key_Return);
  ASSERT_TRUE(wait_for([&] { return session->current() && session->derived()->plan.reviews.size() == 2; }, 30000));
  EXPECT_EQ(session->wishes().reviews.at(1).range, (FrameRange{48, 96}));
  session->set_wishes({});
  ASSERT_TRUE(wait_for([&] { return session->current() && session->derived()->plan.reviews.empty(); }, 30000));
}

TEST_F(Views, AReviewIsGivenByTheClockAndTheSentenceSaysWhenItIsReady) {
  key(Qt::Key_4);
  auto* by = window->findChild<QLineEdit*>("review-at");
  by->setFocus();
  by->selectAll();
  QTest::keyClicks(by, "soon");
  QTest::keyClick(by, Qt::Key_Tab);
  EXPECT_EQ(by->text(), "") << "that is no time";
  by->setFocus();
  by->selectAll();
  QTest::keyClicks(by, clock_text(std::time(nullptr) + 7200, std::time(nullptr)).substr(clock_text(std::time(nullptr) + 7200, std::time(nullptr)).find_last_of(' ') + 1).c_str());
  QTest::keyClick(by, Qt::Key_Tab);
  ASSERT_TRUE(wait_for([&] { return session->current() && session->derived()->plan.review_at; }, 30000));
  EXPECT_THAT(session->derived()->plan.sentence, testing::HasSubstr("Ready by "));
  session->set_wishes({});
  ASSERT_TRUE(wait_for([&] { return session->current() && !session->derived()->plan.review_at; }, 30000));
}

TEST_F(Views, TheQueueIsOneKeyAwayAndItsJobsAreOrderedPausedAndCancelled) {
  auto journal = *Journal::open();
  Job j;
  j.timeline = "Another timeline", j.file = "/other.otio", j.price = {48, 4, 4};
  j.remedy = "render:0-48", j.what = "First";
  ASSERT_TRUE(journal.add(j));
  j.remedy = "bake:smoke", j.what = "Second";
  const std::int64_t second = *journal.add(j);
  key(Qt::Key_Q);
  auto* queue = window->findChild<QueueWindow*>("queue");
  ASSERT_TRUE(queue && queue->isVisible());
  ASSERT_TRUE(wait_for([&] { return queue->table()->rowCount() == 2; }, 20000));
  EXPECT_THAT(queue->sentence().toStdString(), testing::AllOf(testing::HasSubstr("2 to be done"), testing::HasSubstr("No renderer runs")));
  queue->table()->selectRow(1);
  QTest::mouseClick(queue->findChild<QPushButton*>("queue-first"), Qt::LeftButton);
  EXPECT_TRUE(wait_for([&] { return queue->table()->item(0, 2)->text() == "Second"; }, 20000));
  auto* pause = queue->findChild<QPushButton*>("queue-pause");
  QTest::mouseClick(pause, Qt::LeftButton);
  EXPECT_TRUE(wait_for([&] { return pause->text() == "Resume the queue"; }, 20000));
  EXPECT_TRUE(journal.settings().paused);
  QTest::mouseClick(pause, Qt::LeftButton);
  EXPECT_TRUE(wait_for([&] { return pause->text() == "Pause the queue"; }, 20000));
  queue->table()->selectRow(0);
  QTest::mouseClick(queue->findChild<QPushButton*>("queue-cancel"), Qt::LeftButton);
  EXPECT_TRUE(wait_for([&] { return journal.job(second)->state == JobState::cancelled; }, 20000));
  queue->close();
  // From every station what is left is in sight, and a click shows it again.
  auto* line = window->findChild<QueueLine*>("queue-line");
  ASSERT_TRUE(wait_for([&] { return line->isVisible() && line->text().contains("1 left"); }, 20000)) << line->text().toStdString();
  EXPECT_TRUE(line->text().contains("not running"));
  QTest::mouseClick(line, Qt::LeftButton);
  EXPECT_TRUE(queue->isVisible());
  queue->close();
  for (const Job& left : journal.jobs()) (void)journal.cancel(left.id);
  EXPECT_TRUE(wait_for([&] { return !line->isVisible(); }, 20000));
}

TEST(NewsOfTheQueue, IsToldOnceWhenItHappens) {
  Session::QueueSeen before, now;
  before.readable = now.readable = true;
  Job j;
  j.id = 1, j.timeline = "The Kiln Year", j.price = {48, 600, 600}, j.state = JobState::working;
  before.jobs = now.jobs = {j};
  EXPECT_TRUE(news_between(before, now, {}, 0).empty());
  now.jobs[0].state = JobState::done;
  auto news = news_between(before, now, {}, 0);
  ASSERT_EQ(news.size(), 1u);
  EXPECT_EQ(news[0].title, "The Kiln Year is rendered");
  EXPECT_TRUE(news_between(now, now, {}, 0).empty()) << "not again";
  now.jobs[0].state = JobState::failed, now.jobs[0].trouble = "The volume is full.";
  news = news_between(before, now, {}, 0);
  ASSERT_EQ(news.size(), 1u);
  EXPECT_TRUE(news[0].pressing);
  EXPECT_EQ(news[0].text, "The volume is full.");
  // Ten minutes of work and a review in eleven; then a job more.
  now = before;
  EXPECT_TRUE(news_between(before, now, 660, 0).empty());
  j.id = 2, now.jobs.push_back(j);
  news = news_between(before, now, 660, 0);
  ASSERT_EQ(news.size(), 1u);
  EXPECT_EQ(news[0].title, "The review is in danger");
  EXPECT_TRUE(news[0].text.contains("9 min")) << news[0].text.toStdString();
}

TEST_F(Views, TheReleaseSaysWhatADeliveryTakesAndRefusesWhatTheGateRefuses) {
  key(Qt::Key_6);
  auto* delivery = window->findChild<DeliveryPanel*>("delivery");
  ASSERT_TRUE(wait_for([&] { return delivery->said().contains("frames:"); }, 30000)) << delivery->said().toStdString();
  // The stated costs are cards in place of effects, which no delivery can make.
  EXPECT_FALSE(session->derived()->gate.may_deliver());
  EXPECT_FALSE(window->findChild<QPushButton*>("deliver")->isEnabled());
  EXPECT_FALSE(window->findChild<QPushButton*>("queue-delivery")->isVisible()) << "first things are put right";
  // Each place with its picture.
  RowTable* places = window->findChild<Stations*>()->panel(Station::release)->table();
  const auto pictured = [&](int row) { return places->item(row, 0) && places->item(row, 0)->data(Qt::DecorationRole).isValid(); };
  ASSERT_TRUE(wait_for([&] { return pictured(0); }, 60000));
  for (int row = 0; row < places->rowCount(); ++row) {
    EXPECT_TRUE(pictured(row)) << row;
    EXPECT_GE(places->rowHeight(row), 45) << row;
  }
  const std::string rdd36 = delivery->said().toStdString();
  window->findChild<QComboBox*>("delivery-form")->setCurrentIndex(5);
  EXPECT_EQ(delivery->form(), "vc3-sq");
  ASSERT_TRUE(wait_for([&] { return delivery->said().toStdString() != rdd36; }, 30000)) << "another form, another size";
}

TEST_F(Views, WhatStopsTheDeliveryIsPutRightByOneKeyAndOneWord) {
  key(Qt::Key_6);
  const TimelinePtr before = session->timeline();
  ASSERT_GT(session->gate().count(GateKind::card), 0) << "the stated costs";
  // A gap at the end, which no key can know to be wanted.
  auto gap = std::make_shared<Timeline>(*before);
  Track track = *gap->tracks.front();
  track.items.insert(track.items.begin(), Gap{12});
  gap->tracks.front() = std::make_shared<Track>(track);
  session->edit(gap, "Twelve frames of black");
  ASSERT_TRUE(wait_for([&] { return session->current() && session->gate().count(GateKind::gap) == 1; }, 30000));
  key(Qt::Key_A, Qt::ShiftModifier);
  auto* dialog = window->findChild<QDialog*>("who-accepts");
  ASSERT_TRUE(dialog) << "one question for what is left";
  EXPECT_FALSE(dialog->findChild<QPushButton*>("accept")->isEnabled()) << "nobody has said anything";
  QTest::keyClicks(dialog->findChild<QLineEdit*>("who"), "Ines Tal");
  QTest::keyClicks(dialog->findChild<QLineEdit*>("why"), "it begins in black");
  QTest::mouseClick(dialog->findChild<QPushButton*>("accept"), Qt::LeftButton);
  ASSERT_TRUE(wait_for([&] { return session->current() && session->gate().may_deliver(); }, 30000)) << session->gate().sentence();
  EXPECT_EQ(session->gate().count(GateKind::card), 0);
  EXPECT_THAT(session->gate().sentence(), testing::HasSubstr("accepted by hand"));
  // Now it may be left to the queue.
  const auto* queue = window->findChild<QPushButton*>("queue-delivery");
  ASSERT_TRUE(wait_for([&] { return queue->isVisible() && queue->isEnabled(); }, 10000));
  const fs::path to = stated().folder / "out" / "kiln.mov";
  session->queue_delivery(QString::fromStdString(to.string()), "vc3-sq");
  auto* delivery = window->findChild<DeliveryPanel*>("delivery");
  ASSERT_TRUE(wait_for([&] { return delivery->said().contains("of the queue"); }, 20000)) << delivery->said().toStdString();
  auto journal = *Journal::open();
  const std::vector<Job> jobs = journal.jobs();
  const auto job = std::ranges::find_if(jobs, [](const Job& j) { return j.remedy == "delivery"; });
  ASSERT_NE(job, jobs.end());
  EXPECT_EQ(job->what, "kiln.mov");
  EXPECT_TRUE(*journal.cancel(job->id));
  while (session->timeline() != before) session->undo();
  ASSERT_TRUE(wait_for([&] { return session->current(); }, 30000));
}

TEST_F(Views, APlaybackScaleIsChosenInTheMenuAndNeverReachesTheDelivery) {
  const Hash128 delivered = session->derived()->view.delivered->fingerprint(10);
  const auto choose = [&](const QString& label) {
    for (QAction* a : window->findChildren<QAction*>())
      if (a->isCheckable() && a->text() == label) return a->trigger();
    ADD_FAILURE() << label.toStdString();
  };
  choose("1/4");
  ASSERT_TRUE(wait_for(
      [&] { return session->current() && session->derived()->view.played->options().scale == 4; }, 30000));
  EXPECT_EQ(session->derived()->view.delivered->options().scale, 1);
  EXPECT_EQ(session->derived()->view.delivered->fingerprint(10), delivered);
  EXPECT_EQ(session->derived()->view.played->width() * 4, session->derived()->view.delivered->width());
  QMenu* scales = nullptr;
  for (QMenu* m : window->findChildren<QMenu*>())
    if (m->title() == "Playback &scale") scales = m;
  ASSERT_TRUE(scales);
  scales->actions().front()->trigger();
  ASSERT_TRUE(wait_for(
      [&] { return session->current() && session->derived()->view.played->options().scale == 1; }, 30000));
}

TEST_F(Views, AMediumSaysWhatItsCopiesWouldBring) {
  key(Qt::Key_2);
  auto* stations = window->findChild<Stations*>();
  ASSERT_TRUE(stations);
  StationPanel* panel = stations->panel(Station::timeline);
  panel->table()->setFocus();
  panel->table()->selectRow(0);
  ASSERT_TRUE(wait_for([&] { return panel->sentence().contains("light copy") && panel->sentence().contains("1/2 size"); }, 30000)) << panel->sentence().toStdString();
  EXPECT_THAT(panel->sentence().toStdString(), testing::HasSubstr("hides detail, noise and fine keys"));
  EXPECT_TRUE(panel->sentence().startsWith("The Kiln Year")) << "below what is said of the timeline";
}

TEST_F(Views, AnglesAreOpenedSideBySideInANewFileOnly) {
  QString said;
  const auto c = QObject::connect(session.get(), &Session::failed, [&](const QString& text) { said = text; });
  const QTemporaryDir dir;
  const QString file = dir.filePath("angles.otio");
  const std::string one = session->derived()->view.played->segments().front()->segment->id;
  session->open_angles(one, file);
  ASSERT_TRUE(wait_for([&] { return !said.isEmpty(); }, 30000));
  EXPECT_TRUE(said.contains("angle")) << said.toStdString();
  EXPECT_FALSE(QFile::exists(file));
  QObject::disconnect(c);
}

}  // namespace
}  // namespace gc
