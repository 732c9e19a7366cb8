// Lists and grades of other programs, written by hand from the published forms: CMX 3600 (as the trade describes it; the
// manual is out of print, from memory) and the ASC CDL, version 1.2.
#include "base/timecode.h"
#include "commands.h"
#include "desk/grades.h"

namespace gc {
namespace {

using testing::HasSubstr;

constexpr const char* kCuts = R"(TITLE: The Kiln Year, reel 1
FCM: NON-DROP FRAME

001  KILN01   V     C        01:00:10:00 01:00:14:00 01:00:00:00 01:00:04:00
* FROM CLIP NAME: Bowl, first turn
*ASC_SOP (1.1 1.0 0.9)(-0.01 0.0 0.01)(1.0 1.0 1.05)
*ASC_SAT 0.85
002  KILN02   V     C        02:00:00:00 02:00:03:12 01:00:04:00 01:00:07:12
* FROM CLIP NAME: Hands, opening
* WATCH THE NOISE
003  BL       V     C        00:00:00:00 00:00:01:00 01:00:07:12 01:00:08:12
)";

TimelinePtr read(const std::string& text, Rate rate = {24, 1}) {
  EdlOptions o;
  o.rate = rate, o.name = "list";
  const auto t = timeline_from_edl(text, "list.edl", o);
  EXPECT_TRUE(t) << (t ? "" : t.error().text());
  return t ? *t : std::make_shared<Timeline>();
}
std::vector<SegmentPtr> segments(const TimelinePtr& t) { return video_segments(*t); }
std::string refused(const std::string& text, Rate rate = {24, 1}) {
  EdlOptions o;
  o.rate = rate;
  const auto t = timeline_from_edl(text, "list.edl", o);
  return t ? "" : t.error().text();
}

TEST(EditList, CutsReelsNamesGradesAndBlack) {
  const TimelinePtr t = read(kCuts);
  EXPECT_EQ(t->name, "The Kiln Year, reel 1");
  EXPECT_EQ(t->start, 86400);
  EXPECT_EQ(t->duration(), 96 + 84 + 24);
  const auto s = segments(t);
  ASSERT_EQ(s.size(), 3u);
  EXPECT_EQ(s[0]->name, "Bowl, first turn");
  const auto g = grade_of(*s[0]);
  ASSERT_TRUE(g);
  EXPECT_DOUBLE_EQ(g->slope[2], 0.9);
  EXPECT_DOUBLE_EQ(g->offset[0], -0.01);
  EXPECT_DOUBLE_EQ(g->power[2], 1.05);
  EXPECT_DOUBLE_EQ(g->saturation, 0.85);
  EXPECT_EQ(s[1]->note, "WATCH THE NOISE");
  EXPECT_EQ(s[2]->content, Content::generator);
  ASSERT_EQ(t->remarks.size(), 2u);
  EXPECT_THAT(t->remarks[0], HasSubstr("No file was found for 'Bowl, first turn'"));
}

TEST(EditList, DissolvesWipesAndSpeeds) {
  const TimelinePtr t = read(R"(TITLE: T
001  A        V     C        00:00:00:00 00:00:02:00 01:00:00:00 01:00:02:00
* FROM CLIP NAME: first
002  A        V     C        00:00:02:00 00:00:02:00 01:00:02:00 01:00:02:00
002  B        V     D    024 00:00:10:00 00:00:13:00 01:00:02:00 01:00:05:00
* FROM CLIP NAME: first
* TO CLIP NAME: second
M2   B        012.0                00:00:10:00
003  C        V     W001 012 00:00:20:00 00:00:21:00 01:00:05:00 01:00:06:00
* TO CLIP NAME: third
M2   C        -024.0               00:00:20:00
)");
  const auto s = segments(t);
  ASSERT_EQ(s.size(), 3u);
  EXPECT_EQ(s[1]->name, "second");
  EXPECT_EQ(s[1]->speed, (Ratio{1, 2})) << "12 frames a second of 24";
  EXPECT_EQ(s[2]->speed, (Ratio{-1, 1}));
  std::vector<Transition> x;
  for (const Item& i : t->tracks[0]->items)
    if (const auto* one = std::get_if<Transition>(&i)) x.push_back(*one);
  ASSERT_EQ(x.size(), 2u);
  EXPECT_EQ(x[0].kind, "dissolve");
  EXPECT_EQ(x[0].in_offset, 0);
  EXPECT_EQ(x[0].out_offset, 24) << "it begins at the cut, as lists have it";
  EXPECT_EQ(x[1].kind, "wipe");
}

TEST(EditList, DropFrameCountsAsItSays) {
  const TimelinePtr t = read("TITLE: D\nFCM: DROP FRAME\n001 A V C 00:00:59;28 00:01:00;04 01:00:59;28 01:01:00;04\n", {30000, 1001});
  EXPECT_EQ(t->duration(), 4) << "00:00:59;29 is followed by 00:01:00;02";
  EXPECT_EQ(timecode(t->start, t->rate, t->drop_frame), "01:00:59;28");
}

TEST(EditList, GapsSoundAndOtherChannelsAreTold) {
  const TimelinePtr t = read(R"(TITLE: G
001  A        B     C        00:00:00:00 00:00:01:00 01:00:00:00 01:00:01:00
002  A        A2    C        00:00:00:00 00:00:01:00 01:00:00:00 01:00:01:00
003  A        V     C        00:00:05:00 00:00:06:00 01:00:02:00 01:00:03:00
004  A        V2    C        00:00:05:00 00:00:06:00 01:00:02:00 01:00:03:00
005  A        V     K B      00:00:05:00 00:00:06:00 01:00:03:00 01:00:04:00
SPLIT: AUDIO DELAY= 00:00:00:05
)");
  ASSERT_EQ(segments(t).size(), 3u);
  EXPECT_TRUE(std::holds_alternative<Gap>(t->tracks[0]->items[1]));
  std::string told;
  for (const std::string& r : t->remarks) told += r + "\n";
  for (const char* what : {"Sound", "V2", "read as a cut", "Line 7"}) EXPECT_THAT(told, HasSubstr(what));
}

TEST(EditList, WhatCannotBeReadNamesItsLine) {
  EXPECT_THAT(refused("TITLE: nothing\n"), HasSubstr("no events"));
  EXPECT_THAT(refused("001 A V C 00:00:00:00 00:00:01:00 01:00:00:00\n001 A V C 0 24 01:00:00:00 01:00:01:00\n"), HasSubstr("line 2"));
  EXPECT_THAT(refused("001 A V C 00:00:00:30 00:00:01:00 01:00:00:00 01:00:01:00\n"), HasSubstr("no timecode"));
  EXPECT_THAT(refused("001 A V C 00:00:00:00 00:00:01:00 01:00:01:00 01:00:00:00\n"), HasSubstr("ends before it begins"));
  EXPECT_THAT(refused("001 A V D 00:00:00:00 00:00:01:00 01:00:00:00 01:00:01:00\n"), HasSubstr("without its length"));
  EXPECT_THAT(refused("001 A V C 00:00:00:00 00:00:01:00 01:00:00:00 01:00:01:00\n*ASC_SOP (1 1 1)(0 0)\n"), HasSubstr("nine numbers"));
}

TEST(EditList, WhatIsWrittenIsReadBack) {
  const TimelinePtr t = read(kCuts);
  const EdlText out = edl_of(*t, [&](const MediaSource& m) { return m.start; });
  EXPECT_TRUE(out.left_out.empty()) << out.left_out.front();
  const TimelinePtr again = read(out.text);
  ASSERT_EQ(segments(again).size(), 3u);
  EXPECT_EQ(again->start, t->start);
  EXPECT_EQ(again->duration(), t->duration());
  for (std::size_t i = 0; i < 3; ++i) EXPECT_EQ(segments(again)[i]->duration, segments(t)[i]->duration);
  EXPECT_EQ(grade_of(*segments(again)[0])->slope[2], 0.9);
}

TEST(EditList, WhatItCannotCarryIsListed) {
  test::Build b(256, 144);
  b.media("m", "/m.mov", 100).track("V1").segment("a", "m", 0, 24, {test::cdl("g", 1.1), test::blur("b", 2)});
  b.track("V2").segment("over", "m", 0, 24);
  const EdlText out = edl_of(*b.done(), {});
  ASSERT_EQ(out.left_out.size(), 2u);
  EXPECT_THAT(out.left_out[0] + out.left_out[1], testing::AllOf(HasSubstr("blur"), HasSubstr("V2")));
}

// ASC CDL: out = (in × slope + offset) ^ power, then saturation. The file is written and read by OpenColorIO.
TEST(Grades, ACollectionComesBackAndIsTakenOverByName) {
  const test::TempFolder dir;
  Grade one, two;
  one.id = "a", one.slope[0] = 1.2, one.offset[1] = -0.02, one.power[2] = 0.9, one.saturation = 1.1;
  two.id = "elsewhere";
  ASSERT_TRUE(write_grades({one, two}, dir / "g.ccc"));
  const auto read = read_grades(dir / "g.ccc");
  ASSERT_TRUE(read) << read.error().text();
  ASSERT_EQ(read->size(), 2u);
  EXPECT_EQ(read->at(0).id, "a");
  EXPECT_NEAR(read->at(0).slope[0], 1.2, 1e-9);
  const TimelinePtr t = test::Build().media("m", "/m.mov", 100).track("V1").segment("a", "m", 0, 24).segment("c", "m", 0, 24).done();
  const GradesTaken taken = with_grades(t, *read);
  EXPECT_EQ(taken.segments, (std::vector<std::string>{"a"}));
  EXPECT_EQ(taken.unused, (std::vector<std::string>{"elsewhere"}));
  EXPECT_NEAR(grade_of(*find_segment(*taken.timeline, "a"))->saturation, 1.1, 1e-9);
  test::put(dir / "odd.ccc", "<ColorCorrection");
  EXPECT_FALSE(read_grades(dir / "odd.ccc"));
}

TEST(Grades, OneCorrectionAsOtherProgramsWriteIt) {
  const test::TempFolder dir;
  test::put(dir / "KILN01.cc", R"(<?xml version="1.0"?>
<ColorCorrection id="KILN01"><SOPNode><Slope>1.1 1 0.9</Slope><Offset>0 0 0</Offset><Power>1 1 1</Power></SOPNode>
<SatNode><Saturation>0.8</Saturation></SatNode></ColorCorrection>)");
  const auto g = read_grades(dir / "KILN01.cc");
  ASSERT_TRUE(g) << g.error().text();
  EXPECT_EQ(g->at(0).id, "KILN01");
  EXPECT_NEAR(g->at(0).saturation, 0.8, 1e-9);
}

class ListsByCommand : public test::Commands {};

TEST_F(ListsByCommand, AListFindsItsMediaAndPlaysTheRightFrames) {
  fs::create_directories(dir_ / "media");
  ASSERT_TRUE(test::shell("ffmpeg -v error -y -f lavfi -i testsrc2=s=256x144:r=24:d=8 -timecode 01:00:08:00 -c:v dnxhd -profile:v dnxhr_sq -pix_fmt yuv422p '" +
                          (dir_ / "media" / "Bowl.mov").string() + "'"));
  test::put(dir_ / "cut.edl", "TITLE: Cut\nFCM: NON-DROP FRAME\n001  KILN01   V     C        01:00:10:00 01:00:12:00 01:00:00:00 01:00:02:00\n* FROM CLIP NAME: Bowl.mov\n");
  const std::string out = (dir_ / "cut.otio").string();
  const test::Ran r = gclk("import '" + (dir_ / "cut.edl").string() + "' --folder '" + (dir_ / "media").string() + "' --out '" + out + "' --json");
  ASSERT_EQ(r.code, 0) << r.out;
  EXPECT_EQ(r.json()["segments"], 1);
  const Json i = gclk("inspect '" + out + "' --json").json();
  EXPECT_EQ(i["frames"], 48);
  EXPECT_FALSE(i["media"][0].contains("trouble")) << i["media"].dump();
  const auto t = load_timeline(out);
  ASSERT_TRUE(t);
  EXPECT_EQ(video_segments(**t)[0]->source_in, 48) << "01:00:10:00 is two seconds into a file that begins at 01:00:08:00";
  EXPECT_EQ(gclk("import '" + (dir_ / "cut.edl").string() + "' --out '" + out + "'").code, 3) << "nothing is overwritten";
  EXPECT_EQ(gclk("edl '" + out + "' --out '" + (dir_ / "again.edl").string() + "'").code, 0);
  EXPECT_THAT(*read_file(dir_ / "again.edl", 10000), HasSubstr("01:00:10:00 01:00:12:00 01:00:00:00 01:00:02:00"));
}

}  // namespace
}  // namespace gc
