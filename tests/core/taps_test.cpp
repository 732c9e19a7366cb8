// A picture may be fetched at any point of its making and in any form that can keep it, and differs from the live one by
// what the form loses and nothing else.
#include "media/compare.h"
#include "media/picture_file.h"
#include "media/synthetic.h"
#include "queue/prerender.h"
#include "support.h"

namespace gc {
namespace {

using test::Build;

class Taps : public testing::Test {
 protected:
  Taps() {
    clip_ = test::movie(dir_ / "m.mov", Form::vc3_hqx, 320, 180, 40);
    over_ = test::movie(dir_ / "o.mov", Form::rdd36_alpha, 320, 180, 40, "kiln");
    empty();
  }
  void empty() {
    shelf_.reset();
    fs::remove_all(dir_ / "shelf");
    shelf_ = *Shelf::open(dir_ / "shelf");
  }
  /// A composition of two layers, the upper smaller than the raster, used twice; a grade and noise reduction above it.
  TimelinePtr timeline(double saturation = 1.2, double inner_blur = 2) const {
    Build inner(320, 180);
    inner.media("m", clip_, 40).media("o", over_, 40).track("low").segment("s1", "o", 2, 24, {test::an("transform", {{"scale", 0.5}}), test::blur("b", inner_blur)});
    Build b(320, 180);
    b.media("m", clip_, 40).media("o", over_, 40).composition("comp", inner.done()->tracks);
    b.track("V1").segment("a", "m", 5, 24, {test::blur("soft", 3), test::cdl("grade", saturation)});
    b.track("V2").use("c1", "comp", 12, {test::cdl("upper", saturation)}).use("c2", "comp", 12);
    return b.done();
  }
  ProgramPtr program(const TimelinePtr& t, int scale = 1) {
    RenderOptions o;
    o.scale = scale;
    return Program::compile(t, media_, o);
  }
  Image shown(const ProgramPtr& p, Frames f, bool live = false) {
    Decoders decoders;
    StageLog log;
    Image image = render_frame(*p, f, live ? nullptr : shelf_.get(), decoders, log);
    logged_ = log;
    return image;
  }
  /// The worst of some frames against the live ones.
  double worst(const TimelinePtr& t, int scale = 1) {
    double least = 200;
    for (const Frames f : {0, 1, 11, 12, 23}) {
      const ProgramPtr p = program(t, scale);
      const std::pair name(p->fingerprint(f), scale);
      if (!live_.contains(name)) live_.emplace(name, shown(p, f, true));
      least = std::min(least, psnr(shown(p, f), live_.at(name)));
    }
    return least;
  }

  test::TempFolder dir_;
  std::string clip_, over_;
  MediaCatalog media_;
  std::shared_ptr<Shelf> shelf_;
  std::map<std::pair<Hash128, int>, Image> live_;  ///< by what each is a picture of, and the scale
  StageLog logged_;
};

struct FormLoss {
  Form form;
  double least_db;  ///< of an opaque picture with grain, common practice; from measurements here
};
constexpr FormLoss kForms[] = {{Form::vc3_sq, 36},  {Form::vc3_hq, 40},  {Form::vc3_hqx, 42},     {Form::vc3_444, 44},
                               {Form::v210, 44},    {Form::vc5, 40},        {Form::ffv1, 44},        {Form::ffv1_444, 55},
                               {Form::rdd36, 38},   {Form::rdd36_alpha, 38}, {Form::ffv1_alpha, 55}, {Form::motion_jpeg, 36},
                               {Form::h264_intra, 34},
                               {Form::exr_half, 60}, {Form::exr_half_alpha, 60}};

TEST_F(Taps, EveryPlaceOfTheMakingPlaysFromEveryForm) {
  const TimelinePtr t = timeline();
  const ProgramPtr p = program(t);
  for (const FormLoss& f : kForms) {
    PrerenderOptions o;
    o.form = f.form;
    const auto check = [&](const char* what, const Result<PrerenderReport>& made, FrameState state, std::size_t frames) {
      ASSERT_TRUE(made) << what << " " << form_name(f.form) << ": " << made.error().text();
      EXPECT_EQ(shelf_->route(*p).count(state), frames) << what << " " << form_name(f.form);
      EXPECT_GT(worst(t), f.least_db) << what << " " << form_name(f.form);
      // At half scale a picture is made smaller after its making, the live one before it.
      EXPECT_GT(worst(t, 2), 34) << what << " " << form_name(f.form);
      empty();
    };
    const auto segment = [&](const char* id) {
      for (const auto& s : p->segments())
        if (s->segment->id == id) return s;
      return CompiledSegmentPtr{};
    };
    check("source", copy_source(*segment("a"), *shelf_, {}, 1, o, {}), FrameState::half, 24);
    check("stack", cache_stack(p, *shelf_, "a", 1, o, {}), FrameState::half, 24);
    check("composition", bake(p, *shelf_, "comp", {}, o, {}), FrameState::half, 24);
    check("frame", prerender(p, *shelf_, {{0, 24}}, o, {}), FrameState::sealed, 24);
  }
}

// Over a dissolve each segment runs on beyond its cut. What is cached of it does too, with keys where they were.
TEST_F(Taps, ACachedStackReachesThroughTheDissolvesAtItsEnds) {
  const Json keyed{{"sigma", {{"keys", {{{"at", 0}, {"value", 1.0}}, {{"at", 23}, {"value", 4.0}}}}}}};
  const auto made = [&](Ratio speed, bool grain) {
    Effect soft = test::an("blur", keyed);
    soft.id = "soft";
    Build b(320, 180);
    const auto stack = [&] {
      std::vector<Effect> all{soft};
      if (grain) all.insert(all.begin(), test::an("grain", {{"amount", 0.02}}));
      all.push_back(test::cdl("grade", 1.2));
      return all;
    };
    const auto at = [&](Segment& s) { s.speed = speed; };
    return b.media("m", clip_, 40).track("V1").segment("a", "m", 0, 18, stack()).with(at).dissolve(6, 6).segment("c", "m", 14, 18, stack()).with(at).done();
  };
  const auto check = [&](const TimelinePtr& t, std::size_t after, Frames both) {
    empty();
    const ProgramPtr p = program(t);
    for (const char* id : {"a", "c"}) {
      const auto r = cache_stack(p, *shelf_, id, after, {}, {});
      ASSERT_TRUE(r) << r.error().text();
    }
    const Route route = shelf_->route(*p);
    Frames twice = 0;
    for (Frames f = 0; f < p->duration(); ++f) {
      EXPECT_EQ(route[static_cast<std::size_t>(f)], FrameState::half) << f;
      twice += route.taps(static_cast<std::size_t>(f)).size() == 2;
      EXPECT_GE(psnr(shown(p, f), shown(p, f, true)), 40) << f;
    }
    EXPECT_EQ(twice, both) << "both sides of the dissolve";
  };
  check(made({1, 1}, false), 1, 12);
  // Where the next frames are not simply those of the source, or the stack counts frames, its own are cached.
  check(made({1, 2}, false), 1, 0);
  check(made({1, 1}, true), 2, 0);
}

TEST_F(Taps, WhatTheForecastCountsIsWhatAFrameGoesThrough) {
  const ProgramPtr p = program(timeline());
  ASSERT_TRUE(cache_stack(p, *shelf_, "a", 1, {}, {}));
  ASSERT_TRUE(bake(p, *shelf_, "comp", {}, {}, {}));
  const Route route = shelf_->route(*p);
  for (const Frames f : {0, 12, 23}) {
    (void)shown(p, f);
    const std::vector<StageRef> counted = p->stages(f, route.taps(static_cast<std::size_t>(f)));
    for (const StageSample& s : logged_)
      EXPECT_TRUE(std::ranges::any_of(counted, [&](const StageRef& c) { return c.key == s.key; })) << stage_name(s.kind);
    for (const StageRef& c : counted)
      if (c.kind == StageKind::decode || c.kind == StageKind::effect || c.kind == StageKind::convert)
        EXPECT_TRUE(std::ranges::any_of(logged_, [&](const StageSample& s) { return c.key == s.key; })) << c.law->label;
  }
}

// One render answers every use; what changes inside breaks it everywhere, what changes above nowhere.
TEST_F(Taps, ABakedCompositionAnswersEveryUse) {
  const auto made = bake(program(timeline()), *shelf_, "comp", {}, {}, {});
  ASSERT_TRUE(made) << made.error().text();
  EXPECT_EQ(made->frames, 24);
  EXPECT_EQ(shelf_->pieces().front().form, Form::rdd36_alpha) << "it is transparent where the layer is small";
  EXPECT_EQ(shelf_->route(*program(timeline(0.7))).count(FrameState::half), 24u);
  EXPECT_EQ(shelf_->route(*program(timeline(1.2, 3))).count(FrameState::half), 0u);
  const auto again = bake(program(timeline(0.7)), *shelf_, "comp", {}, {}, {});
  ASSERT_TRUE(again);
  EXPECT_EQ(again->already_sealed, 24);
}

// Below an effect that looks at neighbouring frames: each of the neighbours is fetched.
TEST_F(Taps, NeighboursAreFetchedAcrossTheSeam) {
  Build b(320, 180);
  const TimelinePtr t = b.media("m", clip_, 40).track("V1").segment("a", "m", 5, 24, {test::blur("soft", 2), test::an("temporal_nr", Json::object())}).done();
  const ProgramPtr p = program(t);
  ASSERT_EQ(p->segments().front()->last_temporal(9), 1) << "the second effect looks at neighbours";
  ASSERT_TRUE(cache_stack(p, *shelf_, "a", 1, {}, {}));
  const FrameRecipe whole = p->recipe(12, shelf_.get());
  EXPECT_EQ(whole.taps.size(), static_cast<std::size_t>(p->segments().front()->window.length()));
  EXPECT_TRUE(whole.live.empty());
  // At the ends the source goes on beyond the segment, and those neighbours are live.
  EXPECT_FALSE(p->recipe(0, shelf_.get()).live.empty());
  EXPECT_GT(worst(t), 40);
}

TEST_F(Taps, ACopyOfASourceKeepsItsColoursWhateverItsTags) {
  struct Case {
    const char* name;
    const char* options;
    double least_db;
  };
  // Hard edges of saturated colours in 4:2:0 are the worst there is: other places of chroma between lines show in them.
  // Untagged SD is BT.601 by its size, and its half is no smaller for that; full range, BT.2020 and odd chroma.
  for (const Case& c : {Case{"sd.mp4", "-s 720x576 -pix_fmt yuv420p -c:v libx264", 38},
                        Case{"full.mp4", "-s 640x360 -vf scale=out_range=full,format=yuv420p -color_range pc -c:v libx264", 38},
                        Case{"wide.mp4", "-s 1280x720 -pix_fmt yuv420p10le -colorspace bt2020nc -color_primaries bt2020 -color_trc bt2020-10 -c:v libx265 -x265-params log-level=none", 34},
                        Case{"rgb.mov", "-s 640x360 -pix_fmt rgb24 -c:v png", 36},
                        Case{"turned.mov", "-s 640x360 -pix_fmt yuv420p -c:v libx264 -metadata:s:v rotate=90", 38}}) {
    const std::string file = (dir_ / c.name).string();
    ASSERT_TRUE(test::shell(std::string("ffmpeg -v error -y -f lavfi -i testsrc2=s=1280x720:r=24:d=0.5 ") + c.options + " '" + file + "'")) << c.name;
    const TimelinePtr t = Build(640, 360).media("x", file, 12).track("V1").segment("a", "x", 0, 10).done();
    const ProgramPtr p = program(t);
    ASSERT_EQ(p->segments().front()->content, Content::source) << c.name;
    const auto made = copy_source(*p->segments().front(), *shelf_, {}, 1, {}, {});
    ASSERT_TRUE(made) << c.name << ": " << made.error().text();
    EXPECT_EQ(shelf_->route(*p).count(FrameState::half), 10u) << c.name;
    EXPECT_GT(psnr(shown(p, 6), shown(p, 6, true)), c.least_db) << c.name;
    empty();
  }
}

TEST_F(Taps, OddRastersAndTransparencyFindAFormThatKeepsThem) {
  const std::string file = (dir_ / "odd.mkv").string();
  ASSERT_TRUE(test::shell("ffmpeg -v error -y -f lavfi -i testsrc2=s=321x181:r=24:d=0.5 -pix_fmt yuv444p -c:v ffv1 '" + file + "'"));
  const TimelinePtr t = Build(321, 181).media("x", file, 12).track("V1").segment("a", "x", 0, 12, {test::blur("soft", 1)}).done();
  const ProgramPtr p = program(t);
  const auto made = prerender(p, *shelf_, {{0, 12}}, {}, {});
  ASSERT_TRUE(made) << made.error().text();
  EXPECT_EQ(shelf_->pieces().front().form, Form::ffv1_444);
  EXPECT_EQ(shelf_->route(*p).count(FrameState::sealed), 12u);
  EXPECT_GT(psnr(shown(p, 5), shown(p, 5, true)), 50);
}

// Premultiplied pictures stay what they are: half transparent edges of the upper layer.
// Bars in one place of a frame say nothing about what is fetched in another.
TEST_F(Taps, WhatElseIsOfflineInAFrameIsNoFaultOfWhatIsFetched) {
  const TimelinePtr t = Build(320, 180).media("m", clip_, 40).media("gone", (dir_ / "gone.mov").string(), 40)
                            .track("V1").segment("a", "m", 5, 24, {test::blur("soft", 3), test::cdl("grade", 1.2)})
                            .track("V2").segment("b", "gone", 0, 24, {test::an("transform", {{"scale", 0.3}})}).done();
  const ProgramPtr p = program(t);
  ASSERT_TRUE(cache_stack(p, *shelf_, "a", 1, {}, {}));
  ASSERT_EQ(shelf_->route(*p).count(FrameState::half), 24u);
  for (const FrameResult& r : run_flat_out(p, shelf_.get(), {0, 1, 2, 3}, 2)) {
    EXPECT_TRUE(r.offline);
    EXPECT_EQ(r.state, FrameState::half);
  }
  EXPECT_EQ(shelf_->route(*p).count(FrameState::half), 24u) << "a whole piece was called damaged";
}

TEST_F(Taps, TransparencyIsKeptThroughAForm) {
  const TimelinePtr t = timeline();
  const ProgramPtr p = program(t);
  PrerenderOptions o;
  o.form = Form::ffv1_alpha;
  ASSERT_TRUE(bake(p, *shelf_, "comp", {}, o, {}));
  const auto inner = p->segments().back()->inner;
  ASSERT_TRUE(inner);
  EXPECT_GT(worst(t), 50);
}

// Half floats (IEEE 754, binary16) have 11 bits and hold 65504: overshoot that whole numbers about black and white cannot
// keep is kept.
TEST_F(Taps, WhatLiesBeyondAFormIsKeptAsHalfFloats) {
  const Json rising{{"amount", {{"keys", {{{"at", 14}, {"value", 0.0}}, {{"at", 23}, {"value", 4.0}}}}}}, {"sigma", 3.0}};
  const TimelinePtr t = Build(320, 180).media("m", clip_, 40).track("V1").segment("a", "m", 0, 24, {test::an("sharpen", rising), test::cdl("grade", 1.2)}).done();
  const ProgramPtr p = program(t);
  const auto made = cache_stack(p, *shelf_, "a", 1, {}, {});
  ASSERT_TRUE(made) << made.error().text();
  EXPECT_EQ(made->frames, 24);
  EXPECT_EQ(made->already_sealed, 0);
  EXPECT_EQ(shelf_->route(*p).count(FrameState::half), 24u);
  EXPECT_TRUE(std::ranges::any_of(shelf_->pieces(), [](const Chunk& c) { return c.form == Form::exr_half; }));
  EXPECT_GT(worst(t), 40);
  EXPECT_GT(psnr(shown(p, 23), shown(p, 23, true)), 55) << "the last frame is one of half floats";
}

// Where pictures are processed as light, whole numbers would band in the dark and cut the bright.
TEST_F(Taps, LightIsKeptAsHalfFloats) {
  const auto t = std::make_shared<Timeline>(*timeline());
  t->working_space = "ACEScg";
  const ProgramPtr p = program(t);
  ASSERT_TRUE(cache_stack(p, *shelf_, "a", 1, {}, {}));
  ASSERT_TRUE(bake(p, *shelf_, "comp", {}, {}, {}));
  for (const Chunk& c : shelf_->pieces()) EXPECT_TRUE(form_is_float(c.form)) << form_name(c.form);
  EXPECT_EQ(shelf_->route(*p).count(FrameState::half), 24u);
  EXPECT_GT(worst(t), 55);
}

// Two threads copy a source, and the copy is done when the later one is: a price goes by that one, and by what it decodes to get there.
TEST(Copying, SharesFramesEvenlyAmongItsThreads) {
  MediaInfo media;
  media.frames = 400, media.keys = {0, 50, 100, 150};
  const std::vector<CopyWay> two = copy_ways(media, {{0, 120}}, 2);
  ASSERT_EQ(two.size(), 2u);
  EXPECT_EQ(two[0].frames, 60);
  EXPECT_EQ(two[1].frames, 60);
  EXPECT_EQ(two[0].before, 0);
  EXPECT_EQ(two[1].before, 10) << "from the key frame at 50 to 60";
  EXPECT_EQ(two[1].pieces, (std::vector<FrameRange>{{60, 84}, {84, 108}, {108, 120}}));
  EXPECT_EQ(copy_ways(media, {{0, 20}}, 2).size(), 1u) << "too few for two";
  EXPECT_TRUE(copy_ways(media, {}, 2).empty());
  // What lies between is there already.
  const std::vector<CopyWay> parts = copy_ways(media, {{0, 10}, {100, 150}}, 2);
  ASSERT_EQ(parts.size(), 2u);
  EXPECT_EQ(parts[0].pieces, (std::vector<FrameRange>{{0, 10}, {100, 120}}));
  EXPECT_EQ(parts[1].pieces, (std::vector<FrameRange>{{120, 150}}));
  EXPECT_EQ(parts[1].before, 20);
  // Nothing is left over that would be a piece of one frame.
  for (Frames all = 1; all < 200; ++all)
    for (int workers = 1; workers < 6; ++workers) {
      Frames sum = 0;
      for (const CopyWay& way : copy_ways(media, {{0, all}}, workers)) {
        EXPECT_EQ(way.pieces.size(), cut_in_pieces({0, way.frames}).size()) << all << " frames, " << workers << " threads";
        sum += way.frames;
      }
      EXPECT_EQ(sum, all);
    }
}

// A source of floating-point light is copied with its highlights.
TEST_F(Taps, ACopyOfLightKeepsItsHighlights) {
  for (Frames f = 0; f < 12; ++f) {
    Image picture = synthetic_frame("hands", f, 320, 180, 7, 0);
    for (std::size_t i = 0; i < picture.floats(); i += 4)
      for (std::size_t c = 0; c < 3; ++c) picture.data()[i + c] *= 6;
    ASSERT_TRUE(write_picture(picture, dir_ / fmt::format("l.{:04d}.exr", f + 1)));
  }
  const TimelinePtr t =
      Build(320, 180).media("l", sequence_path((dir_ / "l.%04d.exr").string(), 1, 12, {24, 1}), 12).track("V1").segment("a", "l", 0, 12, {test::cdl("grade", 1.1)}).done();
  const ProgramPtr p = program(t);
  ASSERT_TRUE(p->segments().front()->media.linear);
  const auto made = copy_source(*p->segments().front(), *shelf_, {}, 1, {}, {});
  ASSERT_TRUE(made) << made.error().text();
  EXPECT_EQ(shelf_->pieces().front().form, Form::exr_half);
  Decoders decoders;
  StageLog log;
  EXPECT_EQ(shelf_->route(*p).count(FrameState::half), 12u);
  EXPECT_GT(psnr(render_frame(*p, 7, shelf_.get(), decoders, log), render_frame(*p, 7, nullptr, decoders, log)), 55);
}

}  // namespace
}  // namespace gc
