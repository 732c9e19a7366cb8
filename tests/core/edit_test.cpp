// Edits of stacks, cost cards from tables, settings, and how all of it goes through the file.
#include "desk/settings.h"
#include "interchange/cards.h"
#include "support.h"

namespace gc {
namespace {

using test::an;
using test::Build;

std::vector<std::string> ids(const Timeline& t) {
  std::vector<std::string> all;
  for (const Effect& e : find_segment(t, "a")->stack) all.push_back(e.id);
  return all;
}

TEST(Stack, EffectsAreAddedMovedAndRemoved) {
  const TimelinePtr t =
      Build().track("V1").solid("a", 5, 0.5, 0.5, 0.5, {an("cdl", {}), an("blur", {})}).done();
  TimelinePtr x = with_effect_added(*t, "a", an("glow", {}), 1);
  EXPECT_THAT(ids(*x), testing::ElementsAre("cdl", "glow", "blur"));
  x = with_effect_moved(*x, "a", "cdl", 99);
  EXPECT_THAT(ids(*x), testing::ElementsAre("glow", "blur", "cdl"));
  x = with_effect_removed(*x, "a", "blur", "now");
  EXPECT_THAT(ids(*x), testing::ElementsAre("glow", "cdl"));
  EXPECT_THAT(ids(*t), testing::ElementsAre("cdl", "blur")) << "the old value is untouched";
  EXPECT_FALSE(with_effect_removed(*t, "a", "nothing", "now"));
  EXPECT_FALSE(with_effect_added(*t, "nobody", an("glow", {}), 0));
}

TEST(Stack, ASecondEffectOfAKindGetsAnIdOfItsOwn) {
  const TimelinePtr t = Build().track("V1").solid("a", 5, 0.5, 0.5, 0.5).done();
  Effect e = an("blur", {});
  e.id = "";
  TimelinePtr x = with_effect_added(*t, "a", e, 0);
  x = with_effect_added(*x, "a", e, 9);
  EXPECT_THAT(ids(*x), testing::ElementsAre("a-blur", "a-blur-2"));
}

TEST(File, LayersKeysMattesTransitionsAndSpacesSurviveIt) {
  Build b;
  b.spaces("ACEScg", "Rec. 2020");
  b.track("V1")
      .solid("a", 20, 0.2, 0.3, 0.4)
      .transition("wipe", 3, 4, {{"angle", 45}})
      .solid("b", 20, 0.6, 0.5, 0.4);
  b.track("M").matte_only().solid("m", 40, 0.5, 0.5, 0.5);
  b.track("V2").solid(
      "c", 20, 1, 1, 1,
      {an("blur", {{"sigma", {{"keys", {{{"at", 0}, {"value", 1}}, {{"at", 9}, {"value", 5}}}}}}})});
  b.with([](Segment& s) {
    s.blend = "soft-light",
    s.opacity = Json{{"keys", {{{"at", 0}, {"value", 0.0}}, {{"at", 10}, {"value", 1.0}}}}};
    s.matte = {"M", true, true}, s.fit = Fit::fill, s.between = Between::flow, s.speed = {1, 2};
    s.stack[0].device = "accelerator";
  });
  b.adjustment("adj", 20, {an("saturation", {{"amount", 0.5}})});
  b.timeline().cards["com.other.sparkle"] = {12.5, 3840, 2160, "accelerator"};
  const TimelinePtr t = b.done();
  const auto again = timeline_from_otio(timeline_to_otio(*t), "t", "/");
  ASSERT_TRUE(again) << again.error().text();
  const Segment& s = *find_segment(**again, "c");
  EXPECT_EQ(s.blend, "soft-light");
  EXPECT_EQ(s.matte, (Matte{"M", true, true}));
  EXPECT_EQ(s.fit, Fit::fill);
  EXPECT_EQ(s.between, Between::flow);
  EXPECT_EQ(s.speed, (Ratio{1, 2}));
  EXPECT_EQ(s.stack.back().device, "accelerator");
  EXPECT_EQ(find_segment(**again, "adj")->content, Content::adjustment);
  EXPECT_EQ((*again)->working_space, "ACEScg");
  EXPECT_EQ((*again)->cards.at("com.other.sparkle").ms, 12.5);
  EXPECT_TRUE((*again)->tracks[1]->matte_only);
  MediaCatalog media;
  const ProgramPtr p = Program::compile(t, media), q = Program::compile(*again, media);
  for (const Frames f : {0, 5, 18, 21, 33}) EXPECT_EQ(p->fingerprint(f), q->fingerprint(f)) << f;
  EXPECT_EQ(timeline_to_otio(**again),
            timeline_to_otio(**timeline_from_otio(timeline_to_otio(**again), "t", "/")));
}

TEST(Cards, AreReadFromATable) {
  const auto cards = cards_from_csv(
      "name,ms,width,height,device\n\"Sparkle, big\",85.5,3840,2160,accelerator\nSmoke, 3\n\n", "costs.csv");
  ASSERT_TRUE(cards) << cards.error().text();
  EXPECT_EQ(cards->at("Sparkle, big").ms, 85.5);
  EXPECT_EQ(cards->at("Sparkle, big").device, "accelerator");
  EXPECT_EQ(cards->at("Smoke").width, 1920);
}

class BadTable : public testing::TestWithParam<std::pair<const char*, const char*>> {};
INSTANTIATE_TEST_SUITE_P(
    Tables, BadTable,
    testing::Values(std::pair{"", "empty"}, std::pair{"effect,cost\na,1\n", "'name' and 'ms'"},
                    std::pair{"name,ms\nSmoke,much\n", "line 2"}, std::pair{"name,ms\nSmoke,-1\n", "from 0"},
                    std::pair{"name,ms\nSmoke,\n", "no usable ms"},
                    std::pair{"name,ms,device\nSmoke,1,toaster\n", "processor or accelerator"},
                    std::pair{"name,ms\n,4\n", "no name"}));
TEST_P(BadTable, IsRefusedWithItsLine) {
  const auto cards = cards_from_csv(GetParam().first, "costs.csv");
  ASSERT_FALSE(cards);
  EXPECT_THAT(cards.error().text(), testing::HasSubstr(GetParam().second));
  EXPECT_THAT(cards.error().text(), testing::HasSubstr("costs.csv"));
}

TEST(Settings, AreKeptAndABrokenFileIsNotTouched) {
  test::TempFolder folder;
  const fs::path file = folder / "settings.json";
  Settings s;
  ASSERT_TRUE(set_setting(s, "playback", "accelerator"));
  ASSERT_TRUE(set_setting(s, "scale", "4"));
  ASSERT_TRUE(set_setting(s, "precision", "half"));
  ASSERT_TRUE(save_settings(s, file));
  const Settings again = load_settings(file);
  EXPECT_EQ(again.playback, Device::accelerator);
  EXPECT_EQ(again.rendering, Device::processor);
  EXPECT_EQ(again.scale, 4);
  EXPECT_TRUE(again.half);
  test::put(file, "{ not json");
  EXPECT_EQ(load_settings(file).scale, 1);
  EXPECT_EQ(*read_file(file), "{ not json");
  EXPECT_FALSE(set_setting(s, "scale", "3"));
  EXPECT_FALSE(set_setting(s, "colour", "blue"));
}

TEST(Settings, NeverReachWhatIsDelivered) {
  test::TempFolder folder;
  DeskOptions o;
  o.shelf = folder / "shelf", o.notebook = folder / "n.sqlite";
  o.settings = {};
  o.settings.scale = 4, o.settings.draft = o.settings.half = true;
  const Stores stores = *Stores::open(o);
  const View v = view_of(Build().track("V1").solid("a", 30, 0.4, 0.5, 0.6).done(), stores);
  EXPECT_EQ(v.played->width(), 64);
  EXPECT_TRUE(v.delivered->options().full_quality());
  EXPECT_EQ(v.delivered->width(), 256);
  // Rendered media are made at full size too, though playback is scaled.
  ASSERT_TRUE(prerender(v.played, *stores.shelf, {{0, 24}}, {2, false}, {}));
  const Image sealed = test::frame_of(*v.delivered, 3, stores.shelf.get());
  EXPECT_EQ(sealed.width(), 256);
  EXPECT_THAT(test::pixel(sealed, 100, 100), test::near({0.4f, 0.5f, 0.6f, 1}, 0.004f));
  EXPECT_TRUE(v.played->recipe(3, stores.shelf.get()).seal) << "and playback at a lower scale reads them";
}

}  // namespace
}  // namespace gc
