// Facts of the trade (common practice, no source), as ratios of really made frames. Processor time of the thread
// counts, the median of several turns that go round among what is compared, so that other programs slow all of it alike;
// the bounds are wide, since sharing a core can double a time.
#include "support.h"

namespace gc {
namespace {

using test::Build;

double middle(std::vector<double> v) {
  std::sort(v.begin(), v.end());
  return v[v.size() / 2];
}

/// Processor milliseconds of a frame's stages, those of one kind of work alone when `only` is given.
double cpu_ms(const Program& p, Frames f, std::optional<StageKind> only = {}) {
  Decoders decoders;
  StageLog log;
  (void)render_frame(p, f, nullptr, decoders, log);
  double ms = 0;
  for (const StageSample& s : log) ms += !only || s.kind == *only ? static_cast<double>(s.cpu_ms) : 0;
  return ms;
}

ProgramPtr at_scale(const TimelinePtr& t, int scale) {
  MediaCatalog media;
  RenderOptions o;
  o.scale = scale;
  return Program::compile(t, media, o);
}

// A heavy whole-picture stylising effect at 4096 × 2160: 0.5 to 2.2 frames a second at full scale, about 4 at half,
// 12 to 15 at quarter. As ratios: half is 2 to 8 times as fast as full, a quarter 2.5 to 5 times as fast as half. The test
// takes 1600 × 844. At 4096 × 2160 a frame's pictures are 140 MB each, which the system hands out anew every time: 8990 page
// faults a frame were counted there and 100 to 400 here, and the ratios were 5.3 and 5.4 there, 4.4 to 4.7 and 4.3 to 4.7 here.
TEST(FactsOfTheTrade, StylisingGetsFasterByScaleAsPeopleKnowIt) {
  const TimelinePtr t =
      Build(1600, 844)
          .track("V1")
          .generator("n", "fractal_noise", 8, {}, {test::an("stylise", {{"radius", 4}, {"passes", 1}})})
          .done();
  const ProgramPtr full = at_scale(t, 1), half = at_scale(t, 2), quarter = at_scale(t, 4);
  std::vector<double> a, b, c;
  for (Frames f = 0; f < 7; ++f) {
    a.push_back(cpu_ms(*full, f, StageKind::effect));
    b.push_back(cpu_ms(*half, f, StageKind::effect));
    c.push_back(cpu_ms(*quarter, f, StageKind::effect));
  }
  EXPECT_GE(middle(a) / middle(b), 1.8) << "full " << middle(a) << " ms, half " << middle(b);
  EXPECT_LE(middle(a) / middle(b), 8.5);
  EXPECT_GE(middle(b) / middle(c), 2) << "half " << middle(b) << " ms, quarter " << middle(c);
  EXPECT_LE(middle(b) / middle(c), 8);
}

// Strong noise reduction and a tracked secondary on one clip took 30 frames a second to about 13 on a large
// workstation: together they are dearer than everything else of the frame.
TEST(FactsOfTheTrade, NoiseReductionAndASecondaryAreMoreThanTheRestOfTheFrame) {
  const test::TempFolder dir;
  const std::string clip = test::movie(dir / "m.mp4", Form::h264_long_gop, 1280, 720, 8);
  Json moving = {{"keys", {{{"at", 0}, {"value", 0.3}}, {{"at", 7}, {"value", 0.7}}}}};
  const auto with = [&](std::vector<Effect> stack) {
    return at_scale(Build(1280, 720).media("m", clip, 8).track("V1").segment("a", "m", 0, 8, std::move(stack)).done(), 1);
  };
  const ProgramPtr plain = with({test::cdl("g", 1.1)}),
                   heavy = with({test::an("strong_nr", {{"search", 5}}),
                                 test::an("secondary", {{"use_key", 1}, {"use_window", 1}, {"window_x", moving}}),
                                 test::cdl("g", 1.1)});
  std::vector<double> a, b;
  for (Frames f = 2; f < 5; ++f) a.push_back(cpu_ms(*plain, f)), b.push_back(cpu_ms(*heavy, f));
  EXPECT_GE(middle(b) / middle(a), 30.0 / 13) << middle(a) << " ms became " << middle(b);
}

// One generator layer costs 85 ms a frame beside 1 ms for a plain picture layer: the list has to tell them apart.
TEST(FactsOfTheTrade, AGeneratorLayerStandsOutBesideAPlainOne) {
  const test::TempFolder dir;
  const std::string clip = test::movie(dir / "m.mov", Form::motion_jpeg, 1280, 720, 4);
  const TimelinePtr t = Build(1280, 720)
                            .media("m", clip, 4)
                            .track("V1")
                            .segment("plain", "m", 0, 4)
                            .track("V2")
                            .generator("heavy", "particles", 4, {{"count", 20000}, {"size", 24}})
                            .done();
  MediaCatalog media;
  const ProgramPtr p = Program::compile(t, media);
  const auto notebook = *Notebook::open(dir / "n.sqlite");
  ASSERT_TRUE(measure(p, *notebook, {1, 0.05, 2, true}, {}));
  const Forecast f = forecast(*p, *notebook, {}, {0, 4}, {});
  const std::vector<StageCost> stages = stages_over(f, {0, 4});
  EXPECT_GE(ms_of(stages, "heavy"), 4 * ms_of(stages, "plain"))
      << ms_of(stages, "heavy") << " ms beside " << ms_of(stages, "plain");
}

}  // namespace
}  // namespace gc
