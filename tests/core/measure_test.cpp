// Measuring in the real pipeline, and what the notebook keeps.
#include "measure/calibrate.h"
#include "measure/contention.h"
#include "measure/self_test.h"
#include "render/agree.h"
#include "render/device.h"
#include "seat/volumes.h"
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
  EXPECT_FALSE(notebook_->encode(encode_key(form_that_keeps(Form::vc3_hqx, false, 256, 144), 256, 144)).empty());
  EXPECT_FALSE(notebook_->entries(frame_key(p->stages(0))).empty());
}

// What encoding takes depends on the picture, so every content is tried; what was not is taken for like the others.
TEST_F(Measuring, TriesEncodingOnEveryContent) {
  const ProgramPtr p = Program::compile(
      test::Build(256, 144).track("V1").solid("a", 40, 0.1, 0.2, 0.3, {test::an("cdl", {{"slope", {1.1, 1.0, 0.9}}})}).solid("c", 40, 0.4, 0.2, 0.3).solid("d", 40, 0.1, 0.2, 0.3).done(), media_);
  EXPECT_EQ(content_at(*p, 0), content_at(*p, 90)) << "a grade leaves it as hard as it was";
  EXPECT_NE(content_at(*p, 0), content_at(*p, 50));
  run(p);
  const Timeline& t = *p->timeline();
  const Form form = form_that_keeps(Form::vc3_hqx, false, 256, 144);
  for (const Frames f : {0, 50}) {
    const auto samples = notebook_->encode(encode_key(form, 256, 144, content_at(*p, f)));
    EXPECT_EQ(samples.size(), 5u);
    for (const EncodeSample& s : samples) EXPECT_GT(s.wall_ms, 0);
  }
  EXPECT_EQ(*measure_encoding(p, *notebook_, form, {0, 120}, 2, dir_.path(), 60, {}), 0) << "known";
  EXPECT_EQ(*measure_encoding(p, *notebook_, Form::h264_long_gop, {0, 40}, 2, dir_.path(), 60, {}), 1) << "in another form it is not";
  EXPECT_GT(encode_cost(*notebook_, t, Form::h264_long_gop, 256, 144, content_at(*p, 50)).wall_ms, 0) << "as the one that was tried";
}

TEST_F(Measuring, PicturesAreAlikeToAnEncoderWhereOnlyTheirGradesDiffer) {
  const auto content = [&](std::vector<Effect> stack) {
    return content_at(*Program::compile(test::Build(256, 144).track("V1").solid("a", 40, 0.1, 0.2, 0.3, std::move(stack)).done(), media_), 0);
  };
  const Hash128 plain = content({});
  EXPECT_EQ(content({test::an("cdl", {{"slope", {1.1, 1.0, 0.9}}})}), plain);
  EXPECT_NE(content({test::blur("b", 2)}), plain) << "less detail";
  EXPECT_NE(content({test::blur("b", 2)}), content({test::blur("b", 8)}));
  EXPECT_NE(content({test::an("grain", {{"amount", 0.2}})}), plain) << "grain is made pixel by pixel, as a grade is, and another in each frame";
  const auto shown = [](double sigma) { return test::Build(64, 64).track("V1").solid("x", 40, 0.1, 0.2, 0.3, {test::blur("b", sigma)}).done()->tracks; };
  const ProgramPtr two = Program::compile(
      test::Build(256, 144).composition("one", shown(1)).composition("other", shown(8)).track("V1").use("u", "one", 40).use("v", "other", 40).use("w", "one", 40).done(), media_);
  EXPECT_NE(content_at(*two, 0), content_at(*two, 40));
  EXPECT_EQ(content_at(*two, 0), content_at(*two, 80));
}

// By the formula of docs/model.md, with costs that are stated.
TEST_F(Measuring, APriceCountsWhatEachContentTakesToEncode) {
  const ProgramPtr p = Program::compile(test::Build(256, 144).track("V1").solid("a", 48, 0.1, 0.2, 0.3).solid("c", 48, 0.4, 0.2, 0.3).solid("e", 48, 0.2, 0.2, 0.3).done(), media_);
  for (const Frames f : {0, 50, 100}) {
    notebook_->add_frames(frame_key(p->stages(f)), std::vector<FrameSample>(16, {8, 100}));
    for (const StageRef& s : p->stages(f)) notebook_->add_stage(s, std::vector<StageSample>(8, {s.kind, s.key, 0, 0, s.owner}));
  }
  notebook_->add_encode(encode_key(Form::vc3_hqx, 256, 144, content_at(*p, 0)), std::vector<EncodeSample>(4, {12, 20}));
  notebook_->add_encode(encode_key(Form::vc3_hqx, 256, 144, content_at(*p, 50)), std::vector<EncodeSample>(4, {90, 160}));
  notebook_->add_encode(encode_key(Form::vc3_hqx, 256, 144, content_at(*p, 100)), std::vector<EncodeSample>(4, {60, 10}));
  notebook_->add_encode(piece_key(), std::vector<EncodeSample>(1, {40, 0}));
  ForecastOptions options;
  options.workers = 2;
  const Pricing prices(p, *notebook_, {0, 144}, options);
  EXPECT_NEAR(prices.frames({{0, 48}}, Form::vc3_hqx), 3.15, 0.02) << "the example of docs/model.md";
  EXPECT_NEAR(prices.frames({{48, 96}}, Form::vc3_hqx), (48 * 134 + 80) / 1000.0, 0.03);
  // It mostly waits for a drive: a worker is held all the same.
  EXPECT_NEAR(prices.frames({{96, 144}}, Form::vc3_hqx), (48 * 84 + 80) / 1000.0, 0.03);
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
  // What others on the machine take between two stages is in the frame and in no stage.
  EXPECT_GT(sum, 0.35 * frame);
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

TEST_F(Measuring, RenderedMediaAreMeasuredAtAnyPlaybackScale) {
  const TimelinePtr t = program(2, 1.2)->timeline();
  for (const int scale : {1, 4}) {
    RenderOptions o;
    o.scale = scale;
    const ProgramPtr p = Program::compile(t, media_, o);
    run(p, 2);
    EXPECT_FALSE(notebook_->frames(frame_key(p->sealed_stages())).empty()) << "at 1/" << scale;
  }
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
    return StageRef{StageKind::effect,
                    Hasher().add(fmt::format("{} {}", mpix, taps)).done(),
                    0,
                    blur,
                    {mpix, mpix * taps}};
  };
  const auto cost = [](const StageRef& s) { return 0.5f + 3 * s.terms[0] + 0.4f * s.terms[1]; };
  for (const float mpix : {0.25f, 0.5f, 1.0f, 2.0f})
    for (const float taps : {3.0f, 9.0f, 31.0f}) {
      const StageRef s = place(mpix, taps);
      notebook_->add_stage(
          s, std::vector<StageSample>(10, StageSample{StageKind::effect, s.key, 9, cost(s), 0}));
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

TEST_F(Measuring, WhatTheLawsCoverIsNotMeasured) {
  const ProgramPtr p =
      Program::compile(Build(640, 360)
                           .track("V1")
                           .solid("s", 48, 0.3, 0.2, 0.1, {test::blur("b", 3.7), test::cdl("g", 1.2)})
                           .done(),
                       media_);
  EXPECT_FALSE(covered(*notebook_, p->stages(0)));
  // Neighbouring places of each stage's law, and none of the stage itself.
  for (const StageRef& s : p->stages(0))
    for (int i = 0; i < 12; ++i) {
      StageRef near = s;
      near.key = Hasher().add(s.key).add(i).done();
      const float grow = 0.5f + 0.1f * static_cast<float>(i);
      for (float& t : near.terms) t *= grow;
      notebook_->learn(near,
                       std::vector<StageSample>(8, StageSample{s.kind, near.key, 9 * grow, 9 * grow, -1}));
    }
  EXPECT_TRUE(covered(*notebook_, p->stages(0)));
  notebook_->add_frames(frame_key(p->sealed_stages()), std::vector<FrameSample>(40, {2, 2}));
  const MeasureReport r = run(p);
  EXPECT_EQ(r.frames, 0) << "nothing had to be measured";
  EXPECT_EQ(r.by_law, r.kinds);
  const Forecast f = forecast(*p, *notebook_, {}, {0, 48}, {});
  EXPECT_TRUE(f.fully_measured);
  double sum = 0;
  for (const StageCost& s : f.intervals[0].stages) {
    sum += s.ms;
    EXPECT_TRUE(s.estimated);
  }
  EXPECT_NEAR(sum, 9.0 * static_cast<double>(p->stages(0).size()), 2.5)
      << "every stage costs 9 ms at its own place";
  // Where an error of the laws would decide whether frames drop, they are measured all the same.
  const double period = 9.0 * static_cast<double>(p->stages(0).size()) / 2;
  auto faster = std::make_shared<Timeline>(*p->timeline());
  faster->rate = {static_cast<int>(1e6), static_cast<int>(1e3 * period)};
  const ProgramPtr close = Program::compile(faster, media_);
  EXPECT_TRUE(covered(*notebook_, close->stages(0)));
  EXPECT_GT(run(close).frames, 0) << "its load is 1";
}

TEST_F(Measuring, ACostThatChangedIsNewsAndNoiseIsNot) {
  const LawName* name = law_name("news test", "Temporal noise reduction", StageKind::repair, {"Mpixel"});
  const StageRef s{StageKind::repair, hash_text("news"), 0, name, {1.0f}, false};
  const auto samples = [&](float ms, float gauge = 0) {
    std::vector<StageSample> v;
    for (int i = 0; i < 12; ++i)
      v.push_back({s.kind, s.key, ms, ms + 0.02f * static_cast<float>(i % 5), 0, gauge});
    return v;
  };
  notebook_->learn(s, samples(20));
  notebook_->learn(s, samples(21.5));
  EXPECT_TRUE(notebook_->news().empty()) << "7 % is no news";
  notebook_->learn(s, samples(37, 2.0f));
  EXPECT_TRUE(notebook_->news().empty()) << "nor is what others caused";
  notebook_->learn(s, samples(37));
  ASSERT_EQ(notebook_->news().size(), 1u);
  EXPECT_NE(notebook_->news()[0].text.find("Temporal noise reduction became 1.8 times slower"),
            std::string::npos)
      << notebook_->news()[0].text;
  notebook_->learn(s, samples(12));
  EXPECT_EQ(notebook_->news().size(), 1u) << "one law speaks up once an hour";
}

TEST_F(Measuring, AnotherMachineStartsANewEraAndOldCostsStepBack) {
  const ProgramPtr p = program(2, 1.2);
  run(p);
  ASSERT_FALSE(notebook_->frames(frame_key(p->stages(0))).empty());
  const auto samples = notebook_->samples();
  EXPECT_GT(samples, 50);
  Json other = era_identity();
  other["kernel"] = "99.9";
  notebook_->begin_era(other);
  ASSERT_EQ(notebook_->eras().size(), 2u);
  EXPECT_NE(notebook_->eras().back().change.find("kernel"), std::string::npos);
  ASSERT_FALSE(notebook_->news().empty());
  EXPECT_NE(notebook_->news()[0].text.find("kernel changed"), std::string::npos);
  EXPECT_TRUE(notebook_->frames(frame_key(p->stages(0))).empty()) << "they are of another machine";
  EXPECT_EQ(notebook_->samples(), samples) << "and still kept";
  notebook_->begin_era(other);
  EXPECT_EQ(notebook_->eras().size(), 2u) << "the same machine again is no new era";
}

TEST_F(Measuring, LawsAreThereAgainTheNextDay) {
  const ProgramPtr p = program(2, 1.2);
  for (const StageRef& s : p->stages(30))
    notebook_->learn(s, std::vector<StageSample>(8, StageSample{s.kind, s.key, 9, 9, -1}));
  ASSERT_TRUE(notebook_->save());
  const std::vector<CostLaw> before = notebook_->laws();
  ASSERT_GE(before.size(), 5u);
  notebook_.reset();
  const auto again = *Notebook::open(dir_ / "n.sqlite");
  const std::vector<CostLaw> after = again->laws();
  ASSERT_EQ(after.size(), before.size());
  for (std::size_t i = 0; i < after.size(); ++i) {
    EXPECT_EQ(after[i].name().id, before[i].name().id);
    EXPECT_EQ(after[i].points().size(), before[i].points().size());
  }
}

TEST_F(Measuring, ANotebookOfTheVersionBeforeKeepsWhatItKnows) {
  const fs::path file = dir_ / "old.sqlite";
  {
    sqlite3* raw = nullptr;
    ASSERT_EQ(sqlite3_open(file.c_str(), &raw), SQLITE_OK);
    const std::string key = hash_text("frame").hex();
    const std::string sql =
        "CREATE TABLE series(what INTEGER NOT NULL, key TEXT NOT NULL, kind INTEGER NOT NULL, type TEXT NOT "
        "NULL, size REAL NOT NULL,"
        " first BLOB NOT NULL, second BLOB NOT NULL, at TEXT NOT NULL, PRIMARY KEY(what, key));"
        "CREATE TABLE audit(at TEXT NOT NULL, timeline TEXT NOT NULL, drops_forecast REAL, drops_observed "
        "REAL, span_f1 REAL,"
        " spans_called INTEGER, spans_right INTEGER);"
        "INSERT INTO audit VALUES('2026-01-01','T',10,12,0.9,3,2);"
        "INSERT INTO series VALUES(1,'" +
        key + "',4,'',0,x'0000803f',x'00000040','2026-01-01');PRAGMA user_version=1;";
    ASSERT_EQ(sqlite3_exec(raw, sql.c_str(), nullptr, nullptr, nullptr), SQLITE_OK);
    sqlite3_close(raw);
  }
  const auto n = Notebook::open(file);
  ASSERT_TRUE(n) << n.error().text();
  ASSERT_EQ((*n)->frames(hash_text("frame")).size(), 1u);
  EXPECT_EQ((*n)->frames(hash_text("frame"))[0].process_ms, 2);
  EXPECT_EQ((*n)->audits().size(), 1u);
}

TEST_F(Measuring, CalibrationLearnsStopsWhenAskedAndGoesOn) {
  CalibrateOptions o;
  o.seconds = 30, o.most_mpix = 0.3, o.only = {"blur", "contrast", "vignette", "gradient"};
  int runs = 0;
  const auto first = calibrate(*notebook_, o, [&](const CalibrateProgress&) { return ++runs <= 6; });
  ASSERT_TRUE(first) << first.error().text();
  EXPECT_TRUE(first->cancelled);
  EXPECT_EQ(first->runs, 6);
  const auto places = [&] {
    std::size_t n = 0;
    for (const CostLaw& l : notebook_->laws()) n += l.points().size();
    return n;
  };
  // From a run that others disturb nothing is learnt, however many of the runs that may be.
  const auto learnt_from = [](const CalibrateReport& r) { return r.runs * (1 - r.disturbed) > 0.5; };
  const std::size_t before = places();
  EXPECT_EQ(before > 0, learnt_from(*first));
  if (before > 0) EXPECT_FALSE(first->not_known.empty()) << "six runs are too few, and it says of what";
  o.seconds = 4, o.seed = 2;
  const auto second = calibrate(*notebook_, o, {});
  ASSERT_TRUE(second);
  EXPECT_GT(second->runs, 0);
  EXPECT_EQ(places() > before, learnt_from(*second)) << "it goes on from what is known";
  for (const auto& e : fs::directory_iterator(cache_folder()))
    EXPECT_FALSE(e.path().filename().string().starts_with("calibrate-"));
}

TEST_F(Measuring, LawsAreTriedOnWorkThatTheyNeverSawAndLearnNothingFromIt) {
  CalibrateOptions o;
  o.seconds = 4, o.most_mpix = 0.3, o.only = {"blur", "cdl", "gradient"};
  ASSERT_TRUE(calibrate(*notebook_, o, {}));
  const std::int64_t known = notebook_->samples();
  ASSERT_GT(known, 0);
  o.only_tries = true, o.seconds = 2;
  const auto tried = calibrate(*notebook_, o, {});
  ASSERT_TRUE(tried);
  EXPECT_GT(tried->runs, 0);
  EXPECT_EQ(notebook_->samples(), known);
}

TEST_F(Measuring, CalibrationOnTheAcceleratorLearnsItsOwnLaws) {
  if (!accelerator_working()) GTEST_SKIP() << "no accelerator and no stand-in here";
  CalibrateOptions o;
  o.seconds = 90, o.most_mpix = 0.2, o.only = {"blur", "dust", "gradient"}, o.accelerator = true;
  // Building its kernels may take long the first time: so many runs, however long they take.
  int runs = 0;
  const auto r = calibrate(*notebook_, o, [&](const CalibrateProgress&) { return ++runs <= 8; });
  ASSERT_TRUE(r) << r.error().text();
  const bool learnt = r->runs * (1 - r->disturbed) > 0.5;  // only from what others did not disturb
  const auto has = [&](const std::string& id) {
    const auto laws = notebook_->laws();
    return std::any_of(laws.begin(), laws.end(),
                       [&](const CostLaw& l) { return l.name().id == id && !l.points().empty(); });
  };
  const EffectType& blur = *effect_type("blur");
  if (r->disturbed == 0) EXPECT_TRUE(has(cost_law(blur, showing_params(blur), true)->id));
  EXPECT_EQ(std::ranges::any_of(notebook_->laws(), [](const CostLaw& l) { return !l.points().empty(); }), learnt);
  EXPECT_FALSE(has(cost_law(blur, showing_params(blur), false)->id)) << "the processor's law is another one";
  EXPECT_FALSE(has("dust")) << "what cannot run there is not tried";
}

TEST_F(Measuring, WhatFramesDoToEachOtherIsMeasuredAloneAndTogether) {
  const std::vector<Contention> all = measure_contention(2, 0.5);
  ASSERT_EQ(all.size(), 2u);
  for (const Contention& c : all) {
    EXPECT_GT(c.alone_ms, 0.5) << c.work;
    // Company does not make a frame faster, and two cannot cost much more than one after the other: 1 to 2. Each may have been
    // measured while others had the other half of a core, which was seen to make the same work take 2.5 times as long.
    EXPECT_GT(c.same(), 1 / 3.0) << c.work;
    EXPECT_LT(c.same(), 6) << c.work;
    EXPECT_LT(c.other(), 6) << c.work;
  }
  EXPECT_TRUE(measure_contention(1, 0.5).empty()) << "one worker has no company";
}

TEST_F(Measuring, PlayingAndRenderingTeachTheLawsToo) {
  const ProgramPtr p = program(2, 1.2);
  std::vector<Frames> frames;
  for (Frames f = 24; f < 44; ++f) frames.push_back(f);
  const auto blur_is_known = [&] {
    return std::ranges::any_of(notebook_->laws(),
                               [](const CostLaw& l) { return l.name().id == "blur" && !l.points().empty(); });
  };
  // On a machine that others use no law is fitted; then the samples are kept all the same.
  bool disturbed = false;
  for (int i = 0; i < 12 && !blur_is_known(); ++i) {
    const std::int64_t kept = notebook_->samples();
    const MachineTimes before = machine_times();
    Learner learner(p, *notebook_);
    std::vector<FrameResult> made = run_flat_out(p, nullptr, frames, 2);
    for (FrameResult& r : made) {
      // Whether another test works on the same core is the machine's matter.
      for (StageSample& stage : r.stages) stage.gauge = 1;
      learner.see(r);
    }
    const Conditions c = conditions_between(before, machine_times());
    disturbed = c.others + c.stolen > 0.1;
    ASSERT_TRUE(learner.finish());
    EXPECT_GT(notebook_->samples(), kept);
    if (!disturbed) break;
  }
  EXPECT_TRUE(blur_is_known() || disturbed) << "nobody was in the way, and nothing was learnt";
  EXPECT_TRUE(notebook_->frames(frame_key(p->stages(30))).empty())
      << "what a frame costs flat out is only measured";
}

// A small one of the check that `gclk seat --self-test` makes with ten million.
TEST_F(Measuring, ALargeNotebookKeepsEverySampleAndLeavesNoFile) {
  const auto goals = notebook_goals(dir_.path(), 60'000);
  ASSERT_TRUE(goals) << goals.error().text();
  EXPECT_EQ((*goals)[0].value, 60'000);
  for (const auto& e : fs::directory_iterator(dir_.path()))
    EXPECT_FALSE(e.path().filename().string().starts_with("large")) << e.path();
}

/// A frame of these stages that began then, each stage with what `sample` says of it, so many times as `turns` says.
FrameResult told_frame(std::span<const StageRef> stages, double began_ms, const std::function<StageSample(const StageRef&)>& sample,
                       const std::function<int(const StageRef&)>& turns = [](const StageRef&) { return 1; }) {
  FrameResult r;
  double fetch = 0, process = 0;
  for (const StageRef& s : stages)
    for (int turn = 0; turn < turns(s); ++turn) {
      r.stages.push_back(sample(s));
      (s.kind == StageKind::read || s.kind == StageKind::decode ? fetch : process) += static_cast<double>(r.stages.back().wall_ms);
    }
  r.started_ms = r.fetch_began_ms = began_ms;
  r.steady_fetch_ms = fetch;
  r.fetched_ms = began_ms + fetch;
  r.done_ms = r.fetched_ms + process;
  return r;
}

// A neighbour on the core makes the same work dearer while it is measured. That is no cost of the work, and
// is taken off by what the seat knows of it; nothing is taken off where the core was not shared.
TEST_F(Measuring, WhatOthersOnTheCoreAddIsNoCostOfTheFrame) {
  const ProgramPtr p = program(3, 1.2);
  const std::vector<StageRef> stages = p->stages(30);
  const auto recorded = [&](float slower, float gauge, const Hash128& key) {
    std::vector<FrameResult> results;
    for (int i = 0; i < 12; ++i)
      results.push_back(told_frame(stages, 100.0 * i, [&](const StageRef& s) {
        const bool reads = s.kind == StageKind::read;
        const float ms = reads ? 1 : 6 * slower;
        return StageSample{s.kind, s.key, ms, ms, s.owner, reads ? 0 : gauge};
      }));
    record_run(*notebook_, key, stages, results, 2);
    EXPECT_NEAR(crowding_of(results), gauge > kSharedCore ? 1 : 0, 1e-9);
    return notebook_->frames(key).back();
  };
  const double factor = kSharedCoreCosts;
  const FrameSample alone = recorded(1, 1.05f, hash_text("alone")),
                    crowd = recorded(static_cast<float>(factor), 2.0f, hash_text("crowd"));
  EXPECT_NEAR(crowd.process_ms, alone.process_ms, 0.02 * static_cast<double>(alone.process_ms));
  EXPECT_NEAR(crowd.fetch_ms, alone.fetch_ms, 0.02 * static_cast<double>(alone.fetch_ms));
  EXPECT_NEAR(alone.fetch_ms, 7, 0.01);
}

// The first frames of a short run make all the neighbours, four pictures more than each frame makes in a long one. That is what a
// cut costs. It is no cost of the frame, nor of the stage that makes the pictures.
TEST_F(Measuring, NeighboursThatAShortRunMakesAreNoCostOfItsFrames) {
  const ProgramPtr p = program(3, 1.2);
  const std::vector<StageRef> stages = p->stages(30);
  const auto repeated = std::ranges::find(stages, StageKind::effect, &StageRef::kind);
  ASSERT_NE(repeated, stages.end());
  std::vector<FrameResult> results;
  for (int i = 0; i < 3; ++i) {
    results.push_back(told_frame(
        stages, 1000.0 * i, [](const StageRef& s) { return StageSample{s.kind, s.key, 6, 6, s.owner, 1.0f}; },
        [&](const StageRef& s) { return s.key == repeated->key && i == 1 ? 5 : 1; }));
    results.back().neighbours_ms = i == 1 ? 24 : 0;
  }
  const Hash128 key = hash_text("short");
  record_run(*notebook_, key, stages, results, 2);
  const std::vector<FrameSample> frames = notebook_->frames(key);
  ASSERT_EQ(frames.size(), 2u) << "the first one opens files";
  EXPECT_NEAR(frames[0].process_ms, frames[1].process_ms, 0.01);
  for (const float ms : notebook_->stage_samples(repeated->key)) EXPECT_NEAR(ms, 6, 0.01);
  EXPECT_EQ(notebook_->stage_samples(repeated->key).size(), 2u);
}

// A forecast is for now: those playouts count that others disturbed about as much as they do now. Only where there are too few,
// others count too, for what now has of them.
TEST_F(Measuring, TheOutsideIsForecastAsItIsNow) {
  const auto quiet = [](const Disturbance& d) { return d.shared < 0.1; };
  for (int i = 0; i < 36; ++i) {
    const bool busy = i / 6 % 2 == 0;  // the latest six were quiet
    Disturbance d{busy ? 0.002 : 0.00001, {busy ? 90.0f : 5.0f}};
    d.shared = busy ? 0.3 : 0.01;
    notebook_->add_disturbance(d);
  }
  const std::vector<Disturbance> latest = notebook_->lately();
  ASSERT_EQ(latest.size(), 12u);
  EXPECT_EQ(std::count_if(latest.begin(), latest.end(), quiet), 6) << "of now nothing is known";
  for (int i = 0; i < 30; ++i) notebook_->note_shared({.others = 0.2, .stolen = 0.12});
  const std::vector<Disturbance> busy = notebook_->lately();
  ASSERT_EQ(busy.size(), 12u);
  EXPECT_EQ(std::count_if(busy.begin(), busy.end(), quiet), 0);
  for (int i = 0; i < 30; ++i) notebook_->note_shared({.others = 0.0, .stolen = 0.002});
  const std::vector<Disturbance> now = notebook_->lately();
  EXPECT_EQ(std::count_if(now.begin(), now.end(), quiet), 12);
  Disturbance busy_again{0.002, {90.0f}};
  busy_again.looks_per_busy_ms = 0.001, busy_again.shared = 0.38;
  notebook_->add_disturbance(busy_again);
  EXPECT_TRUE(std::ranges::all_of(notebook_->lately(), quiet)) << "however late it was";
}

TEST_F(Measuring, ADisturbedPlayoutBeforeAQuietMinuteCountsForWhatTheMinuteHasOfTheOthers) {
  Disturbance busy{0.002, {90.0f}};
  busy.looks_per_busy_ms = 0.001, busy.shared = 0.38;
  for (int i = 0; i < 6; ++i) notebook_->add_disturbance(busy);
  for (int i = 0; i < 30; ++i) notebook_->note_shared({.others = 0.0, .stolen = 0.002});
  ASSERT_EQ(notebook_->lately().size(), 4u) << "nothing better is known";
  EXPECT_NEAR(notebook_->lately().front().per_busy_ms, 0.0002, 2e-5);
  EXPECT_NEAR(notebook_->lately().front().looks_per_busy_ms, 0.0001, 1e-5);
  Disturbance quiet{0.00001, {5.0f}};
  quiet.shared = 0.01;
  for (int i = 0; i < 4; ++i) notebook_->add_disturbance(quiet);
  ASSERT_EQ(notebook_->lately().size(), 4u);
  for (const Disturbance& d : notebook_->lately()) EXPECT_EQ(d.ms, quiet.ms);
  for (int i = 0; i < 30; ++i) notebook_->note_shared({.others = 0.3, .stolen = 0.1});
  ASSERT_EQ(notebook_->lately().size(), 6u);
  EXPECT_DOUBLE_EQ(notebook_->lately().front().per_busy_ms, 0.002);
}

// Measuring has seen how others hold frames up, but no display: how late that looks is known from playouts only.
TEST_F(Measuring, WhatHeldFramesUpWhileTheyWereMeasuredCountsInTheFirstForecast) {
  Disturbance measured{0.004, {60.0f}};
  measured.shared = 0.4, measured.shown = false;
  notebook_->add_disturbance(measured);
  ASSERT_EQ(notebook_->lately().size(), 1u);
  EXPECT_DOUBLE_EQ(notebook_->lately()[0].per_busy_ms, 0.004);
  EXPECT_DOUBLE_EQ(notebook_->lately()[0].looks_per_busy_ms, 0);
  Disturbance played{0.001, {20.0f}, 0.0008, {30.0f}};
  played.shared = 0.19;
  notebook_->add_disturbance(played);
  notebook_->add_disturbance(measured);
  // The same after it was read from its file again.
  auto again = Notebook::open(dir_ / "n.sqlite");
  ASSERT_TRUE(again);
  for (const auto& book : {&*notebook_, (*again).get()}) {
    const std::vector<Disturbance> all = book->lately();
    ASSERT_EQ(all.size(), 3u);
    EXPECT_FALSE(all[0].shown);
    EXPECT_DOUBLE_EQ(all[0].per_busy_ms, 0.004);
    EXPECT_DOUBLE_EQ(all[0].looks_per_busy_ms, 0.0008) << "of the latest playout";
    EXPECT_EQ(all[0].looks_ms, played.looks_ms);
    EXPECT_TRUE(all[1].shown);
  }
  // However often it is measured, what playouts left stays.
  for (int i = 0; i < 60; ++i) notebook_->add_disturbance(measured);
  ASSERT_EQ(notebook_->lately().size(), 3u);
  EXPECT_TRUE(notebook_->lately()[2].shown);
  EXPECT_DOUBLE_EQ(notebook_->lately()[2].per_busy_ms, 0.001);
  // What measuring itself leaves: of enough work, one record without a display.
  const Effect stated{"e", "cost_card", {{"name", "stated"}, {"ms", 120}, {"width", 320}, {"height", 180}}, true, true, {}, {}};
  const ProgramPtr heavy = Program::compile(Build(320, 180).track("V1").solid("a", 48, 0.1, 0.2, 0.3, {stated}).done(), media_);
  ASSERT_TRUE(measure(heavy, *notebook_, {2, 0.05, 2, true}, {}));
  EXPECT_FALSE(notebook_->lately()[0].shown);
  EXPECT_NE(notebook_->lately()[0].ms, measured.ms) << "its own, not what was put in above";
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
  const auto speed = measure_volume(dir.path(), {16u << 20, 1, 1u << 20, false});
  ASSERT_TRUE(speed) << speed.error().text();
  EXPECT_GT(speed->write_mb_s, 1);
  EXPECT_GT(speed->read_mb_s, 1);
  EXPECT_TRUE(fs::is_empty(dir.path()));
  EXPECT_FALSE(measure_volume("/proc")) << "where nothing can be written it says so";
}

}  // namespace
}  // namespace gc
