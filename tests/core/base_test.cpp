#include "base/database.h"
#include "base/hash.h"
#include "base/json.h"
#include "base/mean.h"
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

TEST(WeightedMedian, LiesWhereHalfOfTheWeightDoes) {
  EXPECT_EQ(weighted_median({}), 0);
  EXPECT_EQ(weighted_median({{7, 3}}), 7);
  EXPECT_EQ(weighted_median({{3, 1}, {1, 1}, {2, 1}}), 2) << "of equal weights the usual median";
  EXPECT_EQ(weighted_median({{1, 1}, {2, 1}}), 1.5);
  EXPECT_EQ(weighted_median({{1, 10}, {100, 1}, {1, 10}}), 1) << "a light one far off moves nothing";
  EXPECT_NEAR(weighted_median({{1, 3}, {2, 1}}), 1.25, 1e-12);
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

constexpr const char* kOne[] = {"CREATE TABLE x(y);"};
constexpr const char* kTwo[] = {"CREATE TABLE x(y);", "ALTER TABLE x ADD z; INSERT INTO x VALUES(1, 2);"};

TEST(DatabaseFile, FromANewerVersionIsRefusedAndLeftAlone) {
  const test::TempFolder dir;
  ASSERT_TRUE(Database::open(dir / "n.sqlite", kTwo, "notebook"));
  const auto r = Database::open(dir / "n.sqlite", kOne, "notebook");
  ASSERT_FALSE(r);
  EXPECT_EQ(r.error().fault, Fault::bad_input);
  EXPECT_THAT(r.error().text(), testing::HasSubstr("newer version"));
  EXPECT_TRUE(Database::open(dir / "n.sqlite", kTwo, "notebook"));
}

TEST(DatabaseFile, TakesEachStepOfItsHistoryOnce) {
  const test::TempFolder dir;
  ASSERT_TRUE(Database::open(dir / "n.sqlite", kOne, "notebook"));
  for (int i = 0; i < 3; ++i) {
    auto d = Database::open(dir / "n.sqlite", kTwo, "notebook");
    ASSERT_TRUE(d);
    Statement q = d->prepare("SELECT count(*) FROM x");
    ASSERT_TRUE(q.step());
    EXPECT_EQ(q.integer(0), 1) << "the second step again";
  }
}

TEST(DatabaseFile, AStepThatFailsLeavesTheFileAsItWas) {
  const test::TempFolder dir;
  ASSERT_TRUE(Database::open(dir / "n.sqlite", kOne, "notebook"));
  constexpr const char* kBad[] = {"CREATE TABLE x(y);", "CREATE TABLE w(v); NO SUCH WORDS;"};
  EXPECT_FALSE(Database::open(dir / "n.sqlite", kBad, "notebook"));
  auto d = Database::open(dir / "n.sqlite", kOne, "notebook");
  ASSERT_TRUE(d) << "still of the first version";
  EXPECT_FALSE(d->prepare("SELECT * FROM w").step()) << "half a step";
}

TEST(DatabaseFile, AChangeHappensWholeOrNotAtAll) {
  const test::TempFolder dir;
  auto d = Database::open(dir / "n.sqlite", kOne, "notebook");
  ASSERT_TRUE(d);
  const auto count = [&] {
    Statement q = d->prepare("SELECT count(*) FROM x");
    return q.step() ? q.integer(0) : -1;
  };
  EXPECT_FALSE(d->change([&]() -> Result<void> {
    EXPECT_TRUE(d->prepare("INSERT INTO x VALUES(1)").run());
    return d->prepare("INSERT INTO nowhere VALUES(1)").run();
  }));
  EXPECT_EQ(count(), 0);
  EXPECT_TRUE(d->change([&] { return d->prepare("INSERT INTO x VALUES(1)").run(); }));
  EXPECT_EQ(count(), 1);
}

TEST(DatabaseFile, RubbishIsNamedNotOverwritten) {
  const test::TempFolder dir;
  test::put(dir / "n.sqlite", std::string(5000, 'x'));
  const auto r = Database::open(dir / "n.sqlite", kOne, "notebook");
  ASSERT_FALSE(r);
  EXPECT_EQ(fs::file_size(dir / "n.sqlite"), 5000u);
}

TEST(Scratch, GoesWithItsOwnerAndNothingElseDoes) {
  const test::TempFolder dir;
  fs::create_directories(dir / "probe-1234");  // somebody's folder that happens to be called so
  test::put(dir / "probe-1234" / "holiday.txt", "x");
  fs::path own;
  {
    auto scratch = ScratchFolder::make(dir.path(), "probe-");
    ASSERT_TRUE(scratch);
    own = scratch->path();
    test::put(own / "file", "x");
  }
  EXPECT_FALSE(fs::exists(own));
  EXPECT_TRUE(fs::exists(dir / "probe-1234" / "holiday.txt"));
}

TEST(Scratch, OfAKilledProcessIsSweptAndOfOtherMachinesIsNot) {
  const test::TempFolder dir;
  const auto left = [&](const std::string& name, const std::string& process) {
    fs::create_directories(dir / name);
    test::put(dir / name / ".made-by-glass-clock", process + "\n");
  };
  const std::string own = own_process();
  const auto last = own.rfind(' ');
  left("probe-dead", own.substr(0, last) + " 1");                    // this number, begun at another time
  left("probe-alive", own);
  left("probe-elsewhere", "another-host 0000 7 7");
  ASSERT_TRUE(ScratchFolder::make(dir.path(), "probe-"));
  EXPECT_FALSE(fs::exists(dir / "probe-dead"));
  EXPECT_TRUE(fs::exists(dir / "probe-alive"));
  EXPECT_TRUE(fs::exists(dir / "probe-elsewhere"));
}

TEST(AtomicWrite, KeepsLinksAndPermissions) {
  const test::TempFolder dir;
  test::put(dir / "real.otio", "old");
  fs::permissions(dir / "real.otio", fs::perms::owner_read | fs::perms::owner_write);
  fs::create_symlink(dir / "real.otio", dir / "link.otio");
  ASSERT_TRUE(write_file_atomic(dir / "link.otio", "new"));
  EXPECT_TRUE(fs::is_symlink(dir / "link.otio"));
  EXPECT_EQ(*read_file(dir / "real.otio"), "new");
  EXPECT_EQ(fs::status(dir / "real.otio").permissions(), fs::perms::owner_read | fs::perms::owner_write);
}

TEST(AtomicWrite, TwoAtOnceNeverMix) {
  const test::TempFolder dir;
  const auto write = [&](char c) {
    for (int i = 0; i < 40; ++i) EXPECT_TRUE(write_file_atomic(dir / "f", std::string(20000, c)));
  };
  std::thread other([&] { write('b'); });
  write('a');
  other.join();
  const std::string text = *read_file(dir / "f");
  EXPECT_TRUE(text == std::string(20000, 'a') || text == std::string(20000, 'b'));
  EXPECT_EQ(std::distance(fs::directory_iterator(dir.path()), fs::directory_iterator()), 1) << "left-overs";
}

}  // namespace
}  // namespace gc
