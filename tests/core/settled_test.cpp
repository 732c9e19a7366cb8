// Settledness: which edits count for what, and what plans make of it.
#include "commands.h"
#include "desk/settled.h"

namespace gc {
namespace {

using test::Build;

TimelinePtr two() {
  return Build().media("m", "/m.mov", 100).track("V1").segment("a", "m", 0, 24, {test::blur("b", 2), test::cdl("g", 1.1)}).segment("c", "m", 24, 24, {test::cdl("h", 1)}).done();
}

TEST(ChangesBetween, NameTheLowestEffectThatIsAnother) {
  const TimelinePtr t = two();
  EXPECT_TRUE(changes_between(*t, *t).empty());
  EXPECT_EQ(changes_between(*t, *with_param(*t, "a", "g", "saturation", 0.5)), (std::vector<Change>{{"a", 1}}));
  EXPECT_EQ(changes_between(*t, *with_param(*t, "a", "b", "sigma", 5)), (std::vector<Change>{{"a", 0}}));
  auto renamed = std::make_shared<Segment>(*find_segment(*t, "a"));
  renamed->name = "another name";
  EXPECT_TRUE(changes_between(*t, *with_segment(*t, renamed)).empty()) << "its picture is the same";
  auto slipped = std::make_shared<Segment>(*find_segment(*t, "c"));
  slipped->source_in += 5;
  EXPECT_EQ(changes_between(*t, *with_segment(*t, slipped)), (std::vector<Change>{{"c", 0}}));
}

class LogOfEdits : public testing::Test {
 protected:
  test::TempFolder dir_;
  EditLog log_ = *EditLog::open(dir_ / "edits.sqlite");
  TimelinePtr t_ = two();
  static constexpr double kNow = 1e9, kHour = 3600, kWhole = 1 << 20;
  double chance(const std::string& segment, std::size_t below = 1 << 20, double hours = 12) { return log_.chance(*t_, segment, below, hours, kNow); }
};

TEST_F(LogOfEdits, ManyEditsMakeAChangeLikelyAndOnlyBelowTheTap) {
  EXPECT_EQ(chance("a"), 0);
  for (int i = 0; i < 6; ++i) ASSERT_TRUE(log_.note(*t_, {{"a", 1}}, kNow - 24 * kHour + i * kHour));
  // Six edits in a day: 1 − exp(−6 ÷ 24 × 12).
  EXPECT_NEAR(chance("a"), 1 - std::exp(-3.0), 1e-9);
  EXPECT_EQ(chance("a", 1), 0) << "nothing below the grade was ever touched";
  EXPECT_EQ(chance("c"), 0);
  EXPECT_LT(chance("a", 1 << 20, 1), chance("a"));
  ASSERT_TRUE(log_.lock(*t_, "a", true));
  EXPECT_EQ(chance("a"), 0);
  ASSERT_TRUE(log_.lock(*t_, "a", false));
  EXPECT_GT(chance("a"), 0.9);
}

TEST_F(LogOfEdits, ADraggedSliderIsOneEditAndOldOnesFade) {
  for (int i = 0; i < 50; ++i) ASSERT_TRUE(log_.note(*t_, {{"a", 1}}, kNow - 7200 + i));
  EXPECT_NEAR(chance("a"), 1 - std::exp(-1.0 / 24 * 12), 1e-9);
  ASSERT_TRUE(log_.note(*t_, {{"c", 0}}, kNow - 30 * 24 * kHour));
  EXPECT_EQ(chance("c"), 0) << "a month ago";
}

class SettledByCommand : public test::Commands {};

TEST_F(SettledByCommand, AnEditIsNotedAndALockHolds) {
  const std::string cut = small();
  ASSERT_EQ(gclk("set " + cut + " a g saturation 1.3").code, 0);
  const auto of = [&](const Json& j, const char* id) {
    for (const Json& s : j["segments"])
      if (s["segment"] == id) return s;
    return Json();
  };
  Json j = gclk("settled " + cut + " --json").json();
  EXPECT_GT(of(j, "a")["chance"].get<double>(), 0);
  EXPECT_EQ(of(j, "a")["chance_below_top"], 0.0);
  EXPECT_EQ(of(j, "c")["chance"], 0.0);
  ASSERT_EQ(gclk("settled " + cut + " --lock a").code, 0);
  j = gclk("settled " + cut + " --json").json();
  EXPECT_EQ(of(j, "a")["locked"], true);
  EXPECT_EQ(of(j, "a")["chance"], 0.0);
}

}  // namespace
}  // namespace gc
