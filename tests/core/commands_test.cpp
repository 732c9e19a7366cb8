// The commands about a timeline's files, and how they answer what is wrong.
#include "commands.h"

namespace gc {
namespace {

class TheFiles : public test::Commands {};

TEST_F(TheFiles, AFrameIsWrittenAsItIsMadeAndAsItPlays) {
  const std::string file = small(), live = (dir_ / "live.png").string(), played = (dir_ / "played.png").string();
  const Json before = gclk("frame " + file + " 5 --out " + live + " --json").json();
  EXPECT_EQ(before["route"], "live");
  EXPECT_TRUE(before["whole"].get<bool>());
  EXPECT_EQ(gclk("run " + file + " --range 0-24").code, 0);
  const Json after = gclk("frame " + file + " 5 --out " + played + " --route played --json").json();
  EXPECT_TRUE(after["sealed"].get<bool>());
  const Image a = test::load_picture(live), b = test::load_picture(played);
  EXPECT_EQ(a.width(), before["width"]);
  EXPECT_LT(test::greatest_difference(a, b), 0.1) << "the rendered frame is the same picture";
  EXPECT_EQ(gclk("frame " + file + " 5 --out " + (dir_ / "x.doc").string()).code, 2);
  EXPECT_EQ(gclk("frame " + file + " 999999 --out " + live).code, 2);
}

TEST_F(TheFiles, NoCommandWritesOverWhatLiesThere) {
  const std::string file = small(), there = (dir_ / "mine.txt").string();
  ASSERT_TRUE(write_file_atomic(there, "somebody's words"));
  for (const std::string& command : std::vector<std::string>{"frame " + file + " 5 --out ", "playout " + file + " --every-frame --csv ", "playout " + file + " --every-frame --trace ",
                                    "playout " + file + " --every-frame --record ", "audit " + file + " --csv ", "remedies " + file + " --out ", "plan " + file + " --out ",
                                    "seat --save ", "seat --quick --save ", "markers " + file + " --out ", "edl " + file + " --out ",
                                    "report " + file + " --out "}) {
    EXPECT_EQ(gclk(command + there).code, 3) << command;
    EXPECT_EQ(*read_file(there), "somebody's words") << command;
  }
}

TEST_F(TheFiles, WhatIsMissingIsSaidByEveryCommand) {
  const std::string movie = test::movie(dir_ / "m.mp4", Form::h264_intra, 128, 72, 30);
  const TimelinePtr t = test::Build(128, 72).media("m", movie, 30).track("V1").segment("a", "m", 0, 24).segment("b", "m", 20, 24).done();
  ASSERT_TRUE(save_timeline(*t, dir_ / "cut.otio"));
  const std::string file = "'" + (dir_ / "cut.otio").string() + "'";
  const auto forecast = gclk("forecast " + file + " --json --must-hold");
  EXPECT_EQ(forecast.code, 1);
  EXPECT_THAT(forecast.out, testing::HasSubstr("\"missing\""));
  EXPECT_THAT(gclk("plan " + file).out, testing::HasSubstr("cannot be played: media missing"));
  EXPECT_THAT(gclk("advise " + file).out, testing::HasSubstr("cannot be played on any seat: media missing"));
  // At no clock: on one a busy machine drops some of them.
  const auto playout = gclk("playout " + file + " --every-frame");
  EXPECT_EQ(playout.code, 1);
  EXPECT_THAT(playout.out, testing::HasSubstr("14 had no picture"));
  EXPECT_EQ(gclk("coverage " + file + " --json").json()["missing"][0]["in"], 34);
  EXPECT_EQ(gclk("compare " + file + " 40").code, 3);
  EXPECT_EQ(gclk("compare " + file + " 20").code, 0);
  EXPECT_EQ(gclk("gate " + file).code, 1);
  EXPECT_EQ(gclk("frame " + file + " 40 --out " + (dir_ / "f.png").string()).code, 1);
  EXPECT_THAT(gclk("inspect " + file).out, testing::HasSubstr("No picture from"));
}

TEST_F(TheFiles, SegmentsAndEffectsAreFoundByIdNameAndPlace) {
  const std::string file = small();
  const Json all = gclk("inspect " + file + " --json").json();
  const Json& segment = all["tracks"][0]["segments"][0];
  ASSERT_FALSE(segment["stack"].empty());
  const std::string id = segment["id"], effect = segment["stack"][0]["id"], type = segment["stack"][0]["type"];
  const std::string track = all["tracks"][0]["id"];
  for (const std::string& called : {id, "'" + segment["name"].get<std::string>() + "'", track + "/1", segment["timecode_in"].get<std::string>()})
    for (const std::string& e : {effect, type, std::string("1")}) {
      const Json j = gclk("bypass " + file + " " + called + " " + e + " --json").json();
      EXPECT_EQ(j.value("segment", ""), id) << called << " " << e << j.dump();
      EXPECT_EQ(j.value("effect", ""), effect) << called << " " << e;
      gclk("bypass " + file + " " + called + " " + e + " --lift");
    }
}

TEST_F(TheFiles, ValuesAreHeldToWhatTheEffectTakes) {
  const std::string file = small();
  const auto wrong = gclk("set " + file + " a g saturatoin 1.2 --json");
  EXPECT_EQ(wrong.code, 2);
  EXPECT_THAT(wrong.json()["error"].get<std::string>(), testing::HasSubstr("'saturation' is like it"));
  EXPECT_EQ(gclk("set " + file + " a g saturation '\"much\"'").code, 2);
  EXPECT_EQ(gclk("set " + file + " a g slope 1.0").code, 2) << "three numbers are wanted";
  const Json j = gclk("set " + file + " a g saturation 1e9 --json").json();
  EXPECT_NE(j["remark"], "");
  EXPECT_LT(j["value"].get<double>(), 1e9);
  EXPECT_EQ(gclk("move " + file + " a g 99").code, 2);
  EXPECT_EQ(gclk("add " + file + " a blur --at 99").code, 2);
  EXPECT_EQ(gclk("key " + file + " a g saturation 100000 1.0").code, 2);
  EXPECT_THAT(gclk("add " + file + " a blurr", "&1").out, testing::HasSubstr("'blur' is like it"));
}

TEST_F(TheFiles, WhatIsMistypedIsAnsweredAndLeavesNothingBehind) {
  const auto typo = gclk("forcast x --json");
  EXPECT_EQ(typo.code, 2);
  EXPECT_THAT(typo.json()["error"].get<std::string>(), testing::HasSubstr("'forecast' is like it"));
  EXPECT_EQ(gclk("--version").code, 0);
  EXPECT_THAT(gclk("--version").out, testing::HasSubstr("gclk "));
  const fs::path shelf = dir_ / "new-shelf";
  EXPECT_EQ(gclk("gate '" + (dir_ / "no-such.otio").string() + "' --shelf '" + shelf.string() + "'").code, 3);
  EXPECT_FALSE(fs::exists(shelf));
}

TEST_F(TheFiles, RasterRateAndTimecodeAreSet) {
  const std::string file = small();
  const Json j = gclk("set-timeline " + file + " --raster 640x360 --rate 29.97 --timecode non-drop --start 01:00:00:00 --json").json();
  EXPECT_EQ(j["width"], 640);
  EXPECT_NEAR(j["rate"].get<double>(), 29.97, 1e-3);
  EXPECT_EQ(j["timecode_start"], "01:00:00:00");
  const Json all = gclk("inspect " + file + " --json").json();
  EXPECT_EQ(all["height"], 360);
  EXPECT_EQ(all["timecode_start"], "01:00:00:00");
  EXPECT_EQ(gclk("set-timeline " + file + " --raster 5x5").code, 2);
}

TEST_F(TheFiles, AreRelinkedByTheirFolder) {
  fs::create_directories(dir_ / "elsewhere");
  test::movie(dir_ / "elsewhere/m.mp4", Form::h264_intra, 64, 36, 30);
  const TimelinePtr t = test::Build(64, 36).media("m", (dir_ / "m.mp4").string(), 30).track("V1").segment("a", "m", 0, 24).done();
  ASSERT_TRUE(save_timeline(*t, dir_ / "cut.otio"));
  const std::string file = "'" + (dir_ / "cut.otio").string() + "'";
  EXPECT_EQ(gclk("gate " + file).code, 1);
  const auto r = gclk("relink " + file + " --folder '" + (dir_ / "elsewhere").string() + "' --json");
  EXPECT_EQ(r.code, 0) << r.out;
  EXPECT_EQ(r.json()["relinked"].size(), 1u);
  EXPECT_EQ(gclk("gate " + file).code, 0);
}

}  // namespace
}  // namespace gc
