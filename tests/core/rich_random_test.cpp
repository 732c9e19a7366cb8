// Random timelines of everything a finishing timeline holds: what must be true whatever is in them. Seeds are
// fixed, so that a failure can be repeated.
#include <random>

#include "render/coverage.h"
#include "support.h"

namespace gc {
namespace {

using test::an;

class Maker {
 public:
  explicit Maker(unsigned seed) : r_(seed) {}

  TimelinePtr timeline() {
    test::Build b(80, 46);
    if (pick(0, 3) == 0) b.spaces("ACEScct", "Rec. 709");
    b.composition("inner", inner());
    const int tracks = pick(2, 4);
    for (int t = 0; t < tracks; ++t) {
      b.track("V" + std::to_string(t + 1));
      if (t == 1 && pick(0, 1)) b.matte_only();
      fill(b, t, tracks);
    }
    return b.done();
  }

 private:
  int pick(int a, int b) { return std::uniform_int_distribution<int>(a, b)(r_); }
  double part() { return 0.05 * pick(0, 20); }
  Json keyed(double from, double to) {
    static constexpr const char* kWays[] = {"hold", "linear", "smooth"};
    const char* way = kWays[pick(0, 2)];
    return {
        {"keys",
         {{{"at", 0}, {"value", from}, {"way", way}}, {{"at", pick(1, 12)}, {"value", to}, {"way", way}}}}};
  }
  std::string name() { return "s" + std::to_string(++count_); }

  std::vector<TrackPtr> inner() {
    test::Build b(80, 46);
    b.track("in1").generator(name(), "gradient", 40, {{"angle", 15 * pick(0, 20)}});
    b.track("in2").solid(name(), 40, part(), part(), part(),
                         {an("transform", {{"scale", 0.5}, {"x", part()}})});
    return b.done()->tracks;
  }

  std::vector<Effect> stack(const std::string& id) {
    std::vector<Effect> all;
    const auto maybe = [&](const char* type, const Json& params) {
      if (pick(0, 4)) return;
      Effect e = an(type, params);
      e.id = id + "-" + type;
      e.enabled = pick(0, 6) != 0;
      all.push_back(e);
    };
    maybe("cdl", {{"saturation", part() * 2}, {"slope", {1.2, part(), 1}}});
    maybe("contrast", {{"contrast", keyed(1, 1.5)}});
    maybe("vignette", {{"amount", part()}});
    maybe("blur", {{"sigma", pick(0, 1) ? keyed(0, 3) : Json(0.5 * pick(0, 6))}});
    maybe("grain", {{"amount", 0.1}});
    maybe("curves", {{"master", {{0, 0}, {0.4, part()}, {1, 1}}}});
    maybe("secondary", {{"use_window", 1}, {"window_x", keyed(0, 1)}, {"slope", {0.5, 1, 1.5}}});
    maybe("sharpen", {{"amount", part()}});
    maybe("transform", {{"rotation", 10 * pick(-9, 9)}, {"opacity", part()}});
    maybe("com.other.sparkle", {{"level", 3}});
    return all;
  }

  void fill(test::Build& b, int track, int tracks) {
    bool joins = false;
    for (int i = 0, items = pick(1, 5); i < items; ++i) {
      if (pick(0, 4) == 0) {
        b.gap(pick(1, 10));
        joins = false;
        continue;
      }
      static constexpr const char* kKinds[] = {"dissolve", "dip", "wipe", "unheard-of"};
      if (joins && pick(0, 1))
        b.transition(kKinds[pick(0, 3)], pick(0, 5), pick(0, 5),
                     {{"angle", pick(0, 360)}, {"colour", {part(), 0, 0}}});
      const std::string id = name();
      const Frames length = pick(2, 16);
      const int what = pick(0, 5);
      if (what == 0) b.generator(id, "fractal_noise", length, {{"size", 20}, {"octaves", 2}}, stack(id));
      else if (what == 1) b.generator(id, "particles", length, {{"count", 60}}, stack(id));
      else if (what == 2) b.use(id, "inner", length);
      else if (what == 3 && track > 0) b.adjustment(id, length, stack(id));
      else b.solid(id, length, part(), part(), part(), stack(id));
      b.with([&](Segment& s) {
        if (track == 0) return;
        s.blend =
            blend_names()[static_cast<std::size_t>(pick(0, static_cast<int>(blend_names().size()) - 1))];
        if (pick(0, 2) == 0) s.opacity = part();
        else if (pick(0, 2) == 0) s.opacity = keyed(0, 1);
        if (pick(0, 2) == 0 && tracks > 2 && track != 1)
          s.matte = {pick(0, 3) ? "V2" : "nowhere", pick(0, 1) == 1, pick(0, 1) == 1};
      });
      joins = what != 3;
    }
  }

  std::mt19937 r_;
  int count_ = 0;
};

class Rich : public testing::TestWithParam<unsigned> {
 protected:
  TimelinePtr timeline_ = Maker(GetParam()).timeline();
  MediaCatalog media_;
};
INSTANTIATE_TEST_SUITE_P(Seeds, Rich, testing::Range(1u, 25u));

TEST_P(Rich, GoesThroughTheFileUnchanged) {
  const std::string text = timeline_to_otio(*timeline_);
  const auto again = timeline_from_otio(text, "r.otio", "/");
  ASSERT_TRUE(again) << again.error().text();
  EXPECT_EQ(timeline_to_otio(**again),
            timeline_to_otio(**timeline_from_otio(timeline_to_otio(**again), "r.otio", "/")));
  const ProgramPtr a = Program::compile(timeline_, media_), b = Program::compile(*again, media_);
  ASSERT_EQ(a->duration(), b->duration());
  for (Frames f = 0; f < a->duration(); ++f) ASSERT_EQ(a->fingerprint(f), b->fingerprint(f)) << f;
}

TEST_P(Rich, EqualFingerprintsMeanEqualPicturesAndOtherOnesAreSeldomEqual) {
  const ProgramPtr p = Program::compile(timeline_, media_);
  std::map<std::string, std::vector<float>> seen;
  for (Frames f = 0; f < p->duration(); f += 2) {
    const Image i = test::frame_of(*p, f);
    const std::vector<float> pixels(i.data(), i.data() + i.floats());
    const auto [it, fresh] = seen.emplace(p->fingerprint(f).hex(), pixels);
    ASSERT_EQ(it->second, pixels) << "frame " << f;
  }
}

TEST_P(Rich, TheStagesNamedAreTheStagesTaken) {
  const ProgramPtr p = Program::compile(timeline_, media_);
  for (Frames f = 0; f < p->duration(); f += 3) {
    std::multiset<std::string> named, taken;
    std::map<std::string, std::string> labels;
    for (const StageRef& s : p->stages(f)) {
      if (s.key == p->between(f).key) continue;  // what the pipeline adds up, no stage that is run
      labels[s.key.hex()] = p->owners()[static_cast<std::size_t>(s.owner)].label;
      if (s.kind != StageKind::display || p->output()) named.insert(s.key.hex());
    }
    if (p->output()) named.erase(named.find(p->display_stage().key.hex()));
    Decoders d;
    StageLog log;
    render_frame(*p, f, nullptr, d, log);
    for (const StageSample& s : log) taken.insert(s.key.hex());
    // An effect whose keys make it neutral at this frame is named and not run; nothing else may differ.
    for (const std::string& key : taken)
      ASSERT_TRUE(named.contains(key)) << "frame " << f << ": taken and not named";
    for (const std::string& key : named)
      if (!taken.contains(key))
        ASSERT_TRUE(labels[key] == "Gaussian blur" || labels[key] == "Contrast")
            << labels[key] << " at frame " << f;
  }
}

TEST_P(Rich, ARegionIsACutOfTheWholePicture) {
  RenderOptions o;
  o.region = Region{13, 9, 41, 22};
  const ProgramPtr whole = Program::compile(timeline_, media_), part = Program::compile(timeline_, media_, o);
  for (Frames f = 1; f < whole->duration(); f += 7) {
    const Image a = test::frame_of(*whole, f), b = test::frame_of(*part, f);
    for (int y = 9; y < 31; ++y)
      for (int x = 13; x < 54; ++x)
        ASSERT_THAT(test::pixel(b, x, y), test::near(test::pixel(a, x, y), 3e-5f))
            << f << ": " << x << " " << y;
  }
}

TEST_P(Rich, EveryPixelIsANumberAndAlphaIsBetweenNoneAndAll) {
  const ProgramPtr p = Program::compile(timeline_, media_);
  for (Frames f = 0; f < p->duration(); f += 5) {
    const Image i = test::frame_of(*p, f);
    for (std::size_t k = 0; k < i.floats(); ++k) ASSERT_TRUE(std::isfinite(i.data()[k])) << "frame " << f;
    for (std::size_t k = 3; k < i.floats(); k += 4) {
      ASSERT_GE(i.data()[k], -1e-5f);
      ASSERT_LE(i.data()[k], 1.0001f);
    }
  }
}

TEST_P(Rich, ScaleDraftAndDeviceNeverTouchTheFingerprint) {
  RenderOptions o;
  o.scale = 2, o.draft = true, o.half = true, o.region = Region{0, 0, 20, 20};
  const ProgramPtr full = Program::compile(timeline_, media_), low = Program::compile(timeline_, media_, o);
  for (Frames f = 0; f < full->duration(); ++f) {
    ASSERT_EQ(full->fingerprint(f), low->fingerprint(f)) << f;
    ASSERT_NE(full->picture_key(f), low->picture_key(f)) << f;
  }
}

TEST_P(Rich, CoverageCountsThePixelsThatAreNotOpaque) {
  const ProgramPtr p = Program::compile(timeline_, media_);
  for (Frames f = 0; f < p->duration(); f += 11) {
    const Image i = test::frame_of(*p, f);
    std::int64_t open = 0;
    for (std::size_t k = 3; k < i.floats(); k += 4) open += i.data()[k] < 0.999f;
    EXPECT_EQ(coverage_of(i).pixels, i.opaque ? 0 : open) << f;
  }
}

class Hurt : public testing::TestWithParam<unsigned> {};
INSTANTIATE_TEST_SUITE_P(Seeds, Hurt, testing::Range(1u, 9u));

// A file that was edited by hand: whatever value is put anywhere, it is read and renders, or it is refused
// with a place.
TEST_P(Hurt, AnyValueAnywhereIsReadOrRefusedWithItsPlace) {
  std::mt19937 r(GetParam());
  const Json whole = Json::parse(timeline_to_otio(*Maker(GetParam()).timeline()));
  const Json bad[] = {nullptr,
                      -1e300,
                      "words",
                      Json::array(),
                      Json::object(),
                      true,
                      1e9,
                      Json{{"keys", "x"}},
                      Json{{"keys", {{{"at", -5}, {"value", "y"}}}}}};
  std::vector<Json::json_pointer> places;
  const std::function<void(const Json&, const Json::json_pointer&)> walk = [&](const Json& j,
                                                                               const Json::json_pointer& at) {
    places.push_back(at);
    if (j.is_object())
      for (const auto& [k, v] : j.items()) walk(v, at / k);
    if (j.is_array())
      for (std::size_t i = 0; i < j.size(); ++i) walk(j[i], at / i);
  };
  walk(whole, Json::json_pointer());
  int read = 0, refused = 0, remarked = 0;
  for (int n = 0; n < 150; ++n) {
    Json hurt = whole;
    const auto& place = places[r() % places.size()];
    hurt[place] = bad[r() % std::size(bad)];
    const auto t = timeline_from_otio(hurt.dump(), "hurt.otio", "/");
    if (!t) {
      ++refused;
      EXPECT_THAT(t.error().text(), testing::HasSubstr("hurt.otio")) << place.to_string();
      continue;
    }
    ++read;
    remarked += !(*t)->remarks.empty();
    if ((*t)->width > 200 || (*t)->height > 200 || (*t)->duration() > 5000) continue;
    MediaCatalog media;
    const ProgramPtr p = Program::compile(*t, media);
    if (p->duration() > 0) (void)test::frame_of(*p, p->duration() / 2);
  }
  EXPECT_GT(read, 20);
  // What is wrong with one item is said of that item.
  EXPECT_GT(refused + remarked, 5);
}

}  // namespace
}  // namespace gc
