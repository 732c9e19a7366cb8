// Each kind of remedy on real frames: proposed with its price and gain, applied, played, undone and lifted; and what it
// hides never reaches the delivery.
#include "desk/carry_score.h"
#include "desk/relink.h"
#include "desk/remedy_score.h"
#include "queue/sampling.h"
#include "release/gate.h"
#include "remedies.h"

namespace gc {
namespace {

using test::Build;

using test::Remedies;
class KeptStacks : public test::AllKinds {};

TEST_F(Remedies, APreRenderSavesWhatItSaysAndIsPlayed) {
  const Proposal p = proposal("render:a");
  EXPECT_GT(p.drops_saved, 1.5) << "of a second, after its pre-roll";
  EXPECT_TRUE(p.quote.known);
  EXPECT_GT(p.quote.seconds, 24 * 0.200 / 2 * 0.8) << "the stated stage alone takes that on two workers";
  const Applied done = applied("render:a");
  EXPECT_EQ(done.made.frames, 24);
  EXPECT_EQ(done.timeline, timeline_) << "it is no edit";
  EXPECT_EQ(situation().route.count(FrameState::sealed), 24u);
  EXPECT_EQ(done.played, 24);
  EXPECT_LT(done.load_seen, 1) << "the segment took 2.4 times the budget before";
  EXPECT_EQ(proposal("render:a").refused, "it is sealed already.");
}

// Only the frames that a remedy can reach are simulated for its gain: the same as over the whole timeline.
TEST(Gains, AreThoseOfTheWholeTimeline) {
  test::TempFolder dir;
  Build b(64, 36);
  b.track("V1");
  for (int i = 0; i < 30; ++i) b.solid("s" + std::to_string(i), 72, 0.2, 0.2, 0.01 * i, {test::blur("b" + std::to_string(i), i % 10 == 7 ? 9 : 1.5)});
  const auto shelf = *Shelf::open(dir / "shelf");
  const auto notebook = *Notebook::open(dir / "notebook.sqlite");
  MediaCatalog media;
  const ProgramPtr program = Program::compile(b.done(), media);
  for (const CompiledInterval& i : program->intervals())
    for (const StageRef& r : program->stages(i.in)) {
      const float ms = i.in / 72 % 10 == 7 ? 110.0f : 4.0f;
      notebook->add_stage(r, std::vector<StageSample>(8, {r.kind, r.key, ms, ms, r.owner, 0}));
    }
  ForecastOptions options;
  options.workers = 2;
  const Situation s = situation_for(program, *notebook, shelf.get(), media, shelf->route(*program), options, Device::processor, Form::vc3_hqx);
  for (const char* id : {"render:s7", "render:s17", "render:s27", "render:s12"}) {
    const auto p = proposal_of(s, id);
    ASSERT_TRUE(p) << id;
    const Supposed then = p->kind->suppose(s, *p);
    const double whole = s.now->expected_drops - forecast(*then.program, *notebook, then.route, s.now->range, options).expected_drops;
    EXPECT_NEAR(drops_saved(s, *p), whole, 0.5 + 0.03 * whole) << id;
    EXPECT_EQ(whole > 5, std::string(id).ends_with("7")) << id << ' ' << whole;
  }
}

// Nothing is free because the seat has never met it: until somebody tries it, a form takes half as much again as the usual one.
TEST(Gains, AFormThatWasNeverPlayedIsNotFree) {
  test::TempFolder dir;
  Build b(320, 180);
  b.track("V1").solid("s", 72, 0.2, 0.2, 0.3, {test::blur("b", 9), test::cdl("g", 1.1)});
  const auto shelf = *Shelf::open(dir / "shelf");
  const auto notebook = *Notebook::open(dir / "notebook.sqlite");
  MediaCatalog media;
  const ProgramPtr program = Program::compile(b.done(), media);
  const auto state = [&](const std::vector<StageRef>& stages, float ms) {
    for (const StageRef& r : stages) notebook->add_stage(r, std::vector<StageSample>(8, {r.kind, r.key, ms, ms, r.owner, 0}));
  };
  state(program->stages(0), 40);
  state(program->rendered_stages({{}, TapKind::frame, 0, Form::vc3_hqx}), 6);
  const auto rendered = [&](Form form) {
    ForecastOptions options;
    options.workers = 2;
    const Situation s = situation_for(program, *notebook, shelf.get(), media, shelf->route(*program), options, Device::processor, form);
    auto p = proposal_of(s, "tap:s:1");
    EXPECT_TRUE(p);
    p->subject.form = form;
    const Supposed then = p->kind->suppose(s, *p);
    std::map<StageKind, double> ms;
    for (const StageCost& c : forecast(*then.program, *notebook, then.route, s.now->range, options).intervals.front().stages) ms[c.kind] = c.ms;
    return ms;
  };
  EXPECT_NEAR(rendered(Form::vc3_hqx)[StageKind::decode], 6, 0.1);
  EXPECT_NEAR(rendered(Form::exr_half_alpha)[StageKind::decode], 9, 0.1);
  EXPECT_NEAR(rendered(Form::exr_half_alpha)[StageKind::convert], 9, 0.1);
}

TEST_F(Remedies, ATapKeepsTheGradeLive) {
  EXPECT_GT(proposal("tap:a:2").drops_saved, 1.5);
  EXPECT_EQ(applied("tap:a:2").made.frames, 24);
  const TimelinePtr graded = with_param(*timeline_, "a", "grade", "saturation", 0.4);
  EXPECT_GT(situation(graded).route.count(FrameState::half), 20u);
  EXPECT_GT(psnr(played(graded, 8), delivered(graded, 8)), 38);
}

// An effect that looks at neighbours sees beyond the ends of its segment, where nothing is kept: a stack is kept above it, and what
// is kept below one all the same is said to answer those frames alone that look at nothing else.
TEST_F(KeptStacks, NothingIsSaidToBeFetchedThatIsMade) {
  Build b(320, 180);
  b.media("o", over_, 40).track("V1");
  for (const Frames at : {2, 22})
    b.segment("s" + std::to_string(at), "o", at, 15,
              {test::an("spatial_nr", {{"radius", 2}}), test::blur("b", 2), test::an("temporal_nr", {{"frames", 2}}), test::cdl("grade", 1.2)});
  timeline_ = b.done();
  ASSERT_TRUE(measure(view_of(timeline_, stores_).played, *stores_.notebook, stores_.measure_options(2, false), {}));
  const Situation s = situation();
  EXPECT_TRUE(proposal_of(s, "tap:s2:3"));
  EXPECT_FALSE(proposal_of(s, "tap:s2:1") || proposal_of(s, "tap:s2:2"));
  const auto below = proposal_of(s, "tap:all:spatial_nr");
  ASSERT_TRUE(below);
  const Route said = below->kind->suppose(s, *below).route;
  EXPECT_EQ(said.count(FrameState::half), 2u * (15 - 2 * 2));
  applied("tap:all:spatial_nr");
  EXPECT_EQ(situation().route, said);
}

// After a plan was carried out much is part fetched, part live. That too is measured, and nothing else stands in for it.
TEST_F(Remedies, FramesThatArePartFetchedAreMeasuredAsTheyPlay) {
  ASSERT_EQ(applied("tap:a:2").made.frames, 24);
  const View v = view_of(timeline_, stores_);
  ASSERT_EQ(v.seals[8], FrameState::half);
  const Hash128 half = frame_key(v.played->stages(8, v.seals.taps(8)));
  ASSERT_TRUE(stores_.notebook->frames(half).empty());
  ASSERT_TRUE(measure(v.played, *stores_.notebook, stores_.measure_options(2, false), {}));
  EXPECT_TRUE(stores_.notebook->frames(half).empty()) << "nobody said what is rendered";
  ASSERT_TRUE(measure(v.played, *stores_.notebook, stores_.measure_options(2, false, &v), {}));
  EXPECT_GE(stores_.notebook->frames(half).size(), 8u);
  // What is fetched was read and decoded as it lies on the shelf.
  const Chunk piece = stores_.shelf->pieces().front();
  for (const StageRef& r : v.played->rendered_stages({{}, TapKind::frame, 0, piece.form, piece.width, piece.height}))
    EXPECT_EQ(stores_.notebook->stage(r).origin, Origin::measured) << stage_name(r.kind);
}

TEST_F(Remedies, ABakedCompositionServesEveryUse) {
  const Proposal p = proposal("bake:comp");
  EXPECT_EQ(p.segments, (std::vector<std::string>{"c1", "c2"}));
  EXPECT_EQ(applied("bake:comp").made.frames, 24);
  EXPECT_EQ(situation().route.count(FrameState::half), 48u);
  EXPECT_GT(psnr(played(timeline_, 40), delivered(timeline_, 40)), 38);
  EXPECT_EQ(proposal("bake:comp").refused, "it is on the shelf already.");
}

TEST_F(Remedies, AMezzanineIsTheSameAtFullSize) {
  const Proposal p = proposal("mezzanine:m");
  EXPECT_EQ(p.hides, "");
  EXPECT_EQ(p.serves, Truth::exact);
  EXPECT_GT(applied("mezzanine:m").made.frames, 40);
  EXPECT_EQ(situation().route.count(FrameState::half), 48u);
  EXPECT_GT(psnr(played(timeline_, 30), delivered(timeline_, 30)), 34);
  EXPECT_THAT(proposal("mezzanine:o").refused, testing::HasSubstr("light to decode"));
}

TEST_F(Remedies, AProxyPlaysWhileItsSlipIsOpenAndIsNeverDelivered) {
  const Image truth = delivered(timeline_, 30);
  const Applied done = applied("proxy:m:2");
  ASSERT_TRUE(done.timeline);
  ASSERT_NE(done.timeline, timeline_);
  ASSERT_EQ(done.timeline->slips.size(), 1u);
  EXPECT_EQ(done.timeline->slips.front().who, "a tester");
  // Scaled down and up again, as FFmpeg's scaler does: the same place, less detail.
  EXPECT_GT(psnr(played(done.timeline, 30), truth), 20);
  EXPECT_LT(psnr(played(done.timeline, 30), truth), 60) << "it is no full-size picture";
  EXPECT_TRUE(std::isinf(psnr(delivered(done.timeline, 30), truth)));
  EXPECT_FALSE(check_gate(*view_of(done.timeline, stores_).delivered, stores_.shelf.get()).may_deliver());
  const TimelinePtr lifted = with_lifted(*done.timeline, [](const Slip&) { return true; }, "2026-01-01T00:00:00Z");
  ASSERT_TRUE(lifted);
  EXPECT_TRUE(std::isinf(psnr(played(lifted, 30), truth)));
}

TEST_F(Remedies, ScaleOfASpanChangesOnlyItsFrames) {
  const Situation s = situation();
  std::optional<Proposal> found;
  for (Proposal& p : remedies_for(s, {0, 48}))
    if (p.id.starts_with("scale:2:") && !found) found = p;
  ASSERT_TRUE(found);
  EXPECT_EQ(found->at.in, 0);
  ASSERT_EQ(found->at.out, 24) << "from cut to cut";
  const TimelinePtr scaled = with_slip(*timeline_, *found->kind->slip(*found), "2026-01-01T00:00:00Z");
  Decoders decoders;
  StageLog log;
  const View v = view_of(scaled, stores_);
  EXPECT_EQ(render_frame(*v.played, 3, nullptr, decoders, log).width(), 160);
  EXPECT_EQ(render_frame(*v.played, 30, nullptr, decoders, log).width(), 320);
  EXPECT_EQ(v.delivered->width(), 320);
  // What the forecast counts for it are the stages at that scale.
  log.clear();
  (void)render_frame(*v.played, 3, nullptr, decoders, log);
  const auto counted = v.played->stages(3);
  for (const StageSample& stage : log)
    EXPECT_TRUE(std::ranges::any_of(counted, [&](const StageRef& c) { return c.key == stage.key; })) << stage_name(stage.kind);
}

// A span that plays at half scale is sealed at full size all the same.
TEST_F(Remedies, WhatIsRenderedIsNeverScaled) {
  const TimelinePtr scaled = with_slip(*timeline_, {.kind = slip_kind::scale, .size = 2, .in = 0, .out = 24}, "2026-01-01T00:00:00Z");
  const View v = view_of(scaled, stores_);
  ASSERT_EQ(v.played->playing(3).width(), 160);
  ASSERT_TRUE(prerender(v.played, *stores_.shelf, {{0, 12}}, stores_.prerender_options({}, *v.timeline), {}));
  EXPECT_EQ(stores_.shelf->pieces().front().width, 320);
  const TimelinePtr lifted = with_lifted(*scaled, [](const Slip&) { return true; }, "2026-01-01T00:00:00Z");
  EXPECT_EQ(situation(lifted).route.count(FrameState::sealed), 12u);
  EXPECT_GT(psnr(played(lifted, 5), delivered(lifted, 5)), 38);
}

TEST_F(Remedies, BypassesOfEveryReach) {
  timeline_ = with_truth(*timeline_, {"a", "c", "c1", "c2"}, Truth::timing);
  struct Case {
    const char* id;
    const char* text;
  };
  for (const Case& c : {Case{"bypass:a/heavy", "is bypassed"}, Case{"bypass:segment:a", "all effects of 'a'"}, Case{"bypass:type:cdl", "every cdl"},
                        Case{"bypass:track:V1", "track 'V1'"}, Case{"bypass:all", "all effects"}, Case{"bypass:picture", "picture is off"}}) {
    const Applied done = applied(c.id);
    ASSERT_TRUE(done.timeline) << c.id;
    ASSERT_EQ(done.timeline->slips.size(), 1u) << c.id;
    EXPECT_THAT(slip_text(*done.timeline, done.timeline->slips.front()), testing::HasSubstr(c.text));
    EXPECT_TRUE(std::isinf(psnr(delivered(done.timeline, 8), delivered(timeline_, 8)))) << c.id;
    EXPECT_FALSE(check_gate(*view_of(done.timeline, stores_).delivered, nullptr).may_deliver()) << c.id;
    const TimelinePtr lifted = with_lifted(*done.timeline, [](const Slip&) { return true; }, "2026-01-01T00:00:00Z");
    ASSERT_TRUE(lifted);
    EXPECT_TRUE(std::isinf(psnr(played(lifted, 8), played(timeline_, 8)))) << c.id;
  }
  EXPECT_GT(proposal("bypass:a/heavy").drops_saved, 1.5);
}

TEST_F(Remedies, ARegionIsMadeAndTheRestIsBlack) {
  timeline_ = with_truth(*timeline_, {"a", "c", "c1", "c2"}, Truth::timing);
  const Applied done = applied("region:middle");
  ASSERT_TRUE(done.timeline);
  const Image image = played(done.timeline, 8);
  EXPECT_EQ(image.row(2)[4 * 5], 0);
  EXPECT_GT(image.row(90)[4 * 160 + 1], 0);
}

TEST_F(Remedies, DraftScalingIsASlipThatIsLiftedAgain) {
  const std::string large = test::movie(dir_ / "large.mp4", Form::h264_intra, 640, 360, 24);
  timeline_ = Build(320, 180).media("l", large, 24).track("V1").segment("a", "l", 0, 24, {test::cdl("grade", 1.2)}).done();
  const Image well = played(timeline_, 8);
  const Applied done = applied("draft:all");
  ASSERT_TRUE(done.timeline);
  const Image quick = played(done.timeline, 8);
  EXPECT_GT(psnr(quick, well), 30) << "the same picture";
  EXPECT_LT(psnr(quick, well), 90) << "not scaled the same way";
  EXPECT_FALSE(check_gate(*view_of(done.timeline, stores_).delivered, nullptr).may_deliver());
  EXPECT_FALSE(proposal_of(situation(done.timeline), "draft:all")->refused.empty()) << "once is enough";
  const TimelinePtr lifted = with_lifted(*done.timeline, [](const Slip& x) { return x.kind == slip_kind::draft; }, "2026-01-01T00:00:00Z");
  ASSERT_TRUE(lifted);
  EXPECT_TRUE(std::isinf(psnr(played(lifted, 8), well)));
}

// What a colourist is told of a source: a light copy at full size hides nothing, one of half of each side does.
// How many bytes a frame with transparency has no law knows, nor what playing it takes: six frames that were tried do.
TEST_F(Remedies, WhatWasTriedIsSaidWithItsSize) {
  for (const char* id : {"bake:comp", "mezzanine:m", "proxy:m:2"}) {
    const Situation before = situation();
    const auto guessed = proposal_of(before, id);
    ASSERT_TRUE(guessed) << id;
    const auto tried = try_out(before, {&*guessed, 1}, stores_, [] { return false; });
    ASSERT_TRUE(tried) << tried.error().text();
    EXPECT_EQ(*tried, 1) << id;
    EXPECT_EQ(*try_out(situation(), {&*guessed, 1}, stores_, [] { return false; }), 0) << id << " is known by now";
    const auto said = proposal_of(situation(), id);
    std::set<std::string> earlier;
    for (const Chunk& c : stores_.shelf->pieces()) earlier.insert(c.file);
    const Applied done = applied(id);
    ASSERT_GT(done.made.frames, 0) << id;
    // A fifth: pieces have headers beside their frames, and pictures this small are little more than that.
    EXPECT_NEAR(static_cast<double>(said->quote.bytes), static_cast<double>(done.made.bytes), 0.2 * static_cast<double>(done.made.bytes)) << id;
    const std::vector<Chunk> pieces = stores_.shelf->pieces();
    const auto made = std::ranges::find_if(pieces, [&](const Chunk& c) { return !earlier.contains(c.file); });
    ASSERT_NE(made, pieces.end()) << id;
    const Chunk& piece = *made;
    EXPECT_EQ(said->subject.form, piece.form) << id;
    // It was played back as well: no law knows what a form takes that was never met.
    const std::vector<StageRef> fetched = situation().played->rendered_stages({{}, TapKind::frame, 0, piece.form, piece.width, piece.height});
    EXPECT_EQ(stores_.notebook->stage(fetched[1]).origin, Origin::measured) << id;
  }
}

// Pictures with values that no form of limited range holds are kept as half floats. Who tries them knows that beforehand.
TEST_F(Remedies, WhatNeedsAnotherFormIsSaidInThatForm) {
  const TimelinePtr t = Build(320, 180).media("m", timeline_->sources.at("m")->path, 72).track("V1")
                            .segment("a", "m", 5, 24, {test::an("sharpen", {{"amount", 4.0}, {"sigma", 3.0}}), test::cdl("grade", 1.2)}).done();
  Proposal p;
  p.kind = remedy_kind("tap"), p.subject.segment = "a", p.subject.after = 1, p.subject.form = Form::vc3_hqx;
  const Situation s = situation(t);
  const auto making = p.kind->making(p);
  ASSERT_TRUE(making);
  PrerenderOptions o = stores_.prerender_options({}, *t);
  ASSERT_FALSE(is_sampled(s, *making, o));
  ASSERT_TRUE(*sample_making(s, *making, o, dir_.path(), [] { return false; }));
  EXPECT_TRUE(is_sampled(s, *making, o));
  const auto made = cache_stack(s.rendered, *stores_.shelf, "a", 1, o, {});
  ASSERT_TRUE(made);
  EXPECT_EQ(stores_.shelf->pieces().front().form, form_of_light(false));
  EXPECT_EQ(made->pieces, 1) << "it began with a form that does not hold them";
}

TEST_F(Remedies, ASourcesCopiesAreToldTogether) {
  const auto copies = copies_for(situation(), "m");
  ASSERT_EQ(copies.size(), 2u);
  EXPECT_EQ(copies[0].id, "mezzanine:m");
  EXPECT_TRUE(copies[0].hides.empty());
  EXPECT_EQ(copies[1].id, "proxy:m:2");
  EXPECT_FALSE(copies[1].hides.empty());
  EXPECT_TRUE(copies_for(situation(), "none").empty());
  // Reading is tried with the copy, and the price goes by it.
  const Situation s = situation();
  const auto of = std::ranges::find_if(s.rendered->segments(), [](const CompiledSegmentPtr& c) { return c->segment->ref == "m"; });
  ASSERT_NE(of, s.rendered->segments().end());
  ASSERT_TRUE(stores_.notebook->encode(copy_reading_key(**of)).empty());
  ASSERT_TRUE(*sample_making(s, *copies[0].kind->making(copies[0]), stores_.prerender_options({}, *timeline_), dir_.path(), [] { return false; }));
  EXPECT_FALSE(stores_.notebook->encode(copy_reading_key(**of)).empty());
  stores_.notebook->add_encode(copy_reading_key(**of), std::vector<EncodeSample>(200, {1000, 1000}));
  EXPECT_GT(copies_for(situation(), "m")[0].quote.seconds, copies[0].quote.seconds + 5) << "a second for each frame";
}

// Met is five of six that play in every playout, and both prices within 15 % in nine of ten of those that were rendered.
TEST(CarriedPlans, AreCountedAsTheGoalSays) {
  CarriedPlan good;
  good.said_s = 10, good.taken_s = 11, good.said_bytes = 100, good.bytes = 110, good.dropped_after = {0, 0};
  std::vector<CarriedPlan> all(6, good);
  all[0].dropped_after = {0, 5};
  Json j = to_json(all);
  EXPECT_EQ(j["play"], 5);
  EXPECT_TRUE(j["met"].get<bool>());
  all[1].failed = "the volume is full";
  EXPECT_FALSE(to_json(all)["met"].get<bool>()) << "what could not be carried out does not play";
  all[1].failed.clear(), all[2].bytes = 200;
  j = to_json(all);
  EXPECT_EQ(j["bytes_within"], 5);
  EXPECT_FALSE(j["met"].get<bool>());
  EXPECT_FALSE(to_json(std::vector<CarriedPlan>{})["met"].get<bool>()) << "nothing was tried";
}

// Forty that were tried, both figures in nine of ten; what failed counts as not within.
TEST(TriedRemedies, AreCountedAsTheGoalSays) {
  TriedRemedy good;
  good.kind = "tap", good.said_s = 10, good.taken_s = 11, good.gain_said = 19, good.gain_seen = 20;
  good.drops_without = {30, 31}, good.drops_with = {10, 11};
  std::vector<TriedRemedy> all(40, good);
  for (int i = 0; i < 4; ++i) all[static_cast<std::size_t>(i)].taken_s = 20, all[static_cast<std::size_t>(i)].gain_seen = 30;
  Json j = to_json(all);
  EXPECT_DOUBLE_EQ(j["price_within"], 0.9);
  EXPECT_DOUBLE_EQ(j["gain_within"], 0.9);
  EXPECT_DOUBLE_EQ(j["playout_against_playout"], 1);
  EXPECT_TRUE(j["met"].get<bool>());
  all.back().failed = "no such segment";
  EXPECT_FALSE(to_json(all)["met"].get<bool>());
  all.pop_back();
  EXPECT_FALSE(to_json(all)["met"].get<bool>()) << "39 are too few";
}

// Two playouts each where they agree, more where they do not, and an end to it.
TEST(TriedRemedies, ArePlayedUntilTheGainIsTold) {
  TriedRemedy t;
  const auto told = [&](std::vector<double> without, std::vector<double> with) {
    t.drops_without = std::move(without), t.drops_with = std::move(with);
    return t.gain_seen_well();
  };
  EXPECT_FALSE(told({10, 10}, {3})) << "one playout tells nothing of how far they differ";
  EXPECT_TRUE(told({10, 11}, {3, 3}));
  EXPECT_FALSE(told({10, 20}, {3, 3}));
  EXPECT_TRUE(told({100, 104}, {3, 3})) << "of many drops a tenth is tolerated";
  EXPECT_FALSE(told({100, 104}, {103, 99})) << "a gain of next to nothing is not told by playouts that differ by so much";
  EXPECT_TRUE(told({10, 40, 10, 40, 10, 40}, {0, 30, 0, 30, 0, 30})) << "at most six";
}

// Somebody's timeline rarely has all its media: what has its pictures is rendered all the same.
TEST_F(Remedies, FramesWithoutPicturesAreLeftOutOfWhatIsRendered) {
  Build inner(320, 180);
  inner.media("gone", (dir_ / "gone.mov").string(), 40).track("low").segment("lost", "gone", 0, 24);
  Build b(320, 180);
  b.media("gone", (dir_ / "gone.mov").string(), 40).composition("comp", inner.done()->tracks);
  Effect heavy = test::an("Slow spell", Json::object());
  b.track("V1").solid("under", 24, 0.2, 0.3, 0.4, {heavy}).use("nest", "comp", 12);
  b.track("V2").gap(8).segment("hole", "gone", 0, 6, {test::blur("s2", 6), test::cdl("g", 1.1)});
  auto t = std::make_shared<Timeline>(*b.done());
  t->cards = timeline_->cards, timeline_ = t;
  const Proposal p = proposal("render:under");
  EXPECT_TRUE(p.refused.empty()) << p.refused;
  EXPECT_EQ(p.subject.frames, (std::vector<FrameRange>{{0, 8}, {14, 24}}));
  EXPECT_NE(p.sentence.find("6 of its frames have no picture"), std::string::npos) << p.sentence;
  EXPECT_EQ(applied("render:under").made.frames, 18);
  EXPECT_EQ(situation().route.count(FrameState::sealed), 18u);
  EXPECT_EQ(proposal("render:nest").refused, "it has no picture.");
  EXPECT_EQ(proposal("bake:comp").refused, "something in it has no picture.");
  EXPECT_EQ(proposal("render:hole").refused, "it has no picture.");
}

TEST_F(Remedies, WhatIsJudgedExactlyIsNeverHidden) {
  const TimelinePtr exact = with_truth(*timeline_, {"a"}, Truth::exact);
  const Situation s = situation(exact);
  int refused = 0, offered = 0;
  for (const Proposal& p : remedies_for(s, {0, 24})) {
    if (p.hides.empty()) continue;
    if (p.at.in >= 24) continue;
    EXPECT_FALSE(p.refused.empty()) << p.id;
    ++refused;
  }
  EXPECT_GT(refused, 5);
  for (const Proposal& p : remedies_for(situation(with_truth(*timeline_, {"a", "c", "c1", "c2"}, Truth::timing)), {0, 48})) offered += p.refused.empty() && !p.hides.empty();
  EXPECT_GT(offered, 5);
}

TEST_F(Remedies, TrivialFramesAreRefusedWithTheReason) {
  const TimelinePtr plain = Build(320, 180).track("V1").solid("s", 48, 0.2, 0.2, 0.2).done();
  EXPECT_TRUE(measure(view_of(plain, stores_).played, *stores_.notebook, stores_.measure_options(1, false), {}));
  const auto p = proposal_of(situation(plain), "render:s");
  ASSERT_TRUE(p);
  EXPECT_THAT(p->refused, testing::HasSubstr("gains nothing"));
}

// VC-3 begins at 256 by 120 pixels (SMPTE ST 2019-1) and has no odd sides: such timelines are kept in another form, and are
// measured and priced in that.
TEST_F(Remedies, SmallAndOddRastersHaveAPriceToo) {
  for (const auto& [width, height] : {std::pair{180, 320}, {321, 181}, {160, 96}}) {
    SCOPED_TRACE(fmt::format("{}x{}", width, height));
    Effect heavy = test::an("Slow spell", Json::object());
    heavy.id = "heavy";
    auto t = std::make_shared<Timeline>(*Build(width, height).media("o", over_, 40).track("V1").segment("a", "o", 0, 24, {test::blur("soft", 3), heavy, test::cdl("grade", 1.2)}).done());
    t->cards["Slow spell"] = {150, width, height, "processor"};
    EXPECT_TRUE(measure(view_of(t, stores_).played, *stores_.notebook, stores_.measure_options(2, false), {}));
    const Situation s = situation(t);
    const auto p = proposal_of(s, "render:a");
    ASSERT_TRUE(p);
    EXPECT_TRUE(p->quote.known);
    EXPECT_GT(p->quote.modelled_seconds, 0.15 * 24 / 2) << "at least what the heavy stage takes on two workers";
    const auto done = apply(s, *p, stores_, "a tester", "", "", {}, stop_);
    ASSERT_TRUE(done) << done.error().text();
    const View v = view_of(t, stores_);
    EXPECT_EQ(v.seals.count(FrameState::sealed), 24u);
    const Forecast f = forecast(*v.played, *stores_.notebook, v.seals, whole(v), stores_.forecast_options());
    EXPECT_TRUE(f.fully_measured) << "what plays the rendered frames is known";
    EXPECT_EQ(f.count(Verdict::spills), 0);
  }
}

TEST_F(Remedies, AFormTooBigForItsVolumeIsRefusedWithTheFigures) {
  ShelfVolume v = stores_.shelf->volumes().front();
  v.read_mb_s = 0.5;
  ASSERT_TRUE(stores_.shelf->set_volume(v));
  EXPECT_THAT(proposal("render:a").refused, testing::HasSubstr("the cure becomes the illness"));
}

// Uncompressed 10 bit 4:2:2 at 7680 × 4320 and 30 frames a second needs 2.65 GB/s. Common practice, no source.
TEST_F(Remedies, UncompressedUltraHighDefinitionNeedsWhatTheTradeSays) {
  EXPECT_NEAR(static_cast<double>(form_frame_bytes(Form::v210, 7680, 4320)) * 30 / 1e9, 2.65, 0.01);
}

TEST_F(Remedies, SlipsTravelInTheFile) {
  TimelinePtr t = with_slip(*timeline_, {.kind = slip_kind::scale, .size = 4, .in = 3, .out = 20, .who = "w", .why = "y", .until = "z"}, "2026-01-01T00:00:00Z");
  t = with_slip(*t, {.kind = slip_kind::region, .region = {1, 2, 30, 40}}, "2026-01-01T00:00:00Z");
  t = with_truth(*t, {"a"}, Truth::exact);
  ASSERT_TRUE(save_timeline(*t, dir_ / "t.otio"));
  const auto back = load_timeline(dir_ / "t.otio");
  ASSERT_TRUE(back) << back.error().text();
  ASSERT_EQ((*back)->slips.size(), 2u);
  EXPECT_TRUE((*back)->slips[0].same_as(t->slips[0]));
  EXPECT_TRUE((*back)->slips[1].same_as(t->slips[1]));
  EXPECT_EQ((*back)->slips[0].why, "y");
  EXPECT_EQ(find_segment(**back, "a")->truth, Truth::exact);
}

TEST_F(Remedies, AProxyTreeMirrorsTheOriginalsAndIsRelinkedByItsRoot) {
  const View v = view_of(timeline_, stores_);
  const auto files = write_proxies(v, dir_ / "proxies", 2, Form::vc3_sq, {});
  ASSERT_TRUE(files) << files.error().text();
  ASSERT_EQ(files->size(), 2u);
  for (const ProxyFile& f : *files) {
    EXPECT_EQ(f.trouble, "");
    EXPECT_TRUE(fs::exists(f.to)) << f.to;
    EXPECT_EQ(fs::path(f.to).parent_path(), (dir_ / "proxies").string() + fs::path(f.from).parent_path().string()) << "mirrored";
  }
  const auto again = write_proxies(v, dir_ / "proxies", 2, Form::vc3_sq, {});
  EXPECT_TRUE(again) << "whole copies are left alone";
  MediaCatalog media;
  const auto relinked = relink(timeline_, media, dir_ / "proxies", RelinkBy::mirrored);
  ASSERT_TRUE(relinked);
  EXPECT_EQ(relinked->found.size(), 2u);
  // And back, by the root of the originals.
  const auto back = relink(relinked->timeline, media, dir_ / "camera", RelinkBy::mirrored);
  ASSERT_TRUE(back);
  EXPECT_EQ(back->timeline->sources.at("m")->path, timeline_->sources.at("m")->path);
}

TEST_F(Remedies, AProxyThatIsRelinkedAsASourceStopsAtTheGate) {
  const View v = view_of(timeline_, stores_);
  const auto files = write_proxies(v, dir_ / "light", 2, Form::vc3_sq, {});
  ASSERT_TRUE(files) << files.error().text();
  const auto small = std::ranges::find_if(*files, [](const ProxyFile& f) { return f.source == "m"; });
  ASSERT_NE(small, files->end());
  ASSERT_EQ(small->trouble, "");
  EXPECT_EQ(probe(small->to)->copy_size, 2);
  EXPECT_EQ(check_gate(*v.delivered, nullptr).count(GateKind::proxy), 0);
  const TimelinePtr relinked = with_media(*timeline_, "m", small->to, small->to);
  const Gate gate = check_gate(*view_of(relinked, stores_).delivered, nullptr);
  EXPECT_FALSE(gate.may_deliver());
  EXPECT_GE(gate.count(GateKind::proxy), 2) << "wherever it is read";
}

TEST(Angles, AreReadShownAndWrittenBack) {
  test::TempFolder dir;
  const std::string a = test::movie(dir / "a.mov", Form::vc3_hqx, 256, 144, 30), b = test::movie(dir / "b.mov", Form::vc3_hqx, 256, 144, 30, "kiln");
  const auto reference = [](const std::string& url) {
    return Json{{"OTIO_SCHEMA", "ExternalReference.1"}, {"target_url", url},
                {"available_range", {{"OTIO_SCHEMA", "TimeRange.1"},
                                     {"start_time", {{"OTIO_SCHEMA", "RationalTime.1"}, {"rate", 24}, {"value", 0}}},
                                     {"duration", {{"OTIO_SCHEMA", "RationalTime.1"}, {"rate", 24}, {"value", 30}}}}}};
  };
  Json clip{{"OTIO_SCHEMA", "Clip.2"}, {"name", "talk"}, {"active_media_reference_key", "A"},
            {"media_references", {{"A", reference(a)}, {"B", reference(b)}}},
            {"source_range", {{"OTIO_SCHEMA", "TimeRange.1"},
                              {"start_time", {{"OTIO_SCHEMA", "RationalTime.1"}, {"rate", 24}, {"value", 2}}},
                              {"duration", {{"OTIO_SCHEMA", "RationalTime.1"}, {"rate", 24}, {"value", 20}}}}}};
  const Json file{{"OTIO_SCHEMA", "Timeline.1"}, {"name", "t"},
                  {"tracks", {{"OTIO_SCHEMA", "Stack.1"}, {"children", {{{"OTIO_SCHEMA", "Track.1"}, {"kind", "Video"}, {"children", {clip}}}}}}}};
  test::put(dir / "t.otio", file.dump());
  auto t = load_timeline(dir / "t.otio");
  ASSERT_TRUE(t) << t.error().text();
  const SegmentPtr s = video_segments(**t).front();
  ASSERT_EQ(s->angles.size(), 2u);
  const TimelinePtr other = with_angle(**t, s->id, "B");
  ASSERT_TRUE(other);
  EXPECT_FALSE(with_angle(**t, s->id, "C"));
  ASSERT_TRUE(save_timeline(*other, dir / "u.otio"));
  const Json written = Json::parse(*read_file(dir / "u.otio"));
  const Json& out = written["tracks"]["children"][0]["children"][0];
  EXPECT_EQ(out["active_media_reference_key"], "B");
  EXPECT_EQ(out["media_references"], clip["media_references"]) << "nothing else of the references changes";
  const auto back = load_timeline(dir / "u.otio");
  ASSERT_TRUE(back);
  EXPECT_EQ((*back)->sources.at(video_segments(**back).front()->ref)->path, b);
}

}  // namespace
}  // namespace gc
