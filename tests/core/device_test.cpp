// Processor and accelerator: the same picture, transfers counted, and a device that fails loses nothing.
#include "render/device.h"

#include "render/agree.h"
#include "support.h"

namespace gc {
namespace {

using test::an;
using test::Build;

RenderOptions on_accelerator() {
  RenderOptions o;
  o.device = Device::accelerator;
  return o;
}

TEST(Devices, EveryEffectAgreesWithinItsToleranceOrSaysWhyItRunsOnOneOnly) {
  test::TempFolder folder;
  test::put(folder / "l.cube", made_up_cube(9));
  const auto all = check_devices(160, 90, (folder / "l.cube").string());
  EXPECT_EQ(all.size(), effect_types().size() + generator_types().size());
  for (const Agreement& a : all) {
    EXPECT_TRUE(a.ran_on_processor) << a.type->id;
    if (a.type->accelerator && accelerator_available()) {
      EXPECT_TRUE(a.ran_on_accelerator) << a.type->id << ": " << a.why_not;
      EXPECT_LE(a.greatest, a.type->tolerance) << a.type->id;
    } else {
      EXPECT_FALSE(a.why_not.empty()) << a.type->id;
    }
  }
}

class Accelerated : public testing::Test {
 protected:
  void SetUp() override {
    if (!accelerator_available()) GTEST_SKIP() << "no OpenCL device on this machine";
    break_accelerator_after(0);
  }
  void TearDown() override { break_accelerator_after(0); }
  static Build stack() {
    Build b(128, 72);
    b.track("V1").generator(
        "g", "gradient", 20, {},
        {an("cdl", {{"slope", {1.2, 1, 0.8}}}), an("blur", {{"sigma", 3}}), an("sharpen", {}),
         an("secondary", {{"slope", {0.5, 1, 1}}}), an("glow", {}), an("saturation", {{"amount", 0.5}})});
    return b;
  }
  MediaCatalog media_;
};

TEST_F(Accelerated, TheGraphMakesAsFewTransfersAsItCan) {
  const ProgramPtr p = Program::compile(stack().done(), media_, on_accelerator());
  // Two runs of accelerated effects around one that has only the processor: up and down twice.
  const auto stages = p->stages(3);
  EXPECT_EQ(std::count_if(stages.begin(), stages.end(),
                          [](const StageRef& s) { return s.kind == StageKind::transfer; }),
            4);
  Decoders d;
  StageLog log;
  const Image there = render_frame(*p, 3, nullptr, d, log);
  EXPECT_EQ(std::count_if(log.begin(), log.end(),
                          [](const StageSample& s) { return s.kind == StageKind::transfer; }),
            4);
  const Image here = test::frame_of(*Program::compile(stack().done(), media_), 3);
  EXPECT_LT(test::greatest_difference(here, there), 2e-3);
}

TEST_F(Accelerated, WhatHasOnlyTheProcessorIsNamedSo) {
  const ProgramPtr p = Program::compile(stack().done(), media_, on_accelerator());
  int named = 0;
  for (const Owner& o : p->owners()) named += o.label.find("processor only") != std::string::npos;
  EXPECT_EQ(named, 1);
}

TEST_F(Accelerated, PointOperationsAloneDoNotEarnATransfer) {
  Build b(128, 72);
  b.track("V1").solid("a", 5, 0.2, 0.3, 0.4,
                      {an("cdl", {{"saturation", 2}}), an("contrast", {{"contrast", 2}})});
  const auto stages = Program::compile(b.done(), media_, on_accelerator())->stages(1);
  EXPECT_EQ(std::count_if(stages.begin(), stages.end(),
                          [](const StageRef& s) { return s.kind == StageKind::transfer; }),
            0);
}

TEST_F(Accelerated, OneEffectsOwnChoiceOverridesTheSetting) {
  Build b(128, 72);
  Effect e = test::blur("b", 4);
  e.device = "accelerator";
  b.track("V1").solid("a", 5, 0.2, 0.3, 0.4, {e});
  EXPECT_EQ(Program::compile(b.done(), media_)->segments()[0]->effects[0].device, Device::accelerator);
  e.device = "processor";
  Build c(128, 72);
  c.track("V1").solid("a", 5, 0.2, 0.3, 0.4, {e});
  EXPECT_EQ(Program::compile(c.done(), media_, on_accelerator())->segments()[0]->effects[0].device,
            Device::processor);
}

TEST_F(Accelerated, ADeviceThatFailsInTheMiddleLosesNoFrameAndSaysSo) {
  const ProgramPtr p = Program::compile(stack().done(), media_, on_accelerator());
  const ProgramPtr plain = Program::compile(stack().done(), media_);
  for (const int n : {1, 2, 3, 5}) {
    break_accelerator_after(n);
    std::vector<Frames> frames{0, 1, 2, 3, 4, 5};
    const auto results = run_flat_out(p, nullptr, frames, 2, true);
    ASSERT_EQ(results.size(), frames.size());
    std::string said;
    for (const FrameResult& r : results) {
      EXPECT_LT(test::greatest_difference(r.image, test::frame_of(*plain, r.frame)), 2e-3)
          << n << " frame " << r.frame;
      for (const std::string& t : r.trouble) said = t;
    }
    EXPECT_THAT(said, testing::HasSubstr("no frame was lost"));
    EXPECT_FALSE(accelerator_working());
  }
}

}  // namespace
}  // namespace gc
