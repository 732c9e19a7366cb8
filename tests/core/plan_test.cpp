// Plan, audit, shelf, gate.
#include "support.h"

namespace gc {
namespace {

using test::Build;

/// Costs are written by hand, so that the right answer is known.
class Planning : public testing::Test {
 protected:
  Planning() { notebook_ = *Notebook::open(dir_ / "n.sqlite"); }
  void build(const std::vector<double>& work) {
    Build b;
    b.track("V1");
    for (std::size_t i = 0; i < work.size(); ++i)
      b.solid("s" + std::to_string(i), 72, 0, 0, 0,
              {test::blur("b" + std::to_string(i), 1 + static_cast<double>(i) * 0.01)});
    program_ = Program::compile(b.done(), media_);
    for (std::size_t i = 0; i < work.size(); ++i)
      notebook_->add_frames(frame_key(program_->stages(static_cast<Frames>(72 * i))),
                            std::vector<FrameSample>(40, FrameSample{1, static_cast<float>(work[i])}));
    notebook_->add_frames(frame_key(program_->sealed_stages()),
                          std::vector<FrameSample>(40, FrameSample{3, 8}));
    notebook_->add_encode(encode_key(Form::vc3_hqx, 256, 144), std::vector<EncodeSample>(20, {10.0f, 10.0f}));
  }
  Plan plan() {
    return make_plan(situation_for(program_, *notebook_, nullptr, media_, {}, forecast_, Device::processor, Form::vc3_hqx),
                     {0, program_->duration()}, options_);
  }
  test::TempFolder dir_;
  MediaCatalog media_;
  std::shared_ptr<Notebook> notebook_;
  ProgramPtr program_;
  PlanOptions options_;
  ForecastOptions forecast_;
};

TEST_F(Planning, PreRendersWhatSpillsAndNothingElse) {
  build({20, 140, 20, 30, 190, 20});
  const Plan p = plan();
  std::set<std::string> chosen;
  for (const Remedy& r : p.remedies) chosen.insert(r.segment);
  EXPECT_EQ(chosen, (std::set<std::string>{"s1", "s4"}));
  EXPECT_GT(p.before.expected_drops, 20);
  EXPECT_LT(p.after.expected_drops, 0.5);
  EXPECT_TRUE(p.holds);
  EXPECT_EQ(p.frames, 144);
  EXPECT_EQ(p.bytes, static_cast<std::uint64_t>(144 * vc3_frame_bytes(256, 144, 28672)));
  // (1 + 140 + 10) / 2 and (1 + 190 + 10) / 2 ms a frame, and three pieces each, of 150 ms where none was measured.
  EXPECT_NEAR(p.render_seconds, (72 * (151 + 201) / 2.0 + 6 * 150) / 1000, 0.01);
  EXPECT_THAT(p.sentence, testing::HasSubstr("What fixes that: 2 pre-renders"));
}

TEST_F(Planning, LeavesAPlayingTimelineAlone) {
  build({20, 30, 40});
  const Plan p = plan();
  EXPECT_TRUE(p.remedies.empty());
  EXPECT_EQ(p.sentence, "Everything holds. Nothing needs to be done.");
}

// Who sees drops that no render takes away has to know whose they are: the display was kept from looking, twice a busy second.
TEST_F(Planning, SaysWhichDropsOtherProgramsCause) {
  for (int i = 0; i < 4; ++i) ASSERT_TRUE(notebook_->add_disturbance({0, {}, 1.0 / 250, {90}}));
  build({20, 140, 20});
  const Plan p = plan();
  ASSERT_EQ(p.remedies.size(), 1u);
  EXPECT_GT(p.after.expected_drops, 2);
  EXPECT_NEAR(p.drops_by_others, p.after.expected_drops, 0.6);
  EXPECT_THAT(p.sentence, testing::HasSubstr("left, all to other programs."));
}
TEST_F(Planning, RendersNothingAgainstOtherPrograms) {
  for (int i = 0; i < 4; ++i) ASSERT_TRUE(notebook_->add_disturbance({0, {}, 1.0 / 100, {90}}));
  build({10, 9});  // no heavier than rendered media
  const Plan p = plan();
  EXPECT_TRUE(p.remedies.empty());
  EXPECT_GT(p.drops_by_others, 2);
  EXPECT_THAT(p.sentence, testing::EndsWith("Other programs or the machine's host cause that: close what else runs. Nothing that can be rendered helps."));
}

TEST_F(Planning, IsNoDearerThanTheBestOfAllSubsets) {
  build({20, 95, 92, 20, 160});
  const Plan p = plan();
  // Brute force over every set of segments, with the same forecast and margin.
  double best = 1e9;
  ForecastOptions slow = forecast_;
  slow.cost_scale = 1 + options_.margin;
  for (int set = 0; set < 32; ++set) {
    Route states(360);
    double seconds = 0;
    for (int s = 0; s < 5; ++s)
      if (set >> s & 1) {
        states = with_state(std::move(states), {72 * s, 72 * (s + 1)}, FrameState::sealed);
        const double work = std::vector<double>{20, 95, 92, 20, 160}[static_cast<std::size_t>(s)];
        seconds += (72 * std::max(10.0, (1 + work + 10) / 2) + 3 * 150) / 1000;
      }
    const Forecast f = forecast(*program_, *notebook_, states, {0, 360}, slow);
    if (f.expected_drops <= options_.most_drops && f.count(Verdict::spills) + f.count(Verdict::wavers) == 0)
      best = std::min(best, seconds);
  }
  EXPECT_LE(p.render_seconds, best * 1.001);
}

Playout played(Frames length, const std::vector<FrameRange>& drops, Cause cause = Cause::processor) {
  Playout p;
  p.range = {0, length}, p.rate = {24, 1}, p.frames = length;
  for (Frames f = 0; f < length; ++f) {
    FrameLog l;
    l.frame = f;
    l.dropped = std::any_of(drops.begin(), drops.end(), [&](FrameRange r) { return f >= r.in && f < r.out; });
    l.cause = l.dropped ? cause : Cause::none;
    p.dropped += l.dropped;
    p.dropped_outside += l.dropped && cause == Cause::outside;
    p.log.push_back(l);
  }
  return p;
}
Forecast called(Frames length, const std::vector<FrameRange>& spans) {
  Forecast f;
  f.range = {0, length}, f.rate = {24, 1};
  for (const FrameRange& r : spans) {
    Span s;
    s.in = r.in, s.out = r.out, s.verdict = Verdict::spills, s.drop_probability = 1,
    s.expected_drops = static_cast<double>(r.length()) / 2;
    f.expected_drops += s.expected_drops;
    f.spans.push_back(s);
  }
  f.said_runs = spans;
  return f;
}

TEST(AuditOf, CountsSpansFoundAndMissed) {
  const Forecast f = called(1000, {{100, 160}, {400, 450}});
  const Audit a = audit(f, f, played(1000, {{110, 150}, {700, 720}}));
  EXPECT_EQ(a.spans_observed.size(), 2u);
  EXPECT_DOUBLE_EQ(a.span_precision, 0.5);
  EXPECT_DOUBLE_EQ(a.span_recall, 0.5);
  EXPECT_DOUBLE_EQ(a.span_f1, 0.5);
  EXPECT_EQ(a.disagreements.size(), 2u);
  EXPECT_EQ(a.drops_observed, 60);
}

TEST(AuditOf, DropsThatTheOutsideTookAreNoSpans) {
  const Forecast f = called(1000, {});
  const Audit a = audit(f, f, played(1000, {{110, 150}}, Cause::outside));
  EXPECT_TRUE(a.spans_observed.empty());
  EXPECT_EQ(a.drops_outside, 40);
  EXPECT_DOUBLE_EQ(a.span_f1, 1);
  EXPECT_THAT(a.sentence, testing::HasSubstr("of them 40 taken by other programs"));
  EXPECT_THAT(a.sentence, testing::EndsWith("no span was called to drop, and none did."));
}

// Brier (1950): worked example, (0.9−1)² + (0.2−0)² + (0.6−0)² over 3.
TEST(Scores, BrierAndWilsonByWorkedExamples) {
  EXPECT_NEAR(brier({0.9, 0.2, 0.6}, {1, 0, 0}), (0.01 + 0.04 + 0.36) / 3, 1e-12);
  // Wilson (1927): 8 of 10 at 95 % is 0.490 to 0.943 (a textbook value, from memory).
  const Interval01 w = wilson(8, 10);
  EXPECT_NEAR(w.low, 0.490, 0.002);
  EXPECT_NEAR(w.high, 0.943, 0.002);
  EXPECT_EQ(wilson(0, 0).high, 1);
}

class OnTheShelf : public testing::Test {
 protected:
  test::TempFolder dir_;
  MediaCatalog media_;
  TimelinePtr timeline_ = Build()
                              .track("V1")
                              .solid("a", 40, 0.2, 0.4, 0.6, {test::blur("b", 2), test::cdl("g", 1.2)})
                              .solid("c", 30, 0.7, 0.1, 0.1, {test::cdl("h", 0.8)})
                              .done();
  ProgramPtr program_ = Program::compile(timeline_, media_);
  std::shared_ptr<Shelf> open() {
    auto s = Shelf::open(dir_ / "shelf");
    EXPECT_TRUE(s) << (s ? "" : s.error().text());
    return s ? *s : nullptr;
  }
  /// Frames that all differ: those of a solid are one picture, and answer for each other.
  void moving() {
    const std::string movie = test::movie(dir_ / "moving.mp4", Form::h264_intra, 256, 144, 40);
    program_ = Program::compile(
        Build().media("m", movie, 40).track("V1").segment("a", "m", 0, 40, {test::cdl("g", 1.2)}).done(), media_);
  }
  PrerenderReport render(Shelf& shelf, FrameRange r) {
    auto report = prerender(program_, shelf, {r}, {2, false}, {});
    EXPECT_TRUE(report) << (report ? "" : report.error().text());
    return report ? *report : PrerenderReport{};
  }
};

TEST_F(OnTheShelf, SealedFramesShowTheLivePicture) {
  auto shelf = open();
  const PrerenderReport r = render(*shelf, {0, 70});
  EXPECT_EQ(r.frames, 70);
  EXPECT_EQ(r.pieces, 3);
  for (const Frames f : {0, 23, 24, 39, 40, 69}) {
    ASSERT_TRUE(shelf->find(program_->fingerprint(f)));
    const Image live = test::frame_of(*program_, f), sealed = test::frame_of(*program_, f, shelf.get());
    for (std::size_t i = 0; i < live.floats(); i += 401)
      ASSERT_NEAR(live.data()[i], sealed.data()[i], 0.004) << f;
  }
  EXPECT_EQ(render(*shelf, {0, 70}).already_sealed, 70) << "nothing is rendered twice";
}

TEST_F(OnTheShelf, AChangedGradeBreaksItsOwnSealAndUndoMendsIt) {
  auto shelf = open();
  render(*shelf, {0, 70});
  const ProgramPtr edited = Program::compile(with_param(*timeline_, "a", "g", "saturation", 1.5), media_);
  const auto states = shelf->route(*edited);
  EXPECT_EQ(states.count(FrameState::broken), 40u);
  EXPECT_EQ(states[39], FrameState::broken);
  EXPECT_EQ(states.count(FrameState::sealed), 30u);
  const auto mended = shelf->route(*program_);
  EXPECT_EQ(mended.count(FrameState::sealed), 70u);
}

TEST_F(OnTheShelf, FinishedPiecesSurviveAndHalfOnesAreSwept) {
  {
    auto shelf = open();
    auto r = prerender(program_, *shelf, {{0, 70}}, {2, false},
                       [](const PrerenderProgress& p) { return p.done < 30; });
    ASSERT_TRUE(r);
    EXPECT_TRUE(r->cancelled);
  }
  // A killed process of this machine, one of another machine, and something that nobody has a lease for.
  const fs::path chunks = dir_ / "shelf/chunks";
  const std::string own = own_process();
  test::put(chunks / "writing-dead.lease", own.substr(0, own.rfind(' ')) + " 1");
  test::put(chunks / "writing-dead-0.mov", "half a piece");
  test::put(chunks / "writing-far.lease", "another-host 0000 7 7");
  test::put(chunks / "writing-far-0.mov", "half a piece that is being written");
  test::put(chunks / "writing-999999999-0.mov", "whose?");
  auto shelf = open();
  EXPECT_GE(shelf->chunks(), 1u);
  EXPECT_FALSE(fs::exists(chunks / "writing-dead-0.mov"));
  EXPECT_FALSE(fs::exists(chunks / "writing-dead.lease"));
  EXPECT_TRUE(fs::exists(chunks / "writing-far-0.mov"));
  EXPECT_TRUE(fs::exists(chunks / "writing-999999999-0.mov"));
  const PrerenderReport rest = render(*shelf, {0, 70});
  EXPECT_EQ(rest.already_sealed + rest.frames, 70);
  EXPECT_GE(rest.already_sealed, 24);
}

TEST_F(OnTheShelf, ADamagedPieceIsNeverShown) {
  const std::string movie = test::movie(dir_ / "m.mp4", Form::h264_intra, 256, 144, 40);
  program_ = Program::compile(
      Build().media("m", movie, 40).track("V1").segment("a", "m", 0, 40, {test::cdl("g", 1.2)}).done(),
      media_);
  auto shelf = open();
  render(*shelf, {0, 40});
  const fs::path file = shelf->find(program_->fingerprint(3))->path;
  const auto size = fs::file_size(file);
  test::put(file, std::string(size, 'x'));  // same size: only reading tells
  const Image live = test::frame_of(*program_, 3), shown = test::frame_of(*program_, 3, shelf.get());
  EXPECT_EQ(std::memcmp(live.data(), shown.data(), live.floats() * 4), 0)
      << "the live frame stands in, exactly";
  EXPECT_FALSE(shelf->find(program_->fingerprint(3))) << "and the piece is not offered again";
}

TEST_F(OnTheShelf, APieceThatIsAwayForAWhileIsNotForgotten) {
  moving();
  auto shelf = open();
  render(*shelf, {0, 40});
  const auto hit = *shelf->find(program_->fingerprint(3));
  const fs::path away = dir_ / "unplugged.mov";
  // The drive goes while it plays: the frame is made live.
  fs::rename(hit.path, away);
  const Image live = test::frame_of(*program_, 3), shown = test::frame_of(*program_, 3, shelf.get());
  EXPECT_EQ(std::memcmp(live.data(), shown.data(), live.floats() * 4), 0);
  shelf->report_broken(hit);
  EXPECT_FALSE(shelf->find(program_->fingerprint(3)));
  // A start without it forgets nothing either.
  shelf = open();
  // Whether its files have been looked at by then or not, the picture is right.
  const Image at_once = test::frame_of(*program_, 3, shelf.get());
  EXPECT_EQ(std::memcmp(live.data(), at_once.data(), live.floats() * 4), 0);
  EXPECT_EQ(static_cast<int>(shelf->route(*program_).count(FrameState::broken)), 24) << "it had them";
  EXPECT_FALSE(shelf->find(program_->fingerprint(3)));
  fs::rename(away, hit.path);
  shelf->look_again();
  EXPECT_TRUE(shelf->find(program_->fingerprint(3)));
  EXPECT_EQ(static_cast<int>(shelf->route(*program_).count(FrameState::sealed)), 40);
  EXPECT_EQ(render(*shelf, {0, 40}).already_sealed, 40) << "nothing is rendered again";
}

TEST_F(OnTheShelf, CutOffBetweenRecordAndNameNothingIsLeftBehind) {
  // What a crash leaves there: the record of a piece whose file never got its name.
  moving();
  auto shelf = open();
  render(*shelf, {0, 24});
  const auto hit = *shelf->find(program_->fingerprint(3));
  fs::remove(hit.path);
  shelf = open();
  EXPECT_EQ(static_cast<int>(shelf->route(*program_).count(FrameState::sealed)), 0);
  EXPECT_FALSE(shelf->find(program_->fingerprint(3)));
  EXPECT_EQ(render(*shelf, {0, 24}).frames, 24) << "it is made again";
  EXPECT_TRUE(shelf->find(program_->fingerprint(3)));
  EXPECT_EQ(shelf->chunks(), 1u) << "in the place of the record";
}

TEST_F(OnTheShelf, OnlyThePiecesOfATimelineAreDiscarded) {
  auto shelf = open();
  render(*shelf, {0, 70});
  const ProgramPtr other =
      Program::compile(Build().track("V1").solid("z", 24, 0.9, 0.9, 0.1, {test::cdl("q", 1.4)}).done(), media_);
  ASSERT_TRUE(prerender(other, *shelf, {{0, 24}}, {2, false}, {}));
  test::put(dir_ / "shelf/notes.txt", "somebody's own");
  ASSERT_TRUE(shelf->discard(*program_));
  EXPECT_FALSE(shelf->find(program_->fingerprint(3)));
  EXPECT_TRUE(shelf->find(other->fingerprint(3)));
  EXPECT_TRUE(fs::exists(dir_ / "shelf/notes.txt"));
  shelf = open();
  EXPECT_EQ(shelf->chunks(), 1u);
}

TEST_F(OnTheShelf, OnlyWholeRightFramesAreSealed) {
  // The file is there and decodes, but its pictures cannot be converted: bars stand for them.
  const std::string movie = test::movie(dir_ / "m.mp4", Form::h264_intra, 256, 144, 30);
  program_ = Program::compile(
      Build().media("m", movie, 30).track("V1").segment("a", "m", 0, 24, {test::cdl("g", 1.2)}).done(), media_);
  std::ofstream(movie, std::ios::in | std::ios::out | std::ios::binary).seekp(2000) << std::string(60000, 'x');
  auto shelf = open();
  const auto r = prerender(program_, *shelf, {{0, 24}}, {2, false}, {});
  ASSERT_FALSE(r) << "damaged pictures were sealed";
  EXPECT_THAT(r.error().text(), testing::HasSubstr("00:00:00:0"));
  EXPECT_EQ(shelf->chunks(), 0u);
}

TEST_F(OnTheShelf, AnAcceptedRenderGoesOnWithWhatIsStillAsItWas) {
  const ProgramPtr edited = Program::compile(with_param(*timeline_, "a", "g", "saturation", 1.5), media_);
  EXPECT_EQ(still_wanted(*program_, {{0, 70}}, *program_), (std::vector<FrameRange>{{0, 70}}));
  EXPECT_EQ(still_wanted(*program_, {{0, 70}}, *edited), (std::vector<FrameRange>{{40, 70}}));
  EXPECT_TRUE(still_wanted(*program_, {{0, 40}}, *edited).empty());
}

TEST_F(OnTheShelf, LookingAtALongTimelineNeverKeepsPlaybackWaiting) {
  Build b;
  b.track("V1");
  for (int i = 0; i < 60; ++i)
    b.solid("s" + std::to_string(i), 2000, 0.01 * i, 0.2, 0.3, {test::blur("b" + std::to_string(i), 2)});
  const ProgramPtr many = Program::compile(b.done(), media_);
  auto shelf = open();
  render(*shelf, {0, 24});
  // Look-ups that find the lock taken; of those made while the states of 120 000 frames are worked out.
  std::atomic<bool> done{false};
  std::thread looking([&] {
    (void)shelf->route(*many);
    done = true;
  });
  int lookups = 0;
  while (!done) (void)shelf->find(program_->fingerprint(3)), ++lookups;
  looking.join();
  EXPECT_GT(lookups, 200) << "it was locked out for the whole of it";
}

TEST_F(OnTheShelf, AFullVolumeStopsWithoutLoss) {
  auto shelf = open();
  ShelfVolume volume = shelf->volumes().front();
  volume.floor = std::uint64_t{1} << 60;
  ASSERT_TRUE(shelf->set_volume(volume));
  const auto r = prerender(program_, *shelf, {{0, 40}}, {2, false}, {});
  ASSERT_FALSE(r);
  EXPECT_EQ(r.error().fault, Fault::environment);
  EXPECT_THAT(r.error().text(), testing::HasSubstr("free some space"));
  EXPECT_TRUE(fs::is_empty(dir_ / "shelf/chunks"));
}

TEST_F(OnTheShelf, OfflineMediaAreNotRendered) {
  auto shelf = open();
  program_ = Program::compile(Build().media("m", "/nowhere.mov").track("V1").segment("a", "m", 0, 10).done(),
                              media_);
  const auto r = prerender(program_, *shelf, {{0, 10}}, {2, false}, {});
  ASSERT_FALSE(r);
  EXPECT_EQ(shelf->chunks(), 0u);
}

TEST_F(OnTheShelf, TheGateListsWhatStandsInTheWay) {
  auto shelf = open();
  EXPECT_TRUE(check_gate(*program_, shelf.get()).may_deliver());
  const TimelinePtr bypass = with_bypass(*timeline_, "a", "b", true, "now");
  const Gate slip = check_gate(*Program::compile(bypass, media_), shelf.get());
  EXPECT_FALSE(slip.may_deliver());
  EXPECT_EQ(slip.count(GateKind::open_slip), 1);
  EXPECT_TRUE(
      check_gate(*Program::compile(with_bypass(*bypass, "a", "b", false, "later"), media_), shelf.get())
          .may_deliver());
  const std::string file = test::movie(dir_ / "short.mp4", Form::h264_intra, 256, 144, 8);
  const ProgramPtr offline = Program::compile(Build()
                                                  .media("x", "/gone.mov")
                                                  .media("y", file, 8)
                                                  .track("V1")
                                                  .segment("a", "x", 0, 5)
                                                  .segment("b", "y", 0, 20)
                                                  .done(),
                                              media_);
  const Gate gate = check_gate(*offline, shelf.get());
  EXPECT_EQ(gate.count(GateKind::offline), 2) << "missing, and too short";
  render(*shelf, {0, 40});
  const Gate broken =
      check_gate(*Program::compile(with_param(*timeline_, "a", "g", "saturation", 1.5), media_), shelf.get());
  EXPECT_EQ(broken.count(GateKind::broken_seal), 1);
  EXPECT_TRUE(broken.may_deliver()) << "the delivery never uses a broken seal";
}

TEST_F(OnTheShelf, ABypassedRenderIsNotTheDeliveredOne) {
  auto shelf = open();
  const TimelinePtr bypass = with_bypass(*timeline_, "a", "b", true, "now");
  const ProgramPtr played = Program::compile(as_played(bypass), media_),
                   delivered = Program::compile(bypass, media_);
  program_ = played;
  render(*shelf, {0, 40});
  for (Frames f = 0; f < 40; ++f) EXPECT_FALSE(shelf->find(delivered->fingerprint(f)));
}

}  // namespace
}  // namespace gc
