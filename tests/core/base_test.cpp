#include "base/database.h"
#include "base/hash.h"
#include "base/json.h"
#include "base/rational.h"
#include "base/timecode.h"
#include "support.h"

namespace gc {
namespace {

const Rate k2997{30000, 1001};

// SMPTE ST 12-1: drop-frame counting at 30000/1001.
TEST(Timecode, DropFrameSkipsTwoNumbersEachMinuteButTheTenth) {
  EXPECT_EQ(timecode(1799, k2997), "00:00:59;29");
  EXPECT_EQ(timecode(1800, k2997), "00:01:00;02");
  EXPECT_EQ(timecode(17982, k2997), "00:10:00;00");
  EXPECT_EQ(timecode(107892, k2997), "01:00:00;00");
  EXPECT_EQ(*parse_timecode("24:00:00;00", k2997), 2589408);
  EXPECT_FALSE(parse_timecode("00:01:00;00", k2997));
}

TEST(Timecode, EveryFrameOfAnHourReadsBackAsItself) {
  for (const Rate rate : {k2997, Rate{24, 1}, Rate{24000, 1001}, Rate{60000, 1001}, Rate{25, 1}})
    for (Frames f = 0; f < 110000; f += 7)
      ASSERT_EQ(parse_timecode(timecode(f, rate), rate), f) << timecode(f, rate);
}

TEST(Timecode, RefusesWhatNamesNoFrame) {
  for (const char* text :
       {"", "x", "01:00:00", "00:61:00:00", "00:00:00:24", "1:2:3:4:5", "99999999999999999999"})
    EXPECT_FALSE(parse_timecode(text, {24, 1})) << text;
  EXPECT_EQ(parse_timecode("-00:00:01:00", {24, 1}), -24);
}

TEST(Rational, KnowsTheRatesOfTheTrade) {
  EXPECT_EQ(Rate::near(23.976), (Rate{24000, 1001}));
  EXPECT_EQ(Rate::near(29.97002997), (Rate{30000, 1001}));
  EXPECT_EQ(Rate::near(12.5), (Rate{25, 2}));
  EXPECT_NEAR(Rate({24, 1}).frame_ms(), 41.667, 0.001);
}

TEST(Rational, SourceFramesFollowSpeedAndRate) {
  EXPECT_EQ(source_frame(10, 5, {1, 1}, {24, 1}, {24, 1}), 15);
  EXPECT_EQ(source_frame(0, 5, {1, 2}, {24, 1}, {24, 1}), 2);
  EXPECT_EQ(source_frame(0, 24, {1, 1}, {50, 1}, {25, 1}), 48);
  EXPECT_EQ(source_frame(7, 100, {0, 1}, {24, 1}, {24, 1}), 7);
  EXPECT_EQ(source_frame(50, 3, {-1, 1}, {24, 1}, {24, 1}), 47);
  // A day at 23.976 against 24 does not overflow or drift.
  EXPECT_EQ(source_frame(0, 86400LL * 24, {1, 1}, {24000, 1001}, {24, 1}), 86400LL * 24000 / 1001);
}

TEST(Hash, TellsConcatenationsApartAndReadsBack) {
  EXPECT_NE(Hasher().add("ab").add("c").done(), Hasher().add("a").add("bc").done());
  const Hash128 h = hash_text("kiln");
  EXPECT_EQ(Hash128::from_hex(h.hex()), h);
  EXPECT_EQ(Hash128::from_hex("short"), Hash128{});
}

TEST(Files, AnAtomicWriteLeavesTheOldFileWhenItFails) {
  const test::TempFolder dir;
  const fs::path file = dir / "project.otio";
  ASSERT_TRUE(write_file_atomic(file, "first"));
  ASSERT_TRUE(write_file_atomic(file, "second"));
  EXPECT_EQ(*read_file(file), "second");
  const auto r = write_file_atomic(dir / "no-such-folder/x", "y");
  ASSERT_FALSE(r);
  EXPECT_EQ(r.error().fault, Fault::environment);
  EXPECT_THAT(r.error().text(), testing::HasSubstr("no-such-folder"));
  // A full disk: the device that is always full.
  EXPECT_FALSE(write_file_atomic("/dev/full/x", "y"));
  EXPECT_EQ(std::distance(fs::directory_iterator(dir.path()), fs::directory_iterator()), 1)
      << "no temporary file may stay behind";
}

TEST(JsonInput, NamesTheLineAndRefusesBottomlessNesting) {
  const auto broken = parse_json("{\n\"a\": 1,\n!}", "cut.otio");
  ASSERT_FALSE(broken);
  EXPECT_THAT(broken.error().text(), testing::HasSubstr("cut.otio"));
  EXPECT_THAT(broken.error().text(), testing::HasSubstr("line 3"));
  EXPECT_FALSE(parse_json(std::string(100000, '['), "deep"));
  EXPECT_FALSE(parse_json("", "empty"));
  EXPECT_TRUE(parse_json("\"[[[[ in a string \\\" [[[\"", "text", 2));
}

TEST(DatabaseFile, FromANewerVersionIsRefusedAndLeftAlone) {
  const test::TempFolder dir;
  ASSERT_TRUE(Database::open(dir / "n.sqlite", 9, "CREATE TABLE x(y);", "notebook"));
  const auto r = Database::open(dir / "n.sqlite", 1, "CREATE TABLE z(y);", "notebook");
  ASSERT_FALSE(r);
  EXPECT_EQ(r.error().fault, Fault::bad_input);
  EXPECT_THAT(r.error().text(), testing::HasSubstr("newer version"));
  EXPECT_TRUE(Database::open(dir / "n.sqlite", 9, "", "notebook"));
}

TEST(DatabaseFile, RubbishIsNamedNotOverwritten) {
  const test::TempFolder dir;
  test::put(dir / "n.sqlite", std::string(5000, 'x'));
  const auto r = Database::open(dir / "n.sqlite", 1, "CREATE TABLE x(y);", "notebook");
  ASSERT_FALSE(r);
  EXPECT_EQ(fs::file_size(dir / "n.sqlite"), 5000u);
}

}  // namespace
}  // namespace gc
