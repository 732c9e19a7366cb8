// Random timelines: what must hold whatever the timeline is. Seeds are fixed, so that a failure can be
// repeated.
#include <random>

#include "support.h"

namespace gc {
namespace {

/// A random timeline of solids, gaps, dissolves, insets and effects on up to four tracks.
TimelinePtr random_timeline(unsigned seed) {
  std::mt19937 r(seed);
  const auto pick = [&](int a, int b) { return std::uniform_int_distribution<int>(a, b)(r); };
  test::Build b(64, 36);
  int n = 0;
  for (int t = 0, tracks = pick(1, 4); t < tracks; ++t) {
    b.track("V" + std::to_string(t + 1));
    bool after_segment = false;
    for (int i = 0, items = pick(1, 8); i < items; ++i) {
      if (pick(0, 3) == 0) {
        b.gap(pick(1, 20));
        after_segment = false;
        continue;
      }
      if (after_segment && pick(0, 2) == 0) b.dissolve(pick(0, 6), pick(0, 6));
      std::vector<Effect> stack;
      const std::string id = "s" + std::to_string(++n);
      if (pick(0, 2) == 0) stack.push_back(test::cdl(id + "-g", 0.5 + 0.1 * pick(0, 10)));
      if (pick(0, 3) == 0) stack.push_back(test::blur(id + "-b", 0.5 * pick(0, 4)));
      if (t > 0 && pick(0, 1) == 0)
        stack.push_back({id + "-t", "transform", {{"scale", 0.5}, {"x", 0.1 * pick(0, 10)}}, true, true, {}});
      b.solid(id, pick(1, 30), 0.1 * pick(0, 10), 0.1 * pick(0, 10), 0.1 * pick(0, 10), stack);
      after_segment = true;
    }
  }
  return b.done();
}

class Random : public testing::TestWithParam<unsigned> {};

TEST_P(Random, IntervalsCoverTheTimelineAndHoldWhatLiesThere) {
  const TimelinePtr t = random_timeline(GetParam());
  const Layout l = lay_out(*t);
  Frames at = 0;
  for (const Interval& i : l.intervals) {
    ASSERT_EQ(i.in, at);
    ASSERT_LT(i.in, i.out);
    at = i.out;
    for (const Frames f : {i.in, i.out - 1}) {
      // By looking at each placed segment: one layer for each track that shows something at the frame.
      std::set<int> tracks, found;
      for (const Placed& p : l.placed)
        if (f >= p.live_in && f < p.live_out) tracks.insert(p.track);
      for (const Layer& layer : i.layers)
        found.insert(l.placed[static_cast<std::size_t>(layer.placed)].track);
      ASSERT_EQ(found, tracks) << "frame " << f;
    }
  }
  EXPECT_EQ(at, t->duration());
}

TEST_P(Random, SurvivesTheFile) {
  const TimelinePtr t = random_timeline(GetParam());
  const auto again = timeline_from_otio(timeline_to_otio(*t), "r.otio", "/");
  ASSERT_TRUE(again) << again.error().text();
  EXPECT_EQ(timeline_to_otio(**again),
            timeline_to_otio(**timeline_from_otio(timeline_to_otio(**again), "r.otio", "/")));
  MediaCatalog media;
  const ProgramPtr a = Program::compile(t, media), b = Program::compile(*again, media);
  ASSERT_EQ(a->duration(), b->duration());
  for (Frames f = 0; f < a->duration(); ++f) ASSERT_EQ(a->fingerprint(f), b->fingerprint(f)) << f;
}

TEST_P(Random, EqualFingerprintsMeanEqualPictures) {
  MediaCatalog media;
  const ProgramPtr p = Program::compile(random_timeline(GetParam()), media);
  std::map<std::string, std::vector<float>> seen;
  for (Frames f = 0; f < p->duration(); f += 3) {
    const Image i = test::frame_of(*p, f);
    std::vector<float> pixels(i.data(), i.data() + i.floats());
    const auto [it, fresh] = seen.emplace(p->fingerprint(f).hex(), pixels);
    ASSERT_EQ(it->second, pixels) << "frame " << f;
  }
}

TEST_P(Random, AChangeTouchesOnlyTheFramesThatShowIt) {
  const TimelinePtr t = random_timeline(GetParam());
  MediaCatalog media;
  const ProgramPtr before = Program::compile(t, media);
  for (const SegmentPtr& s : video_segments(*t)) {
    auto changed = std::make_shared<Segment>(*s);
    changed->generator = {{"colour", {0.123, 0.456, 0.789}}};
    const ProgramPtr after = Program::compile(with_segment(*t, changed), media);
    for (Frames f = 0; f < before->duration(); ++f) {
      const int i = before->interval_at(f);
      bool visible = false;
      for (const CompiledLayer& l : before->intervals()[static_cast<std::size_t>(i)].layers)
        visible = visible || l.from->segment->id == s->id || (l.to && l.to->segment->id == s->id);
      ASSERT_EQ(before->fingerprint(f) != after->fingerprint(f), visible) << s->id << " at frame " << f;
    }
  }
}

TEST_P(Random, TheStagesNamedAreTheStagesTaken) {
  MediaCatalog media;
  const ProgramPtr p = Program::compile(random_timeline(GetParam()), media);
  for (Frames f = 0; f < p->duration(); f += 5) {
    std::multiset<std::string> named, taken;
    for (const StageRef& s : p->stages(f))
      if (s.kind != StageKind::display && s.key != p->between(f).key) named.insert(s.key.hex());
    Decoders d;
    StageLog log;
    render_frame(*p, f, nullptr, d, log);
    for (const StageSample& s : log) taken.insert(s.key.hex());
    ASSERT_EQ(named, taken) << "frame " << f;
  }
}

TEST_P(Random, MoreLoadNeverMeansFewerDrops) {
  std::mt19937 r(GetParam());
  Model m;
  m.pace = {2, 12, 40};
  for (int i = 0; i < 6; ++i) {
    const float work = 20.0f + static_cast<float>(r() % 120);
    m.pools.push_back({{{3, work}}, {}, false});
    m.stretches.push_back({i * 60, (i + 1) * 60, static_cast<std::uint32_t>(i), false, 0});
  }
  std::size_t last = 0;
  for (const double scale : {0.7, 0.9, 1.1, 1.4, 2.0}) {
    m.scale = scale;
    const std::size_t drops = simulate(m, 1, 1).drops(0, m.frames())[0];
    EXPECT_GE(drops + 4, last) << "at " << scale;
    last = drops;
  }
}

INSTANTIATE_TEST_SUITE_P(Seeds, Random, testing::Range(1u, 9u));

}  // namespace
}  // namespace gc
