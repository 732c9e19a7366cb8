// Effects against formulas and independent implementations.
#include <OpenColorIO/OpenColorIO.h>

#include "effects/registry.h"
#include "support.h"

using gc::test::context_of;

namespace OCIO = OCIO_NAMESPACE;

namespace gc {
namespace {

std::unique_ptr<EffectInstance> make(const EffectType& t, const Json& p, int w = 64, int h = 36) {
  return t.make(p, w, h);
}

Image ramp(int w = 64, int h = 36) {
  Image i(w, h);
  for (int y = 0; y < h; ++y)
    for (int x = 0; x < w; ++x) {
      float* p = i.row(y) + 4 * x;
      p[0] = -0.1f + 1.3f * static_cast<float>(x) / static_cast<float>(w),
      p[1] = static_cast<float>(y) / static_cast<float>(h), p[2] = 0.5f * p[0] + 0.3f, p[3] = 1;
    }
  return i;
}

const Json kGrade{{"slope", {1.2, 0.9, 1.05}},
                  {"offset", {0.03, -0.02, 0.01}},
                  {"power", {0.85, 1.1, 1.4}},
                  {"saturation", 1.25}};

// ASC CDL 1.2: out = clamp(in × slope + offset) ^ power, then saturation about Rec. 709 luma.
TEST(Cdl, FollowsItsFormula) {
  const Image in = ramp();
  Image out = in.copy();
  make(cdl_effect(), kGrade)->apply(out, context_of(out));
  for (std::size_t i = 0; i < in.floats(); i += 4) {
    double c[3];
    for (std::size_t k = 0; k < 3; ++k)
      c[k] = std::pow(
          std::clamp(in.data()[i + k] * kGrade["slope"][k].get<double>() + kGrade["offset"][k].get<double>(),
                     0.0, 1.0),
          kGrade["power"][k].get<double>());
    const double luma = 0.2126 * c[0] + 0.7152 * c[1] + 0.0722 * c[2];
    for (std::size_t k = 0; k < 3; ++k)
      ASSERT_NEAR(out.data()[i + k], std::clamp(luma + 1.25 * (c[k] - luma), 0.0, 1.0), 2e-6);
    ASSERT_EQ(out.data()[i + 3], 1);
  }
}

// Every power that the control can be set to, against the C library's pow in double precision.
TEST(Cdl, EveryPowerOfItsRangeFollowsItsFormula) {
  std::vector<float> values{0.0f, 1e-12f, 1e-9f, 1e-6f, 1e-4f, 1.0f};
  for (int i = 1; i < 4096; ++i) values.push_back(static_cast<float>(i) / 4096.0f);
  double worst = 0;
  for (double power = 0.05; power <= 16; power *= 1.07) {
    Image picture(static_cast<int>(values.size()), 1);
    for (std::size_t i = 0; i < values.size(); ++i)
      for (std::size_t k = 0; k < 4; ++k) picture.data()[4 * i + k] = k < 3 ? values[i] : 1.0f;
    make(cdl_effect(), {{"power", {power, power, power}}}, picture.width(), 1)->apply(picture, context_of(picture));
    // The control keeps single precision.
    const auto kept = static_cast<double>(static_cast<float>(power));
    for (std::size_t i = 0; i < values.size(); ++i)
      worst = std::max(worst, std::abs(static_cast<double>(picture.data()[4 * i]) - std::pow(static_cast<double>(values[i]), kept)));
  }
  EXPECT_LE(worst, 2e-7) << "what the kernel's comment says";
  EXPECT_GT(worst, 0) << "a polynomial is never exact: nothing was compared";
}

// Reference: OpenColorIO's CDLTransform in ASC style.
TEST(Cdl, AgreesWithOpenColorIO) {
  OCIO::CDLTransformRcPtr cdl = OCIO::CDLTransform::Create();
  const double sop[9] = {1.2, 0.9, 1.05, 0.03, -0.02, 0.01, 0.85, 1.1, 1.4};
  cdl->setStyle(OCIO::CDL_ASC);
  cdl->setSOP(sop);
  cdl->setSat(1.25);
  const auto cpu =
      OCIO::Config::CreateRaw()->getProcessor(cdl)->getOptimizedCPUProcessor(OCIO::OPTIMIZATION_LOSSLESS);
  Image ours = ramp(), theirs = ramp();
  make(cdl_effect(), kGrade)->apply(ours, context_of(ours));
  OCIO::PackedImageDesc pixels(theirs.data(), 64, 36, 4);
  cpu->apply(pixels);
  for (std::size_t i = 0; i < ours.floats(); ++i) ASSERT_NEAR(ours.data()[i], theirs.data()[i], 1e-5);
}

TEST(Cdl, NeutralValuesAreNoStage) {
  EXPECT_TRUE(make(cdl_effect(), Json::object())->identity());
  EXPECT_FALSE(make(cdl_effect(), kGrade)->identity());
}

TEST(Cdl, GradesTheColourOfTransparentPixelsNotTheirProduct) {
  Image half = Image::filled(8, 8, 0.2f, 0.2f, 0.2f, 0.5f);  // premultiplied: the colour is 0.4
  make(cdl_effect(), {{"offset", {0.1, 0.1, 0.1}}})->apply(half, context_of(half));
  EXPECT_NEAR(half.data()[0], 0.25f, 1e-5);
}

// Gaussian (definition): impulse response exp(−x²/2σ²), normalised; the response must fall as the formula
// does.
TEST(Blur, HasTheShapeOfAGaussian) {
  Image dot = Image::filled(101, 101, 0, 0, 0, 1);
  dot.row(50)[4 * 50] = 1;
  make(blur_effect(), {{"sigma", 5.0}}, 101, 101)->apply(dot, context_of(dot));
  const auto at = [&](int dx) { return static_cast<double>(dot.row(50)[4 * (50 + dx)]); };
  for (const int dx : {3, 5, 8, 10}) EXPECT_NEAR(at(dx) / at(0), std::exp(-dx * dx / 50.0), 0.01);
  double sum = 0;
  for (int y = 0; y < 101; ++y)
    for (int x = 0; x < 101; ++x) sum += dot.row(y)[4 * x];
  EXPECT_NEAR(sum, 1, 1e-3) << "light is neither lost nor made";
}

TEST(SpatialNr, TakesNoiseAwayAndLeavesEdges) {
  const Image clean = [] {
    Image i = Image::filled(128, 72, 0.3f, 0.3f, 0.3f, 1);
    for (int y = 0; y < 72; ++y)
      for (int x = 64; x < 128; ++x)
        for (int c = 0; c < 3; ++c) i.row(y)[4 * x + c] = 0.8f;
    return i;
  }();
  Image noisy = clean.copy();
  std::srand(3);
  for (std::size_t i = 0; i < noisy.floats(); ++i)
    if (i % 4 != 3)
      noisy.data()[i] += 0.04f * (static_cast<float>(std::rand()) / static_cast<float>(RAND_MAX) - 0.5f);
  const auto error = [&](const Image& i) {
    double sum = 0;
    for (std::size_t k = 0; k < i.floats(); ++k) sum += std::pow(i.data()[k] - clean.data()[k], 2);
    return std::sqrt(sum / static_cast<double>(i.floats()));
  };
  const double before = error(noisy);
  make(spatial_nr_effect(), {{"radius", 4}, {"strength", 0.1}}, 128, 72)->apply(noisy, context_of(noisy));
  EXPECT_LT(error(noisy), before / 3);
  EXPECT_NEAR(noisy.row(30)[4 * 63], 0.3f, 0.02) << "the edge must stay where it is";
  EXPECT_NEAR(noisy.row(30)[4 * 64], 0.8f, 0.02);
}

TEST(TransformEffect, PlacesAPictureInThePicture) {
  Image white = Image::filled(160, 90, 1, 1, 1, 1);
  make(transform_effect(), {{"x", 0.75}, {"y", 0.25}, {"scale", 0.25}, {"opacity", 0.5}}, 160, 90)
      ->apply(white, context_of(white));
  EXPECT_FLOAT_EQ(white.row(22)[4 * 120 + 3], 0.5f);
  EXPECT_FLOAT_EQ(white.row(22)[4 * 120], 0.5f) << "premultiplied";
  EXPECT_FLOAT_EQ(white.row(70)[4 * 20 + 3], 0);
  int covered = 0;
  for (int i = 0; i < 160 * 90; ++i) covered += white.data()[4 * i + 3] > 0;
  EXPECT_NEAR(covered, 160 * 90 / 16, 60);
}

TEST(Contrast, TurnsAboutItsPivot) {
  Image i = Image::filled(4, 4, 0.2f, 0.435f, 0.8f, 1);
  make(contrast_effect(), {{"contrast", 1.5}, {"pivot", 0.435}})->apply(i, context_of(i));
  EXPECT_NEAR(i.data()[0], (0.2 - 0.435) * 1.5 + 0.435, 1e-6);
  EXPECT_NEAR(i.data()[1], 0.435, 1e-6);
  EXPECT_NEAR(i.data()[2], (0.8 - 0.435) * 1.5 + 0.435, 1e-6);
}

TEST(SaturationEffect, KeepsLumaAndReachesGrey) {
  Image i = Image::filled(4, 4, 0.9f, 0.2f, 0.4f, 1);
  make(saturation_effect(), {{"amount", 0}})->apply(i, context_of(i));
  const double luma = 0.2126 * 0.9 + 0.7152 * 0.2 + 0.0722 * 0.4;
  for (std::size_t c = 0; c < 3; ++c) EXPECT_NEAR(i.data()[c], luma, 1e-6);
}

TEST(SharpenEffect, IsTheUnsharpMask) {
  Image picture = ramp(), soft = ramp(), sharp = ramp();
  make(blur_effect(), {{"sigma", 2.0}})->apply(soft, context_of(soft));
  make(sharpen_effect(), {{"sigma", 2.0}, {"amount", 0.7}})->apply(sharp, context_of(sharp));
  for (std::size_t i = 0; i < picture.floats(); ++i)
    ASSERT_NEAR(sharp.data()[i],
                i % 4 == 3 ? 1 : picture.data()[i] + 0.7 * (picture.data()[i] - soft.data()[i]), 1e-5);
}

TEST(DirectionalBlurEffect, SpreadsAlongItsLineOnly) {
  Image dot = Image::filled(61, 61, 0, 0, 0, 1);
  dot.row(30)[4 * 30] = 1;
  make(directional_blur_effect(), {{"length", 20}, {"angle", 0}}, 61, 61)->apply(dot, context_of(dot));
  EXPECT_NEAR(dot.row(30)[4 * 24], 0.05, 0.003);
  EXPECT_NEAR(dot.row(33)[4 * 30], 0, 1e-9);
  EXPECT_NEAR(dot.row(30)[4 * 45], 0, 1e-6);
}

TEST(GlowEffect, LightensAroundBrightPartsAndNeverDarkens) {
  Image i = Image::filled(128, 72, 0.1f, 0.1f, 0.1f, 1);
  for (int x = 60; x < 68; ++x)
    for (int y = 32; y < 40; ++y) i.row(y)[4 * x] = 1;
  const Image before = i.copy();
  make(glow_effect(), {{"threshold", 0.6}, {"sigma", 6}, {"amount", 2}}, 128, 72)->apply(i, context_of(i));
  EXPECT_GT(i.row(36)[4 * 72], 0.13f);
  EXPECT_NEAR(i.row(5)[4 * 5], 0.1f, 1e-4);
  for (std::size_t k = 0; k < i.floats(); ++k) ASSERT_GE(i.data()[k], before.data()[k] - 1e-6);
}

TEST(VignetteEffect, LeavesTheMiddleAndDarkensTheCorners) {
  for (const auto& [w, h] : {std::pair{128, 72}, std::pair{127, 71}}) {
    Image i = Image::filled(w, h, 0.5f, 0.5f, 0.5f, 1);
    make(vignette_effect(), {{"amount", 0.6}, {"size", 0.4}, {"softness", 0.6}}, w, h)
        ->apply(i, context_of(i));
    EXPECT_FLOAT_EQ(i.row(h / 2)[4 * (w / 2)], 0.5f);
    EXPECT_NEAR(i.row(0)[0], 0.5 * 0.4, 0.01);
    for (int y = 0; y < h; ++y)
      ASSERT_FLOAT_EQ(i.row(y)[0], i.row(h - 1 - y)[4 * (w - 1)]) << "it is symmetrical";
  }
}

TEST(EveryEffect, KeepsSizeAlphaAndOpacityAndIsSafeAtItsLimits) {
  for (const EffectType* type : effect_types()) {
    for (const double where : {0.0, 0.5, 1.0}) {
      Json p = Json::object();
      for (const ParamSpec& s : type->params) p[s.name] = s.least + where * (s.most - s.least);
      if (type->id == "spatial_nr" || type->id == "blur") p = Json::object();  // their limits only take long
      Image i = ramp();
      make(*type, p)->apply(i, context_of(i));
      EXPECT_EQ(i.width(), 64) << type->id;
      for (std::size_t k = 0; k < i.floats(); ++k)
        ASSERT_TRUE(std::isfinite(i.data()[k])) << type->id << " at " << where;
      if (i.opaque)
        for (std::size_t k = 3; k < i.floats(); k += 4) ASSERT_NEAR(i.data()[k], 1, 1e-5) << type->id;
    }
    EXPECT_EQ(effect_type(type->id), type);
    EXPECT_FALSE(type->label.empty());
  }
}

// Porter and Duff (1984): A over B = A + B (1 − αA), premultiplied.
TEST(Composite, IsPorterDuffOver) {
  Image below = Image::filled(8, 8, 0.2f, 0.4f, 0.6f, 1);
  const Image above = Image::filled(8, 8, 0.3f, 0.1f, 0.0f, 0.5f);
  composite_over(below, above, 0.8f);
  EXPECT_NEAR(below.data()[0], 0.3 * 0.8 + 0.2 * (1 - 0.4), 1e-6);
  EXPECT_NEAR(below.data()[2], 0.6 * 0.6, 1e-6);
  EXPECT_NEAR(below.data()[3], 1, 1e-6);
}

TEST(TitleGenerator, PaintsTextWhereItIsAskedTo) {
  Image i(320, 180);
  make(title_generator(), {{"text", "Kiln"}, {"size", 0.3}, {"x", 0.5}, {"y", 0.5}}, 320, 180)
      ->apply(i, context_of(i));
  double middle = 0, edge = 0;
  for (int y = 0; y < 180; ++y)
    for (int x = 0; x < 320; ++x)
      (x > 60 && x < 260 && y > 50 && y < 130 ? middle : edge) += i.row(y)[4 * x + 3];
  EXPECT_GT(middle, 500);
  EXPECT_LT(edge, 20);
  EXPECT_FALSE(i.opaque);
}

TEST(Params, OutOfRangeAndUnknownAreReportedAndTamed) {
  const Json p{{"sigma", 1e9}, {"colour", "red"}};
  EXPECT_EQ(param(blur_effect(), p, "sigma"), 60);
  EXPECT_EQ(param_remarks(blur_effect(), p).size(), 2u);
  EXPECT_EQ(param(blur_effect(), {{"sigma", "wide"}}, "sigma"), 4);
  EXPECT_EQ(param(blur_effect(), Json::array(), "sigma"), 4);
}

TEST(CostKey, DependsOnWhatCostsAndNothingElse) {
  EXPECT_EQ(cost_key(cdl_effect(), {{"slope", {1.3, 1, 0.9}}}, 64, 36),
            cost_key(cdl_effect(), Json::object(), 64, 36));
  EXPECT_NE(cost_key(cdl_effect(), {{"power", {1.3, 1, 0.9}}}, 64, 36),
            cost_key(cdl_effect(), Json::object(), 64, 36))
      << "a power costs more than all the rest";
  EXPECT_NE(cost_key(blur_effect(), {{"sigma", 2}}, 64, 36), cost_key(blur_effect(), {{"sigma", 3}}, 64, 36));
  EXPECT_NE(cost_key(blur_effect(), {{"sigma", 2}}, 64, 36),
            cost_key(blur_effect(), {{"sigma", 2}}, 128, 72));
}

}  // namespace
}  // namespace gc
