// Measuring in the real pipeline, and what the notebook keeps.
#include "seat/seat.h"
#include "support.h"

namespace gc {
namespace {

using test::Build;

class Measuring : public testing::Test {
 protected:
  Measuring() { notebook_ = *Notebook::open(dir_ / "n.sqlite"); }
  ProgramPtr program(double sigma, double saturation) {
    const Effect soft = test::blur("b", sigma), grade = test::cdl("g", saturation);
    return Program::compile(Build()
                                .media("m", movie_, 60)
                                .track("V1")
                                .segment("plain", "m", 0, 24)
                                .segment("graded", "m", 24, 24, {soft, grade})
                                .segment("again", "m", 10, 24)
                                .done(),
                            media_);
  }
  MeasureReport run(const ProgramPtr& p, double seconds = 4) {
    auto r = measure(p, *notebook_, {seconds, 0.05, 2, false}, {});
    EXPECT_TRUE(r) << (r ? "" : r.error().text());
    return r ? *r : MeasureReport{};
  }
  test::TempFolder dir_;
  MediaCatalog media_;
  std::shared_ptr<Notebook> notebook_;
  std::string movie_ = test::movie(dir_ / "m.mp4", Form::h264_long_gop, 256, 144, 60);
};

TEST_F(Measuring, LearnsEachKindOfFrameOnce) {
  const ProgramPtr p = program(2, 1.2);
  const MeasureReport r = run(p);
  EXPECT_EQ(r.kinds, 2) << "the first and the third segment are the same work";
  EXPECT_GE(r.frames, 24);
  for (const Frames f : {0, 30}) {
    EXPECT_GE(notebook_->frames(frame_key(p->stages(f))).size(), 8u);
    for (const StageRef& s : p->stages(f))
      EXPECT_FALSE(notebook_->stage_samples(s.key).empty()) << stage_name(s.kind);
  }
  EXPECT_FALSE(notebook_->frames(frame_key(p->sealed_stages())).empty());
  EXPECT_FALSE(notebook_->encode(encode_key(256, 144)).empty());
  EXPECT_FALSE(notebook_->entries(frame_key(p->stages(0))).empty());
}

TEST_F(Measuring, StagesAddUpToTheFrame) {
  const ProgramPtr p = program(6, 1.2);
  run(p);
  std::vector<float> whole;
  for (const FrameSample& s : notebook_->frames(frame_key(p->stages(30))))
    whole.push_back(s.fetch_ms + s.process_ms);
  double sum = 0;
  for (const StageRef& s : p->stages(30)) sum += median_of(notebook_->stage_samples(s.key)).median;
  const double frame = median_of(whole).median;
  EXPECT_GT(sum, 0.6 * frame);
  EXPECT_LT(sum, 1.3 * frame);
}

TEST_F(Measuring, ANewGradeNeedsNoNewMeasurementANewBlurDoes) {
  run(program(2, 1.2));
  const ProgramPtr regraded = program(2, 0.7), softened = program(5, 1.2);
  EXPECT_FALSE(notebook_->frames(frame_key(regraded->stages(30))).empty());
  EXPECT_TRUE(notebook_->frames(frame_key(softened->stages(30))).empty());
  EXPECT_TRUE(forecast(*regraded, *notebook_, {}, {0, 72}, {}).fully_measured);
  const Forecast f = forecast(*softened, *notebook_, {}, {0, 72}, {});
  EXPECT_FALSE(f.fully_measured);
  EXPECT_GT(f.intervals[1].process_ms, f.intervals[0].process_ms) << "estimated from the smaller blur";
}

TEST_F(Measuring, StopsWhenTold) {
  int calls = 0;
  auto r = measure(program(2, 1.2), *notebook_, {30, 0.0001, 2, false},
                   [&](const MeasureProgress&) { return ++calls < 3; });
  ASSERT_TRUE(r);
  EXPECT_TRUE(r->cancelled);
  EXPECT_LT(r->seconds, 15);
}

TEST_F(Measuring, KeepsToItsTime) {
  auto r = measure(program(2, 1.2), *notebook_, {1.0, 0.00001, 2, false}, {});
  ASSERT_TRUE(r);
  EXPECT_LT(r->seconds, 10) << "one round and no more";
  EXPECT_LT(r->within, r->kinds);
}

TEST_F(Measuring, AnEmptyTimelineIsNoWork) {
  const MeasureReport r = run(Program::compile(Build().track("V1").done(), media_));
  EXPECT_EQ(r.kinds, 0);
  EXPECT_EQ(r.frames, 0);
}

TEST_F(Measuring, TheNotebookKeepsTheLatestSamplesOnly) {
  const Hash128 key = hash_text("k");
  for (int i = 0; i < 1000; ++i) {
    const FrameSample s{1, static_cast<float>(i)};
    notebook_->add_frames(key, std::span(&s, 1));
  }
  const auto kept = notebook_->frames(key);
  EXPECT_EQ(kept.size(), 256u);
  EXPECT_EQ(kept.back().process_ms, 999);
  EXPECT_EQ(kept.front().process_ms, 744);
}

TEST_F(Measuring, WorkThatWasNeverMeasuredIsEstimatedByItsLaw) {
  const LawName* blur = law_name("test blur", "Blur", StageKind::effect, {"Mpixel", "Mpixel × taps"});
  const auto place = [&](float mpix, float taps) {
    return StageRef{StageKind::effect, Hasher().add(fmt::format("{} {}", mpix, taps)).done(), 0, blur, {mpix, mpix * taps}};
  };
  const auto cost = [](const StageRef& s) { return 0.5f + 3 * s.terms[0] + 0.4f * s.terms[1]; };
  for (const float mpix : {0.25f, 0.5f, 1.0f, 2.0f})
    for (const float taps : {3.0f, 9.0f, 31.0f}) {
      const StageRef s = place(mpix, taps);
      notebook_->add_stage(s, std::vector<StageSample>(10, StageSample{StageKind::effect, s.key, 9, cost(s), 0}));
    }
  const StageRef wanted = place(0.8f, 15);
  const StageCosts c = notebook_->stage(wanted);
  EXPECT_EQ(c.origin, Origin::law);
  EXPECT_NEAR(c.ms.front(), cost(wanted), 0.03 * static_cast<double>(cost(wanted)));
  EXPECT_TRUE(c.inside);
  EXPECT_FALSE(notebook_->stage(place(40, 15)).inside);
  StageRef other = wanted;
  other.key = hash_text("other"), other.law = law_name("test other", "Other", StageKind::effect, {"Mpixel"});
  EXPECT_EQ(notebook_->stage(other).origin, Origin::unknown);
}

TEST_F(Measuring, AuditsAreRemembered) {
  notebook_->add_audit({"T", "2026-01-01T00:00:00Z", 10, 12, 0.9, 3, 2});
  auto again = Notebook::open(dir_ / "n.sqlite");
  ASSERT_TRUE(again);
  ASSERT_EQ((*again)->audits().size(), 1u);
  EXPECT_EQ(track_record(**again).substr(0, 34), "Of 3 spans called to drop, 2 did (");
  EXPECT_EQ(track_record(*notebook_), track_record(**again));
}

TEST(TheSeat, IsWhatTheMachineIs) {
  const Seat s = look_at_seat();
  EXPECT_FALSE(s.processor.empty());
  EXPECT_GE(s.processors, 1);
  EXPECT_EQ(s.processors, default_workers());
  EXPECT_GT(s.memory_bytes, std::uint64_t{500} << 20);
  EXPECT_LE(s.memory_free_bytes, s.memory_bytes);
  std::set<std::string> mounts;
  for (const Volume& v : s.volumes) {
    EXPECT_TRUE(mounts.insert(v.mount).second) << v.mount << " is listed twice";
    EXPECT_LE(v.free_bytes, v.bytes);
  }
  const Json j = to_json(s);
  EXPECT_EQ(j["processors"], s.processors);
}

TEST(TheSeat, FindsTheVolumeOfAPathThatIsNotThereYet) {
  const Volume v = volume_of("/tmp/not/yet/there");
  EXPECT_FALSE(v.mount.empty());
  EXPECT_GT(v.bytes, 0u);
}

TEST(TheSeat, MeasuresAVolumeAndLeavesNothingBehind) {
  const test::TempFolder dir;
  const auto speed = measure_volume(dir.path(), 16u << 20);
  ASSERT_TRUE(speed) << speed.error().text();
  EXPECT_GT(speed->write_mb_s, 1);
  EXPECT_GT(speed->read_mb_s, 1);
  EXPECT_TRUE(fs::is_empty(dir.path()));
  EXPECT_FALSE(measure_volume("/proc", 1u << 20)) << "where nothing can be written it says so";
}

}  // namespace
}  // namespace gc
