// The render graph: what is seen, what it depends on, and what is left out.
#include "support.h"

namespace gc {
namespace {

using test::Build;
using test::frame_of;

TEST(Render, MixesADissolveEvenly) {
  MediaCatalog media;
  const ProgramPtr p = Program::compile(
      Build().track("V1").solid("a", 20, 0, 0, 0).dissolve(5, 5).solid("b", 20, 1, 1, 1).done(), media);
  float last = 0;
  for (Frames f = 14; f < 26; ++f) {
    const float v = frame_of(*p, f).data()[0];
    if (f < 15) EXPECT_EQ(v, 0);
    else if (f >= 25) EXPECT_EQ(v, 1);
    else EXPECT_NEAR(v, static_cast<float>(f - 14) / 11, 1e-5);
    EXPECT_GE(v, last);
    last = v;
  }
}

TEST(Render, StacksTracksUpwardAndSkipsWhatIsHidden) {
  const test::TempFolder dir;
  const std::string file = test::movie(dir / "m.mp4", Form::h264_intra, 256, 144, 12);
  MediaCatalog media;
  const ProgramPtr hidden = Program::compile(Build()
                                                 .media("m", file, 12)
                                                 .track("V1")
                                                 .segment("under", "m", 0, 10)
                                                 .track("V2")
                                                 .solid("over", 10, 0.5, 0.5, 0.5)
                                                 .done(),
                                             media);
  EXPECT_TRUE(hidden->recipe(3, nullptr).requests.empty()) << "a hidden layer is not even decoded";
  EXPECT_NEAR(frame_of(*hidden, 3).data()[0], 0.5f, 1e-6);
  const Effect inset{"i", "transform", {{"scale", 0.5}}, true, true, {}};
  const ProgramPtr seen = Program::compile(Build()
                                               .media("m", file, 12)
                                               .track("V1")
                                               .segment("under", "m", 0, 10)
                                               .track("V2")
                                               .solid("over", 10, 0.5, 0.5, 0.5, {inset})
                                               .done(),
                                           media);
  EXPECT_EQ(seen->recipe(3, nullptr).requests.size(), 1u);
  const Image i = frame_of(*seen, 3);
  EXPECT_NEAR(i.row(72)[4 * 128], 0.5f, 1e-6);
  EXPECT_EQ(i.row(72)[4 * 128 + 3], 1);
}

TEST(Render, ACompositionLooksTheSameAsItsLayersInPlace) {
  const Effect inset{"i", "transform", {{"scale", 0.5}, {"opacity", 0.5}}, true, true, {}};
  MediaCatalog media;
  const TimelinePtr flat = Build()
                               .track("V1")
                               .solid("a", 10, 0.2, 0.3, 0.4)
                               .track("V2")
                               .solid("b", 10, 0.9, 0.1, 0.1, {inset})
                               .done();
  const ProgramPtr direct = Program::compile(flat, media);
  const ProgramPtr nested =
      Program::compile(Build().composition("c", flat->tracks).track("V1").use("u", "c", 10).done(), media);
  const Image x = frame_of(*direct, 4), y = frame_of(*nested, 4);
  for (std::size_t i = 0; i < x.floats(); ++i) ASSERT_NEAR(x.data()[i], y.data()[i], 1e-6);
}

TEST(Render, OfflineMediaAreHatchedAndNeverFatal) {
  MediaCatalog media;
  const ProgramPtr p = Program::compile(Build()
                                            .media("gone", "/nowhere/gone.mov")
                                            .track("V1")
                                            .segment("a", "gone", 0, 10, {test::cdl("g", 1.2)})
                                            .done(),
                                        media);
  EXPECT_EQ(p->segments()[0]->content, Content::offline);
  EXPECT_THAT(p->segments()[0]->trouble, testing::HasSubstr("gone.mov"));
  const Image i = frame_of(*p, 3), h = hatched(256, 144);
  EXPECT_EQ(std::memcmp(i.data(), h.data(), h.floats() * 4), 0);
}

class Fingerprints : public testing::Test {
 protected:
  test::TempFolder dir_;
  std::string file_ = test::movie(dir_ / "m.mp4", Form::h264_intra, 256, 144, 40);
  MediaCatalog media_;
  TimelinePtr timeline(double saturation, Frames gap = 0) {
    Build b;
    b.media("m", file_, 40).track("V1");
    if (gap) b.gap(gap);
    return b.segment("a", "m", 0, 10, {test::cdl("g", saturation)})
        .segment("b", "m", 10, 10, {test::cdl("h", 1.1)})
        .done();
  }
};

TEST_F(Fingerprints, ChangeWithTheGradeOfTheirSegmentOnly) {
  const ProgramPtr x = Program::compile(timeline(1.2), media_), y = Program::compile(timeline(1.3), media_);
  for (Frames f = 0; f < 10; ++f) EXPECT_NE(x->fingerprint(f), y->fingerprint(f));
  for (Frames f = 10; f < 20; ++f) EXPECT_EQ(x->fingerprint(f), y->fingerprint(f));
}

TEST_F(Fingerprints, DoNotDependOnThePlaceInTime) {
  const ProgramPtr x = Program::compile(timeline(1.2), media_),
                   y = Program::compile(timeline(1.2, 33), media_);
  for (Frames f = 0; f < 20; ++f) EXPECT_EQ(x->fingerprint(f), y->fingerprint(f + 33));
  std::set<std::string> all;
  for (Frames f = 0; f < 20; ++f) all.insert(x->fingerprint(f).hex());
  EXPECT_EQ(all.size(), 20u);
}

TEST_F(Fingerprints, ChangeWhenTheFileDoes) {
  const Hash128 before = Program::compile(timeline(1.2), media_)->fingerprint(3);
  test::movie(dir_ / "m.mp4", Form::h264_intra, 256, 144, 40, "kiln");
  EXPECT_NE(Program::compile(timeline(1.2), media_)->fingerprint(3), before);
}

TEST_F(Fingerprints, IgnoreWhatIsWithoutEffect) {
  const TimelinePtr t = timeline(1.2);
  auto s = std::make_shared<Segment>(*find_segment(*t, "a"));
  s->note = "a note", s->name = "renamed";
  s->stack.push_back(test::blur("none", 0));
  s->stack.push_back({"u", "someone.else", Json::object(), true, false, {}});
  EXPECT_EQ(Program::compile(with_segment(*t, s), media_)->fingerprint(3),
            Program::compile(t, media_)->fingerprint(3));
}

}  // namespace
}  // namespace gc
