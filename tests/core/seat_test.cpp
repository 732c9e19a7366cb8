// The seat: profiles that are carried, volumes that are slow, full or gone, forms of cached media, advice.
#include "base/clock.h"
#include "base/slow_volume.h"
#include "desk/seats.h"
#include "forecast/advice.h"
#include "measure/seat_run.h"
#include "media/compare.h"
#include "media/convert.h"
#include "render/device.h"
#include "support.h"

namespace gc {
namespace {

using test::Build;

SeatProfile profile(double ms_per_mpix,
                    const std::vector<std::string>& ids = {"one", "two", "three", "four"}) {
  SeatProfile p;
  p.name = "Test", p.processor = "A processor", p.processors = 4, p.cores = 4,
  p.memory_bytes = 64'000'000'000;
  p.memory = MemoryBandwidth{20000, 21000, 1000};
  p.volumes.push_back({"A",
                       "/home/somebody/shelf",
                       "solid state",
                       "ext4",
                       1000,
                       900,
                       300,
                       410,
                       5000,
                       {{2, 500}},
                       1,
                       2,
                       3,
                       true});
  p.forms.push_back({"VC-3 HQX, 10 bit", 1920, 1080, 10, false, 917504, 90, 30, 4, 11, 120, 44, 0.98});
  p.forms.push_back(
      {"v210 uncompressed, 10 bit", 1920, 1080, 10, false, 5529600, 9, 4, 4, 100, 800, 45, 0.99});
  for (const std::string& id : ids) {
    CostLaw law(LawName{id, id, StageKind::effect, {"Mpixel"}});
    for (const float mpix : {0.2f, 0.5f, 1.0f, 2.0f}) {
      const std::vector<float> ms(6, static_cast<float>(ms_per_mpix) * mpix);
      law.add({mpix}, ms, 1000, 1);
    }
    p.laws.insert_or_assign(id, law);
  }
  return p;
}

TEST(SeatProfile, IsCarriedWithoutPathsUnlessAsked) {
  const SeatProfile p = profile(10);
  const std::string plain = to_json(p).dump(), full = to_json(p, true).dump();
  EXPECT_EQ(plain.find("somebody"), std::string::npos);
  EXPECT_NE(full.find("somebody"), std::string::npos);
  const auto again = profile_from_json(to_json(p), "x");
  ASSERT_TRUE(again) << again.error().text();
  EXPECT_EQ(to_json(*again).dump(), plain);
  EXPECT_EQ(again->laws.size(), 4u);
}

TEST(SeatProfile, RefusesWhatItCannotBelieveAndSaysWhat) {
  const Json good = to_json(profile(10));
  for (const auto& [where, value, word] :
       std::vector<std::tuple<std::string, Json, std::string>>{{"/version", 99, "version 99"},
                                                               {"/glass_clock", "something", "does not say"},
                                                               {"/machine/processors", -2, "processors"},
                                                               {"/machine/processors", "four", "processors"},
                                                               {"/volumes/0/read_mb_s", -5, "read_mb_s"},
                                                               {"/volumes/0/read_mb_s", 1e30, "read_mb_s"},
                                                               {"/forms/0/bytes", 0, "bytes"},
                                                               {"/memory/copy_mb_s", "fast", "copy_mb_s"},
                                                               {"/laws/0/places/0/ms", -1, "cost"}}) {
    Json bad = good;
    bad[Json::json_pointer(where)] = value;
    const auto p = profile_from_json(bad, "file.json");
    ASSERT_FALSE(p) << where << " = " << value;
    EXPECT_NE(p.error().text().find(word), std::string::npos) << p.error().text();
    EXPECT_FALSE(p.error().remedy.empty());
  }
  test::TempFolder dir;
  const std::string text = good.dump();
  for (const std::size_t cut : {std::size_t{0}, text.size() / 3, text.size() - 2}) {
    test::put(dir / "cut.json", text.substr(0, cut));
    EXPECT_FALSE(load_profile(dir / "cut.json")) << cut;
  }
}

TEST(SeatProfile, TheSeatsThatShipAreWholeAndMadeUp) {
  const auto seats = invented_seats();
  ASSERT_EQ(seats.size(), 3u);
  for (const SeatProfile& s : seats) {
    EXPECT_TRUE(s.invented);
    EXPECT_GT(s.laws.size(), 25u) << s.name;
    EXPECT_FALSE(s.forms.empty());
    EXPECT_FALSE(s.volumes.empty());
  }
  EXPECT_TRUE(find_profile(seats[0].name));
  const auto none = find_profile("No such seat");
  ASSERT_FALSE(none);
  EXPECT_NE(none.error().remedy.find(seats[1].name), std::string::npos) << "it names those there are";
}

TEST(SeatProfile, OtherSeatsAreComparedByWhatBothKnow) {
  const SeatProfile a = profile(10), b = profile(5, {"one", "two", "three", "five"});
  const SeatRatio r = ratio_between(a, b, StageKind::effect);
  EXPECT_EQ(r.laws, 3);
  EXPECT_NEAR(r.factor, 0.5, 0.02);
  bool found = false;
  for (const SeatRow& row : compare_seats(a, b))
    if (row.what == "one") {
      found = true;
      EXPECT_NEAR(row.ratio, 2, 0.1);
    }
  EXPECT_TRUE(found);
}

class OnAnotherSeat : public testing::Test {
 protected:
  OnAnotherSeat() {
    notebook_ = *Notebook::open(dir_ / "n.sqlite");
    program_ = Program::compile(Build(1280, 720)
                                    .track("V1")
                                    .solid("s", 96, 0.2, 0.2, 0.2, {test::blur("b", 4), test::cdl("g", 1.2)})
                                    .done(),
                                media_);
    // This seat: every stage costs 12 ms but the blur, which costs 60.
    for (const StageRef& s : program_->stages(0)) teach(s, s.law->id == "blur" ? 60.0f : 12.0f);
  }
  void teach(const StageRef& s, float ms) {
    notebook_->add_stage(s, std::vector<StageSample>(12, StageSample{s.kind, s.key, ms, ms, s.owner}));
  }
  /// A profile with this seat's laws times a factor, but the ones left out.
  SeatProfile other(double factor, const std::string& without = "") {
    SeatProfile p = profile(1, {});
    p.processors = 2;
    for (const CostLaw& law : notebook_->laws())
      if (law.name().id != without) p.laws.insert_or_assign(law.name().id, law.scaled(factor));
    return p;
  }
  test::TempFolder dir_;
  MediaCatalog media_;
  std::shared_ptr<Notebook> notebook_;
  ProgramPtr program_;
};

TEST_F(OnAnotherSeat, ATimelineIsForecastFromItsLaws) {
  const ProfileBook twice(other(0.4), notebook_);
  const Forecast here = forecast(*program_, *notebook_, {}, {0, 96}, {}),
                 there = forecast_on(*program_, twice, {}, {0, 96}, {});
  EXPECT_GT(here.count(Verdict::spills), 0);
  EXPECT_EQ(there.count(Verdict::spills) + there.count(Verdict::wavers), 0);
  EXPECT_NEAR(there.intervals[0].process_ms, 0.4 * here.intervals[0].process_ms,
              0.06 * here.intervals[0].process_ms);
}

TEST_F(OnAnotherSeat, WhatItHasNoLawOfIsTakenOverWiderAndMarked) {
  const ProfileBook whole(other(0.5), notebook_), partly(other(0.5, "blur"), notebook_);
  StageRef blur;
  for (const StageRef& s : program_->stages(0))
    if (s.law->id == "blur") blur = s;
  const StageCosts a = whole.stage(blur), b = partly.stage(blur);
  EXPECT_EQ(a.origin, Origin::law);
  EXPECT_EQ(b.origin, Origin::scaled);
  EXPECT_NEAR(median_of(b.ms).median, 30, 4);
  EXPECT_GT(b.error, 0.15) << "at least the spread between seats";
  const auto width = [](std::vector<float> v) {
    std::sort(v.begin(), v.end());
    return v.back() / v.front();
  };
  EXPECT_GT(width(b.ms), width(a.ms));
  EXPECT_EQ(partly.taken_over(program_->stages(0)), std::vector<std::string>{"Gaussian blur"});
  EXPECT_FALSE(covered(partly, program_->stages(0))) << "scaled costs never stand for a measurement";
}

TEST_F(OnAnotherSeat, AdviceSaysWhatHoldsItBackAndWhatWouldHelp) {
  SeatProfile here = other(1);
  AdviceOptions options;
  options.others = {other(0.3)};
  options.others[0].name = "Fast";
  const Advice a = advise(*program_, notebook_, here, {}, options);
  ASSERT_EQ(a.binding.size(), 1u);
  EXPECT_EQ(a.binding[0].cause, Cause::processor);
  EXPECT_EQ(a.binding[0].blame.label, "Gaussian blur");
  ASSERT_FALSE(a.gains.empty());
  EXPECT_TRUE(a.gains[0].resource == "processors" || a.gains[0].resource == "processor speed")
      << a.gains[0].resource;
  EXPECT_LT(a.gains[0].drops, 0.2 * a.drops);
  for (const Gain& g : a.gains)
    if (g.resource == "disk") EXPECT_NEAR(g.drops, a.drops, 1 + 0.1 * a.drops) << "nothing is read here";
  EXPECT_GT(a.least_speed, 1);
  EXPECT_GE(a.least_processors, 3);
  ASSERT_EQ(a.seats.size(), 1u);
  EXPECT_TRUE(a.seats[0].holds());
  EXPECT_NE(a.sentence.find("processor"), std::string::npos);
}

TEST_F(OnAnotherSeat, APoorVolumeIsNamedWithItsNumbers) {
  SeatProfile here = other(1);
  here.volumes.push_back(here.volumes[0]);
  here.volumes[1].label = "B", here.volumes[1].read_mb_s = 15;
  std::string all;
  for (const AdviceItem& i : advise(*program_, notebook_, here, {}, {}).items) all += i.text + "\n";
  EXPECT_NE(all.find("Volume B at 15 MB/s cannot feed VC-3 HQX"), std::string::npos) << all;
  EXPECT_NE(all.find("needs 22 MB/s"), std::string::npos) << "0.917504 MB × 24 frames";
  EXPECT_NE(all.find("volume A as VC-3 HQX"), std::string::npos);
}

// What waits for memory gets faster with memory only (roofline model; Williams, Waterman and Patterson, 2009).
TEST_F(OnAnotherSeat, TheMemoryRoofIsBytesOverBandwidth) {
  EXPECT_NEAR(memory_roof_ms({StageKind::grade, {}, 0, nullptr, {2.0f}, false}, 16000), 4, 1e-6)
      << "2 million pixels, 16 bytes read and written: 64 MB at 16 GB/s";
}

TEST(Volume, ASlowStandInIsMeasuredAsItSays) {
  test::TempFolder dir;
  ASSERT_TRUE(make_slow_volume(dir.path(), {80, 40, 1, 0, 0}));
  VolumeOptions o;
  o.bytes = 8 << 20, o.seconds = 4, o.chunk = 1 << 20;
  const auto v = measure_volume(dir.path(), o);
  ASSERT_TRUE(v) << v.error().text();
  EXPECT_EQ(v->type, "slow stand-in");
  EXPECT_LT(v->write_mb_s, 40 * 1.05);
  EXPECT_GT(v->write_mb_s, 2) << "the drive behind may be busy, never the other way round";
  EXPECT_LT(v->read_mb_s, 80 * 1.05);
  EXPECT_GE(v->write_ms_99, v->write_ms_50);
  EXPECT_GE(v->write_ms_50, 1e3 * (1 << 20) / 1e6 / 40 * 0.9) << "a chunk takes its time";
  EXPECT_LE(v->written, 3 * o.bytes);
  std::size_t files = 0;
  for (const auto& e : fs::directory_iterator(dir.path())) files += e.path().filename() != kSlowVolumeMarker;
  EXPECT_EQ(files, 0u) << "it cleans up after itself";
}

TEST(Volume, ThatFillsOrGoesAwaySaysSoAndLeavesNothing) {
  for (const auto& [speed, word] : std::vector<std::pair<SlowVolume, std::string>>{
           {{500, 500, 0, 5, 0}, "full"}, {{500, 500, 0, 0, 5}, "connected"}}) {
    test::TempFolder dir;
    ASSERT_TRUE(make_slow_volume(dir.path(), speed));
    const auto v = measure_volume(dir.path(), {64 << 20, 3, 1 << 20, false});
    ASSERT_FALSE(v);
    EXPECT_NE(v.error().text().find(word), std::string::npos) << v.error().text();
    EXPECT_EQ(v.error().fault, Fault::environment);
    for (const auto& e : fs::directory_iterator(dir.path()))
      EXPECT_EQ(e.path().filename(), kSlowVolumeMarker);
  }
}

TEST(Volume, RemembersHowFastItWasWithMoreRoom) {
  VolumeSpeed now, before, other;
  now.folder = before.folder = "/a", other.folder = "/b";
  now.fills = {{0.93, 60, 200}}, now.write_mb_s = 60;
  before.fills = {{0.41, 180, 210}, {0.91, 170, 205}, {0.94, 30, 30}}, other.fills = {{0.1, 999, 999}};
  remember_fills(now, {other, before});
  ASSERT_EQ(now.fills.size(), 2u) << "one reading for each twentieth, the newest; another folder's never";
  EXPECT_EQ(now.fills[0].full, 0.41);
  EXPECT_EQ(now.fills[1].write_mb_s, 60);
  ASSERT_EQ(now.notes.size(), 1u);
  EXPECT_EQ(now.notes[0], "at 93 % full it writes 60 MB/s; at 41 % it wrote 180");

  SeatProfile p;
  p.name = "x", p.processors = 2, p.volumes = {now};
  p.contention = {{"computes", 10, 12, 11}};
  const auto back = profile_from_json(to_json(p), "x");
  ASSERT_TRUE(back) << back.error().text();
  EXPECT_EQ(back->volumes[0].fills.size(), 2u);
  EXPECT_DOUBLE_EQ(back->contention.at(0).same(), 1.2);
}

TEST(Volume, StopsWhenAsked) {
  test::TempFolder dir;
  int asked = 0;
  EXPECT_FALSE(measure_volume(dir.path(), {64 << 20, 3, 1 << 20, false}, [&] { return ++asked < 3; }));
  EXPECT_TRUE(fs::is_empty(dir.path()));
}

TEST(Volume, MediaOnASlowOnePlayAsSlowly) {
  test::TempFolder dir;
  const std::string fast = test::movie(dir / "fast.mov", Form::v210, 320, 180, 10);
  fs::create_directories(dir / "slow");
  ASSERT_TRUE(make_slow_volume(dir / "slow", {2, 100, 0, 0, 0}));
  fs::copy(fast, dir / "slow" / "m.mov");
  auto reader = FrameReader::open((dir / "slow" / "m.mov").string());
  ASSERT_TRUE(reader) << reader.error().text();
  const Stopwatch watch;
  for (Frames i = 0; i < 10; ++i) ASSERT_TRUE((*reader)->read(i));
  // 10 frames of 161 280 bytes at 2 MB/s take 0.8 s; what the header's reading ahead brought does not count.
  EXPECT_GT(watch.ms(), 300);
  // Written there they are whole.
  const std::string there = test::movie(dir / "slow" / "written.mov", Form::motion_jpeg, 320, 180, 4);
  const auto info = probe(there);
  ASSERT_TRUE(info) << info.error().text();
  EXPECT_EQ(info->frames, 4);
}

class Forms : public testing::TestWithParam<Form> {};
TEST_P(Forms, AreWrittenAndReadBackNearTheOriginal) {
  test::TempFolder dir;
  const std::string file =
      test::movie(dir / (std::string("m") + form_extension(GetParam())), GetParam(), 480, 272, 3, "bowl");
  const auto info = probe(file);
  ASSERT_TRUE(info) << info.error().text();
  EXPECT_GE(info->bits, form_bits(GetParam())) << form_name(GetParam());
  EXPECT_TRUE(info->intra || GetParam() == Form::ffv1);
  EXPECT_EQ(info->alpha, form_has_alpha(GetParam()));
  auto reader = FrameReader::open(file);
  const auto image = to_image(**(*reader)->read(1), 480, 272);
  EXPECT_GT(psnr(synthetic_frame("bowl", 1, 480, 272, 7, 0.02f), *image), 33) << form_name(GetParam());
}
INSTANTIATE_TEST_SUITE_P(Each, Forms, testing::ValuesIn(cached_forms()));

// v210 as it is packed: 6 pixels in 16 bytes, rows padded to 48 pixels. The sizes of checks.md.
TEST(FormSizes, AreThoseOfTheStandards) {
  EXPECT_EQ(v210_frame_bytes(1920, 1080), 5529600);
  EXPECT_EQ(v210_frame_bytes(3840, 2160), 22118400);
  // 7680 × 4320 at 30 a second: 2.65 GB/s, more than most drives read. Uncompressed media do not fit such a volume.
  const double rate = 30.0 * static_cast<double>(v210_frame_bytes(7680, 4320));
  EXPECT_NEAR(rate / 1e9, 2.65, 0.005);
  VolumeSpeed drive;
  drive.read_mb_s = 2000;
  FormCost uncompressed;
  uncompressed.bytes = static_cast<double>(v210_frame_bytes(7680, 4320)), uncompressed.decode_fps = 300;
  EXPECT_NEAR(fit_of(uncompressed, drive, 30).volume_margin, 2000 / 2654.0, 0.01);
  test::TempFolder dir;
  const auto size = [&](Form f, int w, int h) {
    const std::string one = test::movie(dir / "one.mov", f, w, h, 1),
                      three = test::movie(dir / "three.mov", f, w, h, 3);
    return static_cast<double>(fs::file_size(three) - fs::file_size(one)) / 2;
  };
  EXPECT_NEAR(size(Form::v210, 480, 270), static_cast<double>(v210_frame_bytes(480, 270)), 64);
  // SMPTE ST 2019-1, resolution-independent profiles, confirmed by encoding.
  for (const auto& [form, scale] : std::vector<std::pair<Form, int>>{{Form::vc3_lb, kVc3Lb},
                                                                     {Form::vc3_sq, kVc3Sq},
                                                                     {Form::vc3_hq, kVc3Hqx},
                                                                     {Form::vc3_hqx, kVc3Hqx},
                                                                     {Form::vc3_444, kVc3444}})
    EXPECT_NEAR(size(form, 640, 368), static_cast<double>(vc3_frame_bytes(640, 368, scale)), 64)
        << form_name(form);
}

TEST(FormSizes, AlphaGoesThroughTheFormThatHasIt) {
  test::TempFolder dir;
  Image image = synthetic_frame("bowl", 0, 320, 192, 1, 0);
  image.opaque = false;
  for (int y = 0; y < 192; ++y)
    for (int x = 0; x < 320; ++x) {
      const float a = static_cast<float>(x) / 319;
      for (int c = 0; c < 4; ++c) image.row(y)[4 * x + c] = c == 3 ? a : image.row(y)[4 * x + c] * a;
    }
  auto w = MovieWriter::create((dir / "a.mov").string(), Form::rdd36_alpha, 320, 192, {24, 1});
  ASSERT_TRUE(w) << w.error().text();
  ASSERT_TRUE((*w)->write(image));
  ASSERT_TRUE((*w)->finish());
  const auto back = to_image(**(*FrameReader::open((dir / "a.mov").string()))->read(0), 320, 192);
  ASSERT_TRUE(back);
  EXPECT_FALSE(back->opaque);
  double worst = 0;
  for (int x = 0; x < 320; ++x)
    worst =
        std::max(worst, static_cast<double>(std::abs(back->row(96)[4 * x + 3] - image.row(96)[4 * x + 3])));
  EXPECT_LT(worst, 0.01) << "alpha is kept to a few steps of ten bits";
  EXPECT_GT(psnr(image, *back), 35);
}

TEST(Codecs, AreTriedOnTheTimelinesOwnFrames) {
  test::TempFolder dir;
  MediaCatalog media;
  const ProgramPtr p =
      Program::compile(Build(256, 144)
                           .media("m", test::movie(dir / "m.mp4", Form::h264_long_gop, 256, 144, 48), 48)
                           .track("V1")
                           .segment("s", "m", 0, 48)
                           .done(),
                       media);
  auto notebook = *Notebook::open(dir / "n.sqlite");
  CodecOptions o;
  o.frames = 3, o.folder = dir.path();
  const auto r = measure_codecs(p, notebook.get(), o, {});
  ASSERT_TRUE(r) << r.error().text();
  EXPECT_EQ(r->forms.size() + r->left_out.size(), cached_forms().size());
  EXPECT_GE(r->forms.size(), 11u);
  for (const FormCost& f : r->forms) {
    EXPECT_GT(f.encode_ms, 0) << f.form;
    EXPECT_GT(f.decode_fps, 0) << f.form;
    EXPECT_GT(f.psnr_db, 25) << f.form;
    EXPECT_GT(f.ssim, 0.5) << f.form;
    if (f.form == form_name(Form::v210)) EXPECT_NEAR(f.bytes, 6 * 128 * 144, 1500);
  }
  EXPECT_EQ(std::distance(fs::directory_iterator(dir.path()), {}), 2 + 2)
      << "the movie, the notebook and its journal; no codec file";
  EXPECT_FALSE(notebook->law(*law_name("decode v210 10 bit", "", StageKind::decode, {})).points().empty())
      << "decoding taught the laws";
}

TEST(Codecs, TheBestFormDependsOnPurposeAndVolume) {
  VolumeSpeed fast, slow;
  fast.read_mb_s = 1000, slow.read_mb_s = 40;
  const std::vector<FormCost> forms{{"v210", 1920, 1080, 10, false, 5.5e6, 5, 4, 2, 0, 400, 48, 1},
                                    {"HQX", 1920, 1080, 10, false, 0.92e6, 90, 30, 2, 0, 60, 45.5, 0.99},
                                    {"LB", 1920, 1080, 8, false, 0.19e6, 40, 15, 2, 0, 120, 40, 0.96},
                                    {"SQ", 1920, 1080, 8, false, 0.6e6, 60, 20, 2, 0, 90, 43, 0.98}};
  EXPECT_EQ(best_form(forms, fast, 24, Purpose::cutting)->form, "SQ") << "the lowest level loses too much";
  EXPECT_EQ(best_form(forms, fast, 24, Purpose::colour)->form, "HQX");
  EXPECT_EQ(best_form(forms, fast, 24, Purpose::delivery)->form, "v210");
  EXPECT_EQ(best_form(forms, slow, 24, Purpose::delivery), nullptr) << "the cure would be the illness";
  EXPECT_LT(fit_of(forms[0], slow, 24).volume_margin, 1);
}

TEST(Accelerator, ThatListsItselfAndDoesNotWorkIsSaidSo) {
  if (!accelerator_available()) GTEST_SKIP() << "no accelerator and no stand-in here";
  break_accelerator_after(1);
  const auto broken = measure_accelerator();
  break_accelerator_after(0);
  ASSERT_FALSE(broken);
  EXPECT_NE(broken.error().text().find("does not work"), std::string::npos);
  const auto works = measure_accelerator();
  ASSERT_TRUE(works) << works.error().text();
  EXPECT_GT(works->up_mb_s, 10);
}

TEST(Machine, MemoryAndEnduranceAreMeasured) {
  const MemoryBandwidth m = measure_memory(2, 16, 3);
  EXPECT_GT(m.copy_mb_s, 100);
  EXPECT_GT(m.triad_mb_s, 100);
  const Endurance e = measure_endurance(2, 1.5);
  EXPECT_NEAR(e.seconds, 1, 0.7);
  EXPECT_GT(e.ratio(), 0.2);
  EXPECT_LE(e.side_by_side, 1);
}

TEST(Era, AChangeNamesWhatChanged) {
  Json before = era_identity(), after = before;
  EXPECT_EQ(era_change(before, after), "");
  after["kernel"] = "99.1";
  EXPECT_NE(era_change(before, after).find("kernel changed"), std::string::npos);
}

}  // namespace
}  // namespace gc
