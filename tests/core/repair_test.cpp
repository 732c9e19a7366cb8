// Repairs: what they take away, and what they leave.
#include "effects/registry.h"
#include "render/agree.h"
#include "support.h"

namespace gc {
namespace {

using test::pixel;

double rms(const Image& a, const Image& b) {
  double sum = 0;
  for (std::size_t i = 0; i < a.floats(); i += 4) {
    const double d = a.data()[i] - b.data()[i];
    sum += d * d;
  }
  return std::sqrt(sum / (static_cast<double>(a.floats()) / 4));
}

Image clean(Frames n) { return synthetic_frame("bowl", n, 320, 180, 7, 0); }
Image noisy(Frames n) { return synthetic_frame("bowl", n, 320, 180, 7, 0.05f); }

TEST(TemporalNr, TakesMoreNoiseAwayTheMoreFramesItSees) {
  const double before = rms(noisy(10), clean(10));
  double last = before;
  for (const int frames : {1, 2, 4}) {
    const double after = rms(
        show_effect(temporal_nr_effect(), {{"frames", frames}, {"strength", 0.15}}, noisy, 10), clean(10));
    EXPECT_LT(after, last * 0.97) << frames;
    last = after;
  }
  EXPECT_LT(last, before * 0.6);
}

TEST(TemporalNr, FollowsWhatMovesInsteadOfSmearingIt) {
  // A texture that moves 2.5 pixels a frame: reduction along the motion must leave it nearly as it was, where
  // a mean over the same frames smears it.
  const auto moving = [](Frames n) {
    Image i(320, 180);
    for (int y = 0; y < 180; ++y)
      for (int x = 0; x < 320; ++x) {
        const double u = x - 2.5 * static_cast<double>(n);
        const float v = static_cast<float>(0.5 + 0.2 * std::sin(u / 4) * std::cos(y / 5.0) +
                                           0.15 * std::sin((u + y) / 11));
        float* p = i.row(y) + 4 * x;
        p[0] = p[1] = p[2] = v;
        p[3] = 1;
      }
    return i;
  };
  const double kept =
      rms(show_effect(temporal_nr_effect(), {{"frames", 2}, {"strength", 0.1}}, moving, 10), moving(10));
  Image mean = moving(10);
  for (const Frames d : {8, 9, 11, 12}) {
    const Image other = moving(d);
    for (std::size_t i = 0; i < mean.floats(); ++i) mean.data()[i] += other.data()[i];
  }
  for (std::size_t i = 0; i < mean.floats(); ++i) mean.data()[i] /= 5;
  EXPECT_LT(kept, rms(mean, moving(10)) / 3);
}

TEST(TemporalNr, UsesEachNeighbourOnceHoweverManyFramesWantIt) {
  test::TempFolder folder;
  MediaCatalog media;
  const std::string m = test::movie(folder / "m.mp4", Form::h264_long_gop, 256, 144, 40);
  test::Build b;
  b.media("m", m, 40)
      .track("V1")
      .segment("a", "m", 0, 30,
               {test::an("spatial_nr", {{"radius", 2}}), test::an("temporal_nr", {{"frames", 3}})});
  const ProgramPtr p = Program::compile(b.done(), media);
  std::vector<Frames> frames;
  for (Frames f = 8; f < 20; ++f) frames.push_back(f);
  std::size_t repairs = 0, converts = 0;
  for (const FrameResult& r : run_flat_out(p, nullptr, frames, 2))
    for (const StageSample& s : r.stages)
      repairs += s.kind == StageKind::repair, converts += s.kind == StageKind::convert;
  // Twelve frames and three more each side; and twelve temporal stages.
  EXPECT_EQ(converts, 18u);
  EXPECT_EQ(repairs, 18u + 12u);
}

TEST(TemporalNr, IsTheSamePictureWhetherNeighboursAreSharedOrNot) {
  test::TempFolder folder;
  MediaCatalog media;
  const std::string m = test::movie(folder / "m.mov", Form::vc3_hqx, 256, 144, 20);
  test::Build b;
  b.media("m", m, 20)
      .track("V1")
      .segment("a", "m", 0, 20,
               {test::an("temporal_nr", {{"frames", 2}}), test::an("deflicker", {{"frames", 1}})});
  const ProgramPtr p = Program::compile(b.done(), media);
  std::vector<FrameResult> together = run_flat_out(p, nullptr, {0, 1, 2, 10, 11, 12, 19}, 2, true);
  for (const FrameResult& r : together)
    EXPECT_EQ(test::greatest_difference(r.image, test::frame_of(*p, r.frame)), 0) << r.frame;
}

TEST(StrongNr, TakesNoiseAwayAndKeepsEdges) {
  const Image out = show_effect(strong_nr_effect(), {{"search", 5}, {"strength", 0.08}}, noisy, 10);
  EXPECT_LT(rms(out, clean(10)), rms(noisy(10), clean(10)) * 0.75);
}

TEST(Deflicker, EvensOutAPulsingLight) {
  const auto pulsing = [](Frames n) {
    const float v = 0.4f * (1 + 0.2f * static_cast<float>(n % 2 ? 1 : -1));
    return Image::filled(128, 72, v, v, v, 1);
  };
  const auto seen = [&](Frames n) {
    return pixel(show_effect(deflicker_effect(), {{"frames", 4}}, pulsing, n), 50, 50)[0];
  };
  EXPECT_NEAR(std::abs(seen(10) - seen(11)), 0.16 / 9, 0.01) << "a pulse of 0.16 shrinks to a ninth";
}

TEST(Dust, RemovesWhatIsOnOneFrameOnlyAndNothingElse) {
  const auto dusty = [](Frames n) {
    Image i = clean(n);
    if (n == 10)
      for (int y = 60; y < 66; ++y)
        for (int x = 100; x < 107; ++x)
          for (int c = 0; c < 3; ++c) i.row(y)[4 * x + c] = 1.5f;
    return i;
  };
  const Image out = show_effect(dust_effect(), {{"threshold", 0.2}}, dusty, 10);
  EXPECT_LT(pixel(out, 103, 63)[0], 1.0f);
  double elsewhere = 0;
  for (int y = 0; y < 40; ++y)
    for (int x = 0; x < 320; ++x)
      elsewhere =
          std::max(elsewhere, static_cast<double>(std::abs(pixel(out, x, y)[0] - pixel(clean(10), x, y)[0])));
  EXPECT_LT(elsewhere, 1e-6);
}

}  // namespace
}  // namespace gc
