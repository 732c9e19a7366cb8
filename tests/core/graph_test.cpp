// The render graph as a whole: steady memory, ways of sharing work out, half precision, odd media.
#include "media/memory.h"
#include "pipeline/parallel.h"
#include "support.h"

namespace gc {
namespace {

using test::an;
using test::Build;
using test::frame_of;

class Graph : public testing::Test {
 protected:
  ProgramPtr six_stages(const RenderOptions& o = {}) {
    const std::string m = test::movie(folder_ / "m.mov", Form::vc3_hqx, 256, 144, 40);
    Build b;
    b.media("m", m, 40)
        .track("V1")
        .segment("a", "m", 0, 40,
                 {an("spatial_nr", {{"radius", 2}}), an("temporal_nr", {}), an("blur", {{"sigma", 2}}),
                  an("cdl", {{"saturation", 1.2}}), an("contrast", {{"contrast", 1.1}}), an("sharpen", {})});
    return Program::compile(b.done(), media_, o);
  }
  test::TempFolder folder_;
  MediaCatalog media_;
};

TEST_F(Graph, TakesNoNewMemoryFrameAfterFrame) {
  const ProgramPtr p = six_stages();
  std::vector<Frames> frames;
  for (Frames f = 0; f < 40; ++f) frames.push_back(f);
  run_flat_out(p, nullptr, frames, 2);
  const std::size_t before = memory_held().allocations;
  run_flat_out(p, nullptr, frames, 2);
  // One more may happen to be in flight than before; a picture for each stage would be 240.
  EXPECT_LE(memory_held().allocations, before + 8) << "40 frames of six stages";
}

/// What the forecast costs a frame by must be what is timed in making it, no more and no less.
TEST_F(Graph, TimesEachFrameUnderTheStagesItIsCostedBy) {
  const std::string m = test::movie(folder_ / "m.mov", Form::vc3_hqx, 256, 144, 60);
  const Json wider{{"keys", {{{"at", 0}, {"value", 1}}, {{"at", 59}, {"value", 9}}}}};
  Build b;
  b.media("m", m, 60)
      .track("V1")
      .segment("a", "m", 0, 60, {an("blur", {{"sigma", wider}}), an("contrast", {{"contrast", 1.2}})});
  b.track("V2").solid("over", 60, 1, 1, 1).with([](Segment& s) { s.matte = {"V1", true, false}; });
  const ProgramPtr p = Program::compile(b.done(), media_);
  EXPECT_EQ(p->intervals().size(), 3u) << "seconds of the blur";
  std::vector<Frames> frames;
  for (Frames f = 0; f < 60; f += 5) frames.push_back(f);
  for (const FrameResult& r : run_flat_out(p, nullptr, frames, 1)) {
    std::map<Hash128, int> said, timed;
    for (const StageRef& s : p->stages(r.frame))
      if (s.kind == StageKind::effect || s.kind == StageKind::grade || s.kind == StageKind::decode)
        ++said[s.key];
    for (const StageSample& s : r.stages)
      if (s.kind == StageKind::effect || s.kind == StageKind::grade || s.kind == StageKind::decode)
        ++timed[s.key];
    EXPECT_EQ(said, timed) << "frame " << r.frame;
    EXPECT_EQ(timed.size(), 3u);
  }
}

TEST_F(Graph, TilesMakeTheSamePictureAsFrames) {
  const ProgramPtr p = six_stages();
  const Image alone = frame_of(*p, 12);
  Decoders d;
  StageLog log;
  FrameNotes notes;
  notes.tiles = 4;
  EXPECT_EQ(test::greatest_difference(render_frame(*p, 12, nullptr, d, log, nullptr, &notes), alone), 0);
}

TEST_F(Graph, HowWorkIsSharedOutIsMeasured) {
  const ProgramPtr p = six_stages();
  const auto ways = try_parallelism(p, {3, 4, 5, 6}, 4);
  ASSERT_EQ(ways.size(), 3u);
  for (const Parallelism& w : ways) {
    EXPECT_EQ(w.workers * w.tiles, 4);
    EXPECT_GT(w.ms, 0);
  }
  EXPECT_LE(ways.front().ms, ways.back().ms);
  EXPECT_EQ(try_parallelism(p, {3}, 1).size(), 1u);
}

TEST_F(Graph, FusedEffectsAreTheirSequence) {
  Build fused, apart;
  const std::vector<Effect> stack{an("cdl", {{"slope", {1.2, 1, 0.8}}}), an("contrast", {{"contrast", 1.3}}),
                                  an("vignette", {}), an("grain", {{"amount", 0.05}})};
  fused.track("V1").generator("g", "fractal_noise", 5, {{"size", 30}}, stack);
  Image one_by_one =
      frame_of(*Program::compile(
                   Build().track("V1").generator("g", "fractal_noise", 5, {{"size", 30}}).done(), media_),
               2);
  for (const Effect& e : stack)
    effect_type(e.type)->make(e.params, 256, 144)->apply(one_by_one, test::context_of(one_by_one, 2));
  EXPECT_EQ(test::greatest_difference(frame_of(*Program::compile(fused.done(), media_), 2), one_by_one), 0);
}

TEST_F(Graph, TheTimeOfFusedEffectsIsCountedForEach) {
  Build b(512, 288);
  b.track("V1").generator("g", "gradient", 5, {},
                          {an("contrast", {{"contrast", 1.3}}), an("grain", {{"amount", 0.05}})});
  const ProgramPtr p = Program::compile(b.done(), media_);
  Decoders d;
  StageLog log;
  (void)render_frame(*p, 1, nullptr, d, log);
  double contrast = 0, grain = 0;
  for (const StageSample& s : log) {
    if (s.kind == StageKind::grade) contrast = s.wall_ms;
    if (s.kind == StageKind::effect) grain = s.wall_ms;
  }
  EXPECT_GT(contrast, 0);
  EXPECT_GT(grain, contrast) << "a hash of every pixel costs more than a multiplication";
}

TEST_F(Graph, HalfPrecisionIsNearFullAndSaidToBeOther) {
  RenderOptions half;
  half.half = true;
  const ProgramPtr full = six_stages(), rounded = six_stages(half);
  const double off = test::greatest_difference(frame_of(*full, 9), frame_of(*rounded, 9));
  EXPECT_GT(off, 0);
  EXPECT_LT(off, 1.0 / 1024) << "half precision has 11 significant bits";
  EXPECT_NE(full->picture_key(9), rounded->picture_key(9));
  EXPECT_FALSE(rounded->options().full_quality());
}

// Against FFmpeg's scaler with its area averaging; both round differently at the edges of the picture.
TEST_F(Graph, ShrinkingMatchesFfmpegWithinAStatedError) {
  const std::string big = test::golden("source.png").string(), small = (folder_ / "small.png").string();
  ASSERT_TRUE(test::shell("ffmpeg -y -i " + big +
                          " -vf scale=48:27:flags=area+accurate_rnd+full_chroma_int -pix_fmt rgb48be " +
                          small));
  Build b(48, 27);
  b.media("m", big, 1).track("V1").segment("a", "m", 0, 5);
  const Image ours = frame_of(*Program::compile(b.done(), media_), 1), theirs = test::load_picture(small);
  EXPECT_LT(test::greatest_difference(ours, theirs), 0.01);
}

TEST_F(Graph, AFileWhosePicturesChangeTheirSizeStillFillsTheRaster) {
  const std::string a = (folder_ / "a.ts").string(), b = (folder_ / "b.ts").string(),
                    c = (folder_ / "c.ts").string();
  ASSERT_TRUE(
      test::shell("ffmpeg -y -f lavfi -i testsrc2=s=256x144:r=24 -frames:v 12 -c:v libx264 -bf 0 -g 1 " + a));
  ASSERT_TRUE(
      test::shell("ffmpeg -y -f lavfi -i testsrc2=s=320x180:r=24 -frames:v 12 -c:v libx264 -bf 0 -g 1 "
                  "-output_ts_offset 0.5 " +
                  b));
  ASSERT_TRUE(test::shell("sh -c 'cat " + a + " " + b + " > " + c + "'"));
  Build build;
  build.media("m", c, 24).track("V1").segment("s", "m", 0, 20);
  const ProgramPtr p = Program::compile(build.done(), media_);
  for (const Frames f : {3, 15}) {
    const Image i = frame_of(*p, f);
    ASSERT_EQ(i.width(), 256);
    EXPECT_GT(test::greatest_difference(i, hatched(256, 144)), 0.3) << "frame " << f << " is no stand-in";
    EXPECT_EQ(test::pixel(i, 250, 140)[3], 1) << f;
  }
}

TEST_F(Graph, ADeliveryWithACostCardIsStoppedAtTheGate) {
  Build b;
  b.track("V1")
      .solid("a", 5, 0.3, 0.3, 0.3, {an("cost_card", {{"ms", 1}})})
      .solid("b", 5, 0.3, 0.3, 0.3, {an("lut", {{"path", "/nowhere.cube"}})});
  const Gate gate = check_gate(*Program::compile(b.done(), media_), nullptr);
  EXPECT_FALSE(gate.may_deliver());
  ASSERT_EQ(gate.items.size(), 2u);
  EXPECT_THAT(gate.items[0].what, testing::HasSubstr("cost card"));
  EXPECT_THAT(gate.items[1].what, testing::HasSubstr("/nowhere.cube"));
}

/// Terms of the stages of an effect, by the names that its law gives them.
double amount(const StageRef& stage, const std::string& term) {
  const auto& names = stage.law->terms;
  const auto it = std::find(names.begin(), names.end(), term);
  return it == names.end() ? -1
                           : static_cast<double>(stage.terms[static_cast<std::size_t>(it - names.begin())]);
}

// Where a picture has alpha, grades divide it out before their run and multiply it in after it: that is work
// of the run's first, and its law has to know of it.
TEST(Costs, GradesOfAPictureWithAlphaCostMore) {
  MediaCatalog media;
  const Effect move{"t", "transform", {{"scale", 0.7}}},
      grade = test::cdl("g", 1.2), more{"c", "contrast", {{"contrast", 1.2}}}, soft = test::blur("b", 2);
  const auto costs = [&](std::vector<Effect> stack) {
    const ProgramPtr p = Program::compile(
        Build(1000, 500).track("V1").solid("a", 24, 0.2, 0.4, 0.6, std::move(stack)).done(), media);
    std::map<std::string, std::pair<double, double>> all;
    for (const StageRef& s : p->stages(3))
      if (s.law && s.law->terms.size() > 2) all[s.law->id] = {amount(s, kLoadedFirst), amount(s, kWithAlpha)};
    return all;
  };
  const auto opaque = costs({grade, more}), moved = costs({move, grade, more}),
             apart = costs({grade, move, soft, more});
  EXPECT_EQ(opaque.at("cdl"), std::pair(0.5, 0.0));
  EXPECT_EQ(opaque.at("contrast"), std::pair(0.0, 0.0));
  EXPECT_EQ(moved.at("cdl"), std::pair(0.5, 0.5));
  EXPECT_EQ(moved.at("contrast"), std::pair(0.0, 0.0)) << "the first of the run has it for all of them";
  EXPECT_EQ(apart.at("cdl"), std::pair(0.5, 0.0)) << "before it was moved";
  EXPECT_EQ(apart.at("contrast"), std::pair(0.5, 0.5));
}

// A picture of another shape leaves part of the raster empty, or is cut: only what is made is work.
TEST(Costs, APictureOfAnotherShapeCostsWhatItCovers) {
  const PlacedSize fits = placed_size(1920, 1080, 1000, 1000, {Placement::Shape::fit});
  EXPECT_EQ(std::pair(fits.width, fits.height), std::pair(1000, 563));
  EXPECT_NEAR(fits.from_width, 1920, 1e-6);
  EXPECT_NEAR(fits.from_height, 1080, 1e-6);
  const PlacedSize fills = placed_size(1920, 1080, 1000, 1000, {Placement::Shape::fill});
  EXPECT_EQ(std::pair(fills.width, fills.height), std::pair(1000, 1000));
  EXPECT_NEAR(fills.from_width, 1080, 1e-6);
  EXPECT_EQ(fills.from_height, 1080);
}

// A pass of a filter that widens with the shrinking goes over the larger of what it reads and makes, so that
// enlarging and shrinking by the same factor go over as many pixels.
TEST(Costs, ScalingGoesOverThePixelsOfTwoPasses) {
  const ScalingWork larger = scaling_work({1920, 1080, 960, 540}),
                    smaller = scaling_work({960, 540, 1920, 1080});
  EXPECT_EQ(larger.across, 1920 * 540) << "across first, over the rows that there are";
  EXPECT_EQ(larger.down, 1920 * 1080);
  EXPECT_EQ(smaller.across, 1920 * 540) << "down first, and across over the rows that are left";
  EXPECT_EQ(smaller.down, 1920 * 1080);
  // Where only one side changes there is one pass.
  const ScalingWork wide = scaling_work({2000, 500, 1000, 500});
  EXPECT_EQ(wide.across, 2000 * 500);
  EXPECT_EQ(wide.down, 0);
  const ScalingWork same = scaling_work({800, 600, 800, 600});
  EXPECT_EQ(std::pair(same.across, same.down), std::pair(0.0, 0.0));
}

// Copies that nothing else is told to cost: what they take must not turn up as news of "between stages".
TEST(Costs, CopiesAreCountedWhereTheyAreMade) {
  MediaCatalog media;
  const Effect nr{"n", "deflicker", {{"frames", 1}}}, soft = test::blur("b", 2);
  const auto copied = [&](const TimelinePtr& t) {
    const StageRef b = Program::compile(t, media)->between(3);
    return std::pair(b.terms[0], b.terms[1]);
  };
  const auto mpix = std::pair(0.5f, 0.0f);
  EXPECT_EQ(copied(Build(1000, 500).track("V1").solid("a", 24, 0.2, 0.4, 0.6, {soft}).done()), mpix);
  const Effect reduced{"n", "temporal_nr", {{"frames", 1}}};
  EXPECT_EQ(copied(Build(1000, 500).track("V1").solid("a", 24, 0.2, 0.4, 0.6, {reduced}).done()), mpix)
      << "it makes a new picture of its neighbours";
  EXPECT_EQ(copied(Build(1000, 500).track("V1").solid("a", 24, 0.2, 0.4, 0.6, {nr}).done()),
            std::pair(0.5f, 0.5f))
      << "it works on a copy of the picture that its neighbours share";
  const auto adjusted = [&](double opacity) {
    return Build(1000, 500)
        .track("V1")
        .solid("a", 24, 0.2, 0.4, 0.6)
        .track("V2")
        .adjustment("adj", 24, {soft})
        .with([&](Segment& s) { s.opacity = opacity; })
        .done();
  };
  EXPECT_EQ(copied(adjusted(1)), mpix) << "it takes what is below it";
  EXPECT_EQ(copied(adjusted(0.5)), std::pair(0.5f, 0.5f)) << "it is mixed with what was below it";
  // What a composition copies inside is the frame's as well.
  auto inner = std::make_shared<Track>();
  inner->id = "C1";
  auto s = std::make_shared<Segment>();
  s->id = "in", s->content = Content::generator, s->ref = "solid",
  s->generator = {{"colour", {0.1, 0.2, 0.3}}};
  s->duration = 24, s->stack = {nr};
  inner->items.push_back(SegmentPtr(s));
  EXPECT_EQ(copied(Build(1000, 500).composition("c", {inner}).track("V1").use("u", "c", 24).done()),
            std::pair(0.5f, 0.5f));
}

TEST(Costs, WaitingForAnotherFramesNeighbourIsNoWork) {
  test::TempFolder dir;
  const std::string movie = test::movie(dir / "m.mp4", Form::h264_intra, 640, 360, 40);
  // What makes a neighbour is slow, so that frames side by side wait for each other.
  const TimelinePtr t =
      Build(640, 360)
          .media("m", movie, 40)
          .track("V1")
          .segment("a", "m", 0, 36,
                   {Effect{"s", "stylise", {{"radius", 6}}}, Effect{"n", "temporal_nr", {{"frames", 2}}}})
          .done();
  MediaCatalog media;
  const ProgramPtr program = Program::compile(t, media);
  std::vector<Frames> frames;
  for (Frames f = 4; f < 16; ++f) frames.push_back(f);
  const std::vector<FrameResult> results = run_flat_out(program, nullptr, frames, 4);
  const Hash128 between = program->between(10).key;
  double waited = 0, worst = 0, dearest = 0;
  for (const FrameResult& r : results) {
    waited += r.shared_wait_ms;
    for (const StageSample& s : r.stages) {
      dearest = std::max(dearest, static_cast<double>(s.wall_ms));
      if (s.key == between) worst = std::max(worst, static_cast<double>(s.wall_ms));
    }
  }
  EXPECT_GT(waited, 0) << "they did wait";
  EXPECT_LT(worst, dearest / 2) << "but that is not told as copying";
}

}  // namespace
}  // namespace gc
