// The desk, its documents, and the demo production.
#include "demo/scaling.h"
#include "desk/remedies.h"
#include "desk/report.h"
#include "desk/suppose.h"
#include "support.h"

namespace gc {
namespace {

using test::Build;

class AtTheDesk : public testing::Test {
 protected:
  AtTheDesk() {
    DeskOptions o;
    o.shelf = dir_ / "shelf", o.notebook = dir_ / "n.sqlite", o.workers = 2;
    stores_ = *Stores::open(o);
  }
  View view(const TimelinePtr& t) { return view_of(t, stores_); }
  test::TempFolder dir_;
  Stores stores_;
};

TEST_F(AtTheDesk, RangesAreFramesOrTimecodes) {
  auto t = std::make_shared<Timeline>(*Build().track("V1").solid("a", 240, 0, 0, 0).done());
  t->start = 86400;
  const View v = view(t);
  EXPECT_EQ(*parse_range("", v), (FrameRange{0, 240}));
  EXPECT_EQ(*parse_range("10-20", v), (FrameRange{10, 20}));
  EXPECT_EQ(*parse_range("10-", v), (FrameRange{10, 240}));
  EXPECT_EQ(*parse_range("-20", v), (FrameRange{0, 20}));
  EXPECT_EQ(*parse_range("01:00:01:00-01:00:02:12", v), (FrameRange{24, 60}));
  for (const char* bad : {"20-10", "0-241", "x-y", "01:00:00:00-00:00:00:00", "5-5"}) {
    const auto r = parse_range(bad, v);
    ASSERT_FALSE(r) << bad;
    EXPECT_EQ(r.error().fault, Fault::usage);
    EXPECT_THAT(r.error().text(), testing::HasSubstr("01:00:10:00")) << "it says what would do";
  }
}

TEST_F(AtTheDesk, PlaysWithBypassesAndDeliversWithout) {
  const TimelinePtr t =
      Build().track("V1").solid("a", 24, 0.5, 0.5, 0.5, {test::blur("b", 9), test::cdl("g", 1.2)}).done();
  const View plain = view(t), bypass = view(with_bypass(*t, "a", "b", true, "now"));
  EXPECT_EQ(plain.played, plain.delivered);
  EXPECT_NE(bypass.played, bypass.delivered);
  EXPECT_LT(bypass.played->stages(0).size(), bypass.delivered->stages(0).size());
  EXPECT_EQ(bypass.delivered->fingerprint(3), plain.delivered->fingerprint(3));
}

TEST_F(AtTheDesk, DocumentsSayWhatIsThere) {
  const TimelinePtr t = Build()
                            .media("gone", "/nowhere/x.mov")
                            .track("V1")
                            .solid("a", 24, 0.5, 0.5, 0.5, {test::blur("b", 9)})
                            .segment("lost", "gone", 0, 10)
                            .done();
  const Json d = describe(view(with_bypass(*t, "a", "b", true, "now")), *stores_.media);
  EXPECT_EQ(d["frames"], 34);
  EXPECT_EQ(d["tracks"][0]["segments"][0]["stack"][0]["bypassed"], true);
  EXPECT_EQ(d["tracks"][0]["segments"][1]["in"], 24);
  EXPECT_EQ(d["media"][0]["online"], false);
  EXPECT_THAT(d["media"][0]["trouble"].get<std::string>(), testing::HasSubstr("missing"));
  EXPECT_EQ(d["slips"], 1);
}

TEST_F(AtTheDesk, ATimelineOfNothingIsNoTrouble) {
  for (const TimelinePtr& t :
       {Build().done(), Build().track("V1").done(), Build().track("V1").gap(10).done()}) {
    const View v = view(t);
    const Plan p = make_plan(situation_of(v, stores_), whole(v), {});
    EXPECT_TRUE(p.remedies.empty());
    EXPECT_EQ(check_gate(*v.delivered, stores_.shelf.get()).may_deliver(), whole(v).length() == 0) << "black is delivered when somebody wants it";
    NullDisplay display;
    const std::atomic<bool> stop{false};
    EXPECT_EQ(play(v.played, nullptr, whole(v), stores_.play_options(PlayMode::every_frame, v, whole(v)),
                   display, stop)
                  .dropped,
              0);
  }
}

TEST_F(AtTheDesk, SaysWhatAChangeWouldBringWithoutMakingIt) {
  const TimelinePtr t = Build(320, 180)
                            .track("V1")
                            .solid("light", 96, 0, 0, 0)
                            .solid("heavy", 120, 0.5, 0.5, 0.5, {test::blur("b", 9)})
                            .done();
  const ProgramPtr p = view(t).played;
  const auto learn = [&](const std::vector<StageRef>& stages, float effect_ms) {
    for (const StageRef& r : stages) {
      const float ms = r.kind == StageKind::effect ? effect_ms : 4;
      stores_.notebook->add_stage(r, std::vector<StageSample>(16, {r.kind, r.key, ms, ms, r.owner}));
    }
  };
  learn(p->stages(0), 0), learn(p->stages(100), 110), learn(p->sealed_stages(), 0);
  const auto drops = [&](const Supposition& s) {
    auto f = forecast_if(t, stores_, {0, 216}, s);
    EXPECT_TRUE(f) << (f ? "" : f.error().text());
    return f ? f->expected_drops : -1;
  };
  const double now = drops({});
  ASSERT_GT(now, 5);
  Supposition s;
  s.bypassed = {{"heavy", "b"}};
  EXPECT_EQ(drops(s), 0);
  EXPECT_FALSE(bypassed(*t, "heavy", "b")) << "it was only asked";
  s = {}, s.rendered = {{96, 216}};
  EXPECT_EQ(drops(s), 0);
  s = {}, s.remembered = {{96, 216}};
  EXPECT_EQ(drops(s), 0);
  s = {}, s.settings = {{"scale", "4"}};
  EXPECT_LT(drops(s), now / 2);
  s = {}, s.others = 0.4;
  EXPECT_GT(drops(s), now + 5);
  for (const auto& [wrong, word] : {std::pair{Supposition{{{"heavy", "x"}}}, "inspect"},
                                    std::pair{Supposition{{}, {}, {}, {{"scale", "3"}}}, "16"},
                                    std::pair{Supposition{{}, {}, {}, {}, 1.5}, "0.9"}}) {
    const auto f = forecast_if(t, stores_, {0, 216}, wrong);
    ASSERT_FALSE(f) << word;
    EXPECT_THAT(f.error().text(), testing::HasSubstr(word)) << "it says what would do";
  }
}

TEST_F(AtTheDesk, UnknownEffectsArePassedThroughAndNamed) {
  Effect strange;
  strange.id = "x", strange.type = "someone.stylise", strange.ours = false;
  const View v = view(Build().track("V1").solid("a", 24, 0.5, 0.5, 0.5, {strange}).done());
  EXPECT_NEAR(test::frame_of(*v.played, 2).data()[0], 0.5f, 1e-6);
  const Gate g = check_gate(*v.delivered, nullptr);
  EXPECT_FALSE(g.may_deliver()) << "without it, it is another picture";
  ASSERT_EQ(g.items.size(), 1u);
  EXPECT_THAT(g.items[0].what, testing::HasSubstr("someone.stylise"));
}

TEST(Wording, TimesAndSizesReadAsAPersonSaysThem) {
  EXPECT_EQ(duration_text(3.04), "3.0 s");
  EXPECT_EQ(duration_text(39.6), "40 s");
  EXPECT_EQ(duration_text(200), "3 min 20 s");
  EXPECT_EQ(duration_text(7300), "2 h 1 min");
  EXPECT_EQ(bytes_text(405504), "406 kB");
  EXPECT_EQ(bytes_text(103'000'000), "103 MB");
  EXPECT_EQ(bytes_text(19'000'000'000), "19.0 GB");
}

TEST(Demo, IsTheProductionItClaimsToBe) {
  const test::TempFolder one;
  DemoOptions o;
  o.width = 256, o.height = 144, o.length = 1;
  auto a = make_demo(one.path(), o, {});
  ASSERT_TRUE(a) << a.error().text();
  EXPECT_TRUE(a->media_made);
  EXPECT_GE(a->segments, 22);
  EXPECT_GE(a->sources, 6);
  EXPECT_GE(a->seconds_of_picture, 75);
  EXPECT_LE(a->seconds_of_picture, 100);
  const TimelinePtr t = *load_timeline(a->timeline);
  int video = 0, audio = 0, notes = 0, dissolves = 0;
  for (const TrackPtr& track : t->tracks) {
    (track->video ? video : audio) += 1;
    for (const Item& i : track->items) {
      if (const auto* s = std::get_if<SegmentPtr>(&i)) notes += !(*s)->note.empty();
      dissolves += std::holds_alternative<Transition>(i);
    }
  }
  EXPECT_EQ(video, 3);
  EXPECT_EQ(audio, 2);
  EXPECT_GE(notes, 5);
  EXPECT_EQ(dissolves, 1);
  EXPECT_EQ(t->compositions.size(), 1u);
  MediaCatalog media;
  const ProgramPtr p = Program::compile(t, media);
  EXPECT_TRUE(check_gate(*p, nullptr).may_deliver()) << check_gate(*p, nullptr).sentence();
  std::set<std::string> codecs;
  for (const auto& s : p->segments())
    if (s->content == Content::source) codecs.insert(s->media.codec + (s->media.intra ? " intra" : ""));
  EXPECT_THAT(codecs, testing::IsSupersetOf({"H.264", "H.264 intra", "VC-3 intra", "Motion JPEG intra"}));
  // Made again it takes the media that are there. What its heavy segments are scaled by makes no difference to them.
  o.stated = true;
  EXPECT_FALSE(make_demo(one.path(), o, {})->media_made);
}

TEST(Demo, ComesOutTheSameToTheByteForTheSameSeed) {
  const test::TempFolder one, two;
  DemoOptions o;
  o.width = 256, o.height = 144, o.length = 0.2;
  o.stated = true;  // what the heavy segments are scaled by is no part of the media
  ASSERT_TRUE(make_demo(one.path(), o, {}));
  ASSERT_TRUE(make_demo(two.path(), o, {}));
  int compared = 0;
  for (const auto& entry : fs::directory_iterator(one / "media")) {
    ++compared;
    EXPECT_EQ(hash_text(*read_file(entry.path())),
              hash_text(*read_file(two.path() / "media" / entry.path().filename())))
        << entry.path().filename();
  }
  EXPECT_GE(compared, 6);
}

// The heavy segments must not come out light because other programs ran while they were looked at.
TEST(Demo, ItsSegmentsAreScaledByWorkAndNotByWhoElseIsThere) {
  const auto frame = [](double waited) {
    FrameResult r;
    r.fetch_began_ms = 1000, r.done_ms = 1090 + 2 * waited;
    r.stages = {{StageKind::decode, {}, static_cast<float>(20 + waited), 20}, {StageKind::effect, {}, static_cast<float>(50 + waited), 50},
                {StageKind::effect, {}, 20, 1}};
    r.stages.back().by_wall = true;  // a device works, and its thread waits for it
    return r;
  };
  EXPECT_NEAR(kiln::own_work_ms(frame(0)), 90, 1e-9);
  EXPECT_NEAR(kiln::own_work_ms(frame(60)), 90, 1e-9) << "two processors' worth of other programs changed what it is said to cost";
}

TEST(Demo, AFolderThatCannotBeWrittenIsSaid) {
  const auto r = make_demo("/proc/kiln", {}, {});
  ASSERT_FALSE(r);
  EXPECT_EQ(r.error().fault, Fault::environment);
}

}  // namespace
}  // namespace gc
