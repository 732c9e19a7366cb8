// Colour against standards, OpenColorIO and FFmpeg.
#include "media/colour.h"

#include <OpenColorIO/OpenColorIO.h>

#include "effects/lut_kernel.h"
#include "effects/registry.h"
#include "support.h"

namespace OCIO = OCIO_NAMESPACE;

namespace gc {
namespace {

std::vector<float> through(const std::string& from, const std::string& to, std::vector<float> rgb) {
  const auto t = colour_transform(from, to);
  EXPECT_TRUE(t) << (t ? "" : t.error().text());
  std::vector<float> p{rgb[0], rgb[1], rgb[2], 0.5f};
  if (t) (*t)->apply(p.data(), 1);
  EXPECT_EQ(p[3], 0.5f) << "alpha stays";
  p.pop_back();
  return p;
}

// ITU-R BT.1886: L = V^2.4.
TEST(Colour, Rec709IsShownByBt1886) {
  EXPECT_THAT(through("Rec. 709", "Linear Rec. 709", {0.5f, 0.5f, 0.5f}),
              test::near({0.189465f, 0.189465f, 0.189465f}, 2e-5f));
  EXPECT_THAT(through("Linear Rec. 709", "Rec. 709", {0.18f, 1, 0}), test::near({0.489440f, 1, 0}, 2e-4f));
}

// SMPTE ST 2084: E = ((c1 + c2 Y^m1) / (1 + c3 Y^m1))^m2, Y in units of 10 000 cd/m². The library's
// display-referred reference puts its white of 1.0 at 100 cd/m².
TEST(Colour, PqFollowsSt2084) {
  const auto code = [](double nits) {
    const double m1 = 2610.0 / 16384, m2 = 2523.0 / 4096 * 128, c1 = 3424.0 / 4096, c2 = 2413.0 / 4096 * 32,
                 c3 = 2392.0 / 4096 * 32, y = std::pow(nits / 10000, m1);
    return static_cast<float>(std::pow((c1 + c2 * y) / (1 + c3 * y), m2));
  };
  EXPECT_THAT(through("Linear Rec. 709", "PQ", {1, 1, 1}),
              test::near({code(100), code(100), code(100)}, 1e-3f));
  EXPECT_THAT(through("Linear Rec. 709", "PQ", {10, 10, 10}),
              test::near({code(1000), code(1000), code(1000)}, 1e-3f));
}

// ITU-R BT.2100, table 5: HLG for a display of 1000 cd/m², system gamma 1.2. Scene light E = (Y / 1000)^(1 / 1.2) for a
// grey of Y cd/m²; E' = √(3 E) up to E = 1/12, else a ln(12 E − b) + c.
TEST(Colour, HlgFollowsBt2100) {
  const auto code = [](double nits) {
    const double a = 0.17883277, b = 1 - 4 * a, c = 0.5 - a * std::log(4 * a), e = std::pow(nits / 1000, 1 / 1.2);
    return static_cast<float>(e <= 1.0 / 12 ? std::sqrt(3 * e) : a * std::log(12 * e - b) + c);
  };
  for (const float linear : {0.1f, 0.5f, 1.0f, 4.0f, 10.0f})
    EXPECT_THAT(through("Linear Rec. 709", "HLG", {linear, linear, linear}),
                test::near({code(100.0 * linear), code(100.0 * linear), code(100.0 * linear)}, 1e-3f))
        << linear;
  // ITU-R BT.2408: HDR reference white, 203 cd/m², is at 75 % of HLG and 58 % of PQ.
  EXPECT_NEAR(through("Linear Rec. 709", "HLG", {2.03f, 2.03f, 2.03f})[0], 0.75, 0.003);
  EXPECT_NEAR(through("Linear Rec. 709", "PQ", {2.03f, 2.03f, 2.03f})[0], 0.58, 0.003);
  EXPECT_THAT(through("HLG", "Linear Rec. 709", {0.75f, 0.75f, 0.75f}), test::near({2.03f, 2.03f, 2.03f}, 0.03f));
}

// ITU-R BT.2087: linear Rec. 709 to Rec. 2020, first row 0.6274 0.3293 0.0433.
TEST(Colour, Rec2020HoldsRec709AsBt2087Says) {
  const auto red = through("Rec. 709", "Rec. 2020", {1, 0, 0});
  EXPECT_NEAR(std::pow(red[0], 2.4), 0.6274, 1e-3);
  EXPECT_NEAR(std::pow(red[1], 2.4), 0.0691, 1e-3);
  EXPECT_NEAR(std::pow(red[2], 2.4), 0.0164, 1e-3);
}

// Academy S-2016-001 (ACEScct): for lin > 0.0078125, code = (log2(lin) + 9.72) / 17.52.
TEST(Colour, AcesCctFollowsItsFormula) {
  EXPECT_THAT(through("ACEScg", "ACEScct", {0.18f, 1, 16}),
              test::near({0.413588f, 0.554795f, (4 + 9.72f) / 17.52f}, 2e-4f));
}

TEST(Colour, ThereAndBackIsTheSame) {
  for (const std::string& space : colour_spaces()) {
    const auto there = through("Rec. 709", space, {0.7f, 0.3f, 0.15f});
    EXPECT_THAT(through(space, "Rec. 709", there), test::near({0.7f, 0.3f, 0.15f}, 1e-3f)) << space;
  }
}

TEST(Colour, AnUnknownSpaceIsRefusedWithTheKnownOnes) {
  const auto t = colour_transform("Rec. 709", "Somewhere");
  ASSERT_FALSE(t);
  EXPECT_THAT(t.error().text(), testing::HasSubstr("ACEScct"));
}

void lut_on(const Image& in, const std::string& interpolation, Image& out) {
  out = in.copy();
  const auto lut =
      lut_effect().make({{"path", test::golden("warm.cube").string()}, {"interpolation", interpolation}},
                        in.width(), in.height());
  EXPECT_EQ(lut->trouble(), "");
  lut->apply(out, test::context_of(out));
}

// Golden pictures by FFmpeg's lut3d at 16 bits (tests/golden/make.py); it cuts off where we round.
TEST(Lut, MatchesFfmpegTetrahedralAndTrilinear) {
  const Image in = test::load_picture(test::golden("source.png"));
  Image out;
  lut_on(in, "tetrahedral", out);
  EXPECT_LT(test::greatest_difference(out, test::load_picture(test::golden("lut-tetrahedral.png"))),
            3.0 / 65535);
  lut_on(in, "trilinear", out);
  EXPECT_LT(test::greatest_difference(out, test::load_picture(test::golden("lut-trilinear.png"))),
            3.0 / 65535);
}

TEST(Lut, OurTetrahedralKernelIsOpenColorIOs) {
  const auto t = lut_transform(test::golden("warm.cube").string(), true);
  ASSERT_TRUE(t);
  std::vector<float> ours, theirs;
  std::uint32_t state = 1;
  for (int i = 0; i < 4096; ++i)
    for (int c = 0; c < 4; ++c) {
      state = state * 1664525 + 1013904223;
      // Also values outside 0…1, and on the boundaries between tetrahedra.
      ours.push_back(i % 7 == 0 ? 0.5f : static_cast<float>(state >> 8) / 16777216.0f * 1.2f - 0.1f);
    }
  theirs = ours;
  (*t)->apply(theirs.data(), 4096);
  std::vector<float> cube;
  for (std::size_t i = 0; i < (*t)->cube().size(); i += 3)
    cube.insert(cube.end(), {(*t)->cube()[i], (*t)->cube()[i + 1], (*t)->cube()[i + 2], 0});
  tetrahedral_pixels(ours.data(), 4096, cube.data(), (*t)->cube_edge());
  for (std::size_t i = 0; i < ours.size(); ++i) ASSERT_NEAR(ours[i], theirs[i], 1e-5) << i;
}

TEST(Lut, WhatIsNoNumberStaysInside) {
  const auto t = lut_transform(test::golden("warm.cube").string(), true);
  std::vector<float> p{NAN, INFINITY, -INFINITY, 1}, cube((*t)->cube().size() / 3 * 4, 0.5f);
  tetrahedral_pixels(p.data(), 1, cube.data(), (*t)->cube_edge());
  SUCCEED() << "no read outside the cube (the sanitizer would say)";
  EXPECT_EQ(p[3], 1);
}

TEST(Lut, OneDimensionAndClfAreRead) {
  test::TempFolder folder;
  test::put(folder / "one.cube", "LUT_1D_SIZE 3\n0 0 0\n0.25 0.5 0.75\n1 1 1\n");
  // Academy S-2014-006 (Common LUT Format): a matrix that swaps red and blue.
  test::put(
      folder / "swap.clf",
      "<?xml version=\"1.0\"?><ProcessList xmlns=\"urn:AMPAS:CLF:v3.0\" id=\"1\" compCLFversion=\"3.0\">"
      "<Matrix inBitDepth=\"32f\" outBitDepth=\"32f\"><Array dim=\"3 3\">0 0 1 0 1 0 1 0 "
      "0</Array></Matrix></ProcessList>");
  const auto run = [&](const char* file) {
    Image i = Image::filled(8, 8, 0.5f, 0.25f, 0.125f, 1);
    const auto lut = lut_effect().make({{"path", (folder / file).string()}}, 8, 8);
    EXPECT_EQ(lut->trouble(), "");
    lut->apply(i, test::context_of(i));
    return test::pixel(i, 3, 3);
  };
  EXPECT_THAT(run("one.cube"), test::near({0.25f, 0.25f, 0.1875f, 1}, 1e-4f));
  EXPECT_THAT(run("swap.clf"), test::near({0.125f, 0.25f, 0.5f, 1}));
}

class BrokenLut : public testing::TestWithParam<const char*> {};
INSTANTIATE_TEST_SUITE_P(Files, BrokenLut,
                         testing::Values("", "LUT_3D_SIZE 4\n0 0 0\n", "LUT_3D_SIZE 2\n0 0 0\nx y z\n",
                                         "<ProcessList", "\x00\x01\x02", "LUT_3D_SIZE 100000\n"));

TEST_P(BrokenLut, PassesThePictureThroughAndSaysWhy) {
  test::TempFolder folder;
  test::put(folder / "broken.cube", GetParam());
  MediaCatalog media;
  const ProgramPtr p = Program::compile(
      test::Build()
          .track("V1")
          .solid("a", 5, 0.3, 0.4, 0.5, {test::an("lut", {{"path", (folder / "broken.cube").string()}})})
          .done(),
      media);
  ASSERT_EQ(p->segments()[0]->remarks.size(), 1u);
  EXPECT_THAT(p->segments()[0]->remarks[0], testing::HasSubstr("broken.cube"));
  EXPECT_THAT(test::pixel(test::frame_of(*p, 2), 3, 3), test::near({0.3f, 0.4f, 0.5f, 1}));
}

TEST(Lut, AChangedFileBreaksTheFingerprint) {
  test::TempFolder folder;
  test::put(folder / "l.cube", "LUT_1D_SIZE 2\n0 0 0\n1 1 1\n");
  MediaCatalog media;
  const TimelinePtr t = test::Build()
                            .track("V1")
                            .solid("a", 5, 0.3, 0.4, 0.5,
                                   {test::an("lut", {{"path", (folder / "l.cube").string()}, {"mix", 0.5}})})
                            .done();
  const Hash128 before = Program::compile(t, media)->fingerprint(1);
  test::put(folder / "l.cube", "LUT_1D_SIZE 2\n0 0 0\n0.5 0.5 0.5\n");
  EXPECT_NE(Program::compile(t, media)->fingerprint(1), before);
}

TEST(Curves, GoThroughTheirPointsAndStayMonotone) {
  Image ramp(256, 4);
  for (int y = 0; y < 4; ++y)
    for (int x = 0; x < 256; ++x)
      for (int c = 0; c < 4; ++c) ramp.row(y)[4 * x + c] = c == 3 ? 1.0f : static_cast<float>(x) / 255;
  curves_effect()
      .make({{"master", {{0, 0}, {0.2, 0.1}, {0.6, 0.8}, {1, 1}}}}, 256, 4)
      ->apply(ramp, test::context_of(ramp));
  EXPECT_NEAR(ramp.row(0)[4 * 51], 0.1, 1e-4);
  EXPECT_NEAR(ramp.row(0)[4 * 153], 0.8, 1e-4);
  for (int x = 1; x < 256; ++x) EXPECT_GE(ramp.row(0)[4 * x], ramp.row(0)[4 * x - 4]);
}

TEST(Secondary, GradesOnlyWhatItsKeyAndWindowChoose) {
  const auto run = [](Json p, std::vector<float> rgb, int x) {
    Image i = Image::filled(100, 100, rgb[0], rgb[1], rgb[2], 1);
    p["slope"] = {0.5, 0.5, 0.5};
    secondary_effect().make(p, 100, 100)->apply(i, test::context_of(i));
    return test::pixel(i, x, 50)[0] / rgb[0];
  };
  const Json orange{{"hue", 30}, {"hue_width", 40}, {"hue_softness", 10}};
  EXPECT_NEAR(run(orange, {0.8f, 0.4f, 0.1f}, 50), 0.5, 1e-4) << "orange is keyed";
  EXPECT_NEAR(run(orange, {0.1f, 0.4f, 0.8f}, 50), 1.0, 1e-4) << "blue is not";
  const Json window{{"use_key", 0}, {"use_window", 1}, {"window_width", 0.4}, {"window_softness", 0.1}};
  EXPECT_NEAR(run(window, {0.5f, 0.5f, 0.5f}, 50), 0.5, 1e-4) << "inside";
  EXPECT_NEAR(run(window, {0.5f, 0.5f, 0.5f}, 5), 1.0, 1e-4) << "outside";
  Json outside = window;
  outside["outside"] = 1;
  EXPECT_NEAR(run(outside, {0.5f, 0.5f, 0.5f}, 5), 0.5, 1e-4);
  EXPECT_NEAR(run(outside, {0.5f, 0.5f, 0.5f}, 50), 1.0, 1e-4);
}

TEST(Secondary, CleanUpRemovesSpecksFromTheKey) {
  Image i = Image::filled(64, 64, 0.1f, 0.2f, 0.6f, 1);
  float* speck = i.row(30) + 4 * 30;
  speck[0] = 0.8f, speck[1] = 0.4f, speck[2] = 0.1f;
  Json p{{"hue", 30}, {"hue_width", 40}, {"slope", {0, 0, 0}}};
  Image plain = i.copy();
  secondary_effect().make(p, 64, 64)->apply(plain, test::context_of(plain));
  EXPECT_LT(test::pixel(plain, 30, 30)[0], 0.05f);
  p["clean_up"] = 1.5;
  secondary_effect().make(p, 64, 64)->apply(i, test::context_of(i));
  EXPECT_GT(test::pixel(i, 30, 30)[0], 0.75f);
}

// Golden pictures by SciPy in double precision (tests/golden/make.py).
TEST(Golden, GaussianAndUnsharpMatchSciPy) {
  const Image in = test::load_picture(test::golden("source.png"));
  Image soft = in.copy(), sharp = in.copy();
  blur_effect().make({{"sigma", 2.5}}, 96, 54)->apply(soft, test::context_of(soft));
  sharpen_effect().make({{"sigma", 2.5}, {"amount", 0.8}}, 96, 54)->apply(sharp, test::context_of(sharp));
  for (std::size_t k = 0; k < sharp.floats(); ++k) sharp.data()[k] = std::clamp(sharp.data()[k], 0.0f, 1.0f);
  EXPECT_LT(test::greatest_difference(soft, test::load_picture(test::golden("gaussian-2.5.png"))), 5e-4);
  EXPECT_LT(test::greatest_difference(sharp, test::load_picture(test::golden("sharpen-0.8-2.5.png"))), 5e-4);
}

}  // namespace
}  // namespace gc
