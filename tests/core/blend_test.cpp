// Compositing against Porter and Duff (1984) and the W3C recommendation "Compositing and Blending Level 1".
#include "media/blend.h"

#include "support.h"

namespace gc {
namespace {

using test::near;
using test::pixel;

Image one(float r, float g, float b, float a) {
  Image i = Image::filled(8, 8, r * a, g * a, b * a, a);
  return i;
}

/// The layer on the backdrop, as unpremultiplied colours and alphas go in, premultiplied out.
std::vector<float> mix(const char* mode, std::vector<float> b, std::vector<float> s, float opacity = 1) {
  Image canvas = one(b[0], b[1], b[2], b[3]);
  const Image layer = one(s[0], s[1], s[2], s[3]);
  composite(canvas, layer, opacity, *blend_named(mode));
  return pixel(canvas, 3, 3);
}

// Porter and Duff (1984), "over": Co = Cs + Cb (1 − αs).
TEST(Blend, NormalIsPorterAndDuffsOver) {
  EXPECT_THAT(mix("normal", {1, 0, 0, 1}, {0, 0, 1, 0.25}), near({0.75f, 0, 0.25f, 1}));
  EXPECT_THAT(mix("normal", {1, 0, 0, 0.5}, {0, 1, 0, 0.5}), near({0.25f, 0.5f, 0, 0.75f}));
  EXPECT_THAT(mix("normal", {1, 0, 0, 1}, {0, 0, 1, 1}, 0.4f), near({0.6f, 0, 0.4f, 1}));
}

// Porter and Duff (1984), "plus".
TEST(Blend, PlusAdds) {
  EXPECT_THAT(mix("plus", {0.7f, 0.2f, 0, 1}, {0.6f, 0.1f, 0.3f, 1}), near({1.3f, 0.3f, 0.3f, 1}));
}

struct Case {
  const char* mode;
  float b, s, expected;
};
class Separable : public testing::TestWithParam<Case> {};

// W3C, section 9 "Separable blend modes": values of B(cb, cs) worked out by hand from its formulas.
INSTANTIATE_TEST_SUITE_P(
    W3C, Separable,
    testing::Values(Case{"multiply", 0.5f, 0.4f, 0.2f}, Case{"screen", 0.5f, 0.4f, 0.7f},
                    Case{"overlay", 0.25f, 0.4f, 0.2f}, Case{"overlay", 0.75f, 0.4f, 0.7f},
                    Case{"darken", 0.3f, 0.6f, 0.3f}, Case{"lighten", 0.3f, 0.6f, 0.6f},
                    Case{"colour-dodge", 0.3f, 0.5f, 0.6f}, Case{"colour-dodge", 0.0f, 1.0f, 0.0f},
                    Case{"colour-dodge", 0.8f, 0.9f, 1.0f}, Case{"colour-burn", 0.7f, 0.6f, 0.5f},
                    Case{"colour-burn", 1.0f, 0.0f, 1.0f}, Case{"colour-burn", 0.4f, 0.0f, 0.0f},
                    Case{"hard-light", 0.4f, 0.25f, 0.2f}, Case{"hard-light", 0.4f, 0.75f, 0.7f},
                    Case{"soft-light", 0.5f, 0.25f, 0.375f},
                    // cs > 0.5, cb > 0.25: cb + (2cs − 1)(√cb − cb) = 0.64 + 0.5 (0.8 − 0.64)
                    Case{"soft-light", 0.64f, 0.75f, 0.72f},
                    // cb ≤ 0.25: D = ((16·0.2 − 12)·0.2 + 4)·0.2 = 0.448
                    Case{"soft-light", 0.2f, 0.75f, 0.324f}, Case{"difference", 0.3f, 0.8f, 0.5f},
                    Case{"exclusion", 0.3f, 0.8f, 0.62f}));

TEST_P(Separable, MatchesTheFormulaOnOpaquePictures) {
  const Case& c = GetParam();
  EXPECT_NEAR(mix(c.mode, {c.b, c.b, c.b, 1}, {c.s, c.s, c.s, 1})[1], c.expected, 1e-6);
}

// co = cs αs (1 − αb) + αs αb B(cb, cs) + (1 − αs) αb cb, with αs = 0.5, αb = 0.8, and αo = αs + αb (1 − αs).
TEST_P(Separable, MatchesTheFormulaOnTranslucentPictures) {
  const Case& c = GetParam();
  const float expected = c.s * 0.5f * 0.2f + 0.4f * c.expected + 0.5f * 0.8f * c.b;
  const auto out = mix(c.mode, {c.b, c.b, c.b, 0.8f}, {c.s, c.s, c.s, 0.5f});
  EXPECT_NEAR(out[0], expected, 1e-6);
  EXPECT_NEAR(out[3], 0.9f, 1e-6);
}

float lum(const std::vector<float>& v) { return 0.3f * v[0] + 0.59f * v[1] + 0.11f * v[2]; }

// W3C, section 10 "Non-separable blend modes": what each keeps, by its definition.
TEST(Blend, NonSeparableModesKeepWhatTheyPromise) {
  const std::vector<float> b{0.6f, 0.3f, 0.2f, 1}, s{0.2f, 0.5f, 0.7f, 1};
  EXPECT_NEAR(lum(mix("hue", b, s)), lum(b), 1e-5);
  EXPECT_NEAR(lum(mix("saturation", b, s)), lum(b), 1e-5);
  EXPECT_NEAR(lum(mix("colour", b, s)), lum(b), 1e-5);
  EXPECT_NEAR(lum(mix("luminosity", b, s)), lum(s), 1e-5);
  // SetLum(cs, lum(cb)) by hand: d = 0.379 − 0.432 = −0.053.
  EXPECT_THAT(mix("colour", b, s), near({0.147f, 0.447f, 0.647f, 1}));
  // SetLum(cb, lum(cs)): d = 0.053.
  EXPECT_THAT(mix("luminosity", b, s), near({0.653f, 0.353f, 0.253f, 1}));
}

TEST(Blend, NamesGoBothWays) {
  for (std::size_t i = 0; i < blend_names().size(); ++i)
    EXPECT_EQ(blend_named(blend_names()[i]), static_cast<Blend>(i));
  EXPECT_FALSE(blend_named("dissolve"));
}

class GoldenBlend : public testing::TestWithParam<const char*> {};
INSTANTIATE_TEST_SUITE_P(NumPy, GoldenBlend, testing::Values("multiply", "screen", "difference"));

// Golden pictures by NumPy in double precision; see tests/golden/make.py. 16-bit files: within 2 of 65535.
TEST_P(GoldenBlend, MatchesThePictureOfAnotherProgram) {
  Image canvas = test::load_picture(test::golden("source.png"));
  const Image layer = test::load_picture(test::golden("other.png"));
  composite(canvas, layer, 0.7f, *blend_named(GetParam()));
  const Image expected = test::load_picture(test::golden(std::string("blend-") + GetParam() + "-70.png"));
  EXPECT_LT(test::greatest_difference(canvas, expected), 2.0 / 65535);
}

TEST(Matte, AlphaLumaAndTheirInverse) {
  const Image matte = one(1, 0, 0, 0.5f);  // luma of red is 0.2126, premultiplied by its alpha
  const auto with = [&](bool luma, bool inverted) {
    Image layer = one(0.8f, 0.4f, 0.2f, 1);
    apply_matte(layer, matte, luma, inverted);
    return pixel(layer, 1, 1)[3];
  };
  EXPECT_NEAR(with(false, false), 0.5, 1e-6);
  EXPECT_NEAR(with(false, true), 0.5, 1e-6);
  EXPECT_NEAR(with(true, false), 0.1063, 1e-6);
  EXPECT_NEAR(with(true, true), 0.8937, 1e-6);
}

TEST(Transitions, ADipPassesThroughItsColour) {
  const float colour[3] = {0.1f, 0.2f, 0.3f};
  const auto at = [&](float t) {
    Image a = one(1, 0, 0, 1);
    dip(a, one(0, 1, 0, 1), t, colour);
    return pixel(a, 2, 2);
  };
  EXPECT_THAT(at(0), near({1, 0, 0, 1}));
  EXPECT_THAT(at(0.25f), near({0.55f, 0.1f, 0.15f, 1}));
  EXPECT_THAT(at(0.5f), near({0.1f, 0.2f, 0.3f, 1}));
  EXPECT_THAT(at(1), near({0, 1, 0, 1}));
}

TEST(Transitions, AWipeRunsAlongItsAngle) {
  const auto at = [&](float t, float angle) {
    Image a = Image::filled(64, 32, 0, 0, 0, 1);
    wipe(a, Image::filled(64, 32, 1, 1, 1, 1), t, angle, 0.02f, 0, 0, 64, 32);
    return a;
  };
  const Image right = at(0.5f, 0), down = at(0.5f, 90);
  EXPECT_THAT(pixel(right, 5, 16), near({1, 1, 1, 1}));
  EXPECT_THAT(pixel(right, 60, 16), near({0, 0, 0, 1}));
  EXPECT_THAT(pixel(down, 32, 3), near({1, 1, 1, 1}));
  EXPECT_THAT(pixel(down, 32, 29), near({0, 0, 0, 1}));
  EXPECT_THAT(pixel(at(0, 0), 1, 1), near({0, 0, 0, 1}, 0.01f));
  EXPECT_THAT(pixel(at(1, 0), 62, 1), near({1, 1, 1, 1}, 0.01f));
}

TEST(Transitions, AWipeOfARegionIsPartOfTheWholeWipe) {
  Image whole = Image::filled(64, 32, 0, 0, 0, 1), part = Image::filled(20, 10, 0, 0, 0, 1);
  wipe(whole, Image::filled(64, 32, 1, 1, 1, 1), 0.4f, 30, 0.3f, 0, 0, 64, 32);
  wipe(part, Image::filled(20, 10, 1, 1, 1, 1), 0.4f, 30, 0.3f, 22, 11, 64, 32);
  for (int y = 0; y < 10; ++y)
    for (int x = 0; x < 20; ++x) EXPECT_EQ(pixel(part, x, y), pixel(whole, x + 22, y + 11));
}

}  // namespace
}  // namespace gc
