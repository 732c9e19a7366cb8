// Retimes, rates, transitions that need flow, and what is unseen until rendered.
#include <numbers>

#include "effects/motion.h"
#include "queue/prerender.h"
#include "support.h"

namespace gc {
namespace {

using test::Build;
using test::frame_of;
using test::pixel;

/// A movie whose frame n is a grey of (n + 1) × 6 of 255, so that a frame tells its number.
std::string numbered(const fs::path& file, int rate_num, int rate_den, int frames) {
  EXPECT_TRUE(
      test::shell(fmt::format("ffmpeg -y -f lavfi -i color=black:s=128x72:r={}/{} -frames:v {} -vf "
                              "\"geq=lum='16+(N+1)*4':cb=128:cr=128,format=yuv420p\" -c:v ffv1 -g 1 {}",
                              rate_num, rate_den, frames, file.string())));
  return file.string();
}
/// Which frame of a numbered movie a picture is, with the part of the way to the next.
double number_of(const Image& image) { return (image.row(36)[4 * 64] * 219.0) / 4 - 1; }

class Retime : public testing::Test {
 protected:
  Image at(Build& b, Frames f, bool rendering = false, FrameNotes* notes = nullptr) {
    RenderOptions o;
    o.rendering = rendering;
    const ProgramPtr p = Program::compile(b.done(), media_, o);
    Decoders d;
    StageLog log;
    return render_frame(*p, f, nullptr, d, log, nullptr, notes);
  }
  test::TempFolder folder_;
  MediaCatalog media_;
};

TEST_F(Retime, ConstantSpeedFreezeAndBackwards) {
  const std::string m = numbered(folder_ / "n.mkv", 24, 1, 40);
  const auto with = [&](Ratio speed, Frames in, Frames f) {
    Build b(128, 72);
    b.media("m", m).track("V1").segment("a", "m", in, 20).with([&](Segment& s) { s.speed = speed; });
    return number_of(at(b, f));
  };
  EXPECT_NEAR(with({1, 1}, 5, 3), 8, 0.1);
  EXPECT_NEAR(with({2, 1}, 0, 7), 14, 0.1);
  EXPECT_NEAR(with({1, 2}, 4, 7), 7, 0.1) << "nearest frame: the earlier of the two";
  EXPECT_NEAR(with({0, 1}, 9, 15), 9, 0.1);
  EXPECT_NEAR(with({-1, 1}, 30, 10), 20, 0.1);
}

TEST_F(Retime, BlendingMixesTheTwoNearestFramesByTheirNearness) {
  const std::string m = numbered(folder_ / "n.mkv", 24, 1, 40);
  Build b(128, 72);
  b.media("m", m).track("V1").segment("a", "m", 4, 20).with([](Segment& s) {
    s.speed = {1, 4}, s.between = Between::blend;
  });
  for (int f = 0; f < 8; ++f) EXPECT_NEAR(number_of(at(b, f)), 4 + f / 4.0, 0.1) << f;
}

// Common practice, no source: a source of another rate keeps its own time. Frame n of the timeline shows what
// the source shows at the same moment.
TEST_F(Retime, SourcesOfEveryRateKeepTheirTime) {
  for (const auto& [num, den] :
       {std::pair{24000, 1001}, {25, 1}, {30000, 1001}, {30, 1}, {50, 1}, {60000, 1001}, {60, 1}}) {
    const std::string m = numbered(folder_ / fmt::format("r{}-{}.mkv", num, den), num, den, 50);
    Build b(128, 72);
    b.media("m", m).track("V1").segment("a", "m", 0, 16);
    for (const Frames f : {0, 7, 15}) {
      const double seconds = static_cast<double>(f) / 24, expected = std::floor(seconds * num / den + 1e-9);
      EXPECT_NEAR(number_of(at(b, f)), expected, 0.1) << num << "/" << den << " frame " << f;
    }
  }
}

TEST_F(Retime, FlowIsUnseenLiveAndMadeWhenRendered) {
  // A square that moves 8 pixels a frame.
  const std::string m = (folder_ / "square.mkv").string();
  ASSERT_TRUE(
      test::shell("ffmpeg -y -f lavfi -i testsrc2=s=256x144:r=24 -frames:v 10 -vf "
                  "\"scroll=h=0.03125\" -pix_fmt yuv444p -c:v ffv1 " +
                  m));
  Build b(256, 144);
  b.media("m", m, 10).track("V1").segment("a", "m", 0, 8).with([](Segment& s) {
    s.speed = {1, 2}, s.between = Between::flow;
  });
  FrameNotes live, made;
  const Image unseen = at(b, 3, false, &live), rendered = at(b, 3, true, &made);
  EXPECT_TRUE(live.unseen);
  EXPECT_FALSE(made.unseen);
  EXPECT_LT(test::greatest_difference(unseen, unseen_picture(256, 144)), 1e-6)
      << "no wrong picture in its place";
  EXPECT_GT(test::greatest_difference(unseen, rendered), 0.2);
}

TEST_F(Retime, AForecastSaysUnseenApartFromSlowAndThePlanRendersIt) {
  const std::string m = numbered(folder_ / "n.mkv", 24, 1, 60);
  Build b(256, 144);
  b.media("m", m, 60).track("V1").segment("a", "m", 0, 24);
  b.segment("slow", "m", 0, 24).with([](Segment& s) { s.speed = {1, 2}, s.between = Between::flow; });
  b.segment("c", "m", 0, 24);
  const TimelinePtr t = b.done();
  const ProgramPtr p = Program::compile(t, media_);
  auto notebook = *Notebook::open(folder_ / "n.sqlite");
  ASSERT_TRUE(measure(p, *notebook, {2, 0.5, 2, false}, {}));
  const Forecast f = forecast(*p, *notebook, {}, {0, 72}, {});
  ASSERT_EQ(f.count(Verdict::unseen), 1);
  const auto span = std::find_if(f.spans.begin(), f.spans.end(),
                                 [](const Span& s) { return s.verdict == Verdict::unseen; });
  EXPECT_EQ(span->in, 24);
  EXPECT_EQ(span->out, 48);
  const Plan plan = make_plan(situation_for(p, *notebook, nullptr, media_, {}, {}, Device::processor, Form::vc3_hqx), {0, 72}, {});
  ASSERT_EQ(plan.remedies.size(), 1u);
  EXPECT_THAT(plan.remedies[0].reason, testing::HasSubstr("Unseen"));
  EXPECT_THAT(plan.sentence, testing::HasSubstr("cannot be seen before rendering"));

  // Once rendered it is sealed, and played as any other.
  auto shelf = *Shelf::open(folder_ / "shelf");
  ASSERT_TRUE(prerender(p, *shelf, plan.ranges(), {2, false}, {}));
  EXPECT_EQ(forecast(*p, *notebook, shelf->route(*p), {0, 72}, {}).count(Verdict::unseen), 0);
  const Image sealed = frame_of(*p, 31, shelf.get());
  EXPECT_NEAR(number_of(sealed), 3.5, 0.3) << "half-way between frames 3 and 4";
}

TEST_F(Retime, AMorphIsUnseenLiveAndADissolveIsNot) {
  const std::string m = numbered(folder_ / "n.mkv", 24, 1, 60);
  Build b(128, 72);
  b.media("m", m, 60)
      .track("V1")
      .segment("a", "m", 0, 24)
      .transition("morph", 4, 4)
      .segment("b", "m", 30, 24);
  const ProgramPtr p = Program::compile(b.done(), media_);
  int unseen = 0;
  for (const CompiledInterval& i : p->intervals())
    if (i.unseen) unseen += static_cast<int>(i.out - i.in);
  EXPECT_EQ(unseen, 8);
  FrameNotes notes;
  at(b, 24, true, &notes);
  EXPECT_FALSE(notes.unseen);
}

TEST_F(Retime, TransitionsOfOtherKindsShowBothPictures) {
  for (const char* kind : {"dissolve", "dip", "wipe"}) {
    Build b(128, 72);
    b.track("V1")
        .solid("a", 20, 1, 0, 0)
        .transition(kind, 5, 5, {{"colour", {0, 0, 1}}, {"angle", 0}})
        .solid("b", 20, 0, 1, 0);
    EXPECT_THAT(pixel(at(b, 5), 64, 36), test::near({1, 0, 0, 1})) << kind;
    EXPECT_THAT(pixel(at(b, 35), 64, 36), test::near({0, 1, 0, 1})) << kind;
    const Image middle = at(b, 19);
    EXPECT_GT(test::greatest_difference(middle, at(b, 5)), 0.4) << kind;
    EXPECT_GT(test::greatest_difference(middle, at(b, 35)), 0.4) << kind;
  }
}

/// Value of a smooth made-up texture anywhere.
float texture(double x, double y) {
  return static_cast<float>(0.5 + 0.15 * std::sin(x / 5.3) * std::cos(y / 6.1) +
                            0.15 * std::sin((x + 2 * y) / 9.7) + 0.1 * std::cos((3 * x - y) / 13.1));
}
template <class Where>
Image painted(int w, int h, Where&& where) {
  Image i(w, h);
  for (int y = 0; y < h; ++y)
    for (int x = 0; x < w; ++x) {
      const auto [u, v] = where(static_cast<double>(x), static_cast<double>(y));
      float* p = i.row(y) + 4 * x;
      p[0] = p[1] = p[2] = texture(u, v);
      p[3] = 1;
    }
  return i;
}
/// Mean distance of the flow from the truth, away from the edges (end-point error, as the field measures
/// flow).
template <class Truth>
double end_point_error(const cv::Mat& flow, Truth&& truth) {
  double sum = 0;
  int n = 0;
  for (int y = 16; y < flow.rows - 16; ++y)
    for (int x = 16; x < flow.cols - 16; ++x, ++n) {
      const auto [u, v] = truth(static_cast<double>(x), static_cast<double>(y));
      const cv::Vec2f f = flow.at<cv::Vec2f>(y, x);
      sum += std::hypot(f[0] - u, f[1] - v);
    }
  return sum / n;
}

TEST(Flow, FindsASyntheticShift) {
  const Image a = painted(256, 144,
                          [](double x, double y) {
                            return std::pair{x, y};
                          }),
              b = painted(256, 144, [](double x, double y) {
                return std::pair{x - 3.5, y + 1.25};
              });
  const cv::Mat flow = flow_between(search_luma(a, 1), search_luma(b, 1), true);
  EXPECT_LT(end_point_error(flow, [](double, double) { return std::pair{3.5, -1.25}; }), 0.25);
}

TEST(Flow, FindsASyntheticZoom) {
  const double z = 1.04;
  const Image a = painted(256, 144,
                          [](double x, double y) {
                            return std::pair{x, y};
                          }),
              b = painted(256, 144, [&](double x, double y) {
                return std::pair{(x - 128) / z + 128, (y - 72) / z + 72};
              });
  const cv::Mat flow = flow_between(search_luma(a, 1), search_luma(b, 1), true);
  EXPECT_LT(end_point_error(flow,
                            [&](double x, double y) {
                              return std::pair{(x - 128) * (z - 1), (y - 72) * (z - 1)};
                            }),
            0.4);
}

TEST(Flow, MakesTheFrameInBetween) {
  const auto shifted = [](double d) {
    return painted(256, 144, [=](double x, double y) { return std::pair{x - d, y}; });
  };
  const Image made = in_between(shifted(0), shifted(6), 0.5f), truth = shifted(3);
  double flow = 0, blend = 0;
  Image mixed = shifted(0);
  dissolve(mixed, shifted(6), 0.5f);
  for (int y = 16; y < 128; ++y)
    for (int x = 16; x < 240; ++x) {
      flow += std::abs(pixel(made, x, y)[0] - pixel(truth, x, y)[0]);
      blend += std::abs(pixel(mixed, x, y)[0] - pixel(truth, x, y)[0]);
    }
  EXPECT_LT(flow, blend / 4) << "much nearer to the truth than a blend";
}

}  // namespace
}  // namespace gc
