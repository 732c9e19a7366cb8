// Generators, grain, and what can be made at any frame without those before it.
#include "effects/registry.h"
#include "render/track.h"
#include "support.h"
#include "timeline/keys.h"

namespace gc {
namespace {

using test::an;
using test::Build;
using test::pixel;

Image made(const EffectType& type, const Json& params, Frames frame, int w = 320, int h = 180) {
  Image i(w, h);
  type.make(params, w, h)->apply(i, test::context_of(i, frame));
  return i;
}

class Deterministic : public testing::TestWithParam<const EffectType*> {};
INSTANTIATE_TEST_SUITE_P(All, Deterministic,
                         testing::Values(&particles_generator(), &noise_generator(), &gradient_generator(),
                                         &solid_generator(), &title_generator()));

TEST_P(Deterministic, AnyFrameIsTheSameHoweverOneComesToIt) {
  const EffectType& type = *GetParam();
  const auto instance = type.make({{"text", "Kiln"}}, 320, 180);
  Image played(320, 180), direct(320, 180);
  for (Frames f = 0; f <= 40; ++f) instance->apply(played, test::context_of(played, f));
  type.make({{"text", "Kiln"}}, 320, 180)->apply(direct, test::context_of(direct, 40));
  EXPECT_EQ(test::greatest_difference(played, direct), 0);
  const Image later = made(type, {{"text", "Kiln"}}, 41);
  EXPECT_EQ(test::greatest_difference(direct, later) > 0, type.moving) << "moves exactly when it says so";
}

TEST(Particles, ThereAreThousandsAndTheyStayOnTheirWay) {
  const Image few = made(particles_generator(), {{"count", 200}}, 50),
              many = made(particles_generator(), {{"count", 8000}}, 50);
  const auto light = [](const Image& i) {
    double sum = 0;
    for (std::size_t k = 3; k < i.floats(); k += 4) sum += i.data()[k];
    return sum;
  };
  EXPECT_GT(light(many), 10 * light(few));
  EXPECT_FALSE(many.opaque);
}

TEST(Gradient, RunsFromOneColourToTheOther) {
  const Image g = made(gradient_generator(), {{"from", {0, 0, 0}}, {"to", {1, 0.5, 0.25}}, {"angle", 0}}, 0);
  EXPECT_THAT(pixel(g, 160, 90), test::near({0.5f, 0.25f, 0.125f, 1}, 0.01f));
  EXPECT_LT(pixel(g, 0, 90)[0], 0.01f);
  EXPECT_GT(pixel(g, 319, 90)[0], 0.99f);
  const Image down = made(gradient_generator(), {{"from", {0, 0, 0}}, {"to", {1, 1, 1}}, {"angle", 90}}, 0);
  EXPECT_LT(pixel(down, 160, 0)[0], 0.01f);
}

TEST(FractalNoise, FillsItsRangeAndIsSmooth) {
  const Image n = made(noise_generator(), {{"size", 60}, {"octaves", 4}}, 3);
  float least = 1, most = 0;
  for (std::size_t i = 0; i < n.floats(); i += 4)
    least = std::min(least, n.data()[i]), most = std::max(most, n.data()[i]);
  EXPECT_GE(least, 0);
  EXPECT_LE(most, 1);
  EXPECT_GT(most - least, 0.4);
  for (int x = 1; x < 320; ++x) EXPECT_LT(std::abs(pixel(n, x, 50)[0] - pixel(n, x - 1, 50)[0]), 0.25);
}

TEST(Grain, HasItsAmountAndNoMean) {
  Image i = Image::filled(320, 180, 0.5f, 0.5f, 0.5f, 1);
  grain_effect().make({{"amount", 0.05}, {"colour", 0}}, 320, 180)->apply(i, test::context_of(i, 7));
  double sum = 0, squares = 0;
  const double n = static_cast<double>(i.floats()) / 4;
  for (std::size_t k = 0; k < i.floats(); k += 4) {
    sum += i.data()[k] - 0.5, squares += std::pow(i.data()[k] - 0.5, 2);
    EXPECT_EQ(i.data()[k], i.data()[k + 1]) << "without colour all channels move together";
  }
  EXPECT_NEAR(sum / n, 0, 0.001);
  // In the mid-tones the weight is 0.25 + 3 · 0.5 · 0.5 = 1.
  EXPECT_NEAR(std::sqrt(squares / n), 0.05, 0.002);
}

TEST(Title, CharactersThatTheFontsLackAreCountedAndNamed) {
  const auto good = title_generator().make({{"text", "The Kiln Year"}}, 320, 180),
             bad = title_generator().make({{"text", "Kiln \xF3\xB0\x80\x80"}}, 320,
                                          180);  // a private-use character
  EXPECT_EQ(good->trouble(), "");
  EXPECT_THAT(bad->trouble(), testing::HasSubstr("lack 1"));
}

TEST(Lens, StraightensWhatItBent) {
  // A small distortion and its first-order inverse bring the middle of the picture nearly back.
  Image i = made(noise_generator(), {{"size", 80}, {"octaves", 2}}, 0);
  const Image before = i.copy();
  for (const double k : {0.06, -0.06})
    lens_effect().make({{"k1", k}}, 320, 180)->apply(i, test::context_of(i));
  for (int y = 60; y < 120; y += 7)
    for (int x = 110; x < 210; x += 7) EXPECT_NEAR(pixel(i, x, y)[0], pixel(before, x, y)[0], 0.05);
}

TEST(Defocus, SpreadsAPointOverADisc) {
  Image dot = Image::filled(101, 101, 0, 0, 0, 1);
  for (int c = 0; c < 3; ++c) dot.row(50)[4 * 50 + c] = 1;
  defocus_effect().make({{"radius", 10}}, 101, 101)->apply(dot, test::context_of(dot));
  const float inside = pixel(dot, 50, 50)[0];
  EXPECT_NEAR(inside, 1 / (3.14159 * 10 * 10), 0.0002);
  EXPECT_NEAR(pixel(dot, 57, 50)[0], inside, 1e-6) << "even over the disc";
  EXPECT_NEAR(pixel(dot, 62, 50)[0], 0, 1e-9) << "and nothing outside";
}

TEST(Stylise, FlattensTextureAndKeepsEdges) {
  Image i(160, 90);
  for (int y = 0; y < 90; ++y)
    for (int x = 0; x < 160; ++x) {
      const float v = (x < 80 ? 0.2f : 0.8f) + ((x + y) % 2 ? 0.04f : -0.04f);
      float* p = i.row(y) + 4 * x;
      p[0] = p[1] = p[2] = v, p[3] = 1;
    }
  stylise_effect().make({{"radius", 5}}, 160, 90)->apply(i, test::context_of(i));
  EXPECT_NEAR(pixel(i, 40, 40)[0], pixel(i, 41, 40)[0], 0.01);
  EXPECT_GT(pixel(i, 82, 40)[0] - pixel(i, 77, 40)[0], 0.5);
}

// Filters of the transform against each other: all place the same picture at the same place.
TEST(Transform, EveryFilterPlacesThePictureAlike) {
  Image ramp(128, 72);
  for (int y = 0; y < 72; ++y)
    for (int x = 0; x < 128; ++x) {
      float* p = ramp.row(y) + 4 * x;
      p[0] = static_cast<float>(x) / 128, p[1] = static_cast<float>(y) / 72, p[2] = 0.5f, p[3] = 1;
    }
  for (const char* filter : {"area", "nearest", "bilinear", "cubic", "lanczos"}) {
    Image i = ramp.copy();
    transform_effect()
        .make({{"scale", 0.5}, {"x", 0.25}, {"y", 0.25}, {"filter", filter}}, 128, 72)
        ->apply(i, test::context_of(i));
    EXPECT_THAT(pixel(i, 32, 18), test::near({0.5f, 0.5f, 0.5f, 1}, 0.02f)) << filter;
    EXPECT_THAT(pixel(i, 100, 60), test::near({0, 0, 0, 0})) << filter;
  }
}

TEST(Transform, TurnsAboutItsAnchor) {
  Image i = Image::filled(100, 100, 0.5f, 0.5f, 0.5f, 1);
  // The top left corner stays where it is; a quarter turn clockwise takes the picture out to the left.
  transform_effect()
      .make({{"x", 0}, {"y", 0}, {"anchor_x", 0}, {"anchor_y", 0}, {"rotation", 90}}, 100, 100)
      ->apply(i, test::context_of(i));
  EXPECT_LT(pixel(i, 50, 50)[3], 0.01f);
}

TEST(Tracker, FollowsAMovingTurningShapeAndWritesKeys) {
  // A textured patch that moves, turns and grows over a still background.
  test::TempFolder folder;
  auto w = MovieWriter::create((folder / "m.mov").string(), Form::vc3_hqx, 320, 180, {24, 1});
  ASSERT_TRUE(w);
  const auto truth = [](Frames f) {
    return std::array{120.0 + 4.0 * static_cast<double>(f), 80.0 + 1.5 * static_cast<double>(f),
                      1.0 * static_cast<double>(f), 1 + 0.01 * static_cast<double>(f)};
  };
  for (Frames f = 0; f < 20; ++f) {
    Image i = Image::filled(320, 180, 0.3f, 0.3f, 0.3f, 1);
    const auto [cx, cy, turn, grow] = truth(f);
    const double c = std::cos(turn * 3.14159265 / 180), s = std::sin(turn * 3.14159265 / 180);
    for (int y = 0; y < 180; ++y)
      for (int x = 0; x < 320; ++x) {
        const double u = ((x - cx) * c + (y - cy) * s) / grow, v = ((y - cy) * c - (x - cx) * s) / grow;
        if (std::abs(u) > 45 || std::abs(v) > 35) continue;
        const auto value = static_cast<float>(0.5 + 0.2 * std::sin(u / 3.1) * std::cos(v / 2.7) +
                                              0.2 * std::sin((u * v) / 90));
        float* p = i.row(y) + 4 * x;
        p[0] = p[1] = p[2] = value;
      }
    ASSERT_TRUE((*w)->write(i));
  }
  ASSERT_TRUE((*w)->finish());
  Build b(320, 180);
  Effect e = an("secondary", {{"use_key", 0},
                              {"use_window", 1},
                              {"window_x", 120.0 / 320},
                              {"window_y", 80.0 / 180},
                              {"window_width", 70.0 / 320},
                              {"window_height", 55.0 / 180},
                              {"slope", {1.2, 1, 1}}});
  b.media("m", (folder / "m.mov").string(), 20).track("V1").segment("a", "m", 0, 20, {e});
  MediaCatalog media;
  const auto report = track_shape(b.done(), media, "a", "secondary", 0);
  ASSERT_TRUE(report) << report.error().text();
  EXPECT_EQ(report->frames, 20);
  const Json& params = find_segment(*report->timeline, "a")->stack[0].params;
  for (const Frames f : {5, 10, 19}) {
    const auto [cx, cy, turn, grow] = truth(f);
    EXPECT_NEAR(value_at(params["window_x"], static_cast<double>(f)).get<double>() * 320, cx, 2) << f;
    EXPECT_NEAR(value_at(params["window_y"], static_cast<double>(f)).get<double>() * 180, cy, 2) << f;
    EXPECT_NEAR(value_at(params["window_rotation"], static_cast<double>(f)).get<double>(), turn, 2.5) << f;
    EXPECT_NEAR(value_at(params["window_width"], static_cast<double>(f)).get<double>() * 320 / 70, grow, 0.04)
        << f;
  }
  EXPECT_FALSE(track_shape(b.done(), media, "a", "none", 0));
  EXPECT_FALSE(track_shape(b.done(), media, "a", "secondary", 99));
}

TEST(Tracker, SaysSoWhenThereIsNothingToFollow) {
  Build b(320, 180);
  b.track("V1").solid("a", 10, 0.3, 0.3, 0.3, {an("secondary", {{"use_window", 1}, {"slope", {2, 1, 1}}})});
  MediaCatalog media;
  const auto report = track_shape(b.done(), media, "a", "secondary", 0);
  ASSERT_FALSE(report);
  EXPECT_THAT(report.error().text(), testing::HasSubstr("corners or texture"));
}

}  // namespace
}  // namespace gc
