// What stops a delivery, who may say that it need not, and for how long that counts.
#include "commands.h"
#include "desk/inspection.h"
#include "desk/report.h"
#include "desk/watched.h"
#include "interchange/otio.h"
#include "release/gate.h"

namespace gc {
namespace {

using test::an;
using test::Build;
using testing::HasSubstr;

class TheGate : public testing::Test {
 protected:
  Gate check(const TimelinePtr& t, bool pixels = true) {
    const ProgramPtr p = Program::compile(t, media_);
    const Inspection pictures{pixels ? coverage(*p) : std::vector<Coverage>(), {}, {}, {}};
    return check_gate(*p, nullptr, pixels ? &pictures : nullptr);
  }
  static const GateItem* first(const Gate& g, GateKind kind) {
    const auto it = std::ranges::find_if(g.items, [&](const GateItem& i) { return i.kind == kind; });
    return it == g.items.end() ? nullptr : &*it;
  }
  /// As it comes back from a file.
  TimelinePtr saved(const TimelinePtr& t) {
    const fs::path file = dir_ / "t.otio";
    EXPECT_TRUE(save_timeline(*t, file));
    const auto read = load_timeline(file.string());
    EXPECT_TRUE(read);
    return read ? *read : nullptr;
  }
  test::TempFolder dir_;
  MediaCatalog media_;
};

TEST_F(TheGate, BlackThatNobodyWantedStopsUntilSomebodySaysByNameThatItIsWanted) {
  const auto cut = [](Frames before) {
    return Build(64, 36).track("V1").gap(before).solid("a", 10, 0.5, 0.5, 0.5).gap(5).solid("b", 10, 0.2, 0.2, 0.2).done();
  };
  const TimelinePtr t = cut(24);
  const Gate gate = check(t);
  ASSERT_EQ(gate.count(GateKind::gap), 2);
  EXPECT_FALSE(gate.may_deliver());
  EXPECT_EQ(gate.items[0].item, "gap:0-24");
  EXPECT_EQ(gate.items[1].item, "gap:34-39");
  EXPECT_THAT(gate.items[1].what, HasSubstr("5 black frames"));
  EXPECT_FALSE(acceptance_of(gate.items[0], "", "it begins in black", "now")) << "nobody said it";
  EXPECT_FALSE(acceptance_of(gate.items[0], "Ines Tal", " ", "now")) << "it has no reason";
  TimelinePtr accepted = t;
  for (const GateItem& i : gate.items) accepted = with_acceptance(*accepted, *acceptance_of(i, "Ines Tal", "it begins in black", "2026-11-29T07:00:00Z"));
  const Gate after = check(saved(accepted));
  EXPECT_TRUE(after.may_deliver());
  ASSERT_TRUE(after.items[0].accepted);
  EXPECT_EQ(after.items[0].accepted->who, "Ines Tal");
  EXPECT_THAT(after.sentence(), HasSubstr("2 things are accepted by hand"));
  // Another gap than the one that was looked at.
  auto moved = std::make_shared<Timeline>(*cut(20));
  moved->acceptances = accepted->acceptances;
  EXPECT_EQ(check(moved).count(GateKind::gap), 2);
  EXPECT_FALSE(check(moved).may_deliver());
  EXPECT_FALSE(check(with_acceptance_withdrawn(*accepted, "gap:0-24")).may_deliver());
  EXPECT_FALSE(with_acceptance_withdrawn(*accepted, "gap:1-24"));
}

TEST_F(TheGate, AcceptancesThatNobodySignedInTheFileCountForNothing) {
  auto t = std::make_shared<Timeline>(*Build(64, 36).track("V1").gap(4).solid("a", 10, 0.5, 0.5, 0.5).done());
  t->acceptances = {{"gap:0-4", "", "", "", "because"}};
  EXPECT_TRUE(saved(t)->acceptances.empty());
}

TEST_F(TheGate, ASliverThatNothingCoversStopsUntilItIsAcceptedAsItIs) {
  const auto cut = [](double scale) {
    return Build(64, 36).track("V1").solid("whole", 6, 0.2, 0.2, 0.2).solid("small", 6, 0.5, 0.5, 0.5, {an("transform", {{"scale", scale}})}).done();
  };
  const Gate gate = check(cut(0.9));
  ASSERT_EQ(gate.count(GateKind::uncovered), 1);
  const GateItem& item = *first(gate, GateKind::uncovered);
  EXPECT_EQ(item.item, "uncovered:small");
  EXPECT_THAT(item.what, HasSubstr("3 at the left"));  // (64 − 57.6) ÷ 2, of which whole columns
  EXPECT_FALSE(gate.may_deliver());
  EXPECT_TRUE(check(cut(0.9), false).may_deliver()) << "nobody looked";
  auto accepted = with_acceptance(*cut(0.9), *acceptance_of(item, "Ines Tal", "a frame is wanted", "now"));
  EXPECT_TRUE(check(accepted).may_deliver());
  auto smaller = std::make_shared<Timeline>(*cut(0.8));
  smaller->acceptances = accepted->acceptances;
  EXPECT_FALSE(check(smaller).may_deliver()) << "another sliver";
}

TEST_F(TheGate, AnEffectThatCannotRunIsDeliveredWithoutItOnlyWhenSomebodyAgreed) {
  const auto cut = [](double amount) { return Build(64, 36).track("V1").solid("a", 6, 0.5, 0.5, 0.5, {an("Nobodys glow", {{"amount", amount}})}).done(); };
  const Gate gate = check(cut(1));
  ASSERT_EQ(gate.count(GateKind::effect), 1);
  EXPECT_FALSE(gate.may_deliver());
  EXPECT_EQ(put_right(*cut(1), *first(gate, GateKind::effect), "now"), nullptr) << "that takes a person";
  const TimelinePtr accepted = with_acceptance(*cut(1), *acceptance_of(*first(gate, GateKind::effect), "Ines Tal", "it hardly shows", "now"));
  EXPECT_TRUE(check(accepted).may_deliver());
  auto stronger = std::make_shared<Timeline>(*cut(2));
  stronger->acceptances = accepted->acceptances;
  EXPECT_FALSE(check(stronger).may_deliver()) << "nobody has accepted it with these values";
}

TEST_F(TheGate, WhatAKeyCanPutRightIsPutRight) {
  const TimelinePtr t = Build(64, 36).track("V1").solid("a", 6, 0.5, 0.5, 0.5, {test::blur("soft", 2), an("cost_card", {{"ms", 1}})}).done();
  auto carded = std::make_shared<Timeline>(*with_bypass(*t, "a", "soft", true, "now"));
  TimelinePtr now = carded;
  EXPECT_EQ(check(now).items.size(), 2u);
  for (const GateItem& i : check(carded).items) {
    EXPECT_TRUE(i.item.empty()) << "nobody may accept that: " << i.what;
    EXPECT_FALSE(acceptance_of(i, "Ines Tal", "I do not mind", "now"));
    now = put_right(*now, i, "later");
    ASSERT_TRUE(now) << i.what;
  }
  EXPECT_TRUE(check(now).items.empty());
  EXPECT_EQ(find_segment(*now, "a")->stack.size(), 1u);
  EXPECT_FALSE(now->slips.front().open());
}

TEST_F(TheGate, WhatTheSeatDrawsOtherwiseOrCannotTrustStops) {
  const TimelinePtr t = Build(64, 36).track("V1").solid("a", 6, 0.5, 0.5, 0.5, {test::blur("soft", 2), test::cdl("g", 1.1)}).done();
  const ProgramPtr p = Program::compile(t, media_);
  Inspection found;
  found.differing = {"blur"}, found.damaged = {"The notebook is damaged: a page is missing."};
  const Gate gate = check_gate(*p, nullptr, &found);
  ASSERT_EQ(gate.items.size(), 2u);
  const GateItem *device = first(gate, GateKind::device), *records = first(gate, GateKind::records);
  ASSERT_TRUE(device && records);
  EXPECT_EQ(device->effect, "soft");
  EXPECT_FALSE(gate.may_deliver());
  EXPECT_FALSE(acceptance_of(*records, "Ines Tal", "it will do", "now")) << "nobody can vouch for that";
  const TimelinePtr accepted = with_acceptance(*t, *acceptance_of(*device, "Ines Tal", "seen side by side", "now"));
  found.damaged.clear();
  EXPECT_TRUE(check_gate(*Program::compile(accepted, media_), nullptr, &found).may_deliver());
}

// A file of the seat's that is hurt on its drive is found by the closer look.
TEST_F(TheGate, ADamagedIndexIsFound) {
  DeskOptions o;
  o.shelf = dir_ / "shelf", o.notebook = dir_ / "notebook.sqlite", o.settings = {};
  const Stores stores = *Stores::open(o);
  const View v = view_of(Build(64, 36).track("V1").solid("a", 6, 0.5, 0.5, 0.5).done(), stores);
  EXPECT_TRUE(inspect(v, stores).damaged.empty());
  {
    // A row that no index knows of, as a lost write leaves it.
    sqlite3* raw = nullptr;
    ASSERT_EQ(sqlite3_open((dir_ / "shelf" / "index.sqlite").c_str(), &raw), SQLITE_OK);
    const std::unique_ptr<sqlite3, int (*)(sqlite3*)> db(raw, sqlite3_close);
    ASSERT_EQ(sqlite3_exec(raw, "PRAGMA writable_schema=ON; CREATE TABLE other(a); CREATE INDEX by_a ON other(a); INSERT INTO other VALUES(1);"
                                "UPDATE sqlite_master SET rootpage = (SELECT rootpage FROM sqlite_master WHERE name = 'other') WHERE name = 'by_a';",
                           nullptr, nullptr, nullptr), SQLITE_OK);
  }
  const Stores again = *Stores::open(o);
  EXPECT_THAT(inspect(v, again).damaged, testing::SizeIs(1));
}

TEST_F(TheGate, EveryKindHasANameOfItsOwnInTheDocument) {
  Gate gate;
  std::set<std::string> names;
  for (int k = 0; k <= static_cast<int>(GateKind::records); ++k) gate.items.push_back({static_cast<GateKind>(k), true, "", 0, "", ""});
  const Json j = to_json(gate);
  for (const Json& i : j["items"]) names.insert(i["kind"].get<std::string>());
  EXPECT_EQ(names.size(), gate.items.size());
  EXPECT_FALSE(names.contains(""));
}

// A key whose edge falls on flickering light, and a plain grade over the same light.
TEST_F(TheGate, WhatOnlyPlayingShowsMustBeWatchedOnceEachTimeItChanges) {
  const std::string clip = (dir_ / "flicker.mkv").string();
  // Even grey that goes up and down by two steps of 255 from frame to frame.
  ASSERT_TRUE(test::shell("ffmpeg -v error -y -f lavfi -i \"color=c=gray:s=64x48:r=24:d=1,geq=lum='128+2*mod(N,2)':cb=128:cr=128\" -pix_fmt yuv420p -c:v ffv1 '" + clip + "'"));
  DeskOptions o;
  o.shelf = dir_ / "shelf", o.notebook = dir_ / "n.sqlite", o.workers = 2, o.settings = {};
  const Stores stores = *Stores::open(o);
  const auto cut = [&](const Effect& e) { return Build(64, 48).media("m", clip, 24).track("V1").segment("a", "m", 0, 24, {e}).done(); };
  const auto log_file = dir_ / "watched.sqlite";
  auto log = WatchLog::open(log_file);
  ASSERT_TRUE(log);
  const View repaired = view_of(cut(an("dust", {{"threshold", 0.9}})), stores);
  const auto found = unwatched(repaired, *stores.media, *log);
  ASSERT_EQ(found.size(), 1u);
  EXPECT_NEAR(found[0].change, 2 * 255.0 / 219, 0.4) << "two steps of video range";
  EXPECT_TRUE(must_watch(view_of(cut(an("dust", {{"threshold", 0.7}})), stores), *stores.media, *log, [] { return false; }).empty())
      << "without looking only what was looked at is known";
  EXPECT_TRUE(unwatched(view_of(cut(test::cdl("g", 1.1)), stores), *stores.media, *log).empty()) << "a grade is judged on a still";
  // A key that takes all of it adds nothing to what the light does by itself.
  EXPECT_TRUE(unwatched(view_of(cut(an("secondary", {{"use_key", 1}})), stores), *stores.media, *log).empty());
  // Played without a drop, it was watched; with one dropped, or after another change, it was not.
  Playout p;
  p.mode = PlayMode::on_the_clock;
  for (Frames f = 0; f < 24; ++f) p.log.push_back({.frame = f, .made = true, .presented = true, .dropped = f == 7});
  ASSERT_TRUE(note_watched(repaired, p, *log, "2026-11-29T07:00:00Z"));
  EXPECT_EQ(unwatched(repaired, *stores.media, *log).size(), 1u);
  p.log[7].dropped = false;
  const View bypassed = view_of(with_bypass(*repaired.timeline, "a", find_segment(*repaired.timeline, "a")->stack.front().id, true, "now"), stores);
  ASSERT_TRUE(note_watched(bypassed, p, *log, "2026-11-29T07:00:00Z"));
  EXPECT_EQ(unwatched(repaired, *stores.media, *log).size(), 1u) << "it was watched without its repair";
  ASSERT_TRUE(note_watched(repaired, p, *log, "2026-11-29T07:00:00Z"));
  auto again = WatchLog::open(log_file);
  EXPECT_TRUE(unwatched(repaired, *stores.media, *again).empty());
  EXPECT_EQ(must_watch(repaired, *stores.media, *again, [] { return false; }).size(), 1u) << "it is still to be judged in real time";
  EXPECT_EQ(unwatched(view_of(cut(an("dust", {{"threshold", 0.8}})), stores), *stores.media, *again).size(), 1u);
  // At the gate.
  const Inspection pictures{{}, found, {}, {}};
  const Gate gate = check_gate(*repaired.delivered, nullptr, &pictures);
  EXPECT_FALSE(gate.may_deliver());
  EXPECT_THAT(gate.items.front().what, HasSubstr("Nobody has watched 'a'"));
  EXPECT_TRUE(acceptance_of(gate.items.front(), "Ines Tal", "seen on the stage", "now"));
}

class GateByCommand : public test::Commands {};

TEST_F(GateByCommand, ThingsAreAcceptedByNameAndTheReportSaysWho) {
  const std::string file = (dir_ / "c.otio").string();
  ASSERT_TRUE(save_timeline(*Build(64, 36).track("V1").gap(6).solid("a", 10, 0.5, 0.5, 0.5, {an("transform", {{"scale", 0.5}})}).done(), file));
  EXPECT_EQ(gclk("gate '" + file + "'").code, 1);
  EXPECT_EQ(gclk("accept '" + file + "' gap:0-6 --by 'Ines Tal'").code, 2) << "without a reason";
  EXPECT_EQ(gclk("accept '" + file + "' gap:0-7 --by 'Ines Tal' --why 'as wanted'").code, 2) << "there is no such gap";
  const Json said = gclk("accept '" + file + "' gap uncovered --by 'Ines Tal' --why 'as wanted' --json").json();
  EXPECT_EQ(said["accepted"].size(), 2u);
  const Json gate = gclk("gate '" + file + "' --json").json();
  EXPECT_TRUE(gate["may_deliver"].get<bool>());
  EXPECT_EQ(gate["items"][0]["accepted"]["who"], "Ines Tal");
  EXPECT_EQ(gclk("report '" + file + "' --out '" + (dir_ / "r.html").string() + "'").code, 0);
  EXPECT_THAT(read_file(dir_ / "r.html").value_or(""), HasSubstr("Accepted by Ines Tal"));
  EXPECT_EQ(gclk("accept '" + file + "' gap:0-6 --withdraw").code, 0);
  EXPECT_EQ(gclk("gate '" + file + "' --quick").code, 1);
}

}  // namespace
}  // namespace gc
